"""`crossgate pull` and `drift`: what runs on devices, brought into the plan and compared with
it.
"""

from __future__ import annotations

import os
import sys
from pathlib import Path
from typing import TYPE_CHECKING, Annotated, NamedTuple

import typer

from crossgate.commands.common import (
    moment,
    plan_file,
    print_json,
    progress,
    reading_of,
    write_file,
)
from crossgate.commands.completing import complete_device
from crossgate.commands.editing import AnywayOption, DryRunOption, EditOptions, YesOption, carry_out
from crossgate.commands.shared_options import AtOption, JsonOption
from crossgate.commands.tallying import take_into_tally
from crossgate.core.model.errors import PlanError, unknown

if TYPE_CHECKING:
    from crossgate.core.model.accesslist import DeciderKey
    from crossgate.core.model.plan import Plan
    from crossgate.language.draft import Draft
    from crossgate.live.devices import DeviceAccess, Secret

EXTRA = "pip install 'crossgate[live]'"

DevicesArgument = Annotated[
    list[str] | None,
    typer.Argument(
        metavar="[DEVICE...]",
        autocompletion=complete_device,
        help="Which devices. Default: all that the plan says how to manage.",
    ),
]
StandInsOption = Annotated[
    int | None,
    typer.Option(
        "--stand-ins",
        metavar="PORT",
        min=1,
        max=65_535,
        help="Ask the stand-ins of this plan, whose first one is at this port.",
    ),
]
KeyOption = Annotated[
    Path | None,
    typer.Option(
        "--key", metavar="FILE", help="The SSH key to be let in by. Default: those of the agent."
    ),
]
AskPasswordOption = Annotated[
    bool,
    typer.Option(
        "--ask-password", help="Ask for a password here: the devices', or that of the key's file."
    ),
]
AcceptNewOption = Annotated[
    bool,
    typer.Option("--accept-new", help="Write down the host key of a device that is not known yet."),
]
WithinOption = Annotated[
    float,
    typer.Option(min=0.1, max=600, metavar="SECONDS", help="How long to wait for a device."),
]


def pull(
    context: typer.Context,
    devices: DevicesArgument = None,
    stand_ins: StandInsOption = None,
    key: KeyOption = None,
    ask_password: AskPasswordOption = False,
    accept_new: AcceptNewOption = False,
    within: WithinOption = 15,
    tally: Annotated[
        bool, typer.Option("--tally", help="Add to the tally how often lines have decided.")
    ] = False,
    anyway: AnywayOption = False,
    yes: YesOption = False,
    dry_run: DryRunOption = False,
    as_json: JsonOption = False,
) -> None:
    """Bring what runs on devices into the plan, and see first what that does to traffic."""
    from crossgate.live.devices import all_running

    reading = reading_of(plan_file(context, "write"))
    plan = reading.plan
    asked = asked_of(plan, devices, access_of(stand_ins, key, ask_password))
    found = all_running(asked, within, accept_new, tally)
    for each in found:
        if each.why:
            raise PlanError(f"{each.why}; nothing is changed")
    counters: dict[str, dict[DeciderKey, int]] = {}

    def change(draft: Draft) -> str:
        from crossgate.live.drift import coming_from, leave_what_is_the_same, put_in

        said = []
        for each in found:
            coming = coming_from(draft.plan, each)
            counters[each.device] = leave_what_is_the_same(reading, coming, each.device, plan.now())
            told, _ = put_in(draft, coming, each.device)
            said.append(told or f"{each.device}: as the plan says")
        return "\n".join(said)

    proposal = carry_out(context, change, EditOptions(anyway, yes, dry_run, as_json))
    if tally and not dry_run and not proposal.refused:
        take_into_tally(context, proposal.plan, counters)


def drift(
    context: typer.Context,
    devices: DevicesArgument = None,
    stand_ins: StandInsOption = None,
    key: KeyOption = None,
    ask_password: AskPasswordOption = False,
    accept_new: AcceptNewOption = False,
    within: WithinOption = 15,
    at: AtOption = None,
    junit: Annotated[
        Path | None, typer.Option(metavar="FILE", help="Also write the result as JUnit XML.")
    ] = None,
    every: Annotated[
        bool, typer.Option("--all", help="Show all traffic that is treated differently.")
    ] = False,
    as_json: JsonOption = False,
) -> None:
    """Compare what runs on devices with the plan, by meaning; exit status 1 where traffic is
    treated differently, 2 where a device could not be asked.
    """
    from crossgate.live.devices import all_running
    from crossgate.live.drift import drift_of
    from crossgate.show.console import write
    from crossgate.show.drift import lines

    reading = reading_of(plan_file(context, "hold devices against"))
    plan = reading.plan
    when = moment(at, plan)
    asked = asked_of(plan, devices, access_of(stand_ins, key, ask_password))
    found = all_running(asked, within, accept_new)
    drifts = [drift_of(reading, each, when) for each in progress(found, len(found), "comparing")]
    if junit is not None:
        from crossgate.formats.junit import junit_of_drifts
        from crossgate.show.width import CODES

        told = [
            (
                each.device,
                each.why,
                [CODES.sub("", line) for line in lines([each], when)] if each.differs else [],
            )
            for each in drifts
        ]
        write_file(junit, junit_of_drifts(plan, told), plan.files)
    if as_json:
        from crossgate.formats.json.drift import drift_document

        print_json(drift_document(plan, drifts, when))
    else:
        write(lines(drifts, when, every))
    if any(each.why for each in drifts):
        raise typer.Exit(2)
    if any(each.differs for each in drifts):
        raise typer.Exit(1)


class Access(NamedTuple):
    """How devices are reached: as stand-ins, from a port on, or as the plan says, with the file of
    a key and with a password.
    """

    stand_ins: int | None
    key: Path | None
    password: Secret | None


def access_of(stand_ins: int | None, key: Path | None, ask_password: bool) -> Access:
    """Return how devices are reached; a password is asked for on the terminal. Raises `PlanError`
    where there is no terminal.
    """
    from importlib.util import find_spec

    if find_spec("ncclient") is None or find_spec("asyncssh") is None:
        raise PlanError(f"devices are asked by the packages ncclient and asyncssh: {EXTRA}")
    if not ask_password:
        return Access(stand_ins, key, None)
    from crossgate.live.devices import Secret

    if not sys.stdin.isatty():
        raise PlanError("a password is asked for on a terminal, and there is none; use keys here")
    return Access(stand_ins, key, Secret(typer.prompt("Password", hide_input=True, err=True)))


def asked_of(plan: Plan, devices: list[str] | None, by: Access) -> list[DeviceAccess]:
    """Return how the devices to be asked are reached. Raises `PlanError`."""
    from crossgate.live.devices import REHEARSED, reached

    for name in devices or ():
        if name not in plan.devices:
            raise PlanError(unknown("device", name, list(plan.devices)))
    if by.stand_ins is not None:
        from crossgate.live.played import reached_as_played

        names = list(dict.fromkeys(devices or plan.devices))
        return [reached_as_played(plan, name, by.stand_ins) for name in names]
    if os.environ.get(REHEARSED):
        from crossgate.live.played import reached_in_rehearsal

        names = list(dict.fromkeys(devices or plan.devices))
        return [reached_in_rehearsal(plan, name) for name in names]
    managed = [name for name, each in plan.devices.items() if each.management]
    if not devices and not managed:
        raise PlanError(
            "no device of the plan is managed; say how in the block of each, as: "
            "manage netconf 192.0.2.1 user ops"
        )
    return [
        reached(plan, name, by.key)._replace(password=by.password)
        for name in dict.fromkeys(devices or managed)
    ]
