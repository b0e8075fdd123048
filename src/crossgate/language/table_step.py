"""Rows of tables, brought into a plan: which name of it each row belongs to, and what the table no
longer has.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Iterable, Sequence
from pathlib import PurePath
from typing import Any

from crossgate.core.model.errors import Place, PlanError, PlanErrors
from crossgate.core.model.named import NameSpace
from crossgate.language.draft import Draft
from crossgate.language.known_rows import (
    ComingTable,
    Index,
    Match,
    Own,
    RowChanges,
    RowKey,
    few,
)
from crossgate.language.lines import tokens
from crossgate.language.lines_in_step import LineParts
from crossgate.language.renaming import write_anew
from crossgate.language.table_rows import (
    TableRow,
    field_of,
    plain_name,
)
from crossgate.language.uses import texts_of


class TableStep:
    """Brings a draft in step with tables, and keeps for each name the row that it came from."""

    def __init__(self, draft: Draft) -> None:
        self.draft = draft
        self.plan = draft.plan
        self.came_from: dict[str, TableRow] = {}
        self.anew: dict[str, str] = {}
        self.errors: list[PlanError] = []
        draft.explained = self._explained

    def _explained(self, error: PlanError) -> PlanError:
        """Return an error in a line that came from a row as an error at that row."""
        words = [each.text for each in tokens(error.source)]
        name = ""
        if words[:1] in (["host"], ["subnet"], ["group"]):
            name = words[1]
        elif words[:1] == ["interface"] and "on" in words[:-1]:
            name = words[words.index("on") + 1]
        row = self.came_from.get(name)
        if row is None:
            return error
        word = error.source[error.column - 1 : error.column - 1 + error.width]
        return row.problem(error.message, field_of(row, word))

    def _each(self, matches: Iterable[Match], take_in: Callable[[Match], None]) -> None:
        """Apply all rows; errors in single rows are collected until the end. Raises
        `PlanErrors`.
        """
        for each in matches:
            try:
                take_in(each)
            except PlanError as error:
                self.errors.append(error)
        if self.errors:
            raise PlanErrors(
                sorted(self.errors, key=lambda each: each.place.line if each.place else 0)
            )

    def _matches(
        self,
        table: ComingTable,
        own: Sequence[Own],
        said: RowChanges,
        addresses: Callable[[TableRow], Sequence[Any]],
    ) -> list[Match]:
        """Return what each row belongs to, and write new names that rows give. Raises
        `PlanErrors`.
        """
        index = Index(own)
        found: list[Match] = []
        named: dict[str, TableRow] = {}
        met: dict[str, TableRow] = {}
        anew: dict[str, str] = {}

        def understood(row: TableRow) -> Match:
            given = plain_name(row.values.get("name", ""))
            known = index.find(row, given, table.key, addresses)
            name = given
            if known is not None and (
                not given or not table.whole or given.lower() == known.lower()
            ):
                name = known
            if not name:
                raise row.problem("a name is missing", "name")
            if known is None and index.has(name):
                what = "hardware address" if table.key is RowKey.MAC else "address"
                raise row.problem(
                    f"the plan's {name} has another {what}; give one of them another name", "name"
                )
            other = named.get(name) or met.get(known or "")
            if other is not None:
                raise row.problem(f"{known or name} is in row {other.number} already", "name")
            named[name] = row
            if known is not None:
                met[known] = row
                if known != name:
                    anew[known] = name
            return Match(row, name, known)

        for row in table.rows:
            try:
                match = understood(row)
            except PlanError as error:
                if table.whole:
                    self.errors.append(error)
                else:
                    self.draft.remarks.append(f"row {row.number} is left out: {error.message}")
                continue
            found.append(match)
            self.came_from[match.name] = row
        if anew and not self.errors:
            write_anew(self.draft, NameSpace.NAME, anew)
            self.anew |= anew
            for old, new in anew.items():
                said.add("renamed", f"{old} is {new}")
        return found

    def _finished(
        self,
        table: ComingTable,
        kind: str,
        own: Sequence[Own],
        matches: Sequence[Match],
        said: RowChanges,
        kept: frozenset[Place],
    ) -> str:
        """Remove or report what the table no longer has, and say all that was done."""
        known = {each.known for each in matches}
        gone = [each for each in own if each.name not in known] if table.whole else []
        if gone and not table.prune:
            names = few([each.name for each in gone])
            self.draft.remarks.append(
                f"not in {PurePath(table.file).name}: {names}; --prune takes what is gone out"
            )
        elif gone:
            self._see_unused(
                kind,
                {each.name for each in gone},
                kept | {each.place for each in gone},
                f"is not in {PurePath(table.file).name}",
            )
            for each in gone:
                self.draft.drop(each.place)
                said.add("gone", each.name)
        return said.text(table.file)

    def _see_unused(self, kind: str, names: set[str], but: frozenset[Place], why: str) -> None:
        """Raise `PlanError` where lines name what is to be removed, apart from some lines."""
        named: dict[str, list[str]] = {}
        for text in texts_of(self.draft.data):
            for number, line in enumerate(text.lines):
                if names.isdisjoint(re.findall(r"[A-Za-z][\w-]*", line)):
                    continue
                if Place(text.file, number + 1) in but:
                    continue
                for each in text.mentions(number):
                    if each.space is NameSpace.NAME and each.name in names:
                        where = self.plan.line_of(Place(text.file, number + 1))
                        named.setdefault(each.name, []).append(where)
        if named:
            parts = [
                f"{kind} {name} {why}, and {'lines' if len(lines) > 1 else 'line'} {few(lines)} "
                f"name{'' if len(lines) > 1 else 's'} it"
                for name, lines in named.items()
            ]
            raise PlanError(
                f"{'; '.join(parts[:6])}{f'; and {len(parts) - 6} more' if len(parts) > 6 else ''}"
                "; take it out of them first"
            )

    def _add(self, beside: Sequence[Place], lines: Sequence[str]) -> None:
        if lines:
            self.draft.beside(beside, *lines)

    def _write(self, place: Place, line: LineParts) -> None:
        if line.changed:
            self.draft.replace(place, line.text())
