"""The state of a plan at a glance: what was found in it, what it expects, and what in it is not in
force.
"""

from __future__ import annotations

from collections.abc import Callable
from datetime import datetime
from typing import Any, NamedTuple

from crossgate.core.answers.verify import Verifier
from crossgate.core.model.accesslist import AnyList
from crossgate.core.model.entry import AnyEntry
from crossgate.core.model.window import Window
from crossgate.core.traffic.session import Session


class Standing(NamedTuple):
    """How many expectations hold, fail and were not verified; the lists that are not placed; and
    the windows and entries that are not in force.
    """

    held: int
    failed: int
    left: int
    unplaced: list[AnyList[Any]]
    shut: list[Window]
    off: list[tuple[AnyList[Any], AnyEntry]]


def standing(session: Session, now: datetime, late: Callable[[], bool]) -> Standing:
    """Return the state of a plan at a time; once it is `late`, no further expectations are
    verified.
    """
    plan, verifier = session.plan, Verifier(session)
    held = failed = 0
    wanted = plan.wanted(now)
    for expectation in wanted:
        if late():
            break
        if verifier.verify(expectation).held:
            held += 1
        else:
            failed += 1
    placed = {placement.access_list for placement in plan.every_placement}
    used = {name for each in plan.every_list.values() for name in each.windows}
    return Standing(
        held,
        failed,
        len(wanted) - held - failed,
        [each for each in plan.every_list.values() if each.name not in placed],
        [
            window
            for window in plan.every_window.values()
            if window.name in used and not window.is_open(now)
        ],
        [(each, entry) for each in plan.every_list.values() for entry in each.entries if entry.off],
    )
