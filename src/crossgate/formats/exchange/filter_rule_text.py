"""The text of one filter rule (RFC 6733 section 4.3.1)."""

from __future__ import annotations

import re
from typing import NamedTuple

from crossgate.core.lists.rules import Rule
from crossgate.core.model import iana
from crossgate.core.model.address import (
    AddressError,
    Family,
    Pattern,
    everything,
    parse_block,
    parse_prefix,
)
from crossgate.core.model.entry import Action
from crossgate.core.model.errors import PlanError
from crossgate.core.model.network import Direction
from crossgate.core.model.packet import ICMP, TCP
from crossgate.core.model.plaintext import numeral
from crossgate.core.model.service import ESTABLISHED, FlagTest, Ports, ServiceError
from crossgate.core.model.service_words import parse_ports
from crossgate.core.sets.patterns import less
from crossgate.formats.exchange.asked import Given
from crossgate.formats.exchange.nas_filter_rule import FLAGS, PORTED, WORDS

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
_SETUP = FlagTest(iana.FLAGS["SYN"], iana.FLAGS["SYN"] | iana.FLAGS["ACK"])
_DIRECTIONS = {word: direction for direction, word in WORDS.items()}


class RuleText(NamedTuple):
    """A rule as written, with its number in the file."""

    number: int
    text: str


class FilterRule(NamedTuple):
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


class RuleReader:
    """Reads one rule word by word."""

    def __init__(self, given: Given, told: RuleText) -> None:
        self._given, self._told = given, told
        self._words = re.sub(r"!\s+", "!", told.text).split()
        self._lost: list[str] = []
        self._inverted: list[bool] = []
        self._nothing = False

    def error(self, message: str) -> PlanError:
        """Return an error at the rule."""
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

    def rule(self) -> FilterRule:
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
        return FilterRule(
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
        if protocol not in PORTED:
            raise self.error(f"ports belong to protocol {', '.join(map(str, PORTED))}")
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
            if name not in FLAGS:
                raise self.error(f"{name or 'nothing'} is no TCP flag: {', '.join(FLAGS)}")
            bit = iana.FLAGS[name.upper()]
            if care & bit and bool(value & bit) is each.startswith("!"):
                self._nothing = True  # set and not set: no packet is that
            care |= bit
            value |= 0 if each.startswith("!") else bit
        return FlagTest(value, care)

    def _types(self) -> tuple[int | None, ...]:
        """TYPES = TYPE *("," TYPE): numbers, ranges and symbolic names, which may contain
        blanks.
        """
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
