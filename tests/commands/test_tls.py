"""`tls` and `cipher`: what a conversation settles on, in every answer."""

from __future__ import annotations

import csv
import io
import struct
from pathlib import Path

import pytest

from crossgate.core.model.tls import (
    Hello,
    TlsTest,
    chosen_hello,
    parse_suites,
    parse_versions,
    suite_names,
    versions_of,
)
from tests.conftest import Ask, Run

PLAN = """\
subnet quay 192.0.2.0/28
outside sea
router breakwater stateful
    interface sea 203.0.113.2/30 on sea
    interface quay 192.0.2.1/28 on quay
    route default via 203.0.113.1
host timetable 192.0.2.5 on quay
host visitor 198.51.100.7 on sea
list 110 extended ipv4
    10 permit tcp/443 any to timetable tls 1.2-
    20 permit tcp/8443 any to timetable tls 1.2 cipher TLS_ECDHE_RSA_WITH_AES_128_GCM_SHA256,0xC030 log "bookings"
    30 permit tcp/22 any to timetable
place 110 inbound on breakwater.sea
"""
ASKED = ("trace", "visitor", "timetable")


def verdict(answer: Ask, *words: str) -> str:
    (found,) = answer(*ASKED, *words)["conversations"]
    return str(found["verdict"])


@pytest.fixture
def plan(tmp_path: Path) -> Path:
    path = tmp_path / "a.gate"
    path.write_text(PLAN)
    return path


@pytest.mark.usefixtures("plan")
def test_a_trace_speaks_no_tls_or_that_which_is_asked_for(run: Run, answer: Ask) -> None:
    assert verdict(answer, "tcp/443") == verdict(answer, "tcp/443", "--tls", "1.1") == "half-open"
    assert (
        verdict(answer, "tcp/443", "--tls", "1.2")
        == verdict(answer, "tcp/443", "--cipher", "0x1303")
        == "permitted"
    )
    assert verdict(answer, "tcp/22") == verdict(answer, "tcp/22", "--tls", "1.0") == "permitted"
    assert verdict(answer, "tcp/80", "--tls", "1.3") == "denied"
    assert verdict(answer, "tcp/8443", "--tls", "1.2", "--cipher", "0xc030") == "permitted"
    assert (
        verdict(answer, "tcp/8443", "--tls", "1.2", "--cipher", "TLS_RSA_WITH_AES_128_CBC_SHA")
        == "half-open"
    )
    told = run(*ASKED, "tcp/443")
    assert "it speaks no TLS; --tls and --cipher ask about one that does" in told.stdout
    old = run(*ASKED, "tcp/443", "--tls", "1.1", "--expect", "half-open").stdout
    assert "once the server has said what TLS it is to be, list 110 has no entry for it" in old
    assert "visitor is connected, and hears nothing more" in old
    document = answer(*ASKED, "tcp/443", "--tls", "1.2")
    assert document["tls"] == {
        "version": "TLS 1.2",
        "suite": "TLS_ECDHE_RSA_WITH_AES_128_GCM_SHA256",
    }
    legs = document["conversations"][0]["legs"]
    assert [each["leg"] for each in legs] == [
        "SYN",
        "SYN+ACK",
        "ACK",
        "client hello",
        "server hello",
    ]
    assert legs[-1]["crossings"][0]["again"] is True
    assert [each["leg"] for each in answer(*ASKED, "tcp/22")["conversations"][0]["legs"]][
        -1
    ] == "data"
    assert (
        "no conversation settles on"
        in run(*ASKED, "tcp/443", "--tls", "1.3", "--cipher", "0xC02F").stderr
    )


def test_claims_speak_of_all_tls_or_of_some(run: Run, answer: Ask, plan: Path) -> None:
    claims = [
        ("expect permit tcp/443 sea to timetable tls 1.2-", True),
        ("expect permit tcp/443 sea to timetable tls 1.1-", False),
        ("expect permit tcp/443 sea to timetable", False),
        ("expect half-open tcp/443 sea to timetable tls -1.1", True),
        ("expect half-open tcp/443 sea to timetable no tls", True),
        ("expect permit tcp/8443 sea to timetable tls 1.2 cipher 0xC02F", True),
        ("expect permit tcp/8443 sea to timetable tls 1.2", False),
        ("expect deny tcp/80 sea to timetable", True),
        ("expect only tcp/443 and tcp/22 sea to timetable tls 1.3 over ipv4", False),
        ("keep permit tcp/22 sea to timetable", True),
    ]
    plan.write_text(PLAN + "".join(f"{text}\n" for text, _ in claims))
    found = answer("verify", status=1)["expectations"]
    assert [(each["text"], each["held"]) for each in found] == claims
    told = run("verify").stdout
    assert "when it speaks TLS 1.1 with TLS_ECDHE_RSA_WITH_AES_128_CBC_SHA is half-open" in told
    assert (
        "needed: in list 110, at the end: 40 permit tcp/443 any to timetable tls 1.1,1.2,1.3"
        in told
    )
    assert "when it speaks no TLS is half-open" in told


@pytest.mark.usefixtures("plan")
def test_reach_and_the_grid_tell_what_is_spoken(run: Run, answer: Ask) -> None:
    found = answer("reach", "sea", "timetable", "tcp/443")
    assert [part["verdict"] for part in found["answers"][0]["parts"]] == ["half-open"]
    assert [each["tls"]["version"] for each in found["spoken"]] == ["TLS 1.3"]
    assert [part["verdict"] for part in found["spoken"][0]["answers"][0]["parts"]] == ["permitted"]
    told = run("reach", "sea", "timetable", "tcp/443").stdout
    assert "sea to timetable  no TLS" in told
    assert "sea to timetable  TLS 1.3 with TLS_AES_128_GCM_SHA256" in told
    for options, letter in (((), "half-open"), (("--tls", "1.2"), "permitted")):
        (cell,) = [
            each
            for each in answer("grid", "tcp/443", "--from", "visitor", *options)["cells"]
            if each["to"] == "timetable"
        ]
        assert cell["verdict"] == letter


def test_compare_tells_which_tls_a_change_is_for(
    run: Run, answer: Ask, plan: Path, tmp_path: Path
) -> None:
    (tmp_path / "other").mkdir()
    (tmp_path / "other" / "b.gate").write_text(PLAN.replace("tls 1.2-", "tls 1.3"))
    (found,) = answer("compare", "other/b.gate", status=1)["differences"]
    assert [each["version"] for each in found["spoken"]] == ["TLS 1.2", "TLS 1.2"]
    assert (found["was"]["verdict"], found["is"]["verdict"]) == ("permitted", "half-open")
    assert "when it speaks TLS 1.2 with" in run("compare", "other/b.gate", "--markdown").stdout
    assert (
        answer("compare", "other/b.gate", "--list", "110", status=1)["differences"][0]["spoken"]
        == found["spoken"]
    )


@pytest.mark.parametrize(
    ("line", "told"),
    [
        (
            "10 permit udp/443 any to timetable tls 1.2",
            "TLS is spoken over TCP and needs a service of tcp",
        ),
        (
            "10 permit tcp/443 any to timetable tls 1.4",
            "1.4 is no version of TLS; there are 1.0, 1.1, 1.2, 1.3",
        ),
        ("10 permit tcp/443 any to timetable tls 1.3-1.2", "is no range of versions"),
        (
            "10 permit tcp/443 any to timetable tls 1.3 cipher 0xC02F",
            "no conversation settles on such a suite in such a version",
        ),
        (
            "10 permit tcp/443 any to timetable cipher TLS_AES_128_GCM_SHA265",
            "did you mean TLS_AES_128_GCM_SHA256?",
        ),
        ("10 permit tcp/443 any to timetable cipher 0x10000", "is no number of a cipher suite"),
        ("10 permit tcp/443 any to timetable log tls 1.2", "tls stands too late or twice"),
        ("10 permit tcp/443 any to timetable tls", "expected versions of TLS"),
    ],
)
def test_what_is_no_tls_is_told_with_its_place(run: Run, plan: Path, line: str, told: str) -> None:
    plan.write_text(PLAN.replace("10 permit tcp/443 any to timetable tls 1.2-", line))
    error = run("check").stderr
    assert told in error
    assert error.startswith("a.gate:10:")


def test_only_what_remembers_conversations_judges_tls(run: Run, plan: Path) -> None:
    plan.write_text(PLAN.replace(" stateful", ""))
    told = run("check").stderr
    assert (
        "entry 10 of list 110 (line 10) asks what TLS is spoken, and breakwater remembers no "
        "conversations; make it stateful"
    ) in told
    plan.write_text(PLAN.replace("inbound on breakwater.sea", "inbound on subnet quay"))
    assert "nothing at subnet quay remembers conversations" in run("check").stderr
    plan.write_text(PLAN)
    assert "remembers conversations" in run("place", "110", "outbound", "subnet", "quay").stdout


def test_tables_have_it_and_open_formats_refuse_it(
    run: Run, answer: Ask, plan: Path, tmp_path: Path
) -> None:
    table = run("export", "csv", "110").stdout
    rows = {row["line"]: row for row in csv.DictReader(io.StringIO(table))}
    assert (rows["10"]["tls"], rows["10"]["cipher"], rows["10"]["conditions"]) == ("1.2-", "", "")
    assert (rows["20"]["tls"], rows["20"]["cipher"]) == (
        "1.2",
        "TLS_ECDHE_RSA_WITH_AES_128_GCM_SHA256,0xC030",
    )
    (tmp_path / "table.csv").write_text(table)
    plan.write_text(PLAN[: PLAN.index("list 110")])
    run("import", "csv", "table.csv", "--yes")
    assert (
        "20 permit tcp/8443 any to timetable tls 1.2 cipher "
        'TLS_ECDHE_RSA_WITH_AES_128_GCM_SHA256,0xC030 log "bookings"'
    ) in " ".join(plan.read_text().split())
    assert (
        "ietf-acl has no TLS versions and cipher suites" in run("export", "ietf-acl", "110").stderr
    )
    entries = {each["entry"]: each for each in answer("lists", "110")["lists"][0]["entries"]}
    assert entries[10]["tls"] == {"versions": ["TLS 1.2", "TLS 1.3"], "suites": None}
    assert entries[10]["in_force"] is True
    assert entries[30]["tls"] is None


def test_hellos_in_a_capture_decide_and_records_of_flows_do_not_tell(
    run: Run, answer: Ask, plan: Path, tmp_path: Path
) -> None:
    suites = {0x0304: 0x1301, 0x0303: 0xC02F, 0x0302: 0xC013}

    def frame(port: int, back: bool, flags: int, data: bytes) -> bytes:
        ends = bytes([198, 51, 100, 7]), bytes([192, 0, 2, 5])
        ports = (443, port) if back else (port, 443)
        tcp = struct.pack(">HHIIBBHHH", *ports, 1, 1, 0x50, flags, 100, 0, 0) + data
        return (
            struct.pack(">BBHHHBBH", 0x45, 0, 20 + len(tcp), port + back, 0, 64, 6, 0)
            + b"".join(ends[:: -1 if back else 1])
            + tcp
        )

    def hello(version: int) -> bytes:
        extension = struct.pack(">HHH", 43, 2, version) if version == 0x0304 else b""
        body = (
            struct.pack(">H", min(version, 0x0303))
            + bytes(33)
            + struct.pack(">HBH", suites[version], 0, len(extension))
            + extension
        )
        message = b"\x02" + len(body).to_bytes(3, "big") + body
        return b"\x16\x03\x01" + struct.pack(">H", len(message)) + message

    frames = []
    for port, version in enumerate((0x0304, 0x0303, 0x0302, None), 50_000):
        frames += [
            frame(port, False, 2, b""),
            frame(port, True, 18, b""),
            frame(port, False, 16, b""),
        ]
        frames += [
            frame(port, False, 24, b"\x16\x03\x01ask"),
            frame(port, True, 24, b"plainly" if version is None else hello(version)),
        ]
    frames += [frame(50_004, False, 2, b"")]  # nothing more was seen of this one
    octets = struct.pack("<IHHiIII", 0xA1B2C3D4, 2, 4, 0, 0, 65_535, 101)
    for number, each in enumerate(frames):
        octets += struct.pack("<IIII", 1_764_000_000 + number, 0, len(each), len(each)) + each
    (tmp_path / "sea.pcap").write_bytes(octets)
    for options in ((), ("--workers", "2")):
        found = answer("replay", "sea.pcap", *options)
        counts = {
            name: each["conversations"]
            for name, each in found["verdicts"].items()
            if each["conversations"]
        }
        assert counts == {"permitted": 3, "half-open": 2}
        assert found["unsettled"]["conversations"] == 1
        lines = {each["entry"]: each["legs"] for each in found["lists"][0]["lines"]}
        assert lines == {10: 5, 20: 0, 30: 0, None: 2}
    (tmp_path / "flows.csv").write_text(
        "srcaddr,dstaddr,srcport,dstport,protocol,packets,start,end\n198.51.100.7,192.0.2.5,50000,443,6,9,1764000000,1764000009\n"
    )
    told = run("replay", "flows.csv").stdout
    assert "permitted  1 conversation" in told
    assert "1 conversation of these do" in told


def test_versions_suites_and_what_goes_together() -> None:
    assert parse_versions("-1.1") == {0x0300, 0x0301, 0x0302}
    assert parse_versions("1.0,1.2-") == {0x0301, 0x0303, 0x0304}
    assert (
        str(TlsTest(parse_versions("1.0,1.2-"), parse_suites("0x1301")))
        == "tls 1.0,1.2,1.3 cipher TLS_AES_128_GCM_SHA256"
    )
    for text in ("-1.1", "-1.3", "1.2", "-1.0,1.3"):
        assert parse_versions(
            str(TlsTest(parse_versions(text), None)).removeprefix("tls ")
        ) == parse_versions(text)
    assert list(versions_of(0x1301)) == [0x0304]
    assert list(versions_of(0xC02F)) == [0x0303]
    assert list(versions_of(0x002F)) == [0x0300, 0x0301, 0x0302, 0x0303]
    assert chosen_hello(TlsTest(parse_versions("1.2"), None)) == Hello(0x0303, 0xC02F)
    assert chosen_hello(TlsTest(parse_versions("1.3"), parse_suites("0xC02F"))) is None
    assert len(suite_names()) >= 60
