"""`crossgate tally`: what traces and verifications run with --tally have added up."""

from __future__ import annotations

from collections.abc import Iterator
from itertools import chain
from typing import Annotated

import typer

from crossgate.commands.common import load, plan_file, print_json
from crossgate.commands.completing import complete_list
from crossgate.commands.shared_options import JsonOption
from crossgate.core.model.errors import PlanError

DEEDS = ("show", "clear")


def complete_deed(ctx: typer.Context, incomplete: str) -> Iterator[str]:
    """Offer what can be done with the tally, and the lists."""
    return chain(
        (deed for deed in DEEDS if deed.startswith(incomplete)), complete_list(ctx, incomplete)
    )


def tally(
    context: typer.Context,
    words: Annotated[
        list[str] | None,
        typer.Argument(
            metavar="[show|clear|LIST]...",
            autocompletion=complete_deed,
            help="Show the hits of every entry or of some lists; clear forgets them all.",
        ),
    ] = None,
    as_json: JsonOption = False,
) -> None:
    """Show or clear how often each entry has decided in runs with --tally."""
    from crossgate.formats.tally import Tally

    plan = load(context)
    store = Tally(plan_file(context, "keep a tally beside"))
    named = [word for word in words or [] if word not in DEEDS or word in plan.every_list]
    clears = "clear" in (words or []) and "clear" not in named
    if clears and named:
        raise PlanError(f"clear forgets the tally of every list; leave {named[0]} out")
    chosen = [plan.any_list(name) for name in named or plan.every_list]
    if clears:
        store.clear()
    hits = {each.name: store.hits(each) for each in chosen}
    if as_json:
        from crossgate.formats.json.tally import tally_document

        print_json(tally_document(plan, hits))
    elif clears:
        typer.echo(f"the tally of {plan.files[0]} is empty")
    else:
        from crossgate.show.console import write
        from crossgate.show.tally import lines

        write(lines(plan, hits))
