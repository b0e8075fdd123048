"""The plans that are open in an editor, and what it is told of them.

They are read with the editor's unsaved texts. The results of `check` and `verify` follow in the
background, some time after the last change; then the editor is asked to refresh its notes.
"""

from __future__ import annotations

import asyncio
import os
from collections.abc import Callable, Iterable
from datetime import datetime
from pathlib import Path

from lsprotocol import types as lsp
from pygls.lsp.server import LanguageServer
from pygls.uris import from_fs_path, to_fs_path

from crossgate import __version__
from crossgate.core.model.finding_kinds import KINDS, Severity
from crossgate.core.model.plan import Plan
from crossgate.editor.plans import OpenPlan, Watcher, plan_of
from crossgate.language.change import LineEdit
from crossgate.language.texts import Text

_SEVERITIES = {
    Severity.ERROR: lsp.DiagnosticSeverity.Error,
    Severity.WARNING: lsp.DiagnosticSeverity.Warning,
    Severity.NOTE: lsp.DiagnosticSeverity.Information,
}
PAUSE = 0.4
"""So many seconds after the last change a plan is looked at."""


class Editor(LanguageServer):
    """The server, with the plans that are open in an editor."""

    def __init__(
        self, now: Callable[[Plan], datetime], plan: Path | None = None, pause: float = PAUSE
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
