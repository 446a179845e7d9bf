"""A parser among the others of its folder, and against what it was."""

from __future__ import annotations

import fnmatch
import re
from collections.abc import Callable, Iterable, Iterator
from pathlib import Path

from kinglet.errors import UsageError
from kinglet.insight.cases import parsed_cases
from kinglet.lint.rule import Found, LintRule, Subject, short
from kinglet.parser import Parser
from kinglet.spec.lock import NAME, read_lock

_FEW = 6
_MOST = 0.75
_STYLES: tuple[tuple[str, Callable[[str], bool]], ...] = (
    ("words-with-hyphens", lambda name: re.fullmatch(r"[a-z0-9]+(?:-[a-z0-9]+)+", name) is not None),
    ("words_with_underscores", lambda name: re.fullmatch(r"[a-z0-9]+(?:_[a-z0-9]+)+", name) is not None),
    ("capitalsWithin", lambda name: re.fullmatch(r"[a-z0-9]+(?:[A-Z][a-z0-9]*)+", name) is not None),
    ("CapitalsFirst", lambda name: re.fullmatch(r"(?:[A-Z][a-z0-9]+)+", name) is not None),
)


def claims_overlap(subject: Subject) -> Iterator[Found]:
    """Another parser of the folder that claims a log of this one and reads an event of it whole."""
    mine = subject.definition.claims
    for other in subject.folder:
        theirs = other._definition.claims
        if other is subject.parser or mine is None or theirs is None or other._document.name > subject.document.name:
            continue
        if not _paths_meet(mine.path, theirs.path):
            continue
        if mine == theirs:
            name = Path(other._document.name).name
            yield Found(("claims",), f"are those of {name} too", "claim what only the logs of this parser have")
            continue
        for one, two in ((subject.parser, other), (other, subject.parser)):
            raw = _read_by_both(one, two)
            if raw is not None:
                yield Found(
                    ("claims",),
                    f"claims logs that {Path(other._document.name).name} claims too, and both read {short(raw)}",
                    "let one of them claim a path, or a text, that the other's logs do not have",
                )
                break


def _read_by_both(one: Parser, other: Parser) -> str | None:
    """An event of a case of one parser that the other claims too and reads whole."""
    contains = other._definition.claims.contains if other._definition.claims is not None else None
    cases = [case for case in one._definition.cases if contains is None or any(text in case.raw for text in contains)]
    for case, parsed in zip(cases, parsed_cases(other, cases), strict=True):
        if parsed.counts["complete"]:
            return case.raw
    return None


def _paths_meet(one: list[str] | None, other: list[str] | None) -> bool:
    """Whether a path can match globs of both."""
    if one is None or other is None:
        return True
    return any(_globs_meet(a, b) for a in one for b in other)


def _globs_meet(one: str, other: str) -> bool:
    fill = [glob.replace("*", "x").replace("?", "x") for glob in (one, other)]
    bare = [glob.replace("*", "") for glob in (one, other)]
    return (
        one == other
        or any(fnmatch.fnmatchcase(text, other) for text in (fill[0], bare[0]))
        or any(fnmatch.fnmatchcase(text, one) for text in (fill[1], bare[1]))
    )


def base_kept(subject: Subject) -> Iterator[Found]:
    base = subject.document.base
    path = subject.document.folder / NAME
    if base is None or not path.is_file():
        return
    try:
        kept = read_lock(path).get(Path(base.file).stem)
    except UsageError as error:
        yield Found(("extends",), f"what {error}", "")
        return
    if kept is None or kept.sha256 == base.digest:
        return
    to = f"is now {base.version}" if kept.version != base.version else "has changed, and is still called so"
    yield Found(
        ("extends",),
        f"{base.name} {kept.version}, which {NAME} keeps, {to}",
        f"see what changes (`kinglet compare {NAME} library LOG`), then `kinglet library --lock {NAME}`",
    )


def version_kept(subject: Subject) -> Iterator[Found]:
    former = subject.former
    if former is None:
        return
    now = subject.document.written
    if former.get("version") != now.get("version"):
        return
    changed = [
        key for key in dict.fromkeys((*former, *now)) if key not in _NOT_OF_VERSION and former.get(key) != now.get(key)
    ]
    if changed:
        keys = ", ".join(f"`{key}`" for key in changed)
        yield Found(
            ("version",), f"is what it was, though {keys} {'is' if len(changed) == 1 else 'are'} changed", "raise it"
        )


_NOT_OF_VERSION = ("cases", "about", "kinglet")


def other_style(subject: Subject) -> Iterator[Found]:
    """Names that are written otherwise than most of the folder's."""
    for what, names in (("variants", _variant_names), ("fields", _field_names)):
        known = [name for parser in (subject.folder or (subject.parser,)) for name, _ in names(parser)]
        styled = [style for name in known if (style := _style(name)) is not None]
        if len(styled) < _FEW:
            continue
        usual = max(set(styled), key=styled.count)
        if styled.count(usual) < _MOST * len(styled):
            continue
        for name, path in names(subject.parser):
            style = _style(name)
            if style is not None and style != usual:
                yield Found(path, f"`{name}` is not written as most names of {what} are: {usual}", f"write it {usual}")


def _style(name: str) -> str | None:
    return next((style for style, fits in _STYLES if fits(name)), None)


Named = Iterable[tuple[str, tuple[str | int, ...]]]


def _variant_names(parser: Parser) -> Named:
    return [(variant.name, ("variants", i, "name")) for i, variant in enumerate(parser._definition.variants)]


def _field_names(parser: Parser) -> Named:
    """Names that the file itself gives: keys of structure are the log's."""
    found: dict[str, tuple[str | int, ...]] = {}
    envelope = parser._plan.envelope
    if envelope is not None and not envelope.structures:
        found |= dict.fromkeys((item.name for item in envelope.fields), ("envelope",))
    for i, variant in enumerate(parser._plan.variants):
        key = "pattern" if parser._definition.variants[i].pattern is not None else "regex"
        for item in variant.reading.fields:
            if not item.name.endswith("_text"):
                found.setdefault(item.name, ("variants", i, key))
    return found.items()


def file_name(subject: Subject) -> Iterator[Found]:
    name = Path(subject.document.name)
    if name.suffix in (".yaml", ".yml") and name.stem != subject.parser.name and len(subject.folder) > 1:
        yield Found(
            ("parser",),
            f"`{subject.parser.name}` stands in {name.name}: parsers are found by the names of their files",
            f"call the file {subject.parser.name}.yaml",
        )


RULES = (
    LintRule(
        "F01", "claims overlap", "warning",
        "claims that another parser of the folder has too; or logs that both claim, where both read an event of a case "
        "whole",
        "let one claim a path or text that the other's logs do not have",
        claims_overlap,
    ),
    LintRule(
        "F02", "version not raised", "warning",
        "a parser that reads or maps otherwise than the one of the last commit (`--since`), and has its version",
        "raise `version`",
        version_kept,
    ),
    LintRule(
        "F03", "name in another style", "note",
        "a variant or field that is written otherwise than three quarters of those in the folder",
        "write it as the others are",
        other_style,
    ),
    LintRule(
        "F04", "file called otherwise", "note",
        "a parser in a file of another name, in a folder of parsers",
        "call the file as the parser is called",
        file_name,
    ),
    LintRule(
        "F05", "base has changed", "warning",
        "a parser that extends another, which is no longer as `library.lock` beside it keeps it",
        "see what has changed (`kinglet compare`), then keep it: `kinglet library --lock library.lock`",
        base_kept,
    ),
)  # fmt: skip
