"""`crossgate rehearse`: the plan as a live network on this machine: real programs, real packets."""

from __future__ import annotations

import shlex
import signal
from collections.abc import Callable
from datetime import datetime, timedelta
from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Any

import typer

from crossgate.commands.common import (
    moment,
    plan_path,
    print_json_line,
    read_file,
    reading_of,
)
from crossgate.commands.completing import complete_machine, complete_part, complete_point
from crossgate.commands.shared_options import AtOption, TallyOption
from crossgate.commands.tallying import add_to_tally
from crossgate.core.model.errors import PlanError, unknown

if TYPE_CHECKING:
    from crossgate.core.model.network import Point
    from crossgate.core.model.plan import Plan
    from crossgate.rehearsal.session import RunningRehearsal

_INTERRUPTED = 130


def rehearse(
    context: typer.Context,
    host: Annotated[
        str | None,
        typer.Argument(
            metavar="HOST",
            autocompletion=complete_machine,
            help="The host or device to be on. Without COMMAND there is a prompt.",
        ),
    ] = None,
    command: Annotated[
        list[str] | None,
        typer.Argument(metavar="COMMAND...", help="What to run there, behind --."),
    ] = None,
    expectations: Annotated[
        bool,
        typer.Option(
            "--expectations",
            help="Try every claim of the plan with real packets; exit status 1 if one fails.",
        ),
    ] = False,
    sheet: Annotated[
        bool,
        typer.Option(
            "--sheet",
            help="Make the tests of crossgate sheet, and compare counters; exit status 1 likewise.",
        ),
    ] = False,
    within: Annotated[
        float,
        typer.Option(
            min=0.1, max=60, metavar="SECONDS", help="What is not answered so soon is silence."
        ),
    ] = 1.5,
    join: Annotated[
        bool, typer.Option("--join", help="Use the rehearsal of this plan that runs already.")
    ] = False,
    way: Annotated[
        int | None,
        typer.Option(
            min=1, metavar="N", help="Where ways are equal take the N-th. Default: by the flow."
        ),
    ] = None,
    without: Annotated[
        list[str] | None,
        typer.Option(
            "--without",
            metavar="NAME",
            autocompletion=complete_part,
            help="Begin with this device or point down; may be repeated.",
        ),
    ] = None,
    capture: Annotated[
        str | None,
        typer.Option(
            "--capture",
            metavar="POINT",
            autocompletion=complete_point,
            help="Write what passes this interface or port to --out.",
        ),
    ] = None,
    out: Annotated[
        Path | None, typer.Option(metavar="FILE", help="The capture to write, .pcapng.")
    ] = None,
    devices: Annotated[
        bool,
        typer.Option(
            "--devices",
            help="Devices answer NETCONF at their own addresses; what is committed there holds.",
        ),
    ] = False,
    at: AtOption = None,
    full: Annotated[
        bool, typer.Option("--full", help="Show each decision as it happens, and claims that hold.")
    ] = False,
    tally: TallyOption = False,
    as_json: Annotated[
        bool, typer.Option("--json", help="Print a JSON document a line and nothing else.")
    ] = False,
) -> None:
    """Run the plan as a live network: a COMMAND on HOST, every claim, or a prompt. Linux only."""
    from crossgate.rehearsal.session import joined, start

    path = plan_path(context)
    plan = read_file(path)
    if without:
        from crossgate.core.answers.outage import down_point

        plan = plan.without(down_point(plan, each) for each in without)
    if host is not None and host not in plan.hosts and host not in plan.devices:
        raise PlanError(unknown("host", host, [*plan.hosts, *plan.devices]))
    alone = "--expectations" if expectations else "--sheet" if sheet else ""
    if alone and (host is not None or join or (expectations and sheet)):
        raise PlanError(f"{alone} tries all by itself; leave HOST, --join and other tests out")
    if join:
        session = joined(path)
    else:
        session = start(
            plan,
            _clock(plan, at),
            path,
            way,
            None if str(path) == "-" else lambda: reading_of(path),
            _capture(plan, capture, out),
            devices,
        )
    with session:
        if expectations:
            status = _try_claims(session, plan, within, full, as_json)
        elif sheet:
            status = _try_sheet(session, within, full, as_json)
        else:
            # Ctrl-C is for the command that runs, and for what is being typed.
            signal.signal(signal.SIGINT, signal.default_int_handler)
            status = (
                _run(session, host, command, full, as_json)
                if command and host is not None
                else _prompt(session, plan, host or next(iter(plan.hosts), ""))
            )
        decided = session.decided()
    from crossgate.show.rehearse import by_key, decided_lines

    if tally:
        add_to_tally(context, plan, by_key(decided))
    if as_json:
        print_json_line({"decided": decided})
    elif not alone:
        for line in decided_lines(plan, decided):
            typer.echo(line, err=bool(command))
    if status:
        raise typer.Exit(status)


def _clock(plan: Plan, at: str | None) -> Callable[[], datetime]:
    """Return the clock for windows: the system's, shifted to begin at the time that is asked
    for.
    """
    if at is None:
        return plan.now
    begun, asked = datetime.now(), moment(at, plan)
    return lambda: asked + (datetime.now() - begun if datetime.now() > begun else timedelta())


def _capture(plan: Plan, at: str | None, out: Path | None) -> tuple[Point, Path] | None:
    if at is None and out is None:
        return None
    if at is None or out is None:
        raise PlanError("--capture POINT and --out FILE belong together")
    point = plan.point(at)
    if any(out.exists() and Path(each).exists() and out.samefile(each) for each in plan.sources):
        raise PlanError(f"{out} is part of the plan that this is about; name another file")
    return point, out


def _heard(full: bool, as_json: bool) -> Callable[[dict[str, Any]], None] | None:
    """Return the function that handles each report; None where nobody wants to know."""
    if as_json:
        return print_json_line
    if not full:
        return None
    from crossgate.show.rehearse import event_line

    return lambda said: typer.echo(event_line(said), err=True)


def _run(session: RunningRehearsal, host: str, words: list[str], full: bool, as_json: bool) -> int:
    heard = _heard(full, as_json)
    if heard is not None:
        session.ask({"do": "watch"})
    ended = session.run(host, words, heard, (0, 2, 2) if as_json else (0, 1, 2))
    if "why" in ended:
        typer.echo(ended["why"], err=True)
    if as_json:
        print_json_line({"ended": ended["ended"]})
    status = int(ended["ended"])
    return status if status >= 0 else 128 - status


def _try_claims(
    session: RunningRehearsal, plan: Plan, within: float, full: bool, as_json: bool
) -> int:
    from crossgate.show.rehearse import claim_lines, claims_total

    found = []
    session.ask({"do": "claims", "within": within})
    for each in session.until("claims"):
        if "claims" not in each:
            found.append(each)
            if as_json:
                print_json_line(each)
    if not as_json:
        for each in sorted(found, key=lambda one: (one["held"] is not False, one["line"])):
            for line in claim_lines(each, full):
                typer.echo(line)
        typer.echo(claims_total(found))
    return int(any(each["held"] is False for each in found))


def _try_sheet(session: RunningRehearsal, within: float, full: bool, as_json: bool) -> int:
    from crossgate.show.rehearse import counter_lines, sheet_lines, sheet_total

    session.ask({"do": "sheet", "within": within, "lists": []})
    tests: list[dict[str, Any]] = []
    counters: list[dict[str, Any]] = []
    for each in session.until("sheet"):
        if "sheet" in each:
            continue
        (tests if "test" in each else counters).append(each)
        if as_json:
            print_json_line(each)
    if not as_json:
        for each in sorted(tests, key=lambda one: (one["held"] is not False, one["test"])):
            for line in sheet_lines(each, full):
                typer.echo(line)
        for line in counter_lines(counters):
            typer.echo(line)
        typer.echo(sheet_total(tests, counters))
    wrong = any(each["held"] is False for each in tests)
    return int(wrong or any(each["counted"] < each["least"] for each in counters))


def _prompt(session: RunningRehearsal, plan: Plan, host: str) -> int:
    """Run the commands typed for a machine, until the end of input."""
    from crossgate.show.rehearse import decided_lines, event_line

    _complete(plan)
    session.ask({"do": "watch"})
    typer.echo(_HELP)
    while True:
        for each in session.waiting():
            typer.echo(event_line(each))
        try:
            line = input(f"{host}> ")
        except EOFError:
            typer.echo()
            return 0
        except KeyboardInterrupt:
            typer.echo()
            continue
        try:
            words = shlex.split(line)
        except ValueError as error:
            typer.echo(f"{error}", err=True)
            continue
        try:
            match words:
                case []:
                    continue
                case ["exit" | "quit"]:
                    return 0
                case ["help"]:
                    typer.echo(_HELP)
                case ["on", name]:
                    if name not in plan.hosts and name not in plan.devices:
                        raise PlanError(unknown("host", name, [*plan.hosts, *plan.devices]))
                    host = name
                case ["what", "was", "decided"]:
                    for text in decided_lines(plan, session.decided()):
                        typer.echo(text)
                case ["down" | "up" as way, name]:
                    session.ask({"do": way, "name": name})
                    for _ in session.until("done"):
                        pass
                case _:
                    ended = session.run(host, words, lambda said: typer.echo(event_line(said)))
                    if "why" in ended:
                        typer.echo(ended["why"], err=True)
        except PlanError as error:
            typer.echo(error.message, err=True)


_HELP = (
    "Type a command to run it on the machine, or: on NAME, what was decided, down NAME, up NAME, "
    "help, exit"
)


def _complete(plan: Plan) -> None:
    """Complete names of the plan and the prompt's own words at the prompt, and keep a history while
    it runs.
    """
    import readline

    own = ("on", "what was decided", "down", "up", "help", "exit")
    names = sorted({*plan.hosts, *plan.devices, *own})

    def offered(text: str, number: int) -> str | None:
        found = [each for each in names if each.startswith(text)]
        return f"{found[number]} " if number < len(found) else None

    readline.set_completer(offered)
    readline.set_completer_delims(" ")
    readline.parse_and_bind("tab: complete")
