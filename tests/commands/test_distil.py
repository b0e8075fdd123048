"""`crossgate distil` on the demo's day: a list that permits what was seen there, and replaying the day through it."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path
from typing import Any

import pytest

from tests.conftest import Run

Answer = Callable[..., Any]


@pytest.fixture
def free(traffic: Path) -> Path:
    """The demo without the lists at the hall and at two berths."""
    text = (traffic / "ternhaven.gate").read_text()
    for line in ("place kiosk-fence  inbound", "place kiosk-fence6 inbound", "place berth-1-in", "place berth-3-in"):
        (found,) = (each for each in text.splitlines() if each.startswith(line))
        text = text.replace(f"{found}\n", "")
    text = "\n".join(line for line in text.splitlines() if not line.startswith("expect"))
    (traffic / "free.gate").write_text(text)
    return traffic


def distil(run: Run, *words: str) -> str:
    done = run("--plan", "free.gate", "distil", *words, "--anyway")
    assert done.returncode == 0, done.stderr + done.stdout
    return done.stdout


def test_a_list_of_each_family_permits_the_hall_and_replaying_the_day_shows_it(run: Run, answer: Answer, free: Path) -> None:
    told = distil(run, "day.pcap", "--into", "hall", "--place", "inbound", "lighthouse.v80")
    assert "hall gets 2 entries for 700 conversations" in told
    text = (free / "free.gate").read_text()
    assert '    10 permit tcp/8443 10.64.9.21-10.64.9.24 to manifest "350 conversations"' in text
    assert "list hall-6 extended ipv6" in text
    assert "place hall-6 inbound on lighthouse.v80" in " ".join(text.split())
    document = answer("--plan", "free.gate", "replay", "day.pcap", "--zone", "UTC")
    lists = {each["list"]: [line["legs"] for line in each["lines"]] for each in document["lists"]}
    # The SYN and what follows it are two legs; a name is asked for in one.
    assert (lists["hall"][:2], lists["hall-6"][:2]) == ([700, 350], [140, 70])
    stopped = [each for each in document["not_permitted"] if each["list"] in ("hall", "hall-6")]
    assert {(each["destination"], each["service"]) for each in stopped} == {
        ("198.51.100.80", "tcp/443"), ("10.64.20.10", "tcp/23"), ("10.64.16.11", "ping"),
    }  # fmt: skip
    again = run("--plan", "free.gate", "distil", "day.pcap", "--into", "hall", "-4")
    assert again.returncode == 2
    assert "nothing that was seen is left to permit in hall" in again.stderr


def test_answers_are_entries_where_the_device_does_not_remember(run: Run, answer: Answer, free: Path) -> None:
    distil(run, "flows.parquet", "--into", "berth", "--place", "inbound", "pier.b1")
    text = " ".join((free / "free.gate").read_text().split())
    assert "permit tcp/502 gate-1 to 10.64.16.11-10.64.16.12" in text
    assert 'permit tcp/32768- camera-1 to duty source port 554 established "7 conversations"' in text
    document = answer("--plan", "free.gate", "replay", "flows.parquet", "--zone", "UTC")
    assert not [each for each in document["not_permitted"] if each["list"] == "berth"]


def test_entries_go_before_the_first_denial_of_a_list_that_is_there(run: Run, free: Path) -> None:
    (free / "few.csv").write_text(
        "src,dst,proto,sport,dport,reversePacketDeltaCount\n10.64.9.21,10.64.20.10,6,50000,8443,1\n10.64.32.10,10.64.16.11,6,50000,502,1\n"
    )
    assert "kiosk-fence gets 1 entry for 1 conversation" in distil(run, "few.csv", "--into", "kiosk-fence", "-4")
    text = (free / "free.gate").read_text()
    block = text[text.index("list kiosk-fence extended ipv4") :].split("\n\n")[0].splitlines()
    denial = next(place for place, line in enumerate(block) if "reject tcp/telnet" in line)
    numbers = [int(line.split()[0]) for line in block if line.split()[0].isdigit()]
    assert numbers == sorted(numbers)
    assert "permit tcp/502 gate-1 to crane-1" in " ".join(block[denial - 1].split())
    told = run("--plan", "free.gate", "distil", "day.pcap", "--into", "kiosk-fence", "-4").stderr
    assert "entries need as many free numbers after 25; make room with: crossgate list renumber kiosk-fence --step" in told


@pytest.mark.parametrize(
    ("words", "problem"),
    [
        (("day.pcap", "--into", "12"), "list 12 is standard ipv4; an extended ipv4 list is needed"),
        (("day.pcap", "--into", "new", "--place", "sideways", "pier.b1"), "--place sideways pier.b1: write inbound or outbound"),
        (("day.pcap", "--into", "new", "--place", "inbound", "pier.b9"), "no interface pier.b9"),
        (("day.pcap", "--into", "kiosk-fence", "-4", "--place", "inbound", "pier.b1"), "list kiosk-fence is there already"),
        (("sea.pcap", "--into", "new", "-4", "-6"), "-4 and -6 exclude each other"),
        (("nothing.pcap", "--into", "new"), "nothing.pcap cannot be read"),
        (
            ("scan.csv", "--into", "new"),
            "there is nothing in scan.csv to permit; 1 conversation that nobody answered is left out, and --all permits it too",
        ),
    ],
)
def test_what_cannot_be_done_is_told_and_nothing_is_written(run: Run, free: Path, words: tuple[str, ...], problem: str) -> None:
    (free / "scan.csv").write_text("src,dst,proto,sport,dport\n10.64.41.77,10.64.20.10,6,50000,23\n")
    before = (free / "free.gate").read_bytes()
    done = run("--plan", "free.gate", "distil", *words)
    assert done.returncode == 2
    assert problem in done.stderr
    assert (free / "free.gate").read_bytes() == before
