"""Sets of packets in everyday form: services, sources, destinations.

Lines (`sets.minimise`) are written with the plan's own names where these fit exactly, and as "all
but" where that is shorter.
"""

from __future__ import annotations

from bisect import bisect_left, bisect_right
from collections.abc import Iterable, Iterator, Sequence
from typing import NamedTuple

from crossgate.core.model.address import Family, Pattern, everything, format_address, single
from crossgate.core.model.plan import Plan
from crossgate.core.sets.addresses import AddressSet
from crossgate.core.sets.frame import PacketSet
from crossgate.core.sets.meaning import meaning_of, written_as
from crossgate.core.sets.minimise import MOST_COMPARED, SetLine, fewest_lines, grouped, within
from crossgate.core.sets.patterns import Patterns, joined, less
from crossgate.core.wording.on_link import OnLink, TrafficLine
from crossgate.core.wording.sentences import first_of
from crossgate.core.wording.services import ServiceWords, Sort

_MOST_IN_A_LINE = 3


class _Written(NamedTuple):
    """A line whose services are in words already."""

    services: str
    source: Patterns
    destination: Patterns

    def says_all_of(self, other: _Written) -> bool:
        """Whether it has the same services for all addresses of another line and more; in words,
        services that differ only on one link are the same.
        """
        same = self is not other and self.services == other.services
        return (
            same
            and within(other.source, self.source)
            and within(other.destination, self.destination)
        )


class _Term(NamedTuple):
    """A name, a prefix or a range, and its addresses."""

    text: str
    patterns: frozenset[Pattern]
    outside: bool = False


def _are(taken: Iterable[_Term], left_out: Iterable[_Term], wanted: Iterable[Pattern]) -> bool:
    """Whether some terms without others are exactly the wanted addresses; what is left out may
    overlap several of them.
    """
    own = [each for term in taken for each in term.patterns]
    out = [each for term in left_out for each in term.patterns]
    family = own[0].family
    return AddressSet.of(family, own) - AddressSet.of(family, out) == AddressSet.of(family, wanted)


class _NamedSet(NamedTuple):
    """The addresses that a name of the plan stands for; it may be an `outside`."""

    name: str
    patterns: Patterns
    outside: bool = False


def _names_in(left: set[Pattern], sets: Iterable[_NamedSet]) -> tuple[list[_Term], set[Pattern]]:
    """Return the names of sets that lie completely inside some addresses, and the rest of these."""
    found, rest = [], left
    for name, named, outside in sets:
        if named <= rest:
            found.append(_Term(name, named, outside))
            rest = rest - named
    return found, rest


class Wording:
    """Writes sets of packets with the names of one plan."""

    def __init__(self, plan: Plan) -> None:
        self.plan = plan
        self._sets = {family: _named_sets(plan, family) for family in Family}
        self._alone: dict[Family, list[tuple[Patterns, AddressSet]]] = {}
        self._empty: dict[Family, list[tuple[AddressSet, AddressSet]]] = {}
        self.service_words = ServiceWords(plan)
        self._on_link = OnLink(plan)
        self._written: dict[tuple[Patterns, bool], str] = {}
        own = [
            single(address) for device in plan.devices.values() for address in device.addresses()
        ]
        self._own = {
            family: AddressSet.of(family, (each for each in own if each.family is family))
            for family in Family
        }

    def rows(
        self, lines: Iterable[SetLine], sort: Sort, machines: bool = False
    ) -> list[tuple[str, str, str]]:
        """Return lines in words: services, source, destination; lines with the same ends become
        one. `machines` as in `addresses`.
        """
        ends = grouped(((line.source, line.destination), line.services) for line in lines)
        sorts = [sort] * len(ends)
        if sort is Sort.OPENING:
            named = self._on_link.must_name(
                [TrafficLine(*both, frozenset(services)) for both, services in ends]
            )
            sorts = [Sort.OPENING_ON_LINK if each else sort for each in named]
        written = [
            _Written(self.service_words.write(services, next(iter(both[0])).family, own), *both)
            for (both, services), own in zip(ends, sorts, strict=True)
        ]
        kept = written
        for row in written if len(written) <= MOST_COMPARED else ():
            if any(other.says_all_of(row) for other in kept):
                kept = [other for other in kept if other is not row]
        words = grouped(
            (
                (self.addresses(source, machines), self.addresses(destination, machines)),
                frozenset((service,)),
            )
            for service, source, destination in kept
        )
        return sorted(
            (", ".join(sorted(services)), source, destination)
            for (source, destination), services in words
        )

    def in_a_line(self, packets: Iterable[PacketSet], only_sources: bool = False) -> str:
        """Return packets in one line: the first lines of many, and the number of the others; with
        `only_sources` as a standard list sees them.
        """
        rows = self.rows(fewest_lines(packets), Sort.PACKET)
        texts = [
            source if only_sources else f"{service} {source} to {destination}"
            for service, source, destination in rows
        ]
        return first_of(list(dict.fromkeys(texts)), _MOST_IN_A_LINE, "; ")

    def addresses(self, patterns: Patterns, machines: bool = False) -> str:
        """Write a set of addresses. Where only `machines` are meant, it does not matter whether
        devices' own addresses, and unused ones of a group, are in it.
        """
        key = (patterns, machines)
        if key not in self._written:
            family = next(iter(patterns)).family
            meant = self._filled(patterns, family) if machines else patterns
            ways = [self._said(set(meant), family)]
            if machines and ways[0].count(",") > 1:
                ways += [self._said(set(each), family) for each in self._with_nobody(meant, family)]
            self._written[key] = min(ways, key=len)
        return self._written[key]

    def _with_nobody(self, patterns: Patterns, family: Family) -> Iterator[Patterns]:
        """Yield a set enlarged by the unused addresses of a group that is one block; what is
        missing of that block is then written by names.
        """
        held = AddressSet.of(family, patterns)
        if _too_scattered(held):
            return
        for around, nobody in self._nobody(family):
            if held & around and nobody - held:
                yield joined((held | nobody).patterns)

    def _nobody(self, family: Family) -> list[tuple[AddressSet, AddressSet]]:
        """Return the groups that are one block, each with its unused addresses."""
        if family not in self._empty:
            blocks = [
                each.patterns
                for each in self._sets[family]
                if len(each.patterns) == 1 and each.name in self.plan.groups
            ]
            had = [
                each
                for name, patterns, _ in self._sets[family]
                if name in self.plan.segments
                for each in patterns
            ]
            every = [AddressSet.of(family, each) for each in blocks]
            taken = AddressSet.of(family, had)
            self._empty[family] = [(each, each - taken) for each in every]
        return self._empty[family]

    def _filled(self, patterns: Patterns, family: Family) -> Patterns:
        """Return a set with the devices' own addresses added that alone keep it from being all of a
        named set.
        """
        held = given = AddressSet.of(family, patterns)
        if _too_scattered(held):
            return patterns
        if family not in self._alone:
            alone = (each.patterns for each in self._sets[family] if len(each.patterns) == 1)
            self._alone[family] = [(named, AddressSet.of(family, named)) for named in alone]
        for named, around in self._alone[family]:
            if not named <= patterns and held & around:
                missing = around - held
                if missing and not missing - self._own[family]:
                    held = held | missing
        return patterns if held is given else joined(held.patterns)

    def _said(self, left: set[Pattern], family: Family) -> str:
        """Write a set in the words of a plan: fitting names and the rest, or names with exceptions,
        whichever is shorter.

        What is written means the same when it is pasted into a plan or a command; so an outside
        stands by itself or before `but`.
        """
        terms, left_out = self._terms(left, family, self._sets[family])
        if len(terms) > 1 and any(term.outside for term in terms):
            terms, left_out = self._terms(
                left, family, [each for each in self._sets[family] if not each.outside]
            )
        return written_as([term.text for term in terms], [term.text for term in left_out])

    def _terms(
        self, left: set[Pattern], family: Family, sets: list[_NamedSet]
    ) -> tuple[list[_Term], list[_Term]]:
        """Return the terms of a set, and the terms that are excluded from them."""
        named, rest = _names_in(left, sets)
        plain = [*named, *_written(rest)]
        ways = [self._less_holes(named, rest, left, sets) or (plain, [])]
        if len(ways[0][0]) > 1:
            ways.append(self._less_holes([], left, left, sets) or ways[0])
        return min(ways, key=lambda terms: sum(len(term.text) for side in terms for term in side))

    def _less_holes(
        self, first: list[_Term], part: set[Pattern], wanted: set[Pattern], sets: list[_NamedSet]
    ) -> tuple[list[_Term], list[_Term]] | None:
        """Return terms for a set that use names with slightly more addresses than wanted, and the
        excess.

        `first` are the terms found so far, and `part` is what they lack. None where no such name
        helps, or the result would not be the same.
        """
        taken, left_out, left = list(first), list[_Term](), part
        around = [
            (each.name, block)
            for each in sets
            for block, *more in (each.patterns,)
            if not more and block.wildcard
        ]
        while len(left) > 2 and around:
            order = sorted(left, key=lambda each: each.first)
            firsts = [each.first for each in order]
            saved, name, block, hole, inside = max(
                self._less_a_few(
                    name,
                    block,
                    order[bisect_left(firsts, block.first) : bisect_right(firsts, block.last)],
                )
                for name, block in around
            )
            if saved <= 0:
                break
            taken.append(_Term(name, frozenset((block,))))
            named, rest = _names_in(set(hole), [each for each in sets if not each.outside])
            left_out += [*named, *_written(rest)]
            left = left - inside
        if left == part:
            return None
        named, rest = _names_in(left, sets)
        taken += [*named, *_written(rest)]
        return (taken, left_out) if not left_out or _are(taken, left_out, wanted) else None

    def _less_a_few(
        self, name: str, around: Pattern, near: Sequence[Pattern]
    ) -> tuple[int, str, Pattern, tuple[Pattern, ...], frozenset[Pattern]]:
        """Return how many terms are saved by writing the addresses in a named prefix as that prefix
        with an exception; `near` are those of the patterns to be written that may be in it.
        """
        inside = frozenset(each for each in near if around.covers(each))
        if len(inside) < 3:
            return 0, name, around, (), inside
        own = AddressSet.of(around.family, inside)
        if _too_scattered(own):
            return 0, name, around, (), inside
        rest = AddressSet.of(around.family, (around,)) - own
        hole = tuple(sorted(joined(rest.patterns)))
        return len(inside) - 1 - len(hole), name, around, hole, inside


_MOST_SCATTERED = 16
"""What is left of something without more scattered patterns than these can be any number of pieces,
and is no shorter to write.
"""


def _too_scattered(addresses: AddressSet) -> bool:
    return addresses.spans is None and len(addresses.patterns) > _MOST_SCATTERED


def _named_sets(plan: Plan, family: Family) -> list[_NamedSet]:
    """Return the sets that the plan's names stand for, the largest first; `any` before all."""
    named = [
        (name, group.members[family].patterns)
        for name, group in plan.groups.items()
        if family in group.members
    ]
    for word in dict.fromkeys(each.word for each in plan.leases):
        meaning = meaning_of(plan, word)
        named.append((word, () if meaning is None else meaning.in_family(family)))
    inside = plan.inside(family)
    for name, segment in plan.segments.items():
        own = [block for block in segment.prefixes if block.family is family]
        if segment.outside:
            others = (
                []
                if own
                else [
                    block
                    for each in plan.segments.values()
                    if each.outside
                    for block in each.prefixes
                    if block.family is family
                ]
            )
            left_out = [block for block in segment.left_out if block.family is family]
            own = (
                list(less(own or [everything(family)], [*inside, *others, *left_out]))
                if own or not segment.prefixes
                else []
            )
        named.append((name, tuple(own)))
    for name, host in plan.hosts.items():
        named.append(
            (name, tuple(single(address) for address in host.addresses if address.family is family))
        )
    for device in plan.devices.values():
        for interface in device.interfaces.values():
            named.append(
                (
                    str(interface.point),
                    tuple(single(own.address) for own in interface.in_family(family)),
                )
            )
    sets = [_NamedSet("any", frozenset((everything(family),)))]
    outsides = {name for name, segment in plan.segments.items() if segment.outside}
    sets += [
        _NamedSet(name, joined(patterns), name in outsides) for name, patterns in named if patterns
    ]
    return sorted(sets, key=lambda each: -sum(pattern.size for pattern in each.patterns))


def _written(patterns: Iterable[Pattern]) -> list[_Term]:
    """Return patterns in order: neighbouring prefixes as one range, all others separately."""
    runs: list[list[Pattern]] = []
    for each in _in_order(patterns):
        if (
            runs
            and each.is_prefix
            and runs[-1][-1].is_prefix
            and runs[-1][-1].last + 1 == each.first
        ):
            runs[-1].append(each)
        else:
            runs.append([each])
    family = runs[0][0].family if runs else Family.IPV4
    return [
        _Term(
            str(run[0])
            if len(run) == 1
            else f"{format_address(family, run[0].first)}-{format_address(family, run[-1].last)}",
            frozenset(run),
        )
        for run in runs
    ]


def _in_order(patterns: Iterable[Pattern]) -> list[Pattern]:
    return sorted(patterns, key=lambda each: each.value)
