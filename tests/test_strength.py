"""Strength, round trips and cost: what cases would notice, what comes back otherwise, where the time goes."""

from __future__ import annotations

import random
import unittest

import kinglet as package
from kinglet.demo.logs import log_bytes
from kinglet.errors import KingletError, UsageError
from kinglet.generating.walk import optional_parts, text_of, walked
from kinglet.parser import load_text
from kinglet.patterns.grammar import parse
from kinglet.regex.for_python import for_python
from kinglet.spec.document import from_text
from kinglet.strength.changes import changed, changes, written
from kinglet.strength.cost import cost
from kinglet.strength.mutating import strength
from kinglet.strength.round_trip import round_trip
from tests.helpers import ROOT, InFolder, kinglet
from tests.planted import DOOR, LOCK, TIDE

FORGE = """kinglet: 1
parser: forge
version: 1.0.0
product: {vendor: Quayline, name: Forge}
variants:
  - name: denied
    pattern: 'denied {user:text} from {client:ip} port {port:port}[[: {:rest}]]'
  - name: tagged
    pattern: 'tag={tag:word},{rest:word}'
  - name: saved
    pattern: 'saved {what:quoted} as {number:hex} {late:bool}'
"""


class Walked(unittest.TestCase):
    def test_texts_of_regexes_are_matched_by_them(self) -> None:
        rng = random.Random(7)
        for regex in (
            r"^pump (?P<n>\d+) (?:started|stopped)(?: after (?P<s>[0-9]{2,4})s)?$", r"[^\s,;]+,[A-F]{3}\.\d{1,2}",
            r"(?i:abc)[a-c]?", r"(?P<q>['\"])[^'\"]*(?P<r>x)", r"\w+@\w+\.example", r"(?:a|b|c){3,}", r"[\]\-^]x",
            r"\D\S\W", r"(?s:.*)end", r"x{0,3}y",
        ):  # fmt: skip
            for _ in range(20):
                text = text_of(regex, rng)
                assert text is not None
                self.assertIsNotNone(for_python(regex).search(text), (regex, text))

    def test_what_is_given_and_what_is_left_out(self) -> None:
        regex = r"^(?P<a>\w+)(?: (?P<b>\w+))?$"
        (part,) = optional_parts(regex)
        rng = random.Random(1)
        self.assertEqual(("x y", {"a": "x", "b": "y"}), walked(regex, rng, {"a": "x", "b": "y"}))
        self.assertEqual(("x", {"a": "x"}), walked(regex, rng, {"a": "x", "b": "y"}, lambda one: one != part))


class Changes(unittest.TestCase):
    def test_each_differs_and_nearly_all_can_be_loaded(self) -> None:
        for text in (LOCK, DOOR, TIDE):
            values = from_text(text, "x.yaml").values
            found = changes(values)
            self.assertEqual(len(found), len({(one.path, repr(one.value)) for one in found}))
            loaded = 0
            for one in found:
                other = changed(values, one)
                self.assertNotEqual(values, other, one)
                try:
                    package.load(other)
                    loaded += 1
                except KingletError:
                    continue
            self.assertGreater(loaded, 0.75 * len(found))
            self.assertEqual(from_text(text, "x.yaml").values, values)

    def test_every_kind_is_made(self) -> None:
        lock = LOCK.replace("raised|lowered", "raised|lowered|held")
        said = " ".join(one.what for text in (lock, DOOR, TIDE) for one in changes(from_text(text, "x").values))
        for words in (
            "without the optional part", "no longer optional", "of the wider type", "of the narrower type", "cannot be",
            "swapped", "any characters in place of digits", "is no longer its kind", "the zone", "without this step",
            "is not filled", "is not translated", "status ", "without the variant", "without the key",
        ):  # fmt: skip
            self.assertIn(words, said)

    def test_patterns_are_written_as_they_were(self) -> None:
        for text in ("a {b:int}[[ c {d}]] {@e} {x:in|out}{{", "[{a:word}] {y:num+text}"):
            again = written(parse(text))
            self.assertEqual(again, written(parse(again)))
            self.assertEqual([type(one) for one in parse(text)], [type(one) for one in parse(again)], again)


class Strength(InFolder):
    def test_what_no_case_expects_is_not_noticed_and_is_shown_to_differ(self) -> None:
        parser = load_text(LOCK, "lock.yaml")
        found = strength(parser)
        assert found.score is not None
        self.assertTrue(0 < found.score < 1)
        values = parser._document.values
        for one in found.survivors:
            change = next(
                change
                for change in changes(values)
                if change.what == one.what and parser._document.place(change.path) == one.place
            )
            other = package.load(changed(values, change))
            self.assertTrue(all(outcome.good for outcome in package.check_cases(other)), one)
            events = [reader.parse([one.raw], reference_time="2026-03-05") for reader in (parser, other)]
            models = [[*map(str, result.to_model())] for result in events]
            frames = [result.events.drop("id", "version").to_dicts() for result in events]
            self.assertTrue(frames[0] != frames[1] or models[0] != models[1], one)

    def test_a_case_that_expects_more_notices_more(self) -> None:
        before = strength(load_text(LOCK, "lock.yaml"))
        expects = "expect: {variant: pump-read, pump: 3, hours: 12.5}"
        more = expects + "\n    model: {entity.name: pump 3, entity.type: lock gate, device.name: G4, "
        more += "severity: Informational, activity_id: 2}"
        self.assertIn(expects, LOCK)
        after = strength(load_text(LOCK.replace(expects, more), "lock.yaml"))
        self.assertGreaterEqual(after.noticed - before.noticed, 5)
        self.assertEqual(after.noticed + len(after.survivors), before.noticed + len(before.survivors))

    def test_the_command(self) -> None:
        path = self.write("tide.yaml", TIDE)
        self.write(
            "t.log", "ts=1772674260000 dev=tide-1.example ev=ask user=t.varela src=203.0.113.7 level=1 result=ok\n"
        )
        called = kinglet("check", path, "--mutate", "--sample", "t.log", "--least", "10")
        self.assertEqual(0, called.status)
        self.assertRegex(called.out, r"tide-feed strength \d+%  \d+ of \d+ changes are noticed")
        weak = kinglet("check", path, "--mutate", "--json", "--least", "100")
        told = weak.json()["parsers"][0]["strength"]
        self.assertEqual(1, weak.status)
        self.assertAlmostEqual(told["noticed"] / (told["noticed"] + len(told["survivors"])), told["score"])
        for arguments, said in (
            (["--mutate", "--least", "101"], "101 is no score"),
            (["--least", "50"], "add --mutate"),
        ):
            wrong = kinglet("check", path, *arguments)
            self.assertEqual(2, wrong.status)
            self.assertIn(said, wrong.err)


class RoundTrips(InFolder):
    def test_what_comes_back_otherwise_is_shown_with_its_case(self) -> None:
        parser = load_text(FORGE, "forge.yaml")
        found = round_trip(parser, 60)
        self.assertEqual([("tagged", "tag")], [(one.variant, one.name) for one in found.broken])
        (broken,) = found.broken
        event = parser.parse([broken.raw]).events.row(0, named=True)
        self.assertEqual((broken.came, "tagged"), (event["tag"], event["variant"]))
        self.assertNotEqual(broken.put_in, broken.came)
        text = FORGE + "cases:\n" + "\n".join(broken.case) + "\n"
        (outcome,) = package.check_cases(load_text(text, "forge.yaml"))
        self.assertIn(("tag", broken.put_in), [(one.name, one.expected) for one in outcome.differences])

    def test_text_that_makes_up_what_stands_behind_it(self) -> None:
        found = round_trip(load_text(FORGE, "forge.yaml"), 30)
        forged = {(one.variant, one.name) for one in found.forged}
        self.assertIn(("denied", "user"), forged)
        anchored = FORGE.replace("[[: {:rest}]]", "")
        again = round_trip(load_text(anchored, "forge.yaml"), 30)
        self.assertNotIn("user", {one.name for one in again.forged if one.variant == "denied"})

    def test_good_parsers_give_back_all(self) -> None:
        for path in sorted((ROOT / "src" / "kinglet" / "demo" / "parsers").glob("*.yaml")):
            found = round_trip(package.load(path), 100)
            with self.subTest(parser=path.stem):
                self.assertEqual(([], []), (found.broken, found.forged))
                self.assertEqual(path.stem == "winch-audit", bool(found.left_out))

    def test_the_command(self) -> None:
        called = kinglet("check", self.write("forge.yaml", FORGE), "--generate", "50")
        self.assertEqual(1, called.status)
        self.assertIn("✗ tagged: tag", called.out)
        self.assertIn("· denied: user can make up what stands behind it", called.out)
        self.assertEqual(0, kinglet("check", self.write("lock.yaml", LOCK), "--generate", "50").status)
        called = kinglet("check", "lock.yaml", "--generate", "0")
        self.assertEqual(2, called.status)
        self.assertIn("0 is no number of events", called.err)
        with self.assertRaises(UsageError):
            round_trip(load_text(LOCK, "lock.yaml"), -1)

    def test_of_a_key_within_another_and_of_items_of_lists_none_is_made(self) -> None:
        for keys in ("who: who, name: who.name", "name: who.name, who: who", 'first: "files[1].sum"'):
            text = NESTED.replace("KEYS", keys)
            told = round_trip(load_text(text, "nested.yaml"), 20)
            self.assertEqual(([], ["any"]), (told.broken, told.left_out))
            self.assertIn(kinglet("check", self.write("nested.yaml", text)).status, (0, 1))

    def test_an_envelope_that_leaves_the_kind_out_makes_no_event_of_that_kind(self) -> None:
        told = round_trip(load_text(HEADLESS, "headless.yaml"), 60)
        self.assertEqual(([], []), (told.broken, told.left_out))
        self.assertGreater(told.made, 20)


NESTED = """
kinglet: 1
parser: nested
version: 1.0.0
product: {vendor: Quayline, name: Lock}
envelope: {json: true, keys: {KEYS}}
variants: [{name: any}]
"""
HEADLESS = r"""
kinglet: 1
parser: headless
version: 1.0.0
product: {vendor: Quayline, name: Lock}
envelope: {regex: '^(?:\[(?P<code>[A-Z]\d)\] |)(?P<body>[a-z].*)$'}
kind: code
variants:
  - {name: opened, kind: [A1, A2], pattern: 'opened by {user:word}'}
  - {name: said, pattern: '{said:low} water'}
types: {low: {regex: '[a-z]+'}}
"""


class Costs(InFolder):
    def test_shares_add_up_and_every_part_is_told(self) -> None:
        self.write("pump.log", log_bytes("pump-panel") * 20)
        parser = package.load(ROOT / "src" / "kinglet" / "demo" / "parsers" / "pump-panel.yaml")
        found = cost(parser, "pump.log")
        self.assertAlmostEqual(1, sum(part.share for part in found.stages), places=6)
        self.assertEqual(236 * 20, found.events)
        self.assertEqual({"setpoint-changed", "pump-state", "tank-level"}, {part.name for part in found.variants})
        self.assertEqual(found.events, sum(part.events for part in found.mappings))
        assert found.median is not None
        self.assertGreater(found.median, 0)

    def test_steps_and_slow_regexes(self) -> None:
        text = DOOR.replace(r"^refused (?P<user>\S+)", r"^refused (?!by)(?P<user>\S+)")
        self.write("door.yaml", text)
        self.write("d.log", "2026-03-03T22:12:41Z NORTH: refused t.varela 3 times\n" * 50)
        told = kinglet("check", "door.yaml", "--cost", "d.log", "--json").json()["parsers"][0]["cost"]
        self.assertIn("has look-around: event by event", told["variants"][0]["why"])
        self.assertEqual(["step 1, set (doors are printed in capitals)"], [part["name"] for part in told["steps"]])
        shown = kinglet("check", "door.yaml", "--cost", "d.log")
        self.assertIn("so few events that what a batch costs by itself is most of it", shown.out)
        self.assertLessEqual(max(map(len, shown.out.splitlines())), 100)

    def test_wrong_use(self) -> None:
        self.write("empty.log", "")
        self.write("door.yaml", DOOR)
        self.write("lock.yaml", LOCK)
        for arguments, said in (
            (["door.yaml", "--cost", "empty.log"], "empty.log: has no event"),
            (["door.yaml", "--cost", "none.log"], "none.log: no such file"),
            (["door.yaml", "lock.yaml", "--cost", "empty.log"], "--cost is about one parser, and here are 2"),
        ):
            called = kinglet("check", *arguments)
            self.assertEqual(2, called.status)
            self.assertIn(said, called.err)


if __name__ == "__main__":
    unittest.main()
