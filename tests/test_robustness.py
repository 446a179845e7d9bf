"""Whatever comes in, the counts add up and nothing falls over."""

from __future__ import annotations

import io
import json
import unittest
from contextlib import redirect_stdout

from hypothesis import given
from hypothesis import strategies as st
from rich.console import Console

import kinglet
from kinglet.cli.render import coverage_bar, few_colours, shown_value, state_colours, state_lines
from kinglet.errors import did_you_mean, window
from kinglet.insight.palette import FEW_STATES, STATES
from kinglet.insight.preview import preview
from kinglet.insight.visible import visible
from tests.helpers import PUMP, PUMP_LOG, examples

GOOD = PUMP_LOG.encode()
ANYTHING = st.binary(max_size=80) | st.sampled_from([GOOD, GOOD[:70], GOOD.replace(b" ", b"\t"), GOOD.upper()])


class Fuzz(unittest.TestCase):
    parser = kinglet.load(PUMP)

    @given(st.lists(ANYTHING, max_size=4))
    @examples(18)
    def test_every_event_has_a_state_a_model_and_a_preview(self, pieces: list[bytes]) -> None:
        data = b"31/Jan 00:00:00 readable so far\n" * 8 + b"\n".join(pieces)
        try:
            result = self.parser.parse(data, reference_time="2026-03-05")
        except kinglet.InputError as error:
            self.assertIn("is binary, not text", str(error))
            return
        counts = result.counts
        self.assertEqual(counts["events"], sum(count for state, count in counts.items() if state != "events"))
        self.assertEqual(counts["events"], len(list(result.to_model())))
        self.assertEqual(counts["events"], result.events.height)
        incomplete = result.events["faults"].list.len() > 0
        self.assertEqual((result.events["state"] != "complete").to_list(), incomplete.to_list())
        self.assertEqual(set(result.faults), {fault.fault for fault in preview(result).faults})
        self.assertIn("<div", result._repr_html_())

    @given(st.text(max_size=40))
    @examples(18)
    def test_a_parser_file_of_any_text_is_loaded_or_refused(self, text: str) -> None:
        try:
            kinglet.load(f"kinglet: 1\n{text}\n")
        except kinglet.ParserFileError as error:
            self.assertTrue(error.problems)

    @given(st.text(max_size=30))
    @examples(18)
    def test_any_pattern_is_compiled_or_refused(self, pattern: str) -> None:
        definition = {
            "kinglet": 1,
            "parser": "fuzz",
            "version": "1",
            "product": {"vendor": "a", "name": "b"},
            "variants": [{"name": "v", "pattern": pattern + "{x:word}"}],
        }
        try:
            parser = kinglet.load(definition)
        except kinglet.ParserFileError as error:
            self.assertIn("variants[0].pattern", str(error))
            return
        self.assertEqual(1, parser.parse(["some text"]).counts["events"])


class Rendering(unittest.TestCase):
    def setUp(self) -> None:
        self.counts = {"events": 3000, "complete": 2999, "partial": 1, "unmatched": 0, "dropped": 0}

    def test_shares_never_round_to_all_or_none(self) -> None:
        lines = [line.plain for line in state_lines(self.counts, STATES)]
        self.assertEqual(["complete  2,999  99.97 %", "partial       1   0.03 %", "unmatched     0      0 %"],
                         [line.strip(" █") for line in lines])  # fmt: skip
        bar = coverage_bar(self.counts, STATES, 40)
        self.assertEqual(40, len(bar.plain))
        self.assertEqual({STATES["complete"], STATES["partial"]}, {str(span.style) for span in bar.spans})

    def test_terminals_with_few_colours_get_colours_they_have(self) -> None:
        few, many = Console(color_system="standard"), Console(color_system="truecolor")
        self.assertEqual((True, False), (few_colours(few), few_colours(many)))
        self.assertEqual((FEW_STATES, STATES), (state_colours(few), state_colours(many)))

    def test_values_fit_and_controls_are_seen(self) -> None:
        self.assertEqual("abc…", shown_value("abcdefg", 4))
        self.assertEqual(("-", "true", "a⏎b"), (shown_value(None, 9), shown_value(True, 9), shown_value("a\nb", 9)))
        self.assertEqual("a␀b c", visible("a\x00b\tc"))

    def test_the_caret_stays_in_the_window(self) -> None:
        text = "x" * 500 + "!" + "y" * 500
        line, caret = window(text, 500, 60)
        self.assertLessEqual(len(line), 60)
        self.assertEqual("!", line[caret])
        self.assertEqual(("second", 2), window("first\nsecond\nthird", 8))

    def test_suggestions(self) -> None:
        self.assertEqual("did you mean `pattern`?", did_you_mean("patern", ["pattern", "kind"]))
        self.assertEqual("look", did_you_mean("qqq", ["pattern"], "look"))

    def test_core_modules_print_nothing(self) -> None:
        out = io.StringIO()
        with redirect_stdout(out):
            result = kinglet.load(PUMP).parse(PUMP_LOG, reference_time="2026-03-05")
            json.dumps(list(result.to_model()))
            preview(result)
            kinglet.check_cases(result.parser)
        self.assertEqual("", out.getvalue())
