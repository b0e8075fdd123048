"""The tally: how often each entry decided, added up over runs in an SQLite file beside the plan;
and in which hours or days, where runs give that. For devices' own counters, which only grow, it
keeps the values that were read last.

A row is identified by its list and the whole text of its entry, so an edited entry starts from
zero. Every addition is one transaction that waits for others, so simultaneous runs lose nothing.

The file is trusted only as far as it has the form that we write: known tables, a known version,
whole numbers and times; and it may not be a link to some other database.
"""

from __future__ import annotations

import sqlite3
from collections.abc import Iterator, Mapping
from contextlib import closing, contextmanager
from datetime import datetime
from pathlib import Path
from types import MappingProxyType
from typing import Any

from crossgate.core.model.accesslist import AnyList, DeciderKey
from crossgate.core.model.entry import AnyEntry
from crossgate.core.model.errors import PlanError
from crossgate.core.model.plan import Plan
from crossgate.core.model.window import Period

VERSION = 3
"""The version of the schema, in the file's `user_version`; files from before there was one have 0.
Up to version 1 there are no times, up to version 2 no counters.
"""
MOST_HITS = (1 << 63) - 1
"""What SQLite's whole numbers hold; more hits than this stay this."""
_TALLY, _TIMES, _COUNTERS = "tally", "times", "counters"
_COLUMNS = {
    _TALLY: ["plan", "list", "entry", "hits"],
    _TIMES: ["plan", "list", "entry", "begins", "hits"],
    _COUNTERS: ["plan", "device", "list", "entry", "hits"],
}
_FORMS = {Period.HOUR: "%Y-%m-%dT%H:00", Period.DAY: "%Y-%m-%d"}
"""How the beginning of an hour, and of a day, is written (RFC 3339)."""
Times = Mapping[tuple[Period, datetime], Mapping[DeciderKey, int]]
"""Hits by the hour or the day in which they were, told by its beginning."""


def _schema(table: str) -> str:
    *keys, hits = _COLUMNS[table]
    columns = ", ".join(f"{each} TEXT NOT NULL" for each in keys)
    return (
        f"CREATE TABLE IF NOT EXISTS {table} "
        f"({columns}, {hits} INTEGER NOT NULL, PRIMARY KEY ({', '.join(keys)}))"
    )


def _adding(table: str) -> str:
    places = ", ".join("?" for _ in _COLUMNS[table])
    return (
        f"INSERT INTO {table} VALUES ({places}) ON CONFLICT DO UPDATE SET hits = CASE WHEN "
        f"hits > {MOST_HITS} - excluded.hits THEN {MOST_HITS} ELSE hits + excluded.hits END"
    )


_WAIT_SECONDS = 30


class Tally:
    """The tally of one plan file."""

    def __init__(self, plan_path: Path) -> None:
        self.plan = plan_path.name
        self.path = plan_path.parent / ".crossgate" / "tally.sqlite"

    def add(
        self, plan: Plan, hits: Mapping[DeciderKey, int], times: Times = MappingProxyType({})
    ) -> None:
        """Add hits by list name and entry number, None for the otherwise line; `times` gives their
        times. Raises `PlanError` when they cannot be kept.
        """

        rows = [(*self._key(plan, line), min(count, MOST_HITS)) for line, count in hits.items()]
        timed = [
            (*self._key(plan, line), f"{begins:{_FORMS[period]}}", min(count, MOST_HITS))
            for (period, begins), those in times.items()
            for line, count in those.items()
        ]
        with self._connected(writes=True) as connection:
            connection.executemany(_adding(_TALLY), rows)
            connection.executemany(_adding(_TIMES), timed)
            connection.commit()

    def _key(self, plan: Plan, line: DeciderKey) -> tuple[str, str, str]:
        access_list = plan.any_list(line.access_list)
        entry = None if line.entry is None else access_list.entry(line.entry)
        return self.plan, _list_key(access_list), _entry_key(access_list, entry)

    def take(self, plan: Plan, counters: Mapping[str, Mapping[DeciderKey, int]]) -> None:
        """Add what devices have counted since their counters were last read, by device and line. A
        counter that is lower than before has restarted. Raises `PlanError` when it cannot be kept.
        """
        with self._connected(writes=True) as connection:
            for device, own in counters.items():
                query = "SELECT list, entry, hits FROM counters WHERE plan = ? AND device = ?"
                known = {
                    (self.plan, access_list, entry): hits
                    for access_list, entry, hits in connection.execute(query, (self.plan, device))
                }
                for hits in known.values():
                    self._see_count(hits)
                now = {self._key(plan, line): min(count, MOST_HITS) for line, count in own.items()}
                new = {
                    key: count - known.get(key, 0) if count >= known.get(key, 0) else count
                    for key, count in now.items()
                }
                connection.executemany(
                    _adding(_TALLY), [(*key, count) for key, count in new.items() if count]
                )
                connection.execute(
                    "DELETE FROM counters WHERE plan = ? AND device = ?", (self.plan, device)
                )
                connection.executemany(
                    "INSERT INTO counters VALUES (?, ?, ?, ?, ?)",
                    [(name, device, *line, count) for (name, *line), count in now.items()],
                )
            connection.commit()

    def hits(self, access_list: AnyList[Any]) -> dict[int | None, int]:
        """Return the hits of a list's entries with their present texts, by number, None for the
        otherwise line.
        """
        if not self.path.exists():
            return {}
        with self._connected() as connection:
            query = "SELECT entry, hits FROM tally WHERE plan = ? AND list = ?"
            known = dict(connection.execute(query, (self.plan, _list_key(access_list))))
        for hits in known.values():
            self._see_count(hits)
        return {
            entry.number if entry else None: known.get(_entry_key(access_list, entry), 0)
            for entry in (*access_list.entries, None)
        }

    def times(self, access_list: AnyList[Any], by: Period) -> dict[int | None, dict[datetime, int]]:
        """Return the hits of a list's entries with their present texts, by number, None for the
        otherwise line, and by the beginning of the hour or day in which they happened. Hits whose
        hour is unknown are in no hour.
        """
        if not self.path.exists():
            return {}
        query = "SELECT entry, begins, hits FROM times WHERE plan = ? AND list = ?"
        with self._connected() as connection:
            known = (
                connection.execute(query, (self.plan, _list_key(access_list))).fetchall()
                if _columns(connection, _TIMES)
                else []
            )
        found: dict[str, dict[datetime, int]] = {}
        for entry, told, hits in known:
            self._see_count(hits)
            period, begins = self._time(told)
            if by is Period.DAY:
                begins = begins.replace(hour=0)
            elif period is Period.DAY:
                continue
            own = found.setdefault(entry, {})
            own[begins] = own.get(begins, 0) + hits
        return {
            entry.number if entry else None: found.get(_entry_key(access_list, entry), {})
            for entry in (*access_list.entries, None)
        }

    def _time(self, told: object) -> tuple[Period, datetime]:
        for period, form in _FORMS.items():
            try:
                return period, datetime.strptime(str(told), form)
            except ValueError:
                continue
        raise self._not_believed(told, "a time")

    def _see_count(self, hits: object) -> None:
        if not isinstance(hits, int) or hits < 0:
            raise self._not_believed(hits, "a count of hits")

    def _not_believed(self, odd: object, what: str) -> PlanError:
        return PlanError(
            f"the tally in {self.path} holds {str(odd)[:40]} where {what} belongs, so it is not "
            f"believed; {_ASIDE}"
        )

    def clear(self) -> None:
        """Forget every hit of this plan; the device counters that were read stay known."""
        if self.path.exists():
            with self._connected(writes=True) as connection:
                for table in (_TALLY, _TIMES):
                    connection.execute(f"DELETE FROM {table} WHERE plan = ?", (self.plan,))
                connection.commit()

    @contextmanager
    def _connected(self, writes: bool = False) -> Iterator[sqlite3.Connection]:
        """Open the file, for writing or only for reading, and check that it is a tally. Raises
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
                    for table in _COLUMNS:
                        connection.execute(_schema(table))
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
        ours = all(
            kind == "table" and name in _COLUMNS and _columns(connection, name) == _COLUMNS[name]
            for kind, name in connection.execute(_OBJECTS).fetchall()
        )
        if not ours or version < 0:
            raise PlanError(
                f"the tally in {self.path} is another database, so it is not used; {_ASIDE}"
            )


_OBJECTS = "SELECT type, name FROM sqlite_master WHERE name NOT LIKE 'sqlite_%'"
_ASIDE = "move it aside to begin anew"


def _columns(connection: sqlite3.Connection, table: str) -> list[str]:
    return [name for _, name, *_ in connection.execute(f"PRAGMA table_info({table})")]


def _reason(error: Exception) -> str:
    """Return why a tally cannot be used, with what to do; removing it is advised only where it
    cannot be read any more.
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
