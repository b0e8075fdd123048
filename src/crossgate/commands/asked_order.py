"""The order of the words in a question: sender, receiver and service, or the order of a claim."""

from __future__ import annotations

import re
from collections.abc import Sequence
from typing import TYPE_CHECKING

from crossgate.core.model.errors import PlanError

if TYPE_CHECKING:
    from crossgate.core.model.plan import Plan

_TO = "to"
_BEFORE_MORE = {"wild", "mask", "but"}
"""Words behind an address or a name, after which it goes on."""


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
    if _TO in words and _TO not in plan.names():
        place = words.index(_TO)
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


def ends_joined(words: list[str]) -> list[str]:
    """Return the words of a command line with those that are one end as one: with commas between
    them, with `wild`, `mask` or `but`, or `leases of` a subnet.

    Raises `PlanError` where a comma stands first or last.
    """
    found = list[str]()
    goes_on = False
    for index, word in enumerate(words):
        leased = word == "of" and words[index - 1 : index] == ["leases"]
        if (
            found
            and _TO not in (word, found[-1])
            and (goes_on or leased or word in _BEFORE_MORE or word[:1] == ",")
        ):
            found[-1] += f" {word}"
        else:
            found.append(word)
        goes_on = leased or word in _BEFORE_MORE or word[-1:] == ","
    if any("," in (each[:1], each[-1:]) for each in found):
        raise PlanError("an address or a name is missing beside a comma")
    return found
