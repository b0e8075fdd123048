"""A traced conversation for people: a line a crossing, then the verdict in one sentence."""

from __future__ import annotations

from collections.abc import Iterator
from datetime import datetime

from crossgate.core.model.plan import Plan
from crossgate.core.traffic.legs import service_label
from crossgate.core.traffic.trace import Asked, LegTrace, Trace
from crossgate.core.wording.sentences import noticed, sentence, time_note, ways_note
from crossgate.show.console import columns, folded, leading_word, quiet, strong, word


def lines(trace: Trace, plan: Plan, at: datetime) -> Iterator[str]:
    """Yield a trace as lines."""
    conversation = trace.conversation
    source, destination = conversation.source, conversation.destination
    ends = f"{_end(source.name, str(source.address))} to {_end(destination.name, str(destination.address))}"
    claimed = f", sent with the source address {conversation.claimed}" if conversation.claimed is not None else ""
    yield f"{strong(service_label(conversation.first))}  {ends}  {conversation.first.family.label}{claimed}"
    yield from columns((row for leg in trace.legs for row in _leg(leg)), indent=2)
    first, *rest = folded(sentence(trace), 2)
    yield first.replace(trace.verdict, word(trace.verdict, bold=True), 1)
    yield from rest
    for text in (noticed(trace), time_note(trace, plan, at), ways_note(trace)):
        if text:
            yield from folded(text, 2)


def _end(name: str, address: str) -> str:
    return strong(name) if name == address else f"{strong(name)} ({address})"


def _leg(leg: LegTrace) -> Iterator[list[str]]:
    if not leg.asked:
        yield [leg.leg, quiet("crosses no place where a list could stand")]
    for number, asked in enumerate(leg.asked):
        yield ["" if number else leg.leg, str(asked.crossing.point), str(asked.crossing.direction), *_asked(asked)]
    if not leg.path.arrived and all(asked.permits for asked in leg.asked):
        yield ["", word("unroutable"), "", "", "", leg.path.reason]


def _asked(asked: Asked) -> list[str]:
    if asked.access_list is None:
        return [quiet("no list"), "", ""]
    if asked.decider is None:
        return [asked.access_list.name, "", quiet("not asked: the device remembers the conversation")]
    entry = asked.decider.entry
    if entry is not None:
        return [asked.access_list.name, str(entry.number), leading_word(entry.text)]
    written = "" if asked.access_list.otherwise.written else quiet("  (not written)")
    return [asked.access_list.name, "otherwise", word(asked.decider.action) + written]
