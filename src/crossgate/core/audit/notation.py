"""Findings about words that do not say what people mean by them: masks, protocols, transports,
subnets.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator
from typing import NamedTuple

from crossgate.core.audit.context import Case
from crossgate.core.audit.registry import finds
from crossgate.core.model import iana
from crossgate.core.model.accesslist import AccessList
from crossgate.core.model.address import (
    Address,
    AddressError,
    Addresses,
    Family,
    Pattern,
    format_address,
    looks_like_address,
    parse_address,
    pattern,
)
from crossgate.core.model.entry import Entry
from crossgate.core.model.errors import Place
from crossgate.core.model.finding import Fault, Finding
from crossgate.core.model.named import Group
from crossgate.core.model.plan import Plan
from crossgate.core.model.service_words import split_service
from crossgate.core.sets.meaning import meaning_of, words_of, written_as


class _Addressed(NamedTuple):
    """Addresses and the place where they are written: in an entry of a list, or in a group, whose
    name then begins the message.
    """

    place: Place
    access_list: AccessList | None
    entry: Entry | None
    lead: str
    addresses: Addresses


def _addressed(case: Case) -> Iterator[_Addressed]:
    """Yield what is no name in the sources and destinations of entries, and the members of
    groups.
    """
    for access_list in case.plan.lists.values():
        for entry in case.scope.entries(access_list):
            for addresses in (entry.source, entry.destination):
                for own in one_by_one(case.plan, addresses):
                    if looks_like_address(own.text):
                        yield _Addressed(entry.place, access_list, entry, "", own)
    for group in case.plan.groups.values():
        for each in _members(case.plan, group):
            yield _Addressed(group.place, None, None, f"group {group.name}: ", each)


def _members(plan: Plan, group: Group) -> Iterator[Addresses]:
    """Yield the members of a group that are no names: as they are written, or as its table has
    them.
    """
    if group.text.startswith("from "):
        for members in group.members.values():
            yield from (Addresses(str(each), (each,)) for each in members.patterns)
    else:
        yield from (
            each for each in _word_by_word(plan, group.text) if looks_like_address(each.text)
        )


def one_by_one(plan: Plan, addresses: Addresses) -> Iterator[Addresses]:
    """Yield the addresses and names of an entry's end by themselves, also those that it leaves
    out.
    """
    taken, left_out = words_of(addresses.text)
    several = len(taken) > 1 or left_out
    yield from _word_by_word(plan, addresses.text) if several else (addresses,)


def _word_by_word(plan: Plan, text: str) -> Iterator[Addresses]:
    taken, left_out = words_of(text)
    for word in (*taken, *left_out):
        meaning = meaning_of(plan, word)
        if meaning is not None:
            yield Addresses(word, meaning.patterns)


def _finding(name: str, at: _Addressed, fault: Fault) -> Finding:
    return _at(name, at.place, at.access_list, at.entry, fault._replace(what=at.lead + fault.what))


def _at(
    name: str, place: Place, access_list: AccessList | None, entry: Entry | None, fault: Fault
) -> Finding:
    return Finding(
        name,
        place,
        access_list.name if access_list else None,
        entry.number if entry else None,
        fault,
    )


@finds("mask-reversed")
def mask_reversed(case: Case) -> Iterator[Finding]:
    """Yield the entries and groups with a netmask where a wildcard is meant, and those with a
    wildcard where a netmask is meant.
    """
    for at in _addressed(case):
        text = at.addresses.text
        fault = _netmask_as_wildcard(text) or _all_or_nothing(text)
        if fault is not None:
            yield _finding("mask-reversed", at, fault)


def other_mask(addresses: Addresses) -> str | None:
    """Return addresses with the kind of mask that is meant, where they are written with the other
    kind (`mask-reversed`); None elsewhere.
    """
    taken, left_out = words_of(addresses.text)
    found = written_as(map(_with_other_mask, taken), map(_with_other_mask, left_out))
    return found if found != addresses.text else None


def _with_other_mask(text: str) -> str:
    meant = _wildcard_meant(text)
    if meant is not None:
        return f"{text.partition(' wild ')[0]} wild {format_address(*meant)}"
    return text if _all_or_nothing(text) is None else re.split(" wild | mask ", text)[0]


def _netmask_as_wildcard(text: str) -> Fault | None:
    """Return the fault of a wildcard whose 1 bits are one run at the left, as in a netmask; None
    for any other.
    """
    meant = _wildcard_meant(text)
    if meant is None:
        return None
    family, wildcard = meant
    address, _, mask = text.partition(" wild ")
    return Fault(
        (
            f"{mask} is a netmask: as a wildcard it leaves the network open and matches one "
            "address "
            f"in {wildcard + 1:,} of every one"
        ),
        (
            f"write {address} wild {format_address(family, wildcard)}, which is "
            f"{address}/{family.bits - wildcard.bit_length()}"
        ),
    )


def _wildcard_meant(text: str) -> tuple[Family, int] | None:
    """Return the wildcard that is meant where a netmask is written; None elsewhere."""
    _, wild, mask = text.partition(" wild ")
    if not wild:
        return None
    family, value = parse_address(mask)
    fixed = family.mask & ~value
    return (family, fixed) if value and fixed and fixed & (fixed + 1) == 0 else None


def _all_or_nothing(text: str) -> Fault | None:
    """Return the fault of an address with the other kind of mask, of which nothing is left so that
    it means any; None elsewhere.
    """
    address, word, mask = text.partition(" mask ") if " mask " in text else text.partition(" wild ")
    if not word:
        return None
    value, bits = parse_address(address), parse_address(mask).value
    if value.value == 0 or bits != (0 if word == " mask " else value.family.mask):
        return None
    kind, other = ("netmask", "wildcard") if word == " mask " else ("wildcard", "netmask")
    return Fault(
        f"{mask} as a {kind} leaves nothing of {address}, so this is any",
        f"if it is meant as a {other}, write {address}",
    )


@finds("subnet-missed")
def subnet_missed(case: Case) -> Iterator[Finding]:
    """Yield addresses that look like a subnet but leave one bit more or less free than it has."""
    subnets = Subnets(case.plan)
    for at in _addressed(case):
        for name, block, half in subnets.nearly(at.addresses):
            wider = at.addresses.patterns[0].wildcard > block.wildcard
            yield _finding(
                "subnet-missed", at, _odd_bit(at.addresses.text, name, block, half, wider)
            )


class Subnets:
    """The prefixes of a plan's subnets, for finding addresses that are nearly one of them."""

    def __init__(self, plan: Plan) -> None:
        self._blocks = [
            block
            for segment in plan.segments.values()
            if not segment.outside
            for block in segment.prefixes
        ]
        self._from: dict[Address, list[tuple[str, Pattern]]] = {}
        for segment in plan.segments.values():
            for block in segment.prefixes if not segment.outside else ():
                first = Address(block.family, block.value)
                self._from.setdefault(first, []).append((segment.name, block))

    def nearly(self, addresses: Addresses) -> Iterator[tuple[str, Pattern, Pattern]]:
        """Yield the subnets that addresses look like but for one bit, each with its prefix and the
        half that is too much or missing.
        """
        written = _first_address(addresses.text) if len(addresses.patterns) == 1 else None
        if written is None:
            return
        (meant,) = addresses.patterns
        for name, block in self._from.get(written, ()):
            odd = meant.wildcard ^ block.wildcard
            if odd.bit_count() != 1 or meant.wildcard == 0:
                continue
            half = pattern(block.family, block.value ^ odd, meant.wildcard & block.wildcard)
            wider = meant.wildcard > block.wildcard
            if not (wider and any(other.overlaps(half) for other in self._blocks)):
                yield name, block, half


def _first_address(text: str) -> Address | None:
    try:
        return parse_address(text.split(" ")[0].partition("/")[0])
    except AddressError:
        return None


def _odd_bit(text: str, name: str, block: Pattern, half: Pattern, wider: bool) -> Fault:
    if wider:
        return Fault(
            f"{text} is one bit wider than {name}, which is {block}, and takes {half} too",
            f"write {name}",
        )
    return Fault(
        f"{text} is one bit narrower than {name}, which is {block}, and misses {half}",
        f"write {name} if all of it is meant",
    )


def _words(case: Case) -> Iterator[tuple[Place, AccessList | None, Entry | None, str]]:
    """Yield the service tokens of entries, and those of the plan's own services, with the place
    where each is written.
    """
    for access_list in case.plan.lists.values():
        for entry in case.scope.entries(access_list):
            for token in split_service(entry.service.text):
                yield entry.place, access_list, entry, token
    for service in case.plan.services.values():
        for token in service.tokens:
            yield service.place, None, None, token


def _about_words(
    case: Case, name: str, wrong: Callable[[AccessList | None, Entry | None, str], Fault | None]
) -> Iterator[Finding]:
    for place, access_list, entry, token in _words(case):
        fault = wrong(access_list, entry, token)
        if fault is not None:
            yield _at(name, place, access_list, entry, fault)


@finds("protocol-meant")
def protocol_meant(case: Case) -> Iterator[Finding]:
    """Yield protocols whose names people mistake for something else."""

    def wrong(access_list: AccessList | None, entry: Entry | None, token: str) -> Fault | None:
        found = iana.mistaken_text(token)
        return None if found is None else Fault(*found)

    yield from _about_words(case, "protocol-meant", wrong)
    for promise in case.plan.expectations:
        for service in promise.services:
            for token in split_service(service):
                fault = wrong(None, None, token)
                if fault is not None:
                    yield _at("protocol-meant", promise.place, None, None, fault)


@finds("transport-narrowed")
def transport_narrowed(case: Case) -> Iterator[Finding]:
    """Yield services that are named with one transport and run over others too, where no other
    entry takes these.
    """

    def wrong(access_list: AccessList | None, entry: Entry | None, token: str) -> Fault | None:
        transport, slash, names = token.partition("/")
        for name in names.split(",") if slash and transport in ("tcp", "udp") else ():
            ports, transports = iana.services().get(name, ((0, 0), ()))
            others = [each for each in transports if each != transport]
            left = [
                each
                for each in others
                if not (
                    access_list
                    and entry
                    and _taken(access_list, entry, iana.protocols()[each], ports)
                )
            ]
            if left:
                said = (
                    f"{token} takes {name} over {transport.upper()} only, and it is spoken "
                    f"over {' and '.join(map(str.upper, left))} too"
                )
                return Fault(said, f"write {name} for all of it")
        return None

    return _about_words(case, "transport-narrowed", wrong)


def _taken(access_list: AccessList, entry: Entry, protocol: int, ports: tuple[int, int]) -> bool:
    """Whether another entry between the same ends names these ports of another protocol."""
    return any(
        each is not entry
        and (each.source.patterns, each.destination.patterns)
        == (entry.source.patterns, entry.destination.patterns)
        and any(
            term.protocol == protocol
            and any(low <= ports[0] and ports[1] <= high for low, high in term.ports or ())
            for term in each.service.terms
        )
        for each in access_list.entries
    )
