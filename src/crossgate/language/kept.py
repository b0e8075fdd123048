"""What is kept of one reading of a plan for the next: lists, their entries, and what is read around
them.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from typing import Any, NamedTuple

from crossgate.core.model.accesslist import AccessList
from crossgate.core.model.address import Family, Pattern
from crossgate.core.model.entry import AnyEntry
from crossgate.core.model.ethernet import EthernetList
from crossgate.language.lines import Line
from crossgate.language.listed import listed


class _Around(NamedTuple):
    """The lines outside the lists of a plan: those of groups, as words, and the others."""

    others: tuple[str, ...]
    groups: frozenset[tuple[str, ...]]

    @classmethod
    def of(cls, lines: Iterable[str]) -> _Around:
        """Sort the lines."""
        others, groups = list[str](), set[tuple[str, ...]]()
        for line in lines:
            words = tuple(line.split())
            if words[:1] == ("group",):
                groups.add(words)
            else:
                others.append(line)
        return cls(tuple(others), frozenset(groups))


class Kept:
    """What an earlier reading made of the lists of a plan, valid as long as everything around them
    is unchanged: whole lists, and entries by their list's first line and their own text.
    """

    def __init__(self) -> None:
        self._around = _Around((), frozenset())
        self._entries: dict[str, dict[str, AnyEntry]] = {}
        self._lists: dict[str, tuple[Sequence[Line], AccessList | EthernetList]] = {}
        self.last: tuple[Mapping[str, bytes], Any] | None = None
        """The plan that was the last to be read with changed bytes, by all of its bytes
        (`Reading.changed`).
        """
        self.tidy: dict[str, tuple[bytes, bool]] = {}
        """Whether files are in the standard layout, with their bytes (`change`)."""
        self._tables: dict[tuple[str, str], tuple[bytes, Mapping[Family, tuple[Pattern, ...]]]] = {}

    def addresses(
        self, file: str, data: bytes, column: str
    ) -> Mapping[Family, tuple[Pattern, ...]]:
        """Return the addresses of a table that a group is read from. Raises the errors of
        `listed`.
        """
        before, known = self._tables.get((file, column), (b"", {}))
        if before != data:
            known = listed(file, data, column)
            self._tables[file, column] = data, known
        return known

    def look_around(self, around: Sequence[str]) -> None:
        """Forget everything where the lines around the lists have changed; additional groups change
        nothing that was read without them.
        """
        now = _Around.of(around)
        if now.others != self._around.others or not self._around.groups <= now.groups:
            self._entries, self._lists = {}, {}
        self._around = now

    def entries(self, head: str) -> tuple[dict[str, AnyEntry], dict[str, AnyEntry]]:
        """Return the known entries of the list with a first line, and an empty dict for those that
        it has now.
        """
        before, self._entries[head] = self._entries.get(head, {}), {}
        return before, self._entries[head]

    def whole(self, lines: Sequence[Line]) -> AccessList | EthernetList | None:
        """Return the list that was read from the same lines, moved where they have moved together;
        None where there is none.
        """
        before, known = self._lists.get(lines[0].text, ((), None))
        if known is None or len(before) != len(lines) or before[0].file != lines[0].file:
            return None
        down = lines[0].number - before[0].number
        if any(
            one.text != other.text or one.number != other.number + down
            for one, other in zip(lines, before, strict=True)
        ):
            return None
        return known.moved(down) if down else known

    def keep(self, lines: Sequence[Line], access_list: AccessList | EthernetList) -> None:
        """Keep the list that was read from some lines without an error."""
        self._lists[lines[0].text] = lines, access_list
