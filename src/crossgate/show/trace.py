"""A traced conversation for people: a line a crossing, then the verdict in one sentence."""

from __future__ import annotations

from collections.abc import Iterator
from datetime import datetime

from rich.console import RenderableType
from rich.text import Text

from crossgate.core.opening import service_label
from crossgate.core.plan import Plan
from crossgate.core.trace import Asked, LegTrace, Trace
from crossgate.core.window import open_at
from crossgate.show.console import QUIET, STRONG, STYLES, columns, word
from crossgate.core.explain import noticed, reason


def lines(trace: Trace, plan: Plan, at: datetime) -> Iterator[RenderableType]:
    """Yield a trace as lines and tables."""
    conversation = trace.conversation
    source, destination = conversation.source, conversation.destination
    head = Text()
    head.append(f"{service_label(conversation.first)}  ", STRONG)
    head.append(f"{source.name} ", STRONG).append(_address(source.name, str(source.address)))
    head.append("to ").append(f"{destination.name} ", STRONG).append(_address(destination.name, str(destination.address)))
    head.append(conversation.first.family.label)
    if conversation.claimed is not None:
        head.append(f", sent with the source address {conversation.claimed}")
    yield head
    rows = [row for leg in trace.legs for row in _leg(leg)]
    yield columns(rows, indent=2)
    verdict = word(trace.verdict)
    verdict.stylize(STRONG)
    yield Text("  ").append_text(verdict).append(f": {reason(trace)}")
    for text in (noticed(trace), time_note(trace, plan, at), _fork_note(trace)):
        if text:
            yield Text(f"  {text}")


def _address(name: str, address: str) -> str:
    return "" if name == address else f"({address}) "


def _leg(leg: LegTrace) -> Iterator[list[str | Text]]:
    if not leg.asked:
        yield [Text(leg.leg), Text("crosses no place where a list could stand", QUIET)]
    for number, asked in enumerate(leg.asked):
        yield [Text(leg.leg if number == 0 else ""), str(asked.crossing.point), str(asked.crossing.direction), *_asked(asked)]
    if not leg.path.arrived and all(asked.permits for asked in leg.asked):
        yield ["", Text("no way", STYLES["unroutable"]), "", "", "", Text(leg.path.reason)]


def _asked(asked: Asked) -> list[str | Text]:
    if asked.access_list is None:
        return [Text("no list", QUIET), "", ""]
    if asked.decision is None:
        return [asked.access_list.name, "", Text("not asked: the device remembers the conversation", QUIET)]
    decision = asked.decision
    text = Text()
    if decision.entry is not None:
        first, _, rest = decision.entry.text.partition(" ")
        text.append_text(word(first)).append(f" {rest}")
        return [asked.access_list.name, str(decision.entry.number), text]
    written = "" if asked.access_list.otherwise.written else "  (not written)"
    return [asked.access_list.name, "otherwise", text.append_text(word(decision.action)).append(written, QUIET)]


def time_note(trace: Trace, plan: Plan, at: datetime) -> str:
    """Say which windows had a part in the verdict, and at which time it was asked; "" when none had."""
    names: dict[str, None] = {}
    for leg in trace.legs:
        for asked in leg.asked:
            if asked.access_list is None or asked.decision is None:
                continue
            for entry in asked.access_list.entries:
                if entry.window is not None and not entry.off and entry.matches(leg.packet):
                    names.setdefault(entry.window)
                if entry is asked.decision.entry:
                    break
    if not names:
        return ""
    opened = open_at(plan.windows.values(), at)
    states = ", ".join(f"{name} ({plan.windows[name].text}) is {'open' if name in opened else 'shut'}" for name in names)
    return f"at {at:%a %Y-%m-%d %H:%M} {states}"


def _fork_note(trace: Trace) -> str:
    return "other paths are as short; --all-paths traces each" if trace.forks else ""
