"""A client that speaks with the built language server over pipes, for tests."""

from __future__ import annotations

import asyncio
import os
import sys
from collections.abc import Coroutine
from pathlib import Path
from typing import Any, TypeVar

from lsprotocol import types as lsp
from pygls.lsp.client import LanguageClient

Result = TypeVar("Result")
CROSSGATE = str(Path(sys.executable).with_name("crossgate"))


class Client:
    """An editor with one server."""

    def __init__(self) -> None:
        self.client = LanguageClient("test", "1")
        self.told: dict[str, list[lsp.Diagnostic]] = {}
        self.messages: list[str] = []
        self._changed = asyncio.Event()
        self._versions: dict[str, int] = {}

        def told(params: lsp.PublishDiagnosticsParams) -> None:
            self.told[params.uri] = list(params.diagnostics)
            self._changed.set()

        def shown(params: lsp.ShowMessageParams) -> None:
            self.messages.append(params.message)

        def refreshed(params: None) -> None:
            return None

        for what, heard in (
            (lsp.TEXT_DOCUMENT_PUBLISH_DIAGNOSTICS, told),
            (lsp.WINDOW_SHOW_MESSAGE, shown),
            (lsp.WORKSPACE_CODE_LENS_REFRESH, refreshed),
        ):
            self.client.feature(what)(heard)

    async def start(self, *words: str) -> lsp.InitializeResult:
        await self.client.start_io(CROSSGATE, *words, "editor", env={**os.environ, "NO_COLOR": "1"})
        workspace = lsp.WorkspaceClientCapabilities(
            code_lens=lsp.CodeLensWorkspaceClientCapabilities(refresh_support=True)
        )
        found = await self.client.initialize_async(
            lsp.InitializeParams(capabilities=lsp.ClientCapabilities(workspace=workspace))
        )
        self.client.initialized(lsp.InitializedParams())
        return found

    async def stop(self) -> None:
        await self.client.shutdown_async(None)
        self.client.exit(None)
        await self.client.stop()  # type: ignore[no-untyped-call]

    def open(self, path: Path, text: str | None = None) -> lsp.TextDocumentIdentifier:
        self._versions[path.as_uri()] = 1
        item = lsp.TextDocumentItem(
            path.as_uri(), "crossgate", 1, path.read_text() if text is None else text
        )
        self.client.text_document_did_open(lsp.DidOpenTextDocumentParams(item))
        return lsp.TextDocumentIdentifier(path.as_uri())

    def change(self, document: lsp.TextDocumentIdentifier, *changes: Any) -> None:
        self._versions[document.uri] += 1
        named = lsp.VersionedTextDocumentIdentifier(self._versions[document.uri], document.uri)
        self.client.text_document_did_change(lsp.DidChangeTextDocumentParams(named, list(changes)))

    def replace(self, document: lsp.TextDocumentIdentifier, text: str) -> None:
        self.change(document, lsp.TextDocumentContentChangeWholeDocument(text))

    async def diagnostics(
        self, document: lsp.TextDocumentIdentifier, count: int, seconds: float = 30
    ) -> list[lsp.Diagnostic]:
        """Return what is told of a document once it is so many things."""

        async def wait() -> list[lsp.Diagnostic]:
            while len(self.told.get(document.uri, [])) != count or document.uri not in self.told:
                self._changed.clear()
                await self._changed.wait()
            return self.told[document.uri]

        return await asyncio.wait_for(wait(), seconds)


def run(work: Coroutine[Any, Any, Result]) -> Result:
    """Run one test's work to its end."""
    return asyncio.run(asyncio.wait_for(work, 120))


def place(text: str, needle: str, behind: int = 0) -> lsp.Position:
    """Return the place of the first line that holds some words, so many columns behind where they
    begin there.
    """
    number, line = next(
        (number, line) for number, line in enumerate(text.split("\n")) if needle in line
    )
    return lsp.Position(number, line.index(needle) + behind)
