"""The values in which facts about a word are told."""

from __future__ import annotations

from collections.abc import Iterable
from typing import NamedTuple

from crossgate.core.answers.about.held import HeldEntries
from crossgate.core.answers.about.met import MetList
from crossgate.core.model.errors import Place


class Fact(NamedTuple):
    """One fact about a word: what kind of fact it is, and the names, addresses or texts."""

    what: str
    values: tuple[str, ...]


class About(NamedTuple):
    """All facts about one meaning of a word; `place` is where the plan defines it."""

    kind: str
    name: str
    place: Place | None
    facts: tuple[Fact, ...]
    met: tuple[MetList, ...] = ()
    held: tuple[HeldEntries, ...] = ()

    def __repr__(self) -> str:
        return f"<About {self.kind} {self.name}>"


def told(facts: Iterable[Fact]) -> tuple[Fact, ...]:
    """Return the facts that have something to tell."""
    return tuple(each for each in facts if each.values)
