"""`crossgate lists`: each list as it is read, and where it stands."""

from __future__ import annotations

from typing import Annotated

import typer

from crossgate.commands.common import STANDARD_INPUT, AtOption, JsonOption, complete_list, load, moment, plan_path, print_json
from crossgate.core.model.errors import PlanError


def lists(
    context: typer.Context,
    names: Annotated[
        list[str] | None, typer.Argument(metavar="[LIST]...", autocompletion=complete_list, help="Default: every list.")
    ] = None,
    at: AtOption = None,
    as_json: JsonOption = False,
) -> None:
    """Show lists in the order they are read, what their names stand for, and where they are placed."""
    when = moment(at)
    plan = load(context)
    chosen = [plan.access_list(name) for name in names or plan.lists]
    if as_json:
        from crossgate.formats.json.lists import lists_document

        print_json(lists_document(plan, when, chosen))
        return
    from crossgate.formats.tally import Tally
    from crossgate.show.console import quiet, strong, warn, write
    from crossgate.show.lists import lines

    hits: dict[str, dict[int | None, int]] = {}
    try:
        if plan_path(context) != STANDARD_INPUT:
            store = Tally(plan_path(context))
            hits = {each.name: store.hits(each) for each in chosen}
    except PlanError as error:
        warn(f"{error}; the lists are shown without it")
    if plan.title:
        write([strong(plan.title)])
    if not chosen:
        write([f"{plan.files[0]} has no lists yet; a list starts as: list 12 standard ipv4"])
    if any(each.windows for each in chosen):
        write([f"as in force at {when:%a %Y-%m-%d %H:%M}"])
    if any(number for each in hits.values() for number in each.values()):
        write([quiet("8x: the tally counts eight packets for the line, each a leg of a conversation")])
    for each in chosen:
        write(["", *lines(plan, each, when, hits.get(each.name, {}))])
