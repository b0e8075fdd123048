"""Kinds of conversations in a replay, those that differ in one respect as one row."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping
from typing import Any, NamedTuple

from crossgate.core.answers.sums import ConversationSort, Sum
from crossgate.core.conversation.verdict import Verdict
from crossgate.core.model.accesslist import Decider
from crossgate.core.model.address import Address
from crossgate.core.model.plan import Plan
from crossgate.core.model.service import format_ports, join_ports
from crossgate.show.console import alert, count, quiet, word
from crossgate.show.width import columns


def verdict_word(verdict: Verdict | None) -> str:
    """Return the word for a verdict; None stands for packets that come from nowhere in the plan."""
    return word(verdict) if verdict else alert("nowhere")


def size(octets: int) -> str:
    """Write a number of octets in a readable unit."""
    if octets < 10_000:
        return f"{octets:,} B"
    for unit in ("kB", "MB", "GB"):
        octets = round(octets / 1000)
        if octets < 10_000:
            return f"{octets:,} {unit}"
    return f"{round(octets / 1000):,} TB"


class _Row(NamedTuple):
    """Kinds of conversations that are shown as one: what differs in them, with all its values, and
    what is the same.
    """

    sources: frozenset[Address]
    destinations: frozenset[Address]
    services: frozenset[str]
    was: Verdict | None
    verdict: Verdict | None
    decider: Decider | None

    def with_respect(self, respect: str, values: frozenset[Any]) -> _Row:
        """Return the row with other sources, destinations or services."""
        given: dict[str, Any] = {respect: values}
        return self._replace(**given)


_MERGED = ("services", "destinations", "sources")
"""What sorts are put together by, in turn: a scan of ports, one of machines, and what many try
alike.
"""
_SHORT = 24
"""Services that take more room are only counted."""
_FEW = 3
"""So few are named; up to so many sources or destinations are not put together."""


def _rows(sums: Mapping[ConversationSort, Sum]) -> dict[_Row, Sum]:
    """Return kinds of conversations, joined where they differ in one respect only."""
    found = {
        _Row(
            frozenset((sort.source,)),
            frozenset((sort.destination,)),
            frozenset((sort.service,)),
            sort.was,
            sort.verdict,
            sort.decider,
        ): each
        for sort, each in sums.items()
    }
    for respect in _MERGED:
        alike: dict[_Row, list[_Row]] = {}
        for row in found:
            alike.setdefault(row.with_respect(respect, frozenset()), []).append(row)
        merged: dict[_Row, Sum] = {}
        for same, rows in alike.items():
            if len(rows) > (1 if respect == "services" else _FEW):
                whole = same.with_respect(
                    respect, frozenset(one for row in rows for one in getattr(row, respect))
                )
                merged[whole] = Sum()
                for row in rows:
                    merged[whole].include(found[row])
            else:
                merged |= {row: found[row] for row in rows}
        found = merged
    return found


def kind_lines(
    plan: Plan,
    sums: Mapping[ConversationSort, Sum],
    top: int,
    compared: bool = False,
    bare: bool = False,
) -> Iterator[str]:
    """Yield the kinds of conversations with the most packets, those that differ in one respect as
    one; `bare` without verdict and line.
    """
    ordered = sorted(
        _rows(sums).items(),
        key=lambda item: (-item[1].packets, -item[1].conversations, sorted(item[0].sources)),
    )
    rows = []
    for row, each in ordered[:top]:
        ends = (
            few_or_count((named_address(plan, one) for one in sorted(side)), "addresses")
            for side in (row.sources, row.destinations)
        )
        verdict = (
            f"{verdict_word(row.was)} -> {verdict_word(row.verdict)}"
            if compared
            else verdict_word(row.verdict)
        )
        line = "" if row.decider is None else row.decider.name
        told = [f"{each.packets:>7,}", " to ".join(ends), _services(row.services)]
        rows.append(told if bare else [*told, verdict, line])
    yield from columns(rows, indent=2)
    if len(ordered) > top:
        left = sum(each.packets for _, each in ordered[top:])
        yield quiet(
            f"  and {count(len(ordered) - top, 'more line')} of {count(left, 'packet')}"
            + ("" if bare else "; --top N shows more")
        )


def _services(services: Iterable[str]) -> str:
    """Return services in few words: the ports of a protocol as ranges, or only their number where
    that is long.
    """
    ports: dict[str, list[tuple[int, int]]] = {}
    others = []
    for each in services:
        protocol, slash, port = each.partition("/")
        if slash and port.isdecimal() and protocol != "icmp":
            ports.setdefault(protocol, []).append((int(port), int(port)))
        else:
            others.append(each)
    told = [
        *(
            f"{protocol}/{format_ports(join_ports(each))}"
            for protocol, each in sorted(ports.items())
        ),
        *sorted(others),
    ]
    text = ", ".join(told)
    return (
        text if len(text) <= _SHORT else f"{sum(map(len, ports.values())) + len(others):,} services"
    )


def few_or_count(names: Iterable[str], many: str) -> str:
    """Return a few names, or how many they are: so `many` of them."""
    found = list(names)
    return ", ".join(found) if len(found) <= _FEW else f"{len(found):,} {many}"


def named_address(plan: Plan, address: Address) -> str:
    """Return an address under the name that the plan has for it."""
    if address in plan.host_of:
        return plan.host_of[address].name
    if address in plan.interface_of:
        return str(plan.interface_of[address].point)
    return str(address)
