"""`crossgate sheet`: the fewest tests that show every line at work, and their results."""

from __future__ import annotations

import sys
from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from crossgate.commands.common import circumstances, load, meter, print_json
from crossgate.commands.completing import complete_list, complete_machine
from crossgate.commands.shared_options import AtOption, JsonOption
from crossgate.commands.tallying import tallied
from crossgate.core.model.errors import PlanError, unknown

if TYPE_CHECKING:
    from collections.abc import Sequence

    from crossgate.core.answers.sheet.results import Result

_MOST_TOLD = 5


def complete_can(incomplete: str) -> list[str]:
    """Offer the kinds of tests."""
    return [each for each in ("ping", "connect", "lookup") if each.startswith(incomplete)]


CanOption = Annotated[
    str | None,
    typer.Option(
        "--can",
        metavar="WHAT,...",
        autocompletion=complete_can,
        help="Only what can be tried there: ping, connect, lookup.",
    ),
]


def sheet(
    context: typer.Context,
    names: Annotated[
        list[str] | None,
        typer.Argument(
            metavar="[LIST]...",
            autocompletion=complete_list,
            help="Default: every list, and every claim.",
        ),
    ] = None,
    machines: Annotated[
        list[str] | None,
        typer.Option(
            "--from",
            metavar="HOST",
            autocompletion=complete_machine,
            help="Only tests at this machine; several times for several.",
        ),
    ] = None,
    can: CanOption = None,
    at: AtOption = None,
    results: Annotated[
        list[Path] | None,
        typer.Option(
            "--results",
            metavar="FILE",
            help="Hold a filled-in sheet against the plan; several times for several.",
        ),
    ] = None,
    as_csv: Annotated[bool, typer.Option("--csv", help="As a table, to fill in.")] = False,
    as_markdown: Annotated[
        bool, typer.Option("--markdown", help="As a table in Markdown.")
    ] = False,
    tally: Annotated[
        bool,
        typer.Option("--tally", help="Leave out lines that have decided, by the tally."),
    ] = False,
    every: Annotated[
        bool, typer.Option("--every", help="List every line that no test shows.")
    ] = False,
    as_json: JsonOption = False,
) -> None:
    """Write the fewest tests by which a person sees on site that every line does what it should:
    where, what to run, what is seen, which counters move. With --results hold what was seen against
    it: exit status 1 where something differs.
    """
    from crossgate import library
    from crossgate.core.answers.sheet.results import Agreement, judged
    from crossgate.core.network.ways import Network
    from crossgate.formats.sheet import read_results, sheet_csv, sheet_markdown

    if sum((as_csv, as_markdown, as_json)) > 1:
        raise PlanError("--csv, --markdown and --json are three forms of one answer; name one")
    if results and (as_csv or as_markdown):
        raise PlanError("--results is told in words or with --json; leave --csv or --markdown out")
    plan = load(context)
    for each in machines or ():
        if each not in plan.hosts:
            raise PlanError(f"--from: {unknown('host', each, list(plan.hosts))}")
    when = circumstances(plan, at)
    seen = [each for path in results or () for each in read_results(path)]
    hits = tallied(context, plan.lists.values()) if tally else {}
    at_work = frozenset(line for line, number in hits.items() if number)
    with meter("looking for tests") as tell:
        found = library.sheet(
            plan,
            names or (),
            machines or (),
            can=tests_wanted(can),
            at_work=at_work,
            of=when,
            tell=tell,
        )
    held = judged(Network(plan), found, seen) if results else None
    if held is not None:
        _tell_unknown(held.unknown)
    if as_json:
        from crossgate.formats.json.sheet import sheet_document

        print_json(sheet_document(plan, found, held))
    elif as_csv:
        sys.stdout.write(sheet_csv(found))
    elif as_markdown:
        sys.stdout.write(sheet_markdown(plan, found))
    else:
        from crossgate.show.console import write
        from crossgate.show.sheet import judged_lines, lines

        write(lines(plan, found, every) if held is None else judged_lines(found, held))
    bad = (Agreement.DIFFERS, Agreement.CONTRADICTS)
    if held is not None and any(each.agreement in bad for each in held.held):
        raise typer.Exit(1)


def tests_wanted(text: str | None) -> list[str]:
    """Return the kinds of tests that `--can` names, nothing where it is not given. Raises
    `PlanError`.
    """
    from crossgate.core.answers.sheet.tests import Can

    words = [each.strip() for each in (text or "").split(",") if each.strip()]
    if text is not None and not words:
        raise PlanError(f"--can names nothing; write some of {', '.join(Can)}")
    for each in words:
        if each not in list(Can):
            raise PlanError(f"--can: {unknown('test', each, list(Can))}")
    return words


def _tell_unknown(results: Sequence[Result]) -> None:
    """Warn of results for tests that this plan does not have."""
    from crossgate.show.console import count, warn

    for each in results[:_MOST_TOLD]:
        warn(
            f"{each.where}: nothing that this plan can test is {each.command!r} on "
            f"{each.machine or 'no machine'}; crossgate sheet --csv writes the tests of this plan"
        )
    if len(results) > _MOST_TOLD:
        warn(f"{count(len(results) - _MOST_TOLD, 'more row')} of no test of this plan")
