"""Strength, round trips and cost of parsers, as `kinglet check` shows them."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any, NamedTuple

if TYPE_CHECKING:
    from rich.console import Console

    from kinglet.checking.check import ParserReport
    from kinglet.parser import Parser
    from kinglet.strength.cost import Cost, Part
    from kinglet.strength.mutating import Strength
    from kinglet.strength.round_trip import Broken, RoundTrip

_MOST = 30


class Wanted(NamedTuple):
    """What is asked for beside the check; least: the score below which it fails, in percent."""

    mutate: bool
    least: int | None
    generate: int | None
    cost: str | None
    sample: str | None
    extensions: tuple[str, ...]


@dataclass
class Measured:
    """What was measured of one parser."""

    parser: Parser
    wanted: Wanted
    strength: Strength | None = None
    round_trip: RoundTrip | None = None
    cost: Cost | None = None

    @property
    def failed(self) -> int:
        """How much of it makes the check fail."""
        weak = self.strength is not None and self.strength.is_below(self.wanted.least)
        return weak + len(self.round_trip.broken if self.round_trip is not None else ())

    def plain(self) -> dict[str, Any]:
        """It for machines."""
        return {
            **({"strength": plain_strength(self.strength)} if self.strength is not None else {}),
            **({"round_trip": plain_round_trip(self.round_trip)} if self.round_trip is not None else {}),
            **({"cost": plain_cost(self.cost)} if self.cost is not None else {}),
        }

    def render(self, out: Console) -> None:
        """It for people."""
        if self.strength is not None:
            render_strength(out, self.parser, self.strength)
            if self.strength.is_below(self.wanted.least):
                out.print(f"  ✗ below the {self.wanted.least} % of --least", style="bold")
        if self.round_trip is not None:
            render_round_trip(out, self.parser, self.round_trip)
        if self.cost is not None:
            render_cost(out, self.parser, self.wanted.cost or "", self.cost)


def measured(reports: Sequence[ParserReport], wanted: Wanted) -> list[Measured]:
    """All that is asked for, of each parser."""
    from kinglet.strength.cost import cost
    from kinglet.strength.mutating import checked_least
    from kinglet.strength.round_trip import round_trip

    checked_least(wanted.least, mutate=wanted.mutate)
    found = []
    for report in reports:
        one = Measured(report.parser, wanted)
        if wanted.mutate:
            one.strength = mutate(report.parser, wanted.sample, wanted.extensions)
        if wanted.generate is not None:
            one.round_trip = round_trip(report.parser, wanted.generate)
        if wanted.cost is not None:
            one.cost = cost(report.parser, wanted.cost)
        found.append(one)
    return found


def mutate(parser: Parser, sample: str | None, extensions: tuple[str, ...]) -> Strength:
    """The strength of a parser's cases, with a bar on a terminal while it is measured."""
    from kinglet.cli.render import progress_of
    from kinglet.strength.mutating import strength

    raws = parser.parse(sample, limit=2000).events["raw"].to_list() if sample is not None else []
    with progress_of(f"changes of {parser.name}") as progress:
        return strength(parser, sample=raws, model_files=extensions, progress=progress)


def render_strength(out: Console, parser: Parser, found: Strength) -> None:
    """The score, and each change that no case notices with the event that would have."""
    from rich.text import Text

    from kinglet.cli.render import heading, state_colours

    made = found.noticed + len(found.survivors)
    score = f"{found.score:.0%}" if found.score is not None else "no change could be made"
    about = f"{found.noticed} of {made} changes are noticed"
    if found.without_effect:
        about += f"; {found.without_effect} more make no difference to any event that was made"
    out.print(heading(f"{parser.name} strength {score}", about), soft_wrap=True)
    for one in found.survivors[:_MOST]:
        line = Text(f"  ! {one.what}", style=state_colours(out)["partial"])
        out.print(line.append(f"  {one.place}", style="default dim"), soft_wrap=True)
        out.print(Text("    " + one.raw.split("\n")[0][: out.width - 6], style="dim"))
        out.print(f"    {one.name}  {one.before} → {one.now}", soft_wrap=True)
    if len(found.survivors) > _MOST:
        out.print(f"  and {len(found.survivors) - _MOST} more (--json has all)", style="dim")
    out.print()


def render_round_trip(out: Console, parser: Parser, found: RoundTrip) -> None:
    """Events that did not come back as they were made."""
    from rich.text import Text

    from kinglet.cli.render import heading, state_colours

    colours = state_colours(out)
    what = f", {len(found.broken)} come back otherwise" if found.broken else ", all come back as they were made"
    out.print(heading(f"{parser.name} round trip", f"{found.made:,} events made{what if found.made else ''}"))
    if found.left_out:
        out.print(f"  none can be made for {', '.join(found.left_out)}", style=colours["partial"], soft_wrap=True)
    for one in found.broken:
        out.print(Text(f"  ✗ {one.variant}: {one.name}", style=colours["unmatched"]))
        _render_broken(out, one)
        out.print(Text("\n".join("    " + line for line in one.case), style="dim"), soft_wrap=True)
    for one in found.forged:
        out.print(Text(f"  · {one.variant}: {one.name} can make up what stands behind it", style="dim"))
        _render_broken(out, one)
    out.print()


def _render_broken(out: Console, one: Broken) -> None:
    from rich.text import Text

    from kinglet.errors import printable

    out.print(Text("    " + printable(one.raw).replace("\n", "⏎")[: out.width - 6], style="dim"))
    out.print(Text(f"    put in {printable(one.put_in)!r}, came back {printable(one.came)!r}"), soft_wrap=True)


def render_cost(out: Console, parser: Parser, log: str, found: Cost) -> None:
    """Where the time goes."""
    from kinglet.cli.render import heading

    about = f"{found.microseconds:.1f} µs of processor time an event, {found.events:,} events of {log}"
    out.print(heading(f"{parser.name} cost", about), soft_wrap=True)
    if found.events < 5000:
        out.print("  so few events that what a batch costs by itself is most of it", style="dim")
    if found.median is not None and found.own_cases is not None:
        out.print(f"  on its own cases {found.own_cases:.1f} µs; the median of its folder is {found.median:.1f} µs")
    for title, parts in (
        ("stages", found.stages), ("variants, their regexes", found.variants), ("steps", found.steps),
        ("mappings", found.mappings),
    ):  # fmt: skip
        _render_parts(out, title, parts)
    out.print()


def _render_parts(out: Console, title: str, parts: Sequence[Part]) -> None:
    from rich.table import Table
    from rich.text import Text

    if not parts:
        return
    table = Table.grid(padding=(0, 3, 0, 0))
    heads = (f"  {title}", "events", "µs each", "share", "")
    table.add_row(
        *(
            Text(head, style="bold" if i == 0 else "dim", justify="right" if i else "left")
            for i, head in enumerate(heads)
        )
    )
    for part in parts[:_MOST]:
        numbers = (f"{part.events:,}", f"{part.microseconds:.2f}", f"{part.share:.0%}")
        table.add_row(
            f"    {part.name}", *(Text(cell, justify="right") for cell in numbers), Text(part.why, style="dim")
        )
    out.print()
    out.print(table)


def plain_strength(found: Strength) -> dict[str, Any]:
    """A strength for machines."""
    return {
        "score": found.score,
        "noticed": found.noticed,
        "without_effect": found.without_effect,
        "survivors": [
            {
                "file": one.place.file, "line": one.place.line, "column": one.place.column, "key": one.key,
                "change": one.what, "raw": one.raw, "name": one.name, "before": one.before, "now": one.now,
            }
            for one in found.survivors
        ],
    }  # fmt: skip


def plain_round_trip(found: RoundTrip) -> dict[str, Any]:
    """A round trip for machines."""
    from dataclasses import asdict

    return asdict(found)


def plain_cost(found: Cost) -> dict[str, Any]:
    """A cost for machines."""
    return {
        "events": found.events,
        "microseconds": found.microseconds,
        "median": found.median,
        "own_cases": found.own_cases,
        **{
            name: [part._asdict() for part in getattr(found, name)]
            for name in ("stages", "variants", "steps", "mappings")
        },
    }
