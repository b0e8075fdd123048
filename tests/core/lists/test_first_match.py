"""First match against a plain reference that knows nothing of patterns, bit sets or indexes: bit by
bit, port by port.

The reference is fed with the plan's own words, taken apart again here in the dumbest way.
"""

from __future__ import annotations

import ipaddress
import re
from pathlib import Path

from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from crossgate.core.lists.index import ListIndex
from crossgate.core.model.accesslist import AccessList
from crossgate.core.model.address import Family
from crossgate.core.model.entry import Action, Entry
from crossgate.core.model.packet import Packet
from crossgate.language.reader import read_plan

PORTS = (22, 53, 80, 443, 1024, 8080)
PROTOCOLS = {"tcp": 6, "udp": 17, "sctp": 132, "dccp": 33, "gre": 47}
FLAGS = {"FIN": 1, "SYN": 2, "RST": 4, "PSH": 8, "ACK": 16, "URG": 32, "ECE": 64, "CWR": 128}


def _text(family: Family, value: int) -> str:
    base = 0x0A000000 if family is Family.IPV4 else 0x20010DB8 << 96
    return str(ipaddress.ip_address((base | value).to_bytes(family.bits // 8)))


@st.composite
def address_words(draw: st.DrawFn, family: Family) -> str:
    low = draw(st.integers(0, 15))
    bits = family.bits
    form = draw(
        st.sampled_from(
            ["any", "one", "prefix", "wild", "range"] + (["mask"] if family is Family.IPV4 else [])
        )
    )
    if form == "any":
        return "any"
    if form == "one":
        return _text(family, low)
    if form == "prefix":
        return f"{_text(family, low)}/{bits - draw(st.integers(0, 4))}"
    if form == "wild":
        wildcard = ipaddress.ip_address(draw(st.integers(0, 15)).to_bytes(bits // 8))
        return f"{_text(family, low)} wild {wildcard}"
    if form == "mask":
        return (
            f"{_text(family, low)} mask "
            f"255.255.255.{draw(st.sampled_from([240, 248, 252, 254, 255]))}"
        )
    return f"{_text(family, low)}-{_text(family, draw(st.integers(low, 15)))}"


@st.composite
def port_words(draw: st.DrawFn) -> str:
    first = draw(st.sampled_from(PORTS))
    last = draw(st.sampled_from([port for port in PORTS if port >= first]))
    return draw(
        st.sampled_from([f"{first}", f"{first}-{last}", f"{first}-", f"-{last}", f"{first},{last}"])
    )


@st.composite
def entry_words(draw: st.DrawFn, family: Family) -> str:
    service = draw(
        st.sampled_from(
            [
                "ip",
                "tcp",
                "tcp",
                "udp",
                "sctp",
                "dccp",
                "gre",
                "icmp",
                "ping",
                "tcp/P",
                "udp/P",
                "icmp/3",
                "icmp/3/1",
            ]
        )
    )
    service = service.replace("P", draw(port_words()))
    words = [
        draw(st.sampled_from(["permit", "deny", "reject"])),
        service,
        draw(address_words(family)),
        "to",
        draw(address_words(family)),
    ]
    if service.partition("/")[0] in ("tcp", "udp", "sctp", "dccp") and draw(st.booleans()):
        words.append(f"source port {draw(port_words())}")
    if service.startswith("tcp"):
        words.append(
            draw(
                st.sampled_from(
                    ["", "", "established", "flags SYN,!ACK", "flags FIN", "established flags !RST"]
                )
            )
        )
    words.append(draw(st.sampled_from(["", "", "", "fragments"])))
    words.append(draw(st.sampled_from(["", "", "", "dscp ef"])))
    return ("off " if draw(st.integers(0, 9)) == 0 else "") + " ".join(
        word for word in words if word
    )


@st.composite
def packets(draw: st.DrawFn, family: Family) -> Packet:
    base = 0x0A000000 if family is Family.IPV4 else 0x20010DB8 << 96
    protocol = draw(st.sampled_from([6, 6, 17, 132, 33, 47, 1, 58]))
    fragment = draw(st.integers(0, 4)) == 0
    fields: dict[str, int] = {}
    if not fragment and protocol in (6, 17, 132, 33):
        fields = {
            "source_port": draw(st.sampled_from(PORTS)),
            "destination_port": draw(st.sampled_from([*PORTS, 9])),
        }
    if not fragment and protocol == 6:
        fields["flags"] = draw(st.integers(0, 255))
    if not fragment and protocol in (1, 58):
        fields = {
            "icmp_type": draw(st.sampled_from([3, 8, 128])),
            "icmp_code": draw(st.sampled_from([0, 1])),
        }
    source, destination = base | draw(st.integers(0, 17)), base | draw(st.integers(0, 17))
    return Packet(
        family,
        source,
        destination,
        protocol,
        fragment=fragment,
        dscp=draw(st.sampled_from([0, 46])),
        **fields,
    )


def _as_int(text: str) -> int:
    return int(ipaddress.ip_address(text))


def _has(words: list[str], value: int, family: Family) -> bool:
    """Whether the address words, taken off the front of `words`, have the address; one bit after
    the other.
    """
    word = words.pop(0)
    if word == "any":
        return True
    width = family.bits

    if "-" in word:
        first, last = word.split("-")
        return _as_int(first) <= value <= _as_int(last)
    cares = [True] * width
    if "/" in word:
        word, length = word.split("/")
        cares = [bit < int(length) for bit in range(width)]
    elif words and words[0] in ("wild", "mask"):
        kind = words.pop(0)
        mask = _as_int(words.pop(0))
        cares = [(mask >> (width - 1 - bit) & 1 == 1) is (kind == "mask") for bit in range(width)]
    wanted = _as_int(word)
    return all(
        not care or (wanted ^ value) >> (width - 1 - bit) & 1 == 0 for bit, care in enumerate(cares)
    )


def _in_ports(text: str, port: int | None) -> bool:
    if port is None:
        return False
    for piece in text.split(","):
        first, dash, last = piece.partition("-")
        if int(first or 0) <= port <= (int(last or 65535) if dash else int(first)):
            return True
    return False


def _serves(service: str, packet: Packet) -> bool:
    icmp = 1 if packet.family is Family.IPV4 else 58
    if service == "ip":
        return True
    if service == "ping":
        return (
            packet.protocol == icmp
            and packet.icmp_type == (8 if icmp == 1 else 128)
            and packet.icmp_code == 0
        )
    name, _, rest = service.partition("/")
    if packet.protocol != (icmp if name == "icmp" else PROTOCOLS[name]):
        return False
    if name == "icmp" and rest:
        kind, _, code = rest.partition("/")
        return packet.icmp_type == int(kind) and (not code or packet.icmp_code == int(code))
    return not rest or _in_ports(rest, packet.destination_port)


def _matches(text: str, packet: Packet) -> bool:
    words = text.split()
    if words[0] == "off":
        return False
    words = words[1:]
    if not _serves(words.pop(0), packet):
        return False
    if not _has(words, packet.source, packet.family):
        return False
    words.pop(0)
    if not _has(words, packet.destination, packet.family):
        return False
    while words:
        word = words.pop(0)
        if word == "source":
            words.pop(0)
            if not _in_ports(words.pop(0), packet.source_port):
                return False
        elif word == "established":
            if packet.flags is None or not (
                packet.flags & FLAGS["ACK"] or packet.flags & FLAGS["RST"]
            ):
                return False
        elif word == "flags":
            for flag in words.pop(0).split(","):
                if packet.flags is None or bool(
                    packet.flags & FLAGS[flag.lstrip("!")]
                ) is flag.startswith("!"):
                    return False
        elif word == "fragments":
            if not packet.fragment:
                return False
        elif packet.dscp != {"ef": 46}[words.pop(0)]:
            return False
    return True


def _read(tmp: Path, family: Family, texts: list[str], otherwise: str) -> AccessList:
    path = tmp / "list.gate"
    lines = [
        f"list tested extended {family.word}",
        *(f"    {text}" for text in texts),
        f"    otherwise {otherwise}",
    ]
    path.write_text("\n".join(lines))
    return read_plan(path).lists["tested"]


@st.composite
def aimed_packets(draw: st.DrawFn, family: Family, text: str) -> Packet:
    """Draw a packet that the entry matches, where the few addresses, ports and flags that are drawn
    have one.
    """
    packet = draw(packets(family))
    words = text.removeprefix("off ").split()[1:]
    service, base, ends = words.pop(0), packet.source >> 5 << 5, []
    for _ in range(2):
        ends.append(
            draw(
                st.sampled_from(
                    [base | low for low in range(18) if _has(words.copy(), base | low, family)]
                )
            )
        )
        _has(words, base, family)
        words = words[1:] if words[:1] == ["to"] else words
    icmp, (name, _, rest) = (1 if family is Family.IPV4 else 58), service.partition("/")
    protocol = packet.protocol if name == "ip" else PROTOCOLS.get(name, icmp)
    fields: dict[str, int] = {}
    if not (fragment := "fragments" in words):
        if protocol in (6, 17, 132, 33):
            sources = words[words.index("port") + 1] if "port" in words else "-"
            fields["source_port"] = draw(
                st.sampled_from([port for port in PORTS if _in_ports(sources, port)])
            )
            fields["destination_port"] = draw(
                st.sampled_from([port for port in PORTS if _in_ports(rest or "-", port)])
            )
        if protocol == 6:
            fields["flags"] = draw(
                st.sampled_from(
                    [flags for flags in range(256) if _flagged(words.copy(), flags)] or [0]
                )
            )
        if protocol in (1, 58):
            echo = 8 if icmp == 1 else 128
            fields["icmp_type"], fields["icmp_code"] = {"icmp/3/1": (3, 1), "icmp/3": (3, 0)}.get(
                service, (echo, 0)
            )
    dscp = 46 if "dscp" in words else packet.dscp
    return Packet(family, ends[0], ends[1], protocol, fragment=fragment, dscp=dscp, **fields)


def _flagged(words: list[str], flags: int) -> bool:
    """Whether the words of an entry after its addresses match the TCP flags."""
    asked = words[words.index("flags") + 1].split(",") if "flags" in words else []
    if "established" in words and not flags & (FLAGS["ACK"] | FLAGS["RST"]):
        return False
    return all(bool(flags & FLAGS[flag.lstrip("!")]) is not flag.startswith("!") for flag in asked)


@settings(
    max_examples=100,
    suppress_health_check=[HealthCheck.function_scoped_fixture, HealthCheck.too_slow],
    deadline=None,
)
@given(st.data(), st.sampled_from(Family), st.sampled_from(["permit", "deny", "reject"]))
def test_first_match_is_the_reference(
    tmp_path: Path, data: st.DataObject, family: Family, otherwise: str
) -> None:
    """Every entry is there twice with actions of its own, and most packets are aimed at one: they
    meet two and more.
    """
    once = data.draw(st.lists(entry_words(family), min_size=0, max_size=5))
    again = [
        re.sub("permit|deny|reject", data.draw(st.sampled_from(["permit", "deny", "reject"])), text)
        for text in once
    ]
    texts = data.draw(st.permutations(once + again))
    access_list = _read(tmp_path, family, texts, otherwise)
    index = ListIndex(access_list, frozenset())
    aimed = (
        st.sampled_from(texts).flatmap(lambda text: aimed_packets(family, text))
        if texts
        else st.nothing()
    )
    for packet in data.draw(st.lists(aimed | packets(family), min_size=1, max_size=12)):
        met = [number for number, text in enumerate(texts) if _matches(text, packet)]
        decision = access_list.decide(packet)
        assert index.decide(packet) == decision
        if not met:
            assert (decision.entry, decision.action) == (None, Action(otherwise))
            continue
        first, *later = met
        assert isinstance(decision.entry, Entry)
        assert decision.entry.number == (first + 1) * 10
        assert decision.action == texts[first].split()[0]
        after = index.decide_after(packet, decision.entry)
        assert (after.entry.number if after.entry else None) == (
            (later[0] + 1) * 10 if later else None
        )


@settings(
    max_examples=50,
    suppress_health_check=[HealthCheck.function_scoped_fixture, HealthCheck.too_slow],
    deadline=None,
)
@given(st.data(), st.sampled_from(Family))
def test_a_standard_list_asks_for_sources_only(
    tmp_path: Path, data: st.DataObject, family: Family
) -> None:
    sources = data.draw(st.lists(address_words(family), min_size=1, max_size=5))
    path = tmp_path / "list.gate"
    path.write_text(
        "\n".join(
            [
                f"list 10 standard {family.word}",
                *(f"    deny {source}" for source in sources),
                "    otherwise permit",
            ]
        )
    )
    access_list = read_plan(path).lists["10"]
    packet = data.draw(packets(family))
    first = next(
        (
            number
            for number, source in enumerate(sources, 1)
            if _has(source.split(), packet.source, family)
        ),
        None,
    )
    decision = access_list.decide(packet)
    assert (decision.entry.number if decision.entry else None) == (first * 10 if first else None)


def test_entries_are_read_by_number_and_only_in_force(tmp_path: Path) -> None:
    path = tmp_path / "list.gate"
    path.write_text(
        "window night daily 22:00-05:30\nlist 101 extended ipv4\n"
        "    30 permit ip any to any\n    10 off deny ip any to any\n    20 reject ip any to any "
        "during night\n"
    )
    access_list = read_plan(path).lists["101"]
    packet = Packet(Family.IPV4, 1, 2, 17, 5, 6)
    assert [entry.number for entry in access_list.entries] == [10, 20, 30]
    assert access_list.decide(packet).action is Action.PERMIT
    assert access_list.decide(packet, frozenset({"night"})).action is Action.REJECT
