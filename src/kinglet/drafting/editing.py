"""Changes to the text of a parser file that leave the rest of it as it stands, comments and order too."""

from __future__ import annotations

import re
from collections.abc import Sequence

from yaml.nodes import MappingNode, Node, ScalarNode, SequenceNode

from kinglet.discover.yaml_text import quoted, scalar
from kinglet.errors import UsageError
from kinglet.spec.document import KeyPath, dotted
from kinglet.spec.yaml_nodes import compose

_INDENT = re.compile(r"^([ \t]*)- ", re.MULTILINE)


def node_at(text: str, path: KeyPath) -> Node | None:
    """The node of a file at a path; none where there is no such."""
    node: Node | None = compose(text)
    for part in path:
        if isinstance(node, MappingNode):
            node = next((value for key, value in node.value if key.value == part), None)
        elif isinstance(node, SequenceNode) and isinstance(part, int) and part < len(node.value):
            node = node.value[part]
        else:
            return None
    return node


def replaced(text: str, path: KeyPath, value: str) -> str:
    """A file with another text at a path, in quotes.

    Raises:
        UsageError: what stands there is a block of lines.
    """
    node = node_at(text, path)
    if not isinstance(node, ScalarNode) or node.style in ("|", ">"):
        raise UsageError(f"{dotted(path)} is a block of lines", "write it in quotes, so that it can be changed")
    return text[: node.start_mark.index] + quoted(value) + text[node.end_mark.index :]


def with_value(text: str, path: KeyPath, value: str) -> str:
    """A file with another value, as YAML writes it, at a path that there is.

    Raises:
        UsageError: what stands there is a block of lines.
    """
    node = node_at(text, path)
    if not isinstance(node, ScalarNode) and not (isinstance(node, MappingNode | SequenceNode) and node.flow_style):
        raise UsageError(f"{dotted(path)} is a block of lines", "write it on one line, so that it can be changed")
    if isinstance(node, ScalarNode) and node.style in ("|", ">"):
        raise UsageError(f"{dotted(path)} is a block of lines", "write it in quotes, so that it can be changed")
    return text[: node.start_mark.index] + value + text[node.end_mark.index :]


def without_key(text: str, path: KeyPath) -> str:
    """A file without one key of a mapping."""
    node = node_at(text, path[:-1])
    assert isinstance(node, MappingNode)
    place = next(i for i, (key, _) in enumerate(node.value) if key.value == path[-1])
    key, value = node.value[place]
    if node.flow_style:
        begin, end = key.start_mark.index, max(value.end_mark.index, key.end_mark.index)
        if place + 1 < len(node.value):
            end = node.value[place + 1][0].start_mark.index
        elif place:
            begin = max(part.end_mark.index for part in node.value[place - 1])
        return text[:begin] + text[end:]
    end = _end_of(text, value, key)
    return text[: text.rindex("\n", 0, key.start_mark.index)] + text[end:]


def with_key(text: str, path: KeyPath, key: str, value: str) -> str:
    """A file with one more key in the mapping at a path, which is made where there is none."""
    node = node_at(text, path)
    if node is None:
        return with_key(text, path[:-1], str(path[-1]), f"{{{scalar(key)}: {value}}}")
    assert isinstance(node, MappingNode)
    item = f"{scalar(key)}: {value}"
    if node.flow_style:
        end = text.rindex("}", node.start_mark.index, node.end_mark.index)
        inner = text[:end].rstrip()
        return inner + (", " if not inner.endswith("{") else "") + item + text[end:]
    last_key, last = node.value[-1]
    indent = " " * node.value[0][0].start_mark.column
    at = _end_of(text, last, last_key)
    return f"{text[:at]}\n{indent}{item}{text[at:]}"


def _end_of(text: str, node: Node, key: Node) -> int:
    """Where the line ends on which a value does; a block ends before the blanks and comments behind it."""
    end = max(node.end_mark.index, key.end_mark.index)
    body = text[key.start_mark.index : end]
    kept = re.sub(r"(?:\s*(?:^[ \t]*#[^\n]*)?)*\Z", "", body, flags=re.MULTILINE) if "\n" in body else body
    at = key.start_mark.index + len(kept)
    line = text.find("\n", at)
    return len(text) if line < 0 else line


def inserted(text: str, key: str, lines: Sequence[str], before: str = "") -> str:
    """A file with lines behind the last item of a list at its top level.

    The list begins where there is none: in front of the key `before`, or at the end. lines are indented by two blanks.
    """
    if not lines:
        return text
    text = text if text.endswith("\n") else text + "\n"
    block = re.search(rf"^{key}:[^\n]*\n(?:(?:[ \t#-][^\n]*)?\n)*", text, re.MULTILINE)
    if block is None:
        made = f"{key}:\n" + "\n".join(lines) + "\n"
        behind = re.search(rf"(?:^#[^\n]*\n)*^{before}:", text, re.MULTILINE) if before else None
        if behind is None:
            return f"{text.rstrip()}\n\n{made}"
        return f"{text[: behind.start()].rstrip()}\n\n{made}\n{text[behind.start() :]}"
    body = block[0].rstrip()
    behind = re.search(r"(?:\n(?:#[^\n]*)?)*\Z", body)  # comments at the margin belong to what follows
    end = block.start() + (behind.start() if behind else len(body))
    indent = _INDENT.search(block[0])
    shift = indent[1] if indent else "  "
    return text[:end] + "\n" + "\n".join(shift + line.removeprefix("  ") for line in lines) + text[end:]


def is_listed(text: str, key: str) -> bool:
    """Whether a list at the top level has an item a line, or is not there: then lines can be added to it."""
    return re.search(rf"^{key}:(?![ \t]*(?:#.*)?$)", text, re.MULTILINE) is None
