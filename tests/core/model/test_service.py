"""Services: every form, the names of IANA, and what does not exist."""

from __future__ import annotations

import pytest

from crossgate.core.model import iana
from crossgate.core.model.address import Family
from crossgate.core.model.service import FlagTest, ServiceError, ServiceTerm
from crossgate.core.model.service_words import (
    parse_dscp,
    parse_flags,
    parse_ports,
    parse_service,
    split_service,
)


def terms(text: str, family: Family = Family.IPV4) -> list[str]:
    booking = (ServiceTerm(6, ((8443, 8443),)), ServiceTerm(6, ((9443, 9443),)))
    names = {
        "booking": booking,
        "both": (*booking, ServiceTerm(6, ((53, 53),)), ServiceTerm(17, ((53, 53),))),
    }
    return [term.text(family) for term in parse_service(text, family, names.get).terms]


@pytest.mark.parametrize(
    ("text", "four", "six"),
    [
        ("ip", ["ip"], ["ip"]),
        ("tcp", ["tcp"], ["tcp"]),
        ("89", ["ospf"], ["ospf"]),
        ("253", ["253"], ["253"]),
        ("tcp/80,443", ["tcp/80,443"], ["tcp/80,443"]),
        ("udp/1024-", ["udp/1024-"], ["udp/1024-"]),
        ("sctp/-1023", ["sctp/-1023"], ["sctp/-1023"]),
        ("dccp/5000-5003,5004", ["dccp/5000-5004"], ["dccp/5000-5004"]),
        ("tcp/https,8000-8099", ["tcp/443,8000-8099"], ["tcp/443,8000-8099"]),
        ("https", ["tcp/443"], ["tcp/443"]),
        ("domain", ["tcp/53", "udp/53"], ["tcp/53", "udp/53"]),
        ("ntp", ["udp/123"], ["udp/123"]),
        ("ping", ["icmp/8/0"], ["icmp/128/0"]),
        ("icmp", ["icmp"], ["ipv6-icmp"]),
        ("icmp/echo-reply", ["icmp/0"], ["icmp/129"]),
        ("icmp/destination-unreachable/port-unreachable", ["icmp/3/3"], ["icmp/1/4"]),
        ("icmp/9/16", ["icmp/9/16"], ["icmp/9/16"]),
        ("booking", ["tcp/8443", "tcp/9443"], ["tcp/8443", "tcp/9443"]),
        (
            "both",
            ["tcp/8443", "tcp/9443", "tcp/53", "udp/53"],
            ["tcp/8443", "tcp/9443", "tcp/53", "udp/53"],
        ),
        ("tcp/80,udp/53", ["tcp/80", "udp/53"], ["tcp/80", "udp/53"]),
    ],
)
def test_forms(text: str, four: list[str], six: list[str]) -> None:
    assert terms(text) == four
    assert terms(text, Family.IPV6) == six


@pytest.mark.parametrize(
    ("text", "says", "part"),
    [
        ("tcp/70000", "70000 is no port", "70000"),
        ("tcp/80,90-20", "write 20-90", "90-20"),
        ("tcp/htps", "there is https", "htps"),
        ("tcq/80", "there is tcp", "tcq"),
        ("gre/80", "gre has no ports", "gre"),
        ("256", "no protocol number", "256"),
        ("icmp/ech-request", "there is echo-request", "ech-request"),
        ("icmp/echo-request/7x", "no code", "7x"),
        ("nonsense-at-all", "no service", "nonsense-at-all"),
        ("tcp/-", "one side", "-"),
        ("tcp/80,,90", "a port is missing", ","),
    ],
)
def test_errors_name_the_part_at_fault(text: str, says: str, part: str) -> None:
    with pytest.raises(ServiceError, match=says) as caught:
        terms(text)
    error = caught.value
    assert text[error.start : error.end or len(text)] == part


@pytest.mark.parametrize(
    ("text", "says", "part", "near"),
    [
        ("22/tcp", "22/tcp is the other way round: write tcp/22", "22/tcp", "tcp/22"),
        ("ssh,dns/udp", "dns/udp is the other way round", "dns/udp", "udp/dns"),
        ("ssh/22", "ssh has its ports by itself: write ssh, or tcp/22", "ssh/22", "ssh"),
        ("443", "port 443 is https or quic", "443", ""),
        ("3389", "port 3389 is ms-wbt-server", "3389", "ms-wbt-server"),
        ("50000", "written tcp/50000 or udp/50000$", "50000", ""),
        ("80-90", "80-90 are ports of no protocol: write tcp/80-90", "80-90", "tcp/80-90"),
        ("smb", "no service smb by that name; write microsoft-ds", "smb", "microsoft-ds"),
        ("WEB", "no service WEB by that name; write http,https", "WEB", "http,https"),
    ],
)
def test_what_people_write_for_a_service_is_mended(
    text: str, says: str, part: str, near: str
) -> None:
    with pytest.raises(ServiceError, match=says) as caught:
        terms(text)
    error = caught.value
    assert (text[error.start : error.end or len(text)], error.near) == (part, near)


def test_every_name_that_people_say_is_written_as_something_that_reads() -> None:
    for said, written in iana.SAID.items():
        assert said not in (*iana.services(), *iana.protocols())
        assert terms(written)


def test_packet_too_big_is_an_icmpv6_message_only() -> None:
    assert terms("icmp/packet-too-big", Family.IPV6) == ["icmp/2"]
    with pytest.raises(ServiceError, match="is no ICMP type"):
        terms("icmp/packet-too-big")
    with pytest.raises(ServiceError, match="is no ICMPv6 type"):
        terms("icmp/source-quench", Family.IPV6)


def test_commas_part_ports_or_services() -> None:
    assert split_service("tcp/80,443,udp/53,https") == ["tcp/80,443", "udp/53,https"]
    assert split_service("https,ssh") == ["https", "ssh"]


def test_ports_are_sorted_and_joined() -> None:
    assert parse_ports("443,80,81-90,85-100") == ((80, 100), (443, 443))


def test_flags_and_dscp() -> None:
    assert parse_flags("SYN,!ACK") == FlagTest(2, 18)
    assert (parse_dscp("ef"), parse_dscp("AF11"), parse_dscp("63")) == (46, 10, 63)
    for wrong in ("SIN", "SYN,!SYN", ""):
        with pytest.raises(ServiceError):
            parse_flags(wrong)
    for wrong in ("64", "af99"):
        with pytest.raises(ServiceError):
            parse_dscp(wrong)


def test_the_tables_are_large_and_sound() -> None:
    assert len(iana.services()) >= 150
    for (first, last), transports in iana.services().values():
        assert 0 < first <= last <= 65535
        assert set(transports) <= {"tcp", "udp", "sctp", "dccp"}
    assert set(iana.protocols().values()) >= set(range(61)) | {132, 136, 142}
    known = {
        "tcp": 6,
        "udp": 17,
        "icmp": 1,
        "ipv6-icmp": 58,
        "esp": 50,
        "ah": 51,
        "gre": 47,
        "ospf": 89,
        "igmp": 2,
        "pim": 103,
        "vrrp": 112,
    }
    assert known.items() <= iana.protocols().items()
    for protocol, answers in iana.ANSWERED.items():
        assert {*answers, *answers.values()} <= set(iana.icmp_types(protocol).values())
