"""Names of a grid that are treated alike, and so share a row or a column."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import NamedTuple

MANY = 20
"""Of more names those that fare alike are one."""
Told = Callable[[str, str], object]
"""From a sender and a receiver to what a grid shows of them; of a name and itself that is
nothing.
"""


class AlikeNames(NamedTuple):
    """Names that are treated alike."""

    names: tuple[str, ...]

    @property
    def label(self) -> str:
        """The heading of their row or column: the first name, and the number of the others."""
        return self.names[0] + f" +{len(self.names) - 1}" * (len(self.names) > 1)


def names_alike(
    senders: Sequence[str], receivers: Sequence[str], told: Told
) -> tuple[list[AlikeNames], list[AlikeNames]]:
    """Return the senders and the receivers of a grid; where there are many, those treated alike
    share a row or column.

    Where both are the same names, a name is like another if it reaches, and is reached by, all
    others as that one is, and each of the two reaches the other.
    """
    if [*senders] == [*receivers]:
        both = _among(senders, told) if len(senders) > MANY else _each(senders)
        return both, both

    def turned(receiver: str, sender: str) -> object:
        return told(sender, receiver)

    return _rows(senders, receivers, told), _rows(receivers, senders, turned)


def example_of(one: AlikeNames, other: AlikeNames) -> tuple[str, str]:
    """Return a sender and a receiver that represent two groups of names, two different ones where
    possible.
    """
    pairs = ((here, there) for here in one.names for there in other.names if here != there)
    return next(pairs, (one.names[0], other.names[0]))


def rows_alike(senders: Sequence[str], receivers: Sequence[str], told: Told) -> list[AlikeNames]:
    """Return senders, joined where all their rows read alike; a name has no cell for itself, so
    that cell fits any other.
    """
    found: list[tuple[list[str], list[object]]] = []
    for sender in senders:
        own = [_ANY if each == sender else told(sender, each) for each in receivers]
        for names, known in found:
            if all(one == two or _ANY in (one, two) for one, two in zip(known, own, strict=True)):
                names.append(sender)
                known[:] = [
                    two if one is _ANY else one for one, two in zip(known, own, strict=True)
                ]
                break
        else:
            found.append(([sender], own))
    return [AlikeNames(tuple(names)) for names, _ in found]


_ANY = object()


def _each(names: Sequence[str]) -> list[AlikeNames]:
    return [AlikeNames((each,)) for each in names]


def _rows(senders: Sequence[str], receivers: Sequence[str], told: Told) -> list[AlikeNames]:
    return rows_alike(senders, receivers, told) if len(senders) > MANY else _each(senders)


def _among(names: Sequence[str], told: Told) -> list[AlikeNames]:
    numbers: dict[object, int] = {}
    rows = [
        [numbers.setdefault(told(one, other), len(numbers)) for other in names] for one in names
    ]
    columns = [list(each) for each in zip(*rows, strict=True)]
    found: list[list[int]] = []
    for name in range(len(names)):
        for several in found:
            first = several[0]
            inner = len(several) < 2 or rows[first][several[1]] == rows[first][name]
            if (
                inner
                and rows[first][name] == rows[name][first]
                and _same_but(rows[first], rows[name], first, name)
                and _same_but(columns[first], columns[name], first, name)
            ):
                several.append(name)
                break
        else:
            found.append([name])
    return [AlikeNames(tuple(names[each] for each in several)) for several in found]


def _same_but(here: list[int], there: list[int], one: int, other: int) -> bool:
    """Whether two rows are the same but for two places, the second after the first."""
    return (
        here[:one] == there[:one]
        and here[one + 1 : other] == there[one + 1 : other]
        and here[other + 1 :] == there[other + 1 :]
    )
