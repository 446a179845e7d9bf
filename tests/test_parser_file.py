"""The parser file: what it accepts, and what it says of what it does not."""

from __future__ import annotations

import json
import random
import re
import unittest
from unittest import mock

import jsonschema
import yaml
from ruamel.yaml import YAML
from ruamel.yaml.error import YAMLError

import kinglet
from kinglet.insight.editor_schema import file_schema
from kinglet.ocsf.loading import load_model
from kinglet.spec import yaml_nodes
from kinglet.spec.document import MAX_BYTES, from_text
from kinglet.spec.ready import ready_parsers
from tests.helpers import PUMP, ROOT, InFolder, with_pattern

REPLACED = [
    # what is replaced in a good file, with what, and what the error must say
    ("pattern: 'setpoint", "patern: 'setpoint", "variants[0].patern: no such key; did you mean `pattern`?"),
    ("version: 1.2.0", "version: latest", "4:10: version: 'latest' is not in the right form; write it like `1.2.0`"),
    ("version: 1.2.0", "version: 1.2", 'is the number 1.2; must be text: put it in quotes, "1.2"'),
    ("version: 1.2.0", "version: 1.10", 'put it in quotes, "1.10"'),
    ("parser: pump-panel", "parser: 1e5", 'is the number 100000.0; must be text: put it in quotes, "1e5"'),
    ("kinglet: 1", "kinglet: 2", "2:10: kinglet: is 2; must be 1"),
    ("parser: pump-panel\n", "", "the key `parser` is missing; add `parser: pump-panel`"),
    ("{tank:word}", "{tank:wrod}", "no such type `wrod`; did you mean `word`?"),
    ("{new:num}", "{old:num}", "the slot `old` stands here twice; call this one `old_2`"),
    ("{tank:word}", "{time_from:word}", "`time_from` is a name that Kinglet keeps for itself; call the field `log_"),
    ("{tank:word}", "{unit:word}", "`unit` is a slot of the envelope; call this one `unit_2`"),
    ("{tank:word}", "{tank:word", "`{tank:word {old:num}` is not a slot"),
    ("[[ from {client:ip}]]", "[[ from {client:ip}", "`[[` is not closed; end the optional part with `]]`"),
    ("(?P<verb>", "(?P<pump>", "does not compile: redefinition of group name"),
    ("start: '^", "start: '(?=x)^", "does not compile: look-around"),
    ("{pump: int,", "{pumps: int,", "the regex has no group `pumps`; did you mean `pump`?"),
    ("{pump: int,", "{pump: integer,", "no such type `integer`"),
    ("kind: code", "kind: cde", "the envelope has no slot `cde`; did you mean `code`?"),
    ("kind: 4102", "kind: setpoint", "'setpoint' can never be a value of `code`; `code` is a whole number"),
    (
        "{body:rest}'",
        "{body:word}'",
        "has no slot for the message; end it with `{body:rest}`, or call a slot `{body:text}`",
    ),
    ("from: stamp", "from: stmp", "no pattern has a slot `stmp`; did you mean `stamp`?"),
    ("%H:%M:%S", "%H:%Q", "has the unknown directive `%Q`"),
    ("%d/%b %H", "%H", "reads no date; add `date: previous` or `date: file`, or a month and a day to the format"),
    ('"%d/%b %H:%M:%S"', "iso860", "'iso860' is not a time format; did you mean `iso8601`?"),
    ("Atlantic/Azores", "Atlantic/Azore", "no such zone `Atlantic/Azore`; did you mean `Atlantic/Azores`"),
    ("year: nearest", "year: guess", "time[0].year"),
    ("Entity Management", "Entity Managment", "the model has no class `Entity Managment`; did you mean `Entity"),
    ("activity: Update", "activity: Updat", "`activity_id` has no value `Updat`; did you mean `Update`?"),
    ("src_endpoint.ip:", "src_endpoint.ipp:", "the object Network Endpoint has no attribute `ipp`"),
    ("entity.name: tank", "entity: tank", "`entity` is an object (Managed Entity); name one of its attributes"),
    ("entity.name: tank", "entity.name: tnk", "`tnk` is no field of this variant; did you mean `tank`?"),
    ("entity.name: tank", "entity.name: tank ||", "is not a SQL expression"),
    ("entity.name: tank", "message.text: tank", "`message` is a value (string_t), with no attribute `text`"),
    ("name: pump-state", "name: setpoint-changed", "a second variant `setpoint-changed`"),
    ("pump: int", "pump: num", None),
    ("(?P<verb>", "(?P<tank>", None),
    ("ran_s: int}", "ran_s: int}\n    pattern: x", "has both `pattern` and `regex`"),
    ("    regex: '^pump", "    note: '^pump", "variants[1]"),
    ("  start: '^", "  start: '^(", "events.start: does not compile: missing )"),
    ("  start:", "  max_bytes: 12 XB\n  start:", "is not a size such as `64 KiB`"),
    ("  start:", "  max_bytes: 1\n  start:", "must be at least 64"),
    ("product: {vendor: Brackwater, name: PumpPanel}", "product: Brackwater", "must be a mapping of keys to values"),
    ("parser: pump-panel", "parser: pump-panel\nparser: other", "stands here a second time (first on line 3)"),
    ("parser: pump-panel", "parser: !x pump-panel", "has the tag `!x`; parser files use plain values"),
]


class Errors(InFolder):
    def test_each_fault_is_named_with_its_place_and_its_remedy(self) -> None:
        for old, new, said in REPLACED:
            with self.subTest(new=new):
                self.assertIn(old, PUMP)
                path = self.write("pump.yaml", PUMP.replace(old, new, 1))
                if said is None:
                    self.assertTrue(kinglet.load(path).fields)
                    continue
                with self.assertRaises(kinglet.ParserFileError) as caught:
                    kinglet.load(path)
                self.assertIn(said, str(caught.exception))
                for problem in caught.exception.problems:
                    self.assertEqual(str(path), problem.place.file)
                    self.assertGreater(problem.place.line, 0)
                    self.assertGreater(problem.place.column, 0)

    def test_several_faults_are_told_together_in_file_order(self) -> None:
        text = PUMP.replace("iption", "").replace("{tank:word}", "{tank:wrod}").replace("Update", "Updat")
        with self.assertRaises(kinglet.ParserFileError) as caught:
            kinglet.load(text.replace("Azores", "Azore"))
        lines = [problem.place.line for problem in caught.exception.problems]
        self.assertEqual(3, len(lines))
        self.assertEqual(sorted(lines), lines)

    def test_the_caret_stands_under_the_place_in_the_regex(self) -> None:
        with self.assertRaises(kinglet.ParserFileError) as caught:
            kinglet.load(PUMP.replace("(?P<pump>\\d+)", "(?P<pump>\\d+"))
        problem = caught.exception.problems[0]
        _, regex, caret = str(problem).splitlines()
        self.assertEqual("(?P<pump>", regex[caret.index("^") :][:9])
        line = PUMP.splitlines()[problem.place.line - 1]
        self.assertTrue(line[problem.place.column - 1 :].startswith("(?P<pump>"))

    def test_the_column_is_exact_inside_a_pattern(self) -> None:
        text = PUMP.replace("{new:num}", "{new:nmu}")
        with self.assertRaises(kinglet.ParserFileError) as caught:
            kinglet.load(text)
        place = caught.exception.problems[0].place
        self.assertTrue(text.splitlines()[place.line - 1][place.column - 1 :].startswith("nmu}"))

    def test_a_field_has_one_type_in_all_variants(self) -> None:
        text = PUMP.replace("(?P<verb>started|stopped)", "(?P<tank>started|stopped)").replace(
            "{pump: int, ran_s: int}", "{pump: int, tank: bool}"
        )
        with self.assertRaisesRegex(kinglet.ParserFileError, "`tank` is true or false here and text in the variant"):
            kinglet.load(text)

    def test_what_is_no_parser_file_is_said_in_one_line(self) -> None:
        cases = {
            "a: b: c": "is not YAML: a second `: ` on the line; put the value in quotes",
            "just text": "is not a parser file; a parser file starts with `kinglet: 1`",
            "- 1": "is not a parser file",
            "": "is not a parser file",
            "\tkinglet: 1": "indent with blanks",
            "a: " + "[" * 70 + "]" * 70: "bad.yaml:1:64: has values in more than 60 levels, aliases written out",
            "a: " + "[" * 2000: "has values in more than 60 levels, aliases written out",
            "b: 1\na: \u2028": "bad.yaml:2:4: has the character \\u2028 as it is; write \\u2028 in double quotes",
            "a: 'x\x07'": "bad.yaml:1:6: has the character \\u0007 as it is",
            "a: &x [*x]": "has values in more than 60 levels, aliases written out",
        }
        for text, said in cases.items():
            with self.subTest(text=text):
                path = self.write("bad.yaml", text)
                with self.assertRaises(kinglet.ParserFileError) as caught:
                    kinglet.load(path)
                self.assertIn(said, str(caught.exception))
                self.assertEqual(1, len(caught.exception.problems))

    def test_files_that_are_not_there_or_not_text(self) -> None:
        self.write("latin.yaml", b"about: caf\xe9")
        (self.folder / "sub").mkdir()
        for name, said in {
            "nowhere.yaml": "no such parser file",
            "dpgk": "did you mean `dpkg`?",
            "latin.yaml": "latin.yaml:1:1: is not UTF-8 text",
            "sub": "is a folder",
        }.items():
            with self.subTest(name=name), self.assertRaises(kinglet.ParserFileError) as caught:
                kinglet.load(name)
            self.assertIn(said, str(caught.exception))

    def test_a_file_that_would_never_end_is_refused_at_once(self) -> None:
        bomb = "a: &a [x,x,x,x,x,x,x,x,x,x]\n" + "".join(
            f"{b}: &{b} [{','.join([f'*{a}'] * 10)}]\n" for a, b in zip("abcdefg", "bcdefgh", strict=True)
        )
        with self.assertRaisesRegex(kinglet.ParserFileError, "more than 200,000 values"):
            from_text(bomb, "bomb.yaml")
        with self.assertRaisesRegex(kinglet.ParserFileError, "larger than"):
            from_text("#" * (MAX_BYTES + 1), "large.yaml")


class Accepted(unittest.TestCase):
    def test_a_parser_comes_from_a_path_a_text_a_mapping_or_a_name(self) -> None:
        by_text = kinglet.load(PUMP)
        by_mapping = kinglet.load(from_text(PUMP, "x").values)
        self.assertEqual(by_text.fields, by_mapping.fields)
        self.assertEqual("pump-panel", by_mapping.name)
        self.assertEqual("dpkg", kinglet.load("dpkg").name)

    def test_short_forms_mean_the_same_as_long_ones(self) -> None:
        text = with_pattern("{stamp:time} {body:rest}")
        short = kinglet.load(text + "events: line\ntime: {from: stamp, format: iso8601}\n")
        long = kinglet.load(text + "events: {max_bytes: 8 MiB}\ntime:\n  - from: stamp\n    format: [iso8601]\n")
        self.assertEqual(short._plan.cut, long._plan.cut)
        self.assertEqual(short._plan.times, long._plan.times)

    def test_places_survive_quotes_blocks_and_comments(self) -> None:
        document = from_text("a: 1  # note\nb:\n  - 'x'\n  - |\n    y\nc: {d: \"z\"}\n", "f.yaml")
        self.assertEqual((1, 4), (document.place(("a",)).line, document.place(("a",)).column))
        self.assertEqual(3, document.place(("b", 0)).line)
        self.assertEqual((6, 9), (document.inside(("c", "d"), 0).line, document.inside(("c", "d"), 0).column))
        self.assertEqual("y\n", document.values["b"][1])

    def test_dates_and_numbers_stay_what_was_written(self) -> None:
        values = from_text("a: 2026-03-05\nb: 007\nc: 1.50\nd: yes\ne: null\n", "f.yaml").values
        self.assertEqual({"a": "2026-03-05", "b": 7, "c": 1.5, "d": "yes", "e": None}, values)


class Words(unittest.TestCase):
    """Values as a YAML 1.2 library of its own reads them."""

    def test_a_word_without_quotes_means_what_it_does_in_yaml_1_2(self) -> None:
        rng = random.Random(19)
        pieces = re.split(
            " ", "0 1 7 8 12 + - _ . e E 0x 0o 0b a F t true True null ~ yes no on inf nan NaN : 1:20 # 07:08:09 T"
        )
        read = 0
        for _ in range(1500):
            word = "".join(rng.choice(pieces) for _ in range(rng.randint(1, 4)))
            text = f"a: {word}\nb: ['{word}', \"{word}\"]\n"
            try:
                wanted = YAML(typ="safe", pure=True).load(text)
            except (YAMLError, ValueError):
                continue
            with self.subTest(word=word):
                self.assertEqual(repr(wanted), repr(from_text(text, "x").values))
                read += 1
        self.assertGreater(read, 1000)

    def test_the_library_without_its_c_part_reads_the_same(self) -> None:
        pure = type("Pure", (yaml.SafeLoader,), {"yaml_implicit_resolvers": yaml_nodes._Loader.yaml_implicit_resolvers})
        files = [*(ROOT / "src" / "kinglet" / "demo").rglob("*.yaml"), ready_parsers()["sudo"]]
        wanted = [from_text(path.read_text(encoding="utf-8"), path.name) for path in files]
        with mock.patch.object(yaml_nodes, "_Loader", pure):
            found = [from_text(path.read_text(encoding="utf-8"), path.name) for path in files]
            for text in ("a: " + "[" * 70 + "]" * 70, "a: " + "[" * 2000):
                with self.assertRaisesRegex(kinglet.ParserFileError, "in more than 60 levels"):
                    from_text(text, "deep.yaml")
        self.assertEqual(wanted, found)

    def test_files_that_are_shipped_mean_the_same(self) -> None:
        for path in sorted((ROOT / "src" / "kinglet" / "demo").rglob("*.yaml")):
            text = path.read_text(encoding="utf-8")
            with self.subTest(file=path.name):
                wanted = YAML(typ="safe", pure=True)
                wanted.Constructor.add_constructor("tag:yaml.org,2002:timestamp", lambda _, node: node.value)
                # keys are text
                self.assertEqual(json.loads(json.dumps(wanted.load(text))), from_text(text, "x").values)


class PublishedSchema(unittest.TestCase):
    def test_it_is_a_valid_schema_that_accepts_good_files_and_refuses_bad_ones(self) -> None:
        schema = file_schema()
        jsonschema.Draft202012Validator.check_schema(schema)
        validator = jsonschema.Draft202012Validator(schema)
        good = from_text(PUMP, "x").values
        self.assertEqual([], list(validator.iter_errors(good)))
        bare = {**good, "envelope": {"json": True}, "variants": [{"name": "x", "kind": "a"}]}
        self.assertEqual([], list(validator.iter_errors(bare)))
        for bad in (
            {**good, "extra": 1},
            {**good, "variants": [{"name": "x", "json": True, "pattern": "x"}]},
            {key: value for key, value in good.items() if key != "product"},
            {**good, "variants": [{"name": "x"}]},
            {**good, "event": {"class": "No Such Class"}},
        ):
            self.assertTrue(list(validator.iter_errors(bad)))

    def test_it_accepts_every_parser_that_the_documents_and_the_demo_have(self) -> None:
        validator = jsonschema.Draft202012Validator(file_schema())
        texts = [path.read_text() for path in (ROOT / "src" / "kinglet").rglob("*.yaml")]
        own = "class: Winch Activity"
        texts = [text for text in texts if text.startswith("kinglet: 1") and own not in text]
        for path in sorted((ROOT / "docs").glob("*.md")):
            fences = re.findall(r"```yaml[^\n]*\n(.*?)```", path.read_text(), re.DOTALL)
            texts += [text for text in fences if text.startswith("kinglet: 1")]
        self.assertGreater(len(texts), 25)
        for text in texts:
            with self.subTest(parser=text[11:40]):
                self.assertEqual([], [error.message for error in validator.iter_errors(from_text(text, "x").values)])
        folder = ROOT / "src" / "kinglet" / "demo" / "model"
        extended = jsonschema.Draft202012Validator(file_schema(load_model(folder / "harbour.yaml")))
        values = from_text((folder / "winch-audit.yaml").read_text(), "x").values
        self.assertTrue(list(validator.iter_errors(values)))
        self.assertEqual([], list(extended.iter_errors(values)))

    def test_it_refuses_steps_that_do_nothing_or_two_things(self) -> None:
        validator = jsonschema.Draft202012Validator(file_schema())
        good = from_text(PUMP, "x").values
        for step, is_good in (
            ({"drop": "tide"}, True), ({"note": "x", "when": "a = 1", "off": True, "remove": "a"}, True),
            ({"note": "x"}, False), ({"drop": "tide", "remove": "a"}, False), ({"rename": "a"}, False),
            ({"parse": {"field": "a", "json": True}}, True), ({"parse": {"field": "a"}}, False),
            ({"parse": {"field": "a", "json": True, "parser": "x"}}, False), ({"raw": "keep"}, False),
        ):  # fmt: skip
            with self.subTest(step=step):
                self.assertEqual(is_good, not list(validator.iter_errors({**good, "steps": [step]})))

    def test_it_names_the_classes_of_the_model_for_completion(self) -> None:
        text = json.dumps(file_schema())
        self.assertIn("Authentication", text)
        self.assertIn('"examples"', text)
