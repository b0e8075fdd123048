"""Line ends as the protocol has them, and what an editor sends that is too much."""

from __future__ import annotations

import io
import random
import re
from pathlib import Path

import pytest
from lsprotocol import types as lsp

from crossgate.editor import outline
from crossgate.editor.documents import MOST_FRAME, BoundedInput, Document
from crossgate.editor.server import editor
from crossgate.language.texts import Text

ENDS = re.compile("\r\n|\n|\r")
TYPED = [
    "",
    "x",
    "\r",
    "\n",
    "\r\n",
    "\u2028",
    "\x85",
    "\x0b",
    "\x0c",
    "\x1c",
    "\U0001f6a2",
    "é",
    "list a extended ipv4\n    10 deny ip any to any\n",
]


def offset(text: str, line: int, unit: int) -> int:
    """Return which character of a text is at a place: by the protocol's own words, character by
    character.
    """
    start = 0
    for _ in range(line):
        end = ENDS.search(text, start)
        if end is None:
            return len(text)
        start = end.end()
    end = ENDS.search(text, start)
    last = len(text) if end is None else end.start()
    while start < last and unit >= (2 if ord(text[start]) > 0xFFFF else 1):
        unit -= 2 if ord(text[start]) > 0xFFFF else 1
        start += 1
    return start


def test_the_text_is_that_of_the_editor_whatever_ends_lines() -> None:
    chance, text = random.Random(7), "subnet a 10.0.0.0/24\r\nlist b extended ipv4\n"
    document = Document("file:///a.gate", text)
    for _ in range(10_000):
        places = sorted(
            (chance.randrange(len(ENDS.findall(text)) + 2), chance.randrange(25)) for _ in range(2)
        )
        typed = chance.choice(TYPED)
        start, end = (offset(text, *place) for place in places)
        text = text[:start] + typed + text[max(start, end) :]
        there = lsp.Range(*(lsp.Position(*place) for place in places))
        document.apply_change(lsp.TextDocumentContentChangePartial(there, typed))
        assert document.source == text
        if len(text) > 400:
            text = text[200:]
            document.apply_change(lsp.TextDocumentContentChangeWholeDocument(text))


@pytest.mark.parametrize("seed", range(20))
def test_places_of_the_plan_and_of_the_editor_are_the_same_places(seed: int) -> None:
    chance = random.Random(seed)
    whole = "".join(chance.choice([*TYPED, "word ", " "]) for _ in range(60))
    text = Text("a.gate", whole)
    starts = [0, *(end.end() for end in ENDS.finditer(whole))]
    at = 0
    for number, line in enumerate(text.lines):
        for column in range(len(line) + 1):
            if (
                line[column - 1 : column] == "\r"
                and column == len(line)
                and number < len(text.lines) - 1
            ):
                continue  # behind the first half of a line's end
            shown, left = text.shown_at(number, column)
            assert starts[shown] + left == at + column
        at += len(line) + 1
    for shown, start in enumerate(starts):
        number, column = text.place_at(shown)
        assert sum(len(each) + 1 for each in text.lines[:number]) + column == start


@pytest.mark.parametrize(
    "text", ["", "subnet a 10.0.0.0/24\n", "list a extended ipv4\n    10 deny ip any to any\n"]
)
def test_a_plan_without_sections_is_folded(text: str) -> None:
    assert list(outline.folds(Text("a.gate", text))) == ([(0, 1)] if "list" in text else [])


def test_a_message_that_is_too_large_is_not_read(capfd: pytest.CaptureFixture[str]) -> None:
    frames = BoundedInput(io.BytesIO(b"x" * 100_000))
    assert frames.read(MOST_FRAME + 1) == b""
    assert "a message of 268,435,457 octets is not read; up to 256 MB are" in capfd.readouterr().err
    assert len(frames.readline()) == 1 << 12
    assert len(frames.read(10)) == 10


def test_a_document_that_is_closed_is_forgotten_with_its_plan(tmp_path: Path) -> None:
    for name, text in (
        ("main.gate", 'include "part.gate"\n'),
        ("part.gate", "subnet a 10.0.0.0/24\n"),
    ):
        (tmp_path / name).write_text(text)
    server = editor(lambda _: pytest.fail("nothing is looked at"), pause=1e9)
    server.protocol._workspace = None
    features = server.protocol.fm.features
    told: list[tuple[str, int]] = []
    server.text_document_publish_diagnostics = (  # type: ignore[method-assign]
        lambda params: told.append((Path(params.uri).name, len(params.diagnostics)))
    )
    from crossgate.editor.documents import Documents

    server.protocol._workspace = Documents(tmp_path.as_uri(), lsp.TextDocumentSyncKind.Incremental)
    items = [
        lsp.TextDocumentItem(
            (tmp_path / name).as_uri(),
            "crossgate",
            1,
            "nonsense\n" if name[0] == "p" else 'include "part.gate"\n',
        )
        for name in ("main.gate", "part.gate")
    ]
    for item in items:
        server.workspace.put_text_document(item)
        server.plan_at(item.uri)
    assert len(server._plans) == 1
    for left, item in zip((1, 0), reversed(items), strict=True):
        server.workspace.remove_text_document(item.uri)
        features[lsp.TEXT_DOCUMENT_DID_CLOSE](
            lsp.DidCloseTextDocumentParams(lsp.TextDocumentIdentifier(item.uri))
        )
        assert (len(server._plans), len(server._belongs)) == (left, left)
    assert set(told) == {("main.gate", 0), ("part.gate", 0)}
