"""What a translating device may choose for the source of a conversation, as far as a list can
distinguish it.
"""

from __future__ import annotations

from collections.abc import Iterator

from crossgate.core.model.accesslist import AccessList
from crossgate.core.model.packet import MOST_PORT
from crossgate.core.network.view import FIRST_CHOICE, Choice, View, choosing


def choices(access_list: AccessList, view: View) -> tuple[Choice, ...]:
    """Return some choices so that a list treats every possible one like one of these; none for a
    view that leaves no choice.
    """
    last = choosing(view)
    if last is None:
        return ()
    behind = sum(each.offset for each in view[view.index(last) :] if not each.side)
    pool = [value for each in last.pool for value in range(each.first, each.last + 1)]
    ends = [
        pattern
        for entry in access_list.entries
        for end in (entry.source, entry.destination)
        for pattern in end.patterns
    ]
    parting = [
        each
        for each in dict.fromkeys(ends)
        if len({each.contains(value + behind) for value in pool}) > 1
    ]
    alike: dict[tuple[bool, ...], int] = {}
    for value in pool:
        alike.setdefault(tuple(each.contains(value + behind) for each in parting), value)
    bounds = {FIRST_CHOICE, *(port for port in _bounds(access_list) if port > FIRST_CHOICE)}
    return tuple(Choice(value, port) for value in alike.values() for port in sorted(bounds))


def _bounds(access_list: AccessList) -> Iterator[int]:
    """Yield the ports at which a list may begin or cease to treat packets differently."""
    for entry in access_list.entries:
        asked = [term.ports or () for term in entry.service.terms]
        for first, last in (*(entry.qualifiers.source_ports or ()), *(x for y in asked for x in y)):
            yield from (each for each in (first, last + 1) if each <= MOST_PORT)
