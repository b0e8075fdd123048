"""Findings about what the entries of a list leave for each other to do."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from itertools import islice

from crossgate.core.audit.context import Case, numbers
from crossgate.core.audit.registry import finds
from crossgate.core.lists.covered import Coverage
from crossgate.core.lists.split import EntryRegion, ListRegions
from crossgate.core.model.accesslist import AccessList, line_name
from crossgate.core.model.address import everything
from crossgate.core.model.entry import Action, AnyEntry, Entry, Kind
from crossgate.core.model.finding import Fault, Finding
from crossgate.core.model.packet import Packet
from crossgate.core.model.service import IP, NO_QUALIFIERS
from crossgate.core.model.window import is_past
from crossgate.core.sets.effort import answered
from crossgate.core.sets.frame import is_left
from crossgate.core.sets.region import Region, entry_region, every_packet
from crossgate.core.traffic.examples import example
from crossgate.core.wording.sentences import DOES

_MOST_PIECES = 32
"""So many pieces of an entry's packets are looked through for one that gets as far as it."""


@finds("never-reached")
def never_reached(case: Case) -> Iterator[Finding]:
    """Yield the entries that no packet reaches, in no state of the windows."""
    for access_list in case.plan.lists.values():
        for known in case.coverage(access_list):
            entry = known.entry
            if known.reached or case.is_over(entry):
                continue
            if not known.because:
                fault = Fault(
                    "no packet can match it: what it asks for excludes itself",
                    "write what it is to match",
                )
            else:
                fault = _hidden(entry, known.because)
            because = tuple(each.number for each in known.because)
            yield Finding(
                "never-reached", entry.place, access_list.name, entry.number, fault, because
            )
    for frames in case.plan.frame_lists.values():
        every = [each for each in frames.entries if not each.off]
        for own in case.scope.entries(frames):
            taker = next((each for each in every[: every.index(own)] if each.covers(own)), None)
            if taker is not None:
                fault = _hidden(own, [taker], "frame")
                yield Finding(
                    "never-reached", own.place, frames.name, own.number, fault, (taker.number,)
                )


def _hidden(entry: AnyEntry, takers: Sequence[AnyEntry], what_is_sent: str = "packet") -> Fault:
    take = "takes all of it" if len(takers) == 1 else "take all of it together"
    lines = ", ".join(f"line {each.place.line}" for each in takers[:3]) + (
        ", ..." if len(takers) > 3 else ""
    )
    opposite = [each for each in takers if each.action is not entry.action]
    what = f"no {what_is_sent} gets this far: {numbers(takers)} ({lines}) {take}"
    if not opposite:
        return Fault(f"{what} and {'does' if len(takers) == 1 else 'do'} the same", "drop it")
    first = opposite[0]
    what = f"{what}, and {first.number} {DOES[first.action]} what this {DOES[entry.action]}"
    return Fault(what, f"move {entry.number} before {first.number}")


@finds("no-effect")
def no_effect(case: Case) -> Iterator[Finding]:
    """Yield the entries without which no packet would be treated differently; an entry that logs
    has at least that effect, and is left out.
    """
    for access_list in case.plan.lists.values():
        live = [entry for entry in access_list.entries if not entry.off]
        permits = sum(entry.action is Action.PERMIT for entry in live)
        for known in case.coverage(access_list):
            entry = known.entry
            if not known.reached or known.needed or entry.log or case.is_over(entry):
                continue
            known = known._replace(packet=_that_reaches(case, access_list, entry) or known.packet)
            excepted = None
            with answered(
                f"what {line_name(access_list.name, entry.number)} is an exception to", case.missed
            ):
                excepted = _excepted(case, access_list, entry)
            if excepted is not None:
                what = (
                    f"it is an exception to {excepted.number} ({excepted.text}) and stands "
                    "below it, so it changes nothing"
                )
                fault = Fault(what, f"move {entry.number} before {excepted.number}")
                because = (excepted.number,)
                yield Finding(
                    "no-effect",
                    entry.place,
                    access_list.name,
                    entry.number,
                    fault,
                    because,
                    known.packet,
                )
                continue
            fault = Fault(
                f"what it {DOES[entry.action]}, {_next(access_list, case, known)} anyway",
                (
                    "drop it, or add log if it is there to be "
                    f"seen{_forgotten(live, permits, access_list.otherwise.action, entry)}"
                ),
            )
            yield Finding(
                "no-effect", entry.place, access_list.name, entry.number, fault, packet=known.packet
            )


def _that_reaches(case: Case, access_list: AccessList, entry: Entry) -> Packet | None:
    """Return a packet that reaches an entry, between machines of the plan where possible; None
    where finding an example is too hard.
    """
    region = entry_region(entry, access_list.family)
    with answered(f"a packet for {line_name(access_list.name, entry.number)}", []):
        for opened in case.states(access_list) if region is not None else ():
            assert region is not None
            pieces = case.session.regions.of(access_list, opened).split(region)
            found = [
                piece for piece, decider in islice(pieces, _MOST_PIECES) if decider.entry is entry
            ]
            if found:
                return example(case.plan, found)
    return None


def _excepted(case: Case, access_list: AccessList, entry: Entry) -> Entry | None:
    """Return the first entry above that decides some of its packets the opposite way, and that
    would still be needed for entries below it.
    """
    for opened in case.states(access_list):
        regions = case.session.regions.of(access_list, opened)
        own = next((each for each in regions.regions if each.entry.number == entry.number), None)
        if own is None or own.region is None or own.hull is None:
            continue
        above: list[Region] = []
        for each in regions.near(own.hull):
            if each.entry.number >= entry.number or each.region is None:
                continue
            opposed = (each.entry.action is Action.PERMIT) is not (entry.action is Action.PERMIT)
            shared = own.region.common(each.region) if opposed else None
            if shared is not None and is_left(shared, above) and is_left(each.region, [own.region]):
                return each.entry
            above.append(each.region)
    return None


def _forgotten(live: Sequence[Entry], permits: int, otherwise: Action, entry: Entry) -> str:
    """Ask for the closing line that the author may have forgotten: a permit after denials only, or
    a denial after the last permit. `live` are the entries in force, `permits` is how many of them
    permit.
    """
    if permits > (entry.action is Action.PERMIT) or (entry.action is Action.PERMIT) is not (
        otherwise is Action.PERMIT
    ):
        return ""
    if entry.action is Action.PERMIT:
        return (
            "; or is a closing denial missing: otherwise deny?"
            if len(live) > 1 and entry is live[-1]
            else ""
        )
    return "; or is a closing permit missing: otherwise permit?"


def _next(access_list: AccessList, case: Case, known: Coverage) -> str:
    """Say what would decide the packet that reaches an entry if the entry were removed."""
    assert known.packet is not None
    state = next(opened for opened in case.states(access_list) if known.entry.in_force(opened))
    decider = case.index(access_list, state).decide_after(known.packet, known.entry)
    return (
        f"{'the otherwise line' if decider.number is None else decider.number} "
        f"{DOES[decider.action]}"
    )


@finds("nothing-permitted")
def nothing_permitted(case: Case) -> Iterator[Finding]:
    """Yield the placed lists that permit no packet in any state of their windows."""
    for access_list in case.placed():
        permits = True
        with answered(f"whether {access_list.name} permits anything", case.missed):
            permits = any(
                _permits(case.session.regions.of(access_list, opened))
                for opened in case.states(access_list)
            )
        if permits:
            continue
        fault = Fault(
            "it permits nothing at all, so it stops all traffic where it stands",
            "add what may pass, or: otherwise permit",
        )
        yield Finding("nothing-permitted", access_list.place, access_list.name, None, fault)


def _permits(regions: ListRegions) -> bool:
    """Whether a list permits any packet at all."""
    family, above = regions.access_list.family, list[EntryRegion]()
    for region in regions.regions:
        if (
            region.entry.action is Action.PERMIT
            and region.region is not None
            and region.hull is not None
        ):
            near = [
                each.region
                for each in above
                if each.region is not None and each.touches(region.hull)
            ]
            if is_left(region.region, near):
                return True
        above.append(region)
    every = [each.region for each in above if each.region is not None]
    return regions.access_list.otherwise.action is Action.PERMIT and is_left(
        every_packet(family), every
    )


@finds("too-broad")
def too_broad(case: Case) -> Iterator[Finding]:
    """Yield the permits for everything that stand above narrower entries, or among permits that are
    all narrow.
    """
    for access_list in case.plan.lists.values():
        entries = [entry for entry in access_list.entries if not entry.off]
        looked_at = case.scope.entries(access_list)
        for index, entry in enumerate(entries):
            if not _is_broad(access_list, entry) or entry not in looked_at:
                continue
            others = [each for each in entries if each is not entry]
            below = [each for each in entries[index + 1 :] if not _is_broad(access_list, each)]
            narrow = others and all(each.action is Action.PERMIT for each in others)
            if below:
                fault = Fault(
                    (
                        "it permits everything, and narrower entries stand below it "
                        f"({numbers(below[:3])})"
                    ),
                    "name what is meant",
                )
            elif narrow:
                fault = Fault(
                    "it permits everything, and all that stands beside it is narrow",
                    "drop it, or name what is meant",
                )
            else:
                continue
            yield Finding("too-broad", entry.place, access_list.name, entry.number, fault)


def _is_broad(access_list: AccessList, entry: Entry) -> bool:
    every = (everything(access_list.family),)
    if (
        entry.action is not Action.PERMIT
        or entry.source.patterns != every
        or entry.window is not None
        or entry.limit is not None
    ):
        return False
    wide = access_list.kind is Kind.STANDARD or (
        entry.service.terms == IP.terms and entry.destination.patterns == every
    )
    return wide and entry.qualifiers == NO_QUALIFIERS


@finds("window-never")
def window_never(case: Case) -> Iterator[Finding]:
    """Yield the entries whose window is over."""
    for access_list in case.plan.every_list.values():
        for entry in case.scope.entries(access_list):
            if case.is_over(entry) and not is_past(entry.until, case.now):
                window = case.plan.every_window[entry.window or ""]
                what = (
                    f"window {window.name} ({window.text}) is over, so the entry is never in "
                    "force again"
                )
                fault = Fault(what, "drop it, or move the window")
                yield Finding("window-never", entry.place, access_list.name, entry.number, fault)
