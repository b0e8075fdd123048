"""The words of an entry: what a list writes for some addresses and for some services, with the
plan's own names where they stand for exactly these.
"""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from functools import cached_property
from typing import NamedTuple

from crossgate.core.answers.groups import Term
from crossgate.core.model import iana
from crossgate.core.model.address import (
    Address,
    Family,
    Pattern,
    format_address,
    prefix,
    range_patterns,
    single,
)
from crossgate.core.model.packet import ECHO, PORT_PROTOCOLS, TCP
from crossgate.core.model.plan import Plan
from crossgate.core.model.service import ServiceError, format_ports, join_ports, protocol_word
from crossgate.core.model.service_words import in_order
from crossgate.core.sets.patterns import joined

_MOST_NAMED = 1 << 16
"""A name that has more addresses is only used where an entry is given room."""


class EndWord(NamedTuple):
    """A word for an end: the addresses that it stands for, how many these are, and all addresses
    that a list takes for it.
    """

    text: str
    members: frozenset[int]
    size: int
    patterns: tuple[Pattern, ...]

    @property
    def is_wide(self) -> bool:
        """Whether a list takes more addresses for the word than those it was chosen for."""
        return sum(each.size for each in self.patterns) > len(self.members)


class EntryWords:
    """Finds the words of entries of one family, in one plan."""

    def __init__(self, plan: Plan, family: Family) -> None:
        self.plan, self.family = plan, family

    def service(self, terms: frozenset[Term], client_ports: tuple[int, int]) -> tuple[str, str]:
        """Return the services of some terms as a list writes them, and the words that follow the
        addresses; `client_ports` are the first and the last port that clients use.
        """
        first = next(iter(terms))
        if first.fragment:
            return ",".join(
                sorted(protocol_word(each.protocol, self.family) for each in terms)
            ), " fragments"
        if first.reply:
            return self._reply(first, client_ports)
        named = self._named_service(terms)
        if named is not None:
            return named, ""
        ports: dict[int, list[tuple[int, int]]] = {}
        words = []
        for term in sorted(terms, key=str):
            if term.number is None:
                words.append(protocol_word(term.protocol, self.family))
            elif term.protocol in PORT_PROTOCOLS:
                ports.setdefault(term.protocol, []).append((term.number, term.number))
            else:
                words.append(self._message(term.number))
        told = [
            f"{protocol_word(protocol, self.family)}/{format_ports(join_ports(own))}"
            for protocol, own in sorted(ports.items())
        ]
        return in_order([*told, *words]), ""

    def _reply(self, term: Term, client_ports: tuple[int, int]) -> tuple[str, str]:
        """Return the service of the answers to a term, and the words that follow the addresses."""
        word = protocol_word(term.protocol, self.family)
        if term.protocol in PORT_PROTOCOLS:
            marks = " established" if term.protocol == TCP else ""
            return f"{word}/{format_ports((client_ports,))}", f" source port {term.number}{marks}"
        if term.number is None:
            return word, ""
        return self._message(iana.ANSWERED[term.protocol][term.number >> 8] << 8), ""

    def _message(self, number: int) -> str:
        kind, code = number >> 8, number & 255
        return (
            "ping"
            if (kind, code) == (ECHO[self.family], 0)
            else f"icmp/{kind}" + (f"/{code}" if code else "")
        )

    def _named_service(self, terms: frozenset[Term]) -> str | None:
        """Return the plan's name for exactly these terms."""
        wanted = sorted(
            (each.protocol, each.number)
            for each in terms
            if each.number is not None and each.protocol in PORT_PROTOCOLS
        )
        if len(wanted) != len(terms):
            return None
        for name in self.plan.services:
            try:
                own = self.plan.service(name, self.family).terms
            except ServiceError:
                continue
            ports = [(each.protocol, range_) for each in own for range_ in each.ports or ((0, -1),)]
            if (
                all(first == last for _, (first, last) in ports)
                and sorted((number, first) for number, (first, _) in ports) == wanted
            ):
                return name
        return None

    def for_exactly(self, addresses: frozenset[int]) -> list[EndWord]:
        """Return the fewest names and ranges that together stand for exactly these addresses."""
        named = self._named
        ways = [
            self._written(addresses, every)
            for every in (named, [each for each in named if each.size > 1], ())
        ]
        return min(ways, key=len)

    def _written(self, addresses: frozenset[int], named: Sequence[EndWord]) -> list[EndWord]:
        """Return names that lie inside some addresses, the largest first, and ranges for the
        rest.
        """
        found, left = [], set(addresses)
        for word in named:
            if word.members <= left:
                found.append(word)
                left -= word.members
        runs: list[list[int]] = []
        for value in sorted(left):
            if runs and runs[-1][-1] + 1 == value:
                runs[-1].append(value)
            else:
                runs.append([value])
        for run in runs:
            patterns = range_patterns(self.family, run[0], run[-1])
            text = (
                str(patterns[0])
                if len(patterns) == 1
                else "-".join(format_address(self.family, each) for each in (run[0], run[-1]))
            )
            found.append(EndWord(text, frozenset(run), len(run), patterns))
        return found

    @cached_property
    def _named(self) -> list[EndWord]:
        """The plan's names for sets of addresses, the largest first."""
        devices = {
            address.value
            for address in (*self.plan.interface_of, *self.plan.gateway_at)
            if address.family is self.family
        }
        few = []
        for name, own in self._sets():
            if (
                all(each.is_prefix for each in own)
                and sum(each.size for each in own) <= _MOST_NAMED
            ):
                members = frozenset(
                    value for each in own for value in range(each.first, each.last + 1)
                ) - self._nobodys(name, own, devices)
                few.append(EndWord(name, members, len(members), own))
        return sorted((each for each in few if each.members), key=lambda each: -each.size)

    def _nobodys(self, name: str, own: Sequence[Pattern], devices: set[int]) -> set[int]:
        """Return the addresses of a subnet from which no machine sends: its first and last, and
        those of devices; none for other names.
        """
        if name not in self.plan.segments or self.family is not Family.IPV4:
            return set()
        ends = {value for each in own if each.size > 2 for value in (each.first, each.last)}
        machines = {address.value for address in self.plan.host_of}
        return (ends | devices) - machines

    def _sets(self) -> Iterable[tuple[str, tuple[Pattern, ...]]]:
        """Yield the names of the plan that an entry can use, with their addresses."""
        plan, family = self.plan, self.family
        for name, group in plan.groups.items():
            if family in group.members:
                yield name, group.members[family].patterns
        for name, segment in plan.segments.items():
            own = tuple(each for each in segment.prefixes if each.family is family)
            if own and not segment.outside:
                yield name, own
        for name, host in plan.hosts.items():
            own = tuple(single(each) for each in host.addresses if each.family is family)
            if own:
                yield name, own

    def around(self, addresses: frozenset[int]) -> EndWord:
        """Return the smallest name, prefix or range around some addresses."""
        low, high = min(addresses), max(addresses)
        whole = prefix_around(self.family, low, high)
        ways = [EndWord(str(whole), addresses, whole.size, (whole,))]
        if high - low + 1 < whole.size:
            text = f"{format_address(self.family, low)}-{format_address(self.family, high)}"
            ways.append(
                EndWord(text, addresses, high - low + 1, range_patterns(self.family, low, high))
            )
        for name, own in self._sets():
            if (len(own) > 1 or own[0].wildcard) and all(
                any(each.contains(value) for each in own) for value in addresses
            ):
                ways.append(EndWord(name, addresses, sum(each.size for each in joined(own)), own))
        return min(ways, key=lambda each: (each.size, each.text[0].isdigit()))


def prefix_around(family: Family, low: int, high: int) -> Pattern:
    """Return the smallest prefix that contains two addresses."""
    return prefix(Address(family, low), family.bits - (low ^ high).bit_length())
