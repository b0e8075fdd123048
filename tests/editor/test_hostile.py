"""Whatever an editor sends, the server goes on and answers what can be answered."""

from __future__ import annotations

import json
import os
import random
import subprocess
import threading
import time
from pathlib import Path
from queue import Empty, Queue
from typing import Any

import pytest

from tests.editor.client import CROSSGATE

VALUES: tuple[Any, ...] = (
    None,
    -1,
    0,
    1 << 40,
    "",
    "\r\u2028\n",
    "file:///nowhere.gate",
    [],
    {},
    True,
    1.5,
    "é" * 100,
    [[[[]]]],
)
PLACES = (
    "hover",
    "completion",
    "definition",
    "references",
    "documentHighlight",
    "prepareRename",
    "rename",
)
WHOLE = (
    "documentSymbol",
    "foldingRange",
    "codeLens",
    "inlayHint",
    "semanticTokens/full",
    "semanticTokens/range",
    "formatting",
    "rangeFormatting",
    "codeAction",
)


class Server:
    """The built server, spoken to in plain frames."""

    def __init__(self, folder: Path) -> None:
        self._process = subprocess.Popen(
            [CROSSGATE, "editor"],
            cwd=folder,
            stdin=subprocess.PIPE,
            stdout=subprocess.PIPE,
            stderr=subprocess.DEVNULL,
        )
        self._heard: Queue[dict[str, Any]] = Queue()
        threading.Thread(target=self._listen, daemon=True).start()

    def _listen(self) -> None:
        out = self._process.stdout
        assert out is not None
        while line := out.readline():
            size = int(line.split(b":")[1])
            while out.readline().strip():
                pass
            self._heard.put(json.loads(out.read(size)))

    def send(self, body: bytes) -> None:
        assert self._process.stdin is not None
        self._process.stdin.write(b"Content-Length: %d\r\n\r\n" % len(body) + body)
        self._process.stdin.flush()

    def ask(self, number: int, method: str, params: dict[str, Any]) -> dict[str, Any]:
        self.send(
            json.dumps(
                {"jsonrpc": "2.0", "id": number, "method": method, "params": params}
            ).encode()
        )
        until = time.monotonic() + 60
        while time.monotonic() < until:
            try:
                found = self._heard.get(timeout=1)
            except Empty:
                continue
            if found.get("id") == number and "method" not in found:
                return found
        raise AssertionError(f"no answer to {method}")

    def stop(self) -> None:
        self._process.kill()
        self._process.wait()


def spoilt(value: Any, chance: random.Random) -> Any:
    """Return a message with one value in it changed or taken out."""
    value = json.loads(json.dumps(value))
    places: list[tuple[Any, Any]] = []

    def walk(node: Any) -> None:
        for key in (
            node if isinstance(node, dict) else range(len(node)) if isinstance(node, list) else ()
        ):
            places.append((node, key))
            walk(node[key])

    walk(value)
    node, key = chance.choice(places)
    if chance.random() < 0.2:
        del node[key]
    else:
        node[key] = chance.choice(VALUES)
    return value


@pytest.mark.process
def test_mutated_messages_leave_the_server_answering(demo: Path) -> None:
    """Seeded messages; CROSSGATE_FUZZ says for how many seconds, else there are a few hundred."""
    seconds = float(os.environ.get("CROSSGATE_FUZZ", "0"))
    chance, start, count, number = (
        random.Random(19 if not seconds else time.time_ns()),
        time.monotonic(),
        0,
        1,
    )
    text = (demo / "ternhaven.gate").read_text()
    uri = (demo / "ternhaven.gate").as_uri()
    document = {"uri": uri, "version": 2}
    server = Server(demo)
    try:
        server.ask(
            number, "initialize", {"processId": None, "rootUri": demo.as_uri(), "capabilities": {}}
        )
        server.send(json.dumps({"jsonrpc": "2.0", "method": "initialized", "params": {}}).encode())
        opened = {
            "textDocument": {"uri": uri, "languageId": "crossgate", "version": 1, "text": text}
        }
        server.send(
            json.dumps(
                {"jsonrpc": "2.0", "method": "textDocument/didOpen", "params": opened}
            ).encode()
        )
        while count < 300 or time.monotonic() - start < seconds:
            count += 1
            number += 1
            position = {"line": chance.randrange(250), "character": chance.randrange(90)}
            there = {
                "start": position,
                "end": {
                    "line": position["line"] + chance.randrange(3),
                    "character": chance.randrange(90),
                },
            }
            method = chance.choice([*PLACES, *WHOLE, "didChange", "didClose", "didOpen", "didSave"])
            params: dict[str, Any] = {
                "textDocument": document,
                "position": position,
                "range": there,
                "newName": "x",
                "context": {"includeDeclaration": True, "diagnostics": []},
                "options": {"tabSize": 4, "insertSpaces": True},
            }
            if method == "didChange":
                typed = chance.choice(
                    ["", "\r", "\u2028", "list a extended ipv4\n", '"', "#", "x" * 1_000, text]
                )
                params = {
                    "textDocument": document,
                    "contentChanges": [{"range": there, "text": typed}],
                }
            elif method == "didOpen":
                params = opened
            message: dict[str, Any] = {
                "jsonrpc": "2.0",
                "method": f"textDocument/{method}",
                "params": params,
            }
            if not method.startswith("did"):
                message["id"] = 100_000 + number
            if chance.random() < 0.5:
                message = spoilt(message, chance)
            body = json.dumps(message).encode()
            if chance.random() < 0.05:
                body = body[: chance.randrange(1, len(body))]
            server.send(body)
            if count % 50 == 0:
                server.send(
                    json.dumps(
                        {"jsonrpc": "2.0", "method": "textDocument/didOpen", "params": opened}
                    ).encode()
                )
                answer = server.ask(
                    number, "textDocument/documentSymbol", {"textDocument": {"uri": uri}}
                )
                assert len(answer["result"]) > 20
    finally:
        server.stop()
