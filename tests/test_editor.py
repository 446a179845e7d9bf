"""Help inside an editor: what is said of places, and a real client that speaks the protocol with the command."""

from __future__ import annotations

import asyncio
import sys
import tempfile
import time
import unittest
from pathlib import Path
from typing import Any

from lsprotocol import types as lsp
from pygls.lsp.client import LanguageClient

import kinglet as package
from kinglet.demo.writing import write_demo
from kinglet.editor.adding import with_case, with_variant
from kinglet.editor.completing import ALWAYS, completions
from kinglet.editor.hovering import hover
from kinglet.editor.lenses import lenses, sample_of, sampled_events
from kinglet.editor.notes import notes
from kinglet.editor.where import item_lines, where
from kinglet.ocsf.loading import load_model
from tests.helpers import InFolder, kinglet

HALF = """kinglet: 1
parser: gates
version: 1.0.0
product: {vendor: Brackwater, name: Sluice}
time: {from: stamp, format: iso8601}
envelope: '{stamp:time} {body:rest}'
variants:
  - name: opened
    pattern: 'gate {gate:int} opened by {user:word}'
    event:
      class: Authentication
      activity: Logon
      severity: Informational
      status: Success
      set:
        user.name: user
  - {name: shut, pattern: 'gate {gate:int} shut'}
"""


def at(text: str, mark: str) -> tuple[str, int, int]:
    """A text without a mark, and where it stood: line and column from 0."""
    before, _, after = text.partition(mark)
    return before + after, before.count("\n"), len(before.rpartition("\n")[2])


class Places(unittest.TestCase):
    def test_the_keys_above_a_place_of_a_half_written_file(self) -> None:
        for text, path, key, word in (
            ("ver|", (), "", "ver"),
            ("kind: co|", (), "kind", "co"),
            ("time:\n  - from: stamp\n    format: is|", ("time",), "format", "is"),
            ("variants:\n  - name: a\n    event:\n      set:\n        us|", ("variants", "event", "set"), "", "us"),
            ("variants:\n  - name: a\n    event: {class: Auth|", ("variants", "event"), "class", "Auth"),
            ("variants:\n  - name: a\n    event: {set: {user.name: u|", ("variants", "event", "set"), "user.name", "u"),
            ("variants:\n  - {name: a, pat|", ("variants",), "", "pat"),
            ("# note\nsteps:\n\n  - con|", ("steps",), "", "con"),
            ("cases:\n  - raw: x\n    expect: {variant: a, st|", ("cases", "expect"), "", "st"),
        ):
            found = where(*at(text, "|"))
            self.assertEqual((path, key, word), found[:3], text)

    def test_every_key_of_the_demo_is_where_yaml_says(self) -> None:
        with tempfile.TemporaryDirectory() as folder:
            write_demo(Path(folder))
            for path in Path(folder, "parsers").glob("*.yaml"):
                text = path.read_text(encoding="utf-8")
                document = package.load(path)._document
                for keys, place in document.keys.items():
                    if place.column > 60 or keys[0] == "cases":
                        continue
                    found = where(text, place.line - 1, place.column - 1)
                    names = tuple(name for name in keys[:-1] if isinstance(name, str))
                    self.assertEqual((names, ""), found[:2], (path.name, keys, place))
                    if len(keys) > 1 and isinstance(keys[1], int):
                        self.assertEqual(keys[1], found.item, (path.name, keys))

    def test_items_of_a_list(self) -> None:
        self.assertEqual([7, 16], item_lines(HALF, "variants"))
        self.assertEqual([], item_lines(HALF, "steps"))


class Said(unittest.TestCase):
    def words(self, marked: str) -> dict[str, Any]:
        old, new = marked.split(" => ")
        text, line, column = at(HALF.replace(old, new, 1), "|")
        return {one.text: one for one in completions(text, line, column, package.load(HALF))}

    def test_what_may_stand_there(self) -> None:
        for marked, wanted in (
            ("version: => ver|\nversion:", {"envelope", "steps", "claims"}),
            ("iso8601 => |iso8601", {"rfc3164", "epoch_ms", "iso8601"}),
            ("format: iso8601 => format: iso8601, zone: |", {"Europe/Lisbon", "Atlantic/Azores"}),
            ("{gate:int} opened => {gate:|} opened", {"int", "ip", "word"}),
            ("Authentication => |", {"Authentication", "Base Event"}),
            ("Logon => |", {"Logon", "Logoff"}),
            ("severity: Informational => severity: |", {"Informational", "Critical"}),
            ("name: user => name: |", {"user", "gate", "stamp"}),
            ("        user.name => |", set()),
            ("    pattern: 'gate {gate:int} opened =>     |", {"pattern", "regex", "event"}),
        ):  # fmt: skip
            self.assertLessEqual(wanted, set(self.words(marked)), marked)

    def test_attributes_that_are_required_come_first(self) -> None:
        text, line, column = at(HALF.replace("        user.name: user\n", "        user.name: user\n        |\n"), "|")
        found = completions(text, line, column, None)
        model = load_model()
        attributes = model.find_class("Authentication").attributes
        required = {name for name, one in attributes.items() if one.requirement == "required"} - {*ALWAYS}
        self.assertEqual(required, {one.text for one in found if one.first})
        text, line, column = at(HALF.replace("user.name: user\n", "src_endpoint.|\n"), "|")
        self.assertIn("src_endpoint.ip", {one.text for one in completions(text, line, column, None)})

    def test_hover(self) -> None:
        parser = package.load(HALF)
        events = parser.parse("2026-03-02T10:00:00Z gate 1 opened by okoro\n2026-03-02T10:00:01Z gate 2 shut\n").events
        for mark, said in (
            ("{|gate:int} opened", "in 2 of 2 events, 2 different: `1` (1), `2` (1)"),
            ("{us|er:word}", "**user**: a run of characters without blanks"),
            ("user.na|me: user", "(`user.name`): recommended, username_t"),
            ("    pat|tern: 'gate", "becomes"),
            ("    ev|ent:\n", "**event**"),
        ):
            text, line, column = at(HALF.replace(mark.replace("|", ""), mark, 1), "|")
            self.assertIn(said, hover(text, line, column, parser, events), mark)
        self.assertEqual("", hover("", 0, 0, None, None))

    def test_notes_and_their_mends(self) -> None:
        parser, found = notes(HALF.replace("{user:word}", "{user:wrd}").replace("Logon", "Logn"), "x.yaml")
        self.assertIsNone(parser)
        self.assertEqual({("wrd", "word"), ("Logn", "Logon")}, {one.mend for one in found})
        lines = HALF.replace("{user:word}", "{user:wrd}").replace("Logon", "Logn").split("\n")
        for one in found:
            self.assertIn(one.mend[0] if one.mend else "?", lines[one.line][one.column :])
        parser, found = notes(
            HALF + "cases:\n  - raw: 2026-03-02T10:00:00Z gate 1 shut\n    expect: {gate: 2}\n", "x.yaml"
        )
        self.assertIsNotNone(parser)
        self.assertIn(("error", 18, "gate: 1 instead of 2"), {(one.weight, one.line, one.message) for one in found})


class Added(InFolder):
    def test_cases_and_variants_from_a_line(self) -> None:
        line = "2026-03-02T10:00:00Z gate 4 opened by okoro"
        text = with_case(HALF, "x.yaml", line)
        stamp = "'2026-03-02T10:00:00Z'"
        self.assertIn(f"expect: {{variant: opened, time: {stamp}, stamp: {stamp}, gate: 4, user: okoro}}", text)
        self.write("x.yaml", text)
        self.assertTrue(all(outcome.good for outcome in package.check_cases(package.load("x.yaml"))))
        odd = "2026-03-02T10:00:00Z pump 7 broken"
        text = with_variant(HALF, "x.yaml", odd)
        self.write("x.yaml", text)
        self.assertEqual("complete", package.load("x.yaml").parse([odd]).events["state"][0])
        with self.assertRaisesRegex(package.UsageError, "`opened` reads this event already"):
            with_variant(HALF, "x.yaml", line)
        with self.assertRaisesRegex(package.UsageError, "the envelope does not match"):
            with_variant(HALF, "x.yaml", "no head")

    def test_samples_and_lenses(self) -> None:
        self.write("gates.log", "2026-03-02T10:00:00Z gate 4 opened by okoro\n2026-03-02T10:00:00Z gate 4 shut\n" * 3)
        text = "# sample: gates.log\n" + HALF
        self.write("x.yaml", text)
        path = sample_of(text, "x.yaml")
        self.assertEqual(Path("gates.log"), path)
        self.assertEqual([None, path], [sample_of(HALF, "x.yaml", setting) for setting in (None, "gates.log")])
        assert path is not None
        parser = package.load("x.yaml")
        found = lenses(text, parser, sampled_events(parser, path))
        self.assertEqual([(8, "3 of 6 events; no case"), (17, "3 of 6 events; no case")], [tuple(one) for one in found])


class Protocol(unittest.TestCase):
    """A client and the command, over standard input and output."""

    async def begin(self) -> None:
        self.folder = tempfile.TemporaryDirectory()
        self.logs = write_demo(Path(self.folder.name))
        self.client = LanguageClient("test", "1")
        self.notes: list[lsp.PublishDiagnosticsParams] = []
        self.edits: list[lsp.ApplyWorkspaceEditParams] = []

        def published(params: lsp.PublishDiagnosticsParams) -> None:
            self.notes.append(params)

        def applied(params: lsp.ApplyWorkspaceEditParams) -> lsp.ApplyWorkspaceEditResult:
            self.edits.append(params)
            return lsp.ApplyWorkspaceEditResult(True)

        client: Any = self.client
        client.feature(lsp.TEXT_DOCUMENT_PUBLISH_DIAGNOSTICS)(published)
        client.feature(lsp.WORKSPACE_APPLY_EDIT)(applied)
        await self.client.start_io(sys.executable, "-m", "kinglet", "language-server")
        await self.client.initialize_async(lsp.InitializeParams(lsp.ClientCapabilities(), root_uri=None))
        self.client.initialized(lsp.InitializedParams())

    async def end(self) -> None:
        await self.client.shutdown_async(None)
        self.client.exit(None)
        client: Any = self.client
        await client.stop()
        self.folder.cleanup()

    def opened(self, text: str) -> str:
        uri = Path(self.folder.name, "parsers", "pump-panel.yaml").resolve().as_uri()
        self.client.text_document_did_open(lsp.DidOpenTextDocumentParams(lsp.TextDocumentItem(uri, "yaml", 1, text)))
        return uri

    def test_a_session(self) -> None:
        async def whole() -> None:
            await self.begin()
            try:
                await self.session()
            finally:
                await self.end()

        asyncio.run(whole())

    async def session(self) -> None:
        path = Path(self.folder.name, "parsers", "pump-panel.yaml")
        text = "# sample: ../logs/pump-panel.log\n" + path.read_text(encoding="utf-8")
        uri = self.opened(text.replace("{new:num}", "{new:nmu}"))
        document = lsp.TextDocumentIdentifier(uri)
        line = next(i for i, own in enumerate(text.split("\n")) if "{new:num}" in own)
        actions = await self.client.text_document_code_action_async(lsp.CodeActionParams(
            document, lsp.Range(lsp.Position(line, 0), lsp.Position(line, 9)), lsp.CodeActionContext([])))  # fmt: skip
        assert actions and isinstance(actions[0], lsp.CodeAction) and actions[0].edit and actions[0].edit.changes
        self.assertEqual(["num"], [edit.new_text for edit in actions[0].edit.changes[uri]])
        self.assertEqual(
            ["no such type `nmu`; did you mean `num`?"], [one.message for one in self.notes[-1].diagnostics]
        )
        changes: Any = [lsp.TextDocumentContentChangeWholeDocument(text)]
        self.client.text_document_did_change(
            lsp.DidChangeTextDocumentParams(lsp.VersionedTextDocumentIdentifier(2, uri), changes)
        )
        found = await self.client.text_document_code_lens_async(lsp.CodeLensParams(document))
        self.assertEqual("25 of 236 events; 3 of 3 cases good", (found or [])[0].command.title)  # type: ignore[union-attr]
        self.assertEqual(
            [], [one for one in self.notes[-1].diagnostics if one.severity == lsp.DiagnosticSeverity.Error]
        )
        begun = time.perf_counter()
        column = text.split("\n")[line].index("{new:num}") + 2
        said = await self.client.text_document_hover_async(lsp.HoverParams(document, lsp.Position(line, column)))
        assert said is not None and isinstance(said.contents, lsp.MarkupContent)
        self.assertIn("in 25 of 236 events", said.contents.value)
        where_now = lsp.CompletionParams(document, lsp.Position(line, column + 4))
        items: Any = await self.client.text_document_completion_async(where_now)
        self.assertIn("num", [item.label for item in getattr(items, "items", items)])
        self.assertLess(time.perf_counter() - begun, 5)
        raw = "02/Mar 04:59:37 P01 PMP/4001 pump 4 started"
        await self.client.workspace_execute_command_async(lsp.ExecuteCommandParams("kinglet.addCase", [uri, raw]))
        new = next(iter((self.edits[-1].edit.changes or {}).values()))[0].new_text
        self.assertIn(f"  - raw: '{raw}'\n    at: 2026-03-02\n", new)


class CommandLine(unittest.TestCase):
    def test_it_is_in_the_help(self) -> None:
        self.assertIn("language-server", kinglet("--help").out)
