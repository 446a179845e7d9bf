"""The Language Server Protocol over what an editor is told: documents come in, answers go out."""

from __future__ import annotations

import asyncio
from typing import Any
from urllib.parse import unquote, urlparse

import polars as pl
from lsprotocol import types as lsp
from pygls.lsp.server import LanguageServer

from kinglet.editor.adding import with_case, with_variant
from kinglet.editor.completing import completions
from kinglet.editor.hovering import hover
from kinglet.editor.lenses import cases_of, lenses, sample_of, sampled_events
from kinglet.editor.notes import Note, case_notes, first_notes
from kinglet.errors import KingletError
from kinglet.parser import Parser

SOURCE = "kinglet"
CASE, VARIANT = "kinglet.addCase", "kinglet.addVariant"
_WEIGHTS = {
    "error": lsp.DiagnosticSeverity.Error,
    "warning": lsp.DiagnosticSeverity.Warning,
    "advice": lsp.DiagnosticSeverity.Information,
}


_QUIET = 0.15
"""Seconds without a change after which a file is read."""
_STILL = 0.6
"""Seconds more after which its cases are run: a person types faster than they do."""


class _File:
    """A parser file that is open: its notes, the parser as it last could be loaded, and what that reads.

    settled: set while what is known is of the text as it stands.
    """

    def __init__(self) -> None:
        self.notes: list[Note] = []
        self.parser: Parser | None = None
        self.events: pl.DataFrame | None = None
        self.cases: dict[str, tuple[int, int]] = {}
        self.settled = asyncio.Event()
        self.changes = 0

    def changed(self, text: str, name: str, setting: str | None) -> bool:
        """Reads the file anew, and the sample with it; whether it can be loaded."""
        parser, self.notes = first_notes(text, name)
        sample = sample_of(text, name, setting)
        if parser is not None:
            self.parser = parser
            self.events = sampled_events(parser, sample) if sample is not None else None
        return parser is not None

    def tried(self, text: str) -> None:
        """Runs the cases, which takes longer."""
        if self.parser is not None:
            self.notes = case_notes(text, self.parser)
            self.cases = cases_of(self.parser)


class Server(LanguageServer):
    """A server with the files that are open. setting: the sample that the client names for all of them."""

    def __init__(self) -> None:
        super().__init__("kinglet", "1")
        self.files: dict[str, _File] = {}
        self.setting: str | None = None
        self.refreshes = False

    async def read(self, uri: str, wait: float = 0.0) -> None:
        """Reads an open file anew, aside, unless it changes meanwhile; its notes go to the client."""
        file = self.files.setdefault(uri, _File())
        file.settled.clear()
        file.changes += 1
        mine = file.changes
        await asyncio.sleep(wait)
        if mine != file.changes:
            return
        text = self.text(uri)
        loaded = await asyncio.to_thread(file.changed, text, path_of(uri), self.setting)
        if mine != file.changes:
            return
        if not loaded:
            self._publish(uri, file)
        await asyncio.sleep(_STILL if wait and loaded else 0)
        if mine != file.changes:
            return
        if loaded:
            await asyncio.to_thread(file.tried, text)
        if mine != file.changes:
            return
        self._publish(uri, file)
        file.settled.set()
        if self.refreshes:  # what stands above variants was answered by what was known before
            self.workspace_code_lens_refresh(None)

    def _publish(self, uri: str, file: _File) -> None:
        found = [_diagnostic(note) for note in file.notes]
        self.text_document_publish_diagnostics(lsp.PublishDiagnosticsParams(uri=uri, diagnostics=found))

    async def settled(self, uri: str) -> _File:
        """An open file, once what is known is of its text as it stands."""
        if uri not in self.files:
            await self.read(uri)
        await self.files[uri].settled.wait()
        return self.files[uri]

    def text(self, uri: str) -> str:
        """The text of an open file."""
        return self.workspace.get_text_document(uri).source


def path_of(uri: str) -> str:
    """The path of a file by its URI."""
    return unquote(urlparse(uri).path)


def _diagnostic(note: Note) -> lsp.Diagnostic:
    start = lsp.Position(note.line, note.column)
    end = lsp.Position(note.line, note.column + note.length)
    said = f"{note.message}; {note.hint}" if note.hint else note.message
    return lsp.Diagnostic(lsp.Range(start, end), said, _WEIGHTS[note.weight], source=SOURCE)


def server() -> Server:
    """A server that is ready to be started."""
    made = Server()

    @made.feature(lsp.INITIALIZED)
    def initialized(ls: Server, params: lsp.InitializedParams) -> None:
        workspace = ls.client_capabilities.workspace
        lens = workspace.code_lens if workspace is not None else None
        ls.refreshes = bool(lens is not None and lens.refresh_support)

    @made.feature(lsp.WORKSPACE_DID_CHANGE_CONFIGURATION)
    async def configured(ls: Server, params: lsp.DidChangeConfigurationParams) -> None:
        settings = params.settings if isinstance(params.settings, dict) else getattr(params.settings, "__dict__", {})
        own: Any = settings.get("kinglet", {})
        ls.setting = own.get("sample") if isinstance(own, dict) else getattr(own, "sample", None)
        for uri in list(ls.files):
            await ls.read(uri)

    @made.feature(lsp.TEXT_DOCUMENT_DID_OPEN)
    async def opened(ls: Server, params: lsp.DidOpenTextDocumentParams) -> None:
        await ls.read(params.text_document.uri)

    @made.feature(lsp.TEXT_DOCUMENT_DID_CHANGE)
    async def changed(ls: Server, params: lsp.DidChangeTextDocumentParams) -> None:
        await ls.read(params.text_document.uri, _QUIET)

    @made.feature(lsp.TEXT_DOCUMENT_DID_CLOSE)
    def closed(ls: Server, params: lsp.DidCloseTextDocumentParams) -> None:
        ls.files.pop(params.text_document.uri, None)

    @made.feature(lsp.TEXT_DOCUMENT_COMPLETION, lsp.CompletionOptions(trigger_characters=[":", " ", ".", "{"]))
    def complete(ls: Server, params: lsp.CompletionParams) -> list[lsp.CompletionItem]:
        uri, at = params.text_document.uri, params.position
        file = ls.files.get(uri) or _File()
        return [
            lsp.CompletionItem(
                one.text,
                detail=one.about,
                documentation=one.more or None,
                sort_text=f"{'0' if one.first else '1'}{one.text}",
            )
            for one in completions(ls.text(uri), at.line, at.character, file.parser)
        ]

    @made.feature(lsp.TEXT_DOCUMENT_HOVER)
    def hovered(ls: Server, params: lsp.HoverParams) -> lsp.Hover | None:
        uri, at = params.text_document.uri, params.position
        file = ls.files.get(uri) or _File()
        said = hover(ls.text(uri), at.line, at.character, file.parser, file.events)
        return lsp.Hover(lsp.MarkupContent(lsp.MarkupKind.Markdown, said)) if said else None

    @made.feature(lsp.TEXT_DOCUMENT_CODE_LENS)
    async def above(ls: Server, params: lsp.CodeLensParams) -> list[lsp.CodeLens]:
        uri = params.text_document.uri
        file = ls.files.get(uri)
        if file is None or file.parser is None:
            file = await ls.settled(uri)
        if file.parser is None:
            return []
        return [
            lsp.CodeLens(lsp.Range(lsp.Position(one.line, 0), lsp.Position(one.line, 0)), lsp.Command(one.text, ""))
            for one in lenses(ls.text(uri), file.parser, file.events, file.cases)
        ]

    @made.feature(lsp.TEXT_DOCUMENT_CODE_ACTION)
    async def mends(ls: Server, params: lsp.CodeActionParams) -> list[lsp.CodeAction]:
        uri = params.text_document.uri
        file = await ls.settled(uri)
        lines = ls.text(uri).split("\n")
        found = []
        for note in file.notes:
            if note.mend is None or not params.range.start.line <= note.line <= params.range.end.line:
                continue
            old, new = note.mend
            column = lines[note.line].find(old)
            if column < 0:
                continue
            where = lsp.Range(lsp.Position(note.line, column), lsp.Position(note.line, column + len(old)))
            edit = lsp.WorkspaceEdit({uri: [lsp.TextEdit(where, new)]})
            title = f"Write `{new}` instead of `{old}`"
            found.append(lsp.CodeAction(title, lsp.CodeActionKind.QuickFix, [_diagnostic(note)], edit=edit))
        return found

    @made.command(CASE)
    def add_case(ls: Server, uri: str, raw: str) -> lsp.WorkspaceEdit | None:
        return _change(ls, uri, with_case, raw)

    @made.command(VARIANT)
    def add_variant(ls: Server, uri: str, raw: str) -> lsp.WorkspaceEdit | None:
        return _change(ls, uri, with_variant, raw)

    return made


def _change(ls: Server, uri: str, how: Any, raw: str) -> lsp.WorkspaceEdit | None:
    """The edit that a command makes, which the client is asked to do; what stands against it is told."""
    text = ls.text(uri)
    try:
        new = how(text, path_of(uri), raw)
    except KingletError as error:
        ls.window_show_message(lsp.ShowMessageParams(lsp.MessageType.Warning, str(error)))
        return None
    end = lsp.Position(text.count("\n") + 1, 0)
    edit = lsp.WorkspaceEdit({uri: [lsp.TextEdit(lsp.Range(lsp.Position(0, 0), end), new)]})
    ls.workspace_apply_edit(lsp.ApplyWorkspaceEditParams(edit))
    return edit
