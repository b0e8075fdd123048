"""Markdown for change requests and their discussion: the differences between two plans, as a
table.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence

from crossgate.core.answers.difference import ComparedFate, Difference
from crossgate.core.model import plaintext
from crossgate.core.model.plan import Plan
from crossgate.core.wording.sentences import (
    limit_names,
    packet_text,
    speaking,
    while_open_at,
)
from crossgate.core.wording.services import Sort
from crossgate.core.wording.sets import Wording
from crossgate.formats.handed_on import handed_on

_MOST_LINES, _MOST_ROWS = 8, 40
"""At most so many lines of one difference, and so many differences; the rest is counted."""


def escaped(text: str) -> str:
    """Return a text on one line, with escapes for all characters that Markdown or a terminal would
    act on.
    """
    plain = plaintext.escaped(" ".join(text.splitlines()))
    return "".join("\\" + each if each in "\\|*_`<>[]#~&!" else each for each in plain)


def differences_markdown(plan: Plan, was: str, found: Sequence[Difference]) -> str:
    """Return the traffic that is treated differently than in the plan called `was`: between clients
    and other machines, and a count of the rest.
    """
    return "\n".join(_lines(plan, was, found)) + "\n"


def _lines(plan: Plan, was: str, found: Sequence[Difference]) -> Iterator[str]:
    shown = [each for each in found if each.clients and not each.stray and not each.devices]
    yield f"## Traffic: {escaped(_handed_on(was))} against {escaped(handed_on(plan.files[0]))}"
    yield ""
    if not found:
        yield "Every packet fares alike."
        return
    if shown:
        yield "| | was | is | what | for example |"
        yield "| --- | --- | --- | --- | --- |"
    wording = Wording(plan)
    for each in shown[:_MOST_ROWS]:
        cells = [
            _when(plan, each),
            _told(each.was),
            _told(each.now),
            _what(wording, each),
            escaped(packet_text(each.packet)),
        ]
        yield f"| {' | '.join(cells)} |"
    left = [f"{len(shown) - _MOST_ROWS} more differences"] if len(shown) > _MOST_ROWS else []
    rest = len(found) - len(shown)
    left += (
        [f"{rest} of other source ports, devices' own addresses or packets that open nothing"]
        if rest
        else []
    )
    if left:
        yield ""
        yield f"Left out: {'; '.join(left)}."


def _handed_on(was: str) -> str:
    """Return the name of a plan, perhaps with a revision, without its folder on this machine."""
    name, at, revision = was.partition(" at ")
    return f"{handed_on(name)}{at}{revision}"


def _when(plan: Plan, difference: Difference) -> str:
    moment = (
        f", {while_open_at(plan, difference.moment, difference.deciders)}"
        if difference.moment
        else ""
    )
    beyond = (
        f", beyond {', '.join(limit_names(difference.exceeded))}" if difference.exceeded else ""
    )
    spoken = "" if difference.spoken is None else f", {speaking(plan, *difference.spoken)}"
    return escaped(f"{difference.family.label}{moment}{beyond}{spoken}")


def _told(fate: ComparedFate) -> str:
    decided = fate.decided
    by = "" if decided is None else f" by {decided.decider.name}, {decided.crossing.where}"
    return f"**{fate.verdict}**{escaped(by)}"


def _what(wording: Wording, difference: Difference) -> str:
    rows = wording.rows(difference.clients, Sort.OPENING, True)
    lines = [
        escaped(f"{service}: {source} to {destination}")
        for service, source, destination in rows[:_MOST_LINES]
    ]
    more = [f"and {len(rows) - _MOST_LINES} more"] if len(rows) > _MOST_LINES else []
    return "<br>".join([*lines, *more])
