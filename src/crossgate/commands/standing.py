"""`crossgate` alone: the state of the plan, or how to begin."""

from __future__ import annotations

import os
import time
from pathlib import Path

import typer

from crossgate.commands.common import load, meter

MOST_SECONDS = 5
"""What takes longer is left to the command that does just that."""
MOST_ENTRIES = 5_000
"""The findings of a larger plan take longer."""


def standing(context: typer.Context) -> None:
    """Tell in under ten lines the state of the plan; exit status 1 when a finding is an error or an
    expectation fails.
    """
    from crossgate.show.console import write
    from crossgate.show.standing import WAYS_TO_BEGIN, standing_lines

    if (
        context.params.get("plan") is None
        and not os.environ.get("CROSSGATE_PLAN")
        and not any(Path().glob("*.gate"))
    ):
        write(WAYS_TO_BEGIN)
        raise typer.Exit(2)
    from crossgate.core.answers.standing import standing as stands
    from crossgate.core.audit import audit
    from crossgate.core.model.finding_kinds import Severity
    from crossgate.core.traffic.session import Session

    plan, start = load(context), time.monotonic()
    now = plan.now().replace(microsecond=0)
    session, audited = Session(plan), None
    if sum(len(each.entries) for each in plan.every_list.values()) <= MOST_ENTRIES:
        with meter("checking") as tell:
            audited = audit(session, now, tell)
    found = stands(session, now, lambda: time.monotonic() - start > MOST_SECONDS)
    write(standing_lines(plan, found, audited))
    if found.failed or (
        audited is not None and any(each.severity is Severity.ERROR for each in audited.findings)
    ):
        raise typer.Exit(1)
