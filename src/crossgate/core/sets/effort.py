"""A bound on one exact question, so that none runs for hours or fills the memory.

Exact answers divide sets of packets into pieces, and some sets fall into more than any machine can
hold. A question (one claim about a pair of places, one pair's traffic, one entry against those
above it) may take so many pieces; they are counted, not timed, so that the same question ends alike
on every machine. Work outside of a question is not counted.
"""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager
from contextvars import ContextVar

from crossgate.core.model.debug import log
from crossgate.core.model.errors import PlanError

MOST_PIECES = 1_000_000
"""About half a minute and less than 1 GB on a machine of today."""


class TooManyPieces(PlanError):
    """One exact question was given up: it falls into more pieces than are allowed."""


class _Question:
    """What is asked, and how many pieces are left of those that it may take."""

    __slots__ = ("asked", "left", "most")

    def __init__(self, asked: str, most: int) -> None:
        self.asked = asked
        self.most = self.left = most


_most: ContextVar[int] = ContextVar("most", default=MOST_PIECES)
_question: ContextVar[_Question | None] = ContextVar("question", default=None)


def allow(pieces: int) -> None:
    """Allow every question from here on so many pieces."""
    _most.set(pieces)


def allowed() -> int:
    """Return how many pieces a question may take."""
    return _most.get()


@contextmanager
def question(asked: str) -> Iterator[None]:
    """Count what is done in here as one question; one within another is part of that one."""
    if _question.get() is not None:
        yield
        return
    own = _Question(asked, _most.get())
    before = _question.set(own)
    try:
        yield
    finally:
        _question.reset(before)
        log(__name__, "%s: pieces %s", asked, own.most - own.left)


def spend(pieces: int = 1) -> None:
    """Count pieces of the question that is being answered. Raises `TooManyPieces` when they are too
    many.
    """
    asked = _question.get()
    if asked is not None:
        asked.left -= pieces
        if asked.left < 0:
            raise TooManyPieces(
                f"{asked.asked} falls into more than {asked.most:,} pieces, so it is not "
                "answered; ask for less at once (one service, smaller "
                f"sets of addresses), or allow more: --pieces {10 * asked.most}"
            )


@contextmanager
def gathered(missed: list[TooManyPieces] | None) -> Iterator[None]:
    """Add a question that is given up in here to `missed`, and go on; where there is no such list,
    it is raised.
    """
    try:
        yield
    except TooManyPieces as error:
        if missed is None:
            raise
        missed.append(error)


@contextmanager
def answered(asked: str, missed: list[TooManyPieces] | None) -> Iterator[None]:
    """Answer one question of many, which is `gathered` where it is given up."""
    with gathered(missed), question(asked):
        yield
