"""What rules get of parsers, as `kinglet check --rules` shows it."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING, Any

if TYPE_CHECKING:
    from rich.console import Console

    from kinglet.insight.needs import Need, Rule, RuleSource
    from kinglet.ocsf.schema import Model
    from kinglet.parser import Parser


def load(folder: str, model: Model | None) -> list[Rule]:
    """The rules of a folder, for a model if not for that which ships."""
    from pathlib import Path

    from kinglet.insight.needs import load_rules
    from kinglet.ocsf.loading import load_model

    return load_rules(Path(folder), model or load_model())


def fed(rules: Sequence[Rule], parsers: Sequence[Parser]) -> list[Need]:
    """What each rule gets."""
    from kinglet.insight.needs import needs

    return needs(rules, parsers)


def plain(need: Need) -> dict[str, Any]:
    """A rule's need for machines."""
    return {
        "rule": need.rule.name,
        "classes": [item.caption for item in need.rule.classes],
        "reads": list(need.rule.reads),
        "blind": need.blind,
        "fed_by": [{"parser": item.parser, "variant": item.variant} for item in need.fed_by],
        "lacking": [
            {"parser": item.parser, "variant": item.variant, "attributes": list(item.lacks)}
            for item in need.sources
            if item.lacks
        ],
    }


def render(out: Console, folder: str, found: Sequence[Need]) -> None:
    """A line for each rule: what feeds it, or why nothing does; then messages that could feed it, and do not."""
    from rich.table import Table
    from rich.text import Text

    from kinglet.cli.render import heading, state_colours

    colours = state_colours(out)
    blind = sum(need.blind for need in found)
    out.print()
    rules = "1 rule" if len(found) == 1 else f"{len(found)} rules"
    out.print(heading(f"rules of {folder}", f"{rules}, {blind} blind" if blind else f"{rules}, all fed"))
    grid = Table.grid(padding=(0, 2, 0, 0))
    for need in found:
        style = colours["unmatched" if need.blind else "complete"]
        grid.add_row(Text(f"  {'✗' if need.blind else '✓'} {need.rule.name}", style=style), Text(_how_fed(need)))
        for attribute, messages in _near(need).items():
            grid.add_row("", Text(f"but for {attribute} also {_listed(messages)}", style="dim"))
    out.print(grid)


def _near(need: Need) -> dict[str, list[RuleSource]]:
    """The messages that would feed a rule too, but for one attribute, by that attribute."""
    found: dict[str, list[RuleSource]] = {}
    for item in need.sources:
        if len(item.lacks) == 1 and not need.blind:
            found.setdefault(item.lacks[0], []).append(item)
    return found


def _listed(messages: Sequence[RuleSource]) -> str:
    by_parser: dict[str, list[str]] = {}
    for item in messages:
        by_parser.setdefault(item.parser, []).append(item.variant)
    return "; ".join(f"{parser} {', '.join(variants)}" for parser, variants in by_parser.items())


def _how_fed(need: Need) -> str:
    if not need.blind:
        return f"fed by {_listed(need.fed_by)}"
    if not need.sources:
        return "blind: no message maps to " + " or ".join(item.caption for item in need.rule.classes)
    nearest = min(need.sources, key=lambda item: len(item.lacks))
    return f"blind: {nearest.parser} {nearest.variant} comes nearest, and does not fill {', '.join(nearest.lacks)}"
