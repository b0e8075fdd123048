"""Stand-ins that tests play."""

from __future__ import annotations

import random
import socket
import subprocess
import sys
from collections.abc import Callable, Iterator
from pathlib import Path

import pytest

DEVICES = 5
Play = Callable[..., int]


def free_ports(number: int) -> int:
    """Return the first of so many ports in a row that are free."""
    for _ in range(99):
        first = random.randint(20_000, 30_000)
        taken = []
        try:
            for port in range(first, first + number):
                taken.append(socket.create_server(("127.0.0.1", port)))
            return first
        except OSError:
            continue
        finally:
            for each in taken:
                each.close()
    raise AssertionError("no ports are free")


@pytest.fixture
def play(demo: Path) -> Iterator[Play]:
    """Start stand-ins in the demo's folder, and return the first one's port."""
    running = list[subprocess.Popen[str]]()

    def begin(*words: str) -> int:
        port = free_ports(DEVICES)
        command = [sys.executable, "-m", "crossgate", "stand-in", "--port", str(port), *words]
        process = subprocess.Popen(command, cwd=demo, stdout=subprocess.PIPE, text=True)
        running.append(process)
        assert process.stdout is not None
        said = list[str]()
        while not said or not said[-1].startswith("Ask them with"):
            said.append(process.stdout.readline())
            assert said[-1], said
        return port

    yield begin
    for each in running:
        each.kill()
        each.wait()
