"""The language server of plans: the other modules of this folder behind the Language Server
Protocol 3.17, with pygls.

Requests are answered in the order in which they come, from the last reading of a plan.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Sequence
from datetime import datetime
from pathlib import Path

from lsprotocol import types as lsp
from pygls.uris import from_fs_path

from crossgate.core.model.errors import PlanError
from crossgate.core.model.named import NameSpace
from crossgate.core.model.plan import Plan
from crossgate.editor import changing, going_on, outline, telling
from crossgate.editor.documents import Documents
from crossgate.editor.open import PAUSE, Editor

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


def editor(
    now: Callable[[Plan], datetime], plan: Path | None = None, pause: float = PAUSE
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
        found = None if mention is None else opened.declaration(mention.space, mention.name)
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
                for there, line, each in opened.mentioning(mention.space, mention.name)
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
                for line, each in text.mentioning(mention.space, mention.name)
            ]
        )


def _show(server: Editor) -> None:
    """Answer questions about what to show of a whole text."""

    @server.feature(lsp.TEXT_DOCUMENT_DOCUMENT_SYMBOL)
    def symbols(params: lsp.DocumentSymbolParams) -> list[lsp.DocumentSymbol]:
        _, text = server.plan_at(params.text_document.uri)

        def symbol(part: outline.OutlinePart) -> lsp.DocumentSymbol:
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
            or mention.space is NameSpace.FINDING
            or opened.declaration(mention.space, mention.name) is None
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
