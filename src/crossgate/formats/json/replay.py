"""The documents of `replay`: verdicts with counts, what was stopped, and each line of the lists."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence

from crossgate.core.answers.list_replay import ListReplay
from crossgate.core.answers.replay import Replay
from crossgate.core.answers.sums import Line, Sort, Sum
from crossgate.core.conversation.verdict import Verdict
from crossgate.core.model.plan import Plan
from crossgate.core.model.tls import VERSIONS, suite_name
from crossgate.core.traffic.rates import Rates
from crossgate.formats.json.parts import Document, asked_list, decider_document
from crossgate.formats.readers.capture import Chosen
from crossgate.formats.readers.traffic import Told, hellos_of

_NOWHERE = "nowhere"
"""Stands for the verdict of what has no place in the plan."""


_NOT_OF_USERS = ("verdict", "list", "entry", "action", "line", "point", "direction", "placed")
"""What sorts have that is the same for all users of a line."""


def replay_document(
    replay: Replay,
    told: Sequence[Told],
    zone: str,
    where: str | None,
    verdict: str | None = None,
    users: int | None = None,
) -> Document:
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
    document: Document = {
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
    }
    document["differing" if other else "not_permitted"] = _sorts(replay.stopped(), bool(other))
    if verdict is not None:
        said = replay.sums.said
        document["said"] = {
            "column": verdict,
            "agrees": _sum(said.agreeing),
            "differs": _sum(said.differing),
            "not_told": _sum(said.untold),
            "differing": _sorts(replay.said_otherwise(), compared=True),
        }
    document["lists"] = [
        {"list": each.name, "lines": _lines(lines, replay.rates)} for each, lines in replay.lines()
    ]
    if replay.by is not None:
        document["by"] = {
            "stretch": str(replay.by),
            "stretches": [
                {
                    "from": begins.isoformat(timespec="minutes"),
                    "verdicts": {_verdict(each): _sum(own) for each, own in one.verdicts.items()},
                    "lines": [
                        {"list": decider.access_list.name, "entry": decider.number}
                        | {"legs": legs, "packets": packets}
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
                    {what: each[what] for what in each if what not in _NOT_OF_USERS}
                    for each in _sorts(sums, compared=False)[:users]
                ],
            }
            for decider, sums in replay.used().items()
        ]
    document["tls"] = [_chosen(each, number) for each, number in sorted(hellos_of(told).items())]
    document["no_place"] = [
        {"address": str(address), "packets": packets}
        for address, packets in sorted(replay.sums.nowhere.items())
    ]
    return document


def list_replay_document(
    asked: Sequence[ListReplay], plan: Plan, told: Sequence[Told], place: tuple[str, str] | None
) -> Document:
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


def _file(told: Told) -> Document:
    document: Document = {"file": str(told.path), "kind": told.kind, "rows": told.rows}
    if told.capture is not None:
        document |= {
            "not_ip": told.capture.other,
            "cut": told.capture.cut,
            "damaged": told.capture.damaged,
        }
        document |= {"first": dict(told.capture.first), "broken": told.capture.broken or None}
    if told.messages is not None:
        document |= {
            "messages": told.messages.messages,
            "missing": told.messages.missing,
            "without_template": told.messages.untold_sets,
            "broken": told.messages.broken or None,
        }
    if told.table is not None:
        document |= {
            "without_address": told.table.empty,
            "icmp_in_port": told.table.icmp_in_port,
            "without_times": told.table.timeless,
        }
    return document


def _chosen(each: Chosen, number: int) -> Document:
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


def _sum(each: Sum) -> Document:
    return {"conversations": each.conversations, "packets": each.packets, "bytes": each.octets}


def _sorts(sums: Mapping[Sort, Sum], compared: bool) -> list[Document]:
    found = []
    for sort, each in sorted(
        sums.items(), key=lambda item: (-item[1].packets, -item[1].conversations, str(item[0][:3]))
    ):
        document: Document = {
            "source": str(sort.source),
            "destination": str(sort.destination),
            "service": sort.service,
        }
        if compared:
            document["was"] = _verdict(sort.was)
        document["verdict"] = _verdict(sort.verdict)
        document |= asked_list(None if sort.decider is None else sort.decider.access_list)
        document |= {"entry": None} if sort.decider is None else decider_document(sort.decider)
        document["point"] = None if sort.crossing is None else str(sort.crossing.point)
        document["direction"] = None if sort.crossing is None else str(sort.crossing.direction)
        found.append(document | _sum(each))
    return found


def _lines(lines: Iterable[Line], rates: Rates) -> list[Document]:
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
