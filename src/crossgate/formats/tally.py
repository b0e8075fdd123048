"""The tally: how often each entry decided, added up over runs in an SQLite file beside the plan.

A row is known by its list and the whole text of its entry, so an edited entry starts anew. Every addition is one
transaction that waits for others, so runs at the same time lose nothing.
"""

from __future__ import annotations

import sqlite3
from collections.abc import Iterator, Mapping
from contextlib import closing, contextmanager
from pathlib import Path
from typing import Any

from crossgate.core.model.accesslist import AnyEntry, AnyList, DeciderKey
from crossgate.core.model.errors import PlanError
from crossgate.core.model.plan import Plan

_SCHEMA = """
CREATE TABLE IF NOT EXISTS tally (
    plan TEXT NOT NULL, list TEXT NOT NULL, entry TEXT NOT NULL, hits INTEGER NOT NULL, PRIMARY KEY (plan, list, entry)
)
"""
_ADD = "INSERT INTO tally VALUES (?, ?, ?, ?) ON CONFLICT DO UPDATE SET hits = hits + excluded.hits"
_WAIT_SECONDS = 30


class Tally:
    """The tally of one plan file."""

    def __init__(self, plan_path: Path) -> None:
        self.plan = plan_path.name
        self.path = plan_path.parent / ".crossgate" / "tally.sqlite"

    def add(self, plan: Plan, hits: Mapping[DeciderKey, int]) -> None:
        """Add hits by list name and entry number, None for the otherwise line. Raises `PlanError` when it cannot be kept."""
        rows = []
        for (name, number), count in hits.items():
            access_list = plan.any_list(name)
            entry = None if number is None else access_list.entry(number)
            rows.append((self.plan, _list_key(access_list), _entry_key(access_list, entry), count))
        with self._connected() as connection:
            connection.execute("BEGIN IMMEDIATE")
            connection.executemany(_ADD, rows)
            connection.commit()

    def hits(self, access_list: AnyList[Any]) -> dict[int | None, int]:
        """Return the hits of a list's entries as they read now, by number, None for the otherwise line."""
        if not self.path.exists():
            return {}
        with self._connected() as connection:
            query = "SELECT entry, hits FROM tally WHERE plan = ? AND list = ?"
            known = {entry: int(hits) for entry, hits in connection.execute(query, (self.plan, _list_key(access_list)))}
        entries = [*access_list.entries, None]
        return {entry.number if entry else None: known.get(_entry_key(access_list, entry), 0) for entry in entries}

    def clear(self) -> None:
        """Forget every hit of this plan."""
        if self.path.exists():
            with self._connected() as connection:
                connection.execute("DELETE FROM tally WHERE plan = ?", (self.plan,))
                connection.commit()

    @contextmanager
    def _connected(self) -> Iterator[sqlite3.Connection]:
        try:
            self.path.parent.mkdir(exist_ok=True)
            with closing(sqlite3.connect(self.path, timeout=_WAIT_SECONDS, isolation_level=None)) as connection:
                connection.execute(_SCHEMA)
                yield connection
        except (sqlite3.Error, OSError, ValueError, TypeError) as error:
            raise PlanError(f"the tally in {self.path} cannot be used ({error}); remove the file to begin anew") from None


def _list_key(access_list: AnyList[Any]) -> str:
    return f"{access_list.name} {access_list.kind} {access_list.about}"


def _entry_key(access_list: AnyList[Any], entry: AnyEntry | None) -> str:
    return f"{entry.number} {entry.text}" if entry else f"otherwise {access_list.otherwise.action}"
