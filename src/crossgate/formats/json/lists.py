"""The document of `lists`: lists as they are read, with what their names stand for."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from datetime import datetime
from typing import Any, Literal, NotRequired, TypedDict

from crossgate.core.answers.why import Why
from crossgate.core.lists.taken import Taken
from crossgate.core.model.accesslist import AccessList, AnyList
from crossgate.core.model.dated import dated
from crossgate.core.model.entry import AnyEntry, Entry
from crossgate.core.model.ethernet import EthernetEntry, Stations, format_mac
from crossgate.core.model.network import PointKind
from crossgate.core.model.plan import Plan
from crossgate.core.model.window import is_past, of_window, open_at
from crossgate.core.sets.minimise import fewest_lines
from crossgate.core.wording.list_sentences import list_sentences
from crossgate.core.wording.services import Sort
from crossgate.core.wording.sets import Wording
from crossgate.formats.json.parts import (
    DeciderDocument,
    ListNameDocument,
    PacketDocument,
    PlanLineDocument,
    ServiceLineDocument,
    TlsDocument,
    decider_document,
    lines_document,
    packet_document,
    tls_document,
)
from crossgate.formats.json.trace import PassedDocument, passed_document


class WordsDocument(TypedDict):
    """A line of a list as a sentence, where sentences are wanted."""

    words: NotRequired[str]


class PlacedDocument(TypedDict):
    """Where a list stands, and which hosts or points that is."""

    point: str
    direction: str
    line: int
    hosts: list[str]
    points: list[str]


class AtMostDocument(TypedDict):
    """The rate up to which an entry permits."""

    count: int
    seconds: int
    each_source: bool


class TakerDocument(TypedDict):
    """What an entry above takes from an entry."""

    by: int
    action: str
    lines: list[ServiceLineDocument]


class TakenDocument(TypedDict):
    """What lines above take from an entry, and whether anything is left for it."""

    left: bool
    parts: list[TakerDocument]


class AsksDocument(TypedDict):
    """The packets that an entry is about; for one about frames the service is an EtherType."""

    service: list[str]
    source: list[str]
    destination: list[str]


_Owner = TypedDict("_Owner", {"for": str})


class EntryDocument(AsksDocument, WordsDocument, _Owner):
    """An entry as it was read; `for` is who answers for it."""

    entry: int
    action: str
    text: str
    conditions: list[str]
    during: str | None
    until: str | None
    at_most: AtMostDocument | None
    tls: TlsDocument | None
    off: bool
    in_force: bool
    log: bool
    comment: str
    line: int
    taken: NotRequired[TakenDocument]


class OtherwiseDocument(WordsDocument):
    """The otherwise line of a list, and whether it is written."""

    action: str
    written: bool
    line: int


class ListDocument(ListNameDocument, _Owner):
    """A list as it was read; `for` is who answers for it."""

    kind: str
    family: int | None
    about: str
    until: str | None
    line: int
    placed: Sequence[PlacedDocument]
    entries: Sequence[EntryDocument]
    otherwise: OtherwiseDocument


class ListsDocument(TypedDict):
    """Lists as they were read, with what their names stand for."""

    schema: Literal["crossgate/lists/1"]
    plan: str
    at: str
    lists: list[ListDocument]


class WhyPacketDocument(TypedDict):
    """A packet, the entries that it passes, and the line that decides."""

    packet: PacketDocument
    passed: list[PassedDocument]
    decided: DeciderDocument


class WhyListDocument(ListNameDocument):
    """What a list does with packets, and why."""

    packets: list[WhyPacketDocument]


class WhyDocument(TypedDict):
    """What lists do with packets, and why."""

    schema: Literal["crossgate/why/1"]
    plan: str
    lists: list[WhyListDocument]


class DatedLineDocument(PlanLineDocument, ListNameDocument, _Owner):
    """A line with a last day, and whether that is over; `for` is who answers for it."""

    until: str
    over: bool
    entry: int | None


class DatesDocument(TypedDict):
    """The lines of a plan with a last day, the earliest first."""

    schema: Literal["crossgate/dates/1"]
    plan: str
    at: str
    lines: list[DatedLineDocument]


def lists_document(
    plan: Plan,
    at: datetime,
    lists: Iterable[AnyList[Any]],
    taken: Mapping[str, Mapping[int, Taken]],
    worded: Mapping[str, Mapping[int, Taken]],
) -> ListsDocument:
    """Return `crossgate/lists/1`: lists as they are read, with what their names stand for. For
    lists in `taken`, what lines above take from each entry; for those in `worded`, also sentences.
    """
    opened = open_at(plan.every_window.values(), at)
    return {
        "schema": "crossgate/lists/1",
        "plan": plan.files[0],
        "at": at.isoformat(),
        "lists": [
            _list(plan, each, opened, taken.get(each.name), worded.get(each.name)) for each in lists
        ],
    }


def _list(
    plan: Plan,
    access_list: AnyList[Any],
    opened: frozenset[str],
    taken: Mapping[int, Taken] | None,
    worded: Mapping[int, Taken] | None,
) -> ListDocument:
    wording = None if taken is None else Wording(plan)
    sentences: dict[int | None, str] = (
        {}
        if worded is None
        else {each.number: each.text for each in list_sentences(plan, access_list, worded)}
    )
    otherwise: OtherwiseDocument = {
        "action": str(access_list.otherwise.action),
        "written": access_list.otherwise.written,
        "line": access_list.otherwise.place.line,
    }
    if None in sentences:
        otherwise["words"] = sentences[None]
    return {
        "list": access_list.name,
        "kind": str(access_list.kind),
        "family": int(access_list.family) if isinstance(access_list, AccessList) else None,
        "about": access_list.about,
        "until": None if access_list.until is None else str(access_list.until),
        "for": access_list.owner,
        "line": access_list.place.line,
        "placed": [
            {
                "point": str(placement.point),
                "direction": str(placement.direction),
                "line": placement.place.line,
                "hosts": [
                    each.owner for each in plan.hosts_at(placement) if each.kind is PointKind.HOST
                ],
                "points": [
                    str(each)
                    for each in plan.hosts_at(placement)
                    if each.kind is not PointKind.HOST
                ],
            }
            for placement in plan.every_placement
            if placement.access_list == access_list.name
        ],
        "entries": [
            _entry(access_list, entry, opened, wording, taken or {}, sentences)
            for entry in access_list.entries
        ],
        "otherwise": otherwise,
    }


def _entry(
    access_list: AnyList[Any],
    entry: AnyEntry,
    opened: frozenset[str],
    wording: Wording | None,
    taken: Mapping[int, Taken],
    sentences: Mapping[int | None, str],
) -> EntryDocument:
    asks = _asks(access_list, entry)
    document: EntryDocument = {
        "entry": entry.number,
        "action": str(entry.action),
        "text": entry.text,
        "service": asks["service"],
        "source": asks["source"],
        "destination": asks["destination"],
        "conditions": [str(each) for each in entry.conditions],
        "during": of_window(entry.window or "") or None,
        "until": None if entry.until is None else str(entry.until),
        "for": entry.owner,
        "at_most": None
        if entry.limit is None
        else {
            "count": entry.limit.most,
            "seconds": entry.limit.seconds,
            "each_source": entry.limit.each_source,
        },
        "tls": None if entry.tls is None else tls_document(entry.tls),
        "off": entry.off,
        "in_force": entry.is_awake(opened),
        "log": entry.log,
        "comment": entry.comment,
        "line": entry.place.line,
    }
    if wording is not None:
        document["taken"] = _taken(wording, taken.get(entry.number))
    if entry.number in sentences:
        document["words"] = sentences[entry.number]
    return document


def _taken(wording: Wording, taken: Taken | None) -> TakenDocument:
    """Return what lines above take from an entry, and whether something is left for it."""
    parts = () if taken is None else taken.parts
    return {
        "left": taken is None or taken.left,
        "parts": [
            {
                "by": each.taker.number,
                "action": str(each.taker.action),
                "lines": lines_document(wording, fewest_lines(each.packets), Sort.PACKET),
            }
            for each in parts
        ],
    }


def _asks(access_list: AnyList[Any], entry: AnyEntry) -> AsksDocument:
    """Return what an entry is for; for an entry about frames, the service is what these carry, as
    an EtherType.
    """
    if isinstance(access_list, AccessList) and isinstance(entry, Entry):
        return {
            "service": [term.text(access_list.family) for term in entry.service.terms],
            "source": [str(pattern) for pattern in entry.source.patterns],
            "destination": [str(pattern) for pattern in entry.destination.patterns],
        }
    assert isinstance(entry, EthernetEntry)
    carried = "any" if entry.ethertype is None else f"0x{entry.ethertype:04x}"
    return {
        "service": [carried],
        "source": _stations(entry.source),
        "destination": _stations(entry.destination),
    }


def _stations(stations: Stations) -> list[str]:
    return [
        format_mac(value) + (f" wild {format_mac(wildcard)}" if wildcard else "")
        for value, wildcard in stations.patterns
    ]


def why_document(plan: Plan, found: Sequence[tuple[AnyList[Any], Sequence[Why]]]) -> WhyDocument:
    """Return `crossgate/why/1`: for each list and packet the entries that it passes, with the field
    that does not match, and the line that decides.
    """
    return {
        "schema": "crossgate/why/1",
        "plan": plan.files[0],
        "lists": [
            {
                "list": access_list.name,
                "packets": [
                    {
                        "packet": packet_document(each.packet),
                        "passed": passed_document(each),
                        "decided": decider_document(each.decider),
                    }
                    for each in several
                ],
            }
            for access_list, several in found
        ],
    }


def dated_document(plan: Plan, at: datetime) -> DatesDocument:
    """Return `crossgate/dates/1`: the lines of a plan with a last day, the earliest first, and
    whether it is over at a time.
    """
    return {
        "schema": "crossgate/dates/1",
        "plan": plan.files[0],
        "at": at.isoformat(timespec="minutes"),
        "lines": [
            {
                "until": str(each.until),
                "over": is_past(each.until, at),
                "file": each.place.file,
                "line": each.place.line,
                "list": each.access_list,
                "entry": each.entry,
                "text": each.text,
                "for": each.owner,
            }
            for each in dated(plan)
        ],
    }
