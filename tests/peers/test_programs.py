"""Programs of the system on machines of a plan: what they show is what the plan says."""

from __future__ import annotations

import re
import subprocess
import sys
from collections.abc import Iterator
from pathlib import Path

import pytest

from tests.conftest import Run
from tests.peers import program
from tests.rehearsal.test_rehearse import why_not

pytestmark = pytest.mark.skipif(bool(why_not()), reason=f"no namespaces here: {why_not()}")

ANSWERS = """
import http.server, socket, struct, threading
names = socket.socket(socket.AF_INET, socket.SOCK_DGRAM)
names.bind(("", 53))
def answer():
    while True:
        asked, who = names.recvfrom(512)
        end = asked.index(b"\\0", 12) + 5
        head = asked[:2] + b"\\x81\\x80\\0\\1\\0\\1\\0\\0\\0\\0"
        names.sendto(head + asked[12:end] + b"\\xc0\\x0c\\0\\1\\0\\1\\0\\0\\0\\5\\0\\4\\x0a\\x40\\x14\\x0a", who)
threading.Thread(target=answer, daemon=True).start()
http.server.ThreadingHTTPServer(("", 8443), http.server.SimpleHTTPRequestHandler).serve_forever()
"""


@pytest.fixture
def answering(demo: Path) -> Iterator[Path]:
    """The demo as it runs, with a server for pages and names on manifest and one on resolver."""
    command = [sys.executable, "-m", "crossgate", "rehearse"]
    processes = [
        subprocess.Popen([*command, "resolver", "--", sys.executable, "-c", ANSWERS], cwd=demo)
    ]
    joins = [*command, "--join", "manifest", "--", sys.executable, "-c", ANSWERS]
    while subprocess.run(
        [*command, "--join", "duty", "--", "true"], cwd=demo, check=False, stderr=subprocess.DEVNULL
    ).returncode:
        assert processes[0].poll() is None
    processes.append(subprocess.Popen(joins, cwd=demo))
    yield demo
    for each in reversed(processes):
        each.kill()
        each.wait()


def on(launch: Run, machine: str, *words: str) -> subprocess.CompletedProcess[str]:
    return launch("rehearse", "--join", machine, "--", *words)


def test_ping_is_answered_or_dropped(launch: Run, demo: Path) -> None:
    ping = program("ping")
    answered = launch(
        "rehearse", "manifest", "--", ping, "-c", "2", "-i", "0.2", "-W", "2", "10.64.20.53"
    )
    assert (answered.returncode, " 0% packet loss" in answered.stdout) == (0, True)
    dropped = launch("rehearse", "kiosk-1", "--", ping, "-c", "1", "-W", "1", "crane-2")
    assert (dropped.returncode, "100% packet loss" in dropped.stdout) == (1, True)


def test_pages_and_names_come_as_the_lists_allow(launch: Run, answering: Path) -> None:
    fetched = on(
        launch,
        "kiosk-1",
        program("curl"),
        "-sS",
        "--retry",
        "9",
        "--retry-connrefused",
        "http://manifest:8443/",
    )
    assert (fetched.returncode, "ternhaven.gate" in fetched.stdout) == (0, True)
    refused = on(launch, "kiosk-1", program("curl"), "-4sS", "-m", "5", "http://manifest:23/")
    assert refused.returncode == 7
    assert re.search(r"kiosk-fence 30 +reject tcp/telnet", refused.stderr)
    asked = on(
        launch,
        "kiosk-1",
        program("dig"),
        "+short",
        "+timeout=3",
        "@10.64.20.53",
        "ternhaven.example",
    )
    assert asked.stdout == "10.64.20.10\n"


def test_traceroute_shows_the_way(launch: Run, demo: Path) -> None:
    done = launch(
        "rehearse",
        "duty",
        "--",
        program("traceroute"),
        "-n",
        "-w",
        "2",
        "-q",
        "1",
        "-m",
        "3",
        "-I",
        "10.64.16.11",
    )
    hops = re.findall(r"^ *(\d+)  (\S+)", done.stdout, re.M)
    assert hops[0] == ("1", "10.64.20.1")
