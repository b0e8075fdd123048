"""The order of the words in a question: sender, receiver and service, or the order of a claim."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING

from crossgate.core.model.errors import PlanError

if TYPE_CHECKING:
    from crossgate.core.model.plan import Plan

_TO = "to"


def ends_and_services(
    plan: Plan, command: str, source: str, destination: str, services: Sequence[str]
) -> tuple[str, str, list[str]]:
    """Return the ends and the services of a question asked as FROM TO SERVICE, or with `to` between
    the ends, as FROM to TO SERVICE or SERVICE FROM to TO.

    Raises `PlanError` where the service comes first and no `to` separates the ends.
    """
    words = [source, destination, *services]
    if _TO in words and _TO not in plan.names():
        place = words.index(_TO)
        before, after = words[:place], words[place + 1 :]
        if len(before) in (1, 2) and after:
            *first, source = before
            destination, *rest = after
            return source, destination, [*first, *rest]
        raise PlanError(f"who sends stands before to, and to whom behind it: {command} FROM to TO")
    if services and plan.is_service(source) and not plan.is_service(words[-1]):
        raise PlanError(
            f"{source} is a service, and who sends comes first: crossgate {command} "
            f"{destination} {services[0]} {source}"
        )
    return source, destination, list(services)
