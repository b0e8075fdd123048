"""Filter rules that a RADIUS server sends for one terminal: NAS-Filter-Rule (RFC 4849), with the
rule text of RFC 6733 section 4.3.1.

`in` is from the terminal, our `inbound` at its port and `outbound` at its subnet; `out` is to it.
What no rule matches is dropped where the last rule is a permit and passed where it is a deny, so a
list is always written with a final rule that takes the rest. Rules have no numbers, names or
comments. As bytes they are attributes of type 92: the rules joined by NUL and cut after every 253
octets (RFC 4849 section 2).
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence

from crossgate.core.lists.rules import Rule, closing, rules_of
from crossgate.core.model import iana
from crossgate.core.model.accesslist import AccessList
from crossgate.core.model.address import Family, Pattern, everything
from crossgate.core.model.condition import Abilities
from crossgate.core.model.entry import Action
from crossgate.core.model.errors import PlanError
from crossgate.core.model.network import Direction, PointKind
from crossgate.core.model.packet import TCP, UDP
from crossgate.core.model.service import ESTABLISHED, Ports
from crossgate.formats.exchange.asked import ExportedDocument, ExportWanted
from crossgate.formats.exchange.ietf_acl import tell

ATTRIBUTE = 92
"""The type of the RADIUS attribute."""
MOST_VALUE = 253
"""The octets that one attribute holds at most."""
_SCTP = 132
PORTED = (TCP, UDP, _SCTP)
FLAGS = ("fin", "syn", "rst", "psh", "ack", "urg")
_TYPES = frozenset({0, 3, 4, 5, *range(8, 19)})
"""The ICMP types that RFC 6733 names; a server need not know others."""
_ABLE = Abilities(
    "nas-filter-rule",
    ported=PORTED,
    established=True,
    masked_flags=sum(iana.FLAGS[each.upper()] for each in FLAGS),
    icmp_types=_TYPES,
    conditions=("fragments",),
)
WORDS = {Direction.INBOUND: "in", Direction.OUTBOUND: "out"}
_OTHER = {Direction.INBOUND: Direction.OUTBOUND, Direction.OUTBOUND: Direction.INBOUND}


def write(wanted: ExportWanted) -> ExportedDocument:
    """Write the rules of lists for one terminal, one on each line. Raises `PlanError` where their
    direction is not known.
    """
    written = ExportedDocument("")
    by_side: dict[tuple[Direction, Family], AccessList] = {}
    written.unsaid += [
        f"list {each.name}: nas-filter-rule has no ethernet lists"
        for each in wanted.every_list
        if each not in wanted.lists
    ]
    for each in wanted.lists:
        side = _direction(each, wanted), each.family
        if side in by_side:
            raise PlanError(
                f"{by_side[side].name} and {each.name} are both {side[1].label} and {side[0]}, "
                "and a terminal has one such list; name one"
            )
        by_side[side] = each
    lines: list[str] = []
    for (direction, _), each in by_side.items():
        taken = rules_of(each, _ABLE, wanted.limit)
        tell(each, taken.unsaid, taken.off, written)
        remarks = len(each.notes) + sum(bool(entry.comment) for entry in each.entries)
        if remarks:
            written.told.append(
                f"list {each.name}: its comments and notes ({remarks}) are left out, since rules "
                "have none"
            )
        lines += [_line(rule, direction) for rule in (*taken.rules, closing(each))]
    for direction in dict.fromkeys(direction for direction, _ in by_side):
        for family in Family:
            if (direction, family) not in by_side:
                whole = everything(family)
                lines.append(_line(Rule(Action.PERMIT, None, whole, whole), direction))
                written.told.append(
                    f"no {family.label} list is among them, so a last rule lets all "
                    f"{family.label} by ({WORDS[direction]})"
                )
    written.text = (
        b"".join(_attributes(lines)) if wanted.bytes else "".join(line + "\n" for line in lines)
    )
    return written


def _direction(access_list: AccessList, wanted: ExportWanted) -> Direction:
    if wanted.direction in _OTHER:
        return wanted.direction
    stands = [each for each in wanted.places if each.access_list == access_list.name]
    # What comes from the terminal enters its port, and leaves its subnet.
    ways = {
        _OTHER[each.direction] if each.point.kind is PointKind.SUBNET else each.direction
        for each in stands
        if each.direction in _OTHER
    }
    if (
        wanted.direction is not None
        or len(ways) != 1
        or any(
            each.direction is Direction.WITHIN
            or each.point.kind in (PointKind.INTERFACE, PointKind.ITSELF)
            for each in stands
        )
    ):
        what = (
            f"stands {' and '.join(each.where for each in stands)}"
            if stands
            else "is placed nowhere"
        )
        raise PlanError(
            f"{access_list.name} {what}; --direction inbound, from the terminal, or outbound, to "
            "it, says which way its rules are"
        )
    return ways.pop()


def _line(rule: Rule, direction: Direction) -> str:
    protocol = "ip" if rule.protocol is None else str(rule.protocol)
    words = [
        rule.action.value,
        WORDS[direction],
        protocol,
        "from",
        _end(rule.source),
        *_port_words(rule.source_ports),
    ]
    words += ["to", _end(rule.destination), *_port_words(rule.destination_ports)]
    words += ["frag"] * rule.fragments
    if rule.flags == ESTABLISHED:
        words.append("established")
    elif rule.flags:
        test = rule.flags[0]
        asked = [
            ("" if test.value & bit else "!") + name
            for name in FLAGS
            if test.care & (bit := iana.FLAGS[name.upper()])
        ]
        words += ["tcpflags", ",".join(asked)]
    if rule.icmp_type is not None:
        words += ["icmptypes", str(rule.icmp_type)]
    return " ".join(words)


def _end(pattern: Pattern) -> str:
    whole = "0.0.0.0/0" if pattern.family is Family.IPV4 else "::/0"
    return whole if pattern.wildcard == pattern.family.mask else str(pattern)


def _port_words(ports: Ports | None) -> list[str]:
    return (
        []
        if ports is None
        else [",".join(str(first) if first == last else f"{first}-{last}" for first, last in ports)]
    )


def _attributes(lines: Sequence[str]) -> Iterator[bytes]:
    data = b"\0".join(line.encode() for line in lines)
    for start in range(0, len(data), MOST_VALUE):
        part = data[start : start + MOST_VALUE]
        yield bytes([ATTRIBUTE, len(part) + 2]) + part
