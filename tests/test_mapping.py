"""Mappings in depth: words of the log, lists of objects, values that do not fit, observables, and what checks say."""

from __future__ import annotations

import functools
import json
import re
import unittest
from pathlib import Path
from typing import Any, ClassVar

import polars as pl
from hypothesis import given
from hypothesis import strategies as st

import kinglet
from kinglet.columns.paths import parts, tree
from kinglet.demo.logs import LOGS
from kinglet.demo.writing import write_demo
from kinglet.expressions.compiling import sql
from kinglet.expressions.lacking import fields_named, without_fields
from kinglet.expressions.terms import NULL
from kinglet.insight.coverage import coverage
from kinglet.insight.needs import load_rules, needs
from kinglet.ocsf.loading import load_model
from kinglet.ocsf.validation import complaints
from kinglet.output.views import ModelView
from tests.helpers import ROOT, InFolder, examples, with_pattern
from tests.helpers import kinglet as command
from tests.test_model import complaints as standard_complaints
from tests.test_model import mapped

DEMO = ROOT / "src" / "kinglet" / "demo"
LOGIN = "class: Authentication, activity: Logon, set: {user.name: u, service.name: {text: gate}%s}"


def login(
    more: str, word: str, pattern: str = "{t:time} {u:word} {w:rest}", line: str = "2026-03-05T07Z m.okoro "
) -> Any:
    return mapped("{" + LOGIN % "" + more + "}", pattern, line + word)


class Translation(unittest.TestCase):
    TABLE = ", translate: {status: {from: w, to: {ok: Success, no: 2, 7: Other}}}"

    def test_an_enumeration_that_is_not_known_makes_no_object_by_itself(self) -> None:
        text = (
            "kinglet: 1\nparser: x\nversion: 1.0.0\nproduct: {vendor: a, name: b}\ntime: {from: stamp}\n"
            "event:\n  class: Base Event\n  set:\n    message: m\n    device.hostname: host\n"
            "    device.type_id: \"CASE WHEN host = 'quay-1' THEN 'Server' END\"\n"
            "variants: [{name: a, pattern: '{stamp:time} {m:word}[[ on {host:host}]]'}]\n"
        )
        lines = [f"2026-11-29T17:00:00Z hi{more}" for more in ("", " on quay-1", " on quay-2")]
        devices = [event.get("device") for event in kinglet.load(text).parse(lines).to_model()]
        told = [device and (device["type_id"], device["type"], device["hostname"]) for device in devices]
        self.assertEqual([None, (1, "Server", "quay-1"), (0, "Unknown", "quay-2")], told)

    def test_words_become_values_and_their_captions(self) -> None:
        for word, wanted in {"ok": (1, "Success"), "no": (2, "Failure"), "7": (99, "Other"), "?": (99, "?")}.items():
            event = login(self.TABLE, word)
            self.assertEqual(wanted, (event["status_id"], event["status"]), word)
            self.assertEqual([], standard_complaints(event))

    def test_no_word_is_left_out_unless_the_class_requires_a_value(self) -> None:
        pattern = "{t:time} {u:word}[[ {w:word}]]"
        event = login(self.TABLE, "", pattern, "2026-03-05T07Z m.okoro")
        self.assertNotIn("status_id", event)
        event = login(", translate: {severity: {from: w, to: {low: Low}}}", "", pattern, "2026-03-05T07Z m.okoro")
        self.assertEqual((0, "Unknown"), (event["severity_id"], event["severity"]))

    def test_the_type_of_an_event_follows_its_activity(self) -> None:
        table = ", translate: {activity: {from: w, to: {in: Logon, out: Logoff}}}"
        for word, wanted in {"in": (300201, "Authentication: Logon"), "out": (300202, "Authentication: Logoff"),
                             "stay": (300299, "Authentication: Other")}.items():  # fmt: skip
            event = login(table, word)
            self.assertEqual(wanted, (event["type_uid"], event["type_name"]))
            self.assertEqual([], standard_complaints(event))
        self.assertEqual("stay", event["activity_name"])

    def test_words_of_no_table_are_counted(self) -> None:
        text = with_pattern("{t:time} {u:word} {w:word}") + "    event: {" + LOGIN % "" + self.TABLE + "}\n"
        parser = kinglet.load(text + "time: {from: t, format: iso8601}\n")
        view = ModelView(parser._plan)
        for batch in parser.parse(["2026-03-05T07Z a ok", "2026-03-05T07Z a x", "2026-03-05T07Z b y"]).batches:
            view.lines(batch)
            view.table(batch)
        self.assertEqual({"other:status_id": 4}, view.counted)

    def test_captions_by_expression(self) -> None:
        section = "{" + LOGIN % ", status_id: \"CASE WHEN w = 'x' THEN 'success' ELSE w END\"" + "}"
        for word, wanted in {"x": (1, "Success"), "Failure": (2, "Failure"), "odd": (99, "odd")}.items():
            event = mapped(section, "{t:time} {u:word} {w:rest}", f"2026-03-05T07Z m.okoro {word}")
            self.assertEqual(wanted, (event["status_id"], event["status"]))

    def test_a_variant_overrides_what_all_share(self) -> None:
        text = (
            with_pattern("{t:time} {w:word}")
            + '    event: {class: Base Event, set: {status_id: "2"}}\n'
            + "time: {from: t, format: iso8601}\nevent: {translate: {status: {from: w, to: {ok: Success}}}}\n"
        )
        event = next(kinglet.load(text).parse(["2026-03-05T07Z ok"]).to_model())
        self.assertEqual((2, "Failure"), (event["status_id"], event["status"]))
        shared = 'event: {translate: {severity: {from: w, to: {ok: Low}}}, set: {status_id: "1"}}'
        text = with_pattern("{t:time} {w:word}") + "    event: {class: Base Event, severity: High, status: Failure}\n"
        event = next(kinglet.load(f"{text}{shared}\ntime: {{from: t}}\n").parse(["2026-03-05T07Z ok"]).to_model())
        self.assertEqual(("High", "Failure"), (event["severity"], event["status"]))


class Shared(InFolder):
    """Variants with random fields and classes share a mapping: each gets what it can have, and the rest is said."""

    PATHS: ClassVar = {"user.name": "u", "src_endpoint.ip": "c", "message": "m", "metadata.log_name": {"text": "gate"}}
    CLASSES = ("Authentication", "Base Event", "Network Activity")

    @given(st.lists(st.tuples(st.sets(st.sampled_from("ucm")), st.sampled_from(CLASSES)), min_size=1, max_size=4))
    @examples(30)
    def test_each_gets_what_it_can_have(self, variants: list[tuple[set[str], str]]) -> None:
        types = {"u": "word", "c": "ip", "m": "word"}
        words = {"u": "m.okoro", "c": "192.0.2.7", "m": "late"}
        model = load_model()
        file = {
            "kinglet": 1, "parser": "b", "version": "1.0.0", "product": {"vendor": "V", "name": "N"},
            "event": {"set": self.PATHS},
            "variants": [
                {"name": f"v{i}", "event": {"class": item},
                 "pattern": " ".join([f"v{i}", *(f"{{{name}:{types[name]}}}" for name in sorted(names))])}
                for i, (names, item) in enumerate(variants)
            ],
        }  # fmt: skip
        can = [{path for path, value in self.PATHS.items() if (isinstance(value, dict) or value in names)
                and path.split(".")[0] in model.find_class(item).attributes} for names, item in variants]  # fmt: skip
        somewhere = set().union(*can)
        if somewhere != set(self.PATHS):
            with self.assertRaises(kinglet.ParserFileError):
                kinglet.load(file)
            return
        parser = kinglet.load(file)
        lines = [" ".join([f"v{i}", *(words[name] for name in sorted(names))]) for i, (names, _) in enumerate(variants)]
        for paths, variant, event in zip(can, parser._plan.variants, parser.parse(lines).to_model(), strict=True):
            assert variant.mappings
            self.assertEqual(set(self.PATHS) - paths, set(variant.mappings[0].left_out))
            found = {path for path in self.PATHS if path.split(".")[0] in event and path != "metadata.log_name"}
            found |= {"metadata.log_name"} if "log_name" in event["metadata"] else set()
            self.assertEqual(paths, found)

    @given(st.data())
    @examples(60)
    def test_coalesce_passes_over_fields_that_a_variant_lacks(self, data: st.DataObject) -> None:
        names = ("a", "b", "c")
        atoms = st.sampled_from([*names, '"b"', "'x, (y)'", "UPPER(a)", "NULL"])
        inner = st.recursive(
            atoms,
            lambda one: (
                st.lists(one, min_size=2, max_size=3).map(lambda items: f"coalesce ( {' , '.join(items)} )")
                | st.tuples(one, one).map(lambda two: f"CONCAT_WS('-', {two[0]}, {two[1]})")
            ),
            max_leaves=5,
        )
        text = data.draw(inner)
        having = data.draw(st.sets(st.sampled_from(names), min_size=1))
        reduced = without_fields(text, set(names) - having, having)
        # whatever the fields hold, the expression is what it is where those that are lacking are null
        frame = pl.DataFrame(
            {name: [name * 2 if name in having else None] for name in names}, dict.fromkeys(names, pl.String)
        )
        values = []
        for one in (text, reduced):
            made = sql(one, frame.schema)
            values.append(frame.select(made.value.cast(pl.String)).item() if made.dtype != NULL else None)
        self.assertEqual(values[0], values[1], (text, reduced))
        whole = re.fullmatch(r"coalesce \( [a-c](?: , [a-c])* \)", text)
        if whole is not None and having & fields_named(text, names):
            self.assertFalse(fields_named(reduced, set(names) - having), reduced)

    def test_a_shared_coalesce_that_is_too_deep_or_too_long_is_refused(self) -> None:
        for text, said in (
            ("COALESCE(u, " * 1500 + "c" + ")" * 1500, "nested too deeply"),
            (f"COALESCE(u, {'c, ' * 9000}c)", "more than 20,000 characters"),
        ):
            shared = f"event: {{class: Base Event, set: {{message: '{text}'}}}}\n"
            with self.assertRaisesRegex(kinglet.ParserFileError, said):
                kinglet.load(with_pattern("one {u:word}") + "  - {name: two, pattern: 'two {c:word}'}\n" + shared)

    def test_a_shared_coalesce_holds_for_all_that_have_one_of_its_fields(self) -> None:
        parser = kinglet.load(
            with_pattern("one {u:word}")
            + "  - {name: two, pattern: 'two {c:word}'}\n  - {name: three, pattern: 'three {n:int}'}\n"
            + "event:\n  class: Base Event\n"
            + "  set: {message: 'COALESCE(u, c)', metadata.log_name: \"COALESCE(u, 'gate')\"}\n"
        )
        events = list(parser.parse(["one x", "two y", "three 3"]).to_model())
        self.assertEqual(["x", "y", None], [event.get("message") for event in events])
        self.assertEqual(["x", None, None], [event["metadata"].get("log_name") for event in events])
        said = [variant.mappings[0].left_out for variant in parser._plan.variants]
        self.assertEqual([[], ["metadata.log_name"], ["message", "metadata.log_name"]], [sorted(one) for one in said])

    def test_check_says_what_does_not_hold_where(self) -> None:
        text = with_pattern("one {u:word}") + (
            "  - {name: two, pattern: 'two {c:ip}', event: {template: seen}}\n"
            "event: {class: Authentication, activity: Logon, set: {user.name: u, src_endpoint.ip: c}}\n"
            "templates: {seen: {severity: Low}}\n"
        )
        path = self.write("p.yaml", text)
        shown = command("check", path, "--mapping").out
        self.assertIn("does not hold for it", shown)
        self.assertIn("src_endpoint.ip (no field `c`)", shown)
        for old, new, said in (
            ("template: seen", "template: sen", "there is no template `sen`; did you mean `seen`?"),
            ("severity: Low", "template: seen", "templates.seen.template: a template stands over no other"),
            ("{severity: Low}", "{set: {status_detail: y}}", "templates.seen.set.status_detail: `y` is no field"),
        ):
            with self.assertRaisesRegex(kinglet.ParserFileError, re.escape(said)):
                kinglet.load(text.replace(old, new))


class ClassByEvent(InFolder):
    """A word decides the class: each event becomes what a parser of that class alone makes of it."""

    FILE: ClassVar[dict[str, Any]] = {
        "kinglet": 1, "parser": "portal", "version": "1.0.0", "product": {"vendor": "Quayline", "name": "Portal"},
        "variants": [{"name": "any", "pattern": "{what:word} {act:word} {user:word}"}],
    }  # fmt: skip
    PATHS: ClassVar = {
        "user.name": "user", "actor.user.name": "user", "file.name": {"text": "a"}, "file.type_id": "Regular File",
        "service.name": {"text": "gate"}, "device.hostname": {"text": "q"}, "message": "raw",
    }  # fmt: skip
    CLASSES: ClassVar = {"login": "Authentication", "file": "File System Activity", "other": "Base Event"}
    ACTS: ClassVar = {"Authentication": ("Logon", "Logoff"), "File System Activity": ("Read", "Delete")}

    def file(self, event: dict[str, Any]) -> dict[str, Any]:
        return {**self.FILE, "event": event}

    @given(
        st.lists(st.tuples(st.sampled_from(["login", "file", "other", "rope"]),
                           st.sampled_from(["Logon", "Logoff", "Read", "Delete", "climb"])), min_size=1, max_size=9),
        st.sampled_from([None, "Base Event", "Authentication"]),
        st.booleans(),
    )  # fmt: skip
    @examples(16)
    def test_each_event_is_what_its_class_alone_makes_of_it(
        self, events: list[tuple[str, str]], default: str | None, shared: bool
    ) -> None:
        acts = {act: act for acts in self.ACTS.values() for act in acts}
        mapping = {
            "translate": {"class": {"from": "what", "to": self.CLASSES}, "activity": {"from": "act", "to": acts}},
            "set": self.PATHS, "severity": "Low", **({"class": default} if default else {}),
        }  # fmt: skip
        own = {**self.FILE["variants"][0], "event": mapping}
        file = self.file(mapping) if shared else self.FILE | {"variants": [own]}
        parser = kinglet.load(file)
        lines = [f"{what} {act} m.okoro" for what, act in events]
        found = list(parser.parse(lines, reference_time="2026-03-02").to_model())
        for line, (what, act), event in zip(lines, events, found, strict=True):
            expected = next(
                self.alone(self.CLASSES.get(what, default or "Base Event"))
                .parse([line], reference_time="2026-03-02")
                .to_model()
            )
            for one in (event, expected):
                one["metadata"].pop("uid")
            self.assertEqual(expected, event)
            self.assertEqual(act, event["activity_name"])
        result = parser.parse(lines)
        uids = [uid for batch in result.batches for uid in ModelView(parser._plan).table(batch)["class_uid"]]
        self.assertEqual([event["class_uid"] for event in found], uids)

    @functools.lru_cache  # noqa: B019
    def alone(self, item: str) -> kinglet.Parser:
        """The parser of one class, with what that class has."""
        has = load_model().find_class(item).attributes
        words = {word: word for word in self.ACTS.get(item, ())} or {"-": "Other"}
        paths = {path: value for path, value in self.PATHS.items() if path.split(".")[0] in has}
        activity = {"from": "act", "to": words}
        return kinglet.load(
            self.file({"class": item, "severity": "Low", "set": paths, "translate": {"activity": activity}})
        )

    def test_words_that_name_no_class_are_counted_and_what_is_wrong_is_said(self) -> None:
        text = with_pattern("{what:word} {act:word}") + (
            "event:\n  translate:\n    class: {from: what, to: {login: Authentication, file: File System Activity}}\n"
            "    activity: {from: act, to: {in: Logon, read: Read}}\n"
            "  set: {message: raw, user.name: {text: x}, service.name: {text: gate}}\n"
        )
        path = self.write("p.yaml", text)
        log = self.write("a.log", "login in\nfile read\nrope up\n")
        counted = json.loads(
            command("run", "-p", path, log, "-o", Path(self.folder) / "o.ndjson", "--as", "model", "--json").out
        )
        self.assertEqual(1, counted["not_mapped"]["no-class:class"])
        shown = command("check", path, "--mapping").out
        self.assertIn("user.name (no such attribute of File System Activity)", shown)
        for old, new, said in (
            ("login: Authentication", "login: Authentikation", "class: the model has no class `Authentikation`"),
            ("from: what", "from: wht", "class: `wht` is no field"),
            ("read: Read", "read: Reed", "activity: `activity_id` has no value `Reed`"),
            ("message: raw", "mesage: raw", "mesage"),
        ):
            with self.assertRaisesRegex(kinglet.ParserFileError, re.escape(said)):
                kinglet.load(text.replace(old, new))


class Lists(unittest.TestCase):
    def test_lists_of_values_and_of_objects(self) -> None:
        section = (
            "{class: API Activity, activity: Read, set: {actor.user.name: u, api.operation: {text: x}, "
            "src_endpoint.name: u, "
            "actor.user.email_addr: \"u || '@port.example'\", metadata.labels: [u, n, {text: fixed}], "
            '"resources[1].name": u, "resources[1].type": {text: tank}, "resources[2].name": n}}'
        )
        event = mapped(section, "{t:time} {u:word}[[ {n:word}]]", "2026-03-05T07Z a b")
        self.assertEqual([{"name": "a", "type": "tank"}, {"name": "b"}], event["resources"])
        self.assertEqual(["a", "b", "fixed"], event["metadata"]["labels"])
        self.assertEqual([], standard_complaints(event))
        event = mapped(section, "{t:time} {u:word}[[ {n:word}]]", "2026-03-05T07Z a")
        self.assertEqual([{"name": "a", "type": "tank"}], event["resources"])
        self.assertEqual(["a", "fixed"], event["metadata"]["labels"])

    def test_tables_nest_them_too(self) -> None:
        text = (
            with_pattern("{t:time} {u:word}[[ {n:word}]]")
            + '    event: {class: API Activity, set: {"resources[1].name": u, "resources[2].uid": n}}\n'
            + "time: {from: t, format: iso8601}\n"
        )
        parser = kinglet.load(text)
        batch = parser.parse(["2026-03-05T07Z a b", "2026-03-05T07Z a"]).batches[0]
        rows = ModelView(parser._plan).table(batch)["resources"].to_list()
        self.assertEqual([["a", None], ["a"]], [[item["name"] for item in row] for row in rows])

    def test_paths(self) -> None:
        self.assertEqual([("a", None), ("b", 2), ("c", None)], list(parts("a.b[2].c")))
        self.assertEqual({"a": {1: {"x": 1}, 2: {"y": 2}}, "z": 3}, tree([("a[1].x", 1), ("a[2].y", 2), ("z", 3)]))
        for path in ("a[0].b", "a..b", "a[x]", ""):
            with self.subTest(path=path), self.assertRaises(ValueError):
                list(parts(path))


class Fitting(unittest.TestCase):
    CASES = (
        ("src_endpoint.ip", "rest", "198.51.100.7", "198.51.100.390"),
        ("src_endpoint.ip", "rest", "2001:db8::7", "gate-4"),
        ("src_endpoint.port", "rest", "443", "70000"),
        ("src_endpoint.port", "int", "443", "-1"),
        ("src_endpoint.port", "num", "443", "443.5"),
        ("src_endpoint.mac", "rest", "02:00:5e:10:00:01", "02:00:5e"),
        ("user.email_addr", "rest", "a@port.example", "a at port"),
        ("src_endpoint.hostname", "rest", "*.gate-4.port.example", None),
        ("service.uid", "rest", "any text", None),
        ("http_request.url.url_string", "rest", "gate", None),
        ("session.count", "rest", "12", "many"),
        ("logon_type_id", "int", "3", "77"),
    )

    def test_what_does_not_fit_is_a_fault_and_kept(self) -> None:
        for path, kind, good, bad in self.CASES:
            section = "{" + LOGIN % f", src_endpoint.name: u, {path}: w" + "}"
            with self.subTest(path=path, kind=kind):
                pattern = f"{{t:time}} {{u:word}} {{w:{kind}}}"
                event = mapped(section, pattern, f"2026-03-05T07Z m.okoro {good}")
                self.assertNotIn("unmapped", event)
                self.assertEqual([], standard_complaints(event))
                if bad is None:
                    continue
                event = mapped(section, pattern, f"2026-03-05T07Z m.okoro {bad}")
                self.assertEqual([f"bad-value:{path}"], event["unmapped"]["faults"])
                *above, name = path.split(".")
                kept = event["unmapped"]["not_mapped"]
                for part in above:
                    kept = kept[part]
                self.assertEqual(bad, kept[name])
                self.assertEqual([], standard_complaints(event))

    def test_our_judgement_is_that_of_the_standard(self) -> None:
        good = mapped(
            "{" + LOGIN % ", src_endpoint.ip: w" + "}", "{t:time} {u:word} {w:rest}", "2026-03-05T07Z a 192.0.2.1"
        )
        model = load_model()
        self.assertEqual([], complaints(good, model))
        changes: tuple[dict[str, Any], ...] = (
            {"severity_id": 42}, {"severity_id": "1"}, {"time": "now"}, {"user": None}, {"user": {}}, {"user": "a"},
            {"nobody": 1}, {"src_endpoint": {"ip": "x"}}, {"src_endpoint": {"port": 70000}}, {"is_remote": 1},
            {"metadata": {"version": "1.8.0"}}, {"observables": {}}, {"service": None},
        )  # fmt: skip
        for change in changes:
            event = {key: value for key, value in (good | change).items() if value is not None}
            with self.subTest(change=change):
                self.assertTrue(standard_complaints(event))
                self.assertTrue(complaints(event, model))


class Observables(unittest.TestCase):
    def test_they_are_listed_as_the_standard_says(self) -> None:
        section = "{" + LOGIN % ", src_endpoint.ip: w, src_endpoint.port: p" + ", observables: true}"
        event = mapped(section, "{t:time} {u:word} {w:ip}[[ {p:port}]]", "2026-03-05T07Z m.okoro 192.0.2.7")
        self.assertEqual(
            [
                {"name": "user.name", "type_id": 4, "type": "User Name", "value": "m.okoro"},
                {"name": "src_endpoint.ip", "type_id": 2, "type": "IP Address", "value": "192.0.2.7"},
            ],
            event["observables"],
        )
        self.assertEqual([], standard_complaints(event))

    def test_those_that_a_mapping_names_come_first(self) -> None:
        own = ', "observables[1].name": {text: gate}, "observables[1].type_id": 99, "observables[1].value": w'
        section = "{" + LOGIN % own + ", observables: true}"
        event = mapped(section, "{t:time} {u:word} {w:word}", "2026-03-05T07Z m.okoro G4")
        self.assertEqual(["gate", "user.name"], [item["name"] for item in event["observables"]])
        self.assertEqual("Other", event["observables"][0]["type"])
        self.assertEqual([], standard_complaints(event))


class Refused(unittest.TestCase):
    def test_each_says_where_and_what(self) -> None:
        for section, said in {
            "{class: Authentification}": "9:20: variants[0].event.class: the model has no class",
            "{class: Authentication, set: {entity.name: w}}": "has no attribute `entity`",
            "{class: Authentication, set: {user.name: w, is_remote: t}}": "is Datetime",
            "{class: Authentication, activity: Lgon}": "has no value `Lgon`; did you mean `Logon`",
            "{class: Authentication, set: {status_id: {text: Succes}}}": "did you mean `Success`",
            "{class: Authentication, set: {status_id: 17}}": "has no value `17`; it has Unknown, Success",
            "{class: Authentication, set: {\"user[1].name\": w}}": "`user` is no list of objects",
            "{class: API Activity, set: {resources.name: w}}": "say which one, such as `resources[1].name`",
            "{class: API Activity, set: {\"resources[0].name\": w}}": "is not a path of attributes",
            "{class: Authentication, set: {user.name: [w]}}": "takes one value, not a list",
            "{class: Authentication, translate: {user.name: {from: w, to: {a: b}}}}": "is no enumeration",
            "{class: Authentication, translate: {status: {from: w, to: {a: Fine}}}}": "has no value `Fine`",
            "{class: Authentication, translate: {nothing: {from: w, to: {a: Fine}}}}": "has no attribute `nothing`",
            "{class: Authentication, translate: {status: {to: {a: Fine}}}}": "the key `from` is missing",
        }.items():  # fmt: skip
            text = with_pattern("{t:time} {w:rest}") + f"    event: {section}\n"
            with self.subTest(section=section), self.assertRaises(kinglet.ParserFileError) as caught:
                kinglet.load(text)
            problems = [str(problem) for problem in caught.exception.problems]
            self.assertEqual(1, len(problems), problems)
            self.assertIn(said, problems[0])
            self.assertRegex(problems[0], r"^<text>:\d+:\d+: ")


class Checks(InFolder):
    def test_a_run_tells_how_many(self) -> None:
        text = with_pattern("{t:time} {u:word} {w:rest}") + "    event: {" + LOGIN % ", src_endpoint.ip: w" + "}\n"
        parser = self.write("gate.yaml", text + "time: {from: t, format: iso8601}\n")
        log = self.write("gate.log", "2026-03-05T07Z a 192.0.2.1\n2026-03-05 a nowhere\n")
        called = command("run", "-p", parser, log, "-o", "out.ndjson", "--as", "model")
        self.assertIn("1  src_endpoint.ip  does not fit, kept in unmapped", called.err)
        told = json.loads(command("run", "-p", parser, log, "-o", "out.ndjson", "--as", "model", "--json").out)
        self.assertEqual({"bad-value:src_endpoint.ip": 1}, told["not_mapped"])

    def test_coverage_says_what_is_open(self) -> None:
        found = {item.variant: item for item in coverage(kinglet.load(DEMO / "parsers" / "jump-host.yaml"))}
        self.assertEqual(("pid", "key"), found["accepted"].unmapped)
        self.assertEqual((), found["session"].unexercised)
        self.assertEqual(1, found["disconnected"].cases)
        self.assertEqual("src_endpoint", found["session"].recommended[0])
        self.assertEqual([], [item.variant for item in found.values() if item.errors])

    def test_a_case_that_the_model_refuses_fails(self) -> None:
        text = (DEMO / "parsers" / "slipway-vpn.yaml").read_text().replace(", dst_endpoint.hostname: dev", "")
        called = command("check", self.write("vpn.yaml", text))
        self.assertEqual(1, called.status)
        self.assertIn(
            "Authentication requires at least one of service, dst_endpoint, which nothing fills",
            " ".join(called.out.split()),
        )
        told = json.loads(command("check", "vpn.yaml", "--json").out)
        wrong = told["parsers"][0]["mappings"][0]["wrong"]
        self.assertEqual([1, 2], [item["case"] for item in wrong])

    def test_the_whole_of_it(self) -> None:
        called = command("check", str(DEMO / "parsers" / "jump-host.yaml"), "--mapping")
        self.assertEqual(0, called.status)
        for said in (
            "accepted → Authentication",
            "all cases fill           user.name, src_endpoint.ip, src_endpoint.port, auth_protocol",
            "fields mapped nowhere    pid, key",
            "some cases fill          user.uid",
            "recommended, not filled",
        ):
            self.assertIn(said, called.out)
        self.assertLessEqual(max(map(len, called.out.splitlines())), 100)


class Rules(InFolder):
    def test_the_demos_rules_find_its_story_in_mapped_events(self) -> None:
        written = write_demo(Path("demo"))
        rules = load_rules(Path("demo/rules"), load_model())
        found: dict[str, int] = dict.fromkeys((rule.name for rule in rules), 0)
        for item in written:
            output = f"{item.name}.parquet"
            called = command("run", "-p", item.parser, item.log, "-o", output, "--as", "model", "--at", "2026-03-07")
            self.assertEqual(0, called.status)
            events = pl.read_parquet(output)
            for rule in rules:
                found[rule.name] += rule.found(events).height
        self.assertGreater(found["guessed-password"], 20)
        self.assertEqual((1, 1, 1), (found["night-logon"], found["night-jump"], found["night-setpoint"]))
        self.assertGreater(found["night-reading"], 100)
        self.assertEqual(len(LOGS), len(written))

    def test_what_feeds_them_and_why_they_go_blind(self) -> None:
        rules = load_rules(DEMO / "rules", load_model())
        files = [DEMO / "parsers" / f"{name}.yaml" for name in LOGS]
        self.assertEqual([], [need.rule.name for need in needs(rules, map(kinglet.load, files)) if need.blind])
        text = files[1].read_text().replace("        is_remote: true\n", "")
        text = text.replace(", is_remote: true", "")
        vpn = self.write("vpn.yaml", text)
        called = command("check", vpn, "--rules", DEMO / "rules")
        self.assertEqual(1, called.status)
        self.assertIn(
            "✗ night-logon       blind: slipway-vpn login comes nearest, and does not fill is_remote", called.out
        )
        self.assertIn("✗ night-reading     blind: no message maps to API Activity", called.out)
        told = json.loads(command("check", vpn, "--rules", DEMO / "rules", "--json").out)
        blind = {item["rule"]: item for item in told["rules"] if item["blind"]}
        self.assertEqual(
            [{"parser": "slipway-vpn", "variant": "login", "attributes": ["is_remote"]}],
            blind["night-logon"]["lacking"],
        )

    def test_a_rule_that_cannot_be(self) -> None:
        head = "kinglet: 1\nrule: r\n"
        for text, said in {
            "class: Nothing\nreads: time\nwhen: time > 1": "r.yaml:3:8: class: the model has no class `Nothing`",
            "class: Authentication\nreads: usr.name\nwhen: time > 1": "has no attribute `usr`",
            "class: Authentication\nreads: user.name\nwhen: user.uid = 1": "`user.uid` is not among `reads`",
            'class: Authentication\nreads: user.name\nwhen: "user.name >"': "is not a SQL expression",
            "class: Authentication\nread: user.name\nwhen: time > 1": "read: no such key; did you mean `reads`?",
        }.items():
            with self.subTest(text=text):
                called = command("check", "dpkg", "--rules", self.write("r.yaml", head + text + "\n"))
                self.assertEqual(2, called.status)
                self.assertIn(said, called.err)
        Path("empty").mkdir()
        for folder, said in {"empty": "has no rule file", "none": "no such rule file; check the path"}.items():
            self.assertIn(said, command("check", "dpkg", "--rules", folder).err)
