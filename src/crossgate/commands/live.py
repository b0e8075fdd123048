"""`crossgate pull`, `drift` and `push`: what runs on devices, into the plan, against it, and made
what the plan says.
"""

from __future__ import annotations

import os
import sys
from contextlib import ExitStack
from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from crossgate.commands.common import (
    AtOption,
    JsonOption,
    add_to_tally,
    clock,
    meter,
    moment,
    plan_file,
    print_json,
    progress,
    reading_of,
    write_file,
)
from crossgate.commands.completing import complete_device
from crossgate.commands.editing import AnywayOption, DryRunOption, How, YesOption, carry_out
from crossgate.core.model.errors import PlanError, unknown

if TYPE_CHECKING:
    from crossgate.core.model.accesslist import DeciderKey
    from crossgate.core.model.plan import Plan
    from crossgate.language.draft import Draft
    from crossgate.live.devices import Reached, Running
    from crossgate.live.proposal import Push

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
AcceptNewOption = Annotated[
    bool,
    typer.Option("--accept-new", help="Write down the host key of a device that is not known yet."),
]
WithinOption = Annotated[
    float,
    typer.Option(min=0.1, max=600, metavar="SECONDS", help="How long a device may take."),
]


def pull(
    context: typer.Context,
    devices: DevicesArgument = None,
    stand_ins: StandInsOption = None,
    key: KeyOption = None,
    accept_new: AcceptNewOption = False,
    within: WithinOption = 15,
    tally: Annotated[
        bool, typer.Option("--tally", help="Add how often lines have decided to the tally.")
    ] = False,
    anyway: AnywayOption = False,
    yes: YesOption = False,
    dry_run: DryRunOption = False,
    as_json: JsonOption = False,
) -> None:
    """Bring what runs on devices into the plan, and see first what that does to traffic."""
    reading = reading_of(plan_file(context, "write"))
    plan = reading.plan
    asked = _asked(plan, devices, stand_ins, key)
    found = _running(asked, within, accept_new, tally)
    for each in found:
        if each.why:
            raise PlanError(f"{each.why}; nothing is changed")
    hits: dict[DeciderKey, int] = {}

    def change(draft: Draft) -> str:
        from crossgate.live.drift import coming_from, leave_what_is_the_same, put_in

        said = []
        for each in found:
            coming = coming_from(draft.plan, each)
            leave_what_is_the_same(reading, coming, each.device, clock(plan))
            told, decided = put_in(draft, coming, each.device)
            said.append(told or f"{each.device}: as the plan says")
            hits.update(decided)
        return "\n".join(said)

    proposal = carry_out(context, change, How(anyway, yes, dry_run, as_json))
    if tally and hits and not dry_run and not proposal.refused:
        add_to_tally(context, proposal.plan, hits)


def drift(
    context: typer.Context,
    devices: DevicesArgument = None,
    stand_ins: StandInsOption = None,
    key: KeyOption = None,
    accept_new: AcceptNewOption = False,
    within: WithinOption = 15,
    at: AtOption = None,
    junit: Annotated[
        Path | None, typer.Option(metavar="FILE", help="Also write the result as JUnit XML.")
    ] = None,
    every: Annotated[
        bool, typer.Option("--all", help="Show all traffic that fares otherwise.")
    ] = False,
    as_json: JsonOption = False,
) -> None:
    """Hold what runs on devices against the plan, by meaning; exit status 1 where traffic fares
    otherwise, 2 where a device could not be asked.
    """
    from crossgate.live.drift import drift_of
    from crossgate.show.console import write
    from crossgate.show.drift import lines

    reading = reading_of(plan_file(context, "hold devices against"))
    plan = reading.plan
    when = moment(at, plan)
    found = _running(_asked(plan, devices, stand_ins, key), within, accept_new)
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


def push(
    context: typer.Context,
    devices: DevicesArgument = None,
    stand_ins: StandInsOption = None,
    key: KeyOption = None,
    accept_new: AcceptNewOption = False,
    within: WithinOption = 15,
    at: AtOption = None,
    confirm_within: Annotated[
        int,
        typer.Option(
            "--confirm-within",
            min=5,
            max=3600,
            metavar="SECONDS",
            help="A device goes back by itself that is not confirmed within.",
        ),
    ] = 120,
    keep_done: Annotated[
        bool, typer.Option("--keep-done", help="Leave devices that are done where one fails.")
    ] = False,
    approximate: Annotated[
        bool, typer.Option("--approximate", help="Leave out what the models cannot say.")
    ] = False,
    anyway: Annotated[
        bool, typer.Option("--anyway", help="Push even where a claim breaks in between, or a keep.")
    ] = False,
    resume: Annotated[
        bool, typer.Option("--resume", help="Go on with a push that did not end.")
    ] = False,
    undo: Annotated[
        bool, typer.Option("--undo", help="Put devices back that a push that did not end began.")
    ] = False,
    yes: Annotated[
        bool, typer.Option("--yes", help="Push without asking; without a terminal it is needed.")
    ] = False,
    dry_run: Annotated[
        bool, typer.Option("--dry-run", help="Show the steps, and send nothing.")
    ] = False,
    as_json: JsonOption = False,
) -> None:
    """Make devices run the plan's lists, in an order in which nothing that must hold breaks; each
    goes back by itself unless it is confirmed.
    """
    from crossgate.live.proposal import proposed, wrong_after
    from crossgate.live.pushing import Journal, Stage, take_back
    from crossgate.live.pushing import push as push_all
    from crossgate.live.pushing import undo as put_back
    from crossgate.show.console import write
    from crossgate.show.drift import push_lines

    path = plan_file(context, "push from")
    reading, journal = reading_of(path), Journal(path)
    plan = reading.plan
    when = moment(at, plan)

    def tell(device: str, said: str) -> None:
        if not as_json:
            typer.echo(f"{device}  {said}")

    with ExitStack() as stack:
        if not dry_run:
            stack.enter_context(journal.alone())
        left = journal.read()
        names = [each.device for each in left]
        if left and not (undo or resume or dry_run):
            far = ", ".join(f"{each.device} {each.stage}" for each in left)
            raise PlanError(
                f"a push did not end ({far}): crossgate push --undo puts the devices back, "
                "--resume goes on with it"
            )
        if undo:
            reached = {each.device: each for each in _asked(plan, names or [], stand_ins, key)}
            told = put_back(journal, left, reached, within, confirm_within, False, tell)
            typer.echo(told if left else "no push is left to be undone")
            if journal.read():
                raise typer.Exit(2)
            return
        asked = _asked(plan, devices, stand_ins, key)
        if resume:
            reached = {each.device: each for each in _asked(plan, names, stand_ins, key)}
            for step in left:
                if step.stage is Stage.COMMITTING:
                    take_back(step, reached[step.device], within, confirm_within)
        found = _running(asked, within, accept_new)
        for each in found:
            if each.why:
                raise PlanError(f"{each.why}; nothing was sent")
        with meter("proving") as proving:
            proposal = proposed(reading, found, when, proving)
        refused = _refused(proposal, approximate, anyway)
        if not as_json:
            write(push_lines(plan, proposal, when))
        wanted = bool(proposal.steps) and not dry_run and not refused
        if wanted and not yes and (as_json or not sys.stdin.isatty()):
            raise PlanError("nobody is there to be asked; --yes pushes without asking")
        if refused and not as_json:
            typer.echo(f"refused: {refused}; nothing was sent")
        if wanted and not yes:
            wanted = typer.confirm(f"Push to {len({s.device for s in proposal.steps})} devices?")
        if wanted:
            reached = {each.device: each for each in asked}
            steps = list(proposal.steps)
            push_all(
                journal,
                steps,
                reached,
                within,
                confirm_within,
                keep_done,
                lambda step, document: wrong_after(reading, step, document, when),
                tell,
            )
        elif resume and not proposal.steps:
            journal.end()
    if as_json:
        from crossgate.formats.json.drift import push_document

        done = [
            (each.device, each.half, str(each.stage), change.found)
            for each, change in zip(proposal.steps, proposal.changes, strict=True)
        ]
        broken = [*proposal.order.failing, *(each for _, each in proposal.order.broken)]
        claims = proposal.order.claims
        print_json(push_document(plan, done, proposal.unsaid, broken, claims, when, refused))
    if refused:
        raise typer.Exit(1)


def _refused(proposal: Push, approximate: bool, anyway: bool) -> str:
    """Return why a push may not be made, "" where it may."""
    if proposal.unsaid and not approximate:
        return "its models cannot say all of it; --approximate leaves it out"
    if anyway:
        return ""
    if proposal.order.failing:
        return f"{proposal.order.failing[0].expectation.text} would not hold in the end"
    if proposal.order.broken:
        return "every next step breaks a claim; --anyway takes them in the plan's order"
    return ""


def _asked(
    plan: Plan, devices: list[str] | None, stand_ins: int | None, key: Path | None
) -> list[Reached]:
    """Return which devices are asked, and where. Raises `PlanError`."""
    from importlib.util import find_spec

    if find_spec("ncclient") is None or find_spec("asyncssh") is None:
        raise PlanError(f"devices are asked by the packages ncclient and asyncssh: {EXTRA}")
    from crossgate.live.devices import REHEARSED, reached

    for name in devices or ():
        if name not in plan.devices:
            raise PlanError(unknown("device", name, list(plan.devices)))
    if stand_ins is not None:
        from crossgate.live.played import reached_as_played

        names = list(dict.fromkeys(devices or plan.devices))
        return [reached_as_played(plan, name, stand_ins) for name in names]
    managed = [name for name, each in plan.devices.items() if each.management]
    if not devices and not managed:
        raise PlanError(
            "no device of the plan is managed; say how in the block of each, as: "
            "manage netconf 192.0.2.1 user ops"
        )
    found = [reached(plan, name, key) for name in dict.fromkeys(devices or managed)]
    if os.environ.get(REHEARSED):
        from crossgate.live.played import played_there

        return [played_there(each, plan) for each in found]
    return found


def _running(
    asked: list[Reached], within: float, accept_new: bool, counters: bool = False
) -> list[Running]:
    from crossgate.live.devices import all_running

    return all_running(asked, within, accept_new, counters)
