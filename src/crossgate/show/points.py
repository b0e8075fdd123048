"""Places for people: what a conversation crosses, what is placed there, and where a list would fit
well.
"""

from __future__ import annotations

from collections.abc import Iterator

from crossgate.core.answers.points import Points
from crossgate.core.model.entry import Kind
from crossgate.core.model.network import Direction
from crossgate.show.console import folded, name, quiet, strong
from crossgate.show.width import columns

_MOST_FLOWS = 8
_WHY = {
    Kind.STANDARD: "near the destination, since it sees only sources",
    Kind.EXTENDED: "near the source, so that what it denies travels no further",
}


def lines(found: Points) -> Iterator[str]:
    """Yield the places crossed by a conversation of one family, and those that suit a list."""
    source, destination = found.source, found.destination
    yield f"{strong(source.name)} to {strong(destination.name)}  {source.address.family.label}"
    rows = []
    for back in (False, True):
        before: bool | None = None
        for point in (each for each in found.crossed if each.back is back):
            placed = name(point.placed.name) if point.placed else quiet("no list")
            lead = (
                ""
                if point.elsewhere is before
                else quiet("or by")
                if point.elsewhere
                else "back"
                if back
                else "there"
            )
            before = point.elsewhere
            rows.append([lead, str(point.crossing.point), str(point.crossing.direction), placed])
    yield from columns(rows, indent=2)
    if not found.crossed and not found.suited:
        yield "  crosses no place where a list could stand"
    for place in found.suited:
        crossing = place.crossing
        if crossing.direction is Direction.WITHIN:
            yield (
                f"  an extended list suits {strong(crossing.where)}: no device is on the way, and "
                "it is asked about all that goes between machines there"
            )
            continue
        kind = "an extended" if place.kind is Kind.EXTENDED else "a standard"
        too = "".join(f" and {each.point}" for each in place.beside)
        yield (f"  {kind} list suits {strong(f'{crossing.where}{too}')}: {_WHY[place.kind]}")
        shown = [f"{start} to {end}" for start, end in place.also[:_MOST_FLOWS]]
        more = f" and {len(place.also) - _MOST_FLOWS} more" if len(place.also) > _MOST_FLOWS else ""
        yield from map(
            quiet,
            folded(
                f"also passes there: {', '.join(shown)}{more}"
                if shown
                else "nothing else passes there",
                4,
            ),
        )
