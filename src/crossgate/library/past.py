"""Which commits changed an answer."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from pathlib import Path
from typing import TYPE_CHECKING

from crossgate.core.model.address import Family
from crossgate.core.model.conditions import When
from crossgate.library.plans import trusting, when

if TYPE_CHECKING:
    from crossgate.core.model.plan import Plan
    from crossgate.formats.past import Ask, Since


def since(
    path: str | Path,
    source: str,
    destination: str,
    service: str,
    *,
    of: When | None = None,
    family: Family | None = None,
    every: bool = False,
    include_from: Sequence[str | Path] = (),
) -> list[Since]:
    """Return, for each conversation of a service between two ends, the commits of a plan's git
    repository that changed the verdict on it, newest first, and today's answer.

    Of many versions some are left out, unless `every` one is asked. Raises `PlanError` where the
    plan has no history, and for an unknown end or service.
    """
    from crossgate.core.answers.traces import TraceLimits
    from crossgate.formats.past import conversation_asked

    def ask(plan: Plan) -> Ask:
        limits = TraceLimits(family=family)
        return conversation_asked(source, destination, service, limits, of or when(plan))

    return _since(path, ask, every, include_from)


def claim_since(
    path: str | Path,
    line: str | int,
    *,
    every: bool = False,
    include_from: Sequence[str | Path] = (),
) -> list[Since]:
    """Return the commits that changed whether the claim in a line, as it is written today, holds:
    `LINE`, or `FILE:LINE` for an included file. Raises `PlanError` as `since` does.
    """
    from crossgate.formats.past import claim_asked
    from crossgate.language.statements import claim_at

    return _since(
        path, lambda plan: claim_asked(claim_at(plan, str(line)).text), every, include_from
    )


def _since(
    path: str | Path,
    question: Callable[[Plan], Ask],
    every: bool,
    include_from: Sequence[str | Path],
) -> list[Since]:
    from crossgate.formats.git import history
    from crossgate.formats.past import Past
    from crossgate.language.reader import read

    def answers() -> list[Since]:
        own = Path(path)
        reading = read(own)
        commits = history(own, [str(Path(each)) for each in reading.plan.files])
        return list(Past(own, reading, commits, question(reading.plan)).since(every))

    return trusting(include_from, answers)
