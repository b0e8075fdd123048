"""The document of `sheet`."""

from __future__ import annotations

from typing import Literal, NotRequired, TypedDict

from crossgate.core.answers.sheet import NotShown, Sheet, SheetReason, SheetRow
from crossgate.core.answers.sheet.results import Judged
from crossgate.core.answers.sheet.words import command_line, least_count, note_of, plain_words
from crossgate.core.conversation.opening import service_of
from crossgate.core.model.accesslist import DeciderKey
from crossgate.core.model.plan import Plan
from crossgate.formats.json.parts import (
    EndsDocument,
    ListNameDocument,
    WhenDocument,
    endpoint_document,
    when_document,
)


class EntryLineDocument(ListNameDocument):
    """A line of a list; `entry` is null for the otherwise line."""

    entry: int | None


class CounterDocument(EntryLineDocument):
    """A line whose counter a test moves, by `least` at least."""

    least: int


class ReasonDocument(TypedDict):
    """Why a test is there: the line of a list or of the plan that it shows."""

    what: str
    list: NotRequired[str]
    entry: NotRequired[int | None]
    line: NotRequired[int]
    file: NotRequired[str]


class TestDocument(EndsDocument):
    """A test: what somebody types on a machine, and what is to be seen; where results were given,
    also what was `seen`.
    """

    test: int
    family: int
    service: str
    can: str
    what: str
    command: str
    expected: str
    counters: list[CounterDocument]
    reasons: list[ReasonDocument]
    note: str | None
    seen: NotRequired[list[str]]
    agreement: NotRequired[str]


class NotShownDocument(TypedDict):
    """A line of a list, or a claim, that no test shows, and why."""

    list: NotRequired[str]
    entry: NotRequired[int | None]
    line: NotRequired[int]
    claim: NotRequired[str]
    reason: str


class UnknownDocument(TypedDict):
    """A result of no test: where it stands, the machine and the command."""

    where: str
    machine: str
    command: str


class SheetDocument(WhenDocument):
    """The tests of a plan, and what none of them shows."""

    schema: Literal["crossgate/sheet/1"]
    plan: str
    tests: list[TestDocument]
    not_shown: list[NotShownDocument]
    at_work: list[EntryLineDocument]


class JudgedSheetDocument(SheetDocument):
    """The tests of a plan with what was seen, and results of no test."""

    unknown: list[UnknownDocument]


def sheet_document(
    plan: Plan, sheet: Sheet, judged: Judged | None
) -> SheetDocument | JudgedSheetDocument:
    """Return `crossgate/sheet/1`: the tests, and what none of them shows; where results were given,
    also these.
    """
    seen = {} if judged is None else {each.row.number: each for each in judged.held}
    rows = []
    for row in sheet.rows:
        document = _row(row)
        if row.number in seen:
            document["seen"] = [str(each) for each in seen[row.number].seen]
            document["agreement"] = str(seen[row.number].agreement)
        rows.append(document)
    found: SheetDocument = {
        "schema": "crossgate/sheet/1",
        "plan": plan.files[0],
        **when_document(sheet.when),
        "tests": rows,
        "not_shown": [_not_shown(each) for each in sheet.not_shown],
        "at_work": [_line(each) for each in sheet.at_work],
    }
    if judged is None:
        return found
    unknown: list[UnknownDocument] = [
        {"where": each.where, "machine": each.machine, "command": each.command}
        for each in judged.unknown
    ]
    return {**found, "unknown": unknown}


def _row(row: SheetRow) -> TestDocument:
    tried = row.tried
    conversation = tried.conversation
    return {
        "test": row.number,
        "from": endpoint_document(conversation.source),
        "to": endpoint_document(conversation.destination),
        "family": int(conversation.first.family),
        "service": service_of(conversation.first),
        "can": str(tried.can),
        "what": plain_words(tried),
        "command": command_line(tried),
        "expected": str(tried.seen),
        "counters": [{**_line(each), "least": least_count(tried)} for each in tried.deciders],
        "reasons": [_reason(each) for each in row.reasons],
        "note": note_of(tried) or None,
    }


def _reason(reason: SheetReason) -> ReasonDocument:
    document: ReasonDocument = {"what": reason.what}
    if reason.line is not None:
        document["list"], document["entry"] = reason.line
    if reason.claim is not None:
        document["line"], document["file"] = reason.claim.line, reason.claim.file
    return document


def _line(line: DeciderKey) -> EntryLineDocument:
    return {"list": line.access_list, "entry": line.entry}


def _not_shown(each: NotShown) -> NotShownDocument:
    document: NotShownDocument = {"reason": each.reason}
    if each.line is not None:
        document["list"], document["entry"] = each.line
    if each.claim is not None:
        document["line"], document["claim"] = each.claim.place.line, each.claim.text
    return document
