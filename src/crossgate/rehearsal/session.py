"""Starting a rehearsal, and talking to it."""

from __future__ import annotations

import json
import os
import select
import signal
import socket
import sys
from collections.abc import Callable, Iterator, Sequence
from contextlib import contextmanager
from datetime import datetime
from importlib.util import find_spec
from pathlib import Path
from types import TracebackType
from typing import Any

from crossgate.core.model.errors import PlanError
from crossgate.core.model.network import Point
from crossgate.core.model.plan import Plan
from crossgate.formats.own_state import name_for_file, own_folder
from crossgate.language.reader import Reading

_MOST_SAID = 1 << 20
"""No answer is longer, in octets."""


class RunningRehearsal:
    """A running rehearsal, as its user sees it."""

    def __init__(self, connection: socket.socket, process: int | None = None) -> None:
        self.connection, self._process = connection, process

    def ask(self, said: dict[str, Any], files: Sequence[int] = ()) -> None:
        """Send a request; the files are passed with it."""
        socket.send_fds(self.connection, [json.dumps(said).encode()], files)

    def heard(self) -> dict[str, Any]:
        """Return the next message. Raises `PlanError` where the rehearsal refuses, or has ended,
        and `RuntimeError` for a fault of its own.
        """
        try:
            octets = self.connection.recv(_MOST_SAID)
        except ConnectionError:
            octets = b""
        if not octets:
            raise PlanError("the rehearsal has ended")
        found: dict[str, Any] = json.loads(octets)
        if "fault" in found:
            raise RuntimeError(found["fault"])
        if "error" in found:
            raise PlanError(found["error"])
        return found

    def until(self, key: str) -> Iterator[dict[str, Any]]:
        """Yield messages up to one with a key."""
        while True:
            found = self.heard()
            yield found
            if key in found:
                return

    def run(
        self,
        machine: str,
        words: Sequence[str],
        told: Callable[[dict[str, Any]], None] | None = None,
        files: Sequence[int] = (0, 1, 2),
    ) -> dict[str, Any]:
        """Run a command on a machine, with files of this process as its own, and return how it
        ended; all other messages meanwhile go to `told`.
        """
        asked = {"do": "run", "on": machine, "words": list(words), "folder": os.getcwd()}
        self.ask(asked, files)
        while True:
            try:
                found = self.heard()
            except KeyboardInterrupt:
                self.ask({"do": "interrupt"})
                continue
            if "ended" in found:
                return found
            if told is not None:
                told(found)

    def waiting(self) -> Iterator[dict[str, Any]]:
        """Yield the messages that have arrived by now."""
        while select.select([self.connection], [], [], 0)[0]:
            yield self.heard()

    def decided(self) -> list[tuple[str, int | None, int]]:
        """Return how many packets each line decided."""
        self.ask({"do": "decided"})
        told = self.until("decided")
        lines = (line for each in told for line in each.get("part", each.get("decided", ())))
        return [(name, entry, count) for name, entry, count in lines]

    def close(self) -> None:
        """End the rehearsal, where this session started it; otherwise leave it."""
        self.connection.close()
        if self._process is not None:
            os.waitpid(self._process, 0)

    def __enter__(self) -> RunningRehearsal:
        return self

    def __exit__(
        self,
        kind: type[BaseException] | None,
        error: BaseException | None,
        trace: TracebackType | None,
    ) -> None:
        self.close()


@contextmanager
def meeting_place(path: Path) -> Iterator[Path]:
    """Provide the socket at which the rehearsal of a plan's file can be joined, in a folder that
    only this user can use. Raises `PlanError` where there is none.
    """
    folder = os.open(own_folder("rehearsals"), os.O_RDONLY | os.O_DIRECTORY)
    try:
        # The path of a socket is short, and that of the folder may be long (unix(7)).
        yield Path(f"/proc/self/fd/{folder}", name_for_file(path))
    finally:
        os.close(folder)


def joined(path: Path) -> RunningRehearsal:
    """Return the rehearsal of a plan's file that is already running. Raises `PlanError` for
    none.
    """
    connection = socket.socket(socket.AF_UNIX, socket.SOCK_SEQPACKET)
    try:
        with meeting_place(path) as place:
            connection.connect(str(place))
    except OSError:
        raise PlanError(
            f"no rehearsal of {path} runs; start one with: crossgate rehearse"
        ) from None
    return RunningRehearsal(connection)


def refusal() -> str:
    """Return why no rehearsal can run on this system; "" where one can."""
    if not sys.platform.startswith("linux"):
        return "a rehearsal needs Linux, which has network namespaces"
    missing = [each for each in ("pyroute2", "dpkt") if find_spec(each) is None]
    if missing:
        return f"rehearse needs {' and '.join(missing)}: pip install 'crossgate[rehearse]'"
    child = os.fork()
    if not child:
        from crossgate.rehearsal.namespaces import NoNamespaces, enter

        try:
            enter()
            os.close(os.open("/dev/net/tun", os.O_RDWR))
        except (NoNamespaces, OSError):
            os._exit(1)
        os._exit(0)
    ended = os.waitstatus_to_exitcode(os.waitpid(child, 0)[1])
    return "this system makes no network namespaces, or no TAP devices, for you" if ended else ""


def start(
    plan: Plan,
    clock: Callable[[], datetime],
    path: Path | None = None,
    way: int | None = None,
    read: Callable[[], Reading] | None = None,
    capture: tuple[Point, Path] | None = None,
    devices: bool = False,
) -> RunningRehearsal:
    """Start a plan's network; it ends with this process.

    Others may join the rehearsal of a file, and `read` reads that again when it is saved. With
    `devices`, these answer NETCONF. Raises `PlanError` where it is not possible.
    """
    if not sys.platform.startswith("linux") or find_spec("pyroute2") is None:
        raise PlanError(refusal())
    sys.stdout.flush()
    sys.stderr.flush()
    own, theirs = socket.socketpair(socket.AF_UNIX, socket.SOCK_SEQPACKET)
    process = os.fork()
    if not process:
        own.close()
        _become_network(theirs, plan, clock, path, way, read, capture, devices)
    theirs.close()
    session = RunningRehearsal(own, process)
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
    path: Path | None,
    way: int | None,
    read: Callable[[], Reading] | None,
    capture: tuple[Point, Path] | None,
    devices: bool,
) -> None:
    """Run the network, in a process of its own that is the first in its namespace; never
    returns.
    """
    status = 1
    try:
        from crossgate.rehearsal.namespaces import end_with_parent, enter, own_processes

        end_with_parent()
        met = None if path is None or not path.exists() else meeting_place(path)
        place = None if met is None else met.__enter__()  # as long as this process is there
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
        from crossgate.rehearsal.claims import try_claims
        from crossgate.rehearsal.network import Rehearsal
        from crossgate.rehearsal.sheet import try_sheet

        rehearsal = Rehearsal(plan, clock, way, read)
        rehearsal.also["claims"] = lambda said, tell: try_claims(rehearsal, said["within"], tell)
        rehearsal.also["sheet"] = lambda said, tell: try_sheet(
            rehearsal, said["lists"], said["within"], tell
        )
        rehearsal.serve(connection, owner=True)
        if capture is not None:
            rehearsal.capture(*capture)
        if place is not None:
            rehearsal.meet(place)
        if devices:
            rehearsal.play_devices()
        connection.send(json.dumps({"up": list(rehearsal.machines)}).encode())
        rehearsal.run()
        status = 0
    except PlanError as error:
        connection.send(json.dumps({"error": error.message}).encode())
    except Exception:
        import traceback

        connection.send(json.dumps({"fault": traceback.format_exc()}).encode())
    finally:
        os._exit(status)
