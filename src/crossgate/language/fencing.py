"""A fence written into a plan, proved and in the standard layout, and removed again."""

from __future__ import annotations

from datetime import datetime
from typing import NamedTuple

from crossgate.core.answers.verify import Verified, Verifier
from crossgate.core.audit import audit
from crossgate.core.model.errors import PlanError
from crossgate.core.model.finding import Finding
from crossgate.core.model.finding_kinds import KINDS
from crossgate.core.model.plan import Plan
from crossgate.core.traffic.session import Session
from crossgate.language.draft import Draft
from crossgate.language.edits import add_entry, drop_entry, find_list
from crossgate.language.fence import fence, without_fence
from crossgate.language.fence_text import Fence, FenceAsked, first_line, mark
from crossgate.language.fence_text import last_line as closing_line
from crossgate.language.layout import tidied_from
from crossgate.language.reader import Reading


def write_fence(draft: Draft, asked: FenceAsked, now: datetime) -> str:
    """Write a fence around a subnet at the plan's end, and say what is open and which expectations
    were left out as not proved.

    Findings about the fence's own lists that follow from what the person asked to leave open are
    accepted, with that reason.
    """
    made = fence(draft.plan, asked)
    claims = [text for each in made.expectations for text in (each.whole, *each.parts)]
    verifier = Verifier(
        Session(_fenced(draft, asked, made, made.lines(claims)).plan, beside=draft.session)
    )
    known = {each.text: each for each in verifier.network.plan.expectations}
    held: list[str] = []
    unproved: list[str] = []
    proved: dict[str, Verified] = {}
    for each in made.expectations:
        proved[each.whole] = verifier.verify(known[each.whole])
        if proved[each.whole].held:
            held.append(each.whole)
            continue
        for part in each.parts:
            proved[part] = verifier.verify(known[part])
            (held if proved[part].held else unproved).append(part)

    def findings(session: Session) -> list[Finding]:
        lists = session.plan.lists
        own = {
            name: {entry.number for entry in lists[name].entries}
            for name in lists.keys() - draft.plan.lists.keys()
        }
        own |= {each.access_list: {*each.numbers} for each in made.heads}
        return [
            found
            for found in audit(session, now, focus=own, leave_out=_OTHER_FINDINGS).findings
            if found.access_list in own
            and (found.entry is None or found.entry in own[found.access_list])
        ]

    faults = findings(verifier.session)
    needless = {
        (each.access_list or "", each.entry or 0) for each in faults if each.name == "no-effect"
    }
    if needless:
        proved.clear()  # of other lists
        made = made.without(needless)
        faults = findings(
            Session(_fenced(draft, asked, made, made.lines(held)).plan, beside=verifier.session)
        )
    accepted = [
        (
            f"accept {found.name} in "
            f"{found.access_list}{'' if found.entry is None else f' {found.entry}'} "
            f'"{_OPEN[found.name]}"'
        )
        for found in faults
        if found.name in _OPEN
    ]
    lines = made.lines(held, dict.fromkeys(accepted))
    # Set in the usual layout by itself: nothing above it is touched.
    file = draft.plan.files[0]
    trial = _fenced(draft, asked, made, lines)
    draft.proved, draft.tried = proved, verifier.session
    draft.rewrite(file, tidied_from(first_line(asked.subnet), trial.text, file, trial.plan))
    for other, text in trial.others.items():
        draft.rewrite(other, text)
    said = f"{asked.subnet} is fenced off" + (", one way" if asked.one_way else "")
    shut = _closed_gateways(draft.plan, asked.subnet)
    said += (
        f"; open: {'' if shut else 'the outside, '}"
        f"{', '.join(asked.allow) or 'no service'} at its gateway"
        + "".join(f", {name}" for name in asked.exceptions)
    )
    if shut:
        said += f"\n{shut} is closed: all else that comes in there stays denied"
    return said + "".join(f"\nnot to be proved, and left out: {text}" for text in unproved)


def _closed_gateways(plan: Plan, subnet: str) -> str:
    """Return the places at which a subnet's packets come in, where all of them are on closed
    devices; "" where one is not.
    """
    gateways = [
        each.point
        for device in plan.devices.values()
        for each in device.interfaces.values()
        if each.on == subnet
    ]
    closed = {point for point, _, _ in plan.closed}
    return " or ".join(map(str, gateways)) if closed.issuperset(gateways) else ""


_OPEN = {
    "spoofable": "left open by the fence's exceptions",
    "one-family": "the other family has no other subnet to keep it from",
}
_OTHER_FINDINGS = frozenset(KINDS) - {"no-effect", *_OPEN}
"""What a fence is not looked at for while it is written; its preview tells of it."""


class _Trial(NamedTuple):
    """A plan with a fence that is to be tried, and the text of its file."""

    plan: Plan
    text: str
    others: dict[str, str]


def _fenced(draft: Draft, asked: FenceAsked, made: Fence, lines: list[str]) -> _Trial:
    reading = Reading(draft.plan, draft.names, draft.data)
    trial = Draft(reading)
    for head in made.heads:
        for number, text in zip(head.numbers, head.entries, strict=True):
            add_entry(
                trial,
                find_list(draft.plan, head.access_list),
                number,
                f'{text} "{mark(asked.subnet)}"',
            )
    trial.append("", first_line(asked.subnet), *lines, closing_line(asked.subnet))
    new = trial.result()
    others = {file: trial.whole(file) for file in new if file != draft.plan.files[0]}
    return _Trial(reading.changed(new).plan, trial.whole(draft.plan.files[0]), others)


def undo_fence(draft: Draft, subnet: str) -> str:
    """Remove a fence around a subnet. Raises `PlanError` when there is none."""
    reading = Reading(draft.plan, draft.names, draft.data)
    trial = Draft(reading)
    marked = [
        (each, entry)
        for each in draft.plan.lists.values()
        for entry in each.entries
        if entry.comment == mark(subnet)
    ]
    for access_list, entry in marked:
        drop_entry(trial, access_list, entry)
    found = bool(marked)
    for file in draft.plan.files:
        whole = trial.whole(file)
        text = without_fence(whole, subnet)
        found = found or text is not None
        if text is not None or whole != draft.whole(file):
            draft.rewrite(file, whole if text is None else text)
    if not found:
        raise PlanError(
            f"there is no fence around {subnet} between its two comment lines "
            f"({first_line(subnet)}); see: crossgate lists"
        )
    return f"the fence around {subnet} is taken away"
