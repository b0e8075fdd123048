"""Devices of a rehearsal that answer NETCONF at their own addresses: what is committed there is
what the network does from then on.

They run in one process beside the loop, with a socket in each device's namespace; what a device
runs is reported to the loop as JSON, like everything else.
"""

from __future__ import annotations

import asyncio
import json
import os
import socket
from datetime import datetime
from typing import Any

from crossgate.core.model.plan import Plan
from crossgate.formats.disk import put_file
from crossgate.language.managing import NETCONF_PORT
from crossgate.live.played import begun, folder_of, keys
from crossgate.live.stand_in import serve
from crossgate.rehearsal import MOST_ASKED
from crossgate.rehearsal.namespaces import Namespace, Namespaces, end_with_parent


def play(
    plan: Plan, at: datetime, namespaces: Namespaces, machines: dict[str, Namespace]
) -> socket.socket:
    """Start stand-ins of all devices of a plan that have addresses, as they are at a time, in a
    separate process; return the end of the connection that reports what they run. Raises
    `PlanError`.
    """
    folder = folder_of(plan)
    keys(folder)
    listening = {}
    for name, device in plan.devices.items():
        if name in machines:
            port = device.management[0].port if device.management else NETCONF_PORT
            with namespaces.inside(machines[name]):
                listening[name] = socket.create_server(
                    ("", port), family=socket.AF_INET6, dualstack_ipv6=True
                )
    ours, theirs = socket.socketpair(socket.AF_UNIX, socket.SOCK_SEQPACKET)
    if not os.fork():
        ours.close()
        end_with_parent()
        try:
            asyncio.run(_play(plan, at, listening, theirs))
        finally:
            os._exit(1)
    theirs.close()
    for each in listening.values():
        each.close()
    return ours


async def _play(
    plan: Plan, at: datetime, listening: dict[str, socket.socket], tell: socket.socket
) -> None:
    folder = folder_of(plan)
    host_key, user_key = keys(folder)
    loop = asyncio.get_running_loop()
    for name, own in listening.items():

        def runs(document: bytes, name: str = name) -> None:
            path = folder / f"{name}.rehearsed.xml"
            put_file(path, document)
            tell.send(json.dumps({"do": "runs", "on": name, "file": str(path)}).encode())

        def counts(name: str = name) -> dict[str, dict[int | None, int]]:
            return _counted(tell, name)

        device, _ = begun(plan, name, folder, True, loop.call_later, at, runs=runs, counts=counts)
        await serve(device, 0, host_key, user_key, own)
    await asyncio.Event().wait()


def _counted(tell: socket.socket, device: str) -> dict[str, dict[int | None, int]]:
    """Ask the loop how often the lines of a device have decided. A list that the loop names after
    its device is returned under its own name.
    """
    tell.send(json.dumps({"do": "decided", "on": device}).encode())
    rows, answer = [], dict[str, Any]()
    while "decided" not in answer:
        answer = json.loads(tell.recv(MOST_ASKED))
        rows += answer.get("part", answer.get("decided", []))
    found = dict[str, dict[int | None, int]]()
    for name, entry, hits in rows:
        found.setdefault(name, {})[entry] = hits
    return {name.removeprefix(f"{device}-"): own for name, own in found.items()} | found
