"""Imported sets of addresses and of services, written in the names of the plan."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping, Sequence
from contextlib import suppress
from functools import cached_property

from crossgate.core.lists.rules import prefixes_of
from crossgate.core.model.address import Family, Pattern, format_address, single
from crossgate.core.model.packet import ECHO, icmp_of
from crossgate.core.model.plan import Plan
from crossgate.core.model.service import Ports, ServiceError, ServiceTerm, join_ports
from crossgate.core.model.service_words import in_order
from crossgate.core.sets.patterns import joined
from crossgate.language.plain_names import list_name

_MOST_PREFIXES = 1 << 16
"""A group that is more prefixes than these is not looked at as a name for a set."""

Asked = tuple[int | None, Ports | None, int | None, int | None]
"""What a rule asks of its service: protocol, destination ports, ICMP type and code."""

_Spans = tuple[tuple[int, int], ...]


class SetNames:
    """Writes sets of addresses and of services in the plan's names, and keeps the groups that are
    needed for that.
    """

    def __init__(self, plan: Plan, subnets: Mapping[str, Sequence[Pattern]]) -> None:
        """Make it for a plan, and subnets that are imported into it."""
        self._plan, self._subnets = plan, subnets
        self._services: dict[tuple[Family, frozenset[ServiceTerm]], str] | None = None
        self._taken = {*plan.groups, *plan.hosts, *plan.segments, *plan.devices}
        self._new: list[str] = []

    def text(self, patterns: Sequence[Pattern], family: Family, called: str) -> str:
        """Write a set; `called` is the name for a group where one is needed."""
        members = list(dict.fromkeys(patterns))
        known = self.known(members, family)
        if known is not None:
            return known
        if len(members) > 1:
            members = sorted(joined(members, wild=True))
        if len(members) == 1:
            return str(members[0])
        spans = _spans(members)
        if len(spans) == 1:
            return f"{format_address(family, spans[0][0])}-{format_address(family, spans[0][1])}"
        name = list_name(called) if not called[:1].isdigit() else f"list-{called}"
        while name in self._taken:
            name += "-2"
        self._taken.add(name)
        self._sets_by_addresses[family, spans] = name
        self._new.append(f"group {name} {', '.join(map(str, members))}")
        return name

    def known(self, patterns: Sequence[Pattern], family: Family) -> str | None:
        """Return the name for exactly these addresses, None where there is none."""
        spans = _spans(patterns)
        if spans == ((0, family.mask),):
            return "any"
        return self._sets_by_addresses.get((family, spans))

    @cached_property
    def _sets_by_addresses(self) -> dict[tuple[Family, _Spans], str]:
        return {(family, _spans(own)): name for name, family, own in reversed([*self._sets()])}

    def service(self, asked: Sequence[Asked], family: Family) -> str:
        """Write services: by the plan's name for exactly these, or else term by term."""
        terms = _terms(asked)
        if self._services is None:
            self._services = {
                (
                    each,
                    frozenset({ServiceTerm(icmp_of(each), icmp_type=ECHO[each], icmp_code=0)}),
                ): "ping"
                for each in Family
            }
            for name in self._plan.services:
                for each in Family:
                    with suppress(ServiceError):
                        own = self._plan.service(name, each).terms
                        whole = _terms(
                            (one.protocol, one.ports, one.icmp_type, one.icmp_code) for one in own
                        )
                        self._services.setdefault((each, frozenset(whole)), name)
        known = self._services.get((family, frozenset(terms)))
        return known or in_order(each.text(family) for each in terms)

    def _sets(self) -> Iterator[tuple[str, Family, Sequence[Pattern]]]:
        """Yield the sets that have a name in the plan, those that people prefer to read first."""
        plan = self._plan
        named = [(host.name, list(map(single, host.addresses))) for host in plan.hosts.values()]
        named += [
            (each.name, list(each.prefixes)) for each in plan.segments.values() if not each.outside
        ]
        named += [(name, list(prefixes)) for name, prefixes in self._subnets.items()]
        named += [
            (group.name, [one for own in group.members.values() for one in own.patterns])
            for group in plan.groups.values()
        ]
        named += [
            (device.name, list(map(single, device.addresses()))) for device in plan.devices.values()
        ]
        for name, patterns in named:
            for family in Family:
                own = [each for each in patterns if each.family is family]
                if own and sum(1 << _open_bits(each) for each in own) <= _MOST_PREFIXES:
                    yield name, family, own

    def new_lines(self) -> list[str]:
        """Return the statements of groups that have become needed since the last call."""
        lines, self._new = self._new, []
        return [*lines, ""] if lines else []


def _open_bits(pattern: Pattern) -> int:
    return 0 if pattern.is_prefix else pattern.wildcard.bit_count()


def _spans(patterns: Iterable[Pattern]) -> _Spans:
    """Return the addresses of patterns as spans, first and last, ascending and disjoint."""
    found: list[tuple[int, int]] = []
    for each in sorted(prefix for pattern in patterns for prefix in prefixes_of(pattern)):
        if found and each.first <= found[-1][1] + 1:
            found[-1] = (found[-1][0], max(found[-1][1], each.last))
        else:
            found.append((each.first, each.last))
    return tuple(found)


def _terms(asked: Iterable[Asked]) -> list[ServiceTerm]:
    """Return the services that rules ask for, with all ports of a protocol together."""
    found: dict[tuple[int | None, int | None, int | None], list[tuple[int, int]] | None] = {}
    for protocol, ports, icmp_type, icmp_code in asked:
        key = (protocol, icmp_type, icmp_code)
        if ports is None or found.get(key, []) is None:
            found[key] = None
        else:
            found[key] = [*(found.get(key) or ()), *ports]
    return [
        ServiceTerm(protocol, None if ports is None else join_ports(ports), icmp_type, icmp_code)
        for (protocol, icmp_type, icmp_code), ports in found.items()
    ]
