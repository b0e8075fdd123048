"""What the stand-ins of a plan keep between runs: their configurations, their host key, and their
client's key, in a folder of the user's own.
"""

from __future__ import annotations

import os
from collections.abc import Callable
from datetime import datetime
from pathlib import Path
from typing import Any

import asyncssh

from crossgate.core.answers.drift import in_force
from crossgate.core.model.errors import PlanError
from crossgate.core.model.plan import Plan
from crossgate.formats.exchange.asked import ExportWanted, Given, chosen
from crossgate.formats.exchange.ietf import read, write
from crossgate.formats.own_state import name_for_file, own_folder
from crossgate.live.datastore import Datastore, Later, kept
from crossgate.live.devices import DeviceAccess, where_managed
from crossgate.live.documents import parsed
from crossgate.live.stand_in import LOOPBACK, Misfortune, StandIn
from crossgate.live.state import Counts

_KEY = "ssh-ed25519"
USER = "crossgate"


def folder_of(plan: Plan) -> Path:
    """Return the folder in which the stand-ins of a plan keep their files. Raises `PlanError`."""
    folder = own_folder("stand-ins") / name_for_file(Path(plan.files[0]))
    folder.mkdir(mode=0o700, exist_ok=True)
    return folder


def keys(folder: Path) -> tuple[Any, Any]:
    """Return the host key of the stand-ins, and their client's key, made where there is none; the
    host key is then known as theirs.
    """
    found = []
    for name in ("host-key", "key"):
        path = folder / name
        if not path.exists():
            descriptor = os.open(path, os.O_WRONLY | os.O_CREAT | os.O_EXCL, 0o600)
            with os.fdopen(descriptor, "wb") as file:
                file.write(asyncssh.generate_private_key(_KEY).export_private_key())
        found.append(asyncssh.read_private_key(str(path)))
    return found[0], found[1]


def reached_in_rehearsal(plan: Plan, name: str) -> DeviceAccess:
    """Return how a device is reached in a rehearsal: at the address that the plan gives for
    managing it, or at its first address. Raises `PlanError` for one without addresses.
    """
    folder = folder_of(plan)
    host_key = keys(folder)[0].export_public_key().decode().split()[1]
    host, port = where_managed(plan, plan.devices[name])
    return DeviceAccess(name, host, port, USER, folder / "key", host_key=host_key)


def reached_as_played(plan: Plan, name: str, first_port: int) -> DeviceAccess:
    """Return how the stand-in of a device is reached. Raises `PlanError` where there never was
    one.
    """
    folder = folder_of(plan)
    if not (folder / "host-key").exists():
        raise PlanError("no stand-in of this plan was ever played; start them: crossgate stand-in")
    port = first_port + list(plan.devices).index(name)
    host_key = asyncssh.read_private_key(str(folder / "host-key")).export_public_key()
    own = host_key.decode().split()[1]
    return DeviceAccess(name, LOOPBACK, port, USER, folder / "key", host_key=own)


def begun(
    plan: Plan,
    name: str,
    folder: Path,
    fresh: bool,
    later: Later,
    at: datetime,
    misfortune: Misfortune | None = None,
    runs: Callable[[bytes], None] | None = None,
    counts: Counts = dict,
) -> tuple[StandIn, str]:
    """Return a stand-in with its last configuration, or with what the plan says of the device, with
    the entries whose windows are open at a time; and a sentence about that. A stand-in for which
    `runs` is given saves nothing. Raises `PlanError`.
    """
    path = None if runs is not None else folder / f"{name}.xml"
    running = None if fresh or path is None else kept(path)
    told = ", as it was left" if running is not None else ""
    if running is None:
        now = in_force(plan, at)
        every, places = chosen(now, (), name, bare=True)
        written = write(ExportWanted(now, every, places, name, xml=True))
        assert isinstance(written.text, str)
        running = parsed(written.text.encode(), name)
        if written.unsaid:
            lines = "one line" if len(written.unsaid) == 1 else f"{len(written.unsaid)} lines"
            told = f", without {lines} that its models cannot say"

    def sees(document: bytes) -> None:
        read(Given(Path(f"{name}.xml"), document, plan, name))

    return StandIn(name, Datastore(running, later, sees, path, runs), misfortune, counts), told
