"""The document of `sheet`."""

from __future__ import annotations

from crossgate.core.answers.sheet import NotShown, Reason, Row, Sheet
from crossgate.core.answers.sheet.results import Judged
from crossgate.core.answers.sheet.words import command_line, least_count, note_of, plain_words
from crossgate.core.conversation.opening import service_of
from crossgate.core.model.accesslist import DeciderKey
from crossgate.core.model.plan import Plan
from crossgate.formats.json.parts import Document, endpoint_document, when_document


def sheet_document(plan: Plan, sheet: Sheet, judged: Judged | None) -> Document:
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
    found: Document = {
        "schema": "crossgate/sheet/1",
        "plan": plan.files[0],
        **when_document(sheet.when),
        "tests": rows,
        "not_shown": [_not_shown(each) for each in sheet.not_shown],
        "at_work": [_line(each) for each in sheet.at_work],
    }
    if judged is not None:
        found["unknown"] = [
            {"where": each.where, "machine": each.machine, "command": each.command}
            for each in judged.unknown
        ]
    return found


def _row(row: Row) -> Document:
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


def _reason(reason: Reason) -> Document:
    return {
        "what": reason.what,
        **({} if reason.line is None else _line(reason.line)),
        **({} if reason.claim is None else {"line": reason.claim.line, "file": reason.claim.file}),
    }


def _line(line: DeciderKey) -> Document:
    return {"list": line.access_list, "entry": line.entry}


def _not_shown(each: NotShown) -> Document:
    claim = each.claim
    return {
        **({} if each.line is None else _line(each.line)),
        **({} if claim is None else {"line": claim.place.line, "claim": claim.text}),
        "reason": each.reason,
    }
