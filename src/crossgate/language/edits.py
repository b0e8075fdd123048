"""Changes of a plan's lines that leave every other byte as it is.

1. An edit knows places from the plan that was read: every entry, list and placement has its place.

2. It removes, inserts and replaces whole lines, with the line ending and the indentation of their
neighbours.

3. The number of an entry that is written without one depends on the entries above it; where an edit
would change that, the number is written down first, so that no other entry is ever renumbered.
"""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any, NamedTuple, cast

from crossgate.core.lists import insertion
from crossgate.core.model.accesslist import AccessList, AnyList
from crossgate.core.model.entry import MOST_NUMBER, Action, AnEntry, AnyEntry
from crossgate.core.model.errors import PlanError, unknown
from crossgate.core.model.plan import Plan
from crossgate.language.draft import GIVEN, Draft
from crossgate.language.entries import one_entry
from crossgate.language.frame_entries import FrameEntryReader
from crossgate.language.layout import tidied
from crossgate.language.lines import Line, entry_line
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


class EntrySpot(NamedTuple):
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


def number_beside(access_list: AnyList[Any], spot: EntrySpot, moved: AnyEntry | None = None) -> int:
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
        number_entry(draft, follower)
    draft.drop(entry.place)


def move_entry(draft: Draft, access_list: AnyList[Any], entry: AnyEntry, spot: EntrySpot) -> int:
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


def number_entry(draft: Draft, entry: AnyEntry) -> None:
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
        number_entry(draft, follower)
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
