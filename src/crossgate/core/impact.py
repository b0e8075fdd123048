"""What a change of a plan does, before it is made: expectations, traffic and findings, the old plan against the new.

Only what the change can have touched is looked at again: entries that share a packet with a changed one, and the whole of
lists whose placement or network changed.
"""

from __future__ import annotations

from collections import Counter
from datetime import datetime
from difflib import SequenceMatcher
from typing import NamedTuple

from crossgate.core.answers.compare import Difference, differences
from crossgate.core.answers.verify import Verified, Verifier
from crossgate.core.audit import audit
from crossgate.core.audit.context import Focus
from crossgate.core.lists.split import EntryRegion
from crossgate.core.model.accesslist import AccessList
from crossgate.core.model.claim import Expectation
from crossgate.core.model.finding import Finding
from crossgate.core.model.plan import Plan
from crossgate.core.model.progress import Tell
from crossgate.core.sets.effort import TooManyPieces
from crossgate.core.traffic.session import Session


class Turned(NamedTuple):
    """An expectation that a change makes hold or fail; `held` is None where the old plan does not have it."""

    held: bool | None
    now: Verified


class Impact(NamedTuple):
    """All that a change does. `broken` are the expectations that held and do not any more.

    `missed` are the questions that fell into too many pieces: what the change does there nobody knows. `unaudited` are those
    about findings: there may be more new ones.
    """

    turned: list[Turned]
    differences: list[Difference]
    findings: list[Finding]
    missed: list[TooManyPieces]
    unaudited: list[TooManyPieces]

    @property
    def broken(self) -> list[Verified]:
        """The expectations that the change breaks."""
        return [each.now for each in self.turned if not each.now.held and each.held is not False]


def impact_of(old: Session, new: Session, now: datetime, tell: Tell | None = None) -> Impact:
    """Return what becomes otherwise when `new` takes the place of `old`."""
    missed: list[TooManyPieces] = []
    unaudited: list[TooManyPieces] = []
    return Impact(_turned(old, new), differences(old, new, tell, missed), _new_findings(old, new, now, unaudited), missed, unaudited)


def _turned(old: Session, new: Session) -> list[Turned]:
    """Return the expectations whose answer changes, and those that are new."""
    before, after = Verifier(old), Verifier(new)
    known: dict[str, list[Expectation]] = {}
    for each in old.plan.expectations:
        known.setdefault(_identity(each), []).append(each)
    found = []
    for each in new.plan.expectations:
        same = known.get(_identity(each))
        held = before.verify(same.pop(0)).held if same else None
        verified = after.verify(each)
        if verified.held is not held:
            found.append(Turned(held, verified))
    return found


def _identity(expectation: Expectation) -> str:
    """Return an expectation's text without the number that it pins, which an edit may have changed with the entry's."""
    text = expectation.text
    return text if expectation.by is None or expectation.by.entry is None else text.rsplit(" ", 1)[0]


def _new_findings(old: Session, new: Session, now: datetime, missed: list[TooManyPieces]) -> list[Finding]:
    """Return the findings that only the new plan has; what fell into too many pieces there is added to `missed`."""
    focus_old, focus_new = _focus(old, new)
    met = Counter(_finding_key(old.plan, finding) for finding in audit(old, now, focus=focus_old).findings)
    found = []
    audited = audit(new, now, focus=focus_new)
    missed += audited.missed
    for finding in audited.findings:
        key = _finding_key(new.plan, finding)
        if met[key]:
            met[key] -= 1
        elif finding.name != "locked-out":  # a broken keep is told among the expectations
            found.append(finding)
    return found


def _finding_key(plan: Plan, finding: Finding) -> tuple[str, str | None, str]:
    """Return what a finding is known by in both plans, whatever its line and number."""
    if finding.access_list is None or finding.entry is None:
        return finding.name, finding.access_list, "" if finding.access_list else finding.message
    entries = plan.lists[finding.access_list].entries
    return finding.name, finding.access_list, next((each.text for each in entries if each.number == finding.entry), "")


def _focus(before: Session, after: Session) -> tuple[Focus, Focus]:
    """Return the entries of each plan that a change can have touched."""
    old, new = before.plan, after.plan
    moved = {placement.access_list for placement in {*old.placements} ^ {*new.placements}}
    if (old.segments, old.devices, old.hosts) != (new.segments, new.devices, new.hosts):
        moved = {*old.lists, *new.lists}
    focus: tuple[dict[str, set[int]], dict[str, set[int]]] = ({}, {})
    for name in {*old.lists, *new.lists}:
        pair = old.lists.get(name), new.lists.get(name)
        changed = _changed(*pair)
        for side, access_list in enumerate(pair):
            if access_list is None:
                continue
            if name in moved or None in pair:
                focus[side][name] = {entry.number for entry in access_list.entries}
            elif changed:
                regions = (before, after)[side].regions.of(access_list, access_list.windows)
                hulls = [region.hull for region in changed if region.hull is not None]
                focus[side][name] = {entry.number for hull in hulls for entry in regions.touching(hull)}
    return focus


def _changed(old: AccessList | None, new: AccessList | None) -> list[EntryRegion]:
    """Return the regions of entries that just one of two lists has, or has elsewhere; of all when the rest is treated otherwise."""
    if old is None or new is None:
        return []
    if old.otherwise.action is not new.otherwise.action:
        return [EntryRegion(entry, each.family) for each in (old, new) for entry in each.entries]
    sides = [[entry for entry in each.entries if not entry.off] for each in (old, new)]
    before, after = ([(*entry.meaning, entry.window, entry.log) for entry in side] for side in sides)
    if before == after:
        return []
    alone = []
    for kind, first, last, start, end in SequenceMatcher(None, before, after, autojunk=False).get_opcodes():
        if kind != "equal":
            alone += [*sides[0][first:last], *sides[1][start:end]]
    return [EntryRegion(entry, new.family) for entry in alone]
