"""Tests to be made on a network that runs, and what explains their results."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from typing import TYPE_CHECKING

from crossgate.core.model.conditions import When
from crossgate.core.model.errors import PlanError, unknown
from crossgate.core.model.plaintext import listed
from crossgate.core.model.plan import Plan
from crossgate.core.network.ways import Network
from crossgate.library.plans import when

if TYPE_CHECKING:
    from crossgate.core.answers.cause import Cause
    from crossgate.core.answers.sheet import Sheet, Tell
    from crossgate.core.answers.sheet.tests import Can, Tried
    from crossgate.core.model.accesslist import AccessList, DeciderKey
    from crossgate.core.model.address import Family


def sheet(
    plan: Plan,
    lists: str | Sequence[str] = (),
    machines: str | Sequence[str] = (),
    *,
    can: str | Sequence[str] = (),
    at_work: frozenset[DeciderKey] = frozenset(),
    of: When | None = None,
    tell: Tell | None = None,
) -> Sheet:
    """Return the fewest tests that show every line of some lists at work, all lists where none is
    named, and which lines no test shows.

    They begin at `machines`, all hosts by default, where people `can` do all or some of `ping`,
    `connect` and `lookup`. Lines that have been seen `at_work` need no test. Raises `PlanError` for
    an unknown list, host or kind of test.
    """
    for each in listed(machines):
        if each not in plan.hosts:
            raise PlanError(unknown("host", each, list(plan.hosts)))
    return _sheet(
        Network(plan), listed(lists), listed(machines), _kinds(listed(can)), at_work, of, tell
    )


def _sheet(
    network: Network,
    lists: Sequence[str],
    machines: Sequence[str],
    can: frozenset[Can],
    at_work: frozenset[DeciderKey],
    of: When | None,
    tell: Tell | None,
) -> Sheet:
    from crossgate.core.answers.sheet import SheetWanted
    from crossgate.core.answers.sheet import sheet as made

    plan = network.plan
    wanted = SheetWanted([plan.access_list(name) for name in lists], machines, can, at_work)
    return made(network, of or when(plan), wanted, tell)


def _kinds(words: Sequence[str]) -> frozenset[Can]:
    """Return the kinds of tests that words name, all where there are none. Raises `PlanError`."""
    from crossgate.core.answers.sheet.tests import Can

    for each in words:
        if each not in list(Can):
            raise PlanError(unknown("test", each, list(Can)))
    return frozenset(map(Can, words)) or frozenset(Can)


def cause(
    plan: Plan,
    *seen: str,
    family: Family | None = None,
    counted: Mapping[DeciderKey, int] | None = None,
    older: Mapping[str, AccessList] | None = None,
    of: When | None = None,
    tell: Tell | None = None,
) -> Cause:
    """Return which single fault, or which two, explain what was `seen` on site and is not as the
    plan says, the best first, and the next test that tells the best two apart.

    Each of `seen` is an observation, `kiosk-1 to manifest tcp/8443 answered` or `kiosk-fence 30 did
    not count`, or the path of a filled-in sheet. `family` is that of conversations between machines
    that have both, `counted` what device counters say of lines, and `older` are lists as they were
    before, by name. Raises `PlanError` for what cannot be understood and what contradicts itself.
    """
    from crossgate.core.answers.cause import cause as found
    from crossgate.core.answers.cause import with_counters
    from crossgate.formats.observations import observed

    network, circumstances = Network(plan), of or when(plan)
    told = observed(network, seen, family)
    if counted:
        told = with_counters(network, circumstances, told, counted)
    names = dict.fromkeys(each.conversation.source.name for each in told.conversations)

    def tests() -> Iterator[Tried]:
        for machines in ([name for name in names if name in plan.hosts], ()):  # somebody is there
            made = _sheet(network, (), machines, _kinds(()), frozenset(), circumstances, None)
            yield from (row.tried for row in made.rows)

    return found(network, circumstances, told, older or {}, tests(), tell)
