"""The `kinglet` command: the table of its commands, and how errors reach the person."""

from __future__ import annotations

import contextlib
import gc
import importlib
import os
import sys
from typing import NoReturn

import click

COMMANDS: dict[str, tuple[str, str]] = {
    "look": ("kinglet.cli.look", "look at a raw log before there is a parser"),
    "draft": ("kinglet.cli.draft", "write the first parser for a log that nobody has one for"),
    "teach": ("kinglet.cli.teach", "teach a parser a field by examples in a log"),
    "try": ("kinglet.cli.try_", "parse a sample and show what came out of it"),
    "explain": ("kinglet.cli.explain", "show what a parser will do, pattern by pattern"),
    "check": ("kinglet.cli.check", "run the cases of parsers and check their mappings"),
    "compare": ("kinglet.cli.compare", "what changes between two versions of a parser"),
    "run": ("kinglet.cli.run", "parse logs in bulk into a file"),
    "library": ("kinglet.cli.library", "the parsers that are ready to use"),
    "model": ("kinglet.cli.model", "browse the common model; print the schema of parser files"),
    "language-server": ("kinglet.cli.language_server", "the same help inside an editor"),
    "demo": ("kinglet.cli.demo", "the whole job on made-up logs, step by step"),
}


class _Commands(click.Group):
    """Commands whose modules are imported when they run; the help needs none of them."""

    def list_commands(self, ctx: click.Context) -> list[str]:
        return list(COMMANDS)

    def get_command(self, ctx: click.Context, cmd_name: str) -> click.Command | None:
        if cmd_name not in COMMANDS:
            return None
        command = importlib.import_module(COMMANDS[cmd_name][0]).command
        assert isinstance(command, click.Command)
        return command

    def resolve_command(
        self, ctx: click.Context, args: list[str]
    ) -> tuple[str | None, click.Command | None, list[str]]:
        if args and args[0] not in COMMANDS and not args[0].startswith("-"):
            from kinglet.errors import did_you_mean

            hint = did_you_mean(args[0], COMMANDS, "commands are " + ", ".join(COMMANDS))
            raise click.UsageError(f"no such command `{args[0]}`; {hint}")
        return super().resolve_command(ctx, args)

    def format_commands(self, ctx: click.Context, formatter: click.HelpFormatter) -> None:
        with formatter.section("Commands"):
            formatter.write_dl([(name, about) for name, (_, about) in COMMANDS.items()])


_HELP = """Write and test parsers that turn raw logs into events of a common model.

\b
See what it does:                     kinglet demo
A log that nobody has a parser for:   kinglet look LOG
The first parser for it:              kinglet draft LOG -o PARSER.yaml
A field, by an example:               kinglet teach PARSER.yaml LOG --mark 3:user=m.okoro
A parser and a sample:                kinglet try PARSER.yaml LOG
The cases of a parser:                kinglet check PARSER.yaml
Everything, into a file:              kinglet run -p PARSER.yaml LOG -o events.parquet
"""


@click.group(
    cls=_Commands,
    help=_HELP,
    context_settings={"help_option_names": ["-h", "--help"], "max_content_width": 100},
)
@click.version_option(package_name="kinglet-logs", prog_name="kinglet", message="%(prog)s %(version)s")
def commands() -> None:
    """The command `kinglet`."""


def main() -> None:
    """Runs a command. Exit status: 0 good, 1 a check failed, 2 wrong use or input."""
    from kinglet.errors import KingletError, ParserFileError, printable

    os.environ.setdefault("PYDANTIC_DISABLE_PLUGINS", "1")  # none is wanted, and looking for them takes time
    os.environ.setdefault("OPENBLAS_NUM_THREADS", "1")  # none is wanted, and they take processors
    gc.disable()  # until a command does work that outlives it: imports only make what stays
    try:
        status = commands.main(prog_name="kinglet", standalone_mode=False)
    except click.exceptions.Abort:
        _say("stopped")
        status = 130
    except KeyboardInterrupt:
        _say("stopped")
        status = 130
    except click.ClickException as error:
        context = getattr(error, "ctx", None)
        where = f" (see `{context.command_path} --help`)" if context else ""
        _say(f"{error.format_message().rstrip('.')}{where}")
        status = 2
    except ParserFileError as error:
        print(printable(str(error)), file=sys.stderr)  # begins with file:line:column, which editors follow
        status = 2
    except KingletError as error:
        _say(str(error))
        status = 2
    except BrokenPipeError:
        status = 0
    _leave(status if isinstance(status, int) else 0)


def _end_gently() -> None:
    """Lets a process that is told to end throw away what it has half written."""
    import signal
    import threading

    def end(number: int, frame: object) -> None:
        raise SystemExit(128 + number)

    if threading.current_thread() is threading.main_thread():
        signal.signal(signal.SIGTERM, end)


def command_line() -> NoReturn:
    """`main` as a process of its own: leaves without waiting for the engine's threads to be taken down."""
    status = 0
    _end_gently()
    try:
        main()
    except SystemExit as leaving:
        status = int(leaving.code or 0)
    with contextlib.suppress(OSError, ValueError):
        sys.stderr.flush()
        sys.stdout.flush()
    os._exit(status)


def _say(text: str) -> None:
    from kinglet.errors import printable

    print(f"kinglet: {printable(text)}", file=sys.stderr)


def _leave(status: int) -> None:
    """Ends without a complaint about an output that nobody reads any more."""
    try:
        sys.stdout.flush()
    except BrokenPipeError:
        os.dup2(os.open(os.devnull, os.O_WRONLY), sys.stdout.fileno())
    sys.exit(status)
