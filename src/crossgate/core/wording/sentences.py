"""Answers in sentences: what stopped a conversation, where, and what its sender notices."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence
from datetime import datetime

from crossgate.core.conversation.opening import service_label
from crossgate.core.conversation.rules import Leg
from crossgate.core.conversation.story import CrossingStory, Outcome, Trace
from crossgate.core.conversation.verdict import VERDICTS, Verdict
from crossgate.core.model.accesslist import ClosedPlace, Decider, called, line_name
from crossgate.core.model.address import Address, Family
from crossgate.core.model.claim import Claim, Expectation
from crossgate.core.model.conditions import Limit, When, is_counted
from crossgate.core.model.entry import Action, Entry
from crossgate.core.model.network import Direction, PointKind
from crossgate.core.model.packet import Packet
from crossgate.core.model.plan import Plan
from crossgate.core.model.tls import VERSIONS, Hello
from crossgate.core.model.window import Window, is_past, last_day, of_window, open_at
from crossgate.core.network.nodes import MOST_WAYS
from crossgate.core.network.paths import Crossing

DOES = {Action.PERMIT: "permits", Action.DENY: "denies", Action.REJECT: "rejects"}


_ARRIVED = {
    1: "it arrives, and nobody answers such a message",
    2: "request and reply arrive",
    3: "SYN, SYN+ACK and ACK arrive",
    4: "SYN, SYN+ACK, ACK and data arrive",
    5: "SYN, SYN+ACK, ACK and the hellos of both arrive",
}
"""What is said of conversations of which every leg arrives, by how many these are."""


def sentence(trace: Trace) -> str:
    """Explain a verdict in one sentence."""
    return f"{trace.verdict}: {reason(trace)}"


def reason(trace: Trace) -> str:
    """Return the reason for a verdict without the verdict itself."""
    last = trace.legs[-1]
    leg = last.leg
    target = trace.conversation.destination.name
    first = trace.legs[0].leg
    if trace.strayed is not None:
        end = trace.strayed
        who = (
            f"{end.name}, who really has {end.address}"
            if end.name != str(end.address)
            else f"{end.address}, which nobody has"
        )
        if end.address == trace.conversation.source.address:
            who = end.name
        return (
            f"the {first} reaches {target}, but the {leg} goes to {who}, not to "
            f"{trace.conversation.source.name}"
        )
    if trace.verdict is Verdict.PERMITTED and last.path.on_link:
        return (
            "it arrives, and goes no further: nothing is routed to "
            f"{Address(last.packet.family, last.packet.destination)}"
        )
    if trace.verdict is Verdict.PERMITTED:
        return _ARRIVED[len(trace.legs)]
    reached = f"the {first} reaches {target}, but "
    if trace.verdict is Verdict.UNROUTABLE:
        way = "there is no way for it" if len(trace.legs) == 1 else f"there is no way for the {leg}"
        return (
            f"{reached if len(trace.legs) > 1 else ''}no list stops it, but {way}: "
            f"{last.path.reason}"
        ).replace("but no list stops it, but ", "but ")
    assert trace.decided is not None
    if trace.decided.again:
        settled = (
            "once the server has said what TLS it is to be"
            if leg is Leg.SERVER_HELLO
            else "once its data shows that it is no TLS"
        )
        return f"{reached}{settled}, {stopped(trace.decided)}"
    what = "it" if len(trace.legs) == 1 else f"the {leg}"
    return (reached if len(trace.legs) > 1 else "") + stopped(trace.decided, what)


def decision(trace: Trace) -> str:
    """Return which lines permitted a conversation, or which one denied it and where; "" where no
    list stands on its way.
    """
    if trace.differing is not None:
        return f"{trace.verdict} or {trace.differing.verdict}, with the path"
    if trace.decided is not None and trace.decided.decider is not None:
        back = "the answer, " if trace.legs[-1].leg.returns and not trace.decided.again else ""
        return f"{trace.decided.decider.name}, {back}{trace.decided.crossing.where}"
    if trace.verdict is Verdict.PERMITTED:
        return ", ".join(dict.fromkeys(decider.name for decider in trace.deciders()))
    return reason(trace)


def parting(trace: Trace, other: Trace) -> str:
    """Return where two ways of a conversation differ: the first device that only one of them
    passes, or a place.
    """
    pairs = list(zip(trace.legs, other.legs, strict=False))
    for one, two in (*pairs, *((two, one) for one, two in pairs)):
        apart = next(
            (device for device in one.path.devices if device not in two.path.devices), None
        )
        if apart is not None:
            return apart
    for one, two in pairs:
        place = next(
            (
                str(crossing.point)
                for crossing in one.path.crossings
                if crossing not in two.path.crossings
            ),
            None,
        )
        if place is not None:
            return place
    return trace.conversation.destination.name


def ways_note(trace: Trace) -> str:
    """Say whether all ways of a conversation have the same verdict; "" where there is only one
    path.
    """
    if trace.differing is not None:
        device = parting(trace.differing, trace)
        shown = "; --all-paths shows each way" if trace.ways <= MOST_WAYS else ""
        return (
            f"it varies with the path: by way of {device} it is {sentence(trace.differing)}{shown}"
        )
    if trace.ways > 1:
        shown = "; --all-paths shows them" if trace.ways <= MOST_WAYS else ""
        return f"{trace.ways:,} ways meet different lists, and on each it is {trace.verdict}{shown}"
    return "other paths are as good, and meet the same lists" if trace.forks else ""


def stopped(asked: CrossingStory, what: str = "it") -> str:
    """Say which list denied a packet, by which of its lines, and where."""
    assert asked.decider is not None
    return decided_by(asked.decider, asked.crossing, what)


def decided_by(decider: Decider, crossing: Crossing, what: str = "it") -> str:
    """Say how a list decides about a packet, by which of its lines, and where."""
    does = DOES[decider.action]
    way = "into" if crossing.direction is Direction.INBOUND else "out of"
    if crossing.direction is Direction.WITHIN:
        way = "within"
    elif crossing.point.kind is PointKind.HOST:
        way = "from" if crossing.direction is Direction.INBOUND else "to"
    if decider.entry is not None:
        return f"{decider.name} {does} {what} on the way {way} {crossing.point}"
    name = decider.access_list.name
    if isinstance(decider.access_list, ClosedPlace):
        return (
            f"{crossing.point} is closed: no {decider.access_list.label} list stands inbound "
            f"there, so {crossing.point.device} {does} {what}"
        )
    return (
        f"{called(name)} has no entry for {what}, so its otherwise "
        f"line {does} {what} on the way {way} {crossing.point}"
    )


def noticed(trace: Trace) -> str:
    """Say what the sender of a denied packet notices; "" for a conversation that works."""
    last = trace.legs[-1]
    back = last.leg.returns
    sender = trace.conversation.destination.name if back else trace.conversation.source.name
    if last.outcome is Outcome.REJECTED:
        code = (
            "ICMP type 3 code 13" if last.packet.family is Family.IPV4 else "ICMPv6 type 1 code 1"
        )
        told = f"{sender} is told at once: administratively prohibited ({code})"
        return (
            f"{told}; {trace.conversation.source.name} hears nothing and times out"
            if back
            else told
        )
    if trace.decided is not None and trace.decided.again:
        return f"{trace.conversation.source.name} is connected, and hears nothing more"
    if last.outcome is Outcome.DENIED or trace.strayed is not None:
        return f"{trace.conversation.source.name} hears nothing and times out"
    return ""


def packet_text(packet: Packet) -> str:
    """Write a packet in one line: its service, where from and where to."""
    source, destination = (
        Address(packet.family, packet.source),
        Address(packet.family, packet.destination),
    )
    port = "" if packet.source_port is None else f" port {packet.source_port}"
    return f"{service_label(packet)} from {source}{port} to {destination}"


def passed(trace: Trace) -> str:
    """Say which lines permitted the first packet of a conversation."""
    let_by = [
        decided_by(each.decider, each.crossing)
        for each in trace.legs[0].asked
        if each.decider is not None
    ]
    return " and ".join(let_by) if let_by else "no list stands on the way"


def why_broken(expectation: Expectation, trace: Trace) -> str:
    """Say why a traced conversation breaks an expectation."""
    by = expectation.by
    if trace.verdict is Verdict.PERMITTED and expectation.claim is not Claim.PERMIT:
        return passed(trace)
    if by is None or trace.verdict is not VERDICTS[expectation.claim]:
        return reason(trace)
    if expectation.claim is Claim.PERMIT:
        line = "its otherwise line" if by.entry is None else f"entry {by.entry}"
        return f"{line} of {by.access_list} has no part in it"
    asked = trace.decided
    assert asked is not None
    return f"{stopped(asked)}, not {line_name(by.access_list, by.entry)}"


def asked_at(plan: Plan, when: When, settles: bool = False) -> str:
    """Say for which time a question was asked, where the plan has windows, whether beyond every
    limit, and for which TLS. That it was asked without TLS is told where some answer depends on it
    (`settles`).
    """
    at = f"at {when.at:%a %Y-%m-%d %H:%M}" if plan.every_window else ""
    return ", ".join(
        filter(
            None,
            (
                at,
                "beyond every at most" if when.flooding else "",
                _spoken(plan, when.hello) if settles or when.hello is not None else "",
            ),
        )
    )


def open_windows(plan: Plan, moment: datetime, deciders: Iterable[Decider | None]) -> list[str]:
    """Return which windows are open at a moment, of those that the lists of some deciders use, or
    of all where these use none.
    """
    return sorted(open_at(_windows_met(plan, deciders), moment))


def _windows_met(plan: Plan, deciders: Iterable[Decider | None]) -> list[Window]:
    met = {name for each in deciders if each is not None for name in each.access_list.windows}
    return [each for name, each in plan.every_window.items() if name in met or not met]


def while_open(windows: Iterable[str], shut: Iterable[str] = ()) -> str:
    """Say that some windows are open and others closed; of last days, the first that is still to
    come and the last that is over.
    """
    opened, others = list(windows), list(shut)
    names = dict.fromkeys(filter(None, map(of_window, opened)))
    open_days, past = ([day for day in map(last_day, each) if day] for each in (opened, others))
    told = []
    if names:
        told.append(f"while {', '.join(names)} {'is' if len(names) == 1 else 'are'} open")
    elif not (open_days or past) or any(last_day(each) is None for each in others):
        told.append("while no window is open")
    told += [f"after {max(past)}"] if past else []
    told += [f"until {min(open_days)}"] if open_days else []
    return ", ".join(told)


def while_open_at(plan: Plan, moment: datetime, deciders: Iterable[Decider | None]) -> str:
    """Say which windows are open at a moment, of those that the lists of some deciders use, or of
    all where these use none.
    """
    met = _windows_met(plan, deciders)
    opened = open_at(met, moment)
    return while_open(sorted(opened), [each.name for each in met if each.name not in opened])


def speaking(plan: Plan, *hellos: Hello | None) -> str:
    """Return `when it speaks TLS 1.2 or no TLS` for some hellos, None being no TLS; with cipher
    suites where a list of the plan asks for any.
    """
    return f"when it speaks {' or '.join(dict.fromkeys(_spoken(plan, each) for each in hellos))}"


def _spoken(plan: Plan, hello: Hello | None) -> str:
    if hello is None:
        return "no TLS"
    return (
        str(hello)
        if plan.asks_for_suites
        else VERSIONS.get(hello.version, f"version {hello.version:#06x}")
    )


def limit_names(limits: Iterable[Limit]) -> list[str]:
    """Return rate limits, each with the line that it belongs to."""
    return [
        f"{line_name(each.access_list, each.entry)} ({each})"
        for each in sorted(limits, key=lambda each: (each.access_list, each.entry, each.rate))
    ]


def _stands(plan: Plan, name: str, at: datetime) -> str:
    """Say whether a window is open at a time, and whether its last day is over."""
    own, day = plan.windows.get(of_window(name)), last_day(name)
    told = []
    if own is not None:
        told.append(f"{own.name} ({own.text}) is {'open' if own.is_open(at) else 'shut'}")
    if day is not None:
        told.append(f"the last day, {day}, is {'over' if is_past(day, at) else 'not over'}")
    return " and ".join(told)


def time_note(trace: Trace, plan: Plan, when: When) -> str:
    """Say which conditions had a part in the verdict, and in which state they were taken; "" when
    none had.
    """
    names: dict[str, None] = {}
    limits: dict[Limit, None] = {}
    opened = open_at(plan.every_window.values(), when.at)
    for leg in trace.legs:
        for asked in leg.asked:
            if asked.access_list is None or asked.decider is None or asked.again:
                continue
            for entry in asked.access_list.entries:
                if entry.window is not None and not entry.off and entry.matches(leg.packet):
                    names.setdefault(entry.window)
                if (
                    entry.limit is not None
                    and entry.in_force(opened)
                    and entry.matches(leg.packet)
                    and is_counted(leg.packet)
                ):
                    limits.setdefault(entry.limit)
                if entry.number == asked.decider.number:
                    break
    notes = []
    if names:
        told = ", ".join(_stands(plan, name, when.at) for name in names)
        notes.append(f"at {when.at:%a %Y-%m-%d %H:%M} {told}")
    if limits:
        lines = ", ".join(
            f"{line_name(each.access_list, each.entry)} permits {each}" for each in limits
        )
        within = "this is within; --flood shows what is beyond"
        notes.append(f"{lines}: {'this is beyond' if when.flooding else within}")
    if any(
        entry.tls and entry.is_awake(opened) and entry.matches(trace.conversation.first)
        for entry in _entries_asked(trace)
    ):
        spoken = (
            "no TLS; --tls and --cipher ask about one that does"
            if when.hello is None
            else _spoken(plan, when.hello)
        )
        notes.append(f"it speaks {spoken}")
    return "; ".join(notes)


def first_of(names: Sequence[str], most: int = 5, between: str = ", ") -> str:
    """Return names in one line: the first of many, and the number of the others."""
    return between.join(
        [*names[:most], *([f"{len(names) - most} more"] if len(names) > most else [])]
    )


def _entries_asked(trace: Trace) -> Iterator[Entry]:
    """Yield the entries of every list that the opening packet met."""
    for asked in trace.legs[0].asked:
        if asked.access_list is not None:
            yield from asked.access_list.entries
