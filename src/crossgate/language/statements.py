"""Edits of whole statements: a new one beside those of its kind, one that is removed, members of a
group or a service added and removed.

What a person types is put into the plan's text as it is, in a line of its own; reading the plan
then finds errors, with their place.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from enum import StrEnum

from crossgate.core.model.claim import Promise
from crossgate.core.model.errors import Place, PlanError, unknown
from crossgate.core.model.network import Route
from crossgate.core.model.plan import Plan
from crossgate.core.model.service_words import split_service
from crossgate.core.sets.meaning import words_of
from crossgate.core.wording.sentences import first_of
from crossgate.language.address_words import ends_joined
from crossgate.language.draft import Draft
from crossgate.language.source import table_of


class Members(StrEnum):
    """Statements that name several members, separated by commas."""

    GROUP = "group"
    SERVICE = "service"


def add_members(draft: Draft, kind: Members, name: str, members: Sequence[str]) -> str:
    """Add members to a group or a service, after those it has. Raises `PlanError` for one that it
    has already.
    """
    place = _place_of(draft.plan, kind, name)
    own = _members(draft, kind, place)
    again = [each for each in members if each in own]
    if again:
        raise PlanError(f"{kind} {name} has {', '.join(again)} already")
    _set_members(draft, place, [*own, *members])
    return f"{kind} {name} gets {', '.join(members)}"


def take_members(draft: Draft, kind: Members, name: str, members: Sequence[str]) -> str:
    """Remove members from a group or a service. Raises `PlanError` for one that it does not have,
    and where none would be left.
    """
    place = _place_of(draft.plan, kind, name)
    own = _members(draft, kind, place)
    for each in members:
        if each not in own:
            raise PlanError(unknown(f"member of {kind} {name} called", each, own))
    left = [each for each in own if each not in members]
    if not left:
        raise PlanError(f"{kind} {name} would have no member; take the statement out by hand")
    _set_members(draft, place, left)
    return f"{kind} {name} loses {', '.join(members)}"


def _place_of(plan: Plan, kind: Members, name: str) -> Place:
    known: Mapping[str, object] = plan.groups if kind is Members.GROUP else plan.services
    if name not in known:
        raise PlanError(unknown(kind, name, list(known)))
    if kind is Members.SERVICE and plan.services[name].source:
        raise PlanError(
            f"{name} is a ready one (line {plan.line_of(plan.services[name].place)}); write one of "
            f"your own: service NAME {name}, tcp/8443"
        )
    return plan.groups[name].place if kind is Members.GROUP else plan.services[name].place


def members_of(kind: Members, words: Sequence[str]) -> list[str]:
    """Return the members that some words are, with commas between them or none: addresses and names
    of a group, which may go on (`10.64.8.0 wild 0.0.0.255`), or services (`tcp/80,443`).

    Raises `PlanError` where a comma stands first or last, and for `but`, which would leave
    something out of the members that are there.
    """
    if kind is Members.SERVICE:
        tokens = (each.strip(",") for word in words for each in word.split())
        found = [part for each in tokens if each for part in split_service(each)]
        if not found:
            raise PlanError("no service is named")
        return found
    if any("but" in word.split() for word in words):
        raise PlanError("but leaves something out of all members; write it into the line by hand")
    return [part for each in ends_joined(words) for part in words_of(each)[0]]


def _members(draft: Draft, kind: Members, place: Place) -> list[str]:
    """Return the members of a statement as they are written. Raises `PlanError` where the statement
    excludes some with `but`.
    """
    line = draft.line(place)
    if table := table_of(line):
        raise PlanError(
            f"its members are those of {table} (line {draft.plan.line_of(place)}); edit the table"
        )
    words = line.words()
    text = line.text[words[2].start : words[-1].end]
    if " but " in f" {text} ":
        raise PlanError(
            f"line {draft.plan.line_of(place)} leaves members out (but), so edit it by hand"
        )
    return members_of(kind, text.split())


def _set_members(draft: Draft, place: Place, members: Iterable[str]) -> None:
    line = draft.line(place)
    words = line.words()
    rest = line.text[words[-1].end :]
    draft.replace(place, line.text[: words[2].start] + ", ".join(members) + rest)


def add_statement(draft: Draft, text: str, beside: Sequence[Place]) -> str:
    """Write a statement after the last of its kind, or else at the end of the plan. Raises
    `PlanError` for what is not one line.
    """
    if not text.strip() or "\n" in text:
        raise PlanError("a statement is one line")
    draft.beside(beside, text)
    return text


def drop_statement(draft: Draft, what: str, place: Place) -> str:
    """Remove a statement of one line."""
    draft.drop(place)
    return f"{what} goes"


def host_place(plan: Plan, name: str) -> Place:
    """Return the line that declares a host. Raises `PlanError` where there is no such host."""
    if name not in plan.hosts:
        raise PlanError(unknown("host", name, list(plan.hosts)))
    return plan.hosts[name].place


def subnet_place(plan: Plan, name: str) -> Place:
    """Return the line that declares a subnet. Raises `PlanError` where there is no such subnet."""
    subnets = [each.name for each in plan.segments.values() if not each.outside]
    if name not in subnets:
        raise PlanError(unknown("subnet", name, subnets))
    return plan.segments[name].place


def set_window(draft: Draft, name: str, hours: str) -> str:
    """Change the hours of a window. Raises `PlanError` for a window that does not exist."""
    plan = draft.plan
    if name not in plan.windows:
        raise PlanError(unknown("window", name, list(plan.windows)))
    place = plan.windows[name].place
    line = draft.line(place)
    words = line.words()
    draft.replace(place, line.text[: words[2].start] + hours + line.text[words[-1].end :])
    return f"window {name} is {hours}"


def add_route(draft: Draft, device: str, route: str) -> str:
    """Add a route to a device, after those it has, or else at the end of its block."""
    if device not in draft.plan.devices:
        raise PlanError(unknown("device", device, list(draft.plan.devices)))
    own = draft.plan.devices[device]
    block = [own.place, *(each.place for each in own.interfaces.values())]
    block += [each.place for each in own.ports.values()]
    lines = [each.place for each in own.routes] or [max(block, key=lambda each: each.line)]
    draft.after(lines[-1], f"    route {route}")
    return f"{device} gets route {route}"


def drop_route(draft: Draft, device: str, destination: str) -> str:
    """Remove the routes of a device to a destination. Raises `PlanError` where it has none."""
    if device not in draft.plan.devices:
        raise PlanError(unknown("device", device, list(draft.plan.devices)))
    routes = draft.plan.devices[device].routes
    found = [each for each in routes if _leads_to(each) == destination]
    if not found:
        raise PlanError(unknown(f"route of {device} to", destination, list(map(_leads_to, routes))))
    for each in found:
        draft.drop(each.place)
    return f"{device} loses {len(found)} route{'s' if len(found) > 1 else ''} to {destination}"


def _leads_to(route: Route) -> str:
    """Return the words that say where a route leads."""
    family, _, wildcard = route.destination
    return "default" if wildcard == family.mask else str(route.destination)


def claim_at(plan: Plan, where: str) -> Promise:
    """Return the claim in a line: `LINE` of the plan's own file, or of the only included file with
    a claim there, or `FILE:LINE`. Raises `PlanError`.
    """
    found = [
        each
        for each in plan.expectations
        if where in (plan.line_of(each.place), str(each.place.line), str(each.place))
    ]
    own = [each for each in found if where != str(each.place.line)] or [
        each for each in found if each.place.file == plan.files[0]
    ]
    if not own and len(found) != 1:
        known = [plan.line_of(each.place) for each in found or plan.expectations]
        mend = f"; there is one in line{'s' * (len(known) > 1)} {first_of(known)}" if known else ""
        raise PlanError(f"no expect or keep line stands in {where}{mend}")
    return (own or found)[0]
