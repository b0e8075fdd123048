"""The configurations of a device: the running one, a candidate, locks, and a commit that is rolled
back unless it is confirmed (RFC 6241 section 8.4).
"""

from __future__ import annotations

import copy
import os
from collections.abc import Callable
from pathlib import Path
from typing import Protocol

from crossgate.core.model.errors import PlanError
from crossgate.formats.disk import put_file
from crossgate.live.documents import DeviceError, Element, merge, nc, parsed, written


class Timer(Protocol):
    """Something that happens after a time, unless it is cancelled."""

    def cancel(self) -> None:
        """Keep it from happening."""


Later = Callable[[float, Callable[[], None]], Timer]
"""Does something after some seconds, unless the timer that it returns is cancelled."""
_STORES = ("running", "candidate")


class Datastore:
    """The configurations of one device. `sees` raises `PlanError` for a configuration that the
    device does not accept; `runs` is told every new running configuration.
    """

    def __init__(
        self,
        running: Element,
        later: Later,
        sees: Callable[[bytes], None],
        keep: Path | None = None,
        runs: Callable[[bytes], None] | None = None,
    ) -> None:
        self.running, self.candidate = running, copy.deepcopy(running)
        self._later, self._sees, self._keep, self._runs = later, sees, keep, runs
        self._locks: dict[str, int] = {}
        self._before: Element | None = None
        self._timer: Timer | None = None
        self._confirms: int | None = None
        self._persist = ""

    def store(self, name: str) -> Element:
        """Return a configuration by its name. Raises `DeviceError`."""
        if name not in _STORES:
            raise DeviceError("invalid-value", f"there is no {name}")
        return self.running if name == "running" else self.candidate

    def lock(self, name: str, session: int) -> None:
        """Lock a configuration for a session. Raises `DeviceError`."""
        self.store(name)
        holder = self._locks.get(name)
        if holder is not None:
            raise DeviceError("lock-denied", f"session {holder} has locked {name}")
        if name == "candidate" and written(self.candidate) != written(self.running):
            raise DeviceError("lock-denied", "the candidate has changes that are not committed")
        if name == "running" and self._before is not None:
            raise DeviceError("lock-denied", "a commit waits to be confirmed")
        self._locks[name] = session

    def unlock(self, name: str, session: int) -> None:
        """Unlock a configuration; the candidate becomes the running one again. Raises
        `DeviceError`.
        """
        if self._locks.get(name) != session:
            raise DeviceError("operation-failed", f"{name} is not locked by this session")
        del self._locks[name]
        if name == "candidate":
            self.discard()

    def _see_unlocked(self, session: int) -> None:
        for name in _STORES:
            holder = self._locks.get(name)
            if holder not in (None, session):
                raise DeviceError("in-use", f"session {holder} has locked {name}")

    def edit(self, config: Element, default: str, session: int, test: str = "set") -> None:
        """Edit the candidate, all or nothing; where that is asked for, it is also tested whether it
        could run, and with `test-only` it stays unchanged (RFC 6241 section 7.2). Raises
        `DeviceError`.
        """
        self._see_unlocked(session)
        if default not in ("merge", "replace", "none"):
            raise DeviceError("invalid-value", f"{default} is no default operation")
        if default == "replace":
            new = type(self).empty()
            default = "merge"
        else:
            new = copy.deepcopy(self.candidate)
        for each in config:
            merge(new, each, default)
        if test != "set":
            self.validate(new)
        if test != "test-only":
            self.candidate = new

    @staticmethod
    def empty() -> Element:
        """Return an empty configuration."""
        return parsed(f'<data xmlns="{nc("")[1:-1]}"/>'.encode(), "nothing")

    def copy_from(self, config: Element, session: int) -> None:
        """Replace the candidate by a whole configuration. Raises `DeviceError`."""
        self._see_unlocked(session)
        new = self.empty()
        for each in config:
            new.append(copy.deepcopy(each))
        self.candidate = new

    def validate(self, data: Element | None = None) -> None:
        """Check whether a configuration can run, the candidate where none is given. Raises
        `DeviceError`.
        """
        data = self.candidate if data is None else data
        if not len(data):
            return
        try:
            self._sees(written(data))
        except PlanError as error:
            raise DeviceError("invalid-value", error.message) from None

    def discard(self) -> None:
        """Reset the candidate to the running configuration."""
        self.candidate = copy.deepcopy(self.running)

    def commit(
        self,
        session: int,
        within: float | None = None,
        persist: str = "",
        persist_id: str = "",
    ) -> None:
        """Make the candidate the running configuration.

        With `within`, only for that many seconds, unless a later commit confirms it: one in the
        same session, or one that names the token given as `persist`. Raises `DeviceError`.
        """
        self._see_unlocked(session)
        if self._before is not None:
            mine = persist_id == self._persist if self._persist else session == self._confirms
            if not mine:
                raise DeviceError("in-use", "a commit of another session waits to be confirmed")
        elif persist_id:
            raise DeviceError("invalid-value", "no commit waits to be confirmed")
        self.validate()
        if self._timer is not None:
            self._timer.cancel()
            self._timer = None
        before = self._before if self._before is not None else self.running
        if within is None:
            self._before, self._confirms, self._persist = None, None, ""
        else:
            self._before, self._confirms = before, session
            self._persist = persist or self._persist
            self._timer = self._later(within, self.roll_back)
        self._set(self.candidate)

    def _set(self, data: Element) -> None:
        self.running = copy.deepcopy(data)
        if self._keep is not None and self._before is None:
            put_file(self._keep, written(self.running))
        if self._runs is not None:
            self._runs(written(self.running))

    def roll_back(self) -> None:
        """Return to the configuration before a commit that was not confirmed."""
        if self._timer is not None:
            self._timer.cancel()
            self._timer = None
        if self._before is not None:
            before, self._before, self._confirms, self._persist = self._before, None, None, ""
            self._set(before)
            self.discard()

    def cancel(self, session: int, persist_id: str = "") -> None:
        """Roll back a commit that waits to be confirmed. Raises `DeviceError`."""
        if self._before is None:
            raise DeviceError("operation-failed", "no commit waits to be confirmed")
        if self._persist and persist_id != self._persist:
            raise DeviceError("invalid-value", "that is not what the commit persists by")
        if not self._persist and session != self._confirms:
            raise DeviceError("operation-failed", "the commit is another session's")
        self.roll_back()

    def leave(self, session: int) -> None:
        """Release what an ended session had: its locks, and a commit that it did not confirm."""
        for name in [each for each, holder in self._locks.items() if holder == session]:
            del self._locks[name]
            if name == "candidate":
                self.discard()
        if self._before is not None and not self._persist and session == self._confirms:
            self.roll_back()


def kept(path: Path) -> Element | None:
    """Return the configuration saved in a file; None for none. Raises `PlanError`."""
    if not os.path.exists(path):
        return None
    return parsed(path.read_bytes(), str(path))
