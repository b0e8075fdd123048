"""`crossgate compare`: exactly which traffic two plans, or two versions of a list, treat differently."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated

import typer

from crossgate.commands.common import JsonOption, PiecesOption, complete_list, load, meter, print_json, read_file, tell_missed
from crossgate.core.model.errors import PlanError


def compare(
    context: typer.Context,
    other: Annotated[Path, typer.Argument(metavar="OTHER", help="The other plan.")],
    list_name: Annotated[
        str | None, typer.Option("--list", metavar="NAME", autocompletion=complete_list, help="Compare one list, wherever it stands.")
    ] = None,
    every: Annotated[bool, typer.Option("--all", help="Show every line, of devices' own and stray packets too.")] = False,
    pieces: PiecesOption = None,
    as_json: JsonOption = False,
) -> None:
    """Show what OTHER treats differently, with the deciding entries and a packet each; exit status 1 when it does."""
    from crossgate.core.answers.compare import differences, named_differences
    from crossgate.core.model.plan import UnknownName
    from crossgate.core.sets.effort import TooManyPieces, question
    from crossgate.core.traffic.session import Session
    from crossgate.show.console import count, strong, write
    from crossgate.show.sets import difference_lines, list_difference_lines

    plan, new = load(context), read_file(other)
    if list_name is not None:
        for each in (plan, new):
            try:
                each.access_list(list_name)
            except UnknownName as error:
                raise PlanError(f"{each.files[0]}: {error}") from None
        if plan.lists[list_name].family is not new.lists[list_name].family:
            raise PlanError(
                f"{list_name} is an {plan.lists[list_name].family.word} list here and an {new.lists[list_name].family.word} list there"
            )
        with meter("comparing") as tell, question(f"what the two versions of {list_name} do otherwise"):
            different = named_differences(Session(plan), Session(new), list_name, tell)
        if as_json:
            from crossgate.formats.json.compare import compare_lists_document

            print_json(compare_lists_document(plan, new, list_name, different))
        else:
            write(list_difference_lines(new, list_name, different, every))
            if not different:
                write([f"no difference: list {list_name} does the same with every packet in {plan.files[0]} and {new.files[0]}"])
        raise typer.Exit(1 if different else 0)
    with meter("comparing") as tell:
        missed: list[TooManyPieces] = []
        found = differences(Session(plan), Session(new), tell, missed)
    if as_json:
        from crossgate.formats.json.compare import compare_document

        print_json(compare_document(plan, new, found, missed))
    elif found:
        write(difference_lines(new, found, every=every, rest="--all shows all"))
        write(["", strong(f"{count(len(found), 'difference')} between {plan.files[0]} and {new.files[0]}")])
    elif not missed:
        write([f"no difference: {plan.files[0]} and {new.files[0]} treat every packet alike"])
    tell_missed(missed)
    raise typer.Exit(1 if found else 0)
