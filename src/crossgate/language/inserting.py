"""A new entry inserted into a list: where it goes, and what the lines above leave for it there."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from typing import Any

from crossgate.core.lists import insertion
from crossgate.core.lists.taken import taken
from crossgate.core.model.accesslist import AccessList, AnyList
from crossgate.core.model.entry import AnyEntry, Entry, Kind
from crossgate.core.model.plan import Plan
from crossgate.core.sets.effort import question
from crossgate.core.wording.sentences import DOES
from crossgate.core.wording.sets import Wording
from crossgate.language.draft import Draft
from crossgate.language.edits import (
    EntrySpot,
    add_entry,
    given_entry,
    number_beside,
    number_between,
    unnumbered,
)

_MOST_TAKERS = 4
_HAVE_ALL = "to have all of it: --before {}"


def insert_entry(
    draft: Draft,
    access_list: AnyList[Any],
    text: str,
    spot: EntrySpot,
    chosen: Callable[[str], bool] | None = None,
) -> str:
    """Insert a new entry where a person wants it, and say where. Raises `PlanError`.

    An entry goes to the end of the list unless something else is wanted. There, what the lines
    above take from it is told; where that is everything, so is the place before which it would take
    all its packets, and `chosen` is asked whether it should go there.
    """
    new = given_entry(draft, access_list, text)
    body, own = unnumbered(text)
    spot = spot if spot.number is not None or own is None else spot._replace(number=own)
    given, why = spot.given(), ""
    if spot.number is not None:
        number = spot.number
    elif given == "effective":
        position = _effective_position(draft.plan, access_list, new)
        number = number_between(access_list, position.before, position.after)
        above = (
            f" after {position.before.number}"
            if position.before
            else " first"
            if position.after
            else ""
        )
        below = f", before {position.why}" if position.why else ""
        why = f", {'at the end' if position.after is None else 'placed' + above}{below}"
    elif given:
        number = number_beside(access_list, spot)
    else:
        number = number_between(
            access_list, access_list.entries[-1] if access_list.entries else None, None
        )
        why = ", at the end"
        better = _told_of_end(draft, access_list, new)
        if (
            better is not None
            and chosen is not None
            and chosen(f"put it before {better}, where it has all of it?")
        ):
            number, why = number_beside(access_list, EntrySpot(before=better)), f", before {better}"
            draft.remarks.clear()
    add_entry(draft, access_list, number, body)
    return f"{access_list.name} gets {number}{why}"


def _told_of_end(draft: Draft, access_list: AnyList[Any], new: AnyEntry) -> int | None:
    """Put into the draft's remarks what the lines above take from a new entry at the end; where
    that is everything, return the entry before which it would take all its packets.
    """
    if not isinstance(access_list, AccessList) or not isinstance(new, Entry):
        after = _effective_position(draft.plan, access_list, new).after
        if after is not None:
            draft.remarks += [
                f"{after.number} ({after.text}) takes all of it",
                f"nothing is left for it; {_HAVE_ALL.format(after.number)}",
            ]
        return None if after is None else after.number
    together = replace(access_list, entries=(*access_list.entries, new))
    with question(f"what the lines of {access_list.name} take of it"):
        found = taken(access_list, new, None, draft.plan.states([together]))
    same = not found.left and not found.opposed
    if same and found.parts:
        takers = " and ".join(str(each.taker.number) for each in found.parts)
        draft.remarks.append(
            f"it changes nothing: {takers} "
            f"{DOES[new.action] if len(found.parts) == 1 else new.action} all of it already"
        )
    if not found.opposed:
        return None
    wording = Wording(draft.plan)
    for each in found.opposed[:_MOST_TAKERS]:
        whole = len(found.parts) == 1 and not found.left
        what = (
            "all of it"
            if whole
            else wording.in_a_line(each.packets, access_list.kind is Kind.STANDARD)
        )
        draft.remarks.append(f"{each.taker.number} ({each.taker.text}) takes {what}")
    if len(found.opposed) > _MOST_TAKERS:
        draft.remarks.append(
            f"and {len(found.opposed) - _MOST_TAKERS} more lines take something of it"
        )
    before = found.opposed[0].taker.number
    draft.remarks.append(
        f"{'' if found.left else 'nothing is left for it; '}{_HAVE_ALL.format(before)}"
    )
    return None if found.left else before


def _effective_position(plan: Plan, access_list: AnyList[Any], new: AnyEntry) -> insertion.Position:
    """Return the last position at which a new entry has an effect."""
    if isinstance(access_list, AccessList) and isinstance(new, Entry):
        together = replace(access_list, entries=(*access_list.entries, new))
        with question(f"where the entry has an effect in {access_list.name}"):
            return insertion.effective_position(access_list, new, list(plan.states([together])))
    entries = access_list.entries
    taker = next(
        (
            index
            for index, each in enumerate(entries)
            if not each.off and each.action is not new.action and each.covers(new)
        ),
        None,
    )
    if taker is None:
        return insertion.Position(entries[-1] if entries else None, None, "")
    why = f"{entries[taker].number} ({entries[taker].text}), which takes all of it"
    return insertion.Position(entries[taker - 1] if taker else None, entries[taker], why)
