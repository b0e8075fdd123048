"""The tally of a plan, as commands add to it and read it."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from types import MappingProxyType
from typing import TYPE_CHECKING, Any

import typer

from crossgate.core.model.errors import PlanError

if TYPE_CHECKING:
    from crossgate.core.model.accesslist import AnyList, DeciderKey
    from crossgate.core.model.plan import Plan
    from crossgate.formats.tally import Times
from crossgate.commands.common import STANDARD_INPUT, plan_file, plan_path


def add_to_tally(
    context: typer.Context,
    plan: Plan,
    hits: Mapping[DeciderKey, int],
    times: Times = MappingProxyType({}),
) -> None:
    """Add hits, with their times, to the plan's tally; where it cannot be used, warn, since the
    answer is the same without it.
    """
    from crossgate.formats.tally import Tally
    from crossgate.show.console import warn

    try:
        Tally(plan_file(context, "keep a tally beside")).add(plan, hits, times)
    except PlanError as error:
        warn(f"{error}; nothing is added up")


def take_into_tally(
    context: typer.Context, plan: Plan, counters: Mapping[str, Mapping[DeciderKey, int]]
) -> None:
    """Add what devices have counted since the last time to the plan's tally; where it cannot be
    used, warn.
    """
    from crossgate.formats.tally import Tally
    from crossgate.show.console import warn

    try:
        Tally(plan_file(context, "keep a tally beside")).take(plan, counters)
    except PlanError as error:
        warn(f"{error}; nothing is added up")


def tallied(context: typer.Context, lists: Iterable[AnyList[Any]]) -> dict[DeciderKey, int]:
    """Return how often lines of lists have decided; where the tally cannot be used, warn and return
    nothing.
    """
    from crossgate.core.model.accesslist import DeciderKey
    from crossgate.formats.tally import Tally
    from crossgate.show.console import warn

    path = plan_path(context)
    if path == STANDARD_INPUT:
        return {}
    try:
        store = Tally(path)
        return {
            DeciderKey(each.name, number): hits
            for each in lists
            for number, hits in store.hits(each).items()
        }
    except PlanError as error:
        warn(f"{error}; the answer is given without it")
        return {}
