"""`crossgate compare`: exactly which traffic two plans, or two versions of a list, treat
differently.
"""

from __future__ import annotations

from functools import partial
from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from crossgate.commands.common import load, meter, plan_file, print_json, read_file, tell_missed
from crossgate.commands.completing import complete_list
from crossgate.commands.shared_options import JsonOption, PiecesOption, SourcePortsOption
from crossgate.commands.sharing import ClusterOption, TrustedNetworkOption, WorkersOption, pool_of
from crossgate.core.model.errors import PlanError

if TYPE_CHECKING:
    from crossgate.core.model.plan import Plan


def compare(
    context: typer.Context,
    plans: Annotated[
        list[Path] | None,
        typer.Argument(
            metavar="[OTHER | OLD NEW]",
            help="What the plan is compared with; or two plans, the old one first.",
        ),
    ] = None,
    since: Annotated[
        str | None,
        typer.Option(
            "--since",
            metavar="REV",
            help="Compare the plan as it was at this git revision with what it is now.",
        ),
    ] = None,
    list_name: Annotated[
        str | None,
        typer.Option(
            "--list",
            metavar="NAME",
            autocompletion=complete_list,
            help="Compare one list, wherever it stands.",
        ),
    ] = None,
    source_ports: SourcePortsOption = False,
    every: Annotated[
        bool, typer.Option("--all", help="Show every line, of devices' own and stray packets too.")
    ] = False,
    drawn: Annotated[
        Path | None,
        typer.Option(
            "--draw",
            metavar="FILE",
            help=(
                "Draw the network, too, with the gates that differ and a packet's way: .svg, "
                ".png or .pdf."
            ),
        ),
    ] = None,
    pieces: PiecesOption = None,
    workers: WorkersOption = None,
    cluster: ClusterOption = None,
    trusted_network: TrustedNetworkOption = False,
    markdown: Annotated[
        bool,
        typer.Option(
            "--markdown", help="Print a Markdown table, as for a comment on a request for change."
        ),
    ] = False,
    as_json: JsonOption = False,
) -> None:
    """Show which traffic two plans treat differently, with the deciding entries and a packet each;
    exit status 1 when they do.
    """
    from crossgate.core.answers.compare import differences, named_differences
    from crossgate.core.model.named import UnknownName
    from crossgate.core.sets.effort import TooManyPieces, question
    from crossgate.core.traffic.session import Session
    from crossgate.show.console import count, quiet, strong, write
    from crossgate.show.sets import difference_lines, list_difference_lines

    plan, new, was = _two_plans(context, plans or [], since)
    head = [quiet(f"was: {was}   is: {new.files[0]}"), ""]
    if markdown and (as_json or list_name is not None):
        raise PlanError(
            "--markdown is about all traffic, in Markdown; leave "
            f"{'--json' if as_json else '--list'} out"
        )
    if drawn is not None and list_name is not None:
        raise PlanError(
            "--draw is about the network, and --list about a list wherever it stands; leave one "
            "of them out"
        )
    if list_name is not None:
        if workers is not None or cluster is not None:
            raise PlanError(
                f"{'--cluster' if workers is None else '--workers'} shares the pairs of addresses "
                "that a network has, and --list is about a list wherever it stands; leave one of "
                "them out"
            )
        for each in (plan, new):
            try:
                each.access_list(list_name)
            except UnknownName as error:
                raise PlanError(f"{was if each is plan else each.files[0]}: {error}") from None
        if plan.lists[list_name].family is not new.lists[list_name].family:
            raise PlanError(
                f"{list_name} is an {plan.lists[list_name].family.word} list here and an "
                f"{new.lists[list_name].family.word} list there"
            )
        with (
            meter("comparing") as tell,
            question(f"what the two versions of {list_name} do otherwise"),
        ):
            different = named_differences(Session(plan), Session(new), list_name, tell)
        if as_json:
            from crossgate.formats.json.compare import compare_lists_document

            print_json(compare_lists_document(was, new, list_name, different))
        else:
            write([*head, *list_difference_lines(new, list_name, different, every)])
            if not different:
                write(
                    [
                        (
                            f"no difference: list {list_name} does the same with every packet in "
                            f"{was} and {new.files[0]}"
                        )
                    ]
                )
        raise typer.Exit(1 if different else 0)
    missed: list[TooManyPieces] = []
    with (
        pool_of(workers, cluster, trusted_network, copies=True) as pool,
        meter("comparing") as tell,
    ):
        if pool is None:
            found = differences(Session(plan), Session(new), tell, missed)
        else:
            from crossgate.spread.compare import compared_in_parts

            ahead = partial(compared_in_parts, pool=pool, tell=tell)
            found = differences(Session(plan), Session(new), missed=missed, ahead=ahead)
    if as_json:
        from crossgate.formats.json.compare import compare_document

        print_json(compare_document(was, new, found, missed))
    elif markdown:
        from crossgate.formats.markdown import differences_markdown

        typer.echo(differences_markdown(new, was, found), nl=False)
    elif found:
        write([*head, *difference_lines(new, found, every=every, source_ports=source_ports)])
        write(["", strong(f"{count(len(found), 'difference')} between {was} and {new.files[0]}")])
    elif not missed:
        write(
            [
                *head,
                (
                    f"no difference: {was} and {new.files[0]} treat every packet with a true "
                    "source "
                    "address alike"
                ),
            ]
        )
    if drawn is not None:
        from crossgate.commands.pictures import draw_differences

        draw_differences(new, found, drawn)
    tell_missed(missed)
    raise typer.Exit(1 if found else 0)


def _two_plans(
    context: typer.Context, plans: list[Path], since: str | None
) -> tuple[Plan, Plan, str]:
    """Return the old plan and the new one, and the name of the old one. Raises `PlanError`."""
    if since is not None:
        from crossgate.formats.git import Revision
        from crossgate.language.reader import read

        if plans:
            raise PlanError(
                "--since compares the plan with an older version of itself, so it takes no other "
                "plan; leave one of both out"
            )
        path = plan_file(context, "look up in git")
        return read(path, Revision(path, since)).plan, read_file(path), f"{path} at {since}"
    if not 1 <= len(plans) <= 2:
        raise PlanError(
            "compare takes the other plan, or two: crossgate compare OLD NEW; or --since REV, for "
            "what git has of this one"
        )
    old, new = load(context) if len(plans) == 1 else read_file(plans[0]), read_file(plans[-1])
    return old, new, old.files[0]
