"""The documents that an editor has open, with the line ends of the protocol, and the frames in
which its messages come.

In the protocol a line ends with LF, CR LF or CR and nothing else (Language Server Protocol 3.17,
"Text Documents"). pygls uses Python's line ends, which include U+2028 and form feeds, and would
miscount after one.
"""

from __future__ import annotations

import re
import sys
from collections.abc import Sequence
from typing import BinaryIO

from lsprotocol import types as lsp
from pygls.workspace import TextDocument, Workspace

MOST_FRAME = 256 << 20
"""Octets of one message."""
_MOST_HEADER = 1 << 12
_LINE = re.compile(r"[^\r\n]*(?:\r\n|\n|\r)|[^\r\n]+")


class Document(TextDocument):
    """A text whose lines end as the protocol says."""

    @property
    def lines(self) -> Sequence[str]:
        """Its lines with their ends."""
        return tuple(_LINE.findall(self.source))

    def _apply_incremental_change(self, change: lsp.TextDocumentContentChangePartial) -> None:
        lines = self.lines
        start, end = (self._offset(lines, each) for each in (change.range.start, change.range.end))
        self._source = self.source[:start] + change.text + self.source[max(start, end) :]

    def _offset(self, lines: Sequence[str], position: lsp.Position) -> int:
        """Return the index of the character at a place; a place after a line's end counts as that
        end, one after the text as its end.
        """
        before = sum(map(len, lines[: position.line]))
        if position.line >= len(lines):
            return before
        line = lines[position.line].rstrip("\r\n")
        units = self.position_codec.client_num_units
        if line.isascii():
            return before + min(position.character, len(line))
        low, high = 0, len(line)
        while low < high:  # the most characters that are no more units than these
            middle = (low + high + 1) // 2
            low, high = (
                (middle, high) if units(line[:middle]) <= position.character else (low, middle - 1)
            )
        return before + low


class Documents(Workspace):
    """The documents that are open."""

    def _create_text_document(
        self,
        doc_uri: str,
        source: str | None = None,
        version: int | None = None,
        language_id: str | None = None,
    ) -> TextDocument:
        return Document(
            doc_uri,
            source=source,
            version=version,
            language_id=language_id,
            sync_kind=lsp.TextDocumentSyncKind.Incremental,
            position_codec=self.position_codec,
        )


class BoundedInput:
    """Standard input that refuses messages larger than `MOST_FRAME`: it then ends, and says so."""

    def __init__(self, stream: BinaryIO) -> None:
        """Read from a stream."""
        self._stream = stream

    def readline(self) -> bytes:
        """Return a line of a message's head."""
        return self._stream.readline(_MOST_HEADER)

    def read(self, size: int) -> bytes:
        """Return a message, or nothing where it is too large."""
        if size > MOST_FRAME:
            print(
                (
                    f"crossgate: a message of {size:,} octets is not read; up to "
                    f"{MOST_FRAME >> 20} "
                    "MB are"
                ),
                file=sys.stderr,
            )
            return b""
        return self._stream.read(size)
