"""Changes of a plan's lines that leave every other byte as it is.

1. An edit knows places from the plan that was read: every entry, list and placement has its place.

2. It removes, inserts and replaces whole lines, with the line ending and the indentation of their
neighbours.

3. The number of an entry that is written without one depends on the entries above it; where an edit
would change that, the number is written down first, so that no other entry is ever renumbered.
"""

from __future__ import annotations

from bisect import bisect_right
from collections.abc import Sequence
from dataclasses import replace
from typing import Any, NamedTuple, cast

from crossgate.core.lists import insertion
from crossgate.core.model.accesslist import (
    MOST_NUMBER,
    AccessList,
    Action,
    AnEntry,
    AnyEntry,
    AnyList,
    Kind,
    Otherwise,
)
from crossgate.core.model.address import Family
from crossgate.core.model.errors import Place, PlanError, unknown
from crossgate.core.model.ethernet import EthernetList
from crossgate.core.model.network import Direction, Placement, Point, PointKind, stands_at
from crossgate.core.model.plan import Plan
from crossgate.language.claims import see_that_frames_pass, standing, where
from crossgate.language.draft import GIVEN, Draft
from crossgate.language.entries import ETHERNET, FrameEntryReader, header, one_entry
from crossgate.language.layout import tidied
from crossgate.language.lines import Line, Token, entry_line
from crossgate.language.words import Words


def find_list(plan: Plan, name: str) -> AnyList[Any]:
    """Return a list by its name. Raises `PlanError`."""
    return plan.any_list(name)


def find_entry(access_list: AnyList[Any], number: int) -> AnyEntry:
    """Return an entry by its number. Raises `PlanError`."""
    entry: AnyEntry | None = access_list.entry(number)
    if entry is not None:
        return entry
    known = [str(each.number) for each in access_list.entries]
    raise PlanError(unknown(f"entry in list {access_list.name} with number", str(number), known))


def given_entry(draft: Draft, access_list: AnyList[AnEntry], text: str) -> AnEntry:
    """Read an entry for a list, as a person typed it; errors point into that text. Raises
    `PlanError`.
    """
    if not text.strip() or text.strip().startswith("#") or "\n" in text:
        raise PlanError(
            "an entry is one line: an action, then what it is for, as: permit tcp/443 any to any"
        )
    line = Line(GIVEN, 1, text)
    found: AnyEntry
    if isinstance(access_list, AccessList):
        found = one_entry(
            line, draft.names, access_list.kind, access_list.family, 0, access_list.name
        )
    else:
        found = FrameEntryReader(draft.names, access_list.kind, access_list.name).entry(
            Words(line), 0
        )
    return cast(AnEntry, found)


class Spot(NamedTuple):
    """Where a person wants an entry: with a number, right before or after the entry with a number,
    or as far down as it has an `effect`.

    At most one is given; without any, it goes to the end, before `otherwise`.
    """

    number: int | None = None
    before: int | None = None
    after: int | None = None
    effective: bool | None = None

    def given(self) -> str:
        """Return the name of the one that is given, "" for none. Raises `PlanError` when more than
        one is.
        """
        names = [name for name, value in self._asdict().items() if value is not None]
        if len(names) > 1:
            raise PlanError(f"--{names[0]} and --{names[1]} exclude each other")
        return names[0] if names else ""


class GivenEntry(NamedTuple):
    """The text of an entry without its number, and the number; None where it has none."""

    text: str
    number: int | None


def unnumbered(text: str) -> GivenEntry:
    """Return the text of an entry and its number separately."""
    parts = entry_line(text)
    return GivenEntry(text[parts.start :].strip(), int(parts.number.text) if parts.number else None)


def number_between(
    access_list: AnyList[Any], before: AnyEntry | None, after: AnyEntry | None
) -> int:
    """Return a free number between two neighbouring entries, None for the ends of the list. Raises
    `PlanError`.
    """
    low = before.number if before else 0
    found = insertion.number_between(low, after.number if after else None)
    if found is not None:
        return found
    mend = f"make room with: crossgate list renumber {access_list.name}"
    if after is None:
        raise PlanError(f"{low} is the last number that there is; {mend}")
    raise PlanError(
        "no number is free "
        f"{f'between {low} and {after.number}' if before else f'before {after.number}'}; {mend}"
    )


def number_beside(access_list: AnyList[Any], spot: Spot, moved: AnyEntry | None = None) -> int:
    """Return a free number right before or after an entry, as if `moved` were not there. Raises
    `PlanError`.
    """
    if not spot.given():
        raise PlanError("say where to: --before N or --after N")
    near = find_entry(access_list, spot.before if spot.before is not None else spot.after or 0)
    if near is moved:
        raise PlanError(f"{near.number} cannot be moved beside itself; name another entry")
    others = [each for each in access_list.entries if each is not moved]
    index = others.index(near)
    if spot.before is not None:
        return number_between(access_list, others[index - 1] if index else None, near)
    return number_between(access_list, near, others[index + 1] if index + 1 < len(others) else None)


def add_entry(draft: Draft, access_list: AnyList[Any], number: int, text: str) -> None:
    """Write an entry with a number into a list. Raises `PlanError` when the number is taken."""
    taken = access_list.entry(number)
    if taken is not None:
        raise PlanError(
            f"list {access_list.name} has an entry {number} in line {taken.place.line} already; "
            "change it, or give another number"
        )
    _insert(draft, access_list, number, text, list(access_list.entries))


def add_entries(draft: Draft, access_list: AnyList[Any], texts: Sequence[str]) -> None:
    """Insert entries right before the first one that does not permit, or else at the end. Raises
    `PlanError` when there are too few numbers.
    """
    after = next((each for each in access_list.entries if each.action is not Action.PERMIT), None)
    index = access_list.entries.index(after) if after is not None else len(access_list.entries)
    low = access_list.entries[index - 1].number if index else 0
    step = 10 if after is None else min((after.number - low) // (len(texts) + 1), 10)
    if step < 1 or low + step * len(texts) > MOST_NUMBER:
        mend = (
            f"make room with: crossgate list renumber {access_list.name} --step "
            f"{10 * (len(texts) + 1)}"
        )
        raise PlanError(f"{len(texts)} entries need as many free numbers after {low}; {mend}")
    written = [f"    {low + step * number} {each}" for number, each in enumerate(texts, 1)]
    if after is not None:
        draft.before(after.place, *written)
    else:
        draft.after(
            access_list.entries[-1].place if access_list.entries else access_list.place, *written
        )


def drop_entry(draft: Draft, access_list: AnyList[Any], entry: AnyEntry) -> None:
    """Remove an entry from a list."""
    follower = _unnumbered_below(draft, access_list, entry.place.line)
    if follower is not None and follower.number == entry.number + 10:
        _number(draft, follower)
    draft.drop(entry.place)


def move_entry(draft: Draft, access_list: AnyList[Any], entry: AnyEntry, spot: Spot) -> int:
    """Move an entry right before or after another one, and return its new number. Raises
    `PlanError`.
    """
    number = number_beside(access_list, spot, entry)
    renumber_entry(draft, access_list, entry, number)
    return number


def renumber_entry(draft: Draft, access_list: AnyList[Any], entry: AnyEntry, number: int) -> None:
    """Give an entry another number, and move its line to the place that belongs to it."""
    line = draft.line(entry.place)
    drop_entry(draft, access_list, entry)
    others = [each for each in access_list.entries if each is not entry]
    _insert(draft, access_list, number, line.text[entry_line(line.text).start :], others or [entry])


def change_entry(draft: Draft, entry: AnyEntry, text: str) -> None:
    """Replace the text of an entry; its number, its comments, its owner and whether it is off stay
    unless the text says otherwise.
    """
    line = draft.line(entry.place).text
    parts = entry_line(line)
    off = "off " if entry.off and not entry_line(text).off else ""
    given = entry_line(text)
    owner = f" {parts.owner.text}" if parts.owner and not given.owner else ""
    comment = f' "{entry.comment}"' if entry.comment and not given.comment else ""
    body = f"{text[: given.end].strip()}{owner}{text[given.end :].rstrip()}{comment}"
    behind = parts.comment or parts.owner
    remark = line[behind.end if behind else parts.end :] if parts.remark else ""
    draft.replace(entry.place, f"{line[: parts.start]}{off}{body}{remark}")


def switch_entry(draft: Draft, entry: AnyEntry, off: bool) -> None:
    """Write `off` before an entry's action, or remove it."""
    line = draft.line(entry.place).text
    parts = entry_line(line)
    draft.replace(entry.place, f"{line[: parts.start]}{'off ' if off else ''}{line[parts.body :]}")


def _unnumbered_below(draft: Draft, access_list: AnyList[Any], line: int) -> AnyEntry | None:
    """Return the first entry below a line that is written without a number and has not been
    removed.
    """
    below = sorted(
        (entry for entry in access_list.entries if entry.place.line > line),
        key=lambda entry: entry.place.line,
    )
    return next(
        (
            entry
            for entry in below
            if (text := draft.line(entry.place).text) and not entry_line(text).number
        ),
        None,
    )


def _number(draft: Draft, entry: AnyEntry) -> None:
    """Write down the number of an entry that is written without one."""
    line = draft.line(entry.place)
    draft.replace(entry.place, f"{line.indent}{entry.number} {line.text.lstrip()}")


def _insert(
    draft: Draft, access_list: AnyList[Any], number: int, body: str, others: list[AnyEntry]
) -> None:
    """Insert an entry's line below that of the entry before it, or else above that of the one after
    it, or else below the list's first line.
    """
    before = [entry for entry in others if entry.number < number]
    after = [entry for entry in others if entry.number > number]
    near = before[-1] if before else after[0] if after else None
    lead = draft.line(near.place).indent if near else ""
    text = f"{lead or '    '}{number} {body}"
    follower = _unnumbered_below(
        draft, access_list, near.place.line if before and near else access_list.place.line
    )
    if follower is not None and follower.number < number + 10:
        _number(draft, follower)
    if before:
        draft.after(before[-1].place, text)
    elif after:
        draft.before(after[0].place, text)
    else:
        draft.after(
            max(
                [access_list.place, *(note.place for note in access_list.notes)],
                key=lambda place: place.line,
            ),
            text,
        )


def empty_list(name: str, kind: Kind, family: Family | None) -> AnyList[Any]:
    """Return a list without entries, so that entries can be read for it, and it can be placed,
    before it is written.
    """
    place = Place(GIVEN, 1)
    if family is None:
        return EthernetList(name, kind, (), Otherwise(Action.DENY, place, written=False), place, ())
    return AccessList(
        name, kind, (), Otherwise(Action.DENY, place, written=False), place, (), family
    )


def header_given(name: str, kind: Kind, about: str) -> None:
    """Raise `PlanError` where a new list cannot have a name."""
    header(Words(Line(GIVEN, 1, f"list {name} {kind} {about}")))


def new_list(
    draft: Draft,
    name: str,
    kind: Kind,
    family: Family | None,
    entries: Sequence[str] = (),
    otherwise: Action | None = None,
) -> None:
    """Write a list after the last one, of a family or (None) for frames, with some entries,
    numbered in steps of ten. Raises `PlanError` when the name is taken, or is not a valid one.
    """
    about = ETHERNET if family is None else family.word
    header_given(name, kind, about)
    plan = draft.plan
    if name in plan.every_list:
        raise PlanError(
            f"there is a list {name} already (line {plan.line_of(plan.every_list[name].place)}); give the "
            "new one another name"
        )
    numbered = [f"    {10 * number} {each}" for number, each in enumerate(entries, 1)]
    texts = (
        "",
        f"list {name} {kind} {about}",
        *numbered,
        *([] if otherwise is None else [f"    otherwise {otherwise}"]),
    )
    add_lists(draft, texts)


def add_lists(draft: Draft, lines: Sequence[str]) -> None:
    """Write the lines of lists, a blank one first, after the last list of the plan's own file, or
    of the file that has lists.
    """
    draft.beside([last_line(each) for each in draft.plan.every_list.values()], *lines)


def last_line(access_list: AnyList[Any]) -> Place:
    """Return the place of the last line of a list."""
    places: list[Place] = [access_list.place, access_list.otherwise.place]
    places += [each.place for each in (*access_list.notes, *access_list.entries)]
    return max(places, key=lambda place: place.line)


def drop_list(draft: Draft, access_list: AnyList[Any]) -> None:
    """Remove a list with its block. Raises `PlanError` while it is placed."""
    placed = [
        placement
        for placement in draft.plan.every_placement
        if placement.access_list == access_list.name
    ]
    if placed:
        lines = ", ".join(draft.plan.line_of(each.place) for each in placed)
        raise PlanError(
            f"list {access_list.name} stands in the network (line {lines}); first: crossgate lift "
            f"{access_list.name}"
        )
    last = last_line(access_list)
    for number in range(access_list.place.line, last.line + 1):
        draft.drop(Place(access_list.place.file, number))


def renumber(draft: Draft, access_list: AnyList[Any], start: int, step: int) -> dict[int, int]:
    """Renumber a list's entries in their order, and correct the lines that refer to them; return
    the new numbers by the old ones.
    """
    if access_list.entries and start + step * (len(access_list.entries) - 1) > MOST_NUMBER:
        raise PlanError(
            f"{len(access_list.entries)} entries from {start} in steps of {step} go beyond "
            f"{MOST_NUMBER}; take a smaller step"
        )
    numbers = {
        entry.number: start + step * index for index, entry in enumerate(access_list.entries)
    }
    for entry in access_list.entries:
        line = draft.line(entry.place).text
        parts = entry_line(line)
        if parts.number:
            # In the room that the old number took with the blanks behind it, at least one blank.
            shown = str(numbers[entry.number]).ljust(parts.start - parts.number.start - 1)
            draft.replace(entry.place, f"{line[: parts.number.start]}{shown} {line[parts.start :]}")
        else:
            _number(draft, replace(entry, number=numbers[entry.number]))
    mentions = [
        (each.place, each.by.entry, "by")
        for each in draft.plan.expectations
        if each.by and each.by.access_list == access_list.name
    ]
    mentions += [
        (each.place, each.entry, "in")
        for each in draft.plan.acceptances
        if each.access_list == access_list.name
    ]
    for place, number, word in mentions:
        if number is not None:
            said = _mention(draft.line(place), word, access_list.name)
            text = draft.line(place).text
            draft.replace(place, f"{text[: said.start]}{numbers[number]}{text[said.end :]}")
    return numbers


def _mention(line: Line, word: str, name: str) -> Token:
    """Return the number of an entry that follows a word and the list's name in a line."""
    words = line.words()
    return next(
        number
        for before, listed, number in zip(words, words[1:], words[2:], strict=False)
        if (before.text, listed.text) == (word, name)
    )


def point_given(draft: Draft, words: str) -> Point:
    """Read a place for a list as typed: POINT, `subnet NAME`, `DEVICE itself`, `host NAME` or
    `group NAME`. Raises `PlanError`.
    """
    given = Words(Line(GIVEN, 1, words))
    given.accept("on")
    point = where(given, draft.names)
    given.end()
    return point


def place_list(
    draft: Draft, access_list: AnyList[Any], direction: Direction, point: Point, free: bool = False
) -> None:
    """Write a placement, also of a list that is written in the same edit, among the others: in the
    order of the lists where they are in it, or else after the last.

    Raises `PlanError` where a list of the family is placed there already, unless that is removed
    too (`free`).
    """
    if not free:
        _see_that_it_is_free(draft.plan, access_list, direction, point)
    text = f"place {access_list.name} {stands_at(direction, point)}"
    order = {each: number for number, each in enumerate(draft.plan.every_list)}
    every = draft.plan.every_placement
    main = any(each.place.file == draft.plan.files[0] for each in every)
    file = draft.plan.files[0] if main or not every else every[-1].place.file
    own = [each for each in every if each.place.file == file]
    ranks = [order[each.access_list] for each in own]
    above = (
        bisect_right(ranks, order.get(access_list.name, len(order)))
        if ranks == sorted(ranks)
        else len(own)
    )
    if above:
        draft.after(own[above - 1].place, text)
    elif own:
        draft.before(own[0].place, text)
    else:
        draft.append("", text)


def replace_list(
    draft: Draft, access_list: AnyList[Any], direction: Direction, point: Point
) -> str:
    """Write a placement in the place of another list of the family, whose placement is removed;
    return that list's name. Raises `PlanError` where there is none, or where it is there by being
    placed on something else too.
    """
    taken = standing(draft.plan, access_list, direction, point)
    if taken is None:
        raise PlanError(
            f"no list of its family stands {stands_at(direction, point)}; leave --replace out"
        )
    _, placement = taken
    if placement.access_list == access_list.name:
        raise PlanError(f"{access_list.name} stands {stands_at(direction, point)} already")
    if placement.point != point:
        raise PlanError(
            f"{placement.access_list} stands there by {placement.where} (line "
            f"{draft.plan.line_of(placement.place)}), which is more than {point}; lift it first"
        )
    see_that_frames_pass(access_list, point)
    line = draft.line(placement.place)
    indent, remark = line.indent, line.text[line.remark.start :] if line.remark else ""
    text = f"{indent}place {access_list.name} {stands_at(direction, point)}"
    draft.replace(placement.place, f"{text}{'  ' * bool(remark)}{remark}")
    return placement.access_list


def move_list(
    draft: Draft, access_list: AnyList[Any], direction: Direction, point: Point
) -> Placement:
    """Change the place of a list that has exactly one, and return the old one. Raises `PlanError`."""
    stands = [each for each in draft.plan.every_placement if each.access_list == access_list.name]
    if len(stands) != 1:
        where_now = " and ".join(each.where for each in stands)
        mend = (
            f"stands {where_now}; first: crossgate lift {access_list.name} DIRECTION WHERE"
            if stands
            else "stands nowhere; leave --move out"
        )
        raise PlanError(f"{access_list.name} {mend}")
    _see_that_it_is_free(draft.plan, access_list, direction, point)
    line = draft.line(stands[0].place)
    indent, remark = line.indent, line.text[line.remark.start :] if line.remark else ""
    draft.replace(
        stands[0].place,
        f"{indent}place {access_list.name} {stands_at(direction, point)}{'  ' * bool(remark)}{remark}",
    )
    return stands[0]


def _see_that_it_is_free(
    plan: Plan, access_list: AnyList[Any], direction: Direction, point: Point
) -> None:
    """Raise `PlanError` where a list of the family is at a point already, or an ethernet list
    cannot be there.
    """
    if direction is Direction.WITHIN and point.kind is not PointKind.SUBNET:
        raise PlanError(f"within is for a subnet's own machines, and {point} is no subnet")
    see_that_frames_pass(access_list, point)
    taken = standing(plan, access_list, direction, point)
    if taken is not None:
        at, placement = taken
        again = (
            ""
            if placement.access_list == access_list.name
            else f"; first: crossgate lift {placement.access_list} {direction} {placement.point}"
        )
        raise PlanError(
            f"{placement.access_list} stands {stands_at(direction, at)} already (line "
            f"{plan.line_of(placement.place)}){again}"
        )


def lift_list(
    draft: Draft, access_list: AnyList[Any], direction: Direction | None, point: Point | None
) -> list[Placement]:
    """Remove placements of a list: all of them, or those in one direction, or at one point. Raises
    `PlanError` when there is none.
    """
    found = [
        placement
        for placement in draft.plan.every_placement
        if placement.access_list == access_list.name
        and direction in (None, placement.direction)
        and point in (None, placement.point)
    ]
    if not found:
        where_to = (
            ""
            if direction is None
            else f" {direction if point is None else stands_at(direction, point)}"
        )
        stands = [
            each.where
            for each in draft.plan.every_placement
            if each.access_list == access_list.name
        ]
        raise PlanError(
            f"{access_list.name} does not stand{where_to or ' anywhere'}"
            + (f"; it stands {' and '.join(stands)}" if stands else "")
        )
    for placement in found:
        draft.drop(placement.place)
    return found


def tidy_plan(draft: Draft) -> str:
    """Write every file of a plan in the standard layout, and say which ones were not in it."""
    untidy = []
    for file in draft.plan.files:
        text = draft.whole(file)
        usual = tidied(text, file, draft.plan)
        if usual != text:
            draft.rewrite(file, usual)
            untidy.append(file)
    return (
        f"{', '.join(untidy)} {'is' if len(untidy) == 1 else 'are'} tidied"
        if untidy
        else f"{draft.plan.files[0]} is tidy"
    )
