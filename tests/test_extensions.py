"""A model with classes of one's own, and who fills what of it."""

from __future__ import annotations

import csv
import json
import unittest
from pathlib import Path

import polars as pl

import kinglet
from kinglet.demo.logs import log_bytes
from kinglet.demo.writing import write_demo
from kinglet.insight.coverage import coverage
from kinglet.insight.matrix import by_class, figure, matrix
from kinglet.ocsf.validation import complaints
from tests.helpers import ROOT, InFolder
from tests.helpers import kinglet as command

DEMO = ROOT / "src" / "kinglet" / "demo"
HARBOUR = DEMO / "model" / "harbour.yaml"
HEAD = "model: tide\nkinglet: 1\nversion: 0.1.0\nuid: 960\n"


class Winch(InFolder):
    def test_an_own_class_from_the_parser_to_valid_output(self) -> None:
        log = self.write("winch.log", log_bytes("winch-audit"))
        parser = DEMO / "model" / "winch-audit.yaml"
        self.assertEqual(0, command("check", parser, "--model", HARBOUR).status)
        called = command("run", "-p", parser, log, "-o", "out.ndjson", "--as", "model", "--model", HARBOUR)
        self.assertEqual(0, called.status, called.err)
        events = [json.loads(line) for line in Path("out.ndjson").read_text().splitlines()]
        self.assertEqual(70, len(events))
        model = kinglet.load_model(HARBOUR)
        self.assertEqual([], [str(one) for event in events for one in complaints(event, model)])
        self.assertEqual({95001001}, {event["class_uid"] for event in events})
        self.assertEqual({9500100101}, {event["type_uid"] for event in events})
        self.assertEqual([{"name": "harbour", "uid": "950", "version": "1.0.0"}], events[0]["metadata"]["extensions"])
        self.assertTrue(all(isinstance(event["tension_after"], int) for event in events))
        command("run", "-p", parser, log, "-o", "out.parquet", "--as", "model", "--model", HARBOUR)
        table = pl.read_parquet("out.parquet")
        self.assertEqual([event["winch"]["name"] for event in events], table["winch"].struct.field("name").to_list())

    def test_without_the_file_the_class_is_not_known(self) -> None:
        called = command("check", DEMO / "model" / "winch-audit.yaml")
        self.assertEqual(2, called.status)
        self.assertRegex(called.err, r"winch-audit.yaml:\d+:\d+: .*the model has no class `Winch Activity`")

    def test_browsing(self) -> None:
        shown = command("model", "Winch Activity", "--model", HARBOUR)
        for said in ("class 95001001 in System Activity, OCSF 1.8.0, harbour 1.0.0", "Tension Change", "winch "):
            self.assertIn(said, shown.out)
        self.assertIn("95001001  Winch Activity", command("model", "--model", HARBOUR).out)
        values = kinglet.load_model(HARBOUR).find_class("Authentication").attributes["auth_protocol_id"].enum
        self.assertEqual("Harbour Pass", values[950])
        self.assertNotIn(950, kinglet.load_model().find_class("Authentication").attributes["auth_protocol_id"].enum)

    def test_everything_that_a_file_may_add(self) -> None:
        text = HEAD + (
            "categories: {tides: {uid: 3, caption: Tides}}\n"
            "objects:\n  mark: {caption: Tide Mark, attributes: {level: {type: float_t, requirement: required}}}\n"
            "  berth: {caption: Berth, extends: mark, attributes: {marks: {type: mark, list: true}}}\n"
            "classes:\n  tide: {caption: Tide Change, uid: 7, category: tides, attributes: {berth: berth}}\n"
            "attributes: {Authentication: {gate: string_t}, user: {crew_number: integer_t}}\n"
        )
        model = kinglet.load_model(self.write("tide.yaml", text))
        tide = model.find_class("Tide Change")
        self.assertEqual(
            (96003, "Tides", 960 * 100_000 + 96003 * 1000 + 7), (tide.category_uid, tide.category, tide.uid)
        )
        path = model.path(tide, "berth.marks[1].level")
        self.assertEqual(["berth", "marks", "level"], [item.name for item in path])
        login = model.find_class("Authentication")
        self.assertEqual("integer_t", model.path(login, "user.crew_number")[-1].type)
        self.assertEqual("Gate", login.attributes["gate"].caption)
        alone = text.replace("uid: 960\n", "uid: 960\nbase: bare\n").partition("attributes: {Auth")[0]
        bare = kinglet.load_model(self.write("bare.yaml", alone))
        self.assertEqual(["Base Event", "Tide Change"], [item.caption for item in bare.classes()])
        both = kinglet.load_model(self.folder / "tide.yaml", HARBOUR)
        self.assertEqual(["tide", "harbour"], list(both.extensions))

    def test_templates_are_shared_by_name(self) -> None:
        templates = (
            "templates:\n  refused:\n    class: Authentication\n    activity: Logon\n    status: Failure\n"
            "    set: {user.name: user, service.name: {text: door}}\n"
        )
        model = kinglet.load_model(self.write("tide.yaml", HEAD + templates))
        text = (
            "kinglet: 1\nparser: door\nversion: 1.0.0\nproduct: {vendor: Quayline, name: Door}\n"
            "variants:\n  - name: no\n    pattern: 'no {user:word}[[ {why:rest}]]'\n"
            "    event: {template: refused, severity: Low, set: {status_detail: why, service.name: {text: gate}}}\n"
        )
        event = next(kinglet.load(text, model=model).parse(["no m.okoro late"], reference_time="2026-03-02").to_model())
        self.assertEqual([], complaints(event, model))
        self.assertEqual((300201, "Failure", "Low"), (event["type_uid"], event["status"], event["severity"]))
        self.assertEqual(({"name": "m.okoro"}, {"name": "gate"}), (event["user"], event["service"]))
        for wrong, said in {"refusd": "did you mean `refused`?", "other": "there are refused"}.items():
            with self.assertRaises(kinglet.ParserFileError) as caught:
                kinglet.load(text.replace("template: refused", f"template: {wrong}"), model=model)
            self.assertIn(
                f"<text>:8:23: variants[0].event.template: there is no template `{wrong}`", str(caught.exception)
            )
            self.assertIn(said, str(caught.exception))
        with self.assertRaisesRegex(kinglet.ParserFileError, "they stand under `templates`, or in the file"):
            kinglet.load(text)

    def test_files_that_cannot_be(self) -> None:
        for text, said in {
            "classes: {a: {caption: A, uid: 1, category: Tids}}": "there is no category `Tids`",
            "classes: {a: {caption: A, uid: 1, category: Findings, extends: Authn}}": "the model has no class `Authn`",
            "classes: {a: {caption: A, uid: 1, category: Findings}, b: {caption: B, uid: 1, category: Findings}}":
                "classes.b.uid: is 1, which another class of this category has",
            "objects: {a: {caption: A, attributes: {x: integr_t}}}": "`integr_t` is no type and no object of the model",
            "objects: {a: {caption: A, extends: usr}}": "there is no object `usr`; did you mean `user`",
            "objects: {a: {caption: A, constraints: {just_one: [x]}}}": "it has no attribute `x`",
            "values: {Authentication.user: {7: X}}": "Authentication has no enumeration `user`",
            "values: {Authentication.severity_id: {1: X}}": "1 is `Informational` already",
            "attributes: {Authentication: {user: string_t}}": "has an attribute of this name already",
            "class: {}": "class: no such key; did you mean `classes`?",
        }.items():  # fmt: skip
            with self.subTest(text=text):
                file = self.write("x.yaml", HEAD + text + "\n")
                called = command("model", "--model", file)
                self.assertEqual(2, called.status)
                self.assertIn(said, called.err)
                self.assertRegex(called.err, r"x.yaml:5:\d+: ")
        self.assertIn("no such model file", command("model", "--model", "none.yaml").err)


class Matrix(InFolder):
    def test_who_fills_what(self) -> None:
        names = ("pump-panel", "slipway-vpn", "jump-host", "resolver")
        parsers = [kinglet.load(DEMO / "parsers" / f"{name}.yaml") for name in names]
        found = matrix(parsers)
        of_folder = kinglet.load_set(DEMO / "parsers").parsers.values()
        self.assertTrue(matrix(of_folder).equals(matrix(kinglet.load(parser._document.name) for parser in of_folder)))
        self.assertEqual([], [parser.name for parser in of_folder if not parser._definition.cases])
        rows = {(row["variant"], row["attribute"]): row["filled"] for row in found.iter_rows(named=True)}
        self.assertEqual("filled", rows["accepted", "user.name"])
        self.assertEqual("sometimes", rows["setpoint-changed", "src_endpoint.ip"])
        self.assertEqual("sometimes", rows["session", "user.uid"])
        tables = by_class(found)
        self.assertEqual("user.name", tables["Authentication"].columns[1])
        self.assertEqual(sum(item.height for item in tables.values()), found.select("parser", "variant").n_unique())
        drawn = figure(found)
        self.assertEqual(list(tables), [axis.get_title(loc="left") for axis in drawn.axes])

    def test_it_is_written_as_a_table_and_as_a_figure(self) -> None:
        parser = DEMO / "parsers" / "jump-host.yaml"
        for name, begins in {"m.csv": b"parser,variant,class,", "m.png": b"\x89PNG", "m.svg": b"<?xml"}.items():
            self.assertEqual(0, command("check", parser, "--matrix", name).status)
            self.assertTrue(Path(name).read_bytes().startswith(begins))
        with Path("m.csv").open(newline="") as file:
            self.assertEqual({"Authentication", "SSH Activity"}, {row["class"] for row in csv.DictReader(file)})
        refused = command("check", parser, "--matrix", "m.doc")
        self.assertEqual((2, ""), (refused.status, refused.out))
        self.assertIn("ends with none of .csv, .png, .svg", refused.err)
        self.assertEqual(2, command("check", parser, "--matrix", "none/m.csv").status)

    def test_which_messages_feed_a_class(self) -> None:
        write_demo(Path("demo"))
        shown = command("model", "Tunnel Activity", "--parsers", "demo/parsers")
        self.assertIn("fed by: slipway-vpn tunnel-open, slipway-vpn tunnel-close", shown.out)
        told = json.loads(command("model", "SSH Activity", "--parsers", "demo/parsers", "--json").out)
        self.assertEqual([{"parser": "jump-host", "variant": "disconnect-received"}], told["fed_by"])
        self.assertIn(
            "no parser there maps to it", command("model", "Script Activity", "--parsers", "demo/parsers").out
        )
        self.assertEqual(2, command("model", "--parsers", "demo/parsers").status)

    def test_objects_can_be_browsed_too(self) -> None:
        for name in ("network_endpoint", "Network Endpoint"):
            shown = command("model", name)
            self.assertIn("Network Endpoint  object network_endpoint, OCSF 1.8.0", shown.out)
            self.assertIn("at least one: ip", shown.out)
        told = json.loads(command("model", "user", "--json").out)
        self.assertEqual(("User", "username_t"), (told["object"], told["attributes"]["name"]["type"]))
        self.assertIn("did you mean", command("model", "Authentikation").err)

    def test_a_parser_without_cases(self) -> None:
        product = {"vendor": "Quayline", "name": "Bell"}
        variants = [{"name": "any", "pattern": "{a:rest}"}]
        parser = kinglet.load(
            {"kinglet": 1, "parser": "bare", "version": "1.0.0", "product": product, "variants": variants}
        )
        self.assertEqual([0], [item.cases for item in coverage(parser)])
        self.assertEqual(0, matrix([parser]).height)


if __name__ == "__main__":
    unittest.main()
