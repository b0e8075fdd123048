"""`crossgate watch`: the effect of every save of the plan: what holds and fails now, findings,
traffic.
"""

from __future__ import annotations

import sys
import time
from collections.abc import Iterable
from datetime import datetime
from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from crossgate.commands.common import plan_file, print_json_line, read_file
from crossgate.commands.shared_options import JsonOption
from crossgate.formats.disk import Stamp, stamps_of

if TYPE_CHECKING:
    from crossgate.core.traffic.session import Session


_SECOND = 1_000
"""So often, in milliseconds, are the files looked at where the system tells of no change."""
_SETTLED = 0.1
"""A save is over when the files have stayed as they are for so many seconds."""


def watch(
    context: typer.Context,
    once: Annotated[
        bool,
        typer.Option(
            "--once",
            help="End after the next save; exit status 1 when it breaks something or has errors.",
        ),
    ] = False,
    as_json: JsonOption = False,
) -> None:
    """Wait for saves of the plan, and show what each does since the last plan without errors."""
    from crossgate.core.impact import impact_of
    from crossgate.core.model.errors import PlanError
    from crossgate.core.model.finding_kinds import Severity
    from crossgate.core.traffic.session import Session
    from crossgate.formats.json.watch import errors_document, save_document
    from crossgate.show.console import write
    from crossgate.show.watch import error_lines, save_lines, state_lines

    path = plan_file(context, "watch")
    good: Session | None = None
    files: tuple[str, ...] = (str(path),)
    saved = False
    while True:
        seen, now, bad = stamps_of(files), datetime.now(), False
        try:
            new = Session(read_file(path))
        except PlanError as error:
            if good is None and not path.exists():
                raise
            bad, lines, document = (
                True,
                error_lines(now, error, good is not None),
                errors_document(str(path), now, error),
            )
        else:
            now = new.plan.now()
            files, stands = new.plan.sources, _standing(new, now)
            seen = {name: seen.get(name, stamp) for name, stamp in stamps_of(files).items()}
            impact = None if good is None else impact_of(good, new, now)
            bad = impact is not None and (
                bool(impact.broken)
                or any(each.severity is Severity.ERROR for each in impact.findings)
            )
            lines = (
                state_lines(new.plan, now, stands)
                if impact is None
                else save_lines(new.plan, now, impact, stands)
            )
            document, good = save_document(new.plan, now, impact, stands), new
        if as_json:
            print_json_line(document)
        else:
            write(lines)
        sys.stdout.flush()
        if once and saved:
            raise typer.Exit(1 if bad else 0)
        _wait(files, seen)
        saved = True


def _standing(session: Session, now: datetime) -> tuple[int, int]:
    """Return how many expectations hold and fail."""
    from crossgate.core.answers.standing import standing

    stands = standing(session, now, lambda: False)
    return stands.held, stands.failed


def _wait(files: Iterable[str], seen: dict[str, Stamp]) -> None:
    """Wait until a file differs from what was seen, and is completely written.

    The system reports changes in the folders; where it reports none, the files are checked every
    second.
    """
    from watchfiles import watch as changes

    folders = {str(Path(name).parent) for name in files}
    for _ in changes(
        *folders,
        watch_filter=None,
        recursive=False,
        step=50,
        debounce=200,
        rust_timeout=_SECOND,
        yield_on_timeout=True,
        raise_interrupt=False,
    ):
        found = stamps_of(files)
        if found != seen:
            _settle(files, found)
            return
    raise typer.Exit(130)  # interrupted


def _settle(files: Iterable[str], found: dict[str, Stamp]) -> None:
    """Wait until files no longer change: some editors empty a file, or remove it, before they write
    it again.
    """
    for _ in range(int(2 / _SETTLED)):
        time.sleep(_SETTLED)
        before, found = found, stamps_of(files)
        if found == before and None not in found.values():
            return
