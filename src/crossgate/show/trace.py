"""A traced conversation for people: a line for each crossing, then the verdict in one sentence."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterator, Sequence
from itertools import groupby

from crossgate.core.answers.traces import TraceWanted
from crossgate.core.answers.why import Why, why_there
from crossgate.core.conversation.opening import Conversation, service_label
from crossgate.core.conversation.story import CrossingStory, LegTrace, Trace
from crossgate.core.lists.why import Field
from crossgate.core.model.accesslist import ClosedPlace
from crossgate.core.model.address import Address
from crossgate.core.model.condition import State
from crossgate.core.model.conditions import When
from crossgate.core.model.plan import Plan
from crossgate.core.network.view import NOT_TRANSLATED, View
from crossgate.core.network.ways import Network
from crossgate.core.wording.sentences import (
    asked_at,
    decision,
    noticed,
    sentence,
    time_note,
    ways_note,
)
from crossgate.core.wording.translated import change_text, seen_ends
from crossgate.core.wording.why import bits, reasons
from crossgate.show.console import alert, count, folded, leading_word, name, quiet, strong, word
from crossgate.show.width import columns


def short_lines(
    traces: Sequence[tuple[TraceWanted, Trace]], plan: Plan, when: When
) -> Iterator[str]:
    """Yield conversations, each with the words that asked for it: the ends, the service, the
    verdict and the lines that decided. Parts of a service with equal verdicts are one line.
    """
    if told := asked_at(plan, when, any(trace.settles for _, trace in traces)):
        yield quiet(told)
    families = {trace.conversation.first.family for _, trace in traces}
    rows, fates = [], Counter[str]()
    for _, several in groupby(
        traces,
        key=lambda each: (each[0], each[1].conversation.first.family, each[1].conversation.claimed),
    ):
        alike: dict[tuple[str, str], list[Trace]] = {}
        members = list(several)
        asked = members[0][0]
        for _, trace in members:
            verdict = "varies" if trace.differing is not None else str(trace.verdict)
            alike.setdefault((verdict, decision(trace)), []).append(trace)
        for (verdict, decided), those in alike.items():
            first, claimed = those[0].conversation.first, those[0].conversation.claimed
            ends = (
                f"{name(asked.source)}{'' if claimed is None else f' as {claimed}'} to "
                f"{name(asked.destination)}"
            )
            labels = ", ".join(service_label(each.conversation.first) for each in those)
            service = asked.service if len(alike) == 1 else labels
            fates[verdict] += 1
            rows.append(
                [
                    ends,
                    *([first.family.label] if len(families) > 1 else []),
                    service,
                    word(verdict),
                    decided or quiet("no list on the way"),
                ]
            )
    yield from columns(rows)
    if len(rows) > 1:
        yield quiet(", ".join(f"{number} {verdict}" for verdict, number in fates.items()))


def ways_lines(
    network: Network, traces: Sequence[Trace], plan: Plan, when: When, every: bool = False
) -> Iterator[str]:
    """Yield the traces of one conversation along all of its ways, then the numbers of paths and
    ways.
    """
    for number, trace in enumerate(traces):
        yield from [""] * bool(number)
        yield from lines(trace, plan, when, every, alone=False)
        yield from folded(quiet(_by_way_of(trace)), 2)
    conversation, first = traces[0].conversation, traces[0].conversation.first
    graphs = network.graphs(first.family)
    there = graphs.paths(conversation.source, Address(first.family, first.destination))
    back = graphs.paths(conversation.destination, Address(first.family, first.source))
    fates = ", ".join(
        f"{number} {verdict}"
        for verdict, number in Counter(trace.verdict for trace in traces).items()
    )
    yield ""
    if there == back == 1:
        yield "no other path is as good, there or back"
        return
    yield (
        f"{count(there, 'equal path')} there and {count(back, 'path')} back meet the lists in "
        f"{count(len(traces), 'way')}: {fates}"
    )
    if traces[0].differing is not None:
        yield alert("the verdicts differ: it depends on the path")


def _by_way_of(trace: Trace) -> str:
    """Return the names of the devices on the way of a conversation's first leg, and on that of its
    first answer.
    """
    there = next(each.path.devices for each in trace.legs)
    back = next((each.path.devices for each in trace.legs if each.leg.returns), None)
    told = [
        f"there by {', '.join(there) or 'no device'}",
        *([] if back is None else [f"back by {', '.join(back) or 'no device'}"]),
    ]
    return f"  {'; '.join(told)}"


def lines(
    trace: Trace,
    plan: Plan,
    when: When,
    every: bool = False,
    alone: bool = True,
    why: bool = False,
) -> Iterator[str]:
    """Yield a trace as lines; where it is shown `alone`, also whether the other ways have the same
    verdict.

    With `why`, also why the entries above the deciding one did not match. Neighbouring crossings
    without a list are one line, unless `every` one is to be shown.
    """
    conversation = trace.conversation
    source, destination = conversation.source, conversation.destination
    ends = (
        f"{_end(source.name, str(source.address))} to "
        f"{_end(destination.name, str(destination.address))}"
    )
    claimed = (
        f", sent with the source address {conversation.claimed}"
        if conversation.claimed is not None
        else ""
    )
    yield (
        f"{strong(service_label(conversation.first))}  {ends}  "
        f"{conversation.first.family.label}{claimed}"
    )
    yield from legs_and_verdict(trace, plan, when, every, alone, why)


def legs_and_verdict(
    trace: Trace,
    plan: Plan,
    when: When,
    every: bool = False,
    alone: bool = True,
    why: bool = False,
) -> Iterator[str]:
    """Yield what a trace meets, leg by leg, and its verdict, as `lines` does, without its ends."""
    conversation = trace.conversation
    state = plan.state_at(when) if why else None
    rows = (row for leg in trace.legs for row in _leg(conversation, leg, every, state))
    yield from columns(rows, indent=2)
    first, *rest = folded(sentence(trace), 2)
    yield first.replace(trace.verdict, word(trace.verdict, bold=True), 1)
    yield from rest
    for text in (noticed(trace), time_note(trace, plan, when), ways_note(trace) if alone else ""):
        if text:
            yield from folded(text, 2)


def _end(name: str, address: str) -> str:
    return strong(name) if name == address else f"{strong(name)} ({address})"


def why_rows(why: Why, every: bool) -> Iterator[list[str]]:
    """Yield a row for each entry that a packet passes, or for a run of them: its number, and why it
    does not match.
    """
    packet = why.packet
    for each in reasons(why.passed, packet, every):
        entry = each.first.entry
        if each.first is not each.last:
            yield [str(entry.number), quiet(f"to {each.last.entry.number}: {each.text}")]
            continue
        yield [str(entry.number), quiet(f"{entry.text}: {each.text}")]
        sides = {
            Field.SOURCE: (entry.source, packet.source),
            Field.DESTINATION: (entry.destination, packet.destination),
        }
        if each.first.field in sides:
            side, value = sides[each.first.field]
            for label, row in bits(side, Address(packet.family, value)):
                yield ["", quiet(f"  {label:<15}  {row}".rstrip())]


def _leg(
    told: Conversation, leg: LegTrace, every: bool, state: State | None = None
) -> Iterator[list[str]]:
    first = told.first
    if not leg.asked:
        yield [leg.leg, quiet("crosses no place where a list could stand")]
    head, ends = str(leg.leg), seen_ends(first, leg.leg, NOT_TRANSLATED)
    seen: View | None = None
    for (bare, view), run in groupby(
        leg.asked, key=lambda each: (each.access_list is None, each.crossing.view)
    ):
        several, before = list(run), ends
        ends = seen_ends(first, leg.leg, view)
        if ends != before:
            made = {*(seen or ())} ^ {*view} if seen is not None else ()
            by = ", ".join(sorted({each.device for each in made}))
            change = f"{'from here on' if by else 'sent'} {change_text(before, ends)}"
            yield [head, by, "translates" if by else "", "", "", change]
            head = ""
        seen = view
        if bare and len(several) > 1 and not every:
            yield [head, quiet(f"{len(several)} places"), "", quiet("no list")]
            head = ""
            continue
        for asked in several:
            place = [str(asked.crossing.point), str(asked.crossing.direction)]
            listed, number, text = _asked(asked)
            why = None if state is None else why_there(told, leg.leg, asked, state)
            for row in () if why is None else why_rows(why, every):
                yield [head, *place, listed, *row]
                head, place, listed = "", ["", ""], ""
            yield [head, *place, listed, number, text]
            head = ""
    if not leg.path.arrived and all(asked.permits for asked in leg.asked):
        yield ["", word("unroutable"), "", "", "", leg.path.reason]


def _asked(asked: CrossingStory) -> list[str]:
    if asked.access_list is None:
        return [quiet("no list"), "", ""]
    closed = isinstance(asked.access_list, ClosedPlace)
    listed = quiet("closed") if closed else asked.access_list.name
    if asked.decider is None:
        return [listed, "", quiet("not asked: the device remembers the conversation")]
    entry = asked.decider.entry
    if entry is not None:
        return [asked.access_list.name, str(entry.number), leading_word(entry.text)]
    if closed:
        return [listed, "", word(asked.decider.action) + quiet("  (no list stands here)")]
    written = "" if asked.access_list.otherwise.written else quiet("  (not written)")
    return [asked.access_list.name, "otherwise", word(asked.decider.action) + written]
