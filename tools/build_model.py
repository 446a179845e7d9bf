"""Builds the compact model file that ships with Kinglet from the standard's own export.

    python tools/build_model.py [VERSION]

Takes names, types, requirements, enumerations, constraints, profiles and identifiers; leaves out
every description. The export comes in the package `ocsf-json-schema` (see the `dev` extra).
"""

from __future__ import annotations

import gzip
import importlib.resources
import json
import sys
from pathlib import Path
from typing import Any

OUTPUT = Path(__file__).parent.parent / "src" / "kinglet" / "ocsf" / "data"
REQUIREMENTS = {"required": 2, "recommended": 1, "optional": 0}


class Shared:
    """Values that occur again and again, written once and referred to by their number."""

    def __init__(self) -> None:
        self.numbers: dict[str, int] = {}
        self.values: list[Any] = []

    def number(self, value: Any) -> int:
        key = json.dumps(value, sort_keys=True)
        if key not in self.numbers:
            self.numbers[key] = len(self.values)
            self.values.append(value)
        return self.numbers[key]


def attribute(given: dict[str, Any], enums: Shared) -> list[Any]:
    """[type, requirement, is list, enumeration, sibling, profiles, caption], and 1 where it is deprecated."""
    kind = given["object_type"] if given["type"] == "object_t" else given["type"]
    enum = given.get("enum")
    profiles = given.get("profiles") or None
    return [
        kind if given["type"] != "object_t" else f"#{kind}",
        REQUIREMENTS[given["requirement"]],
        int(bool(given.get("is_array"))),
        -1
        if not enum
        else enums.number({int(k) if k.lstrip("-").isdigit() else k: v["caption"] for k, v in enum.items()}),
        given.get("sibling"),
        profiles,
        given["caption"],
        *([1] if given.get("@deprecated") else []),
    ]


def entity(given: dict[str, Any], enums: Shared, rows: Shared) -> dict[str, Any]:
    attributes = {}
    for name, value in given["attributes"].items():
        if name != "type_uid":
            attributes[name] = rows.number(attribute(value, enums))
        else:
            attributes[name] = rows.number(attribute({**value, "enum": None}, enums))
    found: dict[str, Any] = {"caption": given["caption"], "attributes": attributes}
    if given.get("constraints"):
        found["constraints"] = given["constraints"]
    if given.get("@deprecated"):
        found["deprecated"] = True
    return found


def build(version: str) -> dict[str, Any]:
    export = importlib.resources.files("ocsf_json_schema") / "ocsf" / f"{version}.json"
    exported = json.loads(export.read_text(encoding="utf-8"))
    enums, rows = Shared(), Shared()
    classes = {}
    dictionary = exported.get("dictionary") or {  # exports before 1.8 lay things out otherwise
        "types": {"attributes": exported["types"]},
        "attributes": exported["dictionary_attributes"],
    }
    given = ({"base_event": exported["base_event"]} if "base_event" in exported else {}) | exported["classes"]
    for name, value in sorted(given.items(), key=lambda item: item[1]["uid"]):
        classes[name] = {
            "uid": value["uid"],
            "category": [value.get("category_uid", 0), value.get("category_name", "Uncategorized")],
            "profiles": value.get("profiles", []),
            **entity(value, enums, rows),
        }
    objects = {name: entity(value, enums, rows) for name, value in sorted(exported["objects"].items())}
    types = {
        name: {key: value[key] for key in ("type", "regex", "range", "max_len", "observable") if key in value}
        for name, value in dictionary["types"]["attributes"].items()
    }
    return {
        "version": exported["version"],
        "types": types,
        "observables": {
            "attributes": _observables(dictionary["attributes"]),
            "objects": _observables(exported["objects"]),
        },
        "categories": _categories(exported),
        "enums": enums.values,
        "attributes": rows.values,
        "classes": classes,
        "objects": objects,
    }


def _categories(exported: dict[str, Any]) -> dict[int, str]:
    if "categories" in exported:
        return {value["uid"]: value["caption"] for value in exported["categories"]["attributes"].values()}
    named = sorted(exported["classes"].values(), key=lambda value: value["uid"])
    return {value["category_uid"]: value["category_name"] for value in named if value.get("category_uid")}


def _observables(items: dict[str, Any]) -> dict[str, int]:
    """The kind of observable that each of some attributes or objects is."""
    return {name: value["observable"] for name, value in sorted(items.items()) if value.get("observable")}


def main() -> None:
    version = sys.argv[1] if len(sys.argv) > 1 else "1.8.0"
    OUTPUT.mkdir(exist_ok=True)
    path = OUTPUT / f"ocsf-{version}.json.gz"
    text = json.dumps(build(version), separators=(",", ":"), ensure_ascii=False)
    path.write_bytes(gzip.compress(text.encode(), 9, mtime=0))
    print(f"{path.name}: {path.stat().st_size / 1024:.0f} KiB")


if __name__ == "__main__":
    main()
