"""The language server of plans: the other modules of this folder behind the Language Server
Protocol 3.17, with pygls.

Requests are answered in the order in which they come, from the last reading of a plan with its
unsaved texts. The results of `check` and `verify` follow in the background, some time after the
last change; then the editor is asked to refresh its notes.
"""

from __future__ import annotations

import asyncio
import os
from collections.abc import Callable, Iterable, Sequence
from datetime import datetime
from pathlib import Path

from lsprotocol import types as lsp
from pygls.lsp.server import LanguageServer
from pygls.uris import from_fs_path, to_fs_path

from crossgate import __version__
from crossgate.core.model.errors import PlanError
from crossgate.core.model.finding import KINDS, Severity
from crossgate.core.model.plan import Plan
from crossgate.editor import changing, going_on, outline, telling
from crossgate.editor.documents import Documents
from crossgate.editor.plans import OpenPlan, Watcher, plan_of
from crossgate.language.change import LineEdit
from crossgate.language.texts import Named, Text

_SEVERITIES = {
    Severity.ERROR: lsp.DiagnosticSeverity.Error,
    Severity.WARNING: lsp.DiagnosticSeverity.Warning,
    Severity.NOTE: lsp.DiagnosticSeverity.Information,
}
_SYMBOLS = {
    "router": lsp.SymbolKind.Module,
    "switch": lsp.SymbolKind.Module,
    "list": lsp.SymbolKind.Class,
    "subnet": lsp.SymbolKind.Namespace,
    "outside": lsp.SymbolKind.Namespace,
    "service": lsp.SymbolKind.Function,
    "window": lsp.SymbolKind.Event,
    "group": lsp.SymbolKind.Array,
}
_OFFERED = {
    "word": lsp.CompletionItemKind.Keyword,
    "SERVICE": lsp.CompletionItemKind.Function,
    "LIST": lsp.CompletionItemKind.Class,
    "WINDOW": lsp.CompletionItemKind.Event,
    "FINDING": lsp.CompletionItemKind.EnumMember,
    "POINT": lsp.CompletionItemKind.Property,
}
_LEGEND = lsp.SemanticTokensLegend(
    token_types=sorted({*outline.PAINTS.values()}), token_modifiers=[]
)
_PAUSE = 0.4
"""So many seconds after the last change a plan is looked at."""


class Editor(LanguageServer):
    """The server, with the plans that are open in an editor."""

    def __init__(
        self, now: Callable[[Plan], datetime], plan: Path | None = None, pause: float = _PAUSE
    ) -> None:
        """Make it; `plan` is the plan that every file belongs to, where it is given."""
        super().__init__("crossgate", __version__)
        self._now, self._only = now, None if plan is None else Path(os.path.abspath(plan))
        self._plans: dict[Path, OpenPlan] = {}
        self._belongs: dict[Path, Path] = {}
        self._loop: asyncio.AbstractEventLoop | None = None
        self._watcher = Watcher(pause, now, self._looked, self._failed)

    # The plans behind the documents

    def _unsaved(self) -> dict[str, bytes]:
        return {
            self._path(uri): document.source.encode()
            for uri, document in self.workspace.text_documents.items()
        }

    @staticmethod
    def _path(uri: str) -> str:
        return os.path.normpath(to_fs_path(uri) or uri)

    def plan_at(self, uri: str) -> tuple[OpenPlan, Text]:
        """Return the plan that a document belongs to, and its text there."""
        file = Path(self._path(uri))
        if file not in self._belongs:
            self._belongs[file] = self._only or plan_of(file, self._unsaved())
        path = self._belongs[file]
        if path not in self._plans:
            self._plans[path] = OpenPlan(path)
            self._plans[path].read(self._unsaved())
        opened = self._plans[path]
        text = opened.texts.get(str(file))
        if text is None:  # not, or not any more, a part of that plan
            text = Text(str(file), self.workspace.get_text_document(uri).source)
        return opened, text

    def changed(self, uri: str) -> None:
        """Read the plan of a document again, and send its errors."""
        file = Path(self._path(uri))
        known = self._belongs.get(file)
        if known is None or str(file) not in self._plans[known].texts:
            self._belongs.pop(file, None)
        opened, _ = self.plan_at(uri)
        opened.read(self._unsaved())
        self._tell(opened)
        if self._loop is None:
            self._loop = asyncio.get_running_loop()
        if opened.whole is not None:
            self._watcher.look_soon(opened)

    def _looked(self, opened: OpenPlan) -> None:
        if self._loop is not None:
            self._loop.call_soon_threadsafe(self._tell, opened, True)

    def _failed(self, error: str) -> None:
        if self._loop is not None:
            message = f"what check says is not known: {error}"
            self._loop.call_soon_threadsafe(
                self.window_log_message,
                lsp.LogMessageParams(type=lsp.MessageType.Warning, message=message),
            )

    def _tell(self, opened: OpenPlan, again: bool = False) -> None:
        """Send the problems in each file of a plan; `again` also asks the editor to refresh the
        notes above lines.
        """
        found: dict[str, list[lsp.Diagnostic]] = {
            file: [] for file in (str(opened.path), *opened.texts)
        }
        for error in opened.errors:
            file, line = (
                (str(opened.path), 0)
                if error.place is None
                else (error.place.file, error.place.line - 1)
            )
            start = max(error.column - 1, 0)
            there = self._range(
                opened.texts.get(file),
                line,
                start,
                start + error.width if error.column else 1 << 20,
            )
            found.setdefault(file, []).append(
                lsp.Diagnostic(
                    there, error.message, severity=lsp.DiagnosticSeverity.Error, source="crossgate"
                )
            )
        settled = opened.looked
        if settled is not None and settled.reading is opened.reading and not opened.errors:
            for finding in settled.findings:
                text = opened.texts.get(finding.place.file)
                found.setdefault(finding.place.file, []).append(
                    lsp.Diagnostic(
                        self._line(text, finding.place.line - 1),
                        finding.message,
                        severity=_SEVERITIES[KINDS[finding.name].severity],
                        code=finding.name,
                        source="crossgate",
                        tags=[lsp.DiagnosticTag.Unnecessary]
                        if finding.name in ("never-reached", "no-effect")
                        else None,
                    )
                )
            told = {each.place for each in settled.findings if each.name == "locked-out"}
            for place, proved in settled.proved.items():
                if not proved.held and place not in told:  # a keep is a finding of its own
                    text = opened.texts.get(place.file)
                    found.setdefault(place.file, []).append(
                        lsp.Diagnostic(
                            self._line(text, place.line - 1),
                            f"{proved.why}; needed: {proved.needed}",
                            severity=lsp.DiagnosticSeverity.Error
                            if proved.answered
                            else lsp.DiagnosticSeverity.Warning,
                            code="verify",
                            source="crossgate",
                        )
                    )
        for file, several in found.items():
            self.text_document_publish_diagnostics(
                lsp.PublishDiagnosticsParams(from_fs_path(file) or file, several)
            )
        if again and self._may_refresh():
            self.workspace_code_lens_refresh(None, lambda _: None)

    def _may_refresh(self) -> bool:
        workspace = self.client_capabilities.workspace
        return (
            workspace is not None
            and workspace.code_lens is not None
            and bool(workspace.code_lens.refresh_support)
        )

    def stop_watching(self) -> None:
        """Stop looking at plans."""
        self._watcher.stop()

    def now(self, plan: Plan) -> datetime:
        """Return the time on a plan's clock."""
        return self._now(plan)

    # Places, in the units of the editor

    def _range(self, text: Text | None, line: int, start: int, end: int) -> lsp.Range:
        return lsp.Range(self._position(text, line, start), self._position(text, line, end))

    def _position(self, text: Text | None, line: int, column: int) -> lsp.Position:
        if text is None or line >= len(text.lines):
            return lsp.Position(line + (len(text.returns) if text is not None else 0), 0)
        own = text.lines[line]
        column = min(column, len(own))
        shown, left = text.shown_at(line, column)
        return lsp.Position(
            shown, self.workspace.position_codec.client_num_units(own[column - left : column])
        )

    def _line(self, text: Text | None, line: int) -> lsp.Range:
        own = "" if text is None else text.line(line)
        return self._range(text, line, len(own) - len(own.lstrip()), len(own))

    def range_of(self, text: Text, line: int, start: int, end: int) -> lsp.Range:
        """Return a part of a line as the editor counts columns."""
        return self._range(text, line, start, end)

    def place_of(self, text: Text, position: lsp.Position) -> tuple[int, int]:
        """Return the line and column of a place given by the editor."""
        line, start = text.place_at(position.line)
        if line >= len(text.lines):
            return line, 0
        own = text.lines[line][start:].partition("\r")[0]
        found = self.workspace.position_codec.position_from_client_units(
            [own], lsp.Position(0, position.character)
        )
        return line, start + int(found.character)

    def lines_of(self, text: Text, within: lsp.Range) -> tuple[int, int]:
        """Return the first and the last line of a range given by the editor."""
        return text.place_at(within.start.line)[0], text.place_at(within.end.line)[0]

    def edits_of(self, text: Text | None, edits: Iterable[LineEdit]) -> list[lsp.TextEdit]:
        """Return edits of whole lines in the form of the protocol."""
        return [
            lsp.TextEdit(
                lsp.Range(self._position(text, each.first, 0), self._position(text, each.last, 0)),
                each.text,
            )
            for each in edits
        ]

    def forget(self, uri: str) -> None:
        """Forget a closed document, and its plan when no other file of it is open."""
        file = Path(self._path(uri))
        path = self._belongs.pop(file, None)
        opened = self._plans.get(path) if path is not None else None
        if path is None or opened is None:
            return
        if path in self._belongs.values():
            opened.read(self._unsaved())  # what is on disk counts again
            self._tell(opened)
            return
        del self._plans[path]
        self._watcher.forget(opened)
        for each in {str(path), *opened.texts}:
            self.text_document_publish_diagnostics(
                lsp.PublishDiagnosticsParams(from_fs_path(each) or each, [])
            )


def editor(
    now: Callable[[Plan], datetime], plan: Path | None = None, pause: float = _PAUSE
) -> Editor:
    """Return a server with all its handlers; see `Editor`."""
    server = Editor(now, plan, pause)
    _listen(server)
    _tell_places(server)
    _show(server)
    _change(server)
    return server


def _listen(server: Editor) -> None:
    """Handle documents being opened, typed in, saved and closed."""

    @server.feature(lsp.INITIALIZE)
    def begun(params: lsp.InitializeParams) -> None:
        known = server.workspace
        folders = [*known.folders.values()]
        server.protocol._workspace = Documents(
            known.root_uri, lsp.TextDocumentSyncKind.Incremental, folders, known.position_encoding
        )

    @server.feature(lsp.TEXT_DOCUMENT_DID_OPEN)
    def opened(params: lsp.DidOpenTextDocumentParams) -> None:
        server.changed(params.text_document.uri)

    @server.feature(lsp.TEXT_DOCUMENT_DID_CHANGE)
    def changed(params: lsp.DidChangeTextDocumentParams) -> None:
        server.changed(params.text_document.uri)

    @server.feature(lsp.TEXT_DOCUMENT_DID_SAVE)
    def saved(params: lsp.DidSaveTextDocumentParams) -> None:
        server.changed(params.text_document.uri)

    @server.feature(lsp.TEXT_DOCUMENT_DID_CLOSE)
    def closed(params: lsp.DidCloseTextDocumentParams) -> None:
        server.forget(params.text_document.uri)

    @server.feature(lsp.SHUTDOWN)
    def shut_down(params: None) -> None:
        server.stop_watching()


def _tell_places(server: Editor) -> None:
    """Answer questions about one place of a text."""

    @server.feature(lsp.TEXT_DOCUMENT_HOVER)
    def hover(params: lsp.HoverParams) -> lsp.Hover | None:
        opened, text = server.plan_at(params.text_document.uri)
        line, column = server.place_of(text, params.position)
        found = telling.told_at(opened, text, line, column)
        if found is None:
            return None
        told, start, end = found
        return lsp.Hover(
            lsp.MarkupContent(lsp.MarkupKind.Markdown, told),
            server.range_of(text, line, start, end),
        )

    @server.feature(
        lsp.TEXT_DOCUMENT_COMPLETION, lsp.CompletionOptions(trigger_characters=[" ", ",", "/", "."])
    )
    def completion(params: lsp.CompletionParams) -> list[lsp.CompletionItem]:
        opened, text = server.plan_at(params.text_document.uri)
        plan = None if opened.reading is None else opened.reading.plan
        line, column = server.place_of(text, params.position)
        found = going_on.offers_at(text, plan, line, column)
        there = server.range_of(text, line, found.start, found.end)
        return [
            lsp.CompletionItem(
                each.word,
                kind=_OFFERED.get(each.kind, lsp.CompletionItemKind.Variable),
                detail=each.detail or None,
                sort_text=f"{number:05}",
                text_edit=lsp.TextEdit(there, each.word),
            )
            for number, each in enumerate(found.offers)
        ]

    @server.feature(lsp.TEXT_DOCUMENT_DEFINITION)
    def definition(params: lsp.DefinitionParams) -> lsp.Location | None:
        opened, text = server.plan_at(params.text_document.uri)
        mention = text.mention_at(*server.place_of(text, params.position))
        found = None if mention is None else opened.declaration(mention.named, mention.name)
        if found is None:
            return None
        there, line, own = found
        return lsp.Location(
            from_fs_path(there.file) or there.file, server.range_of(there, line, own.start, own.end)
        )

    @server.feature(lsp.TEXT_DOCUMENT_REFERENCES)
    def references(params: lsp.ReferenceParams) -> list[lsp.Location]:
        opened, text = server.plan_at(params.text_document.uri)
        mention = text.mention_at(*server.place_of(text, params.position))
        return (
            []
            if mention is None
            else [
                lsp.Location(
                    from_fs_path(there.file) or there.file,
                    server.range_of(there, line, each.start, each.end),
                )
                for there, line, each in opened.mentioning(mention.named, mention.name)
                if params.context.include_declaration or not each.declares
            ]
        )

    @server.feature(lsp.TEXT_DOCUMENT_DOCUMENT_HIGHLIGHT)
    def highlight(params: lsp.DocumentHighlightParams) -> list[lsp.DocumentHighlight]:
        _, text = server.plan_at(params.text_document.uri)
        mention = text.mention_at(*server.place_of(text, params.position))
        return (
            []
            if mention is None
            else [
                lsp.DocumentHighlight(server.range_of(text, line, each.start, each.end))
                for line, each in text.mentioning(mention.named, mention.name)
            ]
        )


def _show(server: Editor) -> None:
    """Answer questions about what to show of a whole text."""

    @server.feature(lsp.TEXT_DOCUMENT_DOCUMENT_SYMBOL)
    def symbols(params: lsp.DocumentSymbolParams) -> list[lsp.DocumentSymbol]:
        _, text = server.plan_at(params.text_document.uri)

        def symbol(part: outline.Part) -> lsp.DocumentSymbol:
            return lsp.DocumentSymbol(
                part.name,
                _SYMBOLS.get(
                    part.what, lsp.SymbolKind.Object if part.lines else lsp.SymbolKind.Field
                ),
                lsp.Range(
                    server.range_of(text, part.first, 0, 0).start,
                    server.range_of(text, part.last, 0, 1 << 20).end,
                ),
                server.range_of(text, part.first, part.column, part.column + len(part.name)),
                detail=part.what,
                children=[symbol(each) for each in part.lines] or None,
            )

        return [symbol(each) for each in outline.parts(text)]

    @server.feature(lsp.TEXT_DOCUMENT_FOLDING_RANGE)
    def folding(params: lsp.FoldingRangeParams) -> list[lsp.FoldingRange]:
        _, text = server.plan_at(params.text_document.uri)
        return [
            lsp.FoldingRange(text.shown_at(first, 0)[0], text.shown_at(last, 0)[0])
            for first, last in outline.folds(text)
        ]

    @server.feature(lsp.TEXT_DOCUMENT_CODE_LENS)
    def lenses(params: lsp.CodeLensParams) -> list[lsp.CodeLens]:
        opened, text = server.plan_at(params.text_document.uri)
        return [
            lsp.CodeLens(server.range_of(text, line, 0, 0), lsp.Command(title=told, command=""))
            for line, told in outline.notes(opened, text)
        ]

    @server.feature(lsp.TEXT_DOCUMENT_INLAY_HINT)
    def hints(params: lsp.InlayHintParams) -> list[lsp.InlayHint]:
        opened, text = server.plan_at(params.text_document.uri)
        return [
            lsp.InlayHint(
                server.range_of(text, line, column, column).start, number, padding_right=True
            )
            for line, column, number in outline.numbers(
                opened, text, *server.lines_of(text, params.range)
            )
        ]

    def painted(uri: str, within: lsp.Range | None) -> lsp.SemanticTokens:
        _, text = server.plan_at(uri)
        first, last = (0, 1 << 30) if within is None else server.lines_of(text, within)
        data: list[int] = []
        line = column = 0
        units = server.workspace.position_codec.client_num_units
        for each in outline.painted(text, first, last):
            own = text.lines[each.line]
            there, start = text.shown_at(each.line, each.start)
            length = each.length
            if not own.isascii():
                start, length = (
                    units(own[each.start - start : each.start]),
                    units(own[each.start : each.start + length]),
                )
            data += [
                there - line,
                start - (column if there == line else 0),
                length,
                _LEGEND.token_types.index(each.paint),
                0,
            ]
            line, column = there, start
        return lsp.SemanticTokens(data)

    @server.feature(lsp.TEXT_DOCUMENT_SEMANTIC_TOKENS_FULL, _LEGEND)
    def all_painted(params: lsp.SemanticTokensParams) -> lsp.SemanticTokens:
        return painted(params.text_document.uri, None)

    @server.feature(lsp.TEXT_DOCUMENT_SEMANTIC_TOKENS_RANGE, _LEGEND)
    def some_painted(params: lsp.SemanticTokensRangeParams) -> lsp.SemanticTokens:
        return painted(params.text_document.uri, params.range)


def _change(server: Editor) -> None:
    """Answer requests that change a text."""

    @server.feature(lsp.TEXT_DOCUMENT_PREPARE_RENAME)
    def may_rename(params: lsp.PrepareRenameParams) -> lsp.Range | None:
        opened, text = server.plan_at(params.text_document.uri)
        mention = text.mention_at(*server.place_of(text, params.position))
        if (
            mention is None
            or mention.named is Named.FINDING
            or opened.declaration(mention.named, mention.name) is None
        ):
            return None
        return server.range_of(
            text, server.place_of(text, params.position)[0], mention.start, mention.end
        )

    @server.feature(lsp.TEXT_DOCUMENT_RENAME, lsp.RenameOptions(prepare_provider=True))
    def rename(params: lsp.RenameParams) -> lsp.WorkspaceEdit | None:
        opened, text = server.plan_at(params.text_document.uri)
        mention = text.mention_at(*server.place_of(text, params.position))
        if mention is None:
            return None
        try:
            found = changing.renamed(opened, mention, params.new_name)
        except PlanError as error:
            server.window_show_message(lsp.ShowMessageParams(lsp.MessageType.Error, error.message))
            return None
        return lsp.WorkspaceEdit(
            changes={
                from_fs_path(file) or file: [
                    lsp.TextEdit(
                        server.range_of(opened.texts[file], line, each.start, each.end),
                        params.new_name,
                    )
                    for line, each in several
                ]
                for file, several in found.items()
            }
        )

    def laid_out(uri: str, within: lsp.Range | None = None) -> list[lsp.TextEdit] | None:
        opened, text = server.plan_at(uri)
        first, last = (0, None) if within is None else server.lines_of(text, within)
        try:
            return server.edits_of(text, changing.layout_edits(opened, text, first, last))
        except PlanError as error:
            server.window_show_message(
                lsp.ShowMessageParams(lsp.MessageType.Warning, error.message)
            )
            return None

    @server.feature(lsp.TEXT_DOCUMENT_FORMATTING)
    def formatted(params: lsp.DocumentFormattingParams) -> list[lsp.TextEdit] | None:
        return laid_out(params.text_document.uri)

    @server.feature(lsp.TEXT_DOCUMENT_RANGE_FORMATTING)
    def partly_formatted(params: lsp.DocumentRangeFormattingParams) -> list[lsp.TextEdit] | None:
        return laid_out(params.text_document.uri, params.range)

    @server.feature(
        lsp.TEXT_DOCUMENT_CODE_ACTION,
        lsp.CodeActionOptions(
            code_action_kinds=[lsp.CodeActionKind.QuickFix], resolve_provider=True
        ),
    )
    def actions(params: lsp.CodeActionParams) -> list[lsp.CodeAction]:
        opened, text = server.plan_at(params.text_document.uri)
        first, last = server.lines_of(text, params.range)
        meant = [
            lsp.CodeAction(
                f"Write {each.text}",
                kind=lsp.CodeActionKind.QuickFix,
                is_preferred=True,
                diagnostics=[
                    known
                    for known in params.context.diagnostics
                    if known.message == error.message
                    and known.range.start.line == text.shown_at(line, 0)[0]
                ],
                edit=lsp.WorkspaceEdit(
                    changes={
                        params.text_document.uri: [
                            lsp.TextEdit(server.range_of(text, line, *each[:2]), each.text)
                        ]
                    }
                ),
            )
            for error, line, each in changing.meant(opened, text, first, last)
        ]
        return meant + [
            lsp.CodeAction(
                each.title,
                kind=lsp.CodeActionKind.QuickFix,
                data={"uri": params.text_document.uri, "words": list(each.words)},
                diagnostics=_about(each.words, params.context.diagnostics),
            )
            for each in changing.repairs(opened, text, first, last)
        ]

    @server.feature(lsp.CODE_ACTION_RESOLVE)
    def resolved(action: lsp.CodeAction) -> lsp.CodeAction:
        data = action.data
        if isinstance(data, dict):
            opened, _ = server.plan_at(str(data["uri"]))
            try:
                edits = changing.repaired(
                    opened,
                    changing.Repair(action.title, tuple(map(str, data["words"]))),
                    server.now,
                )
            except PlanError as error:
                server.window_show_message(
                    lsp.ShowMessageParams(
                        lsp.MessageType.Info, f"nothing mends it: {error.message}"
                    )
                )
                return action
            action.edit = lsp.WorkspaceEdit(
                changes={
                    from_fs_path(file) or file: server.edits_of(opened.texts.get(file), each)
                    for file, each in edits.items()
                }
            )
        return action


def _about(words: Sequence[str], diagnostics: Iterable[lsp.Diagnostic]) -> list[lsp.Diagnostic]:
    return [each for each in diagnostics if each.code == (words[0] if len(words) > 1 else "verify")]
