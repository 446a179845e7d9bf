"""Random mappings and values: every event is valid by the standard's own schema, or counted as one that is not."""

from __future__ import annotations

import json
import unittest
from pathlib import Path
from typing import Any

from hypothesis import given
from hypothesis import strategies as st

import kinglet as kinglet_module
from kinglet.ocsf.loading import load_model
from kinglet.ocsf.schema import Attribute, Entity, ModelClass
from kinglet.ocsf.validation import complaints
from kinglet.output.views import ModelView
from tests.helpers import InFolder, examples, kinglet, with_pattern
from tests.test_model import complaints as standard_complaints

MODEL = load_model()
HEAD = "kinglet: 1\nparser: bench\nversion: 1.0.0\nproduct: {vendor: Marram Ferries, name: Bench}\n"
CLASSES = [item for item in MODEL.classes() if not item.deprecated]
WORDS = st.sampled_from(
    ["", "7", "-1", "99", "70000", "3.5", "high", "Success", "192.0.2.7", "2001:db8::7", "*.quay.example", "m.okoro",
     "quay 4", "02:00:5e:10:00:01", "a@quay.example", "x" * 70, "true", "[1]", "é\\\"{"]
)  # fmt: skip


def paths(owner: Entity, depth: int = 2, prefix: str = "") -> list[str]:
    """Paths of values that a mapping may set, down some objects."""
    found: list[str] = []
    for name, attribute in owner.attributes.items():
        if attribute.profiles or name in _OWN:
            continue
        if not attribute.is_object:
            found.append(prefix + name)
        elif depth and attribute.type != "object":
            inner = f"{prefix}{name}[1]." if attribute.is_list else f"{prefix}{name}."
            found += paths(MODEL.object(attribute.type), depth - 1, inner)
    return found


_OWN = {"class_uid", "class_name", "category_uid", "category_name", "type_uid", "type_name", "time", "metadata",
        "raw_data", "unmapped", "observables", "activity_id", "activity_name"}  # fmt: skip


class AnyMapping(unittest.TestCase):
    @given(st.data())
    @examples(24)
    def test_valid_or_counted(self, data: st.DataObject) -> None:
        item: ModelClass = data.draw(st.sampled_from(CLASSES))
        wanted = data.draw(st.lists(st.sampled_from(paths(item)), min_size=1, max_size=7, unique=True))
        chosen = [path for path in wanted if not any(path.startswith(f"{other}.") for other in wanted)]
        names = [f"w{i}" for i in range(len(chosen))]
        mapping = {"class": item.caption, "set": dict(zip(chosen, names, strict=True))}
        variant = {"name": "a", "delimited": {"names": names, "delimiter": "\t"}, "event": mapping}
        try:
            parser = kinglet_module.load(
                {"kinglet": 1, "parser": "b", "version": "1.0.0", "product": {"vendor": "V", "name": "N"},
                 "variants": [variant]}
            )  # fmt: skip
        except kinglet_module.ParserFileError as error:
            self.assertTrue(str(error))
            return
        rows = data.draw(st.lists(st.lists(WORDS, min_size=len(names), max_size=len(names)), min_size=1, max_size=4))
        result = parser.parse(["\t".join(row) for row in rows], reference_time="2026-03-05")
        view = ModelView(parser._plan)
        events = [json.loads(line) for batch in result.batches for line in view.lines(batch)]
        wrong = 0
        for event in events:
            found = standard_complaints(event)
            own = [one.message for one in complaints(event, MODEL)]
            self.assertEqual(bool(found), bool(own), (found, own))
            kinds = ("required property", "is not valid under", "is valid under each", "does not have enough")
            self.assertEqual([], [text for text in found if not any(kind in text for kind in kinds)], found)
            wrong += bool(found)
        self.assertEqual(wrong, view.invalid, (mapping, rows, [standard_complaints(event) for event in events]))


class Lists(unittest.TestCase):
    def test_items_are_held_against_their_type(self) -> None:
        text = HEAD + (
            "variants: [{name: a, pattern: '{ips:text}'}]\nsteps: [{split: {field: ips, at: ',', to: all}}]\n"
            "event: {class: DNS Activity, activity: Query, set: {query.hostname: {text: '*.quay.example'}, "
            "'answers[1].rdata': ips, proxy_endpoint.intermediate_ips: all}}\n"
        )
        event = next(
            kinglet_module.load(text).parse("192.0.2.7,quay,2001:db8::1\n", reference_time="2026-03-05").to_model()
        )
        self.assertEqual(["192.0.2.7", "2001:db8::1"], event["proxy_endpoint"]["intermediate_ips"])
        self.assertEqual("*.quay.example", event["query"]["hostname"])
        kept = event["unmapped"]["not_mapped"]["proxy_endpoint"]["intermediate_ips"]
        self.assertEqual("192.0.2.7 quay 2001:db8::1", kept)
        event["proxy_endpoint"]["intermediate_ips"][1:] = ["2001:db8::1", "quay"]
        event["answers"].append({"rdata": 7})
        told = [str(one) for one in complaints(event, load_model())]
        self.assertEqual(
            ["answers[2].rdata", "proxy_endpoint.intermediate_ips[3]"], [one.split()[0] for one in told[:2]]
        )


class Told(InFolder):
    def test_run_counts_what_is_not_valid(self) -> None:
        text = with_pattern("{n:word} {ip:word}") + (
            "    event: {class: Authentication, activity: Logon, set: {user.name: n, src_endpoint.ip: ip, "
            "service.name: {text: gate}}}\n"
        )
        self.write("p.yaml", text)
        self.write("a.log", "m.okoro 192.0.2.7\nm.okoro nowhere\n")
        called = kinglet("run", "-p", "p.yaml", "a.log", "-o", "o.ndjson", "--as", "model", "--json").json()
        self.assertEqual(1, called["not_mapped"]["bad-value:src_endpoint.ip"])
        events = [json.loads(line) for line in Path("o.ndjson").read_text("utf-8").splitlines()]
        self.assertEqual(sum(bool(standard_complaints(event)) for event in events), called["invalid"])
        self.write(
            "q.yaml",
            text.replace("service.name: {text: gate}", "dst_endpoint.ip: ip").replace("src_endpoint.ip: ip, ", ""),
        )
        plain = kinglet("run", "-p", "q.yaml", "a.log", "-o", "o.ndjson", "--as", "model").err
        events = [json.loads(line) for line in Path("o.ndjson").read_text("utf-8").splitlines()]
        wrong = sum(bool(standard_complaints(event)) for event in events)
        self.assertEqual(1, wrong)
        self.assertIn("1  event is not valid for want of what the class requires", plain)

    def test_reasons_name_the_object_and_the_item_that_lack_something(self) -> None:
        text = with_pattern("{n:word}[[ {u:word}]]") + (
            "    event: {class: Detection Finding, activity: Create, set: {actor.user.domain: n, actor.user.name: u, "
            "'resources[2].namespace': n, 'resources[2].name': u}}\n"
        )
        parser = kinglet_module.load(text)
        view = ModelView(parser._plan)
        for batch in parser.parse(["a b", "a"], reference_time="2026-03-05").batches:
            view.lines(batch)
        reasons = list(view.counted)
        self.assertTrue(any(reason.startswith("at least one of actor.user.") for reason in reasons), reasons)
        self.assertTrue(any(reason.startswith("at least one of resources[2].") for reason in reasons), reasons)

    def test_captions_unknowns_and_deprecated(self) -> None:
        text = with_pattern("{n:word}[[ {lvl:int}]]") + (
            "    event: {class: Network Activity, activity: Open, set: {src_endpoint.ip: n, device.name: n, "
            "connection_info.direction_id: Outbound, severity_id: lvl}}\n"
        )
        parser = kinglet_module.load(text)
        events = list(parser.parse("192.0.2.7 3\n192.0.2.7 77\n192.0.2.7\n", reference_time="2026-03-05").to_model())
        self.assertEqual([3, 0, 0], [event["severity_id"] for event in events])
        self.assertEqual((2, "Outbound", 0), (events[0]["connection_info"]["direction_id"],
                         events[0]["connection_info"]["direction"], events[0]["device"]["type_id"]))  # fmt: skip
        self.assertEqual([], [standard_complaints(event) for event in events if standard_complaints(event)])
        marked = [one for item in CLASSES for one in item.attributes.values() if one.deprecated]
        self.assertTrue(all(isinstance(one, Attribute) for one in marked) and marked)
        shown = kinglet("model", next(item.caption for item in CLASSES if any(
            one.deprecated for one in item.attributes.values())), "--all").out  # fmt: skip
        self.assertIn("deprecated", shown)
        mapping = parser._plan.variants[0].mappings[0]
        assert mapping is not None
        gone = {one.name for one in MODEL.find_class("Network Activity").attributes.values() if one.deprecated}
        self.assertFalse(gone & set(mapping.recommended))

    def test_enumerations_that_are_lists(self) -> None:
        text = with_pattern("{n:word}") + (
            "    event: {class: Detection Finding, activity: Create, set: {'malware[1].name': n, "
            "'evidences[1].url.category_ids': n}}\n"
        )
        (event,) = kinglet_module.load(text).parse(["7"], reference_time="2026-03-05").to_model()
        self.assertEqual([0], event["malware"][0]["classification_ids"])
        url = event["evidences"][0]["url"]
        self.assertEqual(([99], ["7"]), (url["category_ids"], url["categories"]))
        places = [str(one).partition(":")[0] for one in standard_complaints(event)]
        told = [place for place in places if "classification" in place or "categor" in place]
        self.assertEqual([], told)

    def test_dropped_events_are_not_judged(self) -> None:
        text = with_pattern("{n:int}") + "    event: {class: Authentication, activity: Logon}\n"
        for steps, invalid in (("", 2), ("steps: [{when: n = 1, drop: one}]\n", 1), ("steps: [{drop: all}]\n", 0)):
            parser = kinglet_module.load(text + steps)
            view = ModelView(parser._plan)
            for batch in parser.parse(["1", "2"], reference_time="2026-03-05").batches:
                view.lines(batch.kept())
            self.assertEqual(invalid, view.invalid, steps)

    def test_the_offset_of_the_clock_that_a_stamp_shows(self) -> None:
        def offsets(more: str, *stamps: str) -> list[Any]:
            text = with_pattern("{t:time} {m:rest}") + "    event: {class: Base Event}\n" + more
            found = (
                kinglet_module.load(text)
                .parse([f"{stamp} x" for stamp in stamps], reference_time="2026-03-05")
                .to_model()
            )
            return [event.get("timezone_offset") for event in found]

        rule = "time: {from: t, format: iso8601%s}\n"
        stamps = (
            "2026-07-05T12:00:00Z",
            "2026-07-05T12:00:00+02:00",
            "2026-07-05T12:00:00-0330",
            "2026-07-05T12:00:00",
        )
        self.assertEqual([0, 120, -210, None], offsets(rule % "", *stamps))
        self.assertEqual([0, 120, -210, 60], offsets(rule % ", zone: Europe/Lisbon", *stamps))
        self.assertEqual([0], offsets(rule % ", zone: Europe/Lisbon", "2026-01-05T12:00:00"))
        self.assertEqual([60, -180], offsets(rule % "", "2026-07-05T12:00:00+01", "2026-07-05T12:00:00-03"))
        self.assertEqual([None], offsets("time: {from: t, format: epoch}\n", "1772575841"))

    def test_an_extension_takes_no_name_of_the_standard(self) -> None:
        head = "kinglet: 1\nmodel: harbour\nuid: 950\nversion: 1.0.0\n"
        for text, said in {
            "objects: {user: {caption: Crew}}": "the model has an object `user` already",
            "classes: {authentication: {caption: X, uid: 1, category: Findings}}": "a class `authentication` already",
            "classes: {mine: {caption: Authentication, uid: 1, category: Findings}}": "`authentication` already",
        }.items():
            with self.subTest(text=text), self.assertRaisesRegex(kinglet_module.ParserFileError, said):
                load_model(self.write("m.yaml", head + text + "\n"))
