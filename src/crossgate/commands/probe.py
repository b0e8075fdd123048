"""`crossgate probe`: the tests for a machine of the plan made for real, on that machine."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from crossgate.commands.common import circumstances, load, meter, print_json, write_file
from crossgate.commands.completing import complete_list, complete_machine
from crossgate.commands.shared_options import AtOption, JsonOption
from crossgate.commands.sheet import CanOption, tests_wanted
from crossgate.core.model.errors import PlanError, unknown

if TYPE_CHECKING:
    from crossgate.core.answers.sheet import Sheet
    from crossgate.core.model.plan import Plan

_RATE = 5.0
_MOST_RATE = 50.0


def probe(
    context: typer.Context,
    names: Annotated[
        list[str] | None,
        typer.Argument(
            metavar="[LIST]...", autocompletion=complete_list, help="Default: every list."
        ),
    ] = None,
    machine: Annotated[
        str,
        typer.Option(
            "--as",
            metavar="HOST",
            autocompletion=complete_machine,
            help="Which machine of the plan this one is.",
        ),
    ] = "",
    can: CanOption = None,
    rate: Annotated[
        float,
        typer.Option(
            "--rate", metavar="N", min=0.1, max=_MOST_RATE, help="At most N tests a second."
        ),
    ] = _RATE,
    at: AtOption = None,
    out: Annotated[
        Path | None,
        typer.Option("--out", metavar="FILE", help="Write what was seen, for sheet --results."),
    ] = None,
    dry_run: Annotated[
        bool, typer.Option("--dry-run", help="Only list what would be tried.")
    ] = False,
    anyway: Annotated[
        bool,
        typer.Option("--anyway", help="Try it though this machine does not have HOST's addresses."),
    ] = False,
    as_json: JsonOption = False,
) -> None:
    """Make the tests that the sheet has for HOST, for real, from this machine: connections, pings,
    questions to name servers, to addresses of the plan and nowhere else. Exit status 1 where
    something is seen that the plan does not say.
    """
    from crossgate import library
    from crossgate.core.answers.sheet.results import Agreement, Result, judged
    from crossgate.core.answers.sheet.words import command_line
    from crossgate.core.network.ways import Network
    from crossgate.formats.sheet import sheet_csv
    from crossgate.live.probing import Probed, probed

    plan = load(context)
    if machine not in plan.hosts:
        told = unknown("host", machine, list(plan.hosts)) if machine else "it names no host"
        raise PlanError(f"--as: {told}; say which machine of the plan this one is")
    with meter("looking for tests") as tell:
        found = library.sheet(
            plan, names or (), machine, can=tests_wanted(can), of=circumstances(plan, at), tell=tell
        )
    if not found.rows:
        raise PlanError(
            f"the sheet has no test for {machine}; crossgate sheet shows those of others"
        )
    if dry_run:
        _show(plan, found, as_json)
        return
    bound = _is_this_machine(plan, machine, found)
    if not bound and not anyway:
        own = ", ".join(map(str, plan.hosts[machine].addresses))
        raise PlanError(
            f"this machine does not have the addresses of {machine} ({own}), so what it sees says "
            "nothing of that one; run it there, or --anyway"
        )
    done: list[Probed] = []
    with meter("trying") as tell:

        def count(each: Probed) -> None:
            done.append(each)
            tell(len(done), len(found.rows))

        results = probed(found.rows, rate, bound, count)
    if out is not None:
        seen = {each.row.number: each.seen for each in results}
        write_file(out, sheet_csv(found, seen), plan.files)
    held = judged(
        Network(plan),
        found,
        (Result("", machine, command_line(each.row.tried), each.seen) for each in results),
    )
    if as_json:
        from crossgate.formats.json.sheet import sheet_document

        print_json(sheet_document(plan, found, held))
    else:
        from crossgate.show.console import write
        from crossgate.show.sheet import judged_lines, probed_lines

        write(probed_lines(held))
        write(judged_lines(found, held))
        if out is not None:
            write([f"{out} is written"])
    if any(each.agreement is Agreement.DIFFERS for each in held.held):
        raise typer.Exit(1)


def _is_this_machine(plan: Plan, machine: str, sheet: Sheet) -> bool:
    """Whether this machine has the addresses from which a host's tests are sent."""
    from crossgate.live.probing import missing_addresses

    families = {row.tried.conversation.first.family for row in sheet.rows}
    own = [each for each in plan.hosts[machine].addresses if each.family in families]
    return not missing_addresses(own)


def _show(plan: Plan, sheet: Sheet, as_json: bool) -> None:
    if as_json:
        from crossgate.formats.json.sheet import sheet_document

        print_json(sheet_document(plan, sheet, None))
        return
    from crossgate.show.console import write
    from crossgate.show.sheet import lines

    write(lines(plan, sheet._replace(not_shown=()), every=False))
