"""The running network: machines in namespaces, and one loop that takes their frames through the
fabric, starts commands on machines and answers its users.

It is one process with one thread. Its users talk to it over a socket, in JSON documents whose first
key says what they are; the files of a command are passed over the same socket.
"""

from __future__ import annotations

import contextlib
import json
import os
import select
import signal
import socket
import subprocess
import sysconfig
import tempfile
import time
from collections import Counter
from collections.abc import Callable, Mapping
from datetime import datetime
from pathlib import Path
from typing import Any

from crossgate.core.answers.outage import down_point
from crossgate.core.conversation.opening import service_label
from crossgate.core.model.accesslist import DeciderKey
from crossgate.core.model.address import Address
from crossgate.core.model.errors import PlanError
from crossgate.core.model.network import Point
from crossgate.core.model.plan import Plan
from crossgate.formats.disk import stamps_of
from crossgate.language.reader import Reading
from crossgate.live.devices import REHEARSED, RunningConfiguration
from crossgate.live.drift import coming_from, with_what_runs
from crossgate.rehearsal import MOST_ASKED
from crossgate.rehearsal.conversations import PacketReport
from crossgate.rehearsal.fabric import Fabric
from crossgate.rehearsal.machines import machines_of
from crossgate.rehearsal.namespaces import (
    Namespace,
    Namespaces,
    become,
    end_with_parent,
    hosts_text,
)
from crossgate.rehearsal.settings import settings_of

_MOST_OCTETS = 65_600
"""No frame is longer."""
_AT_ONCE = 64
"""So many frames of one machine are taken before it is the others' turn."""
_OURS = "PYTHONSAFEPATH"
"""What this program tells its own helpers, and no other program."""
_MOST_LINES = 1_000
"""So many lines are told at once; a message is no longer than the system lets it be."""
_LOOK = 0.5
"""The seconds between two looks at the plan's files."""


class Rehearsal:
    """A plan's network while it runs. `read` reads the plan again, where its files may change, and
    where devices may run something else than it says.
    """

    def __init__(
        self,
        plan: Plan,
        clock: Callable[[], datetime],
        way: int | None = None,
        read: Callable[[], Reading] | None = None,
    ) -> None:
        self.fabric = Fabric(plan, clock, self._decided, way)
        self._read, self._stamps = read, stamps_of(plan.sources)
        # A command that asks this program asks it about the plan that is rehearsed.
        self._plan_there = {"CROSSGATE_PLAN": os.path.abspath(plan.files[0])} if read else {}
        self._looked = 0.0
        self._documents: dict[str, bytes] = {}
        self._saves = True
        self._closing = contextlib.ExitStack()
        folder = self._closing.enter_context(tempfile.TemporaryDirectory(prefix="crossgate-"))
        self._hosts = Path(folder) / "hosts"
        named = [
            (address, name)
            for name, each in self.fabric.machines.items()
            for address in each.addresses
        ]
        self._hosts.write_text(hosts_text(named))
        self.namespaces = Namespaces()
        self.machines: dict[str, Namespace] = {}
        self._epoll = select.epoll()
        self._ready: dict[int, Callable[[], None]] = {}
        for name, machine in self.fabric.machines.items():
            made = self.namespaces.make(settings_of(plan, machine))
            self.machines[name] = made
            self.watch(made.link, self._taking(name, made.link))
        self.also: dict[
            str, Callable[[dict[str, Any], Callable[[dict[str, Any]], None]], None]
        ] = {}
        """What else is done for who asks, by what it is called: it gets the question, and what
        tells the answers.
        """
        self._timers: list[tuple[float, Callable[[], None]]] = []
        self._watching: list[socket.socket] = []
        self._going = True

    # The loop

    def watch(self, file: int, do: Callable[[], None], events: int = select.EPOLLIN) -> None:
        """Call `do` whenever a file, given by its descriptor, is ready for some `events`
        (`EPOLLIN`).
        """
        self._ready[file] = do
        self._epoll.register(file, events)

    def unwatch(self, file: int) -> None:
        """Stop watching a file."""
        if self._ready.pop(file, None) is not None:
            self._epoll.unregister(file)

    def later(self, seconds: float, do: Callable[[], None]) -> None:
        """Call a function after some time."""
        self._timers.append((time.monotonic() + seconds, do))

    def run(self) -> None:
        """Run the network until it is ended."""
        while self._going:
            wait = _LOOK if self._read is not None else 5.0
            if self._timers:
                wait = min(wait, max(0.0, min(self._timers)[0] - time.monotonic()))
            for file, _ in self._epoll.poll(wait):
                do = self._ready.get(file)
                if do is not None:
                    do()
            now = time.monotonic()
            due = [each for each in self._timers if each[0] <= now]
            if due:
                self._timers = [each for each in self._timers if each[0] > now]
                for _, do in due:
                    do()
            if self._read is not None and now - self._looked > _LOOK:
                self._looked = now
                self._look()
        self._closing.close()

    def end(self) -> None:
        """End the network."""
        self._going = False

    def capture(self, point: Point, out: Path) -> None:
        """Write every frame that passes a place, in either direction, to a file. Raises
        `OSError`.
        """
        from dpkt.pcapng import Writer

        file = out.open("wb")
        self._closing.callback(file.close)
        writer = Writer(file, snaplen=_MOST_OCTETS)
        begun = time.time() - time.monotonic()
        self.fabric.taps[point] = lambda now, frame: writer.writepkt(frame, begun + now)

    def meet(self, place: Path) -> None:
        """Let other processes of this user join at a socket, unless another rehearsal is there
        already.
        """
        meeting = socket.socket(socket.AF_UNIX, socket.SOCK_SEQPACKET)
        self._closing.callback(meeting.close)
        with contextlib.suppress(OSError):
            meeting.connect(str(place))
            return
        meeting = socket.socket(socket.AF_UNIX, socket.SOCK_SEQPACKET)
        place.unlink(missing_ok=True)
        meeting.bind(str(place))
        self._closing.callback(lambda: place.unlink(missing_ok=True))
        meeting.listen()
        self.watch(meeting.fileno(), lambda: self.serve(meeting.accept()[0]))

    def _taking(self, name: str, link: int) -> Callable[[], None]:
        machines, receive = self.machines, self.fabric.receive

        def take() -> None:
            now = time.monotonic()
            for _ in range(_AT_ONCE):
                try:
                    frame = os.read(link, _MOST_OCTETS)
                except BlockingIOError:
                    return
                for other, sent in receive(name, frame, now):
                    # A machine that takes no more loses it, as on a real link.
                    with contextlib.suppress(BlockingIOError):
                        os.write(machines[other].link, sent)

        return take

    # The plan

    def _look(self) -> None:
        """Continue with the plan as it has been saved, where that has no errors."""
        stamps = stamps_of(self._stamps)
        if stamps == self._stamps or not self._saves:
            return
        self._stamps = stamps
        self._take_anew("changed")

    def _take_anew(self, how: str) -> None:
        """Continue with the plan in its files, together with what its devices run."""
        assert self._read is not None  # there are files
        try:
            reading = self._read()
            coming = {
                name: coming_from(reading.plan, RunningConfiguration(name, document))
                for name, document in self._documents.items()
            }
            plan = with_what_runs(reading, coming)
        except PlanError as error:
            self._tell({"plan": "has errors", "why": error.message})
            return
        # What has been saved since it was read is looked at next time.
        self._stamps = stamps_of(plan.sources) | self._stamps
        self.change(plan.without(self.fabric.plan.down), how)

    def play_devices(self) -> None:
        """Make the devices answer NETCONF at their own addresses; from now on what is committed
        there counts, and not what is saved. Raises `PlanError`.
        """
        from crossgate.rehearsal.managed import play

        if self._read is None:
            raise PlanError("--devices needs a plan in a file")
        begun = self._read()
        self._read, self._saves = (lambda: begun), False
        self.serve(play(self.fabric.plan, self.fabric.clock(), self.namespaces, self.machines))

    def change(self, plan: Plan, how: str = "changed") -> None:
        """Continue with another plan, where it has the same machines."""
        if machines_of(plan) != list(self.fabric.machines.values()):
            self._tell({"plan": "other machines", "why": "machines or addresses have changed"})
            return
        self.fabric.change(plan)
        self._tell({"plan": how, "why": ""})

    # Who asks

    def _tell(self, said: dict[str, Any]) -> None:
        for each in [*self._watching]:
            try:
                each.send(json.dumps(said).encode())
            except OSError:
                self._watching.remove(each)

    def _decided(self, told: PacketReport) -> None:
        if not self._watching:
            return
        decided, packet = told.decided, told.packet
        ends = [str(Address(packet.family, each)) for each in (packet.source, packet.destination)]
        said: dict[str, Any] = {
            "packet": service_label(packet),
            "machine": told.machine,
            "from": ends[0],
            "to": ends[1],
        }
        if decided is not None:
            entry = decided.decider.entry
            said |= {
                "line": decided.decider.name,
                "where": decided.crossing.where,
                "action": str(decided.decider.action),
                "log": entry is not None and entry.log,
            }
        elif told.failure is not None:
            said |= {"lost": str(told.failure)}
        self._tell(said)

    def serve(self, client: socket.socket, owner: bool = False) -> None:
        """Answer a user over a socket; when the owner leaves, the network ends."""
        commands: list[subprocess.Popen[bytes]] = []

        def answer() -> None:
            try:
                asked, files, _, _ = socket.recv_fds(client, MOST_ASKED, 3)
            except OSError:
                asked, files = b"", []
            if asked:
                self._answer(client, asked, files, commands)
                return
            self.unwatch(client.fileno())
            if client in self._watching:
                self._watching.remove(client)
            client.close()
            for each in commands:
                each.kill()
            if owner:
                self.end()

        self.watch(client.fileno(), answer)

    def _answer(
        self,
        client: socket.socket,
        asked: bytes,
        files: list[int],
        commands: list[subprocess.Popen[bytes]],
    ) -> None:
        try:
            said = json.loads(asked)
            match said["do"]:
                case "run":
                    self._start(client, said, files, commands)
                case "interrupt":
                    for each in commands:
                        each.send_signal(signal.SIGINT)
                case "watch":
                    self._watching.append(client)
                case "decided":
                    tally = self.fabric.lists.tally
                    if "on" in said:
                        tally = self.fabric.lists.tally_at.get(said["on"], Counter())
                    lines = self.decided(tally)
                    while len(lines) > _MOST_LINES:
                        _send(client, {"part": lines[:_MOST_LINES]})
                        del lines[:_MOST_LINES]
                    _send(client, {"decided": lines})
                case "runs":
                    self._documents[said["on"]] = Path(said["file"]).read_bytes()
                    self._take_anew("committed")
                case "down" | "up":
                    self._switch(said["name"], said["do"] == "down")
                    _send(client, {"done": True})
                case other if other in self.also:
                    self.also[other](said, lambda found: _send(client, found))
        except (PlanError, OSError) as error:
            why = error.message if isinstance(error, PlanError) else str(error)
            _send(client, {"error": why})
        except (KeyError, TypeError, ValueError):
            _send(client, {"error": "that is no question"})
        finally:
            for file in files:
                os.close(file)

    def decided(
        self, tally: Mapping[DeciderKey, int] | None = None
    ) -> list[tuple[str, int | None, int]]:
        """Return how many packets each line decided, in the order of the lists: all, or those of
        one tally.
        """
        lists = self.fabric.plan.every_list
        tally = self.fabric.lists.tally if tally is None else tally
        order = {name: number for number, name in enumerate(lists)}
        keys = sorted(
            tally,
            key=lambda each: (
                order.get(each.access_list, len(order)),
                each.access_list,
                each.entry is None,
                each.entry or 0,
            ),
        )
        return [(each.access_list, each.entry, tally[each]) for each in keys]

    def _switch(self, name: str, down: bool) -> None:
        plan = self.fabric.plan
        point = down_point(plan, name)
        changed = plan.without([point])
        if not down:
            changed.down = plan.down - {point}
        self.fabric.change(changed)

    def _start(
        self,
        client: socket.socket,
        said: dict[str, Any],
        files: list[int],
        commands: list[subprocess.Popen[bytes]],
    ) -> None:
        """Start a command on a machine; its result is reported when it ends."""
        machine = self.machines.get(said["on"])
        if machine is None:
            raise PlanError(f"{said['on']} is no machine here")

        def inside() -> None:
            end_with_parent()
            become(machine, self._hosts)
            for each in (signal.SIGINT, signal.SIGQUIT, signal.SIGTERM, signal.SIGPIPE):
                signal.signal(each, signal.SIG_DFL)

        try:
            command = subprocess.Popen(
                said["words"],
                stdin=files[0],
                stdout=files[1],
                stderr=files[2],
                preexec_fn=inside,
                cwd=said["folder"],
                env={name: os.environ[name] for name in os.environ if name != _OURS}
                | {"PATH": _path()}
                | {REHEARSED: "1", "PATH": _path()}
                | self._plan_there,
            )
        except OSError as error:
            status = 127 if isinstance(error, FileNotFoundError) else 126
            _send(client, {"ended": status, "why": f"{said['words'][0]}: {error.strerror}"})
            return
        commands.append(command)
        ended = os.pidfd_open(command.pid)

        def end() -> None:
            self.unwatch(ended)
            os.close(ended)
            commands.remove(command)
            _send(client, {"ended": command.wait()})

        self.watch(ended, end)


def _path() -> str:
    """Return the search path for commands: as outside, and last the folder of this program."""
    return f"{os.environ.get('PATH', os.defpath)}{os.pathsep}{sysconfig.get_path('scripts')}"


def _send(client: socket.socket, said: dict[str, Any]) -> None:
    with contextlib.suppress(OSError):  # who asked may have gone
        client.send(json.dumps(said).encode())
