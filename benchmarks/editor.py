"""The language server with a plan of 1,000 and of 10,000 entries, asked over pipes as an editor
asks: milliseconds of wall time.

An error comes at most 300 ms after the keystroke at 10,000 entries, what may stand there within 100
ms, what a word means within 200 ms. The reference is reading the whole plan anew, in this process.
"""

from __future__ import annotations

import sys
import tempfile
import time
from collections.abc import Awaitable, Callable
from pathlib import Path
from typing import Any

from lsprotocol import types as lsp

sys.path += [str(Path(__file__).parent), str(Path(__file__).parent.parent)]
from tests.editor.client import Client, place, run

from crossgate.language.reader import read
from edit import HEAD, TAIL
from synthetic import entries

BOUNDS = {"an error": 300, "completion": 100, "hover": 200}
TIMES = 5


async def fastest(ask: Callable[[], Awaitable[Any]]) -> float:
    """Return the wall time in seconds of the fastest of a few."""
    found = []
    for _ in range(TIMES):
        start = time.perf_counter()
        await ask()
        found.append(time.perf_counter() - start)
    return min(found)


async def asked(path: Path, text: str, reading: float) -> dict[str, float]:
    """Ask a server of its own all that is measured, and return the seconds by what it is."""
    client = Client()
    await client.start()
    document = client.open(path, text)
    await client.diagnostics(document, 0)
    middle = place(text, f"    {text.count(chr(10)) // 2 * 10} ")
    end = lsp.Position(middle.line, len(text.split("\n")[middle.line]))
    start_of_line = lsp.Range(lsp.Position(middle.line, 0), lsp.Position(middle.line, 0))
    number = lsp.Position(middle.line, 5)

    async def error() -> None:
        client.change(
            document, lsp.TextDocumentContentChangePartial(start_of_line, "    5 permt\n")
        )
        await client.diagnostics(document, 1)

    async def mended() -> None:
        below = lsp.Range(lsp.Position(middle.line, 0), lsp.Position(middle.line + 1, 0))
        client.change(document, lsp.TextDocumentContentChangePartial(below, ""))
        await client.diagnostics(document, 0)

    errors = []
    for _ in range(TIMES):
        start = time.perf_counter()
        await error()
        errors.append(time.perf_counter() - start)
        await mended()
    found = {"an error": min(errors)}
    found["completion"] = await fastest(
        lambda: client.client.text_document_completion_async(lsp.CompletionParams(document, end))
    )
    found["hover"] = await fastest(
        lambda: client.client.text_document_hover_async(lsp.HoverParams(document, number))
    )
    found["symbols"] = await fastest(
        lambda: client.client.text_document_document_symbol_async(
            lsp.DocumentSymbolParams(document)
        )
    )
    whole = lsp.SemanticTokensParams(document)
    found["all its colours"] = await fastest(
        lambda: client.client.text_document_semantic_tokens_full_async(whole)
    )
    await client.stop()
    return {"reading it": reading, **found}


def main() -> None:
    """Print each figure, its ratio to reading the plan, and how it grows."""
    before: dict[str, float] = {}
    for count in (1_000, 10_000):
        with tempfile.TemporaryDirectory() as temporary:
            path = Path(temporary) / "big.gate"
            text = (
                HEAD
                + "\n".join(["list big extended ipv4", *entries(count), "    otherwise permit", ""])
                + TAIL
            )
            path.write_text(text)
            start = time.perf_counter()
            read(path)
            found = run(asked(path, text, time.perf_counter() - start))
        for name, seconds in found.items():
            bound = f" (at most {BOUNDS[name]})" if count == 10_000 and name in BOUNDS else ""
            growth = (
                f", {seconds / before[name]:4.1f} times that of 1,000" if name in before else ""
            )
            print(
                f"{count:6,} entries  {name:<16} {seconds * 1e3:7.1f} ms{bound:<15} "
                f"{seconds / found['reading it']:5.2f} times reading{growth}"
            )
        before = found


if __name__ == "__main__":
    main()
