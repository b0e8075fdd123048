"""The lines of a plan with a last day: entries, lists and claims with `until`."""

from __future__ import annotations

from datetime import date
from typing import NamedTuple

from crossgate.core.model.errors import Place
from crossgate.core.model.plan import Plan
from crossgate.core.model.window import last_day


class Dated(NamedTuple):
    """A line with a last day: its place, its list and number (None for a whole list, neither for a
    claim), its owner, and its text.
    """

    until: date
    place: Place
    access_list: str | None
    entry: int | None
    owner: str
    text: str


def dated(plan: Plan) -> list[Dated]:
    """Return the lines of a plan with a last day, the earliest day first."""
    found = []
    for own in plan.every_list.values():
        if own.until is not None:
            text = f"list {own.name} {own.kind} {own.about}"
            found.append(Dated(own.until, own.place, own.name, None, own.owner, text))
        if any(last_day(window) is not None for window in own.windows):
            found += [
                Dated(each.until, each.place, own.name, each.number, each.owner, each.text)
                for each in own.entries
                if each.until is not None and not each.off
            ]
    found += [
        Dated(each.until, each.place, None, None, each.owner, each.text)
        for each in plan.expectations
        if each.until is not None
    ]
    return sorted(found, key=lambda each: each.until)
