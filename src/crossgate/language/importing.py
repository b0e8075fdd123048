"""Lists from other formats, written into a plan: rules are joined to entries, and the plan's own
names are used.

1. Rules with one number that form a product become one entry again; others become an entry each.

2. Addresses are written by the name of the plan that stands for exactly the set, of a host, subnet,
group or device; or else as a prefix, a wildcard or a range; where none of these is the set, as a
new group.

3. What a rule asks that this language cannot say makes its entry `off`, and a note tells what it
was. What has no meaning here is reported.

4. In a list that exists already only the lines are changed that say something else: an entry that
takes the same packets as before keeps its words.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from itertools import groupby, pairwise, product
from typing import Any

from crossgate.core.lists.rules import Rule, rule_region
from crossgate.core.model import iana
from crossgate.core.model.accesslist import AccessList, AnyList, DeciderKey, numbered_kind
from crossgate.core.model.address import Family, everything
from crossgate.core.model.entry import MOST_NUMBER, Kind
from crossgate.core.model.errors import Place, PlanError
from crossgate.core.model.network import Direction, Point, stands_at
from crossgate.core.model.plaintext import quotable
from crossgate.core.model.plan import Plan
from crossgate.core.model.service import ESTABLISHED, FlagTest, format_ports, join_ports
from crossgate.core.sets.frame import PacketSet
from crossgate.core.sets.region import entry_region
from crossgate.language import edits, list_edits, placing
from crossgate.language.coming import (
    Coming,
    ComingEntry,
    ComingList,
    ComingPlace,
    ComingRule,
    takes_all,
)
from crossgate.language.draft import Draft
from crossgate.language.entries import ETHERNET
from crossgate.language.network import take_in_network
from crossgate.language.placements import standing
from crossgate.language.plain_names import list_name
from crossgate.language.set_names import Asked, SetNames

_STEP = 10


def take_in(
    draft: Draft, coming: Sequence[Coming], replace: bool
) -> tuple[str, dict[DeciderKey, int]]:
    """Write what is imported, and say so; return how often lines of the lists have decided on
    devices.

    Raises `PlanError` where the plan has a list of the same name, or one at the same place, unless
    that is to be replaced.
    """
    devices, segments = (
        [each for part in coming for each in part.devices],
        [each for part in coming for each in part.segments],
    )
    network, names_of_sets = take_in_network(draft, devices, segments, replace)
    every = _own_names(coming)
    there = [each.name for each in every if each.name in draft.plan.every_list]
    if there and not replace:
        raise PlanError(
            f"the plan has {_lists(there)} already; --replace puts what comes in in the place of it"
        )
    hits: dict[DeciderKey, int] = {}
    said = []
    new: list[str] = []
    for own in every:
        old = draft.plan.every_list.get(own.name)
        entries = _entries(own, draft, names_of_sets, old)
        groups, lines = names_of_sets.new_lines(), [*_lines(own, entries, old)]
        if old is None:
            new += ["", *groups, *lines]
        else:
            if groups:
                draft.before(_above(draft, old.place), *groups)
            if (own.kind, own.family) == (old.kind, getattr(old, "family", None)) and not (
                own.until or own.owner
            ):
                lines[0] = draft.line(old.place).text  # until when, and who answers for it
            notes = {each.place for each in old.notes}
            draft.merge_block(old.place, list_edits.last_line(old), lines, notes)
        said.append(f"{own.name} ({len(entries)} entr{'y' if len(entries) == 1 else 'ies'})")
        hits |= {DeciderKey(own.name, each.number): each.hits for each in entries if each.hits}
        if own.hits_otherwise():
            hits[DeciderKey(own.name, None)] = own.hits_otherwise()
    if new:
        list_edits.add_lists(draft, new)
    placed = _place(draft, [each for part in coming for each in part.places], replace)
    draft.remarks += [each for part in coming for each in part.told]
    draft.remarks += [
        f"list {own.name}: {note}"
        for own in every
        for note in own.notes
        if note.endswith("has no word here")
    ]
    found = "; ".join(filter(None, [network, ", ".join(said), placed])) or "nothing"
    return f"{' and '.join(part.file for part in coming)}: {found}", hits


def _above(draft: Draft, place: Place) -> Place:
    """Return the first of the comments right above a line, which belong to it; the line itself
    where there is none.
    """
    while place.line > 1:
        above = place._replace(line=place.line - 1)
        if not draft.line(above).text.startswith("#"):
            break
        place = above
    return place


def _own_names(coming: Sequence[Coming]) -> list[ComingList]:
    """Return all lists, each with a name of its own; equal lists of several devices are one. Raises
    `PlanError`.
    """
    known: dict[str, ComingList] = {}
    for part in coming:
        for each in [*part.lists]:
            other = known.get(each.name)
            if other is not None and other.family is each.family and _alike(other, each):
                part.places = [
                    place._replace(of=other) if place.of is each else place for place in part.places
                ]
                continue
            if other is not None and part.devices:
                own = list_name(f"{each.name}-{part.devices[0].name}")
                part.told.append(
                    f"{each.name} of {part.file} is another list than the first of that name, and "
                    f"becomes {own}"
                )
                each.name = own
            if each.name in known:
                raise PlanError(
                    f"list {each.name} comes in twice; bring the files in one by one, and see "
                    "which is right"
                )
            known[each.name] = each
    return [*known.values()]


def _lists(names: Sequence[str]) -> str:
    return f"{'lists' if len(names) > 1 else 'a list'} {', '.join(names)}"


# ---- Where they stand


def _place(draft: Draft, places: Sequence[ComingPlace], replace: bool) -> str:
    """Write the placements of lists, and say so."""
    chosen: dict[tuple[Point, Direction, Family | None], ComingPlace] = {}
    for each in places:
        key = each.point, each.direction, each.of.family
        if key in chosen and chosen[key].of is not each.of and not _alike(chosen[key].of, each.of):
            raise PlanError(
                f"{each.said_at}: {chosen[key].of.name} and {each.of.name} are both attached "
                "there, and one list of a family stands in a place here;"
                " make one list of them"
            )
        chosen.setdefault(key, each)
    said, new = [], []
    for (point, direction, family), each in chosen.items():
        empty = list_edits.empty_list(each.of.name, Kind.EXTENDED, family)
        taken = standing(draft.plan, empty, direction, point)
        other = None if taken is None else taken[1]
        if other is not None and (other.access_list, other.point) == (each.of.name, point):
            continue
        if other is not None and replace:
            placing.lift_list(draft, draft.plan.any_list(other.access_list), direction, other.point)
        if draft.plan.every_placement:
            placing.place_list(draft, empty, direction, point, free=other is not None and replace)
        else:
            new.append(f"place {each.of.name} {stands_at(direction, point)}")
        said.append(f"{each.of.name} {stands_at(direction, point)}")
    if new:
        draft.append("", *new)
    return f"placed: {', '.join(said)}" if said else ""


def _alike(one: ComingList, other: ComingList) -> bool:
    """Whether two lists have the same rules in the same order, whatever their names."""

    def asked(own: ComingList) -> list[Rule]:
        return [
            rule._replace(number=None, part=1, parts=1, comment="", log=False) for rule in own.rules
        ]

    return (
        one.otherwise is other.otherwise
        and asked(one) == asked(other)
        and not one.entries
        and not other.entries
    )


# ---- Entries


def _lines(
    own: ComingList, entries: Sequence[ComingEntry], old: AnyList[Any] | None
) -> Iterator[str]:
    """Yield the lines of a list; notes that an `old` list of that name has already are left out."""
    known = {quotable(each.text) for each in old.notes} if old is not None else ()
    dated = f" until {own.until}" if own.until else ""
    answers = f' for "{own.owner}"' if own.owner else ""
    about = ETHERNET if own.family is None else own.family.word
    yield f"list {own.name} {own.kind} {about}{dated}{answers}"
    for each in map(quotable, own.notes):
        if each not in known:
            yield f'    note "{each}"'
    for entry in entries:
        yield f"    {entry.number} {entry.text}"
    unsaid = old is not None and not old.otherwise.written and old.otherwise.action is own.otherwise
    if own.otherwise is not None and not unsaid:
        yield f"    otherwise {own.otherwise}"


def _entries(
    own: ComingList, draft: Draft, names: SetNames, old: AnyList[Any] | None
) -> list[ComingEntry]:
    """Return the entries of a list; one that takes the same packets and does the same as the entry
    with its number in an `old` list is written as it is there.
    """
    if own.entries or own.family is None:
        own.kind = own.kind or Kind.EXTENDED
        return own.entries
    own.kind = _kind(own, draft.plan, old)
    texts: list[tuple[int | None, list[ComingRule]]] = []
    for (number, parts), group in groupby(
        own.items(), key=lambda each: (each.rule.number, each.rule.parts)
    ):
        items = list(group)
        whole = (
            parts > 1
            and _is_product([each.rule for each in items])
            and len({each.lost for each in items}) == 1
        )
        texts += [(number, items)] if whole else [(each.rule.number, [each]) for each in items]
    numbers = [number for number, _ in texts]
    known = [each for each in numbers if each is not None]
    kept = (
        len(known) == len(numbers)
        and all(0 < each <= MOST_NUMBER for each in known)
        and all(a < b for a, b in pairwise(known))
    )
    if not kept and known:
        draft.remarks.append(
            f"list {own.name}: its entries are numbered anew, since the numbers in their names "
            "are not in order"
        )
    found = []
    for index, (number, items) in enumerate(texts, 1):
        final = number if kept and number is not None else index * _STEP
        rules = [each.rule for each in items]
        text = _as_before(own, items, old, number, draft) if kept else None
        if text is None:
            text = _text(rules, own, f"{own.name}-{final}", names)
        found.append(
            ComingEntry(final, "off " * items[0].lost + text, sum(each.hits for each in items))
        )
    return found


def _as_before(
    own: ComingList,
    items: Sequence[ComingRule],
    old: AnyList[Any] | None,
    number: int | None,
    draft: Draft,
) -> str | None:
    """Return the text of the old entry with a number where it takes the same packets and does the
    same; None where it does not.
    """
    if not isinstance(old, AccessList) or old.kind is not own.kind or number is None:
        return None
    entry = old.entry(number)
    if entry is None or entry.off or entry.needs_state or any(each.lost for each in items):
        return None
    regions = [rule_region(each.rule) for each in items]
    had = entry_region(entry, items[0].rule.source.family)
    same = {(each.rule.action, each.rule.log) for each in items} == {(entry.action, entry.log)}
    if not same or had is None or PacketSet.of(*filter(None, regions)) != PacketSet.of(had):
        return None
    return edits.unnumbered(draft.line(entry.place).text)[0]


def _kind(own: ComingList, plan: Plan, old: AnyList[Any] | None) -> Kind:
    """Return the kind of a list: one that asks for sources only is standard where its number says
    so, or where it was before.
    """
    if own.kind is not None:
        return own.kind
    plain = all(takes_all(rule._replace(source=everything(own.family))) for rule in own.rules)
    standard = (
        own.name.isdecimal() and numbered_kind(int(own.name), plan.numbering) is Kind.STANDARD
    )
    was = old is not None and old.kind is Kind.STANDARD
    return Kind.STANDARD if plain and (standard or was) else Kind.EXTENDED


def _service(rule: Rule) -> Asked:
    return rule.protocol, rule.destination_ports, rule.icmp_type, rule.icmp_code


def _is_product(rules: Sequence[Rule]) -> bool:
    """Whether rules are exactly the members of one product, and differ in nothing else."""
    keys = [
        (each.source, each.destination, _service(each), each.source_ports, each.flags)
        for each in rules
    ]
    sides = [dict.fromkeys(column) for column in zip(*keys, strict=True)]
    rest = {(each.action, each.fragments, each.dscp, each.log) for each in rules}
    return (
        len(rest) == 1
        and len(set(keys)) == len(keys)
        and set(keys) == set(product(*sides))
        and rules[0].parts == len(rules)
    )


def _text(rules: Sequence[Rule], own: ComingList, called: str, names: SetNames) -> str:
    """Write an entry from its action on."""
    first, family = rules[0], rules[0].source.family
    source = names.text([each.source for each in rules], family, f"{called}-sources")
    words: list[str] = [first.action]
    if own.kind is Kind.STANDARD:
        words.append(source)
    else:
        terms = list(dict.fromkeys(map(_service, rules)))
        destination = names.text(
            [each.destination for each in rules], family, f"{called}-destinations"
        )
        words += [names.service(terms, family), source, "to", destination]
        ports = [each.source_ports for each in rules]
        if ports[0] is not None:
            words.append(
                "source port "
                f"{format_ports(join_ports([one for each in ports for one in each or ()]))}"
            )
        words += _flag_words(list(dict.fromkeys(test for each in rules for test in each.flags)))
        words += ["fragments"] * first.fragments + (
            [] if first.dscp is None else [f"dscp {first.dscp}"]
        )
    words += ["log"] * first.log
    comment = quotable(next((each.comment for each in rules if each.comment), ""))
    return " ".join(words) + (f' "{comment}"' if comment else "")


def _flag_words(tests: Sequence[FlagTest]) -> list[str]:
    if tuple(tests) == ESTABLISHED:
        return ["established"]
    words = []
    for test in tests:
        names = [
            ("" if test.value & bit else "!") + name
            for name, bit in iana.FLAGS.items()
            if test.care & bit
        ]
        words.append(f"flags {','.join(names)}")
    return words
