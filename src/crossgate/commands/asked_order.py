"""The order of the words in a question: sender, receiver and service, or the order of a claim."""

from __future__ import annotations

import re
from collections.abc import Sequence
from typing import TYPE_CHECKING

from crossgate.core.model.errors import PlanError
from crossgate.language.address_words import TO, ends_joined

if TYPE_CHECKING:
    from crossgate.core.model.plan import Plan


def ends_and_services(
    plan: Plan, command: str, source: str, destination: str, services: Sequence[str]
) -> tuple[str, str, list[str]]:
    """Return the ends and the services of a question asked as FROM TO SERVICE, or with `to` between
    the ends, as FROM to TO SERVICE or SERVICE FROM to TO. An end may be several words, as in a
    plan: `labs, voice but laptop`; services may have commas between them.

    Raises `PlanError` where the service comes first and no `to` separates the ends, and where an
    end is missing.
    """
    words = ends_joined([source, destination, *services])
    if len(words) < 2:
        raise PlanError(f"to whom does {words[0]} send? write: crossgate {command} FROM TO")
    source, destination, *services = words
    if TO in words and TO not in plan.names():
        place = words.index(TO)
        before, after = words[:place], words[place + 1 :]
        if len(before) in (1, 2) and after:
            *first, source = before
            destination, *rest = after
            return source, destination, _one_by_one([*first, *rest])
        raise PlanError(f"who sends stands before to, and to whom behind it: {command} FROM to TO")
    if services and plan.is_service(source) and not plan.is_service(words[-1]):
        raise PlanError(
            f"{source} is a service, and who sends comes first: crossgate {command} "
            f"{destination} {services[0]} {source}"
        )
    return source, destination, _one_by_one(services)


def _one_by_one(services: Sequence[str]) -> list[str]:
    """Return services of which several may be joined by commas with blanks."""
    return [part for each in services for part in re.split(r"\s*,\s+|\s+,\s*", each)]
