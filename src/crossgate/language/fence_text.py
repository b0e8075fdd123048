"""What a fence is to let by, and the fence as it is written in a plan."""

from __future__ import annotations

from collections.abc import Collection, Iterable, Sequence
from typing import NamedTuple

from crossgate.core.model.address import Family
from crossgate.core.model.entry import Action


class FenceAsked(NamedTuple):
    """What a person asks of a fence: the subnet, services open at its gateways, names that stay
    reachable, and whether others may come in.
    """

    subnet: str
    allow: Sequence[str]
    exceptions: Sequence[str]
    one_way: bool


class Claimed(NamedTuple):
    """An expectation to be proved before it is written, and those for each subnet, of which some
    may hold where it does not.
    """

    whole: str
    parts: tuple[str, ...]


class FenceList(NamedTuple):
    """A list to be written, and where: its first line, a note, its entries without numbers, and its
    `place` lines.
    """

    name: str
    family: Family
    note: str
    entries: tuple[str, ...]
    placements: tuple[str, ...]
    otherwise: Action = Action.PERMIT

    def lines(self) -> list[str]:
        """Return it as lines of a plan."""
        numbered = [f"    {10 * count} {text}" for count, text in enumerate(self.entries, 1)]
        return [
            f"list {self.name} extended {self.family.word}",
            f'    note "{self.note}"',
            *numbered,
            f"    otherwise {self.otherwise}",
        ]


class FenceHead(NamedTuple):
    """Entries to be written at the top of a list that is placed where one of the fence's would be,
    each with a comment by which it is found again.
    """

    access_list: str
    numbers: tuple[int, ...]
    entries: tuple[str, ...]


class Fence(NamedTuple):
    """What is to be written: groups, lists, entries at the top of other lists, expectations."""

    groups: list[str]
    lists: list[FenceList]
    heads: list[FenceHead]
    expectations: list[Claimed]

    def without(self, needless: Collection[tuple[str, int]]) -> Fence:
        """Return the fence without some entries, given by list and number; a list without entries
        is left out too.
        """
        lists = [
            each._replace(
                entries=tuple(
                    text
                    for count, text in enumerate(each.entries, 1)
                    if (each.name, 10 * count) not in needless
                )
            )
            for each in self.lists
        ]
        heads = []
        for each in self.heads:
            kept = [
                pair
                for pair in zip(each.numbers, each.entries, strict=True)
                if (each.access_list, pair[0]) not in needless
            ]
            heads.append(
                each._replace(
                    numbers=tuple(number for number, _ in kept),
                    entries=tuple(text for _, text in kept),
                )
            )
        return self._replace(lists=[each for each in lists if each.entries], heads=heads)

    def lines(self, claims: Iterable[str], accepted: Iterable[str] = ()) -> list[str]:
        """Return the whole fence as lines of a plan, with these expectations and accepted
        findings.
        """
        placements = [line for each in self.lists for line in each.placements]
        parts = [
            self.groups,
            *(each.lines() for each in self.lists),
            placements,
            list(dict.fromkeys(claims)),
            list(accepted),
        ]
        found = [line for part in parts if part for line in ("", *part)]
        return found[1:]


def first_line(subnet: str) -> str:
    """Return the comment line before a fence."""
    return f"# fence around {subnet}; to take it away: crossgate fence {subnet} --undo"


def last_line(subnet: str) -> str:
    """Return the comment line after a fence."""
    return f"# end of the fence around {subnet}"


def mark(subnet: str) -> str:
    """Return the comment of a fence's entries in other lists."""
    return f"fence around {subnet}"
