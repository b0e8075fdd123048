"""The tally: how often each entry decided, added up over runs in an SQLite file beside the plan.

A row is known by its list and the whole text of its entry, so an edited entry starts anew. Every
addition is one transaction that waits for others, so runs at the same time lose nothing. The file
is believed only as far as it is what we write: one table of one form, a version that is known,
whole numbers; and it is no link to a database of somebody's.
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

VERSION = 1
"""The version of the schema, in the file's `user_version`; files from before there was one have 0,
and the same schema.
"""
MOST_HITS = (1 << 63) - 1
"""What SQLite's whole numbers hold; more hits than this stay this."""
_SCHEMA = """
CREATE TABLE IF NOT EXISTS tally (
    plan TEXT NOT NULL, list TEXT NOT NULL, entry TEXT NOT NULL, hits INTEGER NOT NULL, PRIMARY KEY (plan, list, entry)
)
"""
_COLUMNS = ["plan", "list", "entry", "hits"]
_ADD = f"""
INSERT INTO tally VALUES (?, ?, ?, ?) ON CONFLICT DO UPDATE
SET hits = CASE WHEN hits > {MOST_HITS} - excluded.hits THEN {MOST_HITS} ELSE hits + excluded.hits END
"""
_WAIT_SECONDS = 30


class Tally:
    """The tally of one plan file."""

    def __init__(self, plan_path: Path) -> None:
        self.plan = plan_path.name
        self.path = plan_path.parent / ".crossgate" / "tally.sqlite"

    def add(self, plan: Plan, hits: Mapping[DeciderKey, int]) -> None:
        """Add hits by list name and entry number, None for the otherwise line. Raises `PlanError`
        when it cannot be kept.
        """
        rows = []
        for (name, number), count in hits.items():
            access_list = plan.any_list(name)
            entry = None if number is None else access_list.entry(number)
            rows.append(
                (
                    self.plan,
                    _list_key(access_list),
                    _entry_key(access_list, entry),
                    min(count, MOST_HITS),
                )
            )
        with self._connected(writes=True) as connection:
            connection.executemany(_ADD, rows)
            connection.commit()

    def hits(self, access_list: AnyList[Any]) -> dict[int | None, int]:
        """Return the hits of a list's entries as they read now, by number, None for the otherwise
        line.
        """
        if not self.path.exists():
            return {}
        with self._connected() as connection:
            query = "SELECT entry, hits FROM tally WHERE plan = ? AND list = ?"
            known = dict(connection.execute(query, (self.plan, _list_key(access_list))))
        odd = next((hits for hits in known.values() if not isinstance(hits, int) or hits < 0), None)
        if odd is not None:
            raise PlanError(
                f"the tally in {self.path} holds {str(odd)[:40]} where a count of hits belongs, "
                f"so it is not believed; {_ASIDE}"
            )
        entries = [*access_list.entries, None]
        return {
            entry.number if entry else None: known.get(_entry_key(access_list, entry), 0)
            for entry in entries
        }

    def clear(self) -> None:
        """Forget every hit of this plan."""
        if self.path.exists():
            with self._connected(writes=True) as connection:
                connection.execute("DELETE FROM tally WHERE plan = ?", (self.plan,))
                connection.commit()

    @contextmanager
    def _connected(self, writes: bool = False) -> Iterator[sqlite3.Connection]:
        """Open the file, to be written to or only read, and see that it is a tally. Raises
        `PlanError` where it is none.
        """
        if (
            self.path.is_symlink()
            or self.path.parent.is_symlink()
            or (self.path.exists() and not self.path.is_file())
        ):
            raise PlanError(
                f"the tally in {self.path} is a link or no regular file, so it is not used; "
                f"{_ASIDE}"
            )
        try:
            if writes:
                self.path.parent.mkdir(exist_ok=True)
            where = f"{self.path.absolute().as_uri()}?mode={'rwc' if writes else 'ro'}"
            with closing(
                sqlite3.connect(where, timeout=_WAIT_SECONDS, isolation_level=None, uri=True)
            ) as connection:
                connection.execute("PRAGMA trusted_schema = OFF")
                if writes:
                    connection.execute("BEGIN IMMEDIATE")
                self._see(connection)
                if writes:
                    connection.execute(_SCHEMA)
                    connection.execute(f"PRAGMA user_version = {VERSION}")
                yield connection
        except (sqlite3.Error, OSError, ValueError, TypeError, OverflowError) as error:
            raise PlanError(f"the tally in {self.path} {_reason(error)}") from None

    def _see(self, connection: sqlite3.Connection) -> None:
        """Raise `PlanError` for a database that is no tally, or one of a later version."""
        (version,) = connection.execute("PRAGMA user_version").fetchone()
        if version > VERSION:
            raise PlanError(
                f"the tally in {self.path} is of version {version}, from a newer Cross Gate; this "
                f"one knows version {VERSION}"
            )
        objects = connection.execute(
            "SELECT type, name FROM sqlite_master WHERE name NOT LIKE 'sqlite_%'"
        ).fetchall()
        columns = [name for _, name, *_ in connection.execute("PRAGMA table_info(tally)")]
        if (
            objects not in ([], [("table", "tally")])
            or columns not in ([], _COLUMNS)
            or not version >= 0
        ):
            raise PlanError(
                f"the tally in {self.path} is another database, so it is not used; {_ASIDE}"
            )


_ASIDE = "move it aside to begin anew"


def _reason(error: Exception) -> str:
    """Return why a tally cannot be used, with what to do; it is to be removed only where nobody can
    read it any more.
    """
    if isinstance(error, sqlite3.OperationalError) and "locked" in str(error):
        return (
            f"is being used by another program for more than {_WAIT_SECONDS} seconds; try "
            "again when that has ended"
        )
    if isinstance(error, sqlite3.DatabaseError) and not isinstance(error, sqlite3.OperationalError):
        return f"is damaged ({error}); remove the file to begin anew"
    return f"cannot be used ({getattr(error, 'strerror', None) or error})"


def _list_key(access_list: AnyList[Any]) -> str:
    return f"{access_list.name} {access_list.kind} {access_list.about}"


def _entry_key(access_list: AnyList[Any], entry: AnyEntry | None) -> str:
    return f"{entry.number} {entry.text}" if entry else f"otherwise {access_list.otherwise.action}"
