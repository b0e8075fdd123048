"""Verdicts over time, for people: the next change, then a line for each stretch of time."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from datetime import datetime

from crossgate.core.answers.hours import ConversationHours, Opened, OpenTurn, Stretch
from crossgate.core.conversation.opening import service_label
from crossgate.core.wording.sentences import decision
from crossgate.show.console import count, folded, name, quiet, strong, word
from crossgate.show.width import columns

_MOST = 16
"""Of more stretches than these the first are shown, unless all are wanted."""


def short_lines(found: Sequence[ConversationHours]) -> Iterator[str]:
    """Yield a line for each conversation: its ends, its verdict now, and what is next."""
    families = {each.told.first.family for each in found}
    yield from columns(
        [
            f"{name(each.told.source.name)} to {name(each.told.destination.name)}",
            *([each.told.first.family.label] if len(families) > 1 else []),
            service_label(each.told.first),
            word(each.stretches[0].fares),
            "always" if each.next is None else f"until {_time(each.next.start)}",
            "" if each.next is None else f"then {_fares(each.next)}",
        ]
        for each in found
    )


def lines(hours: ConversationHours, every: bool) -> Iterator[str]:
    """Yield the verdicts on a conversation: its ends, the next change, and each stretch of time."""
    told = hours.told
    yield (
        f"{strong(service_label(told.first))}  {strong(told.source.name)} to "
        f"{strong(told.destination.name)}  {told.first.family.label}"
    )
    following = hours.next
    if following is None:
        yield "  no window ever changes it"
    else:
        yield from folded(f"next change {_time(following.start)}: {_fares(following)}", 2)
    shown = hours.stretches if every else hours.stretches[:_MOST]
    yield from columns(
        (
            [
                _time(each.start),
                "on" if each.end is None else f"to {_time(each.end)}",
                word(each.fares),
                decision(each.trace) or quiet("no list on the way"),
            ]
            for each in shown
        ),
        indent=2,
    )
    more = len(hours.stretches) - len(shown)
    if more:
        yield quiet(f"  {count(more, 'more stretch', 'more stretches')}: --every shows all")
    every_one = (*hours.stretches, *([] if hours.then is None else [hours.then]))
    turns = {each.turn: None for each in every_one if each.turn is not None}
    for turn in turns:
        yield from folded(quiet(turn_text(turn)), 2)


def _fares(stretch: Stretch) -> str:
    """Return a verdict and the lines that make it so."""
    by = decision(stretch.trace)
    return word(stretch.fares) + (f", by {by}" if by else "")


def _time(moment: datetime) -> str:
    return f"{moment:%a %Y-%m-%d %H:%M}"


def turn_text(turn: OpenTurn) -> str:
    """Say what becomes of open connections when a window closes on them."""
    lead = "conversations that are open when it turns"
    if turn.opened is Opened.REMEMBERED:
        return f"{lead} go on until they end or are idle: {turn.by} remembers them"
    assert turn.decider is not None
    if turn.opened is Opened.PERMITTED:
        return f"{lead} go on: {turn.by} remembers nothing, and {turn.decider.name} lets them by"
    return f"{lead} break off: {turn.by} remembers nothing, and asks its list about each packet"
