"""What a change of a plan does, before it is made: to expectations, traffic and findings, the old
plan compared with the new.

Only what the change can affect is looked at: entries that share a packet with a changed one, and
all of lists whose placement or network changed.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Collection, Iterator, Mapping
from datetime import datetime
from functools import cache, partial
from typing import NamedTuple

from crossgate.core.answers.change import PlanChange
from crossgate.core.answers.compare import differences
from crossgate.core.answers.difference import Difference
from crossgate.core.answers.names_alone import Renamed
from crossgate.core.answers.verify import Verified, Verifier
from crossgate.core.audit import audit
from crossgate.core.audit.scope import Focus, Touched
from crossgate.core.lists.difference import unshared
from crossgate.core.lists.split import EntryRegion
from crossgate.core.model.accesslist import AccessList
from crossgate.core.model.address import Family
from crossgate.core.model.claim import Only, Promise
from crossgate.core.model.entry import AnyEntry, Entry
from crossgate.core.model.finding import Finding
from crossgate.core.model.finding_kinds import KINDS, Severity
from crossgate.core.model.network import Direction, Point
from crossgate.core.model.plan import Plan
from crossgate.core.model.progress import Tell
from crossgate.core.model.service import ServiceError
from crossgate.core.model.tls import settled
from crossgate.core.network.address_classes import meant
from crossgate.core.network.endpoints import claim_ends
from crossgate.core.sets.effort import TooManyPieces
from crossgate.core.traffic.session import Session


class Turned(NamedTuple):
    """An expectation whose answer a change reverses; `held` is None where the old plan does not
    have it.
    """

    held: bool | None
    now: Verified


class Impact(NamedTuple):
    """All that a change does: `gone` are findings that only the old plan has.

    `missed` are the questions that fell into too many pieces, so that the answer is unknown.
    `unaudited` are such questions about findings: there may be more new ones.
    """

    turned: list[Turned]
    differences: list[Difference]
    findings: list[Finding]
    missed: list[TooManyPieces]
    unaudited: list[TooManyPieces]
    gone: list[Finding]

    @property
    def broken(self) -> list[Verified]:
        """The expectations that held before the change and fail after it."""
        return [each.now for each in self.turned if not each.now.held and each.held is not False]


def impact_of(
    old: Session,
    new: Session,
    now: datetime,
    tell: Tell | None = None,
    proved: Mapping[str, Verified] | None = None,
    renamed: Renamed | None = None,
    brief: bool = False,
) -> Impact:
    """Return the differences that putting `new` in the place of `old` makes; new expectations that
    are `proved` already are not proved again. Where something was only `renamed`, a line says the
    same in both plans, and is told by where it stands.

    A `brief` answer has no more than the expectations where one breaks, and no traffic where there
    is a new finding that is an error.
    """
    change = PlanChange(old, new, renamed)
    only_names = renamed is not None
    impact = Impact(_turned(change, now, proved or {}, only_names), [], [], [], [], [])
    if brief and impact.broken:
        return impact
    appeared, gone = _findings(change, now, impact.unaudited, only_names)
    impact = impact._replace(findings=appeared, gone=gone)
    if brief and any(each.severity is Severity.ERROR for each in appeared):
        return impact
    return impact._replace(differences=differences(old, change.new, tell, impact.missed, change))


def _turned(
    change: PlanChange, now: datetime, proved: Mapping[str, Verified], only_names: bool
) -> list[Turned]:
    """Return the expectations whose answer changes, and those that are new."""
    before, after = Verifier(change.old), Verifier(change.new)
    found = []
    for was, each in _paired(change, now, only_names):
        if was is not None and not _can_turn(change, was, each):
            continue
        held = before.verify(was).held if was is not None else None
        already = proved.get(each.text) if was is None else None
        verified = after.verify(each) if already is None else already._replace(expectation=each)
        if verified.held is not held:
            found.append(Turned(held, verified))
    return found


def _paired(
    change: PlanChange, now: datetime, only_names: bool
) -> Iterator[tuple[Promise | None, Promise]]:
    """Yield the expectations of the new plan, each with what it was in the old one: a line of the
    same words or, where some name is another one now, of the same meaning. None is a new one.
    """
    identity = _where if only_names else _identity
    known: dict[object, list[Promise]] = {}
    for each in change.old.plan.wanted(now):
        known.setdefault(identity(each), []).append(each)
    pairs = [
        (same.pop(0) if (same := known.get(identity(each))) else None, each)
        for each in change.new.plan.wanted(now)
    ]
    left: dict[object, list[Promise]] = {}
    if any(was is None for was, _ in pairs):
        for own in (each for several in known.values() for each in several):
            left.setdefault(_meaning(change.old.plan, own), []).append(own)
    for was, each in pairs:
        same = left.get(_meaning(change.new.plan, each)) if was is None else None
        yield same.pop(0) if same else was, each


def _meaning(plan: Plan, claim: Promise) -> object:
    """Return what an expectation says, whatever its words and names."""
    bare: Promise
    if isinstance(claim, Only):
        bare = claim._replace(services=(), source="", destination="", comment="", text="", owner="")
    else:
        bare = claim._replace(service="", source="", destination="", comment="", text="", owner="")
    return bare, *(_about(plan, claim, family) for family in Family)


def _about(plan: Plan, claim: Promise, family: Family) -> object:
    """Return what the ends and the services of a claim stand for in a family."""
    return claim_ends(plan, claim, family), _service(plan, claim, family)


def _can_turn(change: PlanChange, was: Promise, now: Promise) -> bool:
    """Whether a claim of both plans can hold in just one of them: it is about something else there,
    or about traffic that may be treated differently.
    """
    plans = change.old.plan, change.new.plan
    if now.by is not None or plans[0].client_ports != plans[1].client_ports:
        return True
    if isinstance(now, Only) and plans[0].only_lines != plans[1].only_lines:
        return True
    for family in Family:
        if _about(plans[0], was, family) != _about(plans[1], now, family):
            return True
        here, far = claim_ends(plans[1], now, family)
        classes = change.new.address_classes(family)
        if change.concerns(family, meant(classes, here), meant(classes, far)):
            return True
    return False


def _service(plan: Plan, expectation: Promise, family: Family) -> object:
    """Return what an expectation's services stand for in a family, with None for one that has no
    part in it.
    """
    found: list[object] = []
    for service in expectation.services:
        try:
            found.append(plan.service(service, family).terms)
        except ServiceError:
            found.append(None)
    return tuple(found)


def _identity(expectation: Promise) -> str:
    """Return an expectation's text without the entry number after `by`, which an edit may have
    changed together with the entry's.
    """
    text = expectation.text
    return (
        text if expectation.by is None or expectation.by.entry is None else text.rsplit(" ", 1)[0]
    )


def _where(line: Promise | Finding) -> object:
    """Return what identifies an expectation, or a finding of one name, where nothing has moved."""
    return line.place.file, line.place.line


_TOLD = ("locked-out",)
"""What is no new finding: a broken keep is told among the expectations."""


def _findings(
    change: PlanChange, now: datetime, missed: list[TooManyPieces], only_names: bool
) -> tuple[list[Finding], list[Finding]]:
    """Return the findings that only the new plan has, and those that only the old one has.

    Questions about the new plan that fell into too many pieces are added to `missed`; findings of
    the old plan are then not taken to be gone.
    """
    old, new = change.old, change.new
    anew = _anew(change)
    focus_old, focus_new = _focus(old, new, anew)
    regions = cache(change.altered)
    touched = [Touched(cache(partial(change.touched, each)), regions, anew) for each in (old, new)]
    before = audit(old, now, focus=focus_old, leave_out=_TOLD, touched=touched[0]).findings

    def key_in(plan: Plan, finding: Finding) -> object:
        return (finding.name, _where(finding)) if only_names else _finding_key(plan, finding)

    met = Counter(key_in(old.plan, finding) for finding in before)
    found = []
    audited = audit(new, now, focus=focus_new, leave_out=_TOLD, touched=touched[1])
    missed += audited.missed
    for finding in audited.findings:
        key = key_in(new.plan, finding)
        if met[key]:
            met[key] -= 1
        else:
            found.append(finding)
    gone = []
    for finding in () if audited.missed else before:
        key = key_in(old.plan, finding)
        if met[key]:
            met[key] -= 1
            gone.append(finding)
    return _not_elsewhere(new.plan, found, old, now), _not_elsewhere(old.plan, gone, new, now)


_ON_THE_WAY = ("replies-blocked", "spoofable", "neighbour-can-claim")
"""Findings that an entry has where any traffic that it permits shows it: touched traffic may, and
other traffic too.
"""


def _not_elsewhere(
    plan: Plan, findings: list[Finding], other: Session, now: datetime
) -> list[Finding]:
    """Return those of a plan's findings that the other plan does not have, after all traffic that
    their entries permit there has been looked at.
    """
    asked: dict[str, set[int]] = {}
    for name in {each.access_list for each in findings if each.name in _ON_THE_WAY}:
        texts = {_finding_key(plan, each)[2] for each in findings if each.access_list == name}
        if name in other.plan.lists:
            asked[name] = {
                entry.number
                for entry in other.plan.lists[name].entries
                if _asked_by(entry) in texts
            }
    if not any(asked.values()):
        return findings
    leave_out = [name for name in KINDS if name not in _ON_THE_WAY]
    known = {
        _finding_key(other.plan, each)
        for each in audit(other, now, focus=asked, leave_out=leave_out).findings
    }
    return [each for each in findings if _finding_key(plan, each) not in known]


def _finding_key(plan: Plan, finding: Finding) -> tuple[str, str | None, str]:
    """Return what identifies a finding in both plans, whatever its line and number."""
    if finding.access_list is None or finding.entry is None:
        return finding.name, finding.access_list, "" if finding.access_list else finding.message
    entry = plan.any_list(finding.access_list).entry(finding.entry)
    return finding.name, finding.access_list, "" if entry is None else _asked_by(entry)


def _asked_by(entry: AnyEntry) -> str:
    """Return the text of an entry without `log`."""
    return entry.text.removesuffix(" log") if entry.log else entry.text


def _anew(change: PlanChange) -> set[str]:
    """Return the lists that only one plan has, or that are placed elsewhere: everything about them
    is looked at.
    """
    old, new = change.old.plan, change.new.plan
    if change.in_names_alone:
        return old.lists.keys() ^ new.lists.keys()
    if not change.new.network.same_addresses(change.old.network):
        return {*old.lists, *new.lists}
    moved = {name for _, _, name in _stands(old) ^ _stands(new)}
    return moved | (old.lists.keys() ^ new.lists.keys())


def _focus(before: Session, after: Session, anew: Collection[str]) -> tuple[Focus, Focus]:
    """Return the entries of each plan that a change can affect; all entries of the lists `anew`."""
    old, new = before.plan, after.plan
    focus: tuple[dict[str, set[int]], dict[str, set[int]]] = ({}, {})
    for name in {*old.lists, *new.lists}:
        pair = old.lists.get(name), new.lists.get(name)
        changed = _changed(*pair)
        for side, access_list in enumerate(pair):
            if access_list is None:
                continue
            if name in anew:
                focus[side][name] = {entry.number for entry in access_list.entries}
            elif changed:
                hulls = [region.hull for region in changed if region.hull is not None]
                states = [
                    settled(access_list.windows, hello) for hello in (None, *access_list.hellos)
                ]
                every = [(before, after)[side].regions.of(access_list, state) for state in states]
                focus[side][name] = {
                    entry.number
                    for regions in every
                    for hull in hulls
                    for entry in regions.touching(hull)
                }
    return focus


def _stands(plan: Plan) -> set[tuple[Point, Direction, str]]:
    """Return where each list stands."""
    return {
        (point, direction, access_list.name)
        for (point, direction, _), access_list in plan.asked.items()
    }


def _changed(old: AccessList | None, new: AccessList | None) -> list[EntryRegion]:
    """Return the regions of entries that only one of two lists has, or has at another position;
    those of all entries when the otherwise lines differ.
    """
    if old is None or new is None or old is new:
        return []
    if old.otherwise.action is not new.otherwise.action:
        return [EntryRegion(entry, each.family) for each in (old, new) for entry in each.entries]
    if len(old.entries) == len(new.entries) and all(
        map(Entry.has_only_moved, old.entries, new.entries)
    ):
        return []
    before, after = ([entry for entry in each.entries if not entry.off] for each in (old, new))
    alone = unshared(before, after, lambda entry: (*entry.meaning, entry.window, entry.log))
    return [EntryRegion(entry, new.family) for entry in alone]
