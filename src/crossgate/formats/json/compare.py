"""The documents of `compare`: what two plans, or two versions of a list, treat differently."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from typing import Literal, TypedDict

from crossgate.core.answers.difference import ComparedFate, Difference, ListDifference
from crossgate.core.model.errors import PlanError
from crossgate.core.model.plan import Plan
from crossgate.core.wording.sentences import limit_names, open_windows
from crossgate.core.wording.services import Sort
from crossgate.core.wording.sets import Wording
from crossgate.formats.json.parts import (
    DecidedDocument,
    DeciderDocument,
    HelloDocument,
    ListNameDocument,
    PacketDocument,
    ServiceLineDocument,
    decided_document,
    decider_document,
    hello_document,
    lines_document,
    packet_document,
)


class FateDocument(TypedDict):
    """What becomes of conversations in one plan, and the line that decides it."""

    verdict: str
    decided: DecidedDocument | None


class _WhenItIsSo(TypedDict):
    """When a difference is there; null for always. `exceeded` are the rate limits that have to be,
    `spoken` the sorts of TLS.
    """

    at: str | None
    windows: list[str] | None
    exceeded: list[str] | None
    spoken: list[HelloDocument | None] | None


class _Difference(_WhenItIsSo):
    family: int
    opens: bool
    devices: bool
    lines: list[ServiceLineDocument]
    clients: list[ServiceLineDocument]
    packet: PacketDocument


_Fates = TypedDict("_Fates", {"was": FateDocument, "is": FateDocument})
_Deciders = TypedDict("_Deciders", {"was": DeciderDocument, "is": DeciderDocument})


class DifferenceDocument(_Difference, _Fates):
    """Traffic that two plans treat differently, with a packet of it; `clients` is the part from
    client ports.
    """


class _ListDifference(_WhenItIsSo):
    family: int
    lines: list[ServiceLineDocument]
    packet: PacketDocument


class ListDifferenceDocument(_ListDifference, _Deciders):
    """Packets that two versions of a list treat differently, with one of them."""


class CompareDocument(ListNameDocument):
    """All that two plans treat differently."""

    schema: Literal["crossgate/compare/1"]
    plan: str
    against: str
    differences: list[DifferenceDocument]
    unanswered: list[str]


class CompareListsDocument(ListNameDocument):
    """All that two versions of a list treat differently."""

    schema: Literal["crossgate/compare/1"]
    plan: str
    against: str
    differences: list[ListDifferenceDocument]


def compare_document(
    was: str, new: Plan, found: Sequence[Difference], missed: Iterable[PlanError] = ()
) -> CompareDocument:
    """Return `crossgate/compare/1`: all traffic that two plans treat differently; empty when there
    is none. `was` names the old plan.
    """
    return {
        "schema": "crossgate/compare/1",
        "plan": was,
        "against": new.files[0],
        "list": None,
        "differences": differences_document(new, found),
        "unanswered": [error.message for error in missed],
    }


def differences_document(plan: Plan, found: Sequence[Difference]) -> list[DifferenceDocument]:
    """Return differences in traffic, in the words of a plan."""
    wording = Wording(plan)
    return [
        {
            "family": int(each.family),
            "opens": not each.stray,
            "devices": each.devices,
            "at": each.moment.isoformat() if each.moment else None,
            "windows": None
            if each.moment is None
            else open_windows(plan, each.moment, each.deciders),
            "exceeded": None if each.exceeded is None else limit_names(each.exceeded),
            "spoken": None if each.spoken is None else [hello_document(one) for one in each.spoken],
            "was": _fate(each.was),
            "is": _fate(each.now),
            "lines": lines_document(
                wording, each.lines, Sort.STRAY if each.stray else Sort.OPENING, not each.devices
            ),
            "clients": lines_document(
                wording, each.clients, Sort.STRAY if each.stray else Sort.OPENING, not each.devices
            ),
            "packet": packet_document(each.packet),
        }
        for each in found
    ]


def compare_lists_document(
    was: str, new: Plan, name: str, found: Sequence[ListDifference]
) -> CompareListsDocument:
    """Return `crossgate/compare/1` for one list of two plans."""
    wording = Wording(new)
    return {
        "schema": "crossgate/compare/1",
        "plan": was,
        "against": new.files[0],
        "list": name,
        "differences": [
            {
                "family": int(new.lists[name].family),
                "at": each.moment.isoformat() if each.moment else None,
                "windows": None
                if each.moment is None
                else open_windows(new, each.moment, each.deciders),
                "exceeded": None if each.exceeded is None else limit_names(each.exceeded),
                "spoken": None
                if each.spoken is None
                else [hello_document(one) for one in each.spoken],
                "was": decider_document(each.was),
                "is": decider_document(each.now),
                "lines": lines_document(wording, each.lines, Sort.PACKET),
                "packet": packet_document(each.packet),
            }
            for each in found
        ],
    }


def _fate(fate: ComparedFate) -> FateDocument:
    return {"verdict": str(fate.verdict), "decided": decided_document(fate.decided)}
