"""What a device keeps: locks, all of an edit or nothing, and commits that are taken back."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path
from typing import NamedTuple

import pytest

from crossgate.core.model.errors import PlanError
from crossgate.live.datastore import Datastore, kept
from crossgate.live.documents import DeviceError, parsed, written

NC = "urn:ietf:params:xml:ns:netconf:base:1.0"


class Running(NamedTuple):
    seconds: float
    do: Callable[[], None]
    cancelled: list[bool]

    def cancel(self) -> None:
        self.cancelled.append(True)


class Device:
    """A datastore, and what is set to run out."""

    def __init__(self, keep: Path | None = None) -> None:
        self.timers: list[Running] = []
        self.ran: list[str] = []
        running = parsed(f'<data xmlns="{NC}"><x xmlns="u">0</x></data>'.encode(), "x")
        self.store = Datastore(
            running, self.later, self.sees, keep, lambda _: self.ran.append(self.runs)
        )

    def later(self, seconds: float, do: Callable[[], None]) -> Running:
        self.timers.append(Running(seconds, do, []))
        return self.timers[-1]

    @staticmethod
    def sees(document: bytes) -> None:
        if b">bad<" in document:
            raise PlanError("that is bad")

    def edit(self, value: str, session: int = 1, test: str = "set") -> None:
        config = parsed(f'<config xmlns="{NC}"><x xmlns="u">{value}</x></config>'.encode(), "x")
        self.store.edit(config, "merge", session, test)

    @property
    def runs(self) -> str:
        return self.store.running.findtext("{u}x") or ""


def fails(tag: str, do: Callable[[], object]) -> None:
    with pytest.raises(DeviceError) as found:
        do()
    assert found.value.tag == tag


def test_what_is_committed_runs_and_is_kept(tmp_path: Path) -> None:
    device = Device(tmp_path / "kept.xml")
    device.edit("1")
    assert device.runs == "0"
    device.store.commit(1)
    assert (device.runs, device.ran) == ("1", ["1"])
    found = kept(tmp_path / "kept.xml")
    assert found is not None
    assert written(found) == written(device.store.running)
    device.edit("2")
    device.store.discard()
    device.store.commit(1)
    assert device.runs == "1"
    assert kept(tmp_path / "none.xml") is None


def test_what_is_not_confirmed_is_taken_back(tmp_path: Path) -> None:
    device = Device(tmp_path / "kept.xml")
    device.edit("1")
    device.store.commit(1, 5)
    (timer,) = device.timers
    assert (device.runs, timer.seconds) == ("1", 5)
    assert kept(tmp_path / "kept.xml") is None  # a restart would take it back too
    timer.do()
    assert device.runs == "0"
    device.edit("2")
    device.store.commit(1, 5)
    device.edit("3")
    device.store.commit(1, 9)
    assert device.timers[1].cancelled
    device.store.commit(1)
    assert (device.runs, device.timers[2].cancelled) == ("3", [True])
    assert kept(tmp_path / "kept.xml") is not None


def test_a_session_that_ends_confirms_nothing() -> None:
    device = Device()
    device.edit("1")
    device.store.commit(1, 5)
    device.store.leave(2)
    assert device.runs == "1"
    device.store.leave(1)
    assert device.runs == "0"
    device.edit("1")
    device.store.commit(1, 5, persist="mine")
    device.store.leave(1)
    assert device.runs == "1"
    fails("in-use", lambda: device.store.commit(2))
    fails("invalid-value", lambda: device.store.cancel(2, "other"))
    device.store.commit(2, persist_id="mine")
    assert device.runs == "1"
    fails("operation-failed", lambda: device.store.cancel(2))
    fails("invalid-value", lambda: device.store.commit(2, persist_id="mine"))


def test_only_who_committed_confirms_or_cancels() -> None:
    device = Device()
    device.edit("1")
    device.store.commit(1, 5)
    fails("in-use", lambda: device.store.commit(2))
    fails("operation-failed", lambda: device.store.cancel(2))
    fails("lock-denied", lambda: device.store.lock("running", 2))
    device.store.cancel(1)
    assert device.runs == "0"


def test_locks() -> None:
    device = Device()
    device.store.lock("candidate", 1)
    fails("lock-denied", lambda: device.store.lock("candidate", 2))
    fails("in-use", lambda: device.edit("1", 2))
    fails("in-use", lambda: device.store.commit(2))
    fails("operation-failed", lambda: device.store.unlock("candidate", 2))
    device.edit("1", 1)
    device.store.unlock("candidate", 1)
    device.store.commit(2)
    assert device.runs == "0"  # what was not committed goes with the lock
    device.edit("1", 2)
    fails("lock-denied", lambda: device.store.lock("candidate", 1))
    fails("invalid-value", lambda: device.store.lock("startup", 1))
    device.store.discard()
    device.store.lock("candidate", 1)
    device.store.leave(1)
    device.store.lock("candidate", 2)


def test_what_cannot_run_is_not_committed() -> None:
    device = Device()
    device.edit("bad")
    fails("invalid-value", device.store.validate)
    fails("invalid-value", lambda: device.store.commit(1))
    assert device.runs == "0"


def test_what_cannot_run_is_not_taken_into_the_candidate_where_it_is_tested() -> None:
    device = Device()
    fails("invalid-value", lambda: device.edit("bad", test="test-then-set"))
    fails("invalid-value", lambda: device.edit("bad", test="test-only"))
    device.edit("1", test="test-only")
    device.store.commit(1)
    assert device.runs == "0"
    device.edit("1", test="test-then-set")
    device.store.commit(1)
    assert device.runs == "1"
