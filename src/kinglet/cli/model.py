"""`kinglet model`: the common model, and the schema of parser files."""

from __future__ import annotations

import sys
from typing import TYPE_CHECKING, Any

import click

from kinglet.cli import options

if TYPE_CHECKING:
    from rich.console import Console

    from kinglet.ocsf.schema import Attribute, Entity, Model, ModelClass


@click.command("model")
@click.argument("name", metavar="[CLASS]", required=False)
@click.option("--search", metavar="WORD", help="Find classes, attributes and values by a part of their name.")
@click.option("--all", "all_attributes", is_flag=True, help="Show the optional attributes of CLASS too.")
@click.option("--file-schema", is_flag=True, help="Print the JSON Schema of parser files, for editors.")
@click.option("--parsers", metavar="DIR", help="With CLASS: which messages of the parsers in DIR map to it.")
@options.model()
@options.as_json()
def command(
    name: str | None,
    search: str | None,
    all_attributes: bool,
    file_schema: bool,
    parsers: str | None,
    extensions: tuple[str, ...],
    as_json: bool,
) -> None:
    """Browse the common model: all classes, or CLASS by caption or uid; an object such as `user` goes too."""
    from kinglet.cli.render import console, print_json
    from kinglet.errors import UsageError
    from kinglet.ocsf.loading import load_model

    if sum((name is not None, search is not None, file_schema)) > 1:
        raise UsageError("CLASS, --search and --file-schema exclude each other", "give one of them")
    if file_schema:
        from kinglet.insight.editor_schema import file_schema_text

        sys.stdout.write(file_schema_text(options.load_model(extensions)))
        return
    if parsers is not None and name is None:
        raise UsageError("--parsers goes with CLASS", "name one")
    model = load_model(*extensions)
    out = console()
    if search is not None:
        _search(out, model, search, as_json)
    elif name is not None:
        found = model.find(name)
        fed = _fed_by(found, parsers, model) if parsers is not None else None
        if as_json:
            print_json(_as_json(found) | ({"fed_by": fed} if fed is not None else {}))
        else:
            _render_class(out, model, found, all_attributes)
            if fed is not None:
                _render_fed(out, fed)
    elif as_json:
        print_json([{"uid": item.uid, "class": item.caption, "category": item.category} for item in model.classes()])
    else:
        _render_classes(out, model)


def _render_classes(out: Console, model: Model) -> None:
    from rich.text import Text

    from kinglet.cli.render import heading

    groups: dict[str, list[ModelClass]] = {}
    for item in model.classes():
        groups.setdefault(item.category, []).append(item)
    out.print(
        heading(
            model.title,
            f"{sum(map(len, groups.values()))} classes; kinglet model CLASS shows one, --search WORD finds attributes",
        )
    )
    width = max(6, *(len(str(item.uid)) for item in model.classes()))
    for category, items in groups.items():
        out.print()
        out.print(Text(f"  {category}", style="bold"))
        for item in items:
            line = Text(f"  {item.uid:>{width}}  {item.caption}")
            out.print(line.append("  deprecated", style="dim") if item.deprecated else line)


def _render_class(out: Console, model: Model, item: Entity, all_attributes: bool) -> None:
    from rich.text import Text

    from kinglet.cli.render import heading
    from kinglet.ocsf.schema import ModelClass

    where = f"class {item.uid} in {item.category}" if isinstance(item, ModelClass) else f"object {item.name}"
    out.print(heading(item.caption, f"{where}, {model.title}"))
    if isinstance(item, ModelClass):
        _listed(out, "activities", _captions(item.attributes["activity_id"]))
    for kind, names in item.constraints.items():
        _listed(out, kind.replace("_", " "), names)
    shown = ("required", "recommended", "optional") if all_attributes else ("required", "recommended")
    for requirement in shown:
        attributes = [
            one
            for one in item.attributes.values()
            if one.requirement == requirement and (all_attributes or not one.profiles)
        ]
        if not attributes:
            continue
        out.print()
        out.print(Text(f"  {requirement}", style="bold"))
        for one in sorted(attributes, key=lambda attribute: attribute.name):
            line = Text(f"    {one.name:<24} {_type(model, one):<24} ")
            line.append(("deprecated  " if one.deprecated else "") + _about(model, one), style="dim")
            out.print(line, no_wrap=True, overflow="ellipsis")
    if not all_attributes:
        optional = sum(one.requirement == "optional" and not one.profiles for one in item.attributes.values())
        profiled = sum(bool(one.profiles) for one in item.attributes.values())
        out.print()
        out.print(
            f"  and {optional} optional ones, and {profiled} that come with profiles; --all shows them", style="dim"
        )


def _fed_by(item: Entity, folder: str, model: Model) -> list[dict[str, str]]:
    """The messages of parsers in a folder that map to a class."""
    from kinglet.parser_set import load_set

    return [
        {"parser": parser.name, "variant": variant.name}
        for parser in load_set(folder, model=model).parsers.values()
        for variant in parser._plan.variants
        if any(mapping.class_caption == item.caption for mapping in variant.mappings)
    ]


def _render_fed(out: Console, fed: list[dict[str, str]]) -> None:
    out.print()
    if fed:
        _listed(out, "fed by", [f"{item['parser']} {item['variant']}" for item in fed])
    else:
        out.print("  no parser there maps to it", style="dim")


def _listed(out: Console, name: str, values: Any) -> None:
    from rich.padding import Padding
    from rich.text import Text

    text = Text(f"{name}: ", style="bold")
    text.append(", ".join(values), style="not bold")
    out.print(Padding(text, (0, 0, 0, 2)))


def _type(model: Model, attribute: Attribute) -> str:
    name = model.object(attribute.type).caption if attribute.is_object else attribute.type.removesuffix("_t")
    return f"list of {name}" if attribute.is_list else name


def _about(model: Model, attribute: Attribute) -> str:
    if attribute.profiles:
        return f"{attribute.caption}; with profile {attribute.profiles[0]}"
    if attribute.enum:
        return ", ".join(_captions(attribute))
    return attribute.caption


def _captions(attribute: Attribute) -> list[str]:
    """The captions of an enumeration by value; Unknown is 0 and Other 99, so they frame the rest."""
    return [caption for _, caption in sorted(attribute.enum.items(), key=lambda item: (isinstance(item[0], str), item))]


def _as_json(item: Entity) -> dict[str, Any]:
    from kinglet.ocsf.schema import ModelClass

    named = (
        {"class": item.caption, "uid": item.uid, "category": item.category}
        if isinstance(item, ModelClass)
        else {"object": item.caption}
    )
    return {
        **named,
        "constraints": item.constraints,
        "attributes": {
            name: {
                "caption": one.caption,
                "type": one.type,
                "requirement": one.requirement,
                "list": one.is_list,
                "values": {str(key): caption for key, caption in one.enum.items()},
                "profiles": list(one.profiles),
                "deprecated": one.deprecated,
            }
            for name, one in item.attributes.items()
        },
    }


def _search(out: Console, model: Model, word: str, as_json: bool) -> None:
    from rich.text import Text

    from kinglet.cli.render import print_json
    from kinglet.errors import ModelError

    found = list(model.search(word))
    if as_json:
        print_json([{"kind": kind, "name": name, "in": where} for kind, name, where in found])
        return
    if not found:
        raise ModelError(f"nothing in the model is called `{word}`", "try a shorter word")
    names = min(max(len(name) for _, name, _ in found), 48)
    for kind, name, where in found:
        line = Text(f"  {kind:<10}", style="dim").append(f"{name:<{names}}  ", style="default not dim").append(where)
        out.print(line, no_wrap=True, overflow="ellipsis")
