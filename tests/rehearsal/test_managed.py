"""Devices of a rehearsal that are pushed to over its own network, by its own packets."""

from __future__ import annotations

import re
import sys
from pathlib import Path

import pytest

from tests.conftest import Run
from tests.rehearsal.test_rehearse import connects, why_not

pytestmark = pytest.mark.skipif(bool(why_not()), reason=f"no namespaces here: {why_not()}")

PLAN = """
subnet hall 10.0.0.0/24
subnet yard 10.0.1.0/24
router gate
    interface hall 10.0.0.1/24 on hall
    interface yard 10.0.1.1/24 on yard
    manage netconf 10.0.0.1
host desk   10.0.0.9 on hall
host ledger 10.0.1.9 on yard
list in extended ipv4
    10 deny tcp/8443 desk to ledger
    otherwise permit
place in inbound on gate.hall
keep permit ssh desk to gate
"""
PROGRAM = """
import pathlib, subprocess, sys, time
plan, word, wanted, words = pathlib.Path("site.gate"), {word!r}, {wanted!r}, {words!r}
def push():
    command = [sys.executable, "-m", "crossgate", "push", "--yes", "--within", "3"]
    return subprocess.run([*command, "--confirm-within", "5", *words]).returncode
def tries():
    return subprocess.run({tries!r}).returncode
before = tries()
text = plan.read_text()
plan.write_text(text.replace(word, wanted))
status = push()
time.sleep({wait})
print("tried", before, "pushed", status, "tried", tries(), flush=True)
plan.write_text(text)
drift = [sys.executable, "-m", "crossgate", "drift", "--within", "5"]
print("drift", subprocess.run(drift).returncode)
"""


@pytest.fixture
def site(tmp_path: Path) -> Path:
    (tmp_path / "site.gate").write_text(PLAN)
    return tmp_path


def rehearsed(launch: Run, word: str, wanted: str, wait: float, *words: str) -> tuple[str, str]:
    tries = connects("10.0.1.9", 8443)
    program = PROGRAM.format(word=word, wanted=wanted, words=words, tries=tries, wait=wait)
    done = launch("rehearse", "--devices", "desk", "--", sys.executable, "-c", program)
    assert done.returncode == 0, done.stderr
    return done.stdout, done.stderr


def test_what_is_pushed_is_what_packets_meet(launch: Run, site: Path) -> None:
    told, _ = rehearsed(launch, "10 deny ", "10 reject ", 0)
    # Dropped in silence before, refused at once behind it.
    assert re.search(r"TimeoutError None\n.*OSError 113\n", told, re.S)
    assert "tried 7 pushed 0 tried 7" in told
    assert "drift 1" in told or "same       gate" in told


def test_who_locks_himself_out_is_let_in_again(launch: Run, site: Path) -> None:
    wanted = "10 deny tcp/22,830 any to any\n    20 deny "
    told, decided = rehearsed(launch, "10 deny ", wanted, 0.5, "--anyway")
    assert "failed in the end: keep permit ssh desk to gate" in told
    assert "pushed 2" in told
    assert "runs what it ran before" in told
    # Which of the two is told depends on how long the try to reach it took.
    assert re.search(
        r"nobody (reached gate for 5 seconds, and it went|answers there; it goes) back by itself",
        decided,
    )
    assert re.search(r"in 10 ", decided)  # the lock was real, and packets met it
    assert "drift 0" in told


def test_counters_of_devices_are_those_of_the_packets_that_met_them(
    launch: Run, site: Path
) -> None:
    tries = connects("10.0.1.9", 8443)
    program = f"""
import subprocess, sys
def crossgate(*words):
    subprocess.run([sys.executable, "-m", "crossgate", *words])
subprocess.run({tries!r})
crossgate("pull", "--tally", "--yes")
crossgate("tally", "in", "--json")
crossgate("pull", "--tally", "--yes")
crossgate("tally", "in", "--json")
"""
    done = launch("rehearse", "--devices", "desk", "--", sys.executable, "-c", program)
    assert done.returncode == 0, done.stderr
    found = re.findall(
        r'"entry": 10,[^}]*?"hits": (\d+)|"hits": (\d+)[^}]*?"entry": 10\b', done.stdout
    )
    first, second = (int(a or b) for a, b in found)
    assert first == second >= 1
    assert (site / "site.gate").read_text() == PLAN
