"""What was observed on a running network: of a conversation at the machine that begins it, or of a
line's counter.
"""

from __future__ import annotations

from typing import NamedTuple

from crossgate.core.answers.sheet.tests import SeenInTest
from crossgate.core.conversation.opening import Conversation, service_label
from crossgate.core.model.accesslist import DeciderKey, line_name


class Observation(NamedTuple):
    """What was observed of a conversation; `where` is its place in the input."""

    where: str
    conversation: Conversation
    seen: SeenInTest

    def __str__(self) -> str:
        told = self.conversation
        return (
            f"{told.source.name} to {told.destination.name} {service_label(told.first)} {self.seen}"
        )


class Count(NamedTuple):
    """Whether a line counted anything while the conversations were tested."""

    where: str
    line: DeciderKey
    counted: bool

    def __str__(self) -> str:
        return f"{line_name(*self.line)} {'counted' if self.counted else 'did not count'}"


class Observed(NamedTuple):
    """All observations."""

    conversations: tuple[Observation, ...]
    counts: tuple[Count, ...]

    def __len__(self) -> int:
        return len(self.conversations) + len(self.counts)
