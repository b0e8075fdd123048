"""Expectations for people: a line each, what broke the failed ones and what they need, and what nothing reached."""

from __future__ import annotations

from collections.abc import Iterator, Sequence

from crossgate.core.answers.verify import Verified
from crossgate.core.model.accesslist import AccessList, Entry
from crossgate.core.model.plan import Plan
from crossgate.show.console import columns, count, folded, leading_word, quiet, strong, word


def lines(plan: Plan, results: Sequence[Verified], unreached: Sequence[tuple[AccessList, Entry]]) -> Iterator[str]:
    """Yield the results as lines."""
    if not results:
        yield f"{plan.files[0]} expects nothing yet; a line that does: expect deny ping HOST to HOST"
    for result in results:
        expectation = result.expectation
        comment = quiet(f'  "{expectation.comment}"') if expectation.comment else ""
        said = "held" if result.held else "failed" if result.answered else "open"
        yield f"{word(said, bold=not result.held)}{' ' * (6 - len(said))}  {quiet(f'{expectation.place.line:>4}')}  {expectation.text}{comment}"
        if not result.held:
            yield from folded(result.why, 14)
            yield from folded(f"needed: {result.needed}", 14)
    if unreached:
        yield ""
        yield "No expectation reached:"
        rows = [[access_list.name, str(entry.number), leading_word(entry.text)] for access_list, entry in unreached]
        yield from columns(rows, indent=2)
    if results:
        failed = sum(not result.held and result.answered for result in results)
        unknown = sum(not result.answered for result in results)
        yield ""
        yield strong(
            f"{count(len(results) - failed - unknown, 'expectation')} held, {failed} failed"
            + (f", {unknown} not answered" if unknown else "")
        )
