"""Real packets between real network stacks; where this system makes no namespaces these are
skipped, and say why.
"""

from __future__ import annotations

import functools
import json
import os
import pty
import random
import re
import select
import signal
import socket
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable, Iterator
from datetime import datetime
from pathlib import Path
from types import SimpleNamespace
from typing import Any

import pytest
from hypothesis import Phase, find, settings

from crossgate.core.conversation.opening import conversations
from crossgate.core.conversation.packets import Tracer
from crossgate.core.conversation.verdict import Verdict
from crossgate.core.model.conditions import When
from crossgate.core.model.errors import PlanError
from crossgate.core.model.plan import Plan
from crossgate.core.network.endpoints import pairs
from crossgate.core.network.ways import Network
from crossgate.language.reader import Reading, read
from crossgate.rehearsal.network import Rehearsal
from crossgate.rehearsal.session import RunningRehearsal, start
from tests.conftest import Run
from tests.documents import checked
from tests.net import plans

Read = Callable[[str], Plan]
MONDAY = datetime(2026, 11, 30, 12)
SMALL = """
subnet hall 10.0.0.0/24 2001:db8:1::/64
subnet yard 10.0.1.0/24 2001:db8:2::/64
router gate
    interface hall 10.0.0.1/24 2001:db8:1::1/64 on hall
    interface yard 10.0.1.1/24 2001:db8:2::1/64 on yard
host kiosk  10.0.0.9 2001:db8:1::9 on hall
host ledger 10.0.1.9 2001:db8:2::9 on yard
list fence extended ipv4
    10 permit tcp/8443 kiosk to ledger
    20 reject tcp/22 kiosk to ledger
place fence inbound on gate.hall
"""


@functools.cache
def why_not() -> str:
    """Return why there can be no rehearsal here; "" where there can."""
    with tempfile.TemporaryDirectory() as folder:
        plan = Path(folder) / "try.gate"
        plan.write_text("subnet a 10.0.0.0/24\nhost h 10.0.0.1 on a\n")
        try:
            start(read(plan).plan, lambda: MONDAY).close()
        except PlanError as error:
            return error.message
    return ""


pytestmark = pytest.mark.skipif(bool(why_not()), reason=f"no namespaces here: {why_not()}")


def connects(address: str, port: int, wait: float = 1.0) -> list[str]:
    """Return a command that connects, and ends with what became of that."""
    program = (
        f"import socket, sys\ns = socket.create_connection(({address!r}, {port}), {wait})\n"
        "sys.exit(0 if s.recv(9) == b'welcome' else 9)"
    )
    told = f"try:\n    {program.replace(chr(10), chr(10) + '    ')}\n"
    told += "except OSError as e:\n    print(type(e).__name__, e.errno)\n    sys.exit(7)"
    return [sys.executable, "-c", told]


WELCOMES = (
    "import socket\ns = socket.create_server(('', {}))\nwhile True: s.accept()[0].send(b'welcome')"
)


@pytest.fixture
def rehearsing(plan_of: Read) -> Iterator[Callable[[str], RunningRehearsal]]:
    """Start rehearsals of plans, which end with the test."""
    running = list[RunningRehearsal]()

    def begin(text: str) -> RunningRehearsal:
        plan = plan_of(text)
        path = Path(plan.files[0])
        running.append(start(plan, lambda: MONDAY, path, read=lambda: read(path)))
        return running[-1]

    yield begin
    for each in running:
        each.close()


def tried(session: RunningRehearsal, within: float = 1.5) -> list[dict[str, Any]]:
    session.ask({"do": "claims", "within": within})
    return [each for each in session.until("claims") if "claim" in each]


def test_a_command_runs_on_a_machine_and_its_status_comes_back(launch: Run, demo: Path) -> None:
    done = launch("rehearse", "kiosk-1", "--", *connects("10.64.20.10", 8443))
    # Nobody listens there; the system there says so, and the answer comes back.
    assert (done.returncode, done.stdout) == (7, "ConnectionRefusedError 111\n")
    assert "kiosk-fence 10  " in done.stderr
    silent = launch("rehearse", "kiosk-1", "--", *connects("10.64.16.12", 443))
    assert silent.stdout == "TimeoutError None\n"
    assert "kiosk-fence otherwise" in silent.stderr
    absent = launch("rehearse", "kiosk-1", "--", "no-such-program")
    assert (absent.returncode, absent.stderr.splitlines()[0]) == (
        127,
        "no-such-program: No such file or directory",
    )
    nobody = launch("rehearse", "kisok-1", "--", "true")
    assert (nobody.returncode, "there is kiosk-1" in nobody.stderr) == (2, True)


@pytest.mark.process
def test_every_claim_of_the_demo_is_seen_to_hold(run: Run, demo: Path) -> None:
    done = run("rehearse", "--expectations")
    assert (done.returncode, done.stderr) == (0, "")
    assert "27 of 27 claims seen to hold" in done.stdout
    plan = demo / "ternhaven.gate"
    text = plan.read_text()
    plan.write_text(text.replace("    10 permit booking  ", "    10 deny   booking  ", 1))
    assert plan.read_text() != text
    broken = run("rehearse", "--expectations", "--json", "--within", "0.5")
    found = [json.loads(line) for line in broken.stdout.splitlines()]
    failed = [each["claim"] for each in found if each.get("held") is False]
    assert (broken.returncode, failed) == (1, ["expect permit booking kiosk-1 to manifest"])


def test_what_is_permitted_rejected_and_dropped(
    rehearsing: Callable[[str], RunningRehearsal],
) -> None:
    session = rehearsing(
        SMALL
        + "expect permit tcp/8443 kiosk to ledger over ipv4\n"
        + "expect deny ssh kiosk to ledger over ipv4\n"
        + "expect deny ping kiosk to ledger over ipv4\n"
        + "expect permit ping kiosk to ledger over ipv6\n"
        + "expect permit ping kiosk to gate over ipv6\n"
        + "expect permit ssh kiosk to ledger over ipv4\n"
    )
    seen = [each["tried"][0]["seen"] for each in tried(session, 0.5)]
    assert seen == [
        "answered",
        "refused at once",
        "silence",
        "answered",
        "answered",
        "refused at once",
    ]
    assert [each["held"] for each in tried(session, 0.5)] == [True, True, True, True, True, False]


@pytest.mark.parametrize("seed", range(7))
def test_random_plans_fare_as_they_are_traced(
    rehearsing: Callable[[str], RunningRehearsal], plan_of: Read, seed: int
) -> None:
    chance = random.Random(seed)
    text = find(
        plans(most=6),
        # Who gets no frames does not learn whom to send to, and trace knows nothing of that.
        lambda each: (
            each.count("place ") > 3
            and "at most" not in each
            and "deny any any to pinned" not in each
        ),
        settings=settings(max_examples=500, database=None, phases=[Phase.generate]),
        random=chance,
    )
    plan = plan_of(text)
    network = Network(plan)
    tracer = Tracer(network, plan.state_at(When(MONDAY)))
    claims = list[str]()
    words = {
        Verdict.PERMITTED: "permit",
        Verdict.DENIED: "deny",
        Verdict.HALF_OPEN: "half-open",
    }
    for one in ("pinned", "plain", "server", "far"):
        for other in ("pinned", "plain", "server", "far"):
            for start_at, end in pairs(network, one, other) if one != other else ():
                for service in ("tcp/80", "udp/85", "ping"):
                    family = start_at.address.family
                    (wanted,) = conversations(plan.service(service, family), start_at, end)
                    verdict = tracer.trace(wanted).verdict
                    if verdict in words:
                        claims.append(
                            f"expect {words[verdict]} {service} {one} to {other} over "
                            f"ipv{int(family)}"
                        )
    found = tried(rehearsing(text + "\n".join(claims) + "\n"), 0.8)
    assert len(found) == len(claims) > 60
    assert [each for each in found if not each["held"]] == []


@pytest.mark.process
def test_a_save_holds_for_what_runs(
    rehearsing: Callable[[str], RunningRehearsal], tmp_path: Path
) -> None:
    session = rehearsing(SMALL.replace("20 reject", "20 permit"))
    plan = next(tmp_path.glob("*.gate"))
    session.ask({"do": "watch"})
    server = [sys.executable, "-c", WELCOMES.format(22)]
    session.ask({"do": "run", "on": "ledger", "words": server, "folder": "/"}, (0, 1, 2))
    deadline = time.monotonic() + 20
    while session.run("kiosk", connects("10.0.1.9", 22))["ended"] != 0:
        assert time.monotonic() < deadline
    plan.write_text(SMALL)
    assert any(each.get("plan") == "changed" for each in session.until("plan"))
    assert session.run("kiosk", connects("10.0.1.9", 22))["ended"] == 7
    plan.write_text(SMALL + "host other 10.0.1.10 on yard\n")
    said = [each for each in session.until("plan") if "plan" in each]
    assert said == [{"plan": "other machines", "why": "machines or addresses have changed"}]
    plan.write_text("what is this\n")
    assert [each["plan"] for each in session.until("plan") if "plan" in each] == ["has errors"]
    assert session.run("kiosk", connects("10.0.1.9", 22))["ended"] == 7


def test_what_is_saved_while_the_plan_is_read_is_taken_next(tmp_path: Path) -> None:
    file = tmp_path / "p.gate"
    file.write_text(SMALL)
    told = list[dict[str, object]]()

    def reads_and_is_overtaken() -> Reading:
        found = read(file)
        if "other" not in file.read_text():
            file.write_text(SMALL + "host other 10.0.1.10 on yard\n")
        return found

    running = Rehearsal.__new__(Rehearsal)
    vars(running).update(
        fabric=SimpleNamespace(plan=read(file).plan, machines={}),
        _read=reads_and_is_overtaken,
        _saves=True,
        _documents={},
        _stamps={str(file): None},
        _tell=told.append,
        change=lambda plan, how: told.append({"plan": how, "hosts": len(plan.hosts)}),
    )
    running._look()
    running._look()
    running._look()
    assert [each["hosts"] for each in told] == [2, 3]


def test_nothing_of_this_machine_is_reached_from_inside(
    rehearsing: Callable[[str], RunningRehearsal], capfd: pytest.CaptureFixture[str]
) -> None:
    with socket.create_server(("127.0.0.1", 0)) as outside:
        port = outside.getsockname()[1]
        session = rehearsing(SMALL)
        assert session.run("kiosk", connects("127.0.0.1", port))["ended"] == 7
        names = "import socket; print(sorted(name for _, name in socket.if_nameindex()))"
        assert session.run("kiosk", [sys.executable, "-c", names])["ended"] == 0
    assert "['eth0', 'lo']" in capfd.readouterr().out


@pytest.mark.process
def test_a_killed_rehearsal_leaves_no_process_and_no_meeting_place(
    demo: Path, tmp_path: Path
) -> None:
    mark = f"sleep-{os.getpid()}"
    script = tmp_path / mark
    script.write_text("#!/bin/sh\nexec sleep 300\n")
    script.chmod(0o755)
    process = subprocess.Popen(
        [
            sys.executable,
            "-m",
            "crossgate",
            "rehearse",
            "duty",
            "--",
            "sh",
            "-c",
            f"sleep 300 # {mark}",
        ],
        cwd=demo,
    )

    def running() -> int:
        found = 0
        for each in Path("/proc").glob("[0-9]*/cmdline"):
            try:
                found += mark.encode() in each.read_bytes()
            except OSError:
                continue
        return found

    def waited(wanted: Callable[[int], bool]) -> int:
        deadline = time.monotonic() + 20
        while not wanted(running()) and time.monotonic() < deadline:
            time.sleep(0.1)
        return running()

    assert waited(lambda number: number >= 2) >= 2  # the program, and the command
    process.send_signal(signal.SIGKILL)
    process.wait()
    assert waited(lambda number: number == 0) == 0


@pytest.mark.process
def test_another_terminal_joins(run: Run, demo: Path) -> None:
    none = run("rehearse", "--join", "duty", "--", "true")
    assert (none.returncode, "no rehearsal of" in none.stderr) == (2, True)
    server = [sys.executable, "-c", WELCOMES.format(8443)]
    with subprocess.Popen(
        [sys.executable, "-m", "crossgate", "rehearse", "manifest", "--", *server], cwd=demo
    ) as first:
        deadline = time.monotonic() + 30
        while (
            done := run("rehearse", "--join", "kiosk-1", "--", *connects("10.64.20.10", 8443))
        ).returncode:
            assert time.monotonic() < deadline, done.stderr
            time.sleep(0.2)
        first.send_signal(signal.SIGKILL)


def test_what_is_captured_replays_to_what_was_decided(run: Run, launch: Run, demo: Path) -> None:
    words = ("rehearse", "--capture", "lighthouse.v80", "--out", "hall.pcapng", "kiosk-1", "--")
    done = launch(*words, *connects("10.64.20.10", 22, 1.5))
    assert done.stdout == "TimeoutError None\n"
    found = re.search(r"(\d+) packets?  kiosk-fence otherwise", done.stderr)
    assert found is not None
    denied = checked(run("replay", "hall.pcapng", "--json").stdout)["verdicts"]["denied"]
    assert (denied["conversations"], denied["packets"]) == (1, int(found[1]))
    both = run("rehearse", "--capture", "lighthouse.v80", "kiosk-1", "--", "true")
    assert (both.returncode, "belong together" in both.stderr) == (2, True)
    over = run("rehearse", "--capture", "lighthouse.v80", "--out", "ternhaven.gate")
    assert (over.returncode, "name another file" in over.stderr) == (2, True)


@pytest.mark.process
def test_a_prompt_is_on_machines_and_ends_with_ctrl_d(demo: Path) -> None:
    process, terminal = pty.fork()
    if not process:
        os.chdir(demo)
        os.execv(sys.executable, [sys.executable, "-m", "crossgate", "rehearse", "kiosk-1"])
    seen = b""

    def until(text: str) -> None:
        nonlocal seen
        deadline = time.monotonic() + 30
        while text.encode() not in seen:
            assert time.monotonic() < deadline, seen
            if select.select([terminal], [], [], 0.2)[0]:
                seen += os.read(terminal, 4096)
        seen = seen.partition(text.encode())[2]

    def types(text: str) -> None:
        os.write(terminal, text.encode())

    until("kiosk-1> ")
    types("sleep 300\r")
    until("sleep 300")
    time.sleep(0.5)
    types("\x03")  # ends the command, and not the rehearsal
    until("kiosk-1> ")
    types("on dut\t\r")
    until("duty> ")
    types("on nobody\r")
    until("no host nobody")
    types("down lighthouse\r")
    until("duty> ")
    types("what was decided\r")
    until("No list decided anything.")
    until("duty> ")
    types("\x04")
    until("No list decided anything.")
    assert os.waitstatus_to_exitcode(os.waitpid(process, 0)[1]) == 0
    os.close(terminal)
