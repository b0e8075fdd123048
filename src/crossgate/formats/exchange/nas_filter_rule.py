"""Filter rules that a RADIUS server sends for one terminal: NAS-Filter-Rule (RFC 4849), with the
rule text of RFC 6733 section 4.3.1.

`in` is from the terminal, our `inbound` at its port and `outbound` at its subnet; `out` is to it.
What no rule matches is dropped where the last rule is a permit and passed where it is a deny, so a
list is always written with a final rule that takes the rest. Rules have no numbers, names or
comments. As bytes they are attributes of type 92: the rules joined by NUL and cut after every 253
octets (RFC 4849 section 2).
"""

from __future__ import annotations

import re
from collections.abc import Iterator, Sequence
from typing import NamedTuple

from crossgate.core.lists.rules import Rule, closing, rules_of
from crossgate.core.model import iana
from crossgate.core.model.accesslist import AccessList, Action
from crossgate.core.model.address import (
    AddressError,
    Family,
    Pattern,
    everything,
    parse_block,
    parse_prefix,
)
from crossgate.core.model.condition import Abilities
from crossgate.core.model.errors import PlanError
from crossgate.core.model.network import Direction, PointKind
from crossgate.core.model.packet import ICMP, TCP, UDP
from crossgate.core.model.plaintext import numeral
from crossgate.core.model.service import ESTABLISHED, FlagTest, Ports, ServiceError, parse_ports
from crossgate.core.sets.patterns import less
from crossgate.formats.exchange.asked import Given, Wanted, Written
from crossgate.formats.exchange.ietf_acl import tell
from crossgate.language.coming import Coming, takes_all

ATTRIBUTE = 92
_MOST_VALUE = 253
_SCTP = 132
_PORTED = (TCP, UDP, _SCTP)
_FLAGS = ("fin", "syn", "rst", "psh", "ack", "urg")
_SETUP = FlagTest(iana.FLAGS["SYN"], iana.FLAGS["SYN"] | iana.FLAGS["ACK"])
_TYPES = frozenset({0, 3, 4, 5, *range(8, 19)})
"""The ICMP types that RFC 6733 names; a server need not know others."""
_SYMBOLS = {
    "echo reply": 0,
    "destination unreachable": 3,
    "source quench": 4,
    "redirect": 5,
    "echo request": 8,
    "router advertisement": 9,
    "router solicitation": 10,
    "time-to-live exceeded": 11,
    "ip header bad": 12,
    "timestamp request": 13,
    "timestamp reply": 14,
    "information request": 15,
    "information reply": 16,
    "address mask request": 17,
    "address mask reply": 18,
}
"""The ICMP types by the symbolic values of RFC 6733 section 4.3.1."""
_OPTIONS = ("frag", "ipoptions", "tcpoptions", "established", "setup", "tcpflags", "icmptypes")
_ABLE = Abilities(
    "nas-filter-rule",
    ported=_PORTED,
    established=True,
    masked_flags=sum(iana.FLAGS[each.upper()] for each in _FLAGS),
    icmp_types=_TYPES,
    conditions=("fragments",),
)
_WORDS = {Direction.INBOUND: "in", Direction.OUTBOUND: "out"}
_OTHER = {Direction.INBOUND: Direction.OUTBOUND, Direction.OUTBOUND: Direction.INBOUND}
_DIRECTIONS = {word: direction for direction, word in _WORDS.items()}


# ---- Out


def write(wanted: Wanted) -> Written:
    """Write the rules of lists for one terminal, one on each line. Raises `PlanError` where their
    direction is not known.
    """
    written = Written("")
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
                    f"{family.label} by ({_WORDS[direction]})"
                )
    written.text = (
        b"".join(_attributes(lines)) if wanted.bytes else "".join(line + "\n" for line in lines)
    )
    return written


def _direction(access_list: AccessList, wanted: Wanted) -> Direction:
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
        _WORDS[direction],
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
            for name in _FLAGS
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
    for start in range(0, len(data), _MOST_VALUE):
        part = data[start : start + _MOST_VALUE]
        yield bytes([ATTRIBUTE, len(part) + 2]) + part


# ---- In

_ATTRIBUTE_LINE = re.compile(r'\s*NAS-Filter-Rule\s*(?:=|\+=|:=|==)\s*"(.*)"\s*,?\s*')
"""A rule as the attribute of a users file."""


class _Told(NamedTuple):
    """A rule as written, with its number in the file."""

    number: int
    text: str


def read(given: Given) -> Coming:
    """Read rules, one on each line or as bytes of attributes, as a list for each direction and
    family. Raises `PlanError` with the faulty rule.
    """
    coming = Coming(str(given.path), less=given.less)
    parsed = [_Parser(given, each).rule() for each in _rules(given)]
    if not parsed:
        raise PlanError(
            f"{given.path} has no rule; one is as: permit in 6 from any to 192.0.2.5 443"
        )
    coming.told += [
        (
            f"rule {each.number} asks for a TCP flag that is set and not set, which no packet "
            "has; it "
            "is left out"
        )
        for each in parsed
        if each.nothing
    ]
    ways = list(dict.fromkeys(each.direction for each in parsed))
    for direction in ways:
        own = [each for each in parsed if each.direction is direction]
        rest = Action.DENY if own[-1].action is Action.PERMIT else Action.PERMIT
        name = f"{given.name}-{_WORDS[direction]}" if len(ways) > 1 else given.name or ""
        by_family = {
            family: [(rule, each.lost) for each in own for rule in each.rules(family)]
            for family in Family
        }
        needed = [family for family, rules in by_family.items() if not _permits_all(rules, rest)]
        for family in needed:
            found = coming.new_list(name, family, apart=len(needed) > 1)
            for rule, lost in by_family[family]:
                found.add(rule, [f"{given.path}, {each}" for each in lost])
            found.close(rest, lambda rule: rule.number is None)
            if not by_family[family]:
                found.note(
                    f"no rule is for {family.label}, so what follows from the last one holds for "
                    f"all of it: {found.otherwise}"
                )
        for family in Family:
            if family not in needed and by_family[family]:
                coming.told.append(
                    f"all {family.label} is permitted {_WORDS[direction]}; no list is needed for "
                    "that"
                )
    coming.told = list(dict.fromkeys(coming.told))
    return coming


def _permits_all(rules: Sequence[tuple[Rule, tuple[str, ...]]], rest: Action) -> bool:
    """Whether rules, and what becomes of the rest, permit everything of a family."""
    if not rules:
        return rest is Action.PERMIT
    return (
        len(rules) == 1
        and not rules[0][1]
        and rules[0][0].action is Action.PERMIT
        and takes_all(rules[0][0])
    )


def _rules(given: Given) -> Iterator[_Told]:
    data = given.data
    if data[:1] == bytes([ATTRIBUTE]):
        joined, at = b"", 0
        while at < len(data):
            size = data[at + 1] if at + 1 < len(data) else 0
            if size < 3 or at + size > len(data):
                raise PlanError(
                    f"{given.path}, octet {at}: no attribute begins here: a type and a length of "
                    "at least 3, and as many octets"
                )
            if data[at] == ATTRIBUTE:
                joined += data[at + 2 : at + size]
            at += size
        texts = joined.decode("ascii", errors="replace").split("\0")
    else:
        try:
            texts = _whole_rules(data.decode("utf-8-sig").splitlines())
        except UnicodeDecodeError as error:
            raise PlanError(
                f"{given.path} is neither text nor RADIUS attributes (octet {error.start})"
            ) from None
    for number, text in enumerate(texts, 1):
        named = _ATTRIBUTE_LINE.fullmatch(text)
        own = (named.group(1) if named else text).strip()
        if own and not own.startswith("#"):
            yield _Told(number, own)


def _whole_rules(lines: Sequence[str]) -> list[str]:
    """Return the rules of a text, one on each line.

    RADIUS clients print attributes as they came: rules are separated by NUL, and one may continue
    in the next attribute (RFC 4849 section 2). So where a NUL is printed, or an attribute has the
    greatest possible length, the attributes are joined first.
    """
    values = [found[1] if (found := _ATTRIBUTE_LINE.fullmatch(line)) else None for line in lines]
    own = [each for each in values if each is not None]
    if not any(
        each and (_PRINTED_NUL.search(each) or len(each.encode()) >= _MOST_VALUE) for each in own
    ):
        return list(lines)
    joined = ""
    for each in own:
        joined += each
        if len(each.encode()) < _MOST_VALUE and not _PRINTED_NUL.search(each):
            joined += "\0"
    return _PRINTED_NUL.sub("\0", joined).split("\0")


_PRINTED_NUL = re.compile(r"\\000|\\x00|\\0|\0")
"""A NUL as clients print it."""


class _Parsed(NamedTuple):
    """A rule that was read: its two sides as patterns of one family, None for either family, and
    what of it cannot be said here.
    """

    action: Action
    direction: Direction
    protocol: int | None
    sides: tuple[tuple[Pattern, ...] | None, tuple[Pattern, ...] | None]
    ports: tuple[Ports | None, Ports | None]
    flags: tuple[FlagTest, ...]
    types: tuple[int | None, ...]
    fragments: bool
    lost: tuple[str, ...]
    inverted: tuple[bool, bool]
    nothing: bool
    """Whether it asks for what no packet is."""
    number: int

    def rules(self, family: Family) -> list[Rule]:
        """Return it as rules of a family, all with its number; none where it matches no packet of
        the family.

        RFC 6733 does not say whether "all other addresses" than one are only those of its family.
        So that no more is permitted than the server meant, a permit takes only those, while a
        denial takes all of the other family too.
        """
        if self.nothing or (family is Family.IPV6 and self.types != (None,)):
            return []
        every = everything(family)
        sides = []
        for side, inverted in zip(self.sides, self.inverted, strict=True):
            own = (
                (every,) if side is None else tuple(each for each in side if each.family is family)
            )
            if not own and inverted and self.action is Action.DENY:
                own = (every,)
            sides.append(own)
        sources, destinations = sides
        found = [
            Rule(
                self.action,
                self.protocol,
                source,
                destination,
                self.ports[0],
                self.ports[1],
                icmp_type,
                None,
                self.flags,
                self.fragments,
            )
            for source in sources
            for destination in destinations
            for icmp_type in self.types
        ]
        if len(found) == 1:
            return found
        return [
            rule._replace(number=self.number, part=part, parts=len(found))
            for part, rule in enumerate(found, 1)
        ]


class _Parser:
    """Reads one rule word by word."""

    def __init__(self, given: Given, told: _Told) -> None:
        self._given, self._told = given, told
        self._words = re.sub(r"!\s+", "!", told.text).split()
        self._lost: list[str] = []
        self._inverted: list[bool] = []
        self._nothing = False

    def error(self, message: str) -> PlanError:
        return PlanError(
            f"{self._given.path}, rule {self._told.number}: {message}: {self._told.text}"
        )

    def _take(self, what: str) -> str:
        if not self._words:
            raise self.error(f"the rule ends where {what} belongs")
        return self._words.pop(0)

    def _keyword(self, word: str) -> None:
        found = self._take(word)
        if found != word:
            raise self.error(f"{found} stands where {word} belongs")

    def rule(self) -> _Parsed:
        """Read the rule. Raises `PlanError`."""
        action, way, word = (
            self._take("permit or deny"),
            self._take("in or out"),
            self._take("a protocol"),
        )
        if action not in ("permit", "deny"):
            raise self.error(f"{action} stands where permit or deny belongs")
        if way not in _DIRECTIONS:
            raise self.error(f"{way} stands where in or out belongs")
        protocol = None if word == "ip" else self._protocol(word)
        self._keyword("from")
        sides, ports = [], []
        for follows in ("to", None):
            sides.append(self._end())
            ports.append(self._port_list(protocol))
            if follows:
                self._keyword(follows)
        flags, types, fragments = self._options()
        if types != (None,):
            protocol = self._narrowed(protocol, ICMP, "icmptypes")
        if flags:
            protocol = self._narrowed(protocol, TCP, "TCP flags")
        families = {each.family for side in sides if side is not None for each in side}
        if len(families) > 1 and True not in self._inverted:
            raise self.error("one end is IPv4 and the other IPv6, which no packet is")
        return _Parsed(
            Action(action),
            _DIRECTIONS[way],
            protocol,
            (sides[0], sides[1]),
            (ports[0], ports[1]),
            flags,
            types,
            fragments,
            tuple(self._lost),
            (self._inverted[0], self._inverted[1]),
            self._nothing,
            self._told.number,
        )

    def _protocol(self, word: str) -> int:
        number = numeral(word)
        if number is None or number > 255:
            raise self.error(f"{word} stands where ip or a protocol number from 0 to 255 belongs")
        return number

    def _narrowed(self, protocol: int | None, to: int, what: str) -> int:
        if protocol not in (None, to):
            raise self.error(f"{what} are of protocol {to}, and the rule is of {protocol}")
        return to

    def _end(self) -> tuple[Pattern, ...] | None:
        """ADDRESS = ["!"] ("any" | "assigned" | IPNO ["/" BITS]); None for any of either family."""
        word = self._take("an address")
        inverted, text = word.startswith("!"), word.removeprefix("!")
        self._inverted.append(inverted)
        if text == "assigned":
            self._lost.append(
                f"rule {self._told.number}: {word}, the address that the terminal has"
            )
            return None
        if text == "any":
            if inverted:
                raise self.error("!any is no address")
            return None
        try:
            own = parse_block(text)
            if parse_prefix(text)[0].value != own.value if "/" in text else False:
                raise self.error(f"{text} has bits set beyond its length; as a prefix it is {own}")
        except AddressError as error:
            raise self.error(error.message) from None
        if not inverted:
            return (own,)
        found = tuple(sorted(less([everything(own.family)], [own])))
        if not found:
            raise self.error(f"{word} is no address at all")
        return found

    def _port_list(self, protocol: int | None) -> Ports | None:
        if not self._words or not self._words[0][0].isdigit():
            return None
        word = self._take("ports")
        if protocol not in _PORTED:
            raise self.error(f"ports belong to protocol {', '.join(map(str, _PORTED))}")
        try:
            return parse_ports(word)
        except ServiceError as error:
            raise self.error(str(error)) from None

    def _options(self) -> tuple[tuple[FlagTest, ...], tuple[int | None, ...], bool]:
        flags: tuple[FlagTest, ...] = ()
        types: tuple[int | None, ...] = (None,)
        fragments = False
        while self._words:
            word = self._take("an option")
            if word == "frag":
                fragments = True
            elif word in ("established", "setup", "tcpflags"):
                if flags:
                    raise self.error("TCP flags are asked for twice")
                flags = (
                    ESTABLISHED
                    if word == "established"
                    else (_SETUP,)
                    if word == "setup"
                    else (self._tcp_flags(),)
                )
            elif word == "icmptypes":
                types = self._types()
            elif word in ("ipoptions", "tcpoptions"):
                self._lost.append(
                    f"rule {self._told.number}: {word} {self._take('a list of options')}"
                )
            else:
                raise self.error(f"{word} is no option: {', '.join(_OPTIONS)}")
        return flags, types, fragments

    def _tcp_flags(self) -> FlagTest:
        value = care = 0
        for each in self._take("TCP flags").split(","):
            name = each.removeprefix("!")
            if name not in _FLAGS:
                raise self.error(f"{name or 'nothing'} is no TCP flag: {', '.join(_FLAGS)}")
            bit = iana.FLAGS[name.upper()]
            if care & bit and bool(value & bit) is each.startswith("!"):
                self._nothing = True  # set and not set: no packet is that
            care |= bit
            value |= 0 if each.startswith("!") else bit
        return FlagTest(value, care)

    def _types(self) -> tuple[int | None, ...]:
        """TYPES = TYPE *("," TYPE): numbers, ranges and symbolic names, which may contain blanks."""
        told = [self._take("ICMP types")]
        while self._words and self._words[0] not in _OPTIONS:
            told.append(self._words.pop(0))
        text = " ".join(told)
        found: set[int] = set()
        for piece in text.split(","):
            word = " ".join(piece.split()).lower()
            first, dash, last = word.partition("-")
            numbers = [numeral(first), numeral(last if dash else first)]
            if word in _SYMBOLS:
                numbers = [_SYMBOLS[word]] * 2
            if numbers[0] is None or numbers[1] is None or not numbers[0] <= numbers[1] <= 255:
                raise self.error(
                    f"{word or 'nothing'} is no ICMP type: a number from 0 to 255, a range, or a "
                    "symbolic value, as echo request"
                )
            found.update(range(numbers[0], numbers[1] + 1))
        return tuple(sorted(found))
