"""A change of a plan for people, before it is made: the text, then what it does."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from difflib import unified_diff

from crossgate.core.impact import Review
from crossgate.core.model.plan import Plan
from crossgate.show.console import count, folded, quiet, strong, word
from crossgate.show.sets import difference_lines

MOST_DIFFERENCES = 10


def diff_lines(old: Mapping[str, bytes], new: Mapping[str, bytes]) -> Iterator[str]:
    """Yield the unified diff of the files that change, without line endings."""
    for file, data in new.items():
        before, after = (text.decode("utf-8-sig").removesuffix("\n").split("\n") for text in (old[file], data))
        yield from unified_diff(before, after, file, file, lineterm="")


def painted(line: str) -> str:
    """Paint a line of a diff."""
    if line.startswith(("---", "+++", "@@")):
        return quiet(line)
    return word({"+": "permit", "-": "deny"}.get(line[:1], ""), shown=line) if line[:1] in "+-" else line


def review_lines(new: Plan, review: Review) -> Iterator[str]:
    """Yield what a change does to expectations, traffic and findings."""
    for turned in review.turned:
        expectation = turned.now.expectation
        mark = word("held", bold=True, shown="holds now") if turned.now.held else word("failed", bold=True, shown="breaks")
        yield f"{mark}  {quiet(str(expectation.place.line))}  {expectation.text}"
        if not turned.now.held:
            yield from folded(turned.now.why, 4)
    if review.differences:
        yield from difference_lines(new, review.differences, MOST_DIFFERENCES, rest="--json tells all")
    else:
        yield "no packet is treated otherwise"
    if review.findings:
        yield strong(f"{count(len(review.findings), 'new finding')}:")
    for finding in review.findings:
        number = "" if finding.entry is None else f" {finding.entry}"
        where = "" if finding.access_list is None else f" in {finding.access_list}{number}"
        yield f"  {word(finding.severity)} {finding.name}{where}"
        yield from folded(finding.message, 4)
