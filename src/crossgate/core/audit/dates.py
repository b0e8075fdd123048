"""Lines that are past their last day, and those that soon will be: entries, lists and claims with
`until`.
"""

from __future__ import annotations

from collections.abc import Iterator
from datetime import timedelta

from crossgate.core.audit.context import Case
from crossgate.core.audit.registry import finds
from crossgate.core.model.dated import Dated, dated
from crossgate.core.model.finding import Fault, Finding
from crossgate.core.model.window import is_past

SOON = timedelta(days=30)
"""So long before a last day it is told."""


@finds("expired")
def expired(case: Case) -> Iterator[Finding]:
    """Yield the lines whose last day is over."""
    for each in _looked_at(case):
        if is_past(each.until, case.now):
            yield _finding("expired", each, f"its last day was {each.until}{_what(each)}")


@finds("expires-soon")
def expires_soon(case: Case) -> Iterator[Finding]:
    """Yield the lines whose last day is within thirty days."""
    for each in _looked_at(case):
        if not is_past(each.until, case.now) and each.until <= case.now.date() + SOON:
            yield _finding("expires-soon", each, f"its last day is {each.until}")


def _looked_at(case: Case) -> Iterator[Dated]:
    """Yield the lines with a last day that are to be looked at."""
    numbers = {
        name: {None, *(entry.number for entry in case.scope.entries(own))}
        for name, own in case.plan.every_list.items()
        if case.scope.looks_at(own)
    }
    for each in dated(case.plan):
        if each.access_list is None or each.entry in numbers.get(each.access_list, ()):
            yield each


def _what(each: Dated) -> str:
    if each.access_list is None:
        return ", so it is not looked at any more"
    if each.entry is not None:
        return ", so it is not in force any more"
    return ", and it still stands"


def _finding(name: str, each: Dated, what: str) -> Finding:
    asked = f"; {each.owner} answers for it" if each.owner else ""
    mend = (
        "move the day, or lift the list"
        if each.access_list and each.entry is None
        else "move the day, or drop the line"
    )
    return Finding(name, each.place, each.access_list, each.entry, Fault(what + asked, mend))
