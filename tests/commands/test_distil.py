"""`crossgate distil` on the demo's day: a list that permits what was seen there, and replaying the
day through it.
"""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path
from typing import Any

import pytest

from tests.conftest import Ask, Run

Answer = Callable[..., Any]


@pytest.fixture
def free(traffic: Path) -> Path:
    """The demo without the lists at the hall and at two berths."""
    text = (traffic / "ternhaven.gate").read_text()
    for line in (
        "place kiosk-fence  inbound",
        "place kiosk-fence6 inbound",
        "place berth-1-in",
        "place berth-3-in",
    ):
        (found,) = (each for each in text.splitlines() if each.startswith(line))
        text = text.replace(f"{found}\n", "")
    text = "\n".join(line for line in text.splitlines() if not line.startswith("expect"))
    (traffic / "free.gate").write_text(text)
    return traffic


def distil(run: Run, *words: str) -> str:
    done = run("--plan", "free.gate", "distil", *words, "--anyway")
    assert done.returncode == 0, done.stderr + done.stdout
    return done.stdout


def test_a_list_of_each_family_permits_the_hall_and_replaying_the_day_shows_it(
    run: Run, answer: Answer, free: Path
) -> None:
    told = distil(run, "day.pcap", "--into", "hall", "--place", "inbound", "lighthouse.v80")
    assert "hall gets 2 entries for 700 conversations" in told
    text = (free / "free.gate").read_text()
    assert '    10 permit tcp/8443 10.64.9.21-10.64.9.24 to manifest "350 conversations"' in text
    assert "list hall-6 extended ipv6" in text
    assert "place hall-6 inbound on lighthouse.v80" in " ".join(text.split())
    document = answer("--plan", "free.gate", "replay", "day.pcap", "--zone", "UTC")
    lists = {each["list"]: [line["legs"] for line in each["lines"]] for each in document["lists"]}
    # The SYN and what follows it are two legs; a name is asked for in one.
    assert (lists["hall"][:2], lists["hall-6"][2:4]) == ([700, 350], [140, 70])
    stopped = [each for each in document["not_permitted"] if each["list"] in ("hall", "hall-6")]
    assert {(each["destination"], each["service"]) for each in stopped} == {
        ("198.51.100.80", "tcp/443"),
        ("10.64.20.10", "tcp/23"),
        ("10.64.16.11", "ping"),
    }
    again = run("--plan", "free.gate", "distil", "day.pcap", "--into", "hall", "-4")
    assert again.returncode == 2
    assert "nothing that was seen is left to permit in hall" in again.stderr


def test_answers_are_entries_where_the_device_does_not_remember(
    run: Run, answer: Answer, free: Path
) -> None:
    distil(run, "flows.parquet", "--into", "berth", "--place", "inbound", "pier.b1")
    text = " ".join((free / "free.gate").read_text().split())
    assert "permit tcp/502 gate-1 to 10.64.16.11-10.64.16.12" in text
    assert (
        'permit tcp/32768- camera-1 to duty source port 554 established "7 conversations"' in text
    )
    document = answer("--plan", "free.gate", "replay", "flows.parquet", "--zone", "UTC")
    assert not [each for each in document["not_permitted"] if each["list"] == "berth"]


def test_entries_go_before_the_first_denial_of_a_list_that_is_there(run: Run, free: Path) -> None:
    (free / "few.csv").write_text(
        "src,dst,proto,sport,dport,reversePacketDeltaCount\n10.64.9.21,10.64.20.10,6,50000,8443,1\n10.64.32.10,10.64.16.11,6,50000,502,1\n"
    )
    assert "kiosk-fence gets 1 entry for 1 conversation" in distil(
        run, "few.csv", "--into", "kiosk-fence", "-4"
    )
    text = (free / "free.gate").read_text()
    block = text[text.index("list kiosk-fence extended ipv4") :].split("\n\n")[0].splitlines()
    denial = next(place for place, line in enumerate(block) if "reject tcp/telnet" in line)
    numbers = [int(line.split()[0]) for line in block if line.split()[0].isdigit()]
    assert numbers == sorted(numbers)
    assert "permit tcp/502 gate-1 to crane-1" in " ".join(block[denial - 1].split())
    told = run("--plan", "free.gate", "distil", "day.pcap", "--into", "kiosk-fence", "-4").stderr
    assert (
        "entries need as many free numbers after 25; make room with: crossgate list renumber "
        "kiosk-fence --step"
    ) in told


@pytest.mark.parametrize(
    ("words", "problem"),
    [
        (("day.pcap", "--into", "12"), "list 12 is standard ipv4; an extended ipv4 list is needed"),
        (
            ("day.pcap", "--into", "new", "--place", "sideways", "pier.b1"),
            "--place sideways pier.b1: write inbound, outbound or within",
        ),
        (("day.pcap", "--into", "new", "--place", "inbound", "pier.b9"), "no interface pier.b9"),
        (
            ("day.pcap", "--into", "kiosk-fence", "-4", "--place", "inbound", "pier.b1"),
            "list kiosk-fence is there already",
        ),
        (("sea.pcap", "--into", "new", "-4", "-6"), "-4 and -6 exclude each other"),
        (("nothing.pcap", "--into", "new"), "nothing.pcap cannot be read"),
        (
            ("scan.csv", "--into", "new"),
            (
                "there is nothing in scan.csv to permit; 1 conversation that nobody answered is "
                "left "
                "out, and --all permits it too"
            ),
        ),
    ],
)
def test_what_cannot_be_done_is_told_and_nothing_is_written(
    run: Run, free: Path, words: tuple[str, ...], problem: str
) -> None:
    (free / "scan.csv").write_text(
        "src,dst,proto,sport,dport\n10.64.41.77,10.64.20.10,6,50000,23\n"
    )
    before = (free / "free.gate").read_bytes()
    done = run("--plan", "free.gate", "distil", *words)
    assert done.returncode == 2
    assert problem in done.stderr
    assert (free / "free.gate").read_bytes() == before


TWO = """subnet n0 10.1.0.0/29 2001:db8:1::/64
subnet n2 10.2.0.0/24 2001:db8:2::/64
router a
    interface n0 10.1.0.1/29 2001:db8:1::1/64 on n0
    interface n2 10.2.0.1/24 2001:db8:2::1/64 on n2
router b stateful
    interface n0 10.1.0.2/29 on n0
    interface n2 10.2.0.2/24 on n2
host h 10.1.0.5 2001:db8:1::5 on n0
host k 10.2.0.5 2001:db8:2::5 on n2
"""
HEAD = "src,dst,proto,sport,dport,packets,back_packets,time\n"


def flows(*rows: str) -> str:
    return HEAD + "".join(
        f"{row},3,2,2026-11-24T09:0{number % 10}:00Z\n" for number, row in enumerate(rows)
    )


def test_services_of_several_protocols_read_back_as_what_they_are(run: Run, tmp_path: Path) -> None:
    (tmp_path / "p.gate").write_text(TWO)
    (tmp_path / "f.csv").write_text(
        flows("10.1.0.5,10.2.0.5,33,40000,53", "10.1.0.5,10.2.0.5,253,0,0")
    )
    assert (
        run(
            "distil", "f.csv", "--into", "seen", "--place", "inbound", "a.n0", "--yes", "--anyway"
        ).returncode
        == 0
    )
    assert "permit 253,dccp/53 h to k" in (tmp_path / "p.gate").read_text()


def test_answers_that_may_come_where_nobody_remembers_are_permitted(
    run: Run, answer: Ask, tmp_path: Path
) -> None:
    (tmp_path / "p.gate").write_text(TWO)
    (tmp_path / "f.csv").write_text(
        flows("10.1.0.5,10.2.0.5,17,40000,53", "10.2.0.5,10.1.0.5,17,40001,514")
    )
    assert (
        run(
            "distil", "f.csv", "--into", "seen", "--place", "outbound", "b.n0", "--yes", "--anyway"
        ).returncode
        == 0
    )
    assert "permit udp/32768- k to h source port 53" in (tmp_path / "p.gate").read_text()
    assert answer("replay", "f.csv", "--zone", "UTC")["verdicts"]["permitted"]["conversations"] == 2
    (tmp_path / "p.gate").write_text(TWO.replace("router a\n", "router a stateful\n"))
    assert (
        run(
            "distil", "f.csv", "--into", "seen", "--place", "outbound", "b.n0", "--yes", "--anyway"
        ).returncode
        == 0
    )
    assert (
        "source port 53" in (tmp_path / "p.gate").read_text()
    )  # each device remembers what it let by itself


def test_an_ipv6_list_lets_neighbours_and_errors_by(run: Run, tmp_path: Path) -> None:
    (tmp_path / "p.gate").write_text(TWO)
    (tmp_path / "f.csv").write_text(flows("2001:db8:1::5,2001:db8:2::5,6,40000,443"))
    assert (
        run(
            "distil", "f.csv", "--into", "seen", "--place", "inbound", "a.n0", "--yes", "--anyway"
        ).returncode
        == 0
    )
    text = " ".join((tmp_path / "p.gate").read_text().split())
    assert (
        text.index("icmp/neighbor-solicitation")
        < text.index("icmp/packet-too-big")
        < text.index("permit tcp/443 h to k")
    )


def test_sources_that_fill_a_subnet_are_written_by_its_name(run: Run, tmp_path: Path) -> None:
    (tmp_path / "p.gate").write_text(TWO)
    machines = [f"10.1.0.{number},10.2.0.5,6,40000,443" for number in range(3, 7)]
    (tmp_path / "f.csv").write_text(flows(*machines))
    assert "permit tcp/443 n0 to k" in run("distil", "f.csv", "--into", "seen", "--dry-run").stdout
    (tmp_path / "f.csv").write_text(flows(*machines[:3]))
    assert (
        "permit tcp/443 10.1.0.3-10.1.0.5 to k"
        in run("distil", "f.csv", "--into", "seen", "--dry-run").stdout
    )


def test_traffic_without_a_pattern_is_told_as_such_and_what_came_often_is_left(
    run: Run, tmp_path: Path
) -> None:
    (tmp_path / "p.gate").write_text(TWO)
    scan = [f"10.9.{n // 250}.{n % 250},10.2.0.5,6,{40000 + n},{n + 1}" for n in range(2400)]
    often = [f"10.1.0.5,10.2.0.9,6,{port},443" for port in (40000, 40001, 40002)]
    (tmp_path / "f.csv").write_text(flows(*scan, *often))
    done = run("distil", "f.csv", "--into", "seen", "--dry-run")
    assert done.returncode == 2
    assert "there is no pattern in this: of 2,401 kinds" in done.stderr
    assert "--at-least 2 leaves 1 of these kinds" in done.stderr
    words = ("distil", "f.csv", "--into", "seen", "--at-least", "2", "--dry-run")
    told = run(*words).stdout
    assert "seen gets 1 entry for 3 conversations; 2,400 conversations that came too seldom" in told
    none = run("distil", "f.csv", "--into", "seen", "--at-least", "4", "--dry-run")
    assert "nothing was seen 4 times" in none.stderr


def test_entries_go_before_the_first_denial(run: Run, tmp_path: Path) -> None:
    text = TWO + (
        "list seen extended ipv4\n    10 permit tcp/22 any to any\n    20 deny tcp/443 any to "
        "any\n    30 deny ip any to any\n"
    )
    (tmp_path / "p.gate").write_text(text)
    (tmp_path / "f.csv").write_text(flows("10.1.0.5,10.2.0.5,6,40000,443"))
    assert run("distil", "f.csv", "--into", "seen", "--yes", "--anyway").returncode == 0
    written = (tmp_path / "p.gate").read_text()
    assert written.index("permit tcp/443 h to k") < written.index("20 deny tcp/443")


def test_what_the_list_would_stop_after_all_is_told_and_nothing_is_written(
    run: Run, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    (tmp_path / "p.gate").write_text(TWO)
    (tmp_path / "f.csv").write_text(
        flows("10.1.0.5,10.2.0.5,33,40000,53", "10.1.0.5,10.2.0.5,253,0,0")
    )
    monkeypatch.setattr(
        "crossgate.core.answers.entry_words.in_order", lambda words: ",".join(words)
    )  # a fault in the words
    done = run("distil", "f.csv", "--into", "seen", "--yes", "--anyway")
    assert done.returncode == 2
    assert (
        "253 from 10.1.0.5 to 10.2.0.5 was seen, and seen otherwise would stop it, so nothing is "
        "written"
    ) in done.stderr
    assert (tmp_path / "p.gate").read_text() == TWO


EDGE = """\
outside world
subnet hall 10.64.8.0/24
subnet core 10.64.9.0/29
router edge stateful
    interface wan  203.0.113.2/30 on world
    interface core 10.64.9.1/29 on core
    route default via 203.0.113.1
    translate hall leaving wan as 198.51.100.8/30
    translate 198.51.100.90 tcp/443 entering wan to kiosk port 8443
router inner
    interface core 10.64.9.2/29 on core
    interface hall 10.64.8.1/24 on hall
    route default via 10.64.9.1
host kiosk 10.64.8.21 on hall
"""


@pytest.mark.parametrize(
    ("place", "expected"),
    [
        ("inbound edge.wan", ["permit tcp/443 192.0.2.77 to 198.51.100.90"]),
        ("outbound edge.wan", ["permit tcp/443 198.51.100.8/30 to 192.0.2.77"]),
        ("outbound edge.core", ["permit tcp/8443 192.0.2.77 to kiosk"]),
        (
            "outbound inner.hall",
            [
                "permit tcp/32768- 192.0.2.77 to kiosk source port 443 established",
                "permit tcp/8443 192.0.2.77 to kiosk",
            ],
        ),
        (
            "inbound inner.hall",
            [
                "permit tcp/32768- kiosk to 192.0.2.77 source port 8443 established",
                "permit tcp/443 kiosk to 192.0.2.77",
            ],
        ),
    ],
)
def test_entries_ask_for_what_is_seen_at_their_place(
    run: Run, tmp_path: Path, place: str, expected: list[str]
) -> None:
    (tmp_path / "edge.gate").write_text(EDGE)
    (tmp_path / "seen.csv").write_text(
        "time,source,source_port,destination,destination_port,protocol\n"
        "2026-11-30T10:00:00Z,10.64.8.21,40122,192.0.2.77,443,tcp\n"
        "2026-11-30T10:00:01Z,192.0.2.77,40122,198.51.100.90,443,tcp\n"
    )
    done = run("distil", "seen.csv", "--all", "--into", "new", "--place", *place.split(), "--yes")
    assert done.returncode == 0, done.stderr
    lines = [each.split('"')[0] for each in (tmp_path / "edge.gate").read_text().splitlines()]
    entries = [" ".join(each.split()[1:]) for each in lines if " permit " in each]
    assert sorted(entries) == expected


def test_limits_are_what_the_busiest_minute_needs_and_permit_all_of_the_day(
    run: Run, answer: Answer, free: Path
) -> None:
    words = ("day.pcap", "--into", "hall", "-4", "--place", "inbound", "lighthouse.v80")
    distil(run, *words, "--rate", "0")
    assert (
        "10 permit tcp/8443 10.64.9.21-10.64.9.24 to manifest at most 4 a minute "
        '"350 conversations, 4 in the busiest minute"'
    ) in (free / "free.gate").read_text()
    document = answer("--plan", "free.gate", "replay", "day.pcap", "--zone", "UTC")
    lines = next(each["lines"] for each in document["lists"] if each["list"] == "hall")
    assert [each["beyond"] for each in lines[:2]] == [0, 0]
    stopped = [each for each in document["not_permitted"] if each["list"] == "hall"]
    assert {each["service"] for each in stopped} == {"tcp/443", "tcp/23", "ping"}
