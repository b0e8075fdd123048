"""What the words for addresses and services stand for in a plan: literal forms, and the plan's own names.

The resolver is asked for the same words again and again in a long list, so it keeps every answer that depends on one
word and a family only.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator

from crossgate.core.model.accesslist import AccessList
from crossgate.core.model.address import (
    Address,
    AddressError,
    Addresses,
    Family,
    Pattern,
    anywhere,
    everything,
    looks_like_address,
    parse_address,
    parse_block,
    parse_netmask,
    parse_range,
    pattern,
    single,
)
from crossgate.core.model.errors import PlanError, unknown
from crossgate.core.model.network import Point
from crossgate.core.model.plan import Group, Plan, UnknownName
from crossgate.core.model.service import Service, ServiceError, split_service
from crossgate.language.words import Words


class FollowOn(PlanError):
    """A word that names a thing whose own statement is in error; the first error says it all."""


def is_literal(word: str) -> bool:
    """Whether a word is meant as an address rather than as a name or a point (whose port part may hold colons)."""
    return word[0].isdigit() or looks_like_address(word.partition(".")[0])


class Names:
    """Resolves words against a plan that is being read.

    `declared` has every name that some statement declares, with what it is; a name can be declared and still be
    missing from the plan when its statement is in error.
    """

    def __init__(self, plan: Plan) -> None:
        self.plan = plan
        self.declared: dict[str, str] = {}
        self.declared_services: set[str] = set()
        self.declared_lists: set[str] = set()
        self.declared_windows: set[str] = set()
        self.pending_groups: dict[str, Words] = {}
        self.broken_groups: set[str] = set()
        self._addresses: dict[Family, dict[str, Addresses]] = {family: {} for family in Family}
        self._services: dict[tuple[str, Family], Service] = {}

    def unknown(self, words: Words, kind: str, name: str, known: Iterable[str]) -> PlanError:
        """Make the error for a name that is not known, or a `FollowOn` when its own statement is in error."""
        if name in self.declared:
            if self.declared[name] == kind or kind == "name":
                return FollowOn("")
            return words.error(f"{name} is a {self.declared[name]}; a {kind} is needed here")
        return words.error(unknown(kind, name, list(known)))

    def addresses(self, words: Words, family: Family) -> Addresses:
        """ADDRESSES = "any" | ADDRESS | ADDRESS/LEN | ADDRESS "wild" WILDCARD | ADDRESS "mask" NETMASK | ADDRESS-ADDRESS | NAME | POINT."""
        word = words.take("an address or a name")
        met = self._addresses[family]
        if word in met and words.peek() not in ("wild", "mask"):
            return met[word]
        start = words.index - 1
        if word == "any":
            return anywhere(family)
        if is_literal(word):
            patterns = _literal(words, word)
            if patterns[0].family is not family:
                wrong = patterns[0].family.label
                raise words.error_from(start, f"{word} is {wrong} and this is an {family.word} list")
            text = word if words.index == start + 1 else " ".join(words.words[start : words.index])
            found = Addresses(text, patterns)
        else:
            members = self._named(words, word)
            if family not in members:
                raise words.error(f"{word} has no {family.label} address, and this is an {family.word} list")
            found = Addresses(word, members[family])
        if words.index == start + 1:
            met[word] = found
        return found

    def _named(self, words: Words, word: str) -> dict[Family, tuple[Pattern, ...]]:
        """Return the patterns that a name or point stands for, by family."""
        plan = self.plan
        if "." in word:
            point = self.point(words, word)
            interface = plan.devices[point.owner].interfaces.get(point.part)
            if interface is None:
                raise words.error(f"{word} is a port and has no addresses; name an interface")
            return _by_family(own.address for own in interface.addresses)
        if word in plan.hosts:
            return _by_family(plan.hosts[word].addresses)
        if word in plan.segments:
            segment = plan.segments[word]
            if segment.outside:
                raise words.error(f"{word} is an outside and a device cannot know what is in it; deny the inside first, then permit any")
            return {family: patterns for family in Family if (patterns := _of(segment.prefixes, family))}
        if word in plan.devices:
            return _by_family(plan.devices[word].addresses())
        if word in plan.groups:
            return {family: members.patterns for family, members in plan.groups[word].members.items()}
        if self.declared.get(word) in ("subnet", "outside", "host", "group", "router", "switch"):
            raise FollowOn("")
        known = [*plan.hosts, *plan.segments, *plan.groups, *self.pending_groups, *plan.devices]
        raise words.error(unknown("name", word, known))

    def point(self, words: Words, text: str) -> Point:
        """Find the interface or port that the word just taken names."""
        try:
            return self.plan.point(text)
        except UnknownName as error:
            if self.declared.get(text.partition(".")[0]) in ("router", "switch") and text in self.declared:
                raise FollowOn("") from None
            raise words.error(str(error)) from None

    def group(self, statement: Words, name: str) -> Group:
        """GROUP = "group" NAME ADDRESSES *("," ADDRESSES). The groups among ADDRESSES have been read before."""
        if name in self.broken_groups:
            raise FollowOn("")
        words = Words(statement.line, commas=True)
        words.keyword("group")
        words.take("the group's name")
        members: dict[Family, dict[Pattern, None]] = {}
        named: set[Address] = set()
        start = words.index
        while True:
            word = words.take("an address or a name")
            if word == ",":
                raise words.error("an address or a name is missing before this comma")
            found: dict[Family, tuple[Pattern, ...]]
            if word == "any":
                found = {family: (everything(family),) for family in Family}
            elif is_literal(word):
                patterns = _literal(words, word)
                found = {patterns[0].family: patterns}
                if len(patterns) == 1:
                    named.update(_single_addresses(found))
            else:
                found = self._named(words, word)
                named.update(self.plan.groups[word].named if word in self.plan.groups else _single_addresses(found))
            for family, patterns in found.items():
                members.setdefault(family, {}).update(dict.fromkeys(patterns))
            if not words.accept(","):
                break
        words.end()
        text = " ".join(words.words[start:]).replace(" ,", ",")
        return Group(name, {f: Addresses(name, tuple(members[f])) for f in Family if f in members}, frozenset(named), text, statement.place)

    def service(self, words: Words, family: Family) -> Service:
        """SERVICE: one token, read by `core.service.parse_service`."""
        word = words.take("a service, as tcp/443, ping or ip")
        known = self._services.get((word, family))
        if known is None:
            known = self._services[(word, family)] = self.read_service(words, word, family)
        return known

    def read_service(self, words: Words, word: str, family: Family) -> Service:
        """Read the service token `word`, the word just taken."""
        broken = self.declared_services - self.plan.services.keys()
        if broken and any(part in broken for part in split_service(word)):
            raise FollowOn("")
        try:
            return self.plan.service(word, family)
        except ServiceError as error:
            raise words.error(str(error), span=(error.start, error.end)) from None

    def access_list(self, words: Words, expected: str) -> AccessList:
        """Take the number or name of a list of the plan."""
        name = words.take(expected)
        if name in self.plan.lists:
            return self.plan.lists[name]
        if name in self.declared_lists:
            raise FollowOn("")
        raise words.error(unknown("list", name, list(self.plan.lists)))


def read_pattern(words: Words) -> tuple[Pattern, ...]:
    """PATTERN = ADDRESS | ADDRESS/LEN | ADDRESS "wild" WILDCARD | ADDRESS "mask" NETMASK | ADDRESS-ADDRESS. Raises `PlanError`."""
    return _literal(words, words.take("an address, a prefix or a range"))


def _literal(words: Words, word: str) -> tuple[Pattern, ...]:
    try:
        if words.peek() in ("wild", "mask"):
            address = parse_address(word)
            if words.accept("wild"):
                return (_wild(words, address),)
            words.keyword("mask")
            return (pattern(address.family, address.value, _netmask(words, address)),)
        return parse_range(word) if "-" in word else (parse_block(word),)
    except AddressError as error:
        raise words.error(str(error)) from None


def _wild(words: Words, address: Address) -> Pattern:
    wildcard = parse_address(words.take("a wildcard, as 0.0.0.255"))
    if wildcard.family is not address.family:
        raise words.error(f"the address is {address.family.label} and its wildcard {wildcard.family.label}")
    return pattern(address.family, address.value, wildcard.value)


def _netmask(words: Words, address: Address) -> int:
    wildcard = parse_netmask(words.take("a netmask, as 255.255.255.0"))
    if address.family is not Family.IPV4:
        raise words.error("IPv6 has no netmasks: write ADDRESS/LENGTH or wild")
    return wildcard


def _of(patterns: Iterable[Pattern], family: Family) -> tuple[Pattern, ...]:
    return tuple(block for block in patterns if block.family is family)


def _single_addresses(found: dict[Family, tuple[Pattern, ...]]) -> Iterator[Address]:
    """Yield the addresses of a term of a group that names addresses one by one, and no set of them."""
    for family, patterns in found.items():
        if all(each.wildcard == 0 for each in patterns):
            yield from (Address(family, each.value) for each in patterns)


def _by_family(addresses: Iterable[Address]) -> dict[Family, tuple[Pattern, ...]]:
    found: dict[Family, list[Pattern]] = {}
    for address in addresses:
        found.setdefault(address.family, []).append(single(address))
    return {family: tuple(found[family]) for family in Family if family in found}
