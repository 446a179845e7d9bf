"""Previews, diagnoses, cases: what a person sees while writing a parser."""

from __future__ import annotations

import unittest

import kinglet
from kinglet.insight.cases import CaseDifference
from kinglet.insight.diagnosis import reasons
from kinglet.insight.palette import field_colours
from kinglet.insight.preview import preview
from kinglet.insight.spans import spans
from tests.helpers import PUMP, PUMP_LOG, with_pattern

HEAD = "03/Mar 22:10:41 P04 PMP/"

CASES = """
cases:
  - raw: '03/Mar 22:10:41 P04 PMP/4102 setpoint T2 40.0 -> 85.5 by m.okoro from 192.0.2.14'
    at: 2026-03-05
    expect: %s
"""


class Spans(unittest.TestCase):
    def test_fields_and_their_characters(self) -> None:
        raw = f"{HEAD}4002 pump 3 stopped after 12s"
        found = {span.field: raw[span.start : span.end] for span in spans(kinglet.load(PUMP)._plan, raw, "pump-state")}
        self.assertEqual(
            {"stamp": "03/Mar 22:10:41", "unit": "P04", "code": "4002", "pump": "3", "verb": "stopped", "ran_s": "12"},
            found,
        )

    def test_an_event_that_did_not_match_has_those_of_its_front_part(self) -> None:
        plan = kinglet.load(PUMP)._plan
        self.assertEqual({"stamp", "unit", "code", "body"}, {span.field for span in spans(plan, f"{HEAD}9999 x", None)})
        self.assertEqual([], spans(plan, "nothing of the kind", None))

    def test_every_span_of_every_event_is_the_text_of_its_value(self) -> None:
        parser = kinglet.load(PUMP)
        for row in parser.parse(PUMP_LOG, reference_time="2026-03-05").events.iter_rows(named=True):
            for span in spans(parser._plan, row["raw"], row["variant"]):
                if isinstance(row[span.field], str):
                    self.assertEqual(row[span.field], row["raw"][span.start : span.end])


class Diagnoses(unittest.TestCase):
    def test_why_and_where(self) -> None:
        for raw, variant, fault, at, said in [
            (f"{HEAD}4102 setpoint T2 hot", None, "no-variant", "hot",
             "setpoint-changed reads up to column 42, then expects `{old:num}`"),
            (f"{HEAD}4102 setpoint T2 4 => 5 by x", None, "no-variant", "=> 5 by x", "expects `->` and finds `=> 5"),
            (f"{HEAD}4102 setpoint", None, "no-variant", "", "then expects a blank and the line ends"),
            (f"{HEAD}4001 pump 3 started now", None, "no-variant", " now", "pump-state reads up to column 44"),
            (f"{HEAD}9999 x", None, "unknown-kind", "9999", "no variant has the kind 9999"),
            ("garbage", None, "no-match", "garbage", "the envelope does not match from the start"),
            (f"{HEAD}4102 setpoint T2 4 -> 5 by x from 999.1.1.1", "setpoint-changed", "bad-value:client", "999.1.1.1",
             "`999.1.1.1` is not an IPv4 or IPv6 address"),
            ("31/Feb 22:10:41 P04 PMP/4001 pump 3 started", "pump-state", "bad-time:stamp", "31/Feb 22:10:41",
             "has the day 31, which February lacks"),
            ("x", None, "no-time", "x", "no stamp where the time rules look"),
            ("x", None, "too-long", "x", "longer than `events.max_bytes`"),
        ]:  # fmt: skip
            with self.subTest(raw=raw):
                (found,) = reasons(kinglet.load(PUMP)._plan, raw, variant, [fault])
                self.assertIn(said, found.message)
                if at:
                    self.assertEqual(at, raw[found.start : found.end])

    def test_the_nearest_of_several_variants_is_named(self) -> None:
        text = (
            with_pattern("pump {n:int} started") + "  - {name: stop, pattern: 'pump {n:int} stopped after {s:int}s'}\n"
        )
        (found,) = reasons(kinglet.load(text)._plan, "pump 3 stopped after a while", None, ["no-match"])
        self.assertIn("stop reads up to column 22, then expects `{s:int}`", found.message)


class Previews(unittest.TestCase):
    def setUp(self) -> None:
        self.result = kinglet.load(PUMP).parse(PUMP_LOG * 3, reference_time="2026-03-05")

    def test_each_variant_is_shown_before_any_is_shown_twice(self) -> None:
        shown = preview(self.result, show=3)
        self.assertEqual([1, 2, 5], [event.line for event in shown.events])
        self.assertEqual(["setpoint-changed", "pump-state"], [table.variant for table in shown.values])
        self.assertEqual((6, [1, 4, 9]), (shown.values[0].count, shown.values[0].lines))

    def test_faults_are_counted_and_shown(self) -> None:
        faults = {fault.fault: fault.count for fault in preview(self.result, examples=1).faults}
        self.assertEqual({"bad-time:stamp": 3, "bad-value:client": 3, "no-variant": 3, "unknown-kind": 3}, faults)

    def test_a_state_alone(self) -> None:
        shown = preview(self.result, only="complete")
        self.assertEqual({"complete"}, {event.state for event in shown.events})
        self.assertEqual([], shown.faults)
        self.assertEqual([], preview(self.result, only="unmatched").events)

    def test_a_notebook_shows_marked_events_and_nothing_that_the_log_could_inject(self) -> None:
        html = (
            kinglet.load(with_pattern("{a:word} {b:rest}")).parse(["<b>x</b> <script>alert(1)</script>"])._repr_html_()
        )
        self.assertIn("&lt;script&gt;", html)
        self.assertNotIn("<script", html)
        self.assertEqual(html.count("<div"), html.count("</div>"))
        self.assertIn("bad-value:client", self.result._repr_html_())

    def test_colours_repeat_only_after_all_were_used(self) -> None:
        colours = field_colours([f"f{i}" for i in range(13)])
        self.assertEqual(12, len(set(colours.values())))
        self.assertEqual(colours["f0"], colours["f12"])


class Cases(unittest.TestCase):
    def differences(self, expect: str) -> tuple[CaseDifference, ...]:
        (outcome,) = kinglet.check_cases(kinglet.load(PUMP + CASES % expect))
        self.assertEqual(outcome.good, not outcome.differences)
        return outcome.differences

    def test_good_cases(self) -> None:
        for expect in (
            "{variant: setpoint-changed, tank: T2, new: 85.5, old: 40, client: 192.0.2.14}",
            "{time: 2026-03-03T23:10:41Z, pump: null, line: 1}",
            "{time: '2026-03-04T00:10:41+01:00', state: complete, faults: ''}",
        ):
            with self.subTest(expect=expect):
                self.assertEqual((), self.differences(expect))

    def test_each_difference_is_said(self) -> None:
        for expect, name, hint in [
            ("{tank: T3}", "tank", ""),
            ("{code: '4102'}", "code", "the same text, but a whole number where text was expected"),
            ("{tnak: T2}", "tnak", "no such field; did you mean `tank`?"),
            ("{pump: 1}", "pump", ""),
            ("{time: 2026-03-03T22:10:41Z}", "time", ""),
            ("{state: partial}", "state", ""),
        ]:
            with self.subTest(expect=expect):
                (found,) = self.differences(expect)
                self.assertEqual((name, hint), (found.name, found.hint))

    def test_the_smallest_difference_comes_first(self) -> None:
        found = self.differences("{user: nobody at all, client: 192.0.2.15, tank: T2}")
        self.assertEqual(["client", "user"], [item.name for item in found])
        self.assertEqual(9, found[0].column)
        found = self.differences("{client: 192.0.2.15, variant: pump-state}")
        self.assertEqual("variant", found[0].name)

    def test_a_case_whose_event_is_not_complete_fails_unless_it_says_so(self) -> None:
        text = PUMP + "cases:\n  - {raw: '03/Mar 22:10:41 P04 PMP/9999 x', expect: {unit: P04}}\n"
        (outcome,) = kinglet.check_cases(kinglet.load(text))
        self.assertEqual("partial (unknown-kind)", outcome.differences[0].got)
        text = text.replace("expect: {", "expect: {state: partial, ")
        self.assertTrue(kinglet.check_cases(kinglet.load(text))[0].good)

    def test_mapped_attributes_can_be_expected(self) -> None:
        text = PUMP + CASES % "{}" + "    model: {type_uid: 300403, actor.user.name: m.okoro, unmapped.code: 4102}\n"
        self.assertTrue(kinglet.check_cases(kinglet.load(text))[0].good)
        (outcome,) = kinglet.check_cases(kinglet.load(text.replace("m.okoro, unm", "a.pires, unm")))
        self.assertEqual(("actor.user.name", "a.pires", "m.okoro"), (
            outcome.differences[0].name, outcome.differences[0].expected, outcome.differences[0].got))  # fmt: skip

    def test_a_case_has_the_place_of_its_own(self) -> None:
        text = PUMP + CASES % "{tank: T9}"
        (outcome,) = kinglet.check_cases(kinglet.load(text))
        self.assertIn("setpoint T2", text.splitlines()[outcome.place.line - 1])
        with self.assertRaisesRegex(kinglet.ParserFileError, "cases\\[0\\].at: 'soon' is not a date"):
            kinglet.load(text.replace("at: 2026-03-05", "at: soon"))
