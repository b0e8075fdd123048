"""A new plan for people: what it contains, which names were changed, and how to go on."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from shlex import quote

from crossgate.language.beginning import Begun
from crossgate.show.console import count, name, quiet, strong

MOST_RENAMED = 12


def lines(begun: Begun, file: str, unused: Sequence[str]) -> Iterator[str]:
    """Yield what was written."""
    plan = begun.plan
    subnets = sum(not each.outside for each in plan.segments.values())
    parts = [
        count(subnets, "subnet"),
        count(len(plan.devices), "device"),
        count(len(plan.hosts), "host"),
        count(len(plan.every_list), "list"),
    ]
    yield f"{strong(file)} is written: {', '.join(parts)}"
    for given, changed in begun.renamed[:MOST_RENAMED]:
        yield f"  {given} is named {name(changed)}"
    if len(begun.renamed) > MOST_RENAMED:
        yield quiet(
            f"  and {len(begun.renamed) - MOST_RENAMED} more names are otherwise: a letter, then "
            "letters, digits, _ or -"
        )
    if unused:
        yield quiet(f"not needed: column {', '.join(unused)}")
    yield f"go on with: crossgate check {quote(file)}"
