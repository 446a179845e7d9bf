"""What the mappings of a parser give and leave open, variant by variant, judged by the model and by the cases."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterator, Mapping
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any, NamedTuple

from kinglet.insight.cases import events_of, mapped_case
from kinglet.ocsf.loading import load_model
from kinglet.ocsf.mapping import MappingPlan
from kinglet.ocsf.schema import Model
from kinglet.ocsf.validation import Complaint, complaints
from kinglet.plan.data import MORE

if TYPE_CHECKING:
    from kinglet.parser import Parser


_COMMON = "Base Event"


class CaseComplaint(NamedTuple):
    """What the model finds wrong with the mapped event of a case."""

    case: int
    complaint: Complaint


@dataclass(frozen=True)
class Coverage:
    """The mapping of one variant.

    missing: required attributes that nothing fills, and constraints that cannot be met. recommended: those that nothing
    fills, the most useful first. unmapped: fields that no attribute takes, of those that cases have. unexercised:
    attributes that no case fills. cases: how many are of this variant. filled: in how many of them each attribute is.
    wrong: what the model finds wrong with them. counted: values of cases that could not be mapped as they stood.
    """

    variant: str
    class_caption: str
    missing: tuple[str, ...]
    recommended: tuple[str, ...]
    unmapped: tuple[str, ...]
    unexercised: tuple[str, ...]
    wrong: tuple[CaseComplaint, ...]
    counted: Mapping[str, int]
    cases: int
    filled: Mapping[str, int]
    left_out: Mapping[str, str]
    """What variants or classes share and does not hold for this one, and why."""

    @property
    def errors(self) -> int:
        """How much of it fails a check."""
        return bool(self.missing) + len(self.wrong)


def coverage(parser: Parser) -> list[Coverage]:
    """The mappings of all variants, in their order."""
    model = parser.model or load_model()
    seen: dict[tuple[str, str], list[tuple[int, dict[str, Any]]]] = {}
    counted: dict[tuple[str, str], dict[str, int]] = {}
    variants = events_of(parser)["variant"].to_list()
    for number, (case, variant) in enumerate(zip(parser._definition.cases, variants, strict=True), 1):
        events, counted_here = mapped_case(parser, case)
        if variant is not None:
            for event in events:
                seen.setdefault((variant, event["class_name"]), []).append((number, event))
            for name, count in counted_here.items():
                counts = counted.setdefault((variant, events[0]["class_name"]), {})
                counts[name] = counts.get(name, 0) + count
    found = []
    for item in parser._plan.variants:
        for mapping in item.mappings:
            key = (item.name, mapping.class_caption)
            found.append(_of_variant(model, item.name, mapping, seen.get(key, []), counted.get(key, {})))
    return found


def _of_variant(
    model: Model,
    name: str,
    mapping: MappingPlan,
    cases: list[tuple[int, dict[str, Any]]],
    counted: Mapping[str, int],
) -> Coverage:
    counts = Counter(path for _, event in cases for path in _filled(event))
    wrong = [CaseComplaint(number, one) for number, event in cases for one in complaints(event, model)]
    gone = [leaf.path.removeprefix("unmapped.") for leaf in mapping.leaves if leaf.path.startswith("unmapped.")]
    own = ("faults", "time_from", "time_notes", MORE, *(path for path in gone if path.startswith("not_mapped.")))
    return Coverage(
        name,
        mapping.class_caption,
        mapping.missing,
        mapping.recommended,
        tuple(path for path in gone if path not in own and (f"unmapped.{path}" in counts or not cases)),
        tuple(path for path in mapping.fills if path not in counts),
        tuple(dict.fromkeys(wrong)),
        counted,
        len(cases),
        {path: counts[path] for path in mapping.fills},
        mapping.left_out,
    )


def _filled(value: Any, prefix: str = "") -> Iterator[str]:
    """The paths of all values in an event, and of the lists above them."""
    for name, inner in value.items():
        path = f"{prefix}{name}"
        if isinstance(inner, dict):
            yield from _filled(inner, f"{path}.")
            continue
        yield path
        if isinstance(inner, list):
            for i, item in enumerate(inner, 1):
                if isinstance(item, dict):
                    yield from _filled(item, f"{path}[{i}].")
