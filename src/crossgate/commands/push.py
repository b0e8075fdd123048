"""`crossgate push`: devices are made to run what the plan says."""

from __future__ import annotations

import sys
from collections.abc import Callable, Mapping
from contextlib import ExitStack
from datetime import datetime
from typing import TYPE_CHECKING, Annotated

import typer

from crossgate.commands.common import (
    meter,
    moment,
    plan_file,
    print_json,
    print_json_line,
    reading_of,
)
from crossgate.commands.live import (
    AcceptNewOption,
    AskPasswordOption,
    DevicesArgument,
    KeyOption,
    StandInsOption,
    WithinOption,
    access_of,
    asked_of,
)
from crossgate.commands.shared_options import AtOption, JsonOption
from crossgate.core.model.errors import PlanError

if TYPE_CHECKING:
    from crossgate.live.proposal import Push
    from crossgate.live.pushing import PushStep


def push(
    context: typer.Context,
    devices: DevicesArgument = None,
    stand_ins: StandInsOption = None,
    key: KeyOption = None,
    ask_password: AskPasswordOption = False,
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
            help="A device rolls back unless it is confirmed within this time.",
        ),
    ] = 120,
    keep_done: Annotated[
        bool,
        typer.Option("--keep-done", help="Keep the devices that are done when one fails."),
    ] = False,
    approximate: Annotated[
        bool, typer.Option("--approximate", help="Leave out what the models cannot say.")
    ] = False,
    anyway: Annotated[
        bool, typer.Option("--anyway", help="Push even where a claim breaks.")
    ] = False,
    resume: Annotated[bool, typer.Option("--resume", help="Continue an unfinished push.")] = False,
    undo: Annotated[
        bool, typer.Option("--undo", help="Put back what an unfinished push has done.")
    ] = False,
    yes: Annotated[bool, typer.Option("--yes", help="Push without asking.")] = False,
    dry_run: Annotated[
        bool, typer.Option("--dry-run", help="Show the steps, and send nothing.")
    ] = False,
    as_json: JsonOption = False,
    events: Annotated[
        bool, typer.Option("--events", help="Print a JSON document a line, as things are done.")
    ] = False,
) -> None:
    """Make devices run the plan's lists, in an order in which nothing that must hold breaks; each
    goes back by itself unless it is confirmed.
    """
    from crossgate.formats.json.drift import event_document, push_document
    from crossgate.live.devices import all_running
    from crossgate.live.proposal import proposed, wrong_after
    from crossgate.live.pushing import Journal, Stage, take_back
    from crossgate.live.pushing import push as push_all
    from crossgate.live.pushing import undo as put_back
    from crossgate.show.console import count, write
    from crossgate.show.drift import push_lines

    path = plan_file(context, "push from")
    reading, journal = reading_of(path), Journal(path)
    plan, as_json = reading.plan, as_json or events
    when, by = moment(at, plan), access_of(stand_ins, key, ask_password)
    show: Callable[[Mapping[str, object]], None] = print_json_line if events else print_json

    def tell(step: PushStep, said: str) -> None:
        if events:
            told = (step.device, step.half, step.stage, said, step.packets)
            print_json_line(event_document(*told, datetime.now()))
        elif not as_json and said:
            typer.echo(f"{step.device}  {said}")

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
            reached = {each.device: each for each in asked_of(plan, names or [], by)}
            told = put_back(journal, left, reached, within, confirm_within, False, tell)
            if as_json:
                steps_back = [(each.device, each.half, str(each.stage), ()) for each in left]
                show(push_document(plan, steps_back, (), (), 0, when, ""))
            else:
                typer.echo(told if left else "no push is left to be undone")
            if journal.read():
                raise typer.Exit(2)
            return
        asked = asked_of(plan, devices, by)
        if resume:
            reached = {each.device: each for each in asked_of(plan, names, by)}
            for step in left:
                if step.stage is Stage.COMMITTING:
                    take_back(step, reached[step.device], within, confirm_within)
        found = all_running(asked, within, accept_new)
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
            if not as_json:
                pushed = count(len({each.device for each in steps}), "device")
                typer.echo(f"{pushed} pushed to and confirmed")
        elif resume and not proposal.steps:
            journal.end()
    if as_json:
        done = [
            (each.device, each.half, str(each.stage), change.found)
            for each, change in zip(proposal.steps, proposal.changes, strict=True)
        ]
        broken = [*proposal.order.failing, *(each for _, each in proposal.order.broken)]
        claims = proposal.order.claims
        show(push_document(plan, done, proposal.unsaid, broken, claims, when, refused))
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
