"""Replayed traffic for people: what was read, the verdicts, what was stopped, and how often each
line of the lists decided.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping, Sequence
from typing import Any

from crossgate.core.answers.list_replay import ListReplay
from crossgate.core.answers.replay import Replay
from crossgate.core.answers.sums import Sum, UsedLine
from crossgate.core.conversation.verdict import Verdict
from crossgate.core.model.accesslist import AnyList, ClosedPlace
from crossgate.core.model.plan import Plan
from crossgate.core.model.scope import scope_of
from crossgate.core.model.tls import VERSIONS, suite_name
from crossgate.core.traffic.rates import Rates
from crossgate.formats.readers.names import TrafficColumn
from crossgate.formats.readers.traffic import FileRead, hellos_of
from crossgate.show.console import alert, count, leading_word, quiet, strong, word
from crossgate.show.kinds_seen import few_or_count, kind_lines, named_address, size, verdict_word
from crossgate.show.stretches import stretches_lines
from crossgate.show.width import columns


def replay_lines(
    replay: Replay,
    told: Sequence[FileRead],
    zone: str,
    where: str | None,
    top: int,
    verdict: str | None = None,
    users: int | None = None,
) -> Iterator[str]:
    """Yield the whole answer for one plan; with the name of the column of a device's decisions,
    also how these differ; with `users`, that many of the heaviest users of each line.
    """
    yield from read_lines(told, replay)
    yield from _when(replay, zone, where)
    yield ""
    yield from _verdicts(replay)
    plan = replay.network.plan
    stopped = replay.stopped()
    if stopped:
        yield ""
        yield strong("not permitted") + quiet(", by packets")
        yield from kind_lines(plan, stopped, top)
    if verdict is not None:
        yield ""
        yield from _said(replay, verdict, top)
    if replay.by is not None:
        yield ""
        yield from stretches_lines(replay, top)
    if users is not None:
        yield ""
        yield from _users(replay, users)
    yield from _nowhere(replay, top)
    yield from _tls(plan, told, top)
    yield from _lists(replay)


def _users(replay: Replay, top: int) -> Iterator[str]:
    """Yield the heaviest users of each permitting line."""
    yield strong("who uses what is permitted most") + quiet(", by packets, on the way there")
    for decider, sums in replay.used().items():
        action = "" if decider.entry is None else f"  {decider.entry.text}"
        yield f"  {decider.name}{quiet(action)}"
        yield from (f"  {line}" for line in kind_lines(replay.network.plan, sums, top, bare=True))


def _said(replay: Replay, column: str, top: int) -> Iterator[str]:
    """Yield how the plan's verdicts compare with the decisions that a device reported."""
    said = replay.sums.said
    yield strong("what the device decided") + quiet(f", by the column {column}")
    sums = {"agrees": said.agreeing, alert("differs"): said.differing, "not told": said.untold}
    yield from _sums({what: each for what, each in sums.items() if each.conversations})
    if said.differing.conversations:
        yield ""
        yield strong("device -> plan") + quiet(", by packets")
        yield from kind_lines(replay.network.plan, replay.said_otherwise(), top, compared=True)


def against_lines(
    replay: Replay, told: Sequence[FileRead], zone: str, where: str | None, top: int
) -> Iterator[str]:
    """Yield what another plan treats differently."""
    assert replay.other is not None
    yield from read_lines(told, replay)
    yield from _when(replay, zone, where)
    own, other = replay.network.plan.files[0], replay.other.network.plan.files[0]
    yield ""
    stopped = replay.stopped()
    if not stopped:
        yield f"everything seen fares in {other} as it does in {own}"
        return
    sums: dict[tuple[Verdict | None, Verdict | None], Sum] = {}
    for sort, each in stopped.items():
        sums.setdefault((sort.was, sort.verdict), Sum()).include(each)
    yield f"what fares otherwise in {other} than in {own}:"
    yield from _sums(
        {f"{verdict_word(was)} -> {verdict_word(now)}": each for (was, now), each in sums.items()}
    )
    yield ""
    yield from kind_lines(replay.other.network.plan, stopped, top, compared=True)


def list_replay_lines(
    asked: Sequence[ListReplay], plan: Plan, told: Sequence[FileRead], where: str, top: int
) -> Iterator[str]:
    """Yield what each of some lists decided, packet by packet."""
    yield from read_lines(told, None)
    for replay in asked:
        yield ""
        yield from _one_list(replay, plan, where, top)


def _one_list(replay: ListReplay, plan: Plan, where: str, top: int) -> Iterator[str]:
    yield (
        f"{count(replay.packets, 'packet')} asked of list "
        f"{strong(replay.access_list.name)}{where}, one by one"
    )
    if replay.foreign:
        yield quiet(
            f"  {count(replay.foreign, 'packet')} of the other address family "
            f"{_are(replay.foreign)} not asked"
        )
    yield from _list(replay.access_list, replay.lines(), replay.rates, legs=False)
    denied = replay.denied()
    if denied:
        yield ""
        yield strong("not permitted") + quiet(", by packets")
        yield from kind_lines(plan, denied, top)


def read_lines(told: Sequence[FileRead], replay: Replay | None) -> Iterator[str]:
    """Yield what was read of each file, and what of it could not be used."""
    for each in told:
        noun = "frame" if each.capture else "record"
        yield (
            f"{each.path}: {count(each.rows, noun)} "
            f"{quiet('(' + _WHAT.get(each.kind, each.kind + ' table') + ')')}"
        )
        yield from (f"  {line}" for line in _unused(each))
    if replay is not None and replay.again:
        yield (
            f"  {count(replay.again, 'packet')} {_were(replay.again)} seen twice within 10 ms, "
            "and count once"
        )
    if replay is not None and replay.backwards:
        yield alert(
            f"  {count(replay.backwards, 'row')} came after a later one: times run backwards"
        )


_WHAT = {"capture": "capture", "log": "lines of a log", "ipfix": "IPFIX messages"}
"""What files of a kind are, but for tables."""


def _unused(told: FileRead) -> Iterator[str]:
    if told.capture is not None:
        kinds = {
            "other": "carry no IP",
            "cut": "are captured too short to tell",
            "damaged": "have headers that contradict themselves",
        }
        for kind, what in kinds.items():
            number = getattr(told.capture, kind)
            if number:
                line = (
                    f"{count(number, 'frame')} {_agree(what, number)}; the first is frame "
                    f"{told.capture.first[kind]:,}"
                )
                yield line if kind == "other" else alert(line)
        if told.capture.broken:
            yield alert(f"reading ended before the file did, at {told.capture.broken}")
    if told.messages is not None:
        missing, sets = told.messages.missing, told.messages.untold_sets
        if missing:
            yield alert(
                f"{count(missing, 'record')} {_are(missing)} missing by the sequence numbers"
            )
        if sets:
            yield alert(
                f"{count(sets, 'data set')} came before {'its' if sets == 1 else 'their'} template"
            )
        if told.messages.broken:
            yield alert(f"reading ended before the file did, at {told.messages.broken}")
    if told.table is not None:
        table = told.table
        if table.empty:
            yield alert(
                f"{count(table.empty, 'record')} without an address {_are(table.empty)} left out"
            )
        if table.icmp_in_port:
            port = table.used[TrafficColumn.DESTINATION_PORT][0]
            yield quiet(
                f"{count(table.icmp_in_port, 'record')} of ICMP {_are(table.icmp_in_port)} taken "
                f"to have type and code in {port}"
            )
        if table.timeless:
            yield alert("no column has times: windows are judged as of now")


def _when(replay: Replay, zone: str, where: str | None) -> Iterator[str]:
    if replay.sums.first is not None and replay.sums.last is not None:
        first, last = (
            replay.clock.wall(each).isoformat(" ", "minutes")
            for each in (replay.sums.first, replay.sums.last)
        )
        yield f"from {first} to {last}, {zone}"
    yield quiet(
        f"every conversation came in at {where}"
        if where
        else "every conversation comes in where its source address sits"
    )


_UNSETTLED = "do not tell what TLS they speak, and pass the lists that ask"


def _verdicts(replay: Replay) -> Iterator[str]:
    found = {
        verdict_word(verdict): each
        for verdict, each in replay.sums.verdicts.items()
        if each.conversations
    }
    yield from _sums(found) if found else ["  no conversation"]
    for each, what in (
        (replay.sums.on_link, "stayed on their link"),
        (replay.sums.unmet, "met no list"),
        (replay.sums.unsettled, _UNSETTLED),
    ):
        if each.conversations:
            yield quiet(f"  {count(each.conversations, 'conversation')} of these {what}")


def _sums(sums: Mapping[str, Sum]) -> list[str]:
    """Return sums as lines, their numbers one below the other."""
    cells = [
        [
            count(each.conversations, "conversation"),
            count(each.packets, "packet"),
            size(each.octets),
        ]
        for each in sums.values()
    ]
    wide = [max(len(cell.split()[0]) for cell in column) for column in zip(*cells, strict=True)]
    padded = [
        [" " * (width - len(cell.split()[0])) + cell for cell, width in zip(row, wide, strict=True)]
        for row in cells
    ]
    return columns([[told, *row] for told, row in zip(sums, padded, strict=True)], indent=2)


def _lists(replay: Replay) -> Iterator[str]:
    """Yield the lists that some traffic met, their entries that decided nothing, and the other
    lists.
    """
    met = [
        (access_list, lines)
        for access_list, lines in replay.lines()
        if any(line.legs for line in lines)
    ]
    idle = [
        each.name
        for each, lines in replay.lines()
        if not isinstance(each, ClosedPlace) and not any(line.legs for line in lines)
    ]
    if met:
        yield ""
        yield strong("lists") + quiet(
            ": how many legs of conversations each line decided, and their packets"
        )
    for access_list, lines in met:
        yield f"{'' if isinstance(access_list, ClosedPlace) else 'list '}{strong(access_list.name)}"
        yield from _list(access_list, lines, replay.rates)
    never = [
        line.decider.name
        for _, lines in met
        for line in lines
        if not line.legs and line.decider.entry and not line.decider.entry.off
    ]
    for names, what in (
        (never, "entries that decided nothing"),
        (idle, "lists that nothing came to"),
    ):
        if names:
            yield ""
            yield f"{strong(what)}: {', '.join(names)}"


def _list(
    access_list: AnyList[Any], lines: Iterable[UsedLine], rates: Rates, legs: bool = True
) -> Iterator[str]:
    rows = []
    for decider, decided, packets in lines:
        entry = decider.entry
        text = leading_word(entry.text) if entry else word(access_list.otherwise.action)
        if entry is not None and entry.limit is not None:
            text += (
                alert(f"  {rates.beyond[entry.limit]:,} beyond")
                if rates.beyond[entry.limit]
                else quiet("  none beyond")
            )
        numbers = [f"{decided:>7,}"] * legs + [f"{packets:>9,}"]
        rows.append(
            [
                str(entry.number) if entry else "otherwise",
                *(numbers if decided else map(quiet, numbers)),
                text,
            ]
        )
    yield from columns(rows, indent=2)


def _nowhere(replay: Replay, top: int) -> Iterator[str]:
    if not replay.sums.nowhere:
        return
    ordered = sorted(replay.sums.nowhere.items(), key=lambda item: (-item[1], item[0]))
    told = {
        f"{strong('addresses that no subnet and no outside has')}, by packets": False,
        f"{strong('addresses that machines of any link may have')}, by packets; --from POINT says "
        "where they came in": True,
    }
    for head, any_link in told.items():
        own = [each for each in ordered if (scope_of(each[0]) is not None) is any_link]
        if not own:
            continue
        yield ""
        yield head
        yield from columns([[f"{packets:>7,}", str(each)] for each, packets in own[:top]], indent=2)
        if len(own) > top:
            yield quiet(f"  and {count(len(own) - top, 'more address', 'more addresses')}")


def _tls(plan: Plan, told: Iterable[FileRead], top: int) -> Iterator[str]:
    """Yield what servers chose in TLS, servers with equal choices as one."""
    alike: dict[tuple[int, int, int], dict[str, int]] = {}
    for (server, port, version, suite), number in sorted(hellos_of(told).items()):
        servers, name = alike.setdefault((port, version, suite), {}), named_address(plan, server)
        servers[name] = servers.get(name, 0) + number
    if not alike:
        return
    yield ""
    yield strong("TLS") + quiet(": what servers chose, by their hellos")
    rows = []
    for (port, version, suite), servers in sorted(
        alike.items(), key=lambda item: -sum(item[1].values())
    ):
        chosen = [VERSIONS.get(version, f"0x{version:04x}"), suite_name(suite)]
        rows.append(
            [
                f"{sum(servers.values()):>7,}",
                few_or_count(servers, "servers"),
                f"tcp/{port}",
                *chosen,
            ]
        )
    yield from columns(rows[:top], indent=2)
    if len(rows) > top:
        yield quiet(f"  and {count(len(rows) - top, 'more line')}; --top N shows more")


def _are(number: int) -> str:
    return "is" if number == 1 else "are"


def _were(number: int) -> str:
    return "was" if number == 1 else "were"


def _agree(what: str, number: int) -> str:
    return (
        what.replace("carry", "carries")
        .replace("are ", "is ")
        .replace("have", "has")
        .replace("themselves", "itself")
        if number == 1
        else what
    )
