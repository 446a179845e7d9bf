"""A model with classes, objects, attributes and values of one's own.

Numbers are made as the standard makes those of its extensions: the extension's uid, then the category's, then the
class's own (OCSF, "Extending the framework").
"""

from __future__ import annotations

import copy
from collections.abc import Mapping
from pathlib import Path
from typing import Any

from kinglet.errors import ModelError, ParserFileError, Problem, did_you_mean, parts_of
from kinglet.ocsf.schema import REQUIREMENTS, Model
from kinglet.spec.document import Document
from kinglet.spec.loading import read_other
from kinglet.spec.model_file import Attributes, ModelFile, OwnEntity

_CLASS_FACTOR, _CATEGORY_FACTOR, _OWN_CATEGORY = 1000, 100_000, 100


def extended(model: Model, file: Path) -> Model:
    """A model with what a file adds to it.

    Raises:
        ParserFileError: with every problem of the file, each with line and column.
    """
    definition, document = read_other(file, ModelFile, "model")
    work = _Work(model, definition, document)
    for step in (work.categories, work.objects, work.classes, work.attributes, work.values, work.templates):
        step()
    if work.problems:
        raise ParserFileError(work.problems)
    return Model(work.data)


class _Work:
    """The data of a model while a file is added to it."""

    def __init__(self, model: Model, definition: ModelFile, document: Document) -> None:
        self.definition, self.document = definition, document
        self.data: dict[str, Any] = copy.deepcopy(model.data)
        self.known = frozenset(self.data["objects"])
        self.problems: list[Problem] = []
        if definition.base == "bare":
            self.data["classes"] = {"base_event": self.data["classes"]["base_event"]}
        self.data["extensions"][definition.model] = {"uid": definition.uid, "version": definition.version}

    def report(self, path: tuple[str | int, ...], message: str, hint: str = "") -> None:
        self.problems.append(self.document.problem(path, message, hint))

    def categories(self) -> None:
        for item in self.definition.categories.values():
            self.data["categories"][str(self.definition.uid * _OWN_CATEGORY + item.uid)] = item.caption

    def objects(self) -> None:
        for name in self.definition.objects:  # first all names, for they may name each other
            self.data["objects"].setdefault(name, {"caption": name, "attributes": {}})
        for name, item in self.definition.objects.items():
            path = ("objects", name)
            if name in self.known:
                hint = "give it a name of its own, and let it extend that; `attributes` adds to one of the standard"
                self.report(path, f"the model has an object `{name}` already", hint)
            inherited = self._of_object(item.extends, (*path, "extends"))
            self.data["objects"][name] = self._entity(item, inherited, path)

    def classes(self) -> None:
        for name, item in self.definition.classes.items():
            path = ("classes", name)
            captions = {value["caption"].casefold(): key for key, value in self.data["classes"].items()}
            same = name if name in self.data["classes"] else captions.get(item.caption.casefold())
            if same is not None:
                hint = "give it a name and a caption of its own, and let it extend that"
                self.report(path, f"the model has a class `{same}` already", hint)
                continue
            category = self._category(item.category, (*path, "category"))
            inherited = self._of_class(item.extends, (*path, "extends"))
            entity = self._entity(item, inherited, path)
            number = self.definition.uid * _CATEGORY_FACTOR + category * _CLASS_FACTOR + item.uid
            if any(value["uid"] == number for value in self.data["classes"].values()):
                self.report((*path, "uid"), f"is {item.uid}, which another class of this category has")
            if item.activities:
                captions = {0: "Unknown", **item.activities, 99: "Other"}
                activity = OwnEntity.model_validate(
                    {"caption": "x", "attributes": {"activity_id": {"type": "integer_t", "caption": "Activity ID",
                     "requirement": "required", "values": captions, "sibling": "activity_name"}}}
                )  # fmt: skip
                entity["attributes"] |= self._rows(activity.attributes, path)
            for attribute, value, caption in (
                ("class_uid", number, item.caption),
                ("category_uid", category, self.data["categories"].get(str(category), "")),
            ):
                if attribute in entity["attributes"]:
                    row = list(self.data["attributes"][entity["attributes"][attribute]])
                    row[3] = self._enumeration({str(value): caption})
                    entity["attributes"][attribute] = self._row(row)
            self.data["classes"][f"{self.definition.model}/{name}"] = {
                "uid": number,
                "category": [category, self.data["categories"].get(str(category), "")],
                "profiles": inherited.get("profiles", []),
                "extension": self.definition.model,
                **entity,
            }

    def attributes(self) -> None:
        for owner, attributes_of in self.definition.attributes.items():
            entity = self._owner(owner, ("attributes", owner))
            for name in attributes_of:
                if entity is not None and name in entity["attributes"]:
                    self.report(("attributes", owner, name), f"{owner} has an attribute of this name already")
            if entity is not None:
                entity["attributes"] = entity["attributes"] | self._rows(attributes_of, ("attributes", owner))

    def values(self) -> None:
        for target, captions in self.definition.values.items():
            path = ("values", target)
            owner, _, name = target.rpartition(".")
            entity = self._owner(owner, path)
            row = entity["attributes"].get(name) if entity is not None else None
            if entity is None:
                continue
            if row is None or self.data["attributes"][row][3] < 0:
                self.report(path, f"{owner} has no enumeration `{name}`")
                continue
            values = list(self.data["attributes"][row])
            known: dict[str, str] = self.data["enums"][values[3]]
            for number in captions:
                if str(number) in known:
                    self.report(
                        (*path, str(number)), f"{number} is `{known[str(number)]}` already", "take another number"
                    )
            values[3] = self._enumeration(known | {str(number): caption for number, caption in captions.items()})
            entity["attributes"] = entity["attributes"] | {name: self._row(values)}

    def templates(self) -> None:
        for name, item in self.definition.templates.items():
            if item.template is not None:
                self.report(("templates", name, "template"), "a template stands over no other", "write it out")
            self.data["templates"][name] = item

    def _entity(self, item: OwnEntity, inherited: Mapping[str, Any], path: tuple[str | int, ...]) -> dict[str, Any]:
        attributes = {**inherited.get("attributes", {}), **self._rows(item.attributes, path)}
        for kind, names in item.constraints.items():
            for i, name in enumerate(names):
                if name not in attributes:
                    hint = did_you_mean(name, attributes)
                    self.report((*path, "constraints", kind, i), f"it has no attribute `{name}`", hint)
        found = {"caption": item.caption, "attributes": attributes}
        constraints = {**inherited.get("constraints", {}), **item.constraints}
        return found | ({"constraints": constraints} if constraints else {})

    def _rows(self, attributes: Attributes, path: tuple[str | int, ...]) -> dict[str, int]:
        rows: dict[str, int] = {}
        for name, item in attributes.items():
            is_object = item.type in self.data["objects"]
            if not is_object and item.type not in self.data["types"]:
                known = [*self.data["types"], *self.data["objects"]]
                hint = did_you_mean(item.type, known, "types are " + ", ".join(self.data["types"]))
                inside = (*path, name) if path[0] == "attributes" else (*path, "attributes", name)
                self.report(inside, f"`{item.type}` is no type and no object of the model", hint)
                continue
            rows[name] = self._row(
                [
                    f"#{item.type}" if is_object else item.type,
                    REQUIREMENTS.index(item.requirement),
                    int(item.list_),
                    self._enumeration({str(key): caption for key, caption in item.values.items()})
                    if item.values
                    else -1,
                    item.sibling,
                    None,
                    item.caption or name.replace("_", " ").title(),
                ]
            )
        return rows

    def _row(self, values: list[Any]) -> int:
        self.data["attributes"].append(values)
        return len(self.data["attributes"]) - 1

    def _enumeration(self, captions: dict[str, str]) -> int:
        self.data["enums"].append(captions)
        return len(self.data["enums"]) - 1

    def _category(self, wanted: str, path: tuple[str | int, ...]) -> int:
        own = self.definition.categories.get(wanted)
        if own is not None:
            return self.definition.uid * _OWN_CATEGORY + own.uid
        captions = {caption.casefold(): int(uid) for uid, caption in self.data["categories"].items()}
        if wanted.casefold() not in captions:
            known = [*self.data["categories"].values(), *self.definition.categories]
            self.report(path, f"there is no category `{wanted}`", f"{did_you_mean(wanted, known, ', '.join(known))}")
        return captions.get(wanted.casefold(), 0)

    def _of_class(self, wanted: str | None, path: tuple[str | int, ...]) -> dict[str, Any]:
        if wanted is None:
            return {}
        try:
            name = Model(self.data).find_class(wanted).name
        except ModelError as error:
            self.report(path, *parts_of(error))
            return {}
        found: dict[str, Any] = self.data["classes"][name]
        return found

    def _of_object(self, wanted: str | None, path: tuple[str | int, ...]) -> dict[str, Any]:
        if wanted is None:
            return {}
        if wanted not in self.data["objects"]:
            hint = did_you_mean(wanted, self.data["objects"], "objects go by their names, such as `network_endpoint`")
            self.report(path, f"there is no object `{wanted}`", hint)
            return {}
        found: dict[str, Any] = self.data["objects"][wanted]
        return found

    def _owner(self, wanted: str, path: tuple[str | int, ...]) -> dict[str, Any] | None:
        if wanted in self.data["objects"]:
            found: dict[str, Any] = self.data["objects"][wanted]
            return found
        return self._of_class(wanted, path) or None
