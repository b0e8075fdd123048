"""`crossgate stand-in`: devices of the plan as NETCONF servers on this machine."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Annotated, NamedTuple

import typer

from crossgate.commands.common import load, moment
from crossgate.commands.completing import complete_device
from crossgate.commands.shared_options import AtOption
from crossgate.core.model.errors import PlanError, unknown

if TYPE_CHECKING:
    from datetime import datetime

    from crossgate.core.model.plan import Plan
    from crossgate.live.stand_in import Misfortune, StandIn

FIRST_PORT = 8301


def stand_in(
    context: typer.Context,
    devices: Annotated[
        list[str] | None,
        typer.Argument(
            metavar="[DEVICE...]",
            autocompletion=complete_device,
            help="Which devices are played. Default: all.",
        ),
    ] = None,
    port: Annotated[
        int, typer.Option(min=1, max=65_535, metavar="N", help="The first one's port.")
    ] = FIRST_PORT,
    fresh: Annotated[
        bool, typer.Option("--fresh", help="Begin with what the plan says, whatever ran before.")
    ] = False,
    at: AtOption = None,
    fail: Annotated[
        list[str] | None,
        typer.Option(
            "--fail",
            metavar="DEVICE=HOW",
            help="Make a device refuse commits, be slow, drop-after-commit or die.",
        ),
    ] = None,
) -> None:
    """Run devices of the plan as NETCONF servers on loopback, until Ctrl-C."""
    import asyncio

    from crossgate.live.played import folder_of

    plan = load(context)
    names = list(plan.devices) if not devices else list(dict.fromkeys(devices))
    for name in names:
        if name not in plan.devices:
            raise PlanError(unknown("device", name, list(plan.devices)))
    begins = _Begins(fresh, moment(at, plan), _misfortunes(plan, fail or []))
    asyncio.run(_play(plan, names, port, begins, folder_of(plan)))


class _Begins(NamedTuple):
    """How stand-ins begin: with what the plan says even if they have run before; the time for the
    plan's windows; and the fault that each has on purpose.
    """

    fresh: bool
    at: datetime
    misfortunes: dict[str, Misfortune]


def _misfortunes(plan: Plan, told: list[str]) -> dict[str, Misfortune]:
    from crossgate.live.stand_in import Misfortune

    found = {}
    for each in told:
        name, _, how = each.partition("=")
        if name not in plan.devices:
            raise PlanError(f"--fail: {unknown('device', name, list(plan.devices))}")
        if how not in list(Misfortune):
            raise PlanError(
                f"--fail {each}: say DEVICE=HOW, with HOW one of {', '.join(Misfortune)}"
            )
        found[name] = Misfortune(how)
    return found


async def _play(plan: Plan, names: list[str], port: int, begins: _Begins, folder: Path) -> None:
    import asyncio

    from crossgate.live.played import begun, keys
    from crossgate.live.stand_in import LOOPBACK, serve

    host_key, user_key = keys(folder)
    playing: list[StandIn] = []
    order = {name: number for number, name in enumerate(plan.devices)}
    loop = asyncio.get_running_loop()
    for name in names:
        device, told = begun(
            plan,
            name,
            folder,
            begins.fresh,
            loop.call_later,
            begins.at,
            begins.misfortunes.get(name),
        )
        await serve(device, port + order[name], host_key, user_key)
        playing.append(device)
        typer.echo(f"{name} at {LOOPBACK} port {port + order[name]}{told}")
    typer.echo(f"Ask them with: crossgate drift --stand-ins {port}   (the key is {folder / 'key'})")
    await asyncio.Event().wait()
