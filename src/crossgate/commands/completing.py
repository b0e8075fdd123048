"""Completions for the shell: the plan's own names wherever one may stand.

A completion reads no more than it needs: one command's module; the plan's network, names and first
lines of lists; and the entries of one list, where these are asked for. A plan that is being written
has errors; the names in it that are right are offered all the same.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator
from contextlib import suppress
from typing import TYPE_CHECKING

import typer

from crossgate.core.model.errors import PlanError

if TYPE_CHECKING:
    from crossgate.core.model.plan import Plan


def _names_of(context: typer.Context, list_name: str | None = None) -> Plan:
    """Read what a completion needs of the plan: its names, and the entries of one list. Raises
    `PlanError`.
    """
    from crossgate.commands.common import STANDARD_INPUT, plan_path
    from crossgate.language.reader import read_names

    path = plan_path(context)
    if path == STANDARD_INPUT:
        raise PlanError("the plan is on standard input")
    return read_names(path, list_name)


def _completes(
    names: Callable[[Plan], list[str]], commas: bool = False
) -> Callable[[typer.Context, str], Iterator[str]]:
    """Return a function that offers names of the plan; with `commas`, for the last of several."""

    def complete(ctx: typer.Context, incomplete: str) -> Iterator[str]:
        try:
            known = names(_names_of(ctx))
        except PlanError:
            return iter(())
        head, comma, last = incomplete.rpartition(",") if commas else ("", "", incomplete)
        taken = head.split(",")
        return (
            f"{head}{comma}{name}" for name in known if name.startswith(last) and name not in taken
        )

    return complete


def _points(plan: Plan) -> list[str]:
    return [
        f"{device.name}.{name}"
        for device in plan.devices.values()
        for name in (*device.interfaces, *device.ports)
    ]


def _interfaces(plan: Plan) -> list[str]:
    return [
        f"{device.name}.{name}" for device in plan.devices.values() for name in device.interfaces
    ]


LEASE = "lease"
"""The word for how a machine gets its address, where a destination and a service stand
otherwise.
"""


def _ends(plan: Plan) -> list[str]:
    return [*plan.hosts, *plan.devices, *plan.segments, *plan.groups, *_interfaces(plan)]


complete_end = _completes(_ends, commas=True)
complete_destination = _completes(
    lambda plan: [*_ends(plan), *([LEASE] if plan.leases else [])], commas=True
)
complete_one_end = _completes(lambda plan: [*plan.hosts, *plan.devices, *_interfaces(plan)])
complete_place = _completes(
    lambda plan: [*plan.hosts, *plan.devices, *plan.segments, *_interfaces(plan)]
)
_WHERE_WORDS = ("subnet", "host", "group", "itself")
complete_where = _completes(
    lambda plan: [
        *_points(plan),
        *_WHERE_WORDS,
        *plan.segments,
        *plan.devices,
        *plan.hosts,
        *plan.groups,
    ]
)
complete_stands = _completes(
    lambda plan: [*plan.devices, *plan.segments, *_points(plan), *plan.hosts, *plan.groups]
)
complete_part = _completes(lambda plan: [*plan.devices, *_points(plan)])
complete_point = _completes(_points)
complete_machine = _completes(lambda plan: [*plan.hosts, *plan.devices])
complete_device = _completes(lambda plan: list(plan.devices))
complete_subnet = _completes(
    lambda plan: [name for name, segment in plan.segments.items() if not segment.outside]
)
complete_set = _completes(lambda plan: ["any", *plan.names()])
complete_hosts = _completes(lambda plan: [*plan.hosts, *plan.groups, *plan.segments, *plan.devices])
complete_name = _completes(lambda plan: plan.names(), commas=True)
complete_about = _completes(
    lambda plan: [
        *plan.names(),
        *_points(plan),
        *plan.services,
        *plan.windows,
        *plan.every_list,
        "vlan",
    ]
)
complete_week = _completes(
    lambda plan: [*plan.windows, *plan.hosts, *plan.devices, *_interfaces(plan), *plan.services]
)
complete_list = _completes(lambda plan: list(plan.every_list))


def complete_pattern(ctx: typer.Context, incomplete: str) -> Iterator[tuple[str, str]]:
    """Offer the words for a pattern, and the addresses of hosts, each with its host's name."""
    words = [(word, "") for word in ("cover", "has", "wild", "mask")]
    with suppress(PlanError):
        words += [
            (str(address), host.name)
            for host in _names_of(ctx).hosts.values()
            for address in host.addresses
        ]
    return (each for each in words if each[0].startswith(incomplete))


def complete_entry(ctx: typer.Context, incomplete: str) -> Iterator[tuple[str, str]]:
    """Offer the numbers of the entries of the list named before, each with its text."""
    name = ctx.params.get("list_name") or ""
    try:
        access_list = _names_of(ctx, name).lists.get(name)
    except PlanError:
        return iter(())
    entries = access_list.entries if access_list else ()
    return (
        (str(entry.number), entry.text)
        for entry in entries
        if str(entry.number).startswith(incomplete)
    )


def complete_service(ctx: typer.Context, incomplete: str) -> Iterator[str]:
    """Offer the plan's services, ping, protocols and IANA's service names."""
    from crossgate.core.model import iana

    try:
        own = list(_names_of(ctx).services)
    except PlanError:
        own = []
    return (
        name
        for name in dict.fromkeys((*own, "ping", "ip", *iana.protocols(), *iana.services()))
        if name.startswith(incomplete)
    )
