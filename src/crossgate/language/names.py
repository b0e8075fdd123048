"""What the words for addresses and services stand for in a plan: literals, and the plan's own
names.

A long list asks for the same words again and again, so every answer that depends only on a word and
a family is kept.
"""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterable, Iterator, Mapping, Sequence
from contextlib import contextmanager
from typing import Any

from crossgate.core.model.accesslist import AnyList
from crossgate.core.model.address import (
    Address,
    AddressError,
    Addresses,
    Family,
    Pattern,
    anywhere,
    looks_like_address,
    single,
)
from crossgate.core.model.errors import Place, PlanError, PlanErrors
from crossgate.core.model.named import Group, NameSpace, UnknownName
from crossgate.core.model.network import LEASES_OF, Device, Placement, Point, PointKind
from crossgate.core.model.plan import Plan
from crossgate.core.model.service import Service, ServiceError
from crossgate.core.model.service_words import split_service
from crossgate.core.sets.meaning import (
    Meaning,
    WordKind,
    combined,
    meaning_of,
    of_patterns,
    without,
)
from crossgate.language.address_words import GOING_ON, literal, read_several
from crossgate.language.kept import Kept
from crossgate.language.lines import Line
from crossgate.language.source import named_beside, table_of
from crossgate.language.words import Words


class FollowOn(PlanError):
    """An error about a name whose own statement is faulty; that statement's error is enough."""


class Names:
    """Finds the meaning of words in a plan that is being read, and collects the errors on the way.

    `declared` has every name that some statement declares, by name space, with the statement's
    keyword; a name can be declared and still be missing from the plan when its statement is faulty.
    `lines` are the lines of the network's statements, by place, for errors that only the whole
    network shows. `tables` are the files that groups are read from, by name.
    """

    def __init__(self, plan: Plan, kept: Kept, tables: Mapping[str, bytes]) -> None:
        self.plan = plan
        self.kept = kept
        self.tables = tables
        self.errors: list[PlanError] = []
        self.lines: dict[Place, Line] = {}
        self._placed: defaultdict[Point, list[Placement]] = defaultdict(list)
        self._placed_on_groups: list[Placement] = []
        self.declared: dict[NameSpace, dict[str, str]] = {space: {} for space in NameSpace}
        self.pending_groups: dict[str, Words] = {}
        self.pending_services: dict[str, Words] = {}
        self.pending_outsides: dict[str, Words] = {}
        self.pending_translations: list[tuple[Device, Words]] = []
        self.pending_hosts: list[tuple[Words, int, str]] = []
        self.broken_groups: set[str] = set()
        self.broken_leases = 0
        self._addresses: dict[Family, dict[str, Addresses]] = {family: {} for family in Family}
        self._services: dict[tuple[str, Family], Service] = {}

    @contextmanager
    def gathering(self) -> Iterator[None]:
        """Collect an error raised by the enclosed code, and go on."""
        try:
            yield
        except PlanError as error:
            self.errors.append(error)

    def place(self, placement: Placement, frames: bool) -> None:
        """Add a placement to the plan, of an ethernet list where it is about `frames`."""
        (self.plan.frame_placements if frames else self.plan.placements).append(placement)
        self._placed[placement.point].append(placement)
        if placement.point.kind is PointKind.GROUP:
            self._placed_on_groups.append(placement)

    def placements_near(self, point: Point) -> Sequence[Placement]:
        """Return the placements read so far that may be at a point too: those at the point itself
        and those on groups; for a group, all.
        """
        if point.kind is PointKind.GROUP:
            return [*self.plan.placements, *self.plan.frame_placements]
        return [*self._placed.get(point, ()), *self._placed_on_groups]

    def declare(self, words: Words, space: NameSpace, keyword: str) -> None:
        """Note the name after a statement's keyword. Raises `PlanError` where it stands for
        something else already.
        """
        name, declared = words.take(f"the name of a {keyword}"), self.declared[space]
        if name in declared:
            if space is NameSpace.NAME:
                raise words.error(
                    f"{name} is the name of a {declared[name]} already; every name stands for one "
                    "thing"
                )
            raise words.error(f"there is a {keyword} {name} already")
        declared[name] = keyword

    def unknown(self, words: Words, kind: str, name: str, known: Iterable[str]) -> PlanError:
        """Return the error for an unknown name, or a `FollowOn` when its own statement is
        faulty.
        """
        what = self.declared[NameSpace.NAME].get(name)
        if what is not None:
            if kind in (what, "name"):
                return FollowOn("")
            return words.error(f"{name} is a {what}; a {kind} is needed here")
        return words.unknown(kind, name, list(known))

    def addresses(self, words: Words, family: Family) -> Addresses:
        """Take addresses with commas between them, and others after `but`; each is one of those
        that `_item` reads.
        """
        word = words.take("an address or a name")
        met = self._addresses[family]
        after = words.peek()
        if word in met and after not in GOING_ON:
            return met[word]
        start = words.index - 1
        if "," not in word:
            found = self._item(words, word, family)
            if words.words[words.index - 1][-1] != "," and words.peek() not in ("but", ","):
                if words.index == start + 1:
                    met[word] = found
                return found
        words.index = start

        def item(own: Words, part: str) -> Addresses:
            if (
                "but" in own.words[start : own.index]
                and part != "any"
                and not looks_like_address(part)
            ):
                found = self.meaning(own, part).in_family(family)
                return Addresses(part, found)  # to leave out nothing is no error
            return self._item(own, part, family)

        taken, left_out, text = read_several(words, item)
        patterns = without(
            (each for other in taken for each in other.patterns),
            (each for other in left_out for each in other.patterns),
        )
        if not patterns:
            raise words.error_from(start, f"nothing is left of {text}")
        return Addresses(text, patterns)

    def _item(self, words: Words, word: str, family: Family) -> Addresses:
        """Take `any`, a pattern (`read_pattern`), a name, a point, or `leases of` a subnet."""
        if word == "any":
            return anywhere(family)
        start = words.index - 1
        if looks_like_address(word):
            patterns = literal(words, word)
            if patterns[0].family is not family:
                wrong = patterns[0].family.label
                raise words.error_from(
                    start, f"{word} is {wrong} and this is an {family.word} list"
                )
            text = word if words.index == start + 1 else " ".join(words.words[start : words.index])
            return Addresses(text, patterns)
        own = self.meaning(words, word).in_family(family)
        text = " ".join([word, *words.words[start + 1 : words.index]]).removesuffix(",")
        if not own:
            raise words.error_from(
                start, f"{text} has no {family.label} address, and this is an {family.word} list"
            )
        return Addresses(text, own)

    def meaning(self, words: Words, word: str) -> Meaning:
        """Return what the word just taken means in a list; outsides and ports have no addresses
        there.
        """
        found = self._met_before(words, word)
        if found is None:
            plan = self.plan
            groups = dict.fromkeys((*plan.groups, *self.pending_groups))
            raise words.unknown("name", word, [*plan.hosts, *plan.segments, *groups, *plan.devices])
        if found.kind is WordKind.PORT:
            raise words.error(f"{word} is a port and has no addresses; name an interface")
        if found.kind is WordKind.OUTSIDE:
            raise words.error(
                f"{word} is an outside and a device cannot know what is in it; deny the inside "
                "first, then permit any"
            )
        return found

    def endpoints(self, words: Words, word: str) -> Meaning:
        """Return what the word just taken means as a sender or receiver. Raises `PlanError` for an
        unknown name, and for a switch port, which has no addresses.
        """
        found = self._met_before(words, word)
        if found is None:
            raise words.unknown("name", word, self.plan.names())
        if found.kind is WordKind.PORT:
            raise words.error(f"{word} is a port and has no addresses; name an interface")
        return found

    def several_endpoints(self, words: Words) -> str:
        """Take ends with commas between them, and others after `but`; return them as a text that
        `meaning_of` reads. Raises `PlanError` where nothing is left.
        """
        start = words.index
        taken, left_out, text = read_several(words, self.endpoints)
        if len(taken) + len(left_out) > 1:
            try:
                combined(taken, left_out, text)
            except AddressError as error:
                raise words.error_from(start, str(error)) from None
        return text

    def _met_before(self, words: Words, word: str) -> Meaning | None:
        """Return what a word means, None where nothing declares it; errors point at the word."""
        if "." in word and not looks_like_address(word):
            self.point(words, word)
        if looks_like_address(word) and words.peek() in ("wild", "mask"):
            return of_patterns(literal(words, word))
        if word == "leases" and words.accept("of"):
            return self._leased(words)
        try:
            found = meaning_of(self.plan, word)
        except AddressError as error:
            raise words.error(str(error)) from None
        if found is None and word in self.declared[NameSpace.NAME]:
            raise FollowOn("")
        return found

    def _leased(self, words: Words) -> Meaning:
        """Take the subnet behind `leases of`."""
        subnet = words.take("a subnet").removesuffix(",")
        if subnet not in self.plan.segments:
            raise self.unknown(words, "subnet", subnet, self.plan.segments)
        found = meaning_of(self.plan, f"{LEASES_OF}{subnet}")
        if found is None:
            if self.broken_leases:
                raise FollowOn("")
            raise words.error(
                f"no leases line is for {subnet}; write: leases RANGE on {subnet} by …"
            )
        return found

    def says_addresses(self, word: str) -> bool:
        """Whether a word is one for addresses, though it may be faulty: by its form, or a name."""
        by_form = looks_like_address(word) and not word.isdecimal()
        return by_form or word in ("any", "leases") or word in self.plan.names()

    def point(self, words: Words, text: str) -> Point:
        """Find the interface or port that the word just taken names."""
        try:
            return self.plan.point(text)
        except UnknownName as error:
            if text in self.declared[NameSpace.NAME]:
                raise FollowOn("") from None
            raise words.error(str(error), near=error.near) from None

    def group(self, statement: Words, name: str) -> Group:
        """Read a `group` statement. The groups that it names have been read before."""
        if name in self.broken_groups:
            raise FollowOn("")
        words = Words(statement.line, commas=True)
        words.keyword("group")
        words.take("the group's name")
        if table_of(statement.line):
            return self._from_table(words, name)
        members: dict[Family, dict[Pattern, None]] = {}
        start = words.index

        def member(own: Words, word: str) -> Meaning:
            if looks_like_address(word):
                return of_patterns(literal(own, word))
            if "." in word:
                points.append(self.point(own, word))
            if points and points[-1].kind is PointKind.PORT:
                return Meaning(WordKind.PORT, ())
            return self.meaning(own, word)

        points: list[Point] = []
        taken, left_out, text = read_several(words, member)
        left = words.peek()
        if left and (looks_like_address(left) or left in self.plan.names()):
            raise words.error(
                f"expected a comma before {left}", index=words.index, near=f", {left}"
            )
        words.end()
        if len(points) < len(taken) or left_out:
            port = next((each for each in points if each.kind is PointKind.PORT), None)
            if port is not None:
                raise words.error_from(
                    start,
                    (
                        f"{port} is a port and has no addresses; a group has addresses, or points "
                        "alone"
                    ),
                )
            points = []
        out = [each for other in left_out for each in other.patterns]
        for each in without((each for other in taken for each in other.patterns), out):
            members.setdefault(each.family, {})[each] = None
        named = {
            address
            for other in taken
            for address in other.named
            if not any(map(single(address).overlaps, _like(address, out)))
        }
        if not (members or points):
            raise words.error_from(start, f"nothing is left of {text}")
        return Group(
            name,
            {f: Addresses(name, tuple(members[f])) for f in Family if f in members},
            frozenset(named),
            text,
            statement.place,
            tuple(dict.fromkeys(points)),
        )

    def _from_table(self, words: Words, name: str) -> Group:
        """Read a group from a table; errors in its rows are reported at these."""
        words.keyword("from")
        file = words.text("the table, in double quotes")
        column = (
            words.text("the column's header, in double quotes") if words.accept("column") else ""
        )
        words.end()
        path = str(named_beside(words.line.file, file))
        if path not in self.tables:
            raise FollowOn("")  # told where it was to be read
        try:
            members = self.kept.addresses(path, self.tables[path], column)
        except PlanErrors as errors:
            self.errors += errors.errors
            self.broken_groups.add(name)
            raise FollowOn("") from None
        except PlanError as error:
            raise words.error(error.message, index=3) from None
        return Group(
            name,
            {family: Addresses(name, each) for family, each in members.items()},
            frozenset(
                Address(each.family, each.value)
                for patterns in members.values()
                for each in patterns
                if not each.wildcard
            ),
            f'from "{file}"',
            words.place,
        )

    def service(self, words: Words, family: Family) -> Service:
        """SERVICE: one token, read by `core.service.parse_service`."""
        word = words.take("a service, as tcp/443, ping or ip")
        known = self._services.get((word, family))
        if known is None:
            known = self._services[(word, family)] = self.read_service(words, word, family)
        return known

    def read_service(self, words: Words, word: str, family: Family) -> Service:
        """Read the service token `word`, the word just taken."""
        broken = self.declared[NameSpace.SERVICE].keys() - self.plan.services.keys()
        if broken and any(part in broken for part in split_service(word)):
            raise FollowOn("")
        try:
            return self.plan.service(word, family)
        except ServiceError as error:
            raise words.error(str(error), span=(error.start, error.end), near=error.near) from None

    def any_list(self, words: Words, expected: str) -> AnyList[Any]:
        """Take the number or name of a list of the plan."""
        name = words.take(expected)
        try:
            return self.plan.any_list(name)
        except UnknownName as error:
            if name in self.declared[NameSpace.LIST]:
                raise FollowOn("") from None
            raise words.error(str(error), near=error.near) from None


def _like(address: Address, patterns: Iterable[Pattern]) -> Iterator[Pattern]:
    """Yield the patterns of the same family as an address."""
    return (each for each in patterns if each.family is address.family)
