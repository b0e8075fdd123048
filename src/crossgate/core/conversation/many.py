"""Ways that have to be distinguished by what each of them met: as families of sets of marks,
however many there are (`families`).

Where lists on the way back would deny an answer, or many lists judge the TLS version, it matters
for each way which stateful devices it passed there and back; there may be two to the power of the
number of such devices. A *mark* is a token that is met there or back, or a decision of a list
there.
"""

from __future__ import annotations

from collections.abc import Collection, Iterable, Iterator, Sequence
from functools import reduce
from operator import or_

from crossgate.core.conversation.endings import MetLink
from crossgate.core.conversation.families import NONE, Families
from crossgate.core.conversation.places import WalkPlace
from crossgate.core.conversation.trails import NEVER, Stop, met
from crossgate.core.network.nodes import SequenceEnd
from crossgate.core.network.way_graph import WayGraph
from crossgate.core.network.ways import Ways

_LEGS = 16
"""More legs than a conversation has."""


class Marks:
    """The marks of conversations between two ends, as numbers in the sets of families.

    What is met at one device, there and back, has numbers close to each other; so families stay
    small, although each answer depends on the way of its packet.
    """

    def __init__(self, ways: Ways, at: Sequence[WalkPlace], devices: bool) -> None:
        """Make them; with `devices`, devices that are passed on the way back are marked, too."""
        self.families = Families()
        self.devices = devices
        self._tokens = _in_order(ways, at)
        self._ranks = {mark: rank for rank, mark in enumerate(self._tokens)}

    def token(self, way: int, token: int) -> int:
        """Return the mark of a token that is met on the way there (0) or back (1)."""
        return self._ranks[way, token] * _LEGS

    def line(self, way: int, token: int, leg: int) -> int:
        """Return the mark of a list's decision about a leg, given by its number."""
        return self._ranks[way, token] * _LEGS + 1 + leg

    def lines_in(self, family: int) -> Iterator[tuple[int, int, int]]:
        """Yield the leg, the token and the mark of each line that decides on some way of a
        family.
        """
        for mark in self.families.numbers(family):
            rank, leg = divmod(mark, _LEGS)
            if leg:
                yield leg - 1, self._tokens[rank][1], mark

    def tokens_of(self, family: int) -> tuple[set[int], set[int]]:
        """Return the tokens that one way of a family meets, there and back."""
        met = [self._tokens[mark // _LEGS] for mark in self.families.member(family)]
        there, back = ({token for own, token in met if own == way} for way in (0, 1))
        return there, back


def _in_order(ways: Ways, at: Sequence[WalkPlace]) -> list[tuple[int, int]]:
    """Return the tokens there and back in the order of the way there, those back placed beside the
    tokens of the same device.
    """
    place = dict[str, int]()
    found = list[tuple[int, int, tuple[int, int]]]()
    for number, token in enumerate(_met(ways.there)):
        found.append((number, 0, (0, token)))
        device = at[token].device or at[token].remembers
        if device is not None:
            place.setdefault(device, number)
    beside = 0
    for token in reversed(_met(ways.back)):
        beside = place.get(at[token].device or at[token].remembers or "", beside)
        found.append((beside, 1, (1, token)))
    return [mark for *_, mark in sorted(found, key=lambda each: each[:2])]


def _met(graph: WayGraph) -> list[int]:
    """Return the tokens that are met on some way, in an order that all ways keep."""
    return list(dict.fromkeys(token for step in graph.steps for token, _ in step.moves))


class Many:
    """What is known of ways of one kind that have come equally far: the marks of each.

    `link` is what one of them met. `lines`, `later`, `by` and `remembered` are what was found at
    the last place; of the first two, marks are made (`decided`).
    """

    __slots__ = ("by", "family", "later", "lines", "link", "marks", "remembered")

    def __init__(self, marks: Marks, family: int, link: MetLink | None = None) -> None:
        self.marks, self.family, self.link = marks, family, link
        self.lines, self.later, self.by, self.remembered = 0, 0, NEVER, frozenset[str]()

    @property
    def number(self) -> int:
        """How many ways they are."""
        return self.marks.families.total(self.family)

    def copy(self) -> Many:
        """Return a copy that can be continued independently."""
        return Many(self.marks, self.family, self.link)

    def times(self, factor: int) -> Many:
        """Return the same with the number of ways multiplied."""
        return Many(self.marks, self.marks.families.times(self.family, factor), self.link)

    def and_(self, other: Many | None) -> Many:
        """Return what is known of both together; of this one where the other is None."""
        return (
            self
            if other is None
            else Many(self.marks, self.marks.families.sum(self.family, other.family), self.link)
        )

    def met(self, way: int, token: int) -> None:
        """Mark that all of them met a place, given by its token."""
        self.family = self.marks.families.adding(self.family, self.marks.token(way, token))

    def judged(self, place: int, device: int) -> tuple[Many | None, Many | None]:
        """Return those that met a place on the way there and its device on the way back, and the
        others; None for none.
        """
        families, marks = self.marks.families, self.marks
        met, others = families.parted(self.family, marks.token(0, place))
        # A list that was asked left its decision as its mark.
        decided, unmet = families.parted(others, marks.line(0, place, 0))
        met = families.sum(met, decided)
        seen, unseen = families.parted(met, marks.token(1, device))
        rest = families.sum(unmet, unseen)
        return (None if seen == NONE else Many(marks, seen)), (
            None if rest == NONE else Many(marks, rest)
        )

    def decided(self, way: int, token: int, leg: int) -> None:
        """Mark that the list at a place decided about a leg of all of them."""
        self.family = self.marks.families.adding(self.family, self.marks.line(way, token, leg))

    def parted(self, token: int) -> tuple[Many | None, Many | None]:
        """Return those conversations that met a place, given by its token, on the way there, and
        the others; None in the place of either where there are none.
        """
        having, without = self.marks.families.parted(self.family, self.marks.token(0, token))
        one, other = (
            None if each == NONE else Many(self.marks, each, self.link)
            for each in (having, without)
        )
        return one, other


def link_of(
    graph: WayGraph, tokens: Iterable[int], end: SequenceEnd | Stop, devices: Collection[int] = ()
) -> MetLink | None:
    """Return what is met on a way that meets exactly the given tokens, and any of some devices, and
    that has this outcome.
    """
    of, reached = graph.nodes.of, dict[int, int]()
    for number in graph.nodes.below(graph.number):
        reached[number] = reduce(
            or_, (1 << token | reached[following] for token, following in of[number].children), 0
        )
    wanted = sum(1 << token for token in tokens)
    stack: list[tuple[int, MetLink | None, int]] = [(graph.number, None, wanted)]
    while stack:
        number, link, left = stack.pop()
        if left & ~reached[number]:
            continue  # it has gone round what it has to meet
        ends = (
            link is not None and link.token == end.token
            if isinstance(end, Stop)
            else end in of[number].ends
        )
        if not left and ends:
            return link
        for token, following in of[number].children:
            if wanted >> token & 1 or token in devices:
                stack.append(
                    (
                        following,
                        MetLink(link, token, following, met(link) + 1),
                        left & ~(1 << token),
                    )
                )
    raise AssertionError("no way meets these tokens")
