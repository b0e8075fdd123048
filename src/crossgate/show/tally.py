"""The tally for people: hits, entry by entry."""

from __future__ import annotations

from collections.abc import Iterator, Mapping

from crossgate.core.model.plan import Plan
from crossgate.show.console import leading_word, quiet, strong, word
from crossgate.show.width import columns


def lines(plan: Plan, hits: Mapping[str, Mapping[int | None, int]]) -> Iterator[str]:
    """Yield each list's entries with their hits, which are packets."""
    if not any(number for each in hits.values() for number in each.values()):
        yield "nothing is counted yet; run trace or verify with --tally"
        return
    yield quiet("packets that each line decided: a conversation counts once a leg")
    for name, numbers in hits.items():
        access_list = plan.any_list(name)
        yield f"list {strong(name)}"
        rows = [
            [str(entry.number), _hits(numbers.get(entry.number, 0)), leading_word(entry.text)]
            for entry in access_list.entries
        ]
        yield from columns(
            [*rows, ["otherwise", _hits(numbers.get(None, 0)), word(access_list.otherwise.action)]],
            indent=2,
        )


def _hits(number: int) -> str:
    return f"{number:>7,}" if number else quiet(f"{number:>7}")
