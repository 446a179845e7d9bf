"""Options that several commands have."""

from __future__ import annotations

from collections.abc import Callable
from typing import TYPE_CHECKING, Any

import click

if TYPE_CHECKING:
    from kinglet.ocsf.schema import Model

Decorator = Callable[[Callable[..., Any]], Callable[..., Any]]


def as_json() -> Decorator:
    return click.option("--json", "as_json", is_flag=True, help="Print machine-readable JSON.")


def moment() -> Decorator:
    return click.option(
        "--at", metavar="DATE", help="Take missing years near this date (ISO 8601), not near the file's."
    )


def zone() -> Decorator:
    return click.option(
        "--zone",
        metavar="ZONE",
        help="Zone of stamps that carry none, where the parser names none: an IANA name or an offset.",
    )


def encoding() -> Decorator:
    return click.option(
        "--encoding",
        metavar="NAME",
        callback=_known_encoding,
        help="Encoding of the log, such as cp1252; told by its content unless given.",
    )


def skip_unreadable() -> Decorator:
    return click.option(
        "--skip-unreadable", is_flag=True, help="Read the other logs where one cannot be read, and say which."
    )


def max_unpacked_bytes() -> Decorator:
    return click.option(
        "--max-unpacked-bytes",
        metavar="SIZE",
        callback=_size,
        help="The most that a packed log may unpack to, such as 20GiB; otherwise 1 GiB, or 200 times what is packed.",
    )


def _known_encoding(ctx: click.Context, parameter: click.Parameter, value: str | None) -> str | None:
    from kinglet.errors import UsageError
    from kinglet.source.encodings import named

    if value is not None:
        try:
            named(value)
        except UsageError as error:
            raise click.BadParameter(str(error), ctx, parameter) from None
    return value


def _size(ctx: click.Context, parameter: click.Parameter, value: str | None) -> int | None:
    from kinglet.spec.schema import bytes_of

    if value is None:
        return None
    try:
        return int(bytes_of(value))
    except ValueError as error:
        raise click.BadParameter(f"`{value}` {error}", ctx, parameter) from None


def model() -> Decorator:
    return click.option(
        "--model",
        "extensions",
        multiple=True,
        metavar="FILE",
        help="Map onto the model with the classes and attributes of FILE too; may be given several times.",
    )


def load_model(extensions: tuple[str, ...]) -> Model | None:
    """The model with what files add to it; None for that which ships."""
    if not extensions:
        return None
    from kinglet.ocsf import loading

    return loading.load_model(*extensions)
