"""Changes of a plan's text: a name changed everywhere, the standard layout, and mends of a finding
or an expectation.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping
from datetime import datetime
from typing import NamedTuple

from crossgate.core.model.errors import Instead, PlanError
from crossgate.core.model.finding import MENDED
from crossgate.core.model.named import NameSpace
from crossgate.core.model.plan import Plan
from crossgate.editor.plans import OpenPlan
from crossgate.language.change import LineEdit, line_edits
from crossgate.language.layout import tidied
from crossgate.language.lines import Line
from crossgate.language.texts import Mention, Text
from crossgate.language.words import Words


class Repair(NamedTuple):
    """Something in a line that could be mended, and what to look for: a finding by its name, list
    and entry, or an expectation by its index.
    """

    title: str
    words: tuple[str, ...]


def renamed(opened: OpenPlan, mention: Mention, name: str) -> dict[str, list[tuple[int, Mention]]]:
    """Return every place of a name that is to be changed, by file. Raises `PlanError` for a new
    name that is invalid or taken.
    """
    where = opened.declaration(mention.space, mention.name)
    if where is None:
        raise PlanError(f"{mention.name} is not given in this plan, so it cannot be renamed")
    words = Words(Line("", 1, name))
    if mention.space is NameSpace.POINT:
        words.part("a point")
    elif not (mention.space is NameSpace.LIST and name.isdecimal()):
        words.name(f"a {mention.space}")
    words.end()
    taken = f"{mention.name.partition('.')[0]}.{name}" if mention.space is NameSpace.POINT else name
    if opened.declaration(mention.space, taken) is not None:
        raise PlanError(f"{name} stands for something else already")
    found: dict[str, list[tuple[int, Mention]]] = {}
    for text, number, each in opened.mentioning(mention.space, mention.name):
        found.setdefault(text.file, []).append((number, each))
    return found


def layout_edits(
    opened: OpenPlan, text: Text, first: int = 0, last: int | None = None
) -> list[LineEdit]:
    """Return the edits that put a file, or some of its lines, into the standard layout. Raises
    `PlanError` while the plan has errors.
    """
    if opened.whole is None:
        raise PlanError("a plan is set in its layout once it has no errors")
    return [
        each
        for each in line_edits(text.text, tidied(text.text, text.file, opened.whole.plan))
        if each.last >= first and (last is None or each.first <= last)
    ]


def meant(
    opened: OpenPlan, text: Text, first: int, last: int
) -> Iterator[tuple[PlanError, int, Instead]]:
    """Yield the errors in some lines for which it is known what was most likely meant, each with
    its line and that.
    """
    for error in opened.errors:
        if (
            error.instead is not None
            and error.place is not None
            and error.place.file == text.file
            and first <= error.place.line - 1 <= last
        ):
            yield error, error.place.line - 1, error.instead


def repairs(opened: OpenPlan, text: Text, first: int, last: int) -> Iterator[Repair]:
    """Yield what `mend` can be asked for in some lines."""
    settled = opened.settled
    if settled is None:
        return
    for finding in settled.findings:
        if (
            finding.name in MENDED
            and finding.place.file == text.file
            and first <= finding.place.line - 1 <= last
        ):
            words = (
                finding.name,
                finding.access_list or "",
                "" if finding.entry is None else str(finding.entry),
            )
            yield Repair(f"Mend {finding.name}: {finding.fault.mend}", words)
    for index, promise in enumerate(settled.reading.plan.expectations):
        if (
            promise.place.file == text.file
            and first <= promise.place.line - 1 <= last
            and not settled.proved[promise.place].held
        ):
            yield Repair("Make this hold", (str(index),))


def repaired(
    opened: OpenPlan, repair: Repair, now: Callable[[Plan], datetime]
) -> Mapping[str, list[LineEdit]]:
    """Return the edits of the first proposal that mends something, by file, proved as `mend` proves
    it. Raises `PlanError` where there is none.
    """
    from crossgate.core.answers.verify import Verifier
    from crossgate.core.traffic.session import Session
    from crossgate.language.ending import mend_finding
    from crossgate.language.mending import mend_claim

    settled = opened.settled
    if settled is None:
        raise PlanError("the plan has changed; look again once it has been looked at")
    reading = settled.reading
    session = Session(reading.plan)
    if len(repair.words) == 1:
        index = int(repair.words[0])
        verifier = Verifier(session)
        found = mend_claim(
            reading,
            index,
            verifier.verify(reading.plan.expectations[index]),
            now(reading.plan),
            verifier,
        )
    else:
        finding = next(
            each
            for each in settled.findings
            if (each.name, each.access_list or "", "" if each.entry is None else str(each.entry))
            == repair.words
        )
        found = mend_finding(reading, finding, now(reading.plan), session)
    if not found.mends:
        raise PlanError(found.reason or "no edit does it")
    return found.mends[0].proposal.edits
