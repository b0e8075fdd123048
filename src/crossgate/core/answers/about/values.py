"""What is told of a word."""

from __future__ import annotations

from collections.abc import Iterable
from typing import NamedTuple

from crossgate.core.answers.about.held import Held
from crossgate.core.answers.about.met import Met
from crossgate.core.model.errors import Place


class Fact(NamedTuple):
    """One thing that is told of a word: what it is, and the names, addresses or texts."""

    what: str
    values: tuple[str, ...]


class About(NamedTuple):
    """All that is told of one thing that a word stands for; `place` is where the plan gives it."""

    kind: str
    name: str
    place: Place | None
    facts: tuple[Fact, ...]
    met: tuple[Met, ...] = ()
    held: tuple[Held, ...] = ()


def told(facts: Iterable[Fact]) -> tuple[Fact, ...]:
    """Return the facts that there is something to tell of."""
    return tuple(each for each in facts if each.values)
