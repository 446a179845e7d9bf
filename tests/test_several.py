"""Several parsers over one log: who reads what, in which order it goes out, and what nobody reads."""

from __future__ import annotations

import bz2
import gzip
import json
import os
import random
import threading
import time
import unittest
from collections import Counter
from pathlib import Path
from typing import Any
from unittest import mock

import polars as pl

import kinglet
from kinglet.demo.logs import LOGS, log_bytes, log_text
from kinglet.parser_set import ParserSet
from kinglet.runtime.candidate_parsers import CandidateFinder, of_path, required_texts
from tests.helpers import ROOT, InFolder, with_pattern
from tests.helpers import kinglet as command

DEMO = ROOT / "src" / "kinglet" / "demo" / "parsers"
HEAD = "kinglet: 1\nparser: %s\nversion: 1.0.0\nproduct: {vendor: Quayline, name: Doors}\n"
GATE = HEAD % "gate" + "variants: [{name: opened, pattern: 'gate {code:int} opened by {user:word}'}]\n"
PUMP = HEAD % "pump" + "variants: [{name: started, pattern: 'pump {code:word} started'}]\n"
LINES = ["gate 4 opened by m.okoro", "pump p-3 started", "gate x opened", "else", "gate 5 opened by a.pires"]


def mixed_log() -> str:
    """Lines of three devices as a collector writes them, and one of nobody."""
    lines = [line for name in ("pump-panel", "slipway-vpn", "jump-host") for line in log_text(name).splitlines()] + [
        "nobody wrote this"
    ]
    random.Random(5).shuffle(lines)
    return "\n".join(lines) + "\n"


def columns(result: kinglet.Result) -> list[dict[str, Any]]:
    """The events but for where they come from."""
    return result.events.drop("file", "id", strict=False).to_dicts()


class Sets(InFolder):
    def two(self) -> ParserSet:
        return ParserSet([kinglet.load(GATE), kinglet.load(PUMP)])

    def test_each_event_goes_to_the_parser_that_reads_it(self) -> None:
        result = self.two().parse(LINES)
        self.assertEqual(["gate", "pump", "unclaimed", "unclaimed", "gate"], result.events["parser"].to_list())
        self.assertEqual(["4", "p-3", None, None, "5"], result.events["code"].to_list())  # a number here, text there
        self.assertEqual([[], [], ["no-parser"], ["no-parser"], []], result.events["faults"].to_list())
        self.assertEqual({"events": 5, "complete": 3, "partial": 0, "unmatched": 2, "dropped": 0}, result.counts)
        self.assertEqual(["gate", "unclaimed", "pump"], list(result.by_parser))
        self.assertEqual(LINES, result.events["raw"].to_list())
        self.assertEqual(5, result.events["id"].n_unique())

    def test_the_best_reading_wins_and_of_equals_the_first(self) -> None:
        generic = (
            HEAD % "generic"
            + "envelope: '{w:word} {body:rest}'\nvariants: [{name: any, pattern: '{x:int} {y:rest}'}]\n"
        )
        some = ParserSet([kinglet.load(generic), kinglet.load(GATE)])
        events = some.parse(LINES).events
        self.assertEqual(["gate", "unclaimed", "unclaimed", "unclaimed", "gate"], events["parser"].to_list())
        first = ParserSet([kinglet.load(GATE), kinglet.load(GATE.replace("parser: gate", "parser: other"))])
        self.assertEqual({"gate", "unclaimed"}, set(first.parse(LINES).events["parser"]))

    def test_an_envelope_alone_yields_to_a_known_variant(self) -> None:
        hull = (
            HEAD % "hull"
            + "envelope: 'deck {host:word} {body:rest}'\nvariants: [{name: x, pattern: 'never {n:int}'}]\n"
        )
        lamp = HEAD % "lamp" + "variants: [{name: lamp, pattern: 'deck lamp {n:int} lit'}]\n"
        lamp = lamp.replace("}]", "}, {name: buoy, pattern: 'deck buoy {a:ip} lit'}]")
        pump = PUMP.replace("'pump {", "'deck pump {")
        some = [kinglet.load(hull), kinglet.load(pump), kinglet.load(lamp)]
        lines = [
            "deck pump p-3 started",
            "deck lamp 7 lit",
            "deck lamp x lit",
            "deck bell 9",
            "deck buoy 999.0.2.1 lit",
        ]
        for parsers in (some, some[::-1]):
            events = ParserSet(parsers).parse(lines).events
            self.assertEqual(["pump", "lamp", "hull", "hull", "lamp"], events["parser"].to_list())
            self.assertEqual(["complete"] * 2 + ["partial"] * 3, events["state"].cast(pl.String).to_list())

    def test_outputs_keep_the_order_of_the_log(self) -> None:
        self.write("gate.yaml", GATE)
        self.write("pump.yaml", PUMP + "steps: [{when: code = 'p-4', drop: test}]\n")
        log = self.write("mixed.log", "\n".join([*LINES, "pump p-4 started"]))
        for suffix in ("ndjson", "csv", "parquet", "arrow"):
            for form in ("fields", "model"):
                called = command("run", "-p", self.folder, log, "-o", f"out.{suffix}", "--as", form)
                self.assertEqual(0, called.status, called.err)
        called = command("run", "-p", "gate.yaml", "-p", "pump.yaml", log, "-o", "out.ndjson")
        self.assertIn("5 of 6 events", called.err)
        self.assertIn("parser          events   complete  unmatched    dropped", called.err)
        self.assertIn("pump                 2          1          0          1", called.err)
        lines = [json.loads(line) for line in Path("out.ndjson").read_text().splitlines()]
        self.assertEqual(LINES, [line["raw"] for line in lines])
        self.assertEqual([4, "p-3", None, None, 5], [line.get("code") for line in lines])
        command("run", "-p", self.folder, log, "-o", "out.parquet")
        self.assertEqual(LINES, pl.read_parquet("out.parquet")["raw"].to_list())
        told = command("run", "-p", self.folder, log, "-o", "out.csv", "--json").json()
        self.assertEqual({"gate", "pump", "unclaimed"}, {item["parser"] for item in told["parsers"]})

    def test_what_cannot_be_a_set(self) -> None:
        self.write("a.yaml", GATE)
        self.write("b.yaml", GATE)
        (self.folder / "empty").mkdir()
        log = self.write("a.log", "x\n")
        for folder, said in {".": "a second parser `gate`", "empty": "has no parser file"}.items():
            called = command("run", "-p", folder, log, "-o", "out.csv")
            self.assertEqual(2, called.status)
            self.assertIn(said, called.err)
        self.assertIn(
            "is empty", command("run", "-p", "a.yaml", "-p", "dpkg", self.write("e.log", ""), "-o", "o.csv").err
        )

    def test_what_comes_through_a_pipe_is_read_as_the_file_it_comes_from(self) -> None:
        form = "time: {from: stamp, format: iso8601}\nvariants: [{name: any, pattern: '{stamp:time} {body:rest}'}]\n"
        claiming = kinglet.load(HEAD % "tide" + "claims: {contains: [low tide]}\n" + form)
        both = ParserSet([claiming, kinglet.load(GATE)])
        for text in ("berth free", "low tide é"):
            lines = "".join(f"2026-03-05T10:00:00Z {text}\ngate {number} opened by a.pires\n" for number in range(3000))
            for name, data in {
                "short": lines[:400].encode(),
                "long": lines.encode(),
                "packed": gzip.compress(lines.encode()),
                "in blocks": bz2.compress((lines + f"# {random.Random(1).randbytes(200_000).hex()}\n").encode()),
                "damaged": bz2.compress(lines.encode())[:-9],
                "empty": b"",
            }.items():
                with self.subTest(text=text, name=name):
                    Path("log").write_bytes(data)
                    self.assertEqual(columns(both.parse("log")), columns(self.through_a_pipe(both, data)))

    def through_a_pipe(self, parsers: ParserSet, data: bytes) -> kinglet.Result:
        """What comes of a log whose first lines stand there before the others."""
        reader, writer = os.pipe()

        def write() -> None:
            with open(writer, "wb", buffering=0) as stream:
                stream.write(data[:90])
                time.sleep(0.01)
                stream.write(data[90:])

        thread = threading.Thread(target=write)
        thread.start()
        result = parsers.parse(f"/dev/fd/{reader}")
        thread.join()
        os.close(reader)
        return result


class Openings(InFolder):
    """Small logs: each is opened once, and what is wrong with one touches no other."""

    def test_a_small_log_is_opened_once(self) -> None:
        parsers = kinglet.load_set(ROOT / "src" / "kinglet" / "demo" / "parsers")
        folder = self.folder / "logs"
        folder.mkdir()
        for i, name in enumerate(LOGS):
            (folder / f"{i}-{name}").write_bytes(log_bytes(name)[:20_000])
        opened: Counter[str] = Counter()
        before = Path.open

        def counting(path: Path, *arguments: Any, **named: Any) -> Any:
            opened[path.name] += 1
            return before(path, *arguments, **named)

        with mock.patch.object(Path, "open", counting):
            result = parsers.parse(folder)
        self.assertEqual({path.name: 1 for path in folder.iterdir()}, dict(opened))
        self.assertGreater(result.counts["complete"], 100)

    def test_a_packed_log_that_ends_early_among_others(self) -> None:
        parser = kinglet.load(with_pattern("{a:rest}"))
        packed = gzip.compress("".join(f"gate {i} {i * 7919 % 1000}\n" for i in range(200)).encode())
        self.write("a.log", "one\ntwo\n")
        self.write("b.log.gz", packed[: len(packed) // 2])
        self.write("c.log", "three\n")
        together = parser.parse(self.folder).events
        alone = pl.concat([parser.parse(self.folder / name).events for name in ("a.log", "b.log.gz", "c.log")])
        self.assertEqual(alone["raw"].to_list(), together["raw"].to_list())
        self.assertEqual(alone["faults"].to_list(), together["faults"].to_list())
        self.assertEqual(1, sum("cut-off" in faults or "damaged" in faults for faults in together["faults"]))


class Choosing(unittest.TestCase):
    def test_text_that_tells_an_event(self) -> None:
        named = {name: required_texts(kinglet.load(DEMO / f"{name}.yaml")._plan) for name in LOGS}
        self.assertEqual((" PMP/",), named["pump-panel"])
        self.assertEqual(("event=",), named["slipway-vpn"])
        self.assertEqual(('"time"',), named["manifest-store"])
        self.assertIsNone(named["resolver"])
        chooser = CandidateFinder([kinglet.load(GATE)._plan, kinglet.load(PUMP)._plan])
        self.assertEqual([[0], [1], None, None, [0]], chooser.by_text(pl.Series(LINES)).to_list())
        both = chooser.by_text(pl.Series(["gate 4 opened by x pump y started"]))
        self.assertEqual([[0, 1]], both.to_list())

    def test_a_key_tells_only_where_every_event_has_it(self) -> None:
        kinds = HEAD % "doors" + (
            "envelope: {json: true, keys: {door_kind: door_kind}}\nkind: door_kind\n"
            "variants: [{name: lock, kind: lock}%s]\n"
        )
        logs = ['{"door_kind": "lock", "gate": 4}', '{"gate": 5}', "pump p-3 started"]
        for more, told, read in (
            ("", ('"door_kind"',), ["lock", "NULL", "started"]),
            (", {name: other}", None, ["lock", "other", "started"]),
        ):
            parser = kinglet.load(kinds % more)
            self.assertEqual(told, required_texts(parser._plan))
            events = ParserSet([kinglet.load(PUMP), parser]).parse(logs).events
            self.assertEqual(read, events["variant"].fill_null("NULL").to_list())

    def test_paths_claim_logs(self) -> None:
        claiming = PUMP.replace("variants", "claims: {path: '*pump*'}\nvariants")
        some = ParserSet([kinglet.load(GATE), kinglet.load(claiming)])
        self.assertEqual([1], of_path(some.mixer.parsers, "a/pump.log"))
        self.assertEqual([], of_path(some.mixer.parsers, "all.log"))

    def test_of_parsers_that_read_equally_well_the_one_has_it_that_claims_the_log(self) -> None:
        log = b"gate 4 opened by a.pires\n" * 2
        first, second = GATE.replace("parser: gate", "parser: a"), GATE.replace("parser: gate", "parser: b")
        self.assertEqual({"a"}, set(ParserSet([kinglet.load(first), kinglet.load(second)]).parse(log).events["parser"]))
        for text, owner in {"gate 4": "b", "gate 5": "a"}.items():
            claiming = second.replace("variants", f"claims: {{contains: [hatch, '{text}']}}\nvariants")
            some = ParserSet([kinglet.load(first), kinglet.load(claiming)])
            with self.subTest(text=text):
                self.assertEqual({owner}, set(some.parse(log).events["parser"]))

    def test_who_reads_anything_has_it_only_where_a_claim_says_so(self) -> None:
        form = "time: {from: stamp, format: iso8601}\nvariants: [{name: any, pattern: '{stamp:time} {body:rest}'}]\n"
        claiming = kinglet.load(HEAD % "tide" + "claims: {contains: [low tide]}\n" + form)
        gate = kinglet.load(GATE)
        both = ParserSet([claiming, gate])
        stranger, known = (
            both.parse([f"2026-03-05T10:00:0{i}Z {text}" for i in range(3)]).events["parser"].to_list()
            for text in ("berth free", "low tide at berth")
        )
        self.assertEqual([["unclaimed"] * 3, ["tide"] * 3], [stranger, known])
        # one that claims nothing may read anything
        free = kinglet.load(HEAD % "tide" + form)
        found = ParserSet([free, gate]).parse(["2026-03-05T10:00:00Z berth free"]).events
        self.assertEqual(["tide"], found["parser"].to_list())

    def test_the_log_is_cut_so_that_most_of_it_is_complete(self) -> None:
        blocks = (
            HEAD % "blocks"
            + 'events: blank-line\nvariants: [{name: b, pattern: "Record\\n{:block}", types: {door: int}}]\n'
        )
        some = ParserSet([kinglet.load(GATE), kinglet.load(blocks)])
        self.assertEqual(2, len(some.parse(b"Record\nDoor: 4\nState: open\n\nRecord\nDoor: 5\n").events))
        self.assertEqual(5, len(some.parse("\n".join(LINES).encode()).events))
        # of rules under which as much is complete, that of the most parsers counts
        most = ParserSet([kinglet.load(blocks), kinglet.load(GATE), kinglet.load(PUMP)])
        self.assertEqual(["x", "y"], most.parse(b"x\ny\n").events["raw"].to_list())


class DemoLogs(InFolder):
    def test_a_folder_of_logs_and_parsers_gives_what_each_parser_gives_alone(self) -> None:
        for name, form in LOGS.items():
            self.write(name + form.suffix, log_bytes(name))
        result = kinglet.load_set(DEMO).parse(self.folder, reference_time="2026-03-08")
        for name, form in LOGS.items():
            alone = kinglet.load(DEMO / f"{name}.yaml").parse(name + form.suffix, reference_time="2026-03-08").events
            mine = result.events.filter(pl.col("parser") == name)
            self.assertEqual(alone["raw"].to_list(), mine["raw"].to_list(), name)
            self.assertEqual(alone["time"].to_list(), mine["time"].to_list(), name)
            self.assertEqual(alone["faults"].to_list(), mine["faults"].to_list(), name)

    def test_one_log_of_many_devices(self) -> None:
        log = self.write("all.log", mixed_log())
        result = kinglet.load_set(DEMO).parse(log, reference_time="2026-03-08")
        expected = {name: len(log_text(name).splitlines()) for name in ("pump-panel", "slipway-vpn", "jump-host")}
        found = {name: counts["events"] for name, counts in result.by_parser.items()}
        self.assertEqual(expected | {"unclaimed": 1}, found)
        self.assertEqual(mixed_log().splitlines(), result.events["raw"].to_list())
        mapped = command("run", "-p", DEMO, log, "-o", "out.ndjson", "--as", "model", "--at", "2026-03-08")
        self.assertEqual(0, mapped.status)
        lines = [json.loads(line) for line in Path("out.ndjson").read_text().splitlines()]
        self.assertEqual(len(result.events), len(lines))
        self.assertEqual(mixed_log().splitlines(), [line["raw_data"] for line in lines])

    def test_any_number_of_threads_gives_the_same(self) -> None:
        log = self.write("all.log", mixed_log() * 8)
        for workers in ("1", "4"):
            called = command(
                "run", "-p", DEMO, log, "-o", f"{workers}.ndjson", "--at", "2026-03-08", "--workers", workers
            )
            self.assertIn("8,440 events", called.err)
        self.assertEqual(Path("1.ndjson").read_bytes(), Path("4.ndjson").read_bytes())


if __name__ == "__main__":
    unittest.main()
