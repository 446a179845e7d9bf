"""A log's own values that are called like the columns of every event: read by their own name, in every form."""

from __future__ import annotations

import re
import unittest
from typing import Any

import kinglet
from kinglet.names import RESERVED, field_of
from tests.helpers import InFolder
from tests.helpers import kinglet as command

FILE = {"kinglet": 1, "parser": "own", "version": "1.0.0", "product": {"vendor": "Quayline", "name": "Own"}}


def event(file: dict[str, Any], raw: str) -> dict[str, Any]:
    found: dict[str, Any] = kinglet.load({**FILE, **file}).parse([raw]).events.row(0, named=True)
    return found


class OwnNames(InFolder):
    def test_in_every_form(self) -> None:
        for name in RESERVED:
            for form, raw in (
                ({"pattern": f"{{{name}:word}} {{b:int}}"}, "x7 4"),
                ({"regex": f"^(?P<{name}>[a-z0-9]+) (?P<b>[0-9]+)$", "types": {"b": "int"}}, "x7 4"),
                ({"json": True, "types": {name: "text", "b": "int"}}, f'{{"{name}": "x7", "b": 4}}'),
                ({"pairs": True, "types": {name: "text", "b": "int"}}, f"{name}=x7 b=4"),
                ({"delimited": {"names": [name, "b"]}, "types": {"b": "int"}}, "x7,4"),
                ({"fixed": {name: "1-2", "b": "4-"}, "types": {"b": "int"}}, "x7 4"),
                ({"xml": True, "types": {name: "text", "b": "int"}}, f"<e><{name}>x7</{name}><b>4</b></e>"),
                ({"block": True, "types": {name: "text", "b": "int"}}, f"{name}: x7\nb: 4"),
                ({"json": True, "keys": {name: "a.c"}, "types": {"b": "int"}}, '{"a": {"c": "x7"}, "b": 4}'),
                ({"pattern": "go {:json}", "types": {name: "text", "b": "int"}}, f'go {{"{name}": "x7", "b": 4}}'),
            ):
                variant = {"name": "any", **form, "event": {"class": "Base Event", "set": {"message": field_of(name)}}}
                found = event({"variants": [variant], "events": {"max_bytes": 1000}}, raw)
                self.assertEqual(
                    ("x7", 4, "complete"), (found[f"log_{name}"], found["b"], found["state"]), (name, form)
                )

    def test_wherever_the_file_names_it(self) -> None:
        text = """kinglet: 1
parser: own
version: 1.0.0
product: {vendor: Quayline, name: Own}
time: {from: time, format: "%H:%M:%S %d.%m.%Y"}
envelope: '{id:int} [{time:time}] {file:path} {body:rest}'
kind: id
variants:
  - name: two
    kind: 2
    pattern: '{state:word}[[ version {version:word}]]'
    event:
      class: Base Event
      translate: {status: {from: log_state, to: {good: Success}}}
      set: {message: "id || ' in ' || log_file"}
steps:
  - {when: id = 2, replace: {fields: [file], regex: '^/srv', with: /data}}
  - copy: {id: number}
  - remove: version
cases:
  - raw: 2 [08:00:01 20.11.2026] /srv/a.json good version 7
    expect: {time: 2026-11-20T08:00:01Z, state: complete, id: 2, file: /data/a.json, number: 2, log_state: good}
    model: {message: 2 in /data/a.json, status: Success}
"""
        path = self.write("own.yaml", text)
        self.assertEqual(0, command("check", path).status, command("check", path).out)
        for old, new, said in (
            ("'{state:word}", "'{state:word} {log_state:word}", "stands here twice"),
            ("from: log_state", "from: stat", "`stat` is no field of this variant"),
            ("log_file\"", "file\"", "`file` could be the log's own or what every event has; write `log_file`"),
            ("when: id = 2", "when: state = 'good'", "`state` could be the log's own or what every event has"),
            ("copy: {id: number}", "copy: {id: line}", "`line` is a column of every event; call the field `log_line`"),
            ("- remove", "- set: {time: {text: x}}\n  - remove", "`time` is a column of every event"),
        ):  # fmt: skip
            with self.assertRaisesRegex(kinglet.ParserFileError, re.escape(said)):
                kinglet.load(text.replace(old, new))
        former: dict[str, Any] = {"variants": [{"name": "any", "json": True, "types": {"log_time": "text"}}]}
        with self.assertRaisesRegex(
            kinglet.ParserFileError, "is what the field of the key `time` is called; write `time`"
        ):
            kinglet.load({**FILE, **former})
        other: dict[str, Any] = {"variants": [{"name": "any", "json": True, "keys": {"other": "log_time"}}]}
        self.assertEqual("x", event(other, '{"log_time": "x", "time": "y"}')["other"])
        both = {"variants": [{"name": "any", "json": True, "types": {"id": "int", "log_id": "int"}}]}
        with self.assertRaisesRegex(kinglet.ParserFileError, "has `id` and `log_id`, which are one field"):
            kinglet.load({**FILE, **both})

    def test_in_records_that_a_step_finds_and_in_parts(self) -> None:
        text = """kinglet: 1
parser: own
version: 1.0.0
product: {vendor: Quayline, name: Own}
parts: {what: '{id:int}/{file:word}'}
variants: [{name: any, pattern: '{@what} {list:rest}'}]
steps: [{find: {field: list, pattern: '{id:int}={state:word}', to: items}}]
"""
        found = kinglet.load(text).parse(["7/a.json 1=open 2=shut"]).events.row(0, named=True)
        self.assertEqual((7, "a.json"), (found["log_id"], found["log_file"]))
        self.assertEqual('[{"id":1,"state":"open"},{"id":2,"state":"shut"}]', found["items"])

    def test_look_prints_the_names_of_the_log(self) -> None:
        lines = [f'{{"time": "2026-11-20T08:00:{i:02}Z", "id": {i}, "file": "a{i}"}}' for i in range(30)]
        suggested = kinglet.look("\n".join(lines))[0].suggestion
        self.assertIn("from: time", suggested)
        self.assertIn("id: int", suggested)
        events = kinglet.load(suggested).parse("\n".join(lines)).events
        self.assertEqual(list(range(30)), events["log_id"].to_list())
        self.assertEqual(["complete"] * 30, events["state"].to_list())


if __name__ == "__main__":
    unittest.main()
