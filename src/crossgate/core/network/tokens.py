"""The tokens of one family in one network, each with a number: places with lists, stateful devices
that have some, and borders of translations. Whatever else packets cross makes no difference to
their verdicts.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator

from crossgate.core.model.address import Family
from crossgate.core.model.network import Direction, Point, PointKind
from crossgate.core.model.plan import Plan
from crossgate.core.network.paths import Crossing, Hop
from crossgate.core.network.way_graph import Border, Token


class Tokens:
    """Numbers tokens. `of` are all of them by their numbers, `placed` the places with lists."""

    def __init__(
        self,
        plan: Plan,
        family: Family,
        beside: Tokens | None = None,
        places: Iterable[tuple[Point, Direction]] | None = None,
    ) -> None:
        """Find the lists of a plan; its tokens are numbered together with those that are `beside`.
        With `places`, lists are taken to stand at just these places.
        """
        self.of: list[Token] = [] if beside is None else beside.of
        self._numbers: dict[Token, int] = {} if beside is None else beside._numbers
        asked = {
            (point, direction)
            for point, direction, listed_family in plan.asked
            if listed_family is family
        }
        listed = {Crossing(*each).remembered_by for each in asked}
        self._stateful = {
            name
            for known in (plan.devices, plan.hosts)
            for name, each in known.items()
            if each.stateful and name in listed
        }
        self.placed = {Crossing(*each) for each in (asked if places is None else places)}
        self._translating = {
            each.device: plan.devices[each.device].itself for each in plan.translations[family]
        }
        self._translated_at = {each.point for each in plan.translations[family]}

    def number(self, token: Token) -> int:
        """Return the number of a token, a new one where it has none yet."""
        number = self._numbers.setdefault(token, len(self._numbers))
        if number == len(self.of):
            self.of.append(token)
        return number

    def met(self, hop: Hop) -> tuple[int, ...]:
        """Return the tokens of a hop: the stateful devices passed, then the places with lists and
        the borders of translations, in order.
        """
        found = []
        for event in self.events(hop):
            if not isinstance(event, tuple) or isinstance(event, Border):
                found.append(self.number(event))
            elif event[1]:
                found.append(self.number(event[0]))
        return tuple(found)

    def events(self, hop: Hop) -> Iterator[str | Border | tuple[Crossing, bool]]:
        """Yield what a hop meets, in order: the stateful devices passed, then all that it crosses,
        each with whether a list stands there, and the borders of translations. A border comes
        before the list on the way out, and after it on the way in.
        """
        if self._stateful:
            passed = {
                name
                for crossing in hop.crossings
                for name in (crossing.point.device, crossing.remembered_by)
            } | {hop.device}
            yield from sorted(self._stateful & passed)
        for each in hop.crossings:
            border = self._border(each)
            if border is not None and each.direction is Direction.OUTBOUND:
                yield border
            yield each, each.rulings is not None or each in self.placed
            if border is not None and each.direction is Direction.INBOUND:
                yield border

    def _border(self, crossing: Crossing) -> Border | None:
        """Return the border of translations that is crossed, if any. Interfaces without rules do
        the same for packets, whichever they are: they are one border of their device.
        """
        itself = self._translating.get(crossing.point.owner)
        if (
            itself is None
            or crossing.point.kind is not PointKind.INTERFACE
            or crossing.rulings is not None
        ):
            return None
        ruled = crossing.point in self._translated_at
        return Border(crossing.point if ruled else itself, crossing.direction)
