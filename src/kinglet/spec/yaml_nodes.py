"""YAML text to nodes, by the library's composer alone: it builds no objects, so a file from a stranger runs nothing.

A word without quotes means what it does in YAML 1.2, so that `yes` and `1:20` are text; by itself the library takes
it for YAML 1.1.
"""

from __future__ import annotations

import re
from typing import Any, ClassVar

import yaml
from yaml.nodes import Node, ScalarNode

NULL, BOOL, INT, FLOAT, TEXT = (f"tag:yaml.org,2002:{name}" for name in ("null", "bool", "int", "float", "str"))
TIMESTAMP = "tag:yaml.org,2002:timestamp"
PLAIN_TAGS = frozenset([NULL, BOOL, INT, FLOAT, TEXT])

_TAGS = (
    (BOOL, "true|True|TRUE|false|False|FALSE", "tTfF"),
    (
        FLOAT,
        r"[-+]?[0-9][0-9_]*\.[0-9_]*(?:[eE][-+]?[0-9]+)?|[-+]?[0-9][0-9_]*[eE][-+]?[0-9]+"
        r"|[-+]?\.[0-9_]+(?:[eE][-+][0-9]+)?|[-+]?\.(?:inf|Inf|INF)|\.(?:nan|NaN|NAN)",
        "-+0123456789.",
    ),
    (INT, r"[-+]?0b[01_]+|[-+]?0o?[0-7_]+|[-+]?[0-9_]+|[-+]?0x[0-9a-fA-F_]+", "-+0123456789"),
    (NULL, "~|null|Null|NULL|", ["~", "n", "N", ""]),
    (
        TIMESTAMP,
        r"[0-9]{4}-[0-9]{2}-[0-9]{2}|[0-9]{4}-[0-9]{1,2}-[0-9]{1,2}(?:[Tt]|[ \t]+)[0-9]{1,2}:[0-9]{2}:[0-9]{2}"
        r"(?:\.[0-9]*)?(?:[ \t]*(?:Z|[-+][0-9]{1,2}(?::[0-9]{2})?))?",
        "0123456789",
    ),
)
"""What a word without quotes is: tag, regex, first characters; the first that fits counts."""

# the library's own code is the same in C, 30 times as fast, where it was built with it
_Base: Any = getattr(yaml, "CSafeLoader", yaml.SafeLoader)


class _Loader(_Base):  # type: ignore[misc]
    yaml_implicit_resolvers: ClassVar[dict[str, list[tuple[str, re.Pattern[str]]]]] = {}


for _tag, _regex, _first in _TAGS:
    _Loader.add_implicit_resolver(_tag, re.compile(rf"(?:{_regex})\Z"), list(_first))


def compose(text: str) -> Node | None:
    """The node of a YAML document; None where there is none.

    Raises:
        yaml.YAMLError: the text is not YAML.
    """
    node: Node | None = yaml.compose(text, Loader=_Loader)
    return node


def value_of(node: ScalarNode) -> Any:
    """The value of a scalar with a plain tag.

    Raises:
        ValueError: it is not of the kind that its tag says.
    """
    text, tag = str(node.value), str(node.tag)
    if tag == BOOL:
        return _truth(text)
    if tag == INT:
        return _whole(text.replace("_", ""))
    if tag == FLOAT:
        number = text.replace("_", "").lower()
        return float(number.replace(".inf", "inf").replace(".nan", "nan"))
    return None if tag == NULL else text


def _truth(text: str) -> bool:
    if text.lower() not in ("true", "false"):
        raise ValueError(text)
    return text.lower() == "true"


def _whole(digits: str) -> int:
    sign, digits = (-1 if digits.startswith("-") else 1), digits.lstrip("+-")
    base = {"0b": 2, "0o": 8, "0x": 16}.get(digits[:2], 10)
    return sign * int(digits[2:] if base != 10 else digits, base)
