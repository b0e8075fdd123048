"""A watched plan for people: a screen for each save."""

from __future__ import annotations

from collections.abc import Iterator
from datetime import datetime

from crossgate.core.impact import Impact
from crossgate.core.model.errors import PlanError, PlanErrors
from crossgate.core.model.plan import Plan
from crossgate.show.console import alert, count, quiet, strong, word
from crossgate.show.edit import impact_lines

MOST_ERRORS = 8


def state_lines(plan: Plan, at: datetime, stands: tuple[int, int]) -> Iterator[str]:
    """Yield the state of a plan when the watch begins."""
    yield f"{_clock(at)} {strong(plan.files[0])}: {_stands(stands)}"
    yield quiet(
        f"watching {count(len(plan.sources), 'file')}; save to see what a change does, Ctrl-C ends it"
    )


def save_lines(plan: Plan, at: datetime, impact: Impact, stands: tuple[int, int]) -> Iterator[str]:
    """Yield the effect of a save since the last plan without errors."""
    yield ""
    yield f"{_clock(at)} {strong('saved')}: {_stands(stands)}"
    yield from impact_lines(plan, impact)


def error_lines(at: datetime, error: PlanError, goes_on: bool) -> Iterator[str]:
    """Yield the errors of a plan; `goes_on` says that there was a plan without errors before."""
    errors = error.errors if isinstance(error, PlanErrors) else (error,)
    yield ""
    yield f"{_clock(at)} {word('error', bold=True, shown=count(len(errors), 'error'))}"
    yield from (str(each) for each in errors[:MOST_ERRORS])
    if len(errors) > MOST_ERRORS:
        yield quiet(f"and {len(errors) - MOST_ERRORS} more; crossgate check tells all")
    if goes_on:
        yield quiet("what the next save does is told against the last plan without errors")


def _clock(at: datetime) -> str:
    return quiet(f"{at:%H:%M:%S}")


def _stands(stands: tuple[int, int]) -> str:
    held, failed = stands
    told = "no expectations" if not held + failed else f"{held} hold" if held != 1 else "1 holds"
    return told + (f", {alert(f'{failed} fail' if failed != 1 else '1 fails')}" if failed else "")
