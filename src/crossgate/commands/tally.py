"""`crossgate tally`: what traces and verifications run with --tally have added up."""

from __future__ import annotations

from enum import StrEnum
from typing import Annotated

import typer

from crossgate.commands.common import JsonOption, load, plan_file, print_json


class Deed(StrEnum):
    """What to do with the tally."""

    SHOW = "show"
    CLEAR = "clear"


def tally(
    context: typer.Context,
    deed: Annotated[Deed, typer.Argument(metavar="[show|clear]", help="Show the hits of every entry, or forget them.")] = Deed.SHOW,
    as_json: JsonOption = False,
) -> None:
    """Show or clear how often each entry has decided in runs with --tally."""
    from crossgate.formats.tally import Tally

    plan = load(context)
    store = Tally(plan_file(context, "keep a tally beside"))
    if deed is Deed.CLEAR:
        store.clear()
    hits = {name: store.hits(access_list) for name, access_list in plan.lists.items()}
    if as_json:
        from crossgate.formats.json.tally import tally_document

        print_json(tally_document(plan, hits))
    elif deed is Deed.CLEAR:
        typer.echo(f"the tally of {plan.files[0]} is empty")
    else:
        from crossgate.show.console import write
        from crossgate.show.tally import lines

        write(lines(plan, hits))
