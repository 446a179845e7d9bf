"""`kinglet check`: cases and mappings of parsers; exit status 1 where one fails."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from kinglet.cli import options

if TYPE_CHECKING:
    from rich.console import Console

    from kinglet.insight.advice import Advice
    from kinglet.insight.cases import CaseDifference, CaseOutcome
    from kinglet.parser import Parser


@click.command("check")
@click.argument("parsers", metavar="PARSER...", nargs=-1, required=True)
@click.option("--mapping", is_flag=True, help="Show for each variant what its mapping leaves open.")
@click.option(
    "--rules", metavar="DIR", help="Say for each rule of DIR which messages feed it; a rule that none feeds fails."
)
@click.option(
    "--matrix",
    metavar="OUT",
    help="Write which message fills which attribute, by its cases: a table (.csv) or a figure (.png .svg).",
)
@options.model()
@options.as_json()
def command(
    parsers: tuple[str, ...],
    mapping: bool,
    rules: str | None,
    matrix: str | None,
    extensions: tuple[str, ...],
    as_json: bool,
) -> None:
    """Run the cases of each PARSER, check what its mappings make of them, and say what it leaves open.

    Mapped events must have all that the model requires, and values of the right types. Advice is marked with a ! and
    fails no check.
    """
    from kinglet.cli import needs
    from kinglet.cli.coverage import plain, render
    from kinglet.cli.render import console, print_json
    from kinglet.insight.advice import advice
    from kinglet.insight.cases import check_cases
    from kinglet.insight.coverage import coverage
    from kinglet.parser import load

    out = console()
    if matrix is not None:
        from kinglet.insight import matrix as filled

        filled.ready_for(Path(matrix))
    model = options.load_model(extensions)
    wanted = needs.load(rules, model) if rules is not None else None
    all_loaded = []
    reports: list[dict[str, Any]] = []
    failed = 0
    for name in parsers:
        loaded = load(name, model=model)
        loaded.read_tables()
        outcomes = check_cases(loaded)
        all_loaded.append(loaded)
        covered = coverage(loaded)
        failed += sum(not outcome.good for outcome in outcomes) + sum(item.errors for item in covered)
        advised = advice(loaded)
        if as_json:
            missing = {item.variant: list(item.missing) for item in covered if item.missing}
            report = _as_json(loaded, outcomes, missing, advised)
            reports.append({**report, "mappings": [plain(item) for item in covered]})
        else:
            _render(out, loaded, outcomes)
            if not all(outcome.good for outcome in outcomes):
                out.print()
            render(out, covered, whole=mapping)
            for item in advised:
                _render_advice(out, item)
    if matrix is not None:
        filled.write(filled.matrix(all_loaded), Path(matrix))
    fed = needs.fed(wanted, all_loaded) if wanted is not None else []
    failed += sum(need.blind for need in fed)
    if as_json:
        by_rule = {"rules": [needs.plain(need) for need in fed]} if wanted is not None else {}
        print_json({"parsers": reports, **by_rule, "failed": failed})
    elif wanted is not None:
        needs.render(out, rules or "", fed)
    if failed:
        raise SystemExit(1)


def _render_advice(out: Console, item: Advice) -> None:
    from rich.text import Text

    from kinglet.cli.render import state_colours

    line = Text(f"  ! {item.key}", style=state_colours(out)["partial"]).append(f"  {item.place}", style="default dim")
    out.print(line, soft_wrap=True)
    for piece in Text(f"{item.message}; {item.hint}").wrap(out, out.width - 4):
        piece.rstrip()
        out.print(Text("    ").append_text(piece))


def _as_json(
    parser: Parser, outcomes: list[CaseOutcome], missing: dict[str, list[str]], advised: list[Advice]
) -> dict[str, Any]:
    return {
        "parser": parser.name,
        "version": parser.version,
        "cases": len(outcomes),
        "failed": [
            {
                "case": outcome.number,
                "place": str(outcome.place),
                "raw": outcome.case.raw,
                "differences": [
                    {"name": item.name, "expected": item.expected, "got": item.got} for item in outcome.differences
                ],
            }
            for outcome in outcomes
            if not outcome.good
        ],
        "missing": missing,
        "advice": [
            {"key": item.key, "place": str(item.place), "message": item.message, "hint": item.hint} for item in advised
        ],
    }


def _render(out: Console, parser: Parser, outcomes: list[CaseOutcome]) -> None:
    from rich.text import Text

    from kinglet.cli.render import heading, state_colours

    good = sum(outcome.good for outcome in outcomes)
    line = heading(f"{parser.name} {parser.version}")
    if not outcomes:
        line.append("  no cases; add some under `cases:`", style=f"not bold {state_colours(out)['partial']}")
    else:
        cases = "1 case" if len(outcomes) == 1 else f"{len(outcomes)} cases"
        style = "not bold " + state_colours(out)["complete" if good == len(outcomes) else "unmatched"]
        line.append(
            f"  {cases}, {good} good" + (f", {len(outcomes) - good} not" if good < len(outcomes) else ""), style
        )
    out.print(line)
    for outcome in outcomes:
        if outcome.good:
            continue
        out.print()
        note = f"  {outcome.case.note}" if outcome.case.note else ""
        out.print(
            Text(f"  ✗ case {outcome.number}", style=state_colours(out)["unmatched"]).append(
                f"  {outcome.place}{note}", style="default dim"
            )
        )
        out.print(Text("    " + outcome.case.raw.split("\n")[0][: out.width - 6], style="dim"))
        names = max(len(item.name) for item in outcome.differences)
        for item in outcome.differences:
            _render_difference(out, item, names)


def _render_difference(out: Console, item: CaseDifference, names: int) -> None:
    from rich.text import Text

    from kinglet.cli.render import state_colours

    expected, got = _shown(item.expected), _shown(item.got)
    out.print(Text(f"    {item.name:<{names}}  expected  {expected}"))
    out.print(
        Text(f"    {'':<{names}}  got       ")
        .append(got, style=state_colours(out)["unmatched"])
        .append(f"   {item.hint}" if item.hint else "", style="dim")
    )
    if item.column > 0 and len(expected) > 6:
        out.print(Text(f"    {'':<{names}}            {' ' * item.column}^", style=state_colours(out)["unmatched"]))


def _shown(value: Any) -> str:
    if value is None:
        return "nothing"
    if isinstance(value, bool):
        return str(value).lower()
    return " ".join(map(str, value)) or "none" if isinstance(value, list) else str(value)
