"""A limit on the work of one exact question, so that none runs for hours or fills the memory.

Exact answers divide sets of packets into pieces, and some sets fall into more pieces than any
machine can hold. A question (one claim about a pair of places, one pair's traffic, one entry
against those above it) may take a certain number of pieces. Pieces are counted, not timed, so that
the same question ends the same way on every machine. Work outside a question is not counted.
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
    """An exact question was given up because it falls into more pieces than are allowed."""


class _Question:
    """The question that is being answered, and how many pieces it may still take."""

    __slots__ = ("asked", "left", "most")

    def __init__(self, asked: str, most: int) -> None:
        self.asked = asked
        self.most = self.left = most


_most: ContextVar[int] = ContextVar("most", default=MOST_PIECES)
_question: ContextVar[_Question | None] = ContextVar("question", default=None)


def allow(pieces: int) -> None:
    """Set how many pieces every question may take from now on."""
    _most.set(pieces)


def allowed() -> int:
    """Return how many pieces a question may take."""
    return _most.get()


@contextmanager
def question(asked: str) -> Iterator[None]:
    """Count the pieces of the enclosed code as one question; a question inside another belongs to
    that one.
    """
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
    """Count some pieces of the question that is being answered. Raises `TooManyPieces` when it has
    taken too many.
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
    """Where the enclosed code gives up a question, add it to `missed` and go on; where `missed` is
    None, raise it.
    """
    try:
        yield
    except TooManyPieces as error:
        if missed is None:
            raise
        missed.append(error)


@contextmanager
def answered(asked: str, missed: list[TooManyPieces] | None) -> Iterator[None]:
    """Answer the enclosed code as one question; where it is given up, treat it as `gathered`
    does.
    """
    with gathered(missed), question(asked):
        yield
