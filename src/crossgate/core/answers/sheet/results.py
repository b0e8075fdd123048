"""Results that were seen on site, compared with what the sheet expects."""

from __future__ import annotations

import re
from collections.abc import Iterable, Sequence
from enum import StrEnum
from typing import NamedTuple

from crossgate.core.answers.sheet import Sheet, SheetRow
from crossgate.core.answers.sheet.tests import Can, SeenInTest, Tried, Trying
from crossgate.core.answers.sheet.words import command_line
from crossgate.core.conversation.opening import Conversation, conversations
from crossgate.core.conversation.packets import Tracer
from crossgate.core.model.address import parse_address
from crossgate.core.model.errors import PlanError
from crossgate.core.network.endpoints import at_address, candidates
from crossgate.core.network.ways import Network


class Result(NamedTuple):
    """What somebody saw of a test: on which machine and by which command line, None for a test that
    was not tried; `where` is its place in their table.
    """

    where: str
    machine: str
    command: str
    seen: SeenInTest | None


class Agreement(StrEnum):
    """Whether the result of a test agrees with what the sheet expects."""

    AGREES = "agrees"
    DIFFERS = "differs"
    NOBODY_LISTENS = "nobody listens"
    NOT_TRIED = "not tried"
    CONTRADICTS = "seen otherwise twice"


class SheetResult(NamedTuple):
    """A test of the sheet, and the different results seen of it."""

    row: SheetRow
    seen: tuple[SeenInTest, ...]
    agreement: Agreement


class Judged(NamedTuple):
    """A sheet with its results, and the results that belong to none of its tests."""

    held: tuple[SheetResult, ...]
    unknown: tuple[Result, ...]


def judged(network: Network, sheet: Sheet, results: Iterable[Result]) -> Judged:
    """Compare results with what a sheet expects; a test may have been made several times.

    A result for a test that the sheet does not have, as from an older sheet, is compared with what
    the plan expects, and gets the number 0.
    """
    trying = Trying(Tracer(network, network.plan.state_at(sheet.when)))
    rows = {_named(each.tried): each for each in sheet.rows}
    seen: dict[tuple[str, str], dict[SeenInTest, None]] = {}
    unknown = []
    for each in results:
        key = each.machine, each.command
        if key not in rows:
            found = conversation_of(network, each)
            tried = None if found is None else trying.tried(found)
            if tried is None:
                unknown.append(each)
                continue
            rows[key] = SheetRow(0, tried, ())
        if each.seen is not None:
            seen.setdefault(key, {})[each.seen] = None
    held = []
    for key, row in rows.items():
        own = tuple(seen.get(key, ()))
        if row.number or own:
            held.append(SheetResult(row, own, _agreement(row, own)))
    return Judged(tuple(held), tuple(unknown))


def _named(tried: Tried) -> tuple[str, str]:
    return tried.conversation.source.name, command_line(tried)


_COMMANDS = (
    (Can.PING, re.compile(r"ping .*?(?P<address>[0-9a-fA-F:.]+)$")),
    (Can.LOOKUP, re.compile(r"dig .*?@(?P<address>[0-9a-fA-F:.]+) ")),
    (
        Can.CONNECT,
        re.compile(
            r"curl .*?(--local-port (?P<own>\d{1,5}) )?'?telnet://\[?(?P<address>[0-9a-fA-F:.]+?)\]?"
            r":(?P<port>\d{1,5})'?$"
        ),
    ),
)
"""What command lines of a sheet look like (`words.command_line`)."""


def conversation_of(network: Network, result: Result) -> Conversation | None:
    """Return the conversation that a result is about, from its machine and command line; None where
    that is no test of this plan.
    """
    plan = network.plan
    for can, form in _COMMANDS:
        match = form.match(result.command)
        if match is None:
            continue
        try:
            address = parse_address(match["address"])
            target = at_address(network, address)
            service = {Can.PING: "ping", Can.LOOKUP: "udp/53"}.get(can) or f"tcp/{match['port']}"
            own = match["own"] if can is Can.CONNECT else None
            start = next(
                each
                for each in candidates(network, result.machine)
                if each.address.family is address.family and result.machine in plan.hosts
            )
            asked = plan.service(service, address.family)
            (found,) = conversations(asked, start, target, None if own is None else int(own))
        except (PlanError, StopIteration):
            return None
        return found
    return None


def _agreement(row: SheetRow, seen: Sequence[SeenInTest]) -> Agreement:
    if not seen:
        return Agreement.NOT_TRIED
    if len(seen) > 1:
        return Agreement.CONTRADICTS
    if seen[0] is row.tried.seen:
        return Agreement.AGREES
    got_there = seen[0] is SeenInTest.NOBODY_LISTENS and row.tried.seen is SeenInTest.ANSWERED
    return Agreement.NOBODY_LISTENS if got_there else Agreement.DIFFERS
