"""The language server, driven over pipes as an editor drives it."""

from __future__ import annotations

import random
from collections.abc import Awaitable, Callable
from pathlib import Path
from typing import Any

import pytest
from lsprotocol import types as lsp

from crossgate.demo import write
from crossgate.language.reader import attempt
from tests.editor.client import Client, place, run

pytestmark = pytest.mark.process


@pytest.fixture
def demo(tmp_path: Path) -> Path:
    write(tmp_path)
    return tmp_path / "ternhaven.gate"


def served(work: Callable[[Client], Awaitable[Any]], *words: str) -> None:
    """Run some work with a server, and end that."""

    async def whole() -> None:
        client = Client()
        await client.start(*words)
        try:
            await work(client)
        finally:
            await client.stop()

    run(whole())


async def hover(client: Client, document: lsp.TextDocumentIdentifier, at: lsp.Position) -> str:
    found = await client.client.text_document_hover_async(lsp.HoverParams(document, at))
    if found is None:
        return ""
    assert isinstance(found.contents, lsp.MarkupContent)
    return found.contents.value


async def completed(
    client: Client, document: lsp.TextDocumentIdentifier, at: lsp.Position
) -> list[str]:
    found = await client.client.text_document_completion_async(lsp.CompletionParams(document, at))
    assert isinstance(found, (list, tuple))
    return [each.label for each in found]


def test_errors_come_as_one_types_and_findings_after_a_pause(demo: Path) -> None:
    text = demo.read_text()

    async def work(client: Client) -> None:
        document = client.open(demo)
        found = await client.diagnostics(document, 7)
        assert [each.code for each in found] == [
            "spoofable",
            "spoofable",
            "spoofable",
            "renewal-blocked",
            "icmp6-needed",
            "neighbour-can-claim",
            "neighbour-can-claim",
        ]
        assert [each.severity for each in found] == [
            *[lsp.DiagnosticSeverity.Warning] * 5,
            *[lsp.DiagnosticSeverity.Information] * 2,
        ]
        client.replace(
            document, text.replace("permit booking    tickets", "permit boking    tickets")
        )
        (error,) = await client.diagnostics(document, 1)
        assert error.message.startswith("no service boking; there is booking")
        assert error.severity is lsp.DiagnosticSeverity.Error
        line = text.split("\n").index("    10 permit booking    tickets to manifest")
        assert error.range == lsp.Range(lsp.Position(line, 14), lsp.Position(line, 20))
        context = lsp.CodeActionContext([error])
        (action,) = (
            await client.client.text_document_code_action_async(
                lsp.CodeActionParams(document, error.range, context)
            )
            or ()
        )
        assert isinstance(action, lsp.CodeAction)
        assert (action.title, list(action.diagnostics or ())) == ("Write booking", [error])
        assert action.edit is not None
        assert action.edit.changes is not None
        assert list(action.edit.changes[document.uri]) == [lsp.TextEdit(error.range, "booking")]
        client.replace(
            document,
            text.replace(
                "expect deny      ping      kiosk-1", "expect permit    ping      kiosk-1"
            ),
        )
        told = await client.diagnostics(document, 8)
        assert next(each.message for each in told if each.code == "verify").startswith("ping from")

    served(work)


def test_words_are_explained_where_they_stand(demo: Path) -> None:
    text = demo.read_text()

    async def work(client: Client) -> None:
        document = client.open(demo)
        await client.diagnostics(document, 7)
        assert "service **booking**: tcp/8443, tcp/9443" in await hover(
            client, document, place(text, "permit booking    tickets", 8)
        )
        assert "subnet **tickets**: 10.64.8.0/22, 2001:db8:64:8::/64" in await hover(
            client, document, place(text, "tickets to manifest", 1)
        )
        wild = await hover(client, document, place(text, "10.64.32.10 wild", 3))
        assert "4 addresses" in wild
        assert "00001010 01000000 001000xx 00001010" in wild
        assert await hover(client, document, place(text, "wild 0.0.3.0", 6)) == wild
        assert "daily 22:00-05:30" in await hover(client, document, place(text, "during night", 8))
        assert "placed outbound on lighthouse.v160" in await hover(
            client, document, place(text, "place 12", 6)
        )
        kiosk = await hover(client, document, place(text, "kiosk-1   to manifest", 2))
        assert "asked about what it sends: `kiosk-port` inbound on jetty.3" in kiosk
        assert "interface **breakwater.quay**: 192.0.2.1" in await hover(
            client, document, place(text, "by breakwater.quay", 14)
        )
        assert "router **breakwater**" in (
            await hover(client, document, place(text, "by breakwater.quay", 5))
        ).replace("device", "router")
        entry = await hover(client, document, place(text, "30 permit duty", 1))
        assert "duty may send anything, while night is open (daily 22:00-05:30)." in entry
        assert "entry **30** of 12" in entry
        assert "it takes **ip** from 1 address to any, while night is open" in entry
        assert "warning **spoofable**" in entry
        assert "**held**" in await hover(
            client, document, place(text, "expect permit    booking", 2)
        )
        assert "What a list does with packets that no entry takes" in await hover(
            client, document, place(text, "    otherwise deny", 6)
        )
        assert "A finding" not in await hover(client, document, place(text, "accept one-family", 9))
        assert "one family only" in await hover(
            client, document, place(text, "accept one-family", 9)
        )
        assert await hover(client, document, place(text, "# what the world may see", 5)) == ""

    served(work)


def test_what_may_stand_there_is_offered(demo: Path) -> None:
    text = demo.read_text()

    async def work(client: Client) -> None:
        document = client.open(demo)
        await client.diagnostics(document, 7)
        lines = text.split("\n")
        for typed, wanted, unwanted in (
            ("    80 ", ["permit", "deny", "off"], ["tickets", "expect"]),
            ("    80 permit boo", ["booking", "bootps"], ["permit"]),
            ("    80 permit tcp/443,dom", ["domain"], ["booking"]),
            ("    80 permit booking kio", ["kiosk-1", "kiosk-2"], ["kiosk-fence", "internet"]),
            ("    80 permit booking tickets ", ["to"], ["kiosk-1"]),
            (
                "    80 permit booking tickets to manifest ",
                ["during", "at", "tls", "log", "established"],
                ["to"],
            ),
            ("    80 permit booking tickets to manifest during ", ["night", "dry-dock"], ["log"]),
            (
                "    80 permit tcp/443 any to any cipher TLS_AES_2",
                ["TLS_AES_256_GCM_SHA384"],
                ["TLS_AES_128_GCM_SHA256"],
            ),
            ("place ki", ["kiosk-fence", "kiosk-fence6", "kiosk-port"], ["kiosk-1"]),
            ("place 12 inbound on lighthouse.", ["lighthouse.v80", "lighthouse.1"], ["subnet"]),
            ("place 12 inbound on ", ["subnet", "host", "group", "pier.b1"], ["night"]),
            ("expect deny https vis", ["visitor"], ["kiosk-1"]),
            ("expect deny https visitor to int", ["internet"], []),
            ("accept no", ["no-effect", "nothing-permitted"], ["spoofable"]),
            ("host printer 10.64.20.9 ", ["on", "at", "mac", "gateway"], ["to"]),
            ("ke", ["keep"], ["expect"]),
        ):
            at = next(
                number
                for number, line in enumerate(lines)
                if line.startswith("    70 permit domain ")
            )
            if not typed.startswith(" "):
                at = len(lines) - 1
            changed = [*lines[: at + 1], typed, *lines[at + 1 :]]
            client.replace(document, "\n".join(changed))
            found = await completed(client, document, lsp.Position(at + 1, len(typed)))
            assert set(wanted) <= set(found), (typed, found[:20])
            assert not set(unwanted) & set(found), (typed, found[:20])

    served(work)


def test_names_are_found_and_given_anew_in_all_files(tmp_path: Path) -> None:
    (tmp_path / "names.gate").write_text(
        "group servers 10.64.20.10\nservice booking tcp/8443\n# servers stay in remarks\n"
    )
    main = tmp_path / "main.gate"
    main.write_text(
        'include "names.gate"\nsubnet hall 10.64.8.0/22\nrouter gate\n    interface hall '
        "10.64.8.1/22 on hall\n"
        "list booking extended ipv4\n    10 permit booking,tcp/80 hall to servers "
        '"servers"\nplace booking inbound on gate.hall\n'
        "expect permit booking hall to servers by booking 10\n"
    )

    async def work(client: Client) -> None:
        text = main.read_text()
        names = client.open(tmp_path / "names.gate")
        document = client.open(main)
        at = place(text, "hall to servers", 9)
        found = await client.client.text_document_definition_async(
            lsp.DefinitionParams(document, at)
        )
        assert isinstance(found, lsp.Location)
        assert (found.uri, found.range.start) == (names.uri, lsp.Position(0, 6))
        used = await client.client.text_document_references_async(
            lsp.ReferenceParams(lsp.ReferenceContext(True), document, at)
        )
        assert used is not None
        assert sorted((Path(each.uri).name, each.range.start.line) for each in used) == [
            ("main.gate", 5),
            ("main.gate", 7),
            ("names.gate", 0),
        ]
        edit = await client.client.text_document_rename_async(
            lsp.RenameParams(document, at, "machines")
        )
        assert edit is not None
        assert edit.changes is not None
        assert {Path(uri).name: len(edits) for uri, edits in edit.changes.items()} == {
            "main.gate": 2,
            "names.gate": 1,
        }
        # A service and a list may have one name; each is renamed by itself.
        edit = await client.client.text_document_rename_async(
            lsp.RenameParams(document, place(text, "permit booking,", 8), "sales")
        )
        assert edit is not None
        assert edit.changes is not None
        edits = sorted(
            (Path(uri).name, each.range.start.line, each.range.start.character)
            for uri, several in edit.changes.items()
            for each in several
        )
        assert edits == [("main.gate", 5, 14), ("main.gate", 7, 14), ("names.gate", 1, 8)]
        edit = await client.client.text_document_rename_async(
            lsp.RenameParams(document, place(text, "on gate.hall", 4), "door")
        )
        assert edit is not None
        assert edit.changes is not None
        assert sorted(
            (each.range.start.line, each.range.start.character, each.range.end.character)
            for each in edit.changes[document.uri]
        ) == [
            (2, 7, 11),
            (6, 25, 29),
        ]
        assert (
            await client.client.text_document_rename_async(lsp.RenameParams(document, at, "hall"))
            is None
        )
        assert "hall stands for something else already" in client.messages[-1]
        # What is typed in one file and not saved counts in the other.
        client.replace(names, "group others 10.64.20.10\nservice booking tcp/8443\n")
        assert [each.message.split(";")[0] for each in await client.diagnostics(document, 2)] == [
            "no name servers",
            "no name servers",
        ]

    served(work)


def test_a_file_as_a_whole(demo: Path) -> None:
    text = demo.read_text()

    async def work(client: Client) -> None:
        document = client.open(demo)
        await client.diagnostics(document, 7)
        symbols = await client.client.text_document_document_symbol_async(
            lsp.DocumentSymbolParams(document)
        )
        assert symbols is not None
        named = {each.name: each for each in symbols}
        assert {
            "lighthouse",
            "kiosk-1",
            "servers",
            "booking",
            "night",
            "12",
            "banned",
            "internet",
        } <= named.keys()
        fence = named["kiosk-fence"]
        assert isinstance(fence, lsp.DocumentSymbol)
        assert fence.range.end.line - fence.range.start.line == 6
        entries = [(each.name, each.detail) for each in fence.children or ()]
        assert ("10", "permit booking    tickets to manifest") in entries
        lighthouse = named["lighthouse"]
        assert isinstance(lighthouse, lsp.DocumentSymbol)
        assert {("v80", "interface")} <= {
            (each.name, each.detail) for each in lighthouse.children or ()
        }
        folds = await client.client.text_document_folding_range_async(
            lsp.FoldingRangeParams(document)
        )
        assert folds is not None
        assert (fence.range.start.line, fence.range.end.line) in {
            (each.start_line, each.end_line) for each in folds
        }
        lenses = await client.client.text_document_code_lens_async(lsp.CodeLensParams(document))
        assert lenses is not None
        titles = {
            each.range.start.line: each.command.title for each in lenses if each.command is not None
        }
        assert titles[fence.range.start.line] == "placed inbound on lighthouse.v80 · 4 entries"
        assert titles[place(text, "expect permit    booking").line] == "held"
        tokens = await client.client.text_document_semantic_tokens_full_async(
            lsp.SemanticTokensParams(document)
        )
        some = await client.client.text_document_semantic_tokens_range_async(
            lsp.SemanticTokensRangeParams(
                document, lsp.Range(lsp.Position(0, 0), lsp.Position(4, 0))
            )
        )
        assert tokens is not None
        assert some is not None
        assert list(tokens.data[: len(some.data)]) == list(some.data)
        assert len(tokens.data) > 4_000
        unnumbered = text.replace("    10 permit kiosk-1", "    permit kiosk-1")
        client.replace(document, unnumbered)
        hints = await client.client.text_document_inlay_hint_async(
            lsp.InlayHintParams(document, lsp.Range(lsp.Position(0, 0), lsp.Position(300, 0)))
        )
        assert [each.label for each in hints or ()] == ["10"]

    served(work)


def test_layout_and_mends_are_edits(demo: Path) -> None:
    text = demo.read_text()

    async def work(client: Client) -> None:
        document = client.open(
            demo, text.replace("    10 permit kiosk-1", "  10   permit  kiosk-1")
        )
        options = lsp.FormattingOptions(4, True)
        await client.diagnostics(document, 7)
        edits = await client.client.text_document_formatting_async(
            lsp.DocumentFormattingParams(document, options)
        )
        assert [each.new_text for each in edits or ()] == [
            '    10 permit kiosk-1 "nobody else behind this socket"\n'
        ]
        far = lsp.Range(lsp.Position(0, 0), lsp.Position(3, 0))
        assert not await client.client.text_document_range_formatting_async(
            lsp.DocumentRangeFormattingParams(document, far, options)
        )
        at = place(text, "30 deny   ip                any    to 2001")
        actions = await client.client.text_document_code_action_async(
            lsp.CodeActionParams(document, lsp.Range(at, at), lsp.CodeActionContext([]))
        )
        assert actions is not None
        (action,) = actions
        assert isinstance(action, lsp.CodeAction)
        assert action.title.startswith("Mend icmp6-needed")
        resolved = await client.client.code_action_resolve_async(action)
        assert resolved.edit is not None
        assert resolved.edit.changes is not None
        assert (
            "permit icmp/destination-unreachable" in resolved.edit.changes[document.uri][0].new_text
        )
        client.replace(
            document,
            text.replace(
                "expect deny      ping      kiosk-1   to crane-2    by",
                "expect permit    ping      kiosk-1   to crane-2    by",
            ),
        )
        await client.diagnostics(document, 8)
        at = place(text, "expect deny      ping      kiosk-1")
        (action,) = (
            await client.client.text_document_code_action_async(
                lsp.CodeActionParams(document, lsp.Range(at, at), lsp.CodeActionContext([]))
            )
            or ()
        )
        assert action.title == "Make this hold"

    served(work)


def test_the_servers_text_stays_that_of_the_editor(demo: Path, tmp_path: Path) -> None:
    """Edits at random, characters of two code units among them: its errors are those of the text
    that the editor has.
    """
    chance = random.Random(7)
    other = tmp_path / "copy.gate"

    async def work(client: Client) -> None:
        text = demo.read_text()
        document = client.open(demo)
        for _ in range(60):
            lines = text.split("\n")
            line = chance.randrange(len(lines))
            start = chance.randrange(len(lines[line]) + 1)
            last = min(line + chance.choice([0, 0, 0, 1, 2]), len(lines) - 1)
            end = chance.randrange(start if last == line else 0, len(lines[last]) + 1)
            typed = chance.choice(
                [
                    "",
                    "x",
                    " ",
                    "permit",
                    "\n",
                    "    20 deny ip any to any\n",
                    "# \U0001f6a2 é",
                    '"',
                    "\r\n",
                    "10.0.0.0/8",
                ]
            )

            def units(number: int, column: int, lines: list[str] = lines) -> lsp.Position:
                return lsp.Position(number, len(lines[number][:column].encode("utf-16-le")) // 2)

            change = lsp.TextDocumentContentChangePartial(
                lsp.Range(units(line, start), units(last, end)), typed
            )
            client.change(document, change)
            head = "\n".join([*lines[:line], lines[line][:start]])
            tail = "\n".join([lines[last][end:], *lines[last + 1 :]])
            text = head + typed + tail
            if chance.random() < 0.3:
                client.replace(document, text := demo.read_text())
        other.write_bytes(text.encode())
        wanted = attempt(other)[1]
        symbols = await client.client.text_document_document_symbol_async(
            lsp.DocumentSymbolParams(document)
        )
        assert symbols is not None  # every change has been read by now
        told = [each for each in client.told[document.uri] if each.code is None]
        assert [(each.range.start.line + 1, each.message) for each in told] == [
            (each.place.line, each.message) for each in wanted if each.place
        ]

    served(work)
