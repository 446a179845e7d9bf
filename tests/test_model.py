"""The common model, mappings onto it, and what the standard's own schema says of the result."""

from __future__ import annotations

import functools
import unittest
from typing import Any

import jsonschema
from ocsf_json_schema import OcsfJsonSchemaEmbedded, get_ocsf_schema

import kinglet
from kinglet.demo.logs import LOGS, log_text
from kinglet.insight.cases import mapped_case
from kinglet.ocsf.loading import load_model
from kinglet.ocsf.schema import enum_value
from kinglet.spec.ready import ready_parsers
from tests.helpers import PUMP, PUMP_LOG, ROOT, with_pattern

MODEL = load_model()


@functools.cache
def validator(class_name: str, profiles: tuple[str, ...]) -> jsonschema.Draft202012Validator:
    schema = OcsfJsonSchemaEmbedded(get_ocsf_schema(MODEL.version)).get_class_schema(class_name, list(profiles))
    return jsonschema.Draft202012Validator(schema)


def complaints(event: dict[str, Any]) -> list[str]:
    """What the standard's own schema of its class finds wrong with an event."""
    name = MODEL.find_class(event["class_uid"]).name
    profiles = tuple(event["metadata"].get("profiles", []))
    return [f"{error.json_path}: {error.message}" for error in validator(name, profiles).iter_errors(event)]


def mapped(event_section: str, pattern: str, line: str, **options: str) -> dict[str, Any]:
    """The event of the model that one line becomes under a mapping, in YAML flow form."""
    text = with_pattern(pattern) + f"    event: {event_section}\n" + "time: {from: t, format: iso8601}\n"
    return next(kinglet.load(text).parse([line], **options).to_model())  # type: ignore[arg-type]


class Browsing(unittest.TestCase):
    def test_classes_by_caption_name_and_uid(self) -> None:
        for wanted in ("Authentication", "authentication", " AUTHENTICATION ", 3002, "3002"):
            self.assertEqual(3002, MODEL.find_class(wanted).uid)
        with self.assertRaisesRegex(kinglet.ModelError, "did you mean `Authentication`"):
            MODEL.find_class("Authentcation")

    def test_paths_and_their_errors(self) -> None:
        login = MODEL.find_class("Authentication")
        self.assertEqual(["src_endpoint", "ip"], [item.name for item in MODEL.path(login, "src_endpoint.ip")])
        for path, said in {
            "usr.name": "the class Authentication has no attribute `usr`; did you mean `user`?",
            "ip": "did you mean `src_endpoint.ip` or `dst_endpoint.ip`?",
            "user": "`user` is an object (User); name one of its attributes",
            "time.x": "`time` is a value (timestamp_t), with no attribute `x` beneath it",
        }.items():
            with self.subTest(path=path), self.assertRaises(kinglet.ModelError) as caught:
                MODEL.path(login, path)
            self.assertIn(said, str(caught.exception))

    def test_enumerations_by_caption_and_value(self) -> None:
        activity = MODEL.find_class("Authentication").attributes["activity_id"]
        self.assertEqual((1, 1, 99), tuple(enum_value(activity, word) for word in ("logon", 1, "Other")))
        with self.assertRaisesRegex(kinglet.ModelError, "did you mean `Logon`"):
            enum_value(activity, "Logn")

    def test_search_finds_classes_attributes_and_values(self) -> None:
        kinds = {kind for kind, _, _ in MODEL.search("logon")}
        self.assertEqual({"attribute", "value"}, kinds)
        self.assertIn(("class", "Tunnel Activity", "Network Activity, uid 4014"), list(MODEL.search("tunnel")))
        self.assertEqual([], list(MODEL.search("no such thing")))

    def test_the_shipped_model_agrees_with_the_standard(self) -> None:
        source = get_ocsf_schema(MODEL.version)
        self.assertEqual({value["uid"] for value in source["classes"].values()}, {item.uid for item in MODEL.classes()})
        for item in MODEL.classes():
            self.assertEqual(set(source["classes"][item.name]["attributes"]), set(item.attributes))
        self.assertEqual(set(source["objects"]), {item.name for item in MODEL.objects()})
        self.assertEqual("integer_t", MODEL.base_type("port_t"))


class Mapping(unittest.TestCase):
    def test_identifiers_follow_from_captions(self) -> None:
        event = mapped("{class: Authentication, activity: Logon, status: Failure, severity: Low, set: {user.name: u}}",
                       "{t:time} {u:word}", "2026-03-05T01:30:50.123Z t.varela")  # fmt: skip
        wanted = {
            "class_uid": 3002, "category_uid": 3, "type_uid": 300201, "type_name": "Authentication: Logon",
            "activity_id": 1, "status_id": 2, "status": "Failure", "severity_id": 2, "severity": "Low",
            "time": 1772674250123, "raw_data": "2026-03-05T01:30:50.123Z t.varela", "user": {"name": "t.varela"},
        }  # fmt: skip
        self.assertEqual(wanted, {key: event[key] for key in wanted})
        self.assertEqual("1.8.0", event["metadata"]["version"])
        self.assertEqual("2026-03-05T01:30:50.123Z", event["metadata"]["original_time"])
        self.assertEqual("lines 1.0.0", event["metadata"]["transformation_info_list"][0]["uid"])
        self.assertNotIn("unmapped", event)

    def test_values_become_the_type_of_their_attribute(self) -> None:
        event = mapped(
            "{class: Authentication, set: {user.name: \"UPPER(user)\", user.uid: n, src_endpoint.port: p, "
            "is_remote: true, "
            "session.created_time: t2, user.groups: null, status_detail: \"CASE WHEN n > 3 THEN 'many' END\", "
            "metadata.labels: user, session.count: \"n + 1\"}}",
            "{t:time} {user:word} {n:int} {p:word} {t2:time}",
            "2026-03-05 m.okoro 7 443 2026-03-04T00:00:01Z")  # fmt: skip
        self.assertEqual({"name": "M.OKORO", "uid": "7"}, event["user"])
        self.assertEqual(443, event["src_endpoint"]["port"])
        self.assertEqual({"created_time": 1772582401000, "count": 8}, event["session"])
        self.assertEqual(
            ("many", True, ["m.okoro"]), (event["status_detail"], event["is_remote"], event["metadata"]["labels"])
        )

    def test_what_no_attribute_took_is_kept_and_nulls_are_left_out(self) -> None:
        event = mapped(
            "{class: Base Event, set: {message: m}}", "{t:time}[[ n={n:int}]] {m:rest}", "2026-03-05T00:00:00Z hello"
        )
        self.assertNotIn("unmapped", event)
        event = mapped(
            "{class: Base Event, set: {message: m}}", "{t:time}[[ n={n:int}]] {m:rest}", "2026-03-05T00:00:00Z n=4 x"
        )
        self.assertEqual({"n": 4}, event["unmapped"])

    def test_profiles_are_declared_where_their_attributes_are_used(self) -> None:
        event = mapped("{class: HTTP Activity, set: {actor.user.name: u, http_request.url.path: p}}",
                       "{t:time} {u:word} {p:path}", "2026-03-05 a /x")  # fmt: skip
        self.assertEqual(["host"], event["metadata"]["profiles"])
        self.assertEqual([], complaints(event))

    def test_events_that_no_variant_matched_are_base_events_with_their_faults(self) -> None:
        events = list(kinglet.load(PUMP).parse(PUMP_LOG, reference_time="2026-03-05").to_model())
        self.assertEqual([3004, 0, 0, 3004, 0, 0, 0], [event["class_uid"] for event in events])
        self.assertEqual(["bad-value:client"], events[3]["unmapped"]["faults"])
        self.assertNotIn("src_endpoint", events[3])
        self.assertEqual("setpoint T2 hot", events[4]["unmapped"]["body"])

    def test_an_event_without_time_gets_that_of_its_log_and_says_so(self) -> None:
        event = list(kinglet.load(PUMP).parse(PUMP_LOG, reference_time="2026-03-05").to_model())[-1]
        self.assertEqual((1772712000000, "reference"), (event["time"], event["unmapped"]["time_from"]))

    def test_variants_inherit_and_override_the_shared_mapping(self) -> None:
        text = PUMP + "event: {class: Base Event, severity: Low, set: {message: body2, status_code: code}}\n"
        text = text.replace("message: body2", "message: unit")
        events = list(kinglet.load(text).parse(PUMP_LOG, reference_time="2026-03-05").to_model())
        self.assertEqual(
            ("P04", "4102", 3004), (events[0]["message"], events[0]["status_code"], events[0]["class_uid"])
        )
        self.assertEqual(("P04", "Low", 0), (events[1]["message"], events[1]["severity"], events[1]["class_uid"]))

    def test_what_is_missing_is_known_before_any_event(self) -> None:
        plan = kinglet.load(PUMP.replace("entity.name: tank", "device.name: tank"))._plan
        assert plan.variants[0].mappings
        self.assertEqual(("entity",), plan.variants[0].mappings[0].missing)
        text = with_pattern("{u:word}") + "    event: {class: Authentication, set: {user.name: u}}\n"
        mapping = kinglet.load(text)._plan.variants[0].mappings[0]
        assert mapping is not None
        self.assertEqual(("at least one of service, dst_endpoint",), mapping.missing)

    def test_mappings_that_cannot_be(self) -> None:
        for section, said in {
            "{activity: Logon}": "the mapping names no class",
            "{class: Base Event, status: Fine}": "`status_id` has no value `Fine`; it has Unknown",
            "{class: Base Event, set: {message: nope}}": "`nope` is no field of this variant; fixed text is {text",
            "{class: Base Event, set: {time: line}}": None,
            "{class: Base Event, set: {message: \"SELECT 1\"}}": "is not a SQL expression",
            "{class: Base Event, set: {message: \"read_csv('x')\"}}": "is not a SQL expression",
            "{class: Base Event, set: {metadata.tags.name: m}}": "is a list of objects",
            "{class: Base Event, set: {count: t}}": "wants Int64 (integer_t)",
        }.items():  # fmt: skip
            text = with_pattern("{t:time} {m:rest}") + f"    event: {section}\n"
            with self.subTest(section=section):
                if said is None:
                    self.assertTrue(kinglet.load(text))
                    continue
                with self.assertRaises(kinglet.ParserFileError) as caught:
                    kinglet.load(text)
                self.assertIn(said, str(caught.exception))


class Standard(unittest.TestCase):
    def test_every_demo_event_is_valid_by_the_schema_of_its_class(self) -> None:
        for name in LOGS:
            parser = kinglet.load(ROOT / "src" / "kinglet" / "demo" / "parsers" / f"{name}.yaml")
            for i, event in enumerate(parser.parse(log_text(name).encode(), reference_time="2026-03-07").to_model()):
                if i % 3 == 0:  # the standard's schema takes its time, and messages come again and again
                    self.assertEqual([], complaints(event), event["raw_data"])

    def test_the_cases_of_every_shipped_parser_are_valid_too(self) -> None:
        for path in ready_parsers().values():
            parser = kinglet.load(path)
            for case in parser._definition.cases:
                for event in mapped_case(parser, case).events:
                    self.assertEqual([], complaints(event), case.raw)
