"""Sets of packets for people: what gets through, and what two plans treat differently."""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Iterator, Sequence

from crossgate.core.answers.difference import ComparedFate, Difference, ListDifference
from crossgate.core.answers.reach import Reached, ReachPart
from crossgate.core.conversation.rules import Decided
from crossgate.core.conversation.verdict import Verdict
from crossgate.core.model.accesslist import ClosedPlace, Decider
from crossgate.core.model.conditions import When
from crossgate.core.model.plan import Plan
from crossgate.core.sets.minimise import SetLine
from crossgate.core.wording.sentences import (
    asked_at,
    limit_names,
    packet_text,
    speaking,
    while_open_at,
)
from crossgate.core.wording.services import Sort
from crossgate.core.wording.sets import Wording
from crossgate.show.console import count, leading_word, name, quiet, strong, word
from crossgate.show.width import columns

MOST_LINES = 12
MOST_ROWS = 30
"""After so many lines no further difference is begun, unless all are to be shown or a caller has
room for fewer.
"""
MOST_PARTS = 20
"""Where more lines of lists stop something, they are named without what they stop."""
MOST_LETTERS = 160
"""Longer terms of a line are cut, unless all is to be shown."""
_HOW = {
    Verdict.HALF_OPEN: ", a later packet stopped",
    Verdict.VARIES: " with the path: stopped on some",
}


def reach_lines(
    plan: Plan,
    source: str,
    destination: str,
    when: When,
    found: Sequence[Reached],
    strays: bool,
    devices: bool,
    every: bool,
    source_ports: bool = False,
    settles: bool = False,
) -> Iterator[str]:
    """Yield what becomes of everything between two ends; devices' own addresses, and source ports
    that clients do not use, only where asked for. `settles` says that it depends on the TLS
    version.
    """
    wording = Wording(plan)
    sort = Sort.STRAY if strays else Sort.OPENING
    told = asked_at(plan, when, settles)
    what = "  packets that open no conversation" if strays else ""
    yield f"{strong(source)} to {strong(destination)}{what}{f'  {told}' if told else ''}"
    if not found:
        yield (
            f"  nothing is sent: no machine can have an address of {source} and send to one of "
            f"{destination}"
        )
    left_out: list[str] = []
    from_others: Counter[Verdict] = Counter()
    of_machines = {reached.family for reached in found if not reached.devices}
    for reached in found:
        if reached.devices and not devices and reached.family in of_machines:
            left_out.append(reached.family.label)
            continue
        yield ""
        yield reached.family.label + (
            ", to or from devices' own addresses" if reached.devices else ""
        )
        parts = reached.parts
        if not (source_ports or every or strays):
            from_others.update(each.verdict for each in parts if not _from_clients(plan, each))
            parts = [
                each._replace(lines=each.clients) for each in parts if _from_clients(plan, each)
            ]
        whole, rest = _told_whole(parts, every)
        remainder = None if every else _remainder(whole)
        for part in whole:
            yield f"  {_fate(part)}"
            if part is remainder or part.rest:
                yield "    everything else"
            elif not part.lines:
                yield quiet(f"    too many pieces to write; one packet: {packet_text(part.packet)}")
            else:
                yield from _written(wording, part.lines, sort, not reached.devices, every)
        for part in rest[:MOST_PARTS]:
            yield f"  {_fate(part)}"
        if rest:
            more = (
                f"and {count(len(rest) - MOST_PARTS, 'more line')} of lists that stop something; "
                if len(rest) > MOST_PARTS
                else ""
            )
            yield quiet(f"    {more}--all shows what each of them stops")
    if left_out:
        yield ""
        yield quiet(
            f"left out: what devices themselves send and get ({' and '.join(left_out)}); "
            "--devices shows it"
        )
    if from_others:
        fates = ", ".join(f"{number} {verdict}" for verdict, number in from_others.items())
        yield quiet(
            f"left out: {_from_other_ports(plan, from_others.total())} ({fates}); --source-ports "
            "shows them"
        )


def _from_clients(plan: Plan, part: ReachPart) -> bool:
    """Whether something of a part comes from client ports; in a part without lines, the example
    does if anything does.
    """
    first, last = plan.client_ports
    port = part.packet.source_port
    return bool(part.clients) or (not part.lines and (port is None or first <= port <= last))


def _from_other_ports(plan: Plan, number: int) -> str:
    first, last = plan.client_ports
    return (
        f"{count(number, 'set')} from source ports outside {first}-{last}, which clients do "
        "not choose"
    )


def _told_whole(parts: Sequence[ReachPart], every: bool) -> tuple[list[ReachPart], list[ReachPart]]:
    """Return the parts that are shown line by line, and those that are only named: where there are
    many that some list stops, those with the most are shown.
    """
    stopped = [part for part in parts if part.stop is not None]
    if every or len(stopped) <= MOST_PARTS:
        return list(parts), []
    by_size = sorted(stopped, key=lambda part: -sum(line.size for line in part.lines))
    return [part for part in parts if part.stop is None], by_size


def _remainder(parts: Sequence[ReachPart]) -> ReachPart | None:
    """Return the part that is everything except the other parts, where it is more than a line and
    is stopped by the otherwise line of one list only.
    """
    last = [part for part in parts if part.stop is not None and part.stop.decider.entry is None]
    if len(parts) > 1 and len(last) == 1 and parts[-1] is last[0] and len(last[0].lines) > 1:
        return last[0]
    return None


def _fate(part: ReachPart) -> str:
    verdict = word(part.verdict, bold=True)
    if part.stop is None:
        return verdict
    return f"{verdict}{_HOW.get(part.verdict, '')} {_decider(part.stop)}"


def _decider(stop: Decided) -> str:
    """Say which line decided where: `by kiosk-fence 30, inbound on lighthouse.v80 reject tcp/telnet
    any to any`, `at wall.dmz, closed`.
    """
    if isinstance(stop.decider.access_list, ClosedPlace):
        return f"at {stop.decider.name}"
    where = stop.crossing.where
    entry = stop.decider.entry
    return f"by {name(stop.decider.name)}, {where}" + (
        "" if entry is None else f"  {quiet(_cut(entry.text))}"
    )


def _written(
    wording: Wording,
    lines: Sequence[SetLine],
    sort: Sort,
    machines: bool,
    every: bool,
    rest: str = "",
) -> Iterator[str]:
    """Yield a set line by line: all of it, or its largest lines, each cut where it is long."""
    told = (
        lines
        if every or len(lines) <= 2 * MOST_LINES
        else sorted(lines, key=lambda each: -each.size)[:MOST_LINES]
    )
    rows = wording.rows(told, sort, machines)
    shown = rows if every else rows[:MOST_LINES]
    cells = ([service, f"{source} to {destination}"] for service, source, destination in shown)
    yield from columns(
        cells if every else ([_cut(cell) for cell in each] for each in cells), indent=4
    )
    left_out = len(lines) - len(told) + len(rows) - len(shown)
    if left_out:
        yield quiet(f"    and {count(left_out, 'more line')}; {rest or '--all shows them'}")
    elif not every and any(_cut(cell) != cell for each in shown for cell in each):
        yield quiet(
            f"    long ones are cut; {rest}" if rest else "    --all shows the long ones whole"
        )


def _cut(text: str) -> str:
    """Return a long text cut after a comma, with how much is left out."""
    if len(text) <= MOST_LETTERS:
        return text
    parts = re.split(r"(,(?! )|, | and )", text)  # the terms, and what stands between them
    kept = ""
    while parts and len(kept) + len(parts[0]) <= MOST_LETTERS:
        kept += "".join(parts[:2])
        parts = parts[2:]
    return (
        f"{kept.rstrip(', ').removesuffix(' and')} and {(len(parts) + 1) // 2} more"
        if kept
        else text[:MOST_LETTERS] + "..."
    )


def difference_lines(
    plan: Plan,
    found: Sequence[Difference],
    *,
    every: bool = False,
    source_ports: bool = False,
    most: int = MOST_ROWS,
    rest: str = "",
) -> Iterator[str]:
    """Yield traffic that is treated differently, in the words of the new plan, about a screenful of
    it.

    Conversations of clients between machines come first, and only they are shown where there are
    any. The rest is shown with `--all` and `--source-ports`, or as `rest` says where the command
    has no such options. With `source_ports`, differences that only concern other source ports are
    shown too; with `every`, all are.
    """
    wording = Wording(plan)
    clients = [each._replace(lines=each.clients) for each in found if each.clients]
    weighed = (
        [
            each
            for each in (found if source_ports else clients)
            if not each.stray and not each.devices
        ],
        [each for each in found if not each.stray and not each.devices],
        [each for each in found if not each.stray],
        list(found),
    )
    shown = list(found) if every else next(each for each in weighed if each)
    rows = told = 0
    for difference in shown:
        if rows >= most and not every:
            break
        told += 1
        lines = list(_difference(plan, wording, difference, every, rest))
        rows += len(lines)
        yield from lines
    more = [count(len(shown) - told, "more difference")] if told < len(shown) else []
    if not every and shown and not shown[0].stray:
        others = [each for each in found if not each.clients and each.devices is shown[0].devices]
        if others and not source_ports and shown[0].clients:
            more.append(
                _from_other_ports(plan, len(others)) + ("" if rest else " (--source-ports)")
            )
        more += (
            ["what devices themselves send and get"]
            if not shown[0].devices and any(each.devices for each in found)
            else []
        )
        more += ["packets that open no conversation"] if any(each.stray for each in found) else []
    if more:
        yield quiet(f"left out: {'; '.join(more)}; {rest or '--all shows all'}")


def _difference(
    plan: Plan, wording: Wording, difference: Difference, every: bool, rest: str
) -> Iterator[str]:
    """Yield one difference: the verdict before and after, for which packets, and one of them."""
    kind = "  packets that open no conversation" if difference.stray else ""
    kind += "  to or from a device itself" if difference.devices else ""
    moment = _when(plan, difference)
    yield f"{strong(difference.family.label)}{kind}{moment}"
    yield f"  was {_told(difference.was)}"
    yield f"  is  {_told(difference.now)}"
    sort = Sort.STRAY if difference.stray else Sort.OPENING
    yield from _written(wording, difference.lines, sort, not difference.devices, every, rest)
    yield quiet(f"    packet: {packet_text(difference.packet)}")


def _told(fate: ComparedFate) -> str:
    verdict = word(fate.verdict, bold=True)
    if fate.decided is None:
        return verdict + (
            "" if fate.verdict is Verdict.UNROUTABLE else ": no list stands in the way"
        )
    return f"{verdict}{_HOW.get(fate.verdict, '')} {_decider(fate.decided)}"


def list_difference_lines(
    plan: Plan, list_name: str, found: Sequence[ListDifference], every: bool = False
) -> Iterator[str]:
    """Yield the packets that two versions of a list treat differently."""
    wording = Wording(plan)
    for difference in found:
        moment = _when(plan, difference)
        yield f"list {strong(list_name)}{moment}"
        yield f"  was {_done(difference.was)}"
        yield f"  is  {_done(difference.now)}"
        yield from _written(wording, difference.lines, Sort.PACKET, machines=False, every=every)
        yield quiet(f"    packet: {packet_text(difference.packet)}")


def _done(decider: Decider) -> str:
    if decider.entry is None:
        return f"otherwise  {word(decider.action)}"
    return f"{decider.number}  {leading_word(decider.entry.text)}"


def _when(plan: Plan, difference: Difference | ListDifference) -> str:
    """Return in words when a difference holds, "" for always."""
    beyond = ""
    if difference.exceeded is not None:
        names = limit_names(difference.exceeded)
        beyond = f"  beyond {', '.join(names)}" if names else "  within every at most"
    spoken = "" if difference.spoken is None else f"  {speaking(plan, *difference.spoken)}"
    opened = (
        ""
        if difference.moment is None
        else f"  {while_open_at(plan, difference.moment, difference.deciders)}"
    )
    return opened + beyond + spoken
