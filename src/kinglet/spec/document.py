"""YAML text to plain values that remember where they stood.

Only the composer of the YAML library is used: it builds no objects, so that a file from a
stranger can run nothing. Tags, aliases that blow up and huge files are refused.
"""

from __future__ import annotations

import re
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

from yaml.error import MarkedYAMLError, YAMLError
from yaml.nodes import MappingNode, Node, ScalarNode, SequenceNode

from kinglet.errors import ParserFileError, Place, Problem
from kinglet.spec.yaml_nodes import PLAIN_TAGS, TIMESTAMP, compose, value_of

KeyPath = tuple[str | int, ...]
"""Keys and places in lists that lead to a value of a file: `("variants", 0, "pattern")`."""

MAX_BYTES = 8 * 1024 * 1024
MAX_VALUES = 200_000
MAX_DEPTH = 60
_TOO_DEEP = f"has values in more than {MAX_DEPTH} levels, aliases written out"
_NOT_AS_IT_IS = re.compile("[^\t\n\r\x20-\x7e\xa0-\u2027\u202a-\ud7ff\ue000-\ufffd\U00010000-\U0010ffff]")
"""What YAML does not allow, and what ends a line in YAML 1.1 but not in 1.2."""


@dataclass(frozen=True)
class Base:
    """What a document extends, and what it has other than that.

    keys: sections that it changes. without: those that it does not take. added, changed, off: variants. cases: how many
    of the base go through it too, and replaced_cases: how many are its own instead. written: the document's own values.
    base: what the base extends.
    """

    name: str
    version: str
    file: str
    digest: str
    keys: tuple[str, ...]
    without: tuple[str, ...]
    added: tuple[str, ...]
    changed: tuple[str, ...]
    off: tuple[str, ...]
    cases: int
    replaced_cases: int
    written: Any = field(repr=False)
    base: Base | None = None


@dataclass
class Document:
    """The values of one YAML text, with the place of each key and value; base: what it extends, whose values it has.

    numbers: numbers and truth values as they are written.
    """

    name: str
    values: Any = None
    keys: dict[KeyPath, Place] = field(default_factory=dict)
    starts: dict[KeyPath, Place] = field(default_factory=dict)
    quoted: set[KeyPath] = field(default_factory=set)
    multiline: set[KeyPath] = field(default_factory=set)
    numbers: dict[KeyPath, str] = field(default_factory=dict)
    base: Base | None = None

    @property
    def written(self) -> Any:
        """The values that stand in the file itself."""
        return self.values if self.base is None else self.base.written

    @property
    def folder(self) -> Path:
        """Where files lie that it names; the current folder where it never stood in a file."""
        return Path() if self.name.startswith("<") else Path(self.name).parent

    def folder_of(self, path: KeyPath) -> Path:
        """Where files lie that a value names, which may stand in the base."""
        name = self.place(path).file
        return self.folder if name in (self.name, "") or name.startswith("<") else Path(name).parent

    def place(self, path: KeyPath, *, key: bool = False) -> Place:
        """Where a path stands; of one that is missing, where its nearest parent stands."""
        while path:
            if key and path in self.keys:
                return self.keys[path]
            if path in self.starts:
                return self.starts[path]
            path = path[:-1]
        return self.starts.get((), Place(self.name, 1, 1))

    def inside(self, path: KeyPath, offset: int) -> Place:
        """The place of a character of a scalar; exact where it was written on one line."""
        place = self.place(path)
        if path not in self.starts or path in self.multiline or offset < 0:
            return place
        return Place(place.file, place.line, place.column + offset + (path in self.quoted))

    def problem(
        self,
        path: KeyPath,
        message: str,
        hint: str = "",
        *,
        offset: int = -1,
        excerpt: str = "",
        key: bool = False,
    ) -> Problem:
        place = self.inside(path, offset) if offset >= 0 else self.place(path, key=key)
        return Problem(place, dotted(path), message, hint, excerpt, offset)


def dotted(path: KeyPath) -> str:
    """`variants[0].pattern` of ("variants", 0, "pattern")."""
    text = ""
    for part in path:
        text += f"[{part}]" if isinstance(part, int) else f".{part}" if text else str(part)
    return text


def from_text(text: str, name: str, what: str = "parser") -> Document:
    """Reads YAML text.

    Raises:
        ParserFileError: the text is not YAML, or not a mapping at its top.
    """
    if len(text) > MAX_BYTES or len(text.encode("utf-8", "surrogatepass")) > MAX_BYTES:
        raise _refused(name, f"is larger than the {MAX_BYTES // 1024**2} MiB a {what} file may have")
    odd = _NOT_AS_IT_IS.search(text)
    if odd is not None:
        raise ParserFileError([_character_problem(odd, text, name)])
    try:
        node = compose(text)
    except MarkedYAMLError as error:
        raise ParserFileError([_yaml_problem(error, text, name)]) from None
    except RecursionError:
        raise _refused(name, _TOO_DEEP, "write it with fewer levels") from None
    except (YAMLError, ValueError) as error:
        first = str(error).strip().splitlines()[0] if str(error).strip() else "cannot be read"
        raise _refused(name, f"is not YAML: {first}") from None
    if not isinstance(node, MappingNode):
        hint = "a parser file starts with `kinglet: 1` and `parser: NAME`" if what == "parser" else ""
        raise _refused(name, f"is not a {what} file", hint)
    return _Builder(name).build(node)


_CASES = re.compile(r"^cases:[^\n]*\n(?:[ \t#-][^\n]*\n|\n)*", re.MULTILINE)
"""The cases of a parser file, where they stand as a list of lines."""


def from_file(path: Path, what: str = "parser", *, cases: bool = True) -> Document:
    """Reads a YAML file, which is of some kind; the errors of `from_text` and those of the file system.

    cases: whether the test cases of a parser are wanted, which are most of its file.
    """
    text = text_of(path, what)
    if not cases:
        # the lines stay, so that a problem is said at its own
        text = _CASES.sub(lambda found: "\n" * found[0].count("\n"), text)
    return from_text(text, str(path), what)


def text_of(path: Path, what: str = "parser") -> str:
    """The text of a YAML file, which is of some kind.

    Raises:
        ParserFileError: it cannot be read, or is not UTF-8.
    """
    name = str(path)
    try:
        if path.exists() and not path.is_file() and not path.is_dir():
            raise _refused(name, f"is no {what} file, but a device or pipe", "name a file")
        with path.open("rb") as file:
            data = file.read(MAX_BYTES + 1)
    except FileNotFoundError:
        hint = "check the path" + (", or name a ready parser" if what == "parser" else "")
        raise _refused(name, f"no such {what} file", hint) from None
    except IsADirectoryError:
        raise _refused(name, f"is a folder, not a {what} file", "name a file inside it") from None
    except OSError as error:
        raise _refused(name, f"cannot be read: {error.strerror}") from None
    try:
        return data.decode("utf-8-sig")
    except UnicodeDecodeError as error:
        line = data.count(b"\n", 0, error.start) + 1
        problem = Problem(Place(name, line, 1), "", "is not UTF-8 text", "save it as UTF-8")
        raise ParserFileError([problem]) from None


def from_mapping(values: Any, name: str) -> Document:
    """A document of values that never stood in a file; places name the mapping only."""
    if not isinstance(values, dict):
        raise _refused(name, "is not a mapping of parser keys")
    return Document(name, values, starts={(): Place(name)})


def _refused(name: str, message: str, hint: str = "") -> ParserFileError:
    return ParserFileError([Problem(Place(name), "", message, hint)])


def _yaml_problem(error: MarkedYAMLError, text: str, name: str) -> Problem:
    mark = error.problem_mark or error.context_mark
    line, column = (mark.line, mark.column) if mark else (0, 0)
    lines = text.splitlines() or [""]
    what = (error.problem or error.context or "cannot be read").strip()
    if what.startswith("mapping values are not allowed"):
        what, hint = "a second `: ` on the line", "put the value in quotes"
    elif "nesting depth" in what:
        return Problem(Place(name, line + 1, column + 1), "", _TOO_DEEP, "write it with fewer levels")
    elif "cannot start any token" in what and lines[min(line, len(lines) - 1)][column : column + 1] == "\t":
        what, hint = "a tab where only blanks may indent", "indent with blanks"
    else:
        hint = "values with special characters belong in quotes"
    excerpt = lines[line] if line < len(lines) else ""
    place = Place(name, line + 1, column + 1)
    return Problem(place, "", f"is not YAML: {what}", hint, excerpt or lines[-1], column)


def _character_problem(odd: re.Match[str], text: str, name: str) -> Problem:
    start = text.rfind("\n", 0, odd.start()) + 1
    place = Place(name, text.count("\n", 0, odd.start()) + 1, odd.start() - start + 1)
    escape = f"\\u{ord(odd[0]):04x}"
    return Problem(place, "", f"has the character {escape} as it is", f"write {escape} in double quotes")


class _Builder:
    """Walks the composed nodes once and writes down values and places."""

    def __init__(self, name: str) -> None:
        self.document = Document(name)
        self.problems: list[Problem] = []
        self.count = 0

    def build(self, node: Node) -> Document:
        self.document.values = self._value(node, ())
        if self.problems:
            raise ParserFileError(self.problems)
        return self.document

    def _place(self, node: Node) -> Place:
        return Place(self.document.name, node.start_mark.line + 1, node.start_mark.column + 1)

    def _value(self, node: Node, path: KeyPath) -> Any:
        self.count += 1
        if self.count > MAX_VALUES:
            raise _refused(self.document.name, f"has more than {MAX_VALUES:,} values, aliases written out")
        if len(path) > MAX_DEPTH:
            problem = Problem(self._place(node), "", _TOO_DEEP, "write it with fewer levels")
            raise ParserFileError([problem])
        self.document.starts[path] = self._place(node)
        if isinstance(node, MappingNode):
            return self._mapping(node, path)
        if isinstance(node, SequenceNode):
            return [self._value(item, (*path, i)) for i, item in enumerate(node.value)]
        assert isinstance(node, ScalarNode)
        return self._scalar(node, path)

    def _mapping(self, node: MappingNode, path: KeyPath) -> dict[str, Any]:
        values: dict[str, Any] = {}
        for key_node, value_node in node.value:
            key = str(key_node.value) if isinstance(key_node, ScalarNode) else "?"
            here = (*path, key)
            if key in values:
                first = self.document.keys[here].line
                self.problems.append(
                    Problem(
                        self._place(key_node),
                        dotted(here),
                        f"stands here a second time (first on line {first})",
                        "remove one of the two",
                    )
                )
                continue
            self.document.keys[here] = self._place(key_node)
            values[key] = self._value(value_node, here)
        return values

    def _scalar(self, node: ScalarNode, path: KeyPath) -> Any:
        if node.style in ("'", '"'):
            self.document.quoted.add(path)
        if node.style in ("|", ">") or node.end_mark.line != node.start_mark.line:
            self.document.multiline.add(path)
        tag = str(node.tag)
        if tag not in PLAIN_TAGS:
            if tag == TIMESTAMP:
                return str(node.value)
            self.problems.append(self.document.problem(path, f"has the tag `{tag}`", "parser files use plain values"))
            return None
        try:
            value = value_of(node)
        except (ValueError, OverflowError):
            self.problems.append(self.document.problem(path, "is a number that cannot be read", "put text in quotes"))
            return None
        if isinstance(value, int) and not -(2**63) <= value < 2**63:
            self.problems.append(self.document.problem(path, "is a number of more than 64 bits", "put text in quotes"))
            return None
        if not isinstance(value, str):
            self.document.numbers[path] = str(node.value)
        return value
