"""The documents of `replay`: verdicts with counts, what was stopped, and each line of the lists."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from typing import Literal, NotRequired, TypedDict

from crossgate.core.answers.list_replay import ListReplay
from crossgate.core.answers.replay import Replay
from crossgate.core.answers.sums import ConversationSort, Sum, UsedLine
from crossgate.core.conversation.verdict import Verdict
from crossgate.core.model.plan import Plan
from crossgate.core.model.tls import VERSIONS, suite_name
from crossgate.core.traffic.rates import Rates
from crossgate.formats.json.parts import (
    AskedListDocument,
    ListNameDocument,
    asked_list,
)
from crossgate.formats.readers.capture import ServerChoice
from crossgate.formats.readers.traffic import FileRead, hellos_of

_NOWHERE = "nowhere"
"""Stands for the verdict of what has no place in the plan."""


class FileDocument(TypedDict):
    """A file of traffic: what it is, how many rows it has, and what of it could not be used, as far
    as its kind has that. `first` are the numbers of the first frames that were not used, by why.
    """

    file: str
    kind: str
    rows: int
    not_ip: NotRequired[int]
    cut: NotRequired[int]
    damaged: NotRequired[int]
    first: NotRequired[dict[str, int]]
    broken: NotRequired[str | None]
    messages: NotRequired[int]
    missing: NotRequired[int]
    without_template: NotRequired[int]
    without_address: NotRequired[int]
    icmp_in_port: NotRequired[int]
    without_times: NotRequired[bool]


class SumDocument(TypedDict):
    """How much traffic of some kind there was."""

    conversations: int
    packets: int
    bytes: int


class SortDocument(AskedListDocument, SumDocument):
    """Traffic of one sort, the line that decides it, and where; `was` is the other verdict that it
    is compared with.
    """

    source: str
    destination: str
    service: str
    was: NotRequired[str]
    verdict: str
    entry: int | None
    action: NotRequired[str]
    line: NotRequired[int]
    point: str | None
    direction: str | None


class SaidDocument(TypedDict):
    """How the verdicts of a device, in a column of the traffic, agree with those of the plan."""

    column: str
    agrees: SumDocument
    differs: SumDocument
    not_told: SumDocument
    differing: list[SortDocument]


class UsedLineDocument(TypedDict):
    """How often a line decided; `beyond` are the packets beyond its rate, null without one."""

    entry: int | None
    legs: int
    packets: int
    beyond: int | None


class UsedListDocument(ListNameDocument):
    """How often each line of a list decided."""

    lines: list[UsedLineDocument]


class StretchLineDocument(ListNameDocument):
    """How often a line decided in a stretch of time."""

    entry: int | None
    legs: int
    packets: int


class _Stretch(TypedDict):
    verdicts: dict[str, SumDocument]
    lines: list[StretchLineDocument]


_From = TypedDict("_From", {"from": str})


class ReplayStretchDocument(_Stretch, _From):
    """What came in a stretch of time."""


class ByDocument(TypedDict):
    """What came when."""

    stretch: str
    stretches: list[ReplayStretchDocument]


class UserDocument(SumDocument):
    """Traffic that a line permitted."""

    source: str
    destination: str
    service: str


class UsersDocument(ListNameDocument):
    """The heaviest users of a line."""

    entry: int | None
    users: list[UserDocument]


class ChosenDocument(TypedDict):
    """The TLS that a server was seen to choose, so many times."""

    server: str
    port: int
    version: str
    suite: str
    hellos: int


class NoPlaceDocument(TypedDict):
    """An address that has no place in the plan."""

    address: str
    packets: int


class ReplayDocument(TypedDict):
    """What becomes of the conversations of some traffic; `not_permitted` are those that do not get
    through, `differing` those with another verdict in the plan `against`.
    """

    schema: Literal["crossgate/replay/1"]
    plan: str
    against: str | None
    files: list[FileDocument]
    entered: str | None
    zone: str
    first: str | None
    last: str | None
    seen_twice: int
    out_of_order: int
    verdicts: dict[str, SumDocument]
    on_link: SumDocument
    met_no_list: SumDocument
    unsettled: SumDocument
    differing: NotRequired[list[SortDocument]]
    not_permitted: NotRequired[list[SortDocument]]
    said: NotRequired[SaidDocument]
    lists: list[UsedListDocument]
    by: NotRequired[ByDocument]
    top_permitted: NotRequired[list[UsersDocument]]
    tls: list[ChosenDocument]
    no_place: list[NoPlaceDocument]


class CheckedListDocument(ListNameDocument):
    """What a list does with the packets of some traffic."""

    packets: int
    bytes: int
    other_family: int
    lines: list[UsedLineDocument]
    not_permitted: list[SortDocument]


class ListReplayDocument(TypedDict):
    """What lists do with the packets of some traffic, one by one."""

    schema: Literal["crossgate/replay/1"]
    plan: str
    files: list[FileDocument]
    point: str | None
    direction: str | None
    lists: list[CheckedListDocument]


def replay_document(
    replay: Replay,
    told: Sequence[FileRead],
    zone: str,
    where: str | None,
    verdict: str | None = None,
    users: int | None = None,
) -> ReplayDocument:
    """Return `crossgate/replay/1` for conversations; times are ISO 8601 on the wall clock of
    `zone`.

    `verdict` is the column with the decisions that a device reported, `users` how many of the
    heaviest users of each line are listed.
    """
    plan, other = replay.network.plan, replay.other
    first, last = (
        None if each is None else replay.clock.wall(each).isoformat()
        for each in (replay.sums.first, replay.sums.last)
    )
    document: ReplayDocument = {
        "schema": "crossgate/replay/1",
        "plan": plan.files[0],
        "against": None if other is None else other.network.plan.files[0],
        "files": [_file(each) for each in told],
        "entered": where,
        "zone": zone,
        "first": first,
        "last": last,
        "seen_twice": replay.again,
        "out_of_order": replay.backwards,
        "verdicts": {
            _verdict(verdict): _sum(each) for verdict, each in replay.sums.verdicts.items()
        },
        "on_link": _sum(replay.sums.on_link),
        "met_no_list": _sum(replay.sums.unmet),
        "unsettled": _sum(replay.sums.unsettled),
        "lists": [
            {"list": each.name, "lines": _lines(lines, replay.rates)}
            for each, lines in replay.lines()
        ],
        "tls": [_chosen(each, number) for each, number in sorted(hellos_of(told).items())],
        "no_place": [
            {"address": str(address), "packets": packets}
            for address, packets in sorted(replay.sums.nowhere.items())
        ],
    }
    if other is None:
        document["not_permitted"] = _sorts(replay.stopped(), compared=False)
    else:
        document["differing"] = _sorts(replay.stopped(), compared=True)
    if verdict is not None:
        said = replay.sums.said
        document["said"] = {
            "column": verdict,
            "agrees": _sum(said.agreeing),
            "differs": _sum(said.differing),
            "not_told": _sum(said.untold),
            "differing": _sorts(replay.said_otherwise(), compared=True),
        }
    if replay.by is not None:
        document["by"] = {
            "stretch": str(replay.by),
            "stretches": [
                {
                    "from": begins.isoformat(timespec="minutes"),
                    "verdicts": {_verdict(each): _sum(own) for each, own in one.verdicts.items()},
                    "lines": [
                        {
                            "list": decider.access_list.name,
                            "entry": decider.number,
                            "legs": legs,
                            "packets": packets,
                        }
                        for (number, place), (legs, packets) in sorted(one.lines.items())
                        for decider in [replay.decider(number, place)]
                    ],
                }
                for begins, one in sorted(replay.sums.stretches.items())
            ],
        }
    if users is not None:
        document["top_permitted"] = [
            {
                "list": decider.access_list.name,
                "entry": decider.number,
                "users": [
                    {
                        "source": str(sort.source),
                        "destination": str(sort.destination),
                        "service": sort.service,
                        **_sum(each),
                    }
                    for sort, each in _heaviest(sums)[:users]
                ],
            }
            for decider, sums in replay.used().items()
        ]
    return document


def list_replay_document(
    asked: Sequence[ListReplay], plan: Plan, told: Sequence[FileRead], place: tuple[str, str] | None
) -> ListReplayDocument:
    """Return `crossgate/replay/1` for packets that were checked against lists one by one, at a
    place where one is named.
    """
    return {
        "schema": "crossgate/replay/1",
        "plan": plan.files[0],
        "files": [_file(each) for each in told],
        "point": place[0] if place else None,
        "direction": place[1] if place else None,
        "lists": [
            {
                "list": each.access_list.name,
                "packets": each.packets,
                "bytes": each.octets,
                "other_family": each.foreign,
                "lines": _lines(each.lines(), each.rates),
                "not_permitted": _sorts(each.denied(), compared=False),
            }
            for each in asked
        ],
    }


def _file(told: FileRead) -> FileDocument:
    document: FileDocument = {"file": str(told.path), "kind": told.kind, "rows": told.rows}
    if told.capture is not None:
        document["not_ip"], document["cut"] = told.capture.other, told.capture.cut
        document["damaged"], document["first"] = told.capture.damaged, dict(told.capture.first)
        document["broken"] = told.capture.broken or None
    if told.messages is not None:
        document["messages"] = told.messages.messages
        document["missing"] = told.messages.missing
        document["without_template"] = told.messages.untold_sets
        document["broken"] = told.messages.broken or None
    if told.table is not None:
        document["without_address"] = told.table.empty
        document["icmp_in_port"] = told.table.icmp_in_port
        document["without_times"] = told.table.timeless
    return document


def _chosen(each: ServerChoice, number: int) -> ChosenDocument:
    version, suite = VERSIONS.get(each.version, f"0x{each.version:04x}"), suite_name(each.suite)
    return {
        "server": str(each.server),
        "port": each.port,
        "version": version,
        "suite": suite,
        "hellos": number,
    }


def _verdict(verdict: Verdict | None) -> str:
    return str(verdict) if verdict else _NOWHERE


def _sum(each: Sum) -> SumDocument:
    return {"conversations": each.conversations, "packets": each.packets, "bytes": each.octets}


def _heaviest(sums: Mapping[ConversationSort, Sum]) -> list[tuple[ConversationSort, Sum]]:
    """Return sorts with their sums, those with the most packets first."""
    return sorted(
        sums.items(), key=lambda item: (-item[1].packets, -item[1].conversations, str(item[0][:3]))
    )


def _sorts(sums: Mapping[ConversationSort, Sum], compared: bool) -> list[SortDocument]:
    found = []
    for sort, each in _heaviest(sums):
        own = asked_list(None if sort.decider is None else sort.decider.access_list)
        document: SortDocument = {
            "source": str(sort.source),
            "destination": str(sort.destination),
            "service": sort.service,
            "verdict": _verdict(sort.verdict),
            "list": own["list"],
            "entry": None if sort.decider is None else sort.decider.number,
            "point": None if sort.crossing is None else str(sort.crossing.point),
            "direction": None if sort.crossing is None else str(sort.crossing.direction),
            "conversations": each.conversations,
            "packets": each.packets,
            "bytes": each.octets,
        }
        if compared:
            document["was"] = _verdict(sort.was)
        if "closed" in own:
            document["closed"] = own["closed"]
        if sort.decider is not None:
            document["action"] = str(sort.decider.action)
            document["line"] = sort.decider.place.line
        found.append(document)
    return found


def _lines(lines: Iterable[UsedLine], rates: Rates) -> list[UsedLineDocument]:
    return [
        {
            "entry": each.decider.number,
            "legs": each.legs,
            "packets": each.packets,
            "beyond": None
            if each.decider.entry is None or each.decider.entry.limit is None
            else rates.beyond[each.decider.entry.limit],
        }
        for each in lines
    ]
