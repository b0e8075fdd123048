"""Changes of a plan, each a value that `crossgate.propose` works out: what a command that edits
does, for a program.

A change says nothing about a plan until it is proposed: names and texts are read then, and what
cannot be done raises `PlanError` from `propose`. Several changes are made in their order, each on
the plan as the one before leaves it.
"""

from __future__ import annotations

import time
from collections.abc import Callable, Iterable, Sequence
from contextlib import AbstractContextManager, nullcontext
from datetime import datetime
from pathlib import Path

from crossgate.core.model.accesslist import line_name
from crossgate.core.model.address import Family
from crossgate.core.model.entry import Kind
from crossgate.core.model.errors import Place, PlanError
from crossgate.core.model.network import Direction, stands_at
from crossgate.core.model.plaintext import listed
from crossgate.core.model.plan import Plan
from crossgate.language import edits, list_edits, placing, renaming, statements
from crossgate.language.change import Change
from crossgate.language.draft import Draft
from crossgate.language.edits import tidy_plan as tidy
from crossgate.language.entries import ETHERNET
from crossgate.language.inserting import insert_entry

__all__ = [
    "Change",
    "add_claim",
    "add_entry",
    "add_host",
    "add_members",
    "add_route",
    "add_subnet",
    "change_entry",
    "distil",
    "drop_claim",
    "drop_entry",
    "drop_host",
    "drop_list",
    "drop_route",
    "drop_subnet",
    "fence",
    "lift_list",
    "move_entry",
    "new_list",
    "open_fence",
    "place_list",
    "rename",
    "renumber_list",
    "set_window",
    "switch_entry",
    "take_members",
    "tidy",
    "twin",
]


def add_entry(
    list_name: str,
    text: str,
    *,
    number: int | None = None,
    before: int | None = None,
    after: int | None = None,
    effective: bool = False,
    instead: Callable[[Sequence[str], str], bool] | None = None,
) -> Change:
    """Write a new entry: with a number, right before or after another entry, as far down as it
    still has an effect, or else at the end.

    Where lines above take all of it, `instead` is asked, with what there is to tell and a question,
    whether it should go to where it has all its packets.
    """

    def change(draft: Draft) -> str:
        return insert_entry(
            draft,
            edits.find_list(draft.plan, list_name),
            text,
            edits.EntrySpot(number, before, after, effective or None),
            None if instead is None else lambda asked: instead(draft.remarks, asked),
        )

    return change


def move_entry(
    list_name: str, number: int, *, before: int | None = None, after: int | None = None
) -> Change:
    """Move an entry right before or right after another one; it gets a number that fits."""

    def change(draft: Draft) -> str:
        access_list = edits.find_list(draft.plan, list_name)
        moved = edits.find_entry(access_list, number)
        to = edits.move_entry(draft, access_list, moved, edits.EntrySpot(None, before, after))
        return f"{line_name(access_list.name, number)} becomes {to}"

    return change


def change_entry(list_name: str, number: int, text: str) -> Change:
    """Write another text for an entry; its number and its comments stay."""

    def change(draft: Draft) -> str:
        access_list = edits.find_list(draft.plan, list_name)
        changed = edits.find_entry(access_list, number)
        edits.given_entry(draft, access_list, text)
        body, own = edits.unnumbered(text)
        if own not in (None, number):
            raise PlanError(
                f"the text is numbered {own}, and {number} is to be changed; leave the number "
                "out, or move the entry"
            )
        edits.change_entry(draft, changed, body)
        return f"{line_name(access_list.name, number)} is changed"

    return change


def drop_entry(list_name: str, number: int) -> Change:
    """Remove an entry."""

    def change(draft: Draft) -> str:
        access_list = edits.find_list(draft.plan, list_name)
        edits.drop_entry(draft, access_list, edits.find_entry(access_list, number))
        return f"{line_name(access_list.name, number)} goes"

    return change


def switch_entry(list_name: str, number: int, *, off: bool) -> Change:
    """Keep an entry in the file but not in force, or put it back in force."""

    def change(draft: Draft) -> str:
        access_list = edits.find_list(draft.plan, list_name)
        found = edits.find_entry(access_list, number)
        if found.off is not off:
            edits.switch_entry(draft, found, off)
        return f"{line_name(access_list.name, number)} is switched {'off' if off else 'on'}"

    return change


def new_list(name: str, kind: Kind | str, family: str) -> Change:
    """Write a new list without entries: `standard` or `extended`, `ipv4`, `ipv6` or `ethernet`."""
    families: dict[str, Family | None] = {**{each.word: each for each in Family}, ETHERNET: None}
    for word, known, what in ((kind, [*Kind], "kind"), (family, [*families], "family")):
        if word not in known:
            raise PlanError(f"{word} is no {what}; there are {', '.join(known)}")

    def change(draft: Draft) -> str:
        list_edits.new_list(draft, name, Kind(kind), families[family])
        return f"there is a new list {name}"

    return change


def drop_list(list_name: str) -> Change:
    """Remove a list that is placed nowhere."""

    def change(draft: Draft) -> str:
        list_edits.drop_list(draft, edits.find_list(draft.plan, list_name))
        return f"list {list_name} goes"

    return change


def renumber_list(list_name: str, start: int = 10, step: int = 10) -> Change:
    """Renumber a list's entries in their order; expectations that name a number follow."""

    def change(draft: Draft) -> str:
        list_edits.renumber(draft, edits.find_list(draft.plan, list_name), start, step)
        return f"{list_name} is numbered from {start} in steps of {step}"

    return change


def place_list(
    list_name: str,
    direction: Direction | str,
    where: str,
    *,
    move: bool = False,
    replace: bool = False,
) -> Change:
    """Place a list at a point, written as in a plan: `DEVICE.INTERFACE`, `subnet NAME`, `DEVICE
    itself`, `host NAME` or `group NAME`.

    With `move` it is taken from where it stands now, with `replace` the list that stands there is
    taken away.
    """
    way = _direction(direction)
    if move and replace:
        raise PlanError(
            "a list is moved, or takes the place of another; to do both, lift the other first"
        )

    def change(draft: Draft) -> str:
        point = placing.point_given(draft, where)
        access_list = edits.find_list(draft.plan, list_name)
        if replace:
            other = placing.replace_list(draft, access_list, way, point)
            return f"{list_name} is placed {stands_at(way, point)} instead of {other}"
        if move:
            was = placing.move_list(draft, access_list, way, point)
            return f"{list_name} is moved from {was.where} to {stands_at(way, point)}"
        placing.place_list(draft, access_list, way, point)
        return f"{list_name} is placed {stands_at(way, point)}"

    return change


def lift_list(
    list_name: str, direction: Direction | str | None = None, where: str | None = None
) -> Change:
    """Remove a list from where it is placed, everywhere by default; the list itself stays."""
    way = None if direction is None else _direction(direction)

    def change(draft: Draft) -> str:
        point = placing.point_given(draft, where) if where else None
        lifted = placing.lift_list(draft, edits.find_list(draft.plan, list_name), way, point)
        return f"{list_name} is lifted from {' and '.join(str(each.point) for each in lifted)}"

    return change


def _direction(word: Direction | str) -> Direction:
    """Return the direction that a word is. Raises `PlanError`."""
    try:
        return Direction(word)
    except ValueError:
        raise PlanError(f"expected {', '.join(Direction)}, not {word}") from None


def rename(kind: renaming.NameKind | str, name: str, new: str) -> Change:
    """Change a name in every line that mentions it; `kind` is what the name is for, as `host`."""
    try:
        what = renaming.NameKind(kind)
    except ValueError:
        raise PlanError(f"{kind} is no kind; there are {', '.join(renaming.NameKind)}") from None
    return lambda draft: renaming.rename(draft, what, name, new)


def fence(
    subnet: str,
    *,
    allow: str | Iterable[str] = ("dns", "dhcp", "ping"),
    exceptions: str | Iterable[str] = (),
    one_way: bool = False,
    at: datetime | None = None,
) -> Change:
    """Write and place the lists that keep a subnet from every other one, with the claims that prove
    it.

    What its own gateway may be asked for are the services in `allow`; the names in `exceptions`
    stay open; with `one_way`, others may come in. `at` is the time for which windows are judged,
    now by default.
    """
    from crossgate.language.fence_text import FenceAsked
    from crossgate.language.fencing import write_fence

    asked = FenceAsked(subnet, listed(allow), listed(exceptions), one_way)
    return lambda draft: write_fence(draft, asked, at or draft.plan.now())


def open_fence(subnet: str) -> Change:
    """Take away what `fence` wrote around a subnet."""
    from crossgate.language.fencing import undo_fence

    return lambda draft: undo_fence(draft, subnet)


def twin(list_name: str, new: str, *, placed: bool = False) -> Change:
    """Write a list in the other address family, under a new name; `placed` where the list is."""
    from crossgate.language.twin import write_twin

    return lambda draft: write_twin(draft, draft.plan.access_list(list_name), new, placed)


def distil(
    files: str | Path | Sequence[str | Path],
    into: str,
    *,
    family: Family | None = None,
    every: bool = False,
    least: int = 1,
    widen: float = 0,
    rate: float | None = None,
    place: tuple[str, str] | None = None,
    idle: int = 300,
    columns: str | Sequence[str] = (),
    gauge: Callable[[int], AbstractContextManager[Callable[[int, int], None]]] | None = None,
) -> Change:
    """Write entries that permit what files of traffic hold and was answered, and nothing else, into
    a list, made new where there is none of that name.

    `family` takes one of both families, `every` what nobody answered too, `least` what was seen so
    often, `widen` and `rate` are percentages: so much of an entry may be traffic that was not seen,
    and each is limited to its busiest minute and so much more. `place` is a direction and a point
    for a new list, which then gets only what comes by there. A conversation ends after `idle`
    seconds without a packet. `columns` name columns of tables as `WHAT=NAME`. `gauge` shows how far
    reading is: given the number of all octets, it provides a function for (rows, octets so far).
    """
    from crossgate.formats.distilled import distillers_of
    from crossgate.formats.readers.names import told_columns
    from crossgate.formats.readers.traffic import Traffic, size
    from crossgate.language.distilling import Target, nothing_to_permit, write

    paths = [Path(each) for each in ([files] if isinstance(files, str | Path) else files)]

    def change(draft: Draft) -> str:
        traffic = Traffic(paths, told_columns(listed(columns)), int(time.time() * 1_000_000))
        with nullcontext(None) if gauge is None else gauge(size(traffic.paths)) as tell:
            distillers = distillers_of(draft.plan, traffic, idle, every, rate is not None, tell)
        found = {of: each for of, each in distillers.items() if family in (None, of)}
        for each in found.values():
            each.leave_out_rare(least)
        if not any(each.kinds for each in found.values()):
            raise PlanError(nothing_to_permit(map(str, paths), found.values(), least))
        several = family is None and all(each.kinds for each in found.values()) and len(found) > 1
        told = [
            write(
                draft,
                distiller,
                Target(f"{into}-6" if several and of is Family.IPV6 else into, place),
                widen / 100,
                None if rate is None else rate / 100,
            )
            for of, distiller in found.items()
            if distiller.kinds
        ]
        if not any(told):
            raise PlanError(
                f"nothing that was seen is left to permit in {into}: none of it comes by there, "
                "or all of it is permitted already"
            )
        return "; ".join(filter(None, told))

    return change


def add_members(kind: str, name: str, members: str | Sequence[str]) -> Change:
    """Add members to a `group`, or parts to a `service`, after those it has."""
    what = _members(kind)
    found = statements.members_of(what, listed(members))
    return lambda draft: statements.add_members(draft, what, name, found)


def take_members(kind: str, name: str, members: str | Sequence[str]) -> Change:
    """Remove members from a `group`, or parts from a `service`."""
    what = _members(kind)
    found = statements.members_of(what, listed(members))
    return lambda draft: statements.take_members(draft, what, name, found)


def _members(kind: str) -> statements.Members:
    """Return the kind of statement that a word is. Raises `PlanError`."""
    try:
        return statements.Members(kind)
    except ValueError:
        raise PlanError(f"{kind} has no members; a group has, and a service") from None


def set_window(name: str, hours: str) -> Change:
    """Change the hours of a window, written as in its line."""
    return lambda draft: statements.set_window(draft, name, hours)


def add_host(name: str, rest: str) -> Change:
    """Add a host, after the others; `rest` is the rest of its line, as `10.64.9.23 on tickets`."""
    return _new(f"host {name} {rest}", lambda plan: [each.place for each in plan.hosts.values()])


def drop_host(name: str) -> Change:
    """Remove a host; refused where lists, groups or claims name it."""
    return _drop(f"host {name}", lambda plan: statements.host_place(plan, name))


def add_subnet(name: str, rest: str) -> Change:
    """Add a subnet, after the others; `rest` is the rest of its line, as `10.64.35.0/24`."""
    return _new(
        f"subnet {name} {rest}",
        lambda plan: [each.place for each in plan.segments.values() if not each.outside],
    )


def drop_subnet(name: str) -> Change:
    """Remove a subnet; refused where something is on it or names it."""
    return _drop(f"subnet {name}", lambda plan: statements.subnet_place(plan, name))


def add_route(device: str, route: str) -> Change:
    """Add a route to a device, after those it has, as `default via 192.0.2.1`."""
    return lambda draft: statements.add_route(draft, device, route)


def drop_route(device: str, destination: str) -> Change:
    """Remove the routes of a device to a prefix, or `default`."""
    return lambda draft: statements.drop_route(draft, device, destination)


def add_claim(text: str) -> Change:
    """Add what must hold, after the others, as `expect deny telnet guests to harbour`."""
    return _new(text, lambda plan: [each.place for each in plan.expectations])


def drop_claim(where: str) -> Change:
    """Remove the claim in a line, named by its number or as `FILE:LINE`."""
    return _drop(f"the claim in line {where}", lambda plan: statements.claim_at(plan, where).place)


def _new(text: str, beside: Callable[[Plan], list[Place]]) -> Change:
    return lambda draft: f"new: {statements.add_statement(draft, text, beside(draft.plan))}"


def _drop(what: str, place: Callable[[Plan], Place]) -> Change:
    return lambda draft: statements.drop_statement(draft, what, place(draft.plan))
