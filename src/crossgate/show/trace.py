"""A traced conversation for people: a line a crossing, then the verdict in one sentence."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterator, Sequence
from datetime import datetime

from crossgate.core.model.address import Address
from crossgate.core.model.plan import Plan
from crossgate.core.network.itineraries import Network
from crossgate.core.traffic.legs import service_label
from crossgate.core.traffic.trace import Asked, LegTrace, Trace
from crossgate.core.wording.sentences import noticed, sentence, time_note, ways_note
from crossgate.show.console import alert, columns, count, folded, leading_word, quiet, strong, word


def ways_lines(network: Network, traces: Sequence[Trace], plan: Plan, at: datetime) -> Iterator[str]:
    """Yield the traces of one conversation along all of its ways, then how many paths and ways there are."""
    for number, trace in enumerate(traces):
        yield from [""] * bool(number)
        yield from lines(trace, plan, at, alone=False)
    conversation, first = traces[0].conversation, traces[0].conversation.first
    itineraries = network.itineraries(first.family)
    there = itineraries.paths(conversation.source, Address(first.family, first.destination))
    back = itineraries.paths(conversation.destination, Address(first.family, first.source))
    fates = ", ".join(f"{number} {verdict}" for verdict, number in Counter(trace.verdict for trace in traces).items())
    yield ""
    if there == back == 1:
        yield "no other path is as good, there or back"
        return
    yield f"{count(there, 'equal path')} there and {count(back, 'path')} back meet the lists in {count(len(traces), 'way')}: {fates}"
    if traces[0].differing is not None:
        yield alert("the verdicts differ: it depends on the path")


def lines(trace: Trace, plan: Plan, at: datetime, alone: bool = True) -> Iterator[str]:
    """Yield a trace as lines; where it is not shown with the other ways but `alone`, how it fares on these."""
    conversation = trace.conversation
    source, destination = conversation.source, conversation.destination
    ends = f"{_end(source.name, str(source.address))} to {_end(destination.name, str(destination.address))}"
    claimed = f", sent with the source address {conversation.claimed}" if conversation.claimed is not None else ""
    yield f"{strong(service_label(conversation.first))}  {ends}  {conversation.first.family.label}{claimed}"
    yield from columns((row for leg in trace.legs for row in _leg(leg)), indent=2)
    first, *rest = folded(sentence(trace), 2)
    yield first.replace(trace.verdict, word(trace.verdict, bold=True), 1)
    yield from rest
    for text in (noticed(trace), time_note(trace, plan, at), ways_note(trace) if alone else ""):
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
