"""Starting a rehearsal, and talking to it."""

from __future__ import annotations

import json
import os
import signal
import socket
import sys
from collections.abc import Callable, Iterator, Sequence
from datetime import datetime
from types import TracebackType
from typing import Any

from crossgate.core.model.errors import PlanError
from crossgate.core.model.plan import Plan

_MOST_SAID = 1 << 20
"""No answer is longer, in octets."""


class Session:
    """A rehearsal that runs, from the side of who uses it."""

    def __init__(self, connection: socket.socket, process: int | None = None) -> None:
        self.connection, self._process = connection, process

    def ask(self, said: dict[str, Any], files: Sequence[int] = ()) -> None:
        """Ask for something; the files go with it."""
        socket.send_fds(self.connection, [json.dumps(said).encode()], files)

    def heard(self) -> dict[str, Any]:
        """Return what is said next. Raises `PlanError` where the rehearsal says no, or has
        ended.
        """
        try:
            octets = self.connection.recv(_MOST_SAID)
        except ConnectionError:
            octets = b""
        if not octets:
            raise PlanError("the rehearsal has ended")
        found: dict[str, Any] = json.loads(octets)
        if "error" in found:
            raise PlanError(found["error"])
        return found

    def until(self, key: str) -> Iterator[dict[str, Any]]:
        """Yield what is said, up to what has a key."""
        while True:
            found = self.heard()
            yield found
            if key in found:
                return

    def run(self, machine: str, words: Sequence[str]) -> dict[str, Any]:
        """Run a command on a machine, with the files of this process, and return how it ended."""
        asked = {"do": "run", "on": machine, "words": list(words), "folder": os.getcwd()}
        self.ask(asked, (0, 1, 2))
        while True:
            try:
                found = self.heard()
            except KeyboardInterrupt:
                continue  # the command hears of it itself, on the same terminal
            if "ended" in found:
                return found

    def decided(self) -> list[tuple[str, int | None, int]]:
        """Return which lines decided how many packets."""
        self.ask({"do": "decided"})
        found = next(each for each in self.until("decided") if "decided" in each)
        return [(name, entry, count) for name, entry, count in found["decided"]]

    def close(self) -> None:
        """End it, where this is who has started it; else leave."""
        self.connection.close()
        if self._process is not None:
            os.waitpid(self._process, 0)

    def __enter__(self) -> Session:
        return self

    def __exit__(
        self,
        kind: type[BaseException] | None,
        error: BaseException | None,
        trace: TracebackType | None,
    ) -> None:
        self.close()


def start(
    plan: Plan,
    clock: Callable[[], datetime],
    way: int | None = None,
    read: Callable[[], Plan] | None = None,
) -> Session:
    """Start a plan's network; it ends with this process. Raises `PlanError` where that cannot be."""
    if not sys.platform.startswith("linux"):
        raise PlanError("a rehearsal needs Linux, which has network namespaces")
    sys.stdout.flush()
    sys.stderr.flush()
    own, theirs = socket.socketpair(socket.AF_UNIX, socket.SOCK_SEQPACKET)
    process = os.fork()
    if not process:
        own.close()
        _become_network(theirs, plan, clock, way, read)
    theirs.close()
    session = Session(own, process)
    try:
        session.heard()
    except PlanError:
        session.close()
        raise
    return session


def _become_network(
    connection: socket.socket,
    plan: Plan,
    clock: Callable[[], datetime],
    way: int | None,
    read: Callable[[], Plan] | None,
) -> None:
    """Be the network, in a process of its own that is the first in its namespace; never returns."""
    status = 1
    try:
        from crossgate.rehearsal.namespaces import end_with_parent, enter, own_processes

        end_with_parent()
        enter()
        child = os.fork()
        if child:
            connection.close()
            for each in (signal.SIGINT, signal.SIGTERM, signal.SIGHUP):
                signal.signal(each, signal.SIG_IGN)
            os._exit(os.waitstatus_to_exitcode(os.waitpid(child, 0)[1]) & 255)
        end_with_parent()
        own_processes()
        for each in (signal.SIGINT, signal.SIGQUIT, signal.SIGTERM):
            signal.signal(each, signal.SIG_IGN)
        from crossgate.rehearsal.network import Rehearsal

        rehearsal = Rehearsal(plan, clock, way, read)
        rehearsal.serve(connection, owner=True)
        connection.send(json.dumps({"up": list(rehearsal.machines)}).encode())
        rehearsal.run()
        status = 0
    except PlanError as error:
        connection.send(json.dumps({"error": error.message}).encode())
    except ImportError as error:
        why = f"rehearse needs {error.name}: pip install 'crossgate[rehearse]'"
        connection.send(json.dumps({"error": why}).encode())
    except BaseException:
        import traceback

        traceback.print_exc()
    finally:
        os._exit(status)
