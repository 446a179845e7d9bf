"""`kinglet check`: cases, lint and mappings of parsers; exit status 1 where something fails."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from kinglet.cli import options
from kinglet.insight.visible import visible

if TYPE_CHECKING:
    from rich.console import Console

    from kinglet.checking.check import ParserReport
    from kinglet.insight.cases import CaseDifference, CaseOutcome
    from kinglet.insight.needs import Need
    from kinglet.spec.document import Base


@click.command("check")
@click.argument("parsers", metavar="PARSER...", nargs=-1, required=True)
@click.option("--select", metavar="CODES", help="Ask only these rules: codes or their first letters, as in V,R02.")
@click.option("--ignore", metavar="CODES", help="Do not ask these rules.")
@click.option("--strict", is_flag=True, help="Let warnings fail too.")
@click.option("--mapping", is_flag=True, help="Show for each variant what its mapping leaves open.")
@click.option(
    "--rules", metavar="DIR", help="Say for each rule of DIR which messages feed it; a rule that none feeds fails."
)
@click.option(
    "--matrix",
    metavar="OUT",
    help="Write which message fills which attribute, by its cases: a table (.csv) or a figure (.png .svg).",
)
@click.option(
    "--sample", metavar="LOG", help="Ask also what happens in LOG: steps without effect, tables without a row."
)
@click.option("--since", metavar="REV", help="Compare versions with this revision of git; the last commit otherwise.")
@click.option(
    "--accept", is_flag=True, help="Write what failing cases give now as what they expect, and show the change."
)
@click.option(
    "--add", "places", metavar="LOG:LINE", multiple=True, help="Add the event that has this line of a log as a case."
)
@click.option("--mask", is_flag=True, help="With --add: stand-ins for names, hosts and addresses, of the same form.")
@click.option("--cover", metavar="LOG", help="Propose the fewest events of LOG that show what no case shows yet.")
@click.option("--mutate", is_flag=True, help="Change each parser in small ways, and say which changes no case notices.")
@click.option("--least", metavar="PERCENT", type=int, help="With --mutate: fail where fewer changes are noticed.")
@click.option(
    "--generate", metavar="N", type=int, help="Make N events of each parser; they must come back as they are."
)
@click.option("--cost", metavar="LOG", help="Say what reading LOG costs, by stage, variant, step and mapping.")
@click.option("--junit", metavar="OUT", help="Write cases and findings as JUnit XML too.")
@click.option("--format", "form", type=click.Choice(["text", "json", "sarif"]), default="text", help="What is printed.")
@options.model()
@options.as_json()
def command(
    parsers: tuple[str, ...],
    select: str | None,
    ignore: str | None,
    strict: bool,
    mapping: bool,
    rules: str | None,
    matrix: str | None,
    sample: str | None,
    since: str | None,
    accept: bool,
    places: tuple[str, ...],
    mask: bool,
    cover: str | None,
    mutate: bool,
    least: int | None,
    generate: int | None,
    cost: str | None,
    junit: str | None,
    form: str,
    extensions: tuple[str, ...],
    as_json: bool,
) -> None:
    """Run the cases of each PARSER, a file or a folder of them, and look for what may be wrong with it.

    Cases that fail and errors (✗) make the exit status 1, with --strict warnings (!) too; notes (·) never do.
    docs/lint.md lists the rules.
    """
    from kinglet import __version__
    from kinglet.checking import covering
    from kinglet.checking.check import Asked, check_files, load_all, one_parser
    from kinglet.checking.findings import all_findings
    from kinglet.cli import findings, keeping, needs
    from kinglet.cli import strength as strengths
    from kinglet.cli.coverage import plain
    from kinglet.cli.render import console, print_json
    from kinglet.lint.sarif import sarif
    from kinglet.lint.table import chosen

    form = "json" if as_json else form
    asked = chosen(select, ignore)
    if matrix is not None:
        from kinglet.insight import matrix as filled

        filled.ready_for(Path(matrix))
    model = options.load_model(extensions)
    wanted = needs.load(rules, model) if rules is not None else None
    said = console(error=form != "text")
    if cover is not None:
        parser = one_parser(load_all(parsers, model), "--cover")
        proposed = covering.cover(parser, cover)
        if form == "json":
            print_json(keeping.plain(proposed))
        else:
            keeping.cover(console(), parser, cover, proposed)
        return
    if accept:
        keeping.accept(said, load_all(parsers, model))
    if places:
        keeping.add(said, one_parser(load_all(parsers, model), "--add"), places, mask=mask)
    if cost is not None:
        one_parser(load_all(parsers, model), "--cost")
    reports = check_files(
        parsers,
        Asked(asked, wanted or (), sample, since, with_coverage=mapping or form == "json", strict=strict),
        extensions,
    )
    loaded = [report.parser for report in reports]
    if matrix is not None:
        filled.write(filled.matrix(loaded), Path(matrix))
    fed = needs.fed(wanted, loaded) if wanted is not None else []
    if junit is not None:
        from kinglet.checking.junit import write

        write(reports, Path(junit))
    more = strengths.measured(reports, strengths.Wanted(mutate, least, generate, cost, sample, extensions))
    failed = (
        sum(report.failed for report in reports) + sum(need.blind for need in fed) + sum(one.failed for one in more)
    )
    if form == "json":
        by_rule = {"rules": [needs.plain(need) for need in fed]} if wanted is not None else {}
        whole = [
            {**_plain(report), "findings": [findings.plain(item) for item in report.findings],
             "mappings": [plain(item) for item in report.covered], **one.plain()}
            for report, one in zip(reports, more, strict=True)
        ]  # fmt: skip
        print_json({"parsers": whole, **by_rule, "failed": failed})
    elif form == "sarif":
        print_json(sarif(all_findings(reports), asked, __version__))
    else:
        _render(console(), reports, fed, rules, mapping)
        for one in more:
            one.render(console())
    if failed:
        raise SystemExit(1)


def _render(out: Console, reports: list[ParserReport], fed: list[Need], rules: str | None, mapping: bool) -> None:
    from kinglet.cli import findings, needs
    from kinglet.cli.coverage import render

    for report in reports:
        _render_cases(out, report)
        if report.findings:
            findings.render(out, report.findings)
        if mapping:
            render(out, report.covered)
    if rules is not None:
        needs.render(out, rules, fed)


def _plain(report: ParserReport) -> dict[str, Any]:
    return {
        "parser": report.parser.name,
        "version": report.parser.version,
        "extends": _base(report.parser._document.base),
        "cases": len(report.outcomes),
        "failed": [
            {
                "case": outcome.number,
                "place": str(outcome.place),
                "raw": outcome.case.raw,
                "differences": [
                    {"name": item.name, "expected": item.expected, "got": item.got} for item in outcome.differences
                ],
            }
            for outcome in report.outcomes
            if not outcome.good
        ],
        "missing": {item.variant: list(item.missing) for item in report.covered if item.missing},
    }


def _base(base: Base | None) -> dict[str, Any] | None:
    if base is None:
        return None
    return {
        "parser": base.name,
        "version": base.version,
        "file": base.file,
        "sha256": base.digest,
        "sections": list(base.keys),
        "without": list(base.without),
        "added": list(base.added),
        "changed": list(base.changed),
        "off": list(base.off),
        "cases": base.cases,
        "replaced_cases": base.replaced_cases,
        "extends": _base(base.base),
    }


def _render_cases(out: Console, report: ParserReport) -> None:
    from rich.text import Text

    from kinglet.cli.render import heading, state_colours

    outcomes = report.outcomes
    good = sum(outcome.good for outcome in outcomes)
    line = heading(f"{report.parser.name} {report.parser.version}")
    if not outcomes:
        line.append("  no cases; add some under `cases:`", style=f"not bold {state_colours(out)['partial']}")
    else:
        cases = "1 case" if len(outcomes) == 1 else f"{len(outcomes)} cases"
        style = "not bold " + state_colours(out)["complete" if good == len(outcomes) else "unmatched"]
        line.append(
            f"  {cases}, {good} good" + (f", {len(outcomes) - good} not" if good < len(outcomes) else ""), style
        )
    out.print(line)
    base = report.parser._document.base
    while base is not None:
        for piece in Text("; ".join(_extends(base))).wrap(out, out.width - 2):
            out.print(Text("  ").append_text(piece), style="dim")
        base = base.base
    for outcome in outcomes:
        if outcome.good:
            continue
        note = f"  {outcome.case.note}" if outcome.case.note else ""
        out.print(
            Text(f"  ✗ case {outcome.number}", style=state_colours(out)["unmatched"]).append(
                f"  {outcome.place}{note}", style="default dim"
            )
        )
        render_outcome(out, outcome)


def _extends(base: Base) -> Iterator[str]:
    """What a parser has other than the one that it extends."""
    yield f"extends {base.name} {base.version}"
    without = (*base.off, *(f"`{key}`" for key in base.without))
    for said, names in (("adds", base.added), ("changes", base.changed), ("without", without)):
        if names:
            yield f"{said} {', '.join(names)}"
    if base.keys:
        yield f"its own {', '.join(base.keys)}"
    own = f", {base.replaced_cases} replaced" if base.replaced_cases else ""
    yield f"{base.cases} cases of {base.name} hold too{own}" if base.cases else f"no cases of {base.name}{own}"


def render_outcome(out: Console, outcome: CaseOutcome) -> None:
    """The event of a case, and what it gives in place of what is expected."""
    from rich.text import Text

    out.print(Text("    " + _cut(_shown(outcome.case.raw), 0, out.width - 6), style="dim"))
    names = max(len(item.name) for item in outcome.differences)
    for item in outcome.differences:
        _render_difference(out, item, names)


def _render_difference(out: Console, item: CaseDifference, names: int) -> None:
    from rich.text import Text

    from kinglet.cli.render import state_colours

    room, column = max(out.width - names - 17, 20), item.column
    expected, got = _shown(item.expected), _shown(item.got)
    # of long texts what stands around the place where they part
    start = max(column - room // 2, 0) if max(len(expected), len(got)) > room else 0
    told, found = _cut(expected, start, room), _cut(got, start, room)
    out.print(Text(f"    {item.name:<{names}}  expected  {told}"))
    out.print(
        Text(f"    {'':<{names}}  got       ")
        .append(found, style=state_colours(out)["unmatched"])
        .append(f"   {item.hint}" if item.hint else "", style="dim")
    )
    if column > 0 and len(expected) > 6:
        mark = f"{' ' * (column - start)}^"
        out.print(Text(f"    {'':<{names}}            {mark}", style=state_colours(out)["unmatched"]))


def _cut(text: str, start: int, most: int) -> str:
    """A text from a place on, on one line; what is left out at either end is marked."""
    shown = text[start : start + most]
    shown = f"…{shown[1:]}" if start and shown else shown
    return f"{shown[:-1]}…" if start + most < len(text) else shown


def _shown(value: Any) -> str:
    if value is None:
        return "nothing"
    if isinstance(value, bool):
        return str(value).lower()
    text = " ".join(map(str, value)) or "none" if isinstance(value, list) else str(value)
    return visible(text).replace("\n", "⏎")
