"""The lines in a device's block by which it translates addresses.

They are read last, once the names of machines, groups and services are known.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from itertools import islice

from crossgate.core.model.address import Address, Family, Pattern, range_patterns, single
from crossgate.core.model.network import Device, Interface, Translation, TranslationKind
from crossgate.core.model.packet import PORT_PROTOCOLS
from crossgate.core.model.service import ServiceTerm
from crossgate.core.sets.addresses import AddressSet
from crossgate.core.sets.spans import Span, Spans, joined
from crossgate.language.address_words import read_several
from crossgate.language.names import Names
from crossgate.language.words import Words

MOST_PUBLIC = 1_024
"""No pool has more addresses."""
_MOST_PAIRS = 4_096
"""No rule of addresses one to one falls into more prefixes."""
_KINDS = ("leaving", "both", "entering")
_EITHER = "leaving, both ways or entering"


def translate(words: Words, names: Names, owner: Device) -> None:
    """Keep a `translate` line, to be read by `translations`."""
    words.keyword("translate")
    if not owner.stateful:
        raise words.error(
            f"{owner.name} remembers no conversation, so it cannot translate: answers would not "
            f"find back; write {'switch' if owner.switch else 'router'} {owner.name} stateful"
        )
    names.pending_translations.append((owner, words))


def translations(names: Names) -> None:
    """Read the rules of all devices, in the order of their lines."""
    for owner, words in names.pending_translations:
        with names.gathering():
            owner.translations.extend(_Rule(words, names, owner).read())


class _Rule:
    """One rule while it is read."""

    def __init__(self, words: Words, names: Names, owner: Device) -> None:
        self._words, self._names, self._owner = words, names, owner
        self._service = ""
        self._service_index = 0

    def read(self) -> Iterator[Translation]:
        """Read the rest of the line, and yield a rule for each family. Raises `PlanError`."""
        words, start = self._words, self._words.index
        own = words.accept("itself")
        first = [] if own else self._several()
        behind_first = words.index
        if words.peek() not in _KINDS:
            self._service = words.take(_EITHER)
            self._service_index = words.index
            if words.peek() not in _KINDS:
                words.index = behind_first
                words.choice(_KINDS, _EITHER)
        kind = words.choice(_KINDS, _EITHER)
        interface = self._interface()
        if own and kind != "entering":
            words.index = start + 1
            raise words.error("itself is what comes in for; name who is translated")
        if kind == "leaving":
            yield from self._leaving(first, start, behind_first, interface)
        elif kind == "both":
            yield from self._both_ways(first, start, behind_first, interface)
        else:
            yield from self._entering(first, start, behind_first, interface)

    # The three sorts

    def _leaving(
        self, inside: list[Pattern], start: int, end: int, interface: Interface
    ) -> Iterator[Translation]:
        words, family = self._words, Family.IPV4
        sources = [each for each in inside if each.family is family]
        if not sources:
            words.index = end
            raise words.error_from(
                start,
                "IPv6 addresses are hidden behind no others: translate a prefix to one of the same "
                "length, with both ways (RFC 6296)",
            )
        if words.choice(("as", "unchanged")) == "unchanged":
            words.end()
            for each in dict.fromkeys(each.family for each in inside):
                own = [pattern for pattern in inside if pattern.family is each]
                yield self._made(TranslationKind.LEAVING, each, own, [], interface)
            return
        begun = words.index
        if words.accept("itself"):
            public = self._own(interface, family)
            if not public:
                raise words.error(f"{interface.point} has no {family.label} address")
        else:
            public = self._several()
            wrong = next((each for each in public if each.family is not family), None)
            if wrong is not None:
                raise words.error_from(
                    begun, f"{wrong} is {wrong.family.label}; who leaves gets an IPv4 address here"
                )
            size = sum(each.size for each in public)
            if size > MOST_PUBLIC:
                raise words.error_from(
                    begun, f"that is {size:,} addresses; a pool has at most {MOST_PUBLIC:,}"
                )
            self._nobodys(begun, public, interface)
        words.end()
        yield self._made(TranslationKind.LEAVING, family, sources, public, interface)

    def _both_ways(
        self, inside: list[Pattern], start: int, end: int, interface: Interface
    ) -> Iterator[Translation]:
        words = self._words
        if self._service:
            words.index = self._service_index
            raise words.error(
                f"both ways translates every packet, and not {self._service} alone; leave it out, "
                "or translate it with entering"
            )
        words.keyword("as")
        begun = words.index
        public = self._several()
        words.end()
        families = {each.family for each in public}
        if len(families) > 1:
            raise words.error_from(begun, "these are addresses of both families; write two lines")
        family = families.pop()
        own = [each for each in inside if each.family is family]
        sizes = [sum(each.size for each in several) for several in (own, public)]
        if sizes[0] != sizes[1]:
            raise words.error_from(
                begun,
                f"one to one needs as many addresses outside as inside: {sizes[0]:,} {family.label} "
                f"inside, {sizes[1]:,} outside",
            )
        if family is Family.IPV6 and any(not each.is_prefix for each in (*own, *public)):
            raise words.error_from(begun, "IPv6 is translated prefix by prefix (RFC 6296)")
        self._nobodys(begun, public, interface)
        pairs = list(islice(one_to_one(_spans(own), _spans(public)), _MOST_PAIRS + 1))
        if len(pairs) > _MOST_PAIRS:
            raise words.error_from(
                begun,
                f"the n-th to the n-th falls into more than {_MOST_PAIRS:,} prefixes here; "
                "translate prefixes of one length to each other",
            )
        yield self._made(
            TranslationKind.BOTH_WAYS,
            family,
            [_block(family, first, size) for first, _, size in pairs],
            [_block(family, first, size) for _, first, size in pairs],
            interface,
        )

    def _entering(
        self, public: list[Pattern], start: int, end: int, interface: Interface
    ) -> Iterator[Translation]:
        words = self._words
        own = not public
        if own:
            public = [each for family in Family for each in self._own(interface, family)]
        words.keyword("to")
        begun = words.index
        inside = self._several()
        port = None
        if words.accept("port"):
            port = words.number("a port from 1 to 65535", 65_535)
            if not port:
                raise words.error("0 is no port; write 1 to 65535")
        words.end()
        shared = [
            family
            for family in Family
            if all(any(each.family is family for each in side) for side in (inside, public))
        ]
        if not shared:
            raise words.error_from(begun, "the two addresses have no family in common")
        for family in shared:
            to = [each for each in inside if each.family is family]
            asked = [each for each in public if each.family is family]
            if len(to) > 1 or to[0].size > 1:
                raise words.error_from(begun, "who comes in is led to one machine; name one")
            if not own and (len(asked) > 1 or asked[0].size > 1):
                words.index = end
                raise words.error_from(
                    start, "one address is led to one machine; for several use both ways"
                )
            if not own:
                words.index = end
                self._nobodys(start, asked, interface)
            made = self._made(
                TranslationKind.ENTERING, family, to * len(asked), asked, interface, port
            )
            if port is not None and any(
                each.protocol not in PORT_PROTOCOLS or each.ports is None
                for each in made.services or (ServiceTerm(),)
            ):
                raise words.error("a port can be changed only of a service that has ports")
            yield made

    # Their words

    def _several(self) -> list[Pattern]:
        """Take addresses and names, and return them as prefixes."""
        words, start = self._words, self._words.index

        taken, left_out, text = read_several(words, self._names.meaning)
        found = []
        for family in Family:
            own, out = (
                [pattern for each in several for pattern in each.in_family(family)]
                for several in (taken, left_out)
            )
            if len(taken) == 1 and not out and all(each.is_prefix for each in own):
                found += own
                continue
            every = AddressSet.of(family, own) - AddressSet.of(family, out)
            if own and every.spans is None:
                raise words.error_from(
                    start, f"{text} is no row of addresses; translate prefixes and ranges"
                )
            found += [
                each
                for first, end in every.spans or ()
                for each in range_patterns(family, first, end - 1)
            ]
        if not found:
            raise words.error_from(start, f"nothing is left of {text}")
        return found

    def _interface(self) -> Interface:
        if self._words.words[self._words.index - 1] == "both":
            self._words.keyword("ways")
        word = self._words.take(f"an interface of {self._owner.name}")
        own = self._owner.interfaces
        name = word.removeprefix(f"{self._owner.name}.")
        if name not in own:
            raise self._words.unknown("interface", word, list(own))
        return own[name]

    def _own(self, interface: Interface, family: Family) -> list[Pattern]:
        return [single(each.address) for each in interface.in_family(family)]

    def _nobodys(self, start: int, public: Sequence[Pattern], interface: Interface) -> None:
        """Check that no machine has a public address of the rule."""
        plan = self._names.plan
        owners: dict[Address, object] = {each: host.name for each, host in plan.host_of.items()}
        owners |= {each: own.point for each, own in plan.interface_of.items()}
        for address, owner in owners.items():
            if owner != interface.point and any(
                each.family is address.family and each.contains(address.value) for each in public
            ):
                raise self._words.error_from(
                    start, f"{address} is {owner}'s own; translate to an address that nobody has"
                )
        for device in plan.devices.values():
            for other in device.translations:
                if other.point != interface.point and any(
                    one.overlaps(its)
                    for one in public
                    for its in other.public
                    if one.family is its.family
                ):
                    raise self._words.error_from(
                        start, f"{other.point} translates to that address as well; use another"
                    )

    def _made(
        self,
        kind: TranslationKind,
        family: Family,
        inside: Sequence[Pattern],
        public: Sequence[Pattern],
        interface: Interface,
        port: int | None = None,
    ) -> Translation:
        services = None
        if self._service:
            before, self._words.index = self._words.index, self._service_index
            services = self._names.read_service(self._words, self._service, family).terms
            self._words.index = before
            if any(each.protocol is None for each in services):
                services = None
        text = " ".join(self._words.words[1:])
        return Translation(
            interface.device,
            interface.name,
            kind,
            family,
            tuple(inside),
            tuple(public),
            services,
            port,
            text,
            self._words.place,
        )


def one_to_one(inside: Sequence[Span], public: Sequence[Span]) -> Iterator[tuple[int, int, int]]:
    """Yield two rows of spans of equal total size as the largest prefixes that fit both: the first
    inside address, the first public one, and the number of addresses.
    """
    one, other = iter(inside), iter(public)
    (here, last), (there, end) = next(one), next(other)
    while True:
        size = 1 << (min(last - here, end - there).bit_length() - 1)
        for start in (here, there):
            size = min(size, start & -start) if start else size
        yield here, there, size
        here, there = here + size, there + size
        if here == last:
            following = next(one, None)
            if following is None:
                return
            here, last = following
        if there == end:
            there, end = next(other)


def _spans(patterns: Sequence[Pattern]) -> Spans:
    """Return prefixes as spans, in ascending order."""
    return joined((each.first, each.last + 1) for each in patterns)


def _block(family: Family, first: int, size: int) -> Pattern:
    return Pattern(family, first, size - 1)
