"""A pool of no processes."""

from __future__ import annotations

from collections.abc import Iterator, Sequence

from crossgate.spread.pools import Done, Part, Task


class Here:
    """A pool that does the parts in this process, the last ones first."""

    inherits = False

    def __init__(self, size: int) -> None:
        self.size = size

    def done(self, task: Task[Done], job: bytes, parts: Sequence[Part]) -> Iterator[Done]:
        return reversed([task(job, part) for part in reversed(parts)])

    def close(self) -> None:
        pass
