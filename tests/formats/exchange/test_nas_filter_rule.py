"""Filter rules for one terminal: as RFC 6733 has them, as bytes of RADIUS attributes, and rules
that are none.
"""

from __future__ import annotations

from pathlib import Path
from typing import Any

import pytest

from tests.conftest import Run

PLAN = """\
subnet hall 10.64.8.0/24 2001:db8:64:8::/64
router lighthouse
    interface v80 10.64.8.1/24 2001:db8:64:8::1/64 on hall
switch jetty
    port 3
host kiosk 10.64.8.21 2001:db8:64:8::21 on hall at jetty.3
"""


NO_IPV6 = 'note "no rule is for IPv6, so what follows from the last one holds for all of it: deny"'


@pytest.fixture
def brought(tmp_path: Path, run: Run) -> Any:
    """Bring rules in as the list `own`, and return what the edit says and the lists' lines."""

    def bring(data: str | bytes, *words: str, status: int = 0) -> tuple[str, list[str]]:
        (tmp_path / "plan.gate").write_text(PLAN)
        (tmp_path / "in.txt").write_bytes(data if isinstance(data, bytes) else data.encode())
        done = run(
            "import", "nas-filter-rule", "in.txt", "--as", "own", "--yes", "--anyway", *words
        )
        assert done.returncode == status, done.stdout + done.stderr
        text = (tmp_path / "plan.gate").read_text().removeprefix(PLAN)
        return done.stdout + done.stderr, [
            " ".join(line.split()) for line in text.splitlines() if line
        ]

    return bring


def test_rules_are_read_exactly(brought: Any) -> None:
    rules = """\
permit in 6 from 10.64.8.21 1024-2047 to 10.0.0.0/8 80,443 setup
permit in ip from 10.64.8.21 to 192.0.2.5 established
deny in 1 from 10.64.8.21 to 0.0.0.0/0 icmptypes 3,8-9
permit in 17 from 10.64.8.21 to !192.0.0.0/2 frag
deny in 6 from 10.64.8.21 to 0.0.0.0/0 tcpflags syn,!urg
"""
    assert brought(rules)[1] == [
        "list own extended ipv4",
        "10 permit tcp/80,443 kiosk to 10.0.0.0/8 source port 1024-2047 flags SYN,!ACK",
        "20 permit tcp kiosk to 192.0.2.5 established",
        "30 deny icmp/3,icmp/8,icmp/9 kiosk to any",
        "40 permit udp kiosk to 0.0.0.0-191.255.255.255 fragments",
        "50 deny tcp kiosk to any flags SYN,!URG",
        "otherwise permit",
    ]


def test_any_is_both_families_and_what_is_left_depends_on_the_last_rule(brought: Any) -> None:
    told, lines = brought(
        "deny in 6 from any to any 23\npermit in 17 from any to any 53\npermit out ip from any to "
        "any\n"
    )
    assert lines == [
        "list own-in extended ipv4",
        "10 deny tcp/23 any to any",
        "20 permit udp/53 any to any",
        "otherwise deny",
        "list own-in-6 extended ipv6",
        "10 deny tcp/23 any to any",
        "20 permit udp/53 any to any",
        "otherwise deny",
    ]
    assert "all IPv6 is permitted out; no list is needed for that" in told
    assert brought("deny in 6 from 10.0.0.1 to 10.0.0.2\n")[1][-1] == "otherwise permit"
    assert brought("permit in 6 from 10.0.0.1 to 10.0.0.2\ndeny in ip from any to any")[1] == [
        "list own extended ipv4",
        "10 permit tcp 10.0.0.1 to 10.0.0.2",
        "otherwise deny",
        "list own-6 extended ipv6",
        "otherwise deny",
    ]


LOST = {
    "deny in 4 from ! assigned to 10.0.0.0/8": "deny 4 any to 10.0.0.0/8",
    "deny in ip from any to 10.0.0.0/8 ipoptions lsrr": "deny ip any to 10.0.0.0/8",
    "deny in 6 from any to 10.0.0.0/8 tcpoptions !mss": "deny tcp any to 10.0.0.0/8",
}


@pytest.mark.parametrize("rule", LOST)
def test_a_denial_that_asks_what_has_no_word_is_refused_or_stops_more(
    brought: Any, rule: str
) -> None:
    told, lines = brought(f"permit in 6 from 10.0.0.1 to 10.0.0.2\n{rule}\n", status=2)
    assert lines == []
    assert "in.txt, rule 2: " in told
    assert "would let by more without this deny; --approximate brings it in" in told
    lines = brought(f"permit in 6 from 10.0.0.1 to 10.0.0.2\n{rule}\n", "--approximate")[1]
    entry = (
        LOST[rule].replace("4 any", "ipv4 any")
        if "20 deny ipv4 any to 10.0.0.0/8" in lines
        else LOST[rule]
    )
    assert f"20 {entry}" in lines
    assert any("an entry stops more than its source did: in.txt, rule 2" in each for each in lines)
    assert (
        lines[-1] == "otherwise permit"
    )  # RFC 6733: what no rule takes is passed where the last one is a deny


@pytest.mark.parametrize(
    "rule", ["permit in ip from any to any ipoptions ssrr", "permit in ip from assigned to any"]
)
def test_a_permit_that_asks_what_has_no_word_is_off_and_never_takes_the_rest(
    brought: Any, rule: str
) -> None:
    lines = brought(f"deny in 6 from 10.0.0.1 to 10.0.0.2\n{rule}\n")[1]
    assert lines[2:5] == [
        "10 deny tcp 10.0.0.1 to 10.0.0.2",
        "20 off permit ip any to any",
        "otherwise deny",
    ]
    assert lines[5:] == [
        "list own-6 extended ipv6",
        lines[1],
        "10 off permit ip any to any",
        "otherwise deny",
    ]


def test_the_drop_of_the_other_family_is_written(brought: Any) -> None:
    assert brought("permit in 1 from any to any icmptypes 8\n")[1] == [
        "list own extended ipv4",
        "10 permit icmp/8 any to any",
        "otherwise deny",
        "list own-6 extended ipv6",
        NO_IPV6,
        "otherwise deny",
    ]


def test_all_other_addresses_are_never_read_so_that_more_gets_by(brought: Any) -> None:
    assert brought("permit in ip from any to !10.0.0.0/8\n")[1][-3:] == [
        "list own-6 extended ipv6",
        NO_IPV6,
        "otherwise deny",
    ]
    lines = brought("deny in ip from any to !0.0.0.0/1\npermit in ip from any to any\n")[1]
    assert lines == [
        "list own extended ipv4",
        "10 deny ip any to 128.0.0.0/1",
        "otherwise permit",
        "list own-6 extended ipv6",
        "10 deny ip any to any",
        "otherwise permit",
    ]


def test_attributes_are_read_from_bytes_and_from_a_users_file(brought: Any) -> None:
    rules = [
        f"permit in 6 from 10.0.{number}.0/24 to 10.64.8.21 {number + 1}" for number in range(20)
    ]
    joined = b"\0".join(map(str.encode, rules))
    data = b"".join(
        bytes([92, len(joined[at : at + 253]) + 2]) + joined[at : at + 253]
        for at in range(0, len(joined), 253)
    )
    other = bytes([25, 6]) + b"none"  # an attribute of another type between them
    by_bytes = brought(data[:255] + other + data[255:])[1]
    assert by_bytes[21:] == [
        "otherwise deny",
        "list own-6 extended ipv6",
        NO_IPV6,
        "otherwise deny",
    ]
    assert brought("".join(f'    NAS-Filter-Rule += "{each}",\n' for each in rules))[1] == by_bytes


def test_a_list_goes_out_the_way_it_stands(run: Run, tmp_path: Path) -> None:
    lists = "list 110 extended ipv4\n    10 permit tcp/80,443 kiosk to any\n"
    (tmp_path / "plan.gate").write_text(PLAN + lists + "place 110 inbound on jetty.3\n")
    done = run("export", "nas-filter-rule")
    assert done.stdout.splitlines() == [
        "permit in 6 from 10.64.8.21 to 0.0.0.0/0 80,443",
        "deny in ip from 0.0.0.0/0 to 0.0.0.0/0",
        "permit in ip from ::/0 to ::/0",
    ]
    assert "no IPv6 list is among them, so a last rule lets all IPv6 by (in)" in done.stderr
    (tmp_path / "plan.gate").write_text(PLAN + lists + "place 110 inbound on lighthouse.v80\n")
    assert (
        "110 stands inbound on lighthouse.v80; --direction inbound"
        in run("export", "nas-filter-rule").stderr
    )
    assert run("export", "nas-filter-rule", "--direction", "outbound").stdout.startswith(
        "permit out 6"
    )
    assert (
        "--bytes goes to a file"
        in run("export", "nas-filter-rule", "--direction", "inbound", "--bytes").stderr
    )
    assert (
        run(
            "export", "nas-filter-rule", "--direction", "inbound", "--bytes", "--out", "rules.bin"
        ).returncode
        == 0
    )
    assert (tmp_path / "rules.bin").read_bytes()[:2] == bytes([92, 2 + 47 + 1 + 38 + 1 + 30])


@pytest.mark.parametrize(
    ("entry", "problem"),
    [
        ("permit tcp any to any log", "has no log"),
        ("reject tcp any to any", "has no reject"),
        ("permit icmp/3/1 any to any", "cannot ask for an ICMP code"),
        ("permit icmp/30 any to any", "cannot ask for ICMP type 30"),
        ("permit ip any to any dscp ef", "cannot ask for DSCP"),
        ("permit dccp/80 any to any", "cannot ask for ports of dccp"),
        ("permit tcp any to any flags SYN,!CWR", "cannot ask for some TCP flags"),
    ],
)
def test_what_rules_cannot_say_is_refused(
    run: Run, tmp_path: Path, entry: str, problem: str
) -> None:
    (tmp_path / "plan.gate").write_text(
        PLAN + f"list 110 extended ipv4\n    10 {entry}\nplace 110 inbound on jetty.3\n"
    )
    refused = run("export", "nas-filter-rule")
    assert (refused.returncode, refused.stdout) == (1, "")
    assert f"list 110 10: nas-filter-rule {problem}" in refused.stderr


@pytest.mark.parametrize(
    ("text", "problem"),
    [
        ("", "has no rule"),
        ("allow in ip from any to any", "rule 1: allow stands where permit or deny belongs"),
        ("\npermit inn ip from any to any", "rule 2: inn stands where in or out belongs"),
        (
            "permit in tcp from any to any",
            "tcp stands where ip or a protocol number from 0 to 255 belongs",
        ),
        ("permit in 6 any to any", "any stands where from belongs"),
        ("permit in 6 from any", "the rule ends where to belongs"),
        ("permit in 6 from any to", "the rule ends where an address belongs"),
        ("permit in ip from any to any 80", "ports belong to protocol 6, 17, 132"),
        ("permit in 6 from any to any 70000", "70000"),
        (
            "permit in 17 from any to any established",
            "TCP flags are of protocol 6, and the rule is of 17",
        ),
        ("permit in 6 from any to any tcpflags nak", "nak is no TCP flag"),
        ("permit in 1 from any to any icmptypes 300", "300 is no ICMP type"),
        (
            "permit in 6 from 10.0.0.1/8 to any",
            "10.0.0.1/8 has bits set beyond its length; as a prefix it is 10.0.0.0/8",
        ),
        ("permit in 6 from 10.0.0.1 to 2001:db8::1", "one end is IPv4 and the other IPv6"),
        ("permit in 6 from !any to any", "!any is no address"),
        ("permit in 6 from any to any please", "please is no option"),
        (b"\x5c\x01", "octet 0: no attribute begins here"),
        (b"\x5c\x40abc", "octet 0: no attribute begins here"),
        (b"\xff\xfe\x00", "neither text nor RADIUS attributes"),
    ],
)
def test_bad_rules_are_told_with_their_number(
    brought: Any, text: str | bytes, problem: str
) -> None:
    told, lines = brought(text, status=2)
    assert problem in told
    assert lines == []


def test_icmp_types_have_symbolic_values(brought: Any) -> None:
    rules = (
        "deny in 1 from any to any icmptypes echo request,Time-to-live exceeded,13-14 "
        "frag\npermit in ip from any to any\n"
    )
    assert brought(rules)[1][1] == "1 deny icmp/8,icmp/11,icmp/13,icmp/14 any to any fragments"


def test_a_flag_that_is_set_and_not_set_matches_nothing(brought: Any) -> None:
    told, lines = brought(
        "permit in 6 from any to any tcpflags syn,!syn\npermit in 6 from any to any 80\n"
    )
    assert lines[1] == "10 permit tcp/80 any to any"
    assert "rule 1 asks for a TCP flag that is set and not set, which no packet has" in " ".join(
        told.split()
    )


def test_rules_that_a_client_prints_in_parts_are_joined(brought: Any) -> None:
    rules = [
        (
            "permit in 6 from any to 10.64.8.21 "
            f"{','.join(str(port) for port in range(start, start + 40, 2))}"
        )
        for start in (1000, 2000, 3000)
    ]
    joined = "\\000".join(rules)
    parts = [joined[at : at + 253] for at in range(0, len(joined), 253)]
    assert len(parts) > 1
    lines = brought("".join(f'\tNAS-Filter-Rule = "{part}"\n' for part in parts))[1]
    assert [line.split(" any to ")[0].split("/")[0] for line in lines[1:4]] == [
        "10 permit tcp",
        "20 permit tcp",
        "30 permit tcp",
    ]
    assert "1038" in lines[1]
    assert "3038" in lines[3]


def test_several_ports_are_one_rule(run: Run, tmp_path: Path) -> None:
    (tmp_path / "plan.gate").write_text(
        PLAN
        + (
            "list 110 extended ipv4\n    10 permit tcp/502,4840 kiosk to any\nplace 110 inbound on "
            "jetty.3\n"
        )
    )
    assert (
        run("export", "nas-filter-rule").stdout.splitlines()[0]
        == "permit in 6 from 10.64.8.21 to 0.0.0.0/0 502,4840"
    )
