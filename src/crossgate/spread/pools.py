"""Pools of workers for the parts of a task: processes of this machine, or the workers of a Dask
cluster; parts lost with a worker are done again.
"""

from __future__ import annotations

import gc
import ipaddress
import logging
import signal
import socket
import sys
import threading
import warnings
from collections import deque
from collections.abc import Callable, Iterator, Sequence
from concurrent.futures import Future, ProcessPoolExecutor
from concurrent.futures.process import BrokenProcessPool
from importlib.metadata import PackageNotFoundError, version
from multiprocessing import get_context
from pathlib import Path
from typing import Any, Protocol, TypeVar
from urllib.parse import urlsplit

from crossgate.core.model.errors import PlanError

Part = Path | bytes
"""What a task is given beside its job: octets, or a file of them."""
Done = TypeVar("Done")
Task = Callable[[bytes, Part], Done]
"""Does one part of a job, a function of a module; it is run in any process, any number of times."""
EXTRA = "pip install 'crossgate[cluster]'"
_TRIES = 3
_PATIENCE = 10
"""Seconds to wait for a scheduler and its first worker."""


class Pool(Protocol):
    """Takes parts, and returns their results in order."""

    size: int
    """How many parts are done at a time."""
    inherits: bool
    """Whether each round of workers begins as copies of this process, and knows what it knows."""

    def done(self, task: Task[Done], job: bytes, parts: Sequence[Part]) -> Iterator[Done]:
        """Yield the result of each part, in order, working a few parts ahead. Raises `PlanError`
        for what cannot be done.
        """
        ...

    def close(self) -> None:
        """Release the workers."""
        ...


class LocalPool:
    """Processes of this machine; with `copies` they begin as copies of this one where they can."""

    def __init__(self, workers: int, copies: bool = False) -> None:
        self.size = workers
        # A copy has none of the threads, but the locks that they hold.
        alone = threading.active_count() == 1
        self.inherits = copies and alone and sys.platform == "linux"
        self._waiting: deque[tuple[Part, Future[Any]]] = deque()
        self._executor = self._new()

    def _new(self) -> ProcessPoolExecutor:
        context = get_context("fork" if self.inherits else "spawn")
        return ProcessPoolExecutor(self.size, context, _begin)

    def done(self, task: Task[Done], job: bytes, parts: Sequence[Part]) -> Iterator[Done]:
        """Yield the result of each part, in order. A process that dies takes its pool with it; the
        parts under way are then done again.
        """
        if self.inherits:  # those of a round before do not know the job
            self._executor.shutdown()
            self._executor = self._new()
            gc.freeze()  # what is known by now is not looked through again, so its memory is shared
        self._waiting = waiting = deque[tuple[Part, Future[Done]]]()
        left, tries = deque(parts), 0
        while left or waiting:
            try:
                while left and len(waiting) < 2 * self.size:
                    waiting.append((left[0], self._executor.submit(task, job, left[0])))
                    left.popleft()
                found = waiting[0][1].result()
            except BrokenProcessPool:
                tries += 1
                if tries > _TRIES:
                    raise PlanError(
                        f"processes of --workers died {tries} times, maybe for want of memory; "
                        "try fewer"
                    ) from None
                self._executor.shutdown()
                self._executor = self._new()
                left.extendleft(part for part, _ in reversed(waiting))
                waiting.clear()
                continue
            waiting.popleft()
            yield found

    def close(self) -> None:
        """End the processes."""
        if self.inherits:
            gc.unfreeze()
        # Who ends without waiting may still be ending when Python does, which then reports a fault.
        self._executor.shutdown(wait=not self._waiting, cancel_futures=True)


def _begin() -> None:
    """Make a process ready: an interrupt is for the one that asks, and there are as few rounds of
    the garbage collector as there (`__main__`).
    """
    signal.signal(signal.SIGINT, signal.SIG_IGN)
    gc.set_threshold(100_000)


class ClusterPool:
    """The workers of a Dask cluster; its scheduler gives the parts of a lost worker to the
    others.
    """

    inherits = False

    def __init__(self, address: str, trusted: bool = False) -> None:
        """Join it. Raises `PlanError` when nothing answers there, or workers have another version
        of Cross Gate. A scheduler that is neither on this machine nor behind TLS must be `trusted`.
        """
        try:
            import dask
            from distributed import Client
        except ImportError as error:
            raise PlanError(
                f"--cluster needs the package {error.name}, which is not installed: {EXTRA}"
            ) from None
        _see_scheduler(address, trusted)
        logging.getLogger("distributed").setLevel(logging.CRITICAL)
        dask.config.set({"distributed.admin.large-graph-warning-threshold": "1 GiB"})
        warnings.filterwarnings("ignore", module="distributed")
        try:
            self._client: Any = Client(address, timeout=_PATIENCE, set_as_default=False)
        except (OSError, ValueError, TypeError) as error:
            raise _no_scheduler(address, _reason(error)) from None
        try:
            self.size = self._workers(address)
        except PlanError:
            self._client.close()
            raise

    def _workers(self, address: str) -> int:
        try:
            self._client.wait_for_workers(1, timeout=_PATIENCE)
        except TimeoutError:
            raise PlanError(
                f"--cluster {address}: no worker has joined that scheduler; start one with: dask "
                f"worker {address}"
            ) from None
        own = version("crossgate")
        try:
            versions = set(self._client.run(version, "crossgate").values())
        except PackageNotFoundError:
            raise PlanError(
                f"--cluster {address}: a worker has no Cross Gate; set it up there with: {EXTRA}"
            ) from None
        if versions != {own}:
            raise PlanError(
                f"--cluster {address}: workers have Cross Gate "
                f"{', '.join(sorted(versions - {own}))}, and this is {own}"
            )
        return sum(self._client.nthreads().values())

    def done(self, task: Task[Done], job: bytes, parts: Sequence[Part]) -> Iterator[Done]:
        """Yield the result of each part, in order."""
        from distributed import KilledWorker

        waiting: deque[Any] = deque()
        left = deque(parts)
        # Each worker gets the job once, and keeps it.
        sent = self._client.scatter(job, broadcast=True, hash=False)
        while left or waiting:
            while left and len(waiting) < 2 * self.size:
                part = left.popleft()
                octets = part if isinstance(part, bytes) else part.read_bytes()
                waiting.append(self._client.submit(task, sent, octets, pure=False))
            try:
                yield waiting.popleft().result()
            except KilledWorker as error:
                raise PlanError(
                    f"a part of the work was lost with its worker again and again: {_reason(error)}"
                ) from None

    def close(self) -> None:
        """Leave the cluster."""
        self._client.close()


def _see_scheduler(address: str, trusted: bool) -> None:
    """Raise `PlanError` for an address that is no scheduler's, for one where nothing listens, and
    for one that is not trusted.
    """
    import dask

    shape = "write tcp://HOST:PORT, or tls://HOST:PORT"
    try:
        parts = urlsplit(address if "://" in address else f"tcp://{address}")
        host, port = parts.hostname, parts.port
    except ValueError:
        host, port = None, None
    if not host or not port or parts.scheme not in ("tcp", "tls"):
        raise PlanError(
            f"--cluster {address or 'with nothing behind it'} is no address of a scheduler; {shape}"
        )
    if parts.scheme == "tls" and not dask.config.get("distributed.comm.tls.ca-file", None):
        raise PlanError(
            f"--cluster {address}: Dask's own configuration has no distributed.comm.tls.ca-file "
            "to know the scheduler by"
        )
    try:
        with socket.create_connection((host, port), timeout=_PATIENCE) as connection:
            there = ipaddress.ip_address(connection.getpeername()[0])
            # A scheduler says what it is to whoever connects; Dask's client would wait for ever for
            # one that says nothing.
            if parts.scheme == "tcp" and not connection.recv(1):
                raise _no_scheduler(address, "what listens there says nothing")
    except TimeoutError:
        raise _no_scheduler(address, f"nothing was heard for {_PATIENCE} seconds") from None
    except (OSError, UnicodeError) as error:
        raise _no_scheduler(address, getattr(error, "strerror", None) or str(error)) from None
    if parts.scheme != "tls" and not there.is_loopback and not trusted:
        raise PlanError(
            f"--cluster {address} is neither on this machine nor behind TLS: whoever is on the "
            "way can read what is sent, and run "
            "programs here and there. Name it by tls://, or say --trusted-network where the "
            "network is your own"
        )


def _no_scheduler(address: str, why: str) -> PlanError:
    return PlanError(
        f"--cluster {address}: no Dask scheduler answers there ({why}); start one with: dask "
        "scheduler --host ADDRESS, "
        "an address that its workers reach and nobody else"
    )


def _reason(error: BaseException) -> str:
    return (str(error) or type(error).__name__).strip().splitlines()[0]
