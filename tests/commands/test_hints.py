"""What an answer says beside the answer: words that mean something else, names of devices,
counts.
"""

from __future__ import annotations

from pathlib import Path

import pytest

from tests.conftest import Ask, Run

NET = """subnet a 10.0.0.0/24
subnet b 10.1.0.0/24
outside sea
router r
    interface a 10.0.0.1/24 on a
    interface b 10.1.0.1/24 on b
    interface sea 203.0.113.2/30 on sea
host h 10.0.0.5 on a
host k 10.1.0.5 on b
"""


@pytest.mark.parametrize(
    ("word", "said"),
    [
        ("22", "22 is protocol 22, xns-idp, and no port; for port 22 write ssh"),
        ("xns-idp", "xns-idp is protocol 22, and no port; for port 22 write ssh"),
        (
            "rdp",
            (
                "rdp is protocol 27, the Reliable Data Protocol of RFC 908; for remote desktops "
                "write "
                "ms-wbt-server"
            ),
        ),
        (
            "ipv4",
            (
                "ipv4 is protocol 4, IPv4 carried inside other packets; for everything in an ipv4 "
                "list write ip"
            ),
        ),
        ("80", "80 is protocol 80, iso-ip, and no port; for port 80 write http"),
    ],
)
def test_a_protocol_where_a_port_was_meant_is_told_everywhere(
    run: Run, answer: Ask, tmp_path: Path, word: str, said: str
) -> None:
    (tmp_path / "p.gate").write_text(
        f"{NET}list l extended ipv4\n    10 permit {word} a to b\n    20 permit ip any to "
        f"any\nplace l inbound on r.a\nexpect permit {word} h to k over ipv4\n"
    )
    assert f"crossgate: {said}" in run("trace", "h", "k", word).stderr
    assert f"crossgate: {said}" in run("verify").stderr
    found = [
        each["line"] for each in answer("check")["findings"] if each["finding"] == "protocol-meant"
    ]
    assert found == [11, 14]


@pytest.mark.parametrize("word", ["47", "gre", "ospf", "89", "esp", "tcp/22", "ssh", "sctp/22"])
def test_a_protocol_that_is_meant_is_not_told(run: Run, tmp_path: Path, word: str) -> None:
    (tmp_path / "p.gate").write_text(f"{NET}expect permit {word} h to k over ipv4\n")
    assert run("trace", "h", "k", word).stderr == ""
    assert run("verify").stderr == ""


def test_a_standard_list_that_stops_vrrp_is_told_what_it_can_say(
    answer: Ask, tmp_path: Path
) -> None:
    text = NET.replace(
        "host h",
        (
            "router s\n    interface a 10.0.0.2/24 on a\n    interface b 10.1.0.2/24 on b\ngateway "
            "10.0.0.254 on a by r.a, s.a vrid 1\nhost h"
        ),
        1,
    )
    for kind, entry, advice in (
        ("standard", "deny any", "permit first: 10.0.0.2"),
        ("extended", "deny ip any to any", "permit first: vrrp 10.0.0.2 to 224.0.0.18"),
    ):
        (tmp_path / "p.gate").write_text(
            f"{text}list l {kind} ipv4\n    10 {entry}\nplace l inbound on r.a\n"
        )
        mends = [
            each["mend"]
            for each in answer("check", status=0)["findings"]
            if each["finding"] == "vrrp-blocked"
        ]
        assert mends == [advice]


def test_subnets_and_outsides_are_counted_apart(run: Run, tmp_path: Path) -> None:
    (tmp_path / "p.gate").write_text(NET)
    assert "1 device, 2 subnets, 1 outside, 0 lists" in run().stdout
    (tmp_path / "p.gate").write_text(
        NET.replace("outside sea\n", "").replace("    interface sea 203.0.113.2/30 on sea\n", "")
    )
    assert "1 device, 2 subnets, 0 lists" in run().stdout


def test_all_paths_name_the_devices_of_each(run: Run, tmp_path: Path) -> None:
    second = "router s\n    interface a 10.0.0.2/24 on a\n    interface b 10.1.0.2/24 on b\nhost h"
    (tmp_path / "p.gate").write_text(
        NET.replace("host h", second, 1)
        + "list l extended ipv4\n    10 permit ip any to any\nplace l inbound on s.a\n"
    )
    told = run("trace", "h", "k", "ping", "--all-paths").stdout
    assert "there by r; back by r" in told
    assert "there by s; back by r" in told


def test_an_edit_that_only_logs_brings_no_finding_and_ends_none(
    answer: Ask, tmp_path: Path
) -> None:
    (tmp_path / "p.gate").write_text(
        f"{NET}list l extended ipv4\n    10 permit ip any to any\n    20 permit tcp any to "
        "any\nplace l inbound on r.a\n"
    )
    told = answer("entry", "change", "l", "20", "permit tcp any to any log", "--dry-run")
    assert told["diff"]
    assert (told["findings"], told["gone"]) == ([], [])
