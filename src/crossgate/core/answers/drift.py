"""How the configuration running on a device differs from a plan, and a plan as it is at one
moment.
"""

from __future__ import annotations

from dataclasses import replace
from datetime import datetime
from typing import Any, NamedTuple

from crossgate.core.answers.difference import Difference
from crossgate.core.model.accesslist import AnyList
from crossgate.core.model.conditions import During
from crossgate.core.model.plan import Plan
from crossgate.core.model.window import open_at


class Drift(NamedTuple):
    """How the configuration running on a device differs from the plan: `why` that could not be
    told, or else the traffic that is treated differently, and whether the plan's text would change.
    `plan` is the plan with what runs on the device.
    """

    device: str
    why: str
    plan: Plan
    found: list[Difference]
    reworded: bool
    told: tuple[str, ...]

    @property
    def differs(self) -> bool:
        """Whether any traffic is treated differently."""
        return bool(self.found)


def in_force(plan: Plan, at: datetime) -> Plan:
    """Return a plan whose lists are as they are at a moment: entries with closed windows are left
    out, the windows of all others are removed, and so are expectations whose last day is over.
    """
    opened = {str(each) for each in open_at(plan.every_window.values(), at)}
    return replace(
        plan,
        lists={name: _at(each, opened) for name, each in plan.lists.items()},
        frame_lists={name: _at(each, opened) for name, each in plan.frame_lists.items()},
        expectations=plan.wanted(at),
    )


def _at(access_list: Any, opened: set[str]) -> Any:
    own: AnyList[Any] = access_list
    if not own.windows:
        return own
    entries = tuple(
        replace(
            each,
            conditions=tuple(one for one in each.conditions if not isinstance(one, During)),
        )
        for each in own.entries
        if each.window is None or each.window in opened
    )
    return replace(own, entries=entries)
