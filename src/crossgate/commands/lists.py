"""`crossgate lists`: each list as it is read, and where it stands."""

from __future__ import annotations

from typing import Annotated

import typer

from crossgate.commands.common import AtOption, JsonOption, load, moment, print_json, tallied
from crossgate.commands.completing import complete_list, complete_stands


def lists(
    context: typer.Context,
    names: Annotated[
        list[str] | None, typer.Argument(metavar="[LIST]...", autocompletion=complete_list, help="Default: every list.")
    ] = None,
    on: Annotated[
        str | None,
        typer.Option("--on", metavar="DEVICE", autocompletion=complete_stands, help="Those that stand at this device, point or subnet."),
    ] = None,
    short: Annotated[bool, typer.Option("--short", help="A line a list: its kind, how many entries, where it stands, its tally.")] = False,
    at: AtOption = None,
    as_json: JsonOption = False,
) -> None:
    """Show lists in the order they are read, what their names stand for, and where they are placed."""
    plan = load(context)
    when = moment(at, plan)
    chosen = [plan.any_list(name) for name in names or plan.every_list]
    if on is not None:
        standing = plan.lists_on(on)
        chosen = [each for each in chosen if each in standing]
    if as_json:
        from crossgate.formats.json.lists import lists_document

        print_json(lists_document(plan, when, chosen))
        return
    from crossgate.show.console import quiet, strong, write
    from crossgate.show.lists import lines, short_lines

    hits: dict[str, dict[int | None, int]] = {each.name: {} for each in chosen}
    for (name, number), count in tallied(context, chosen).items():
        hits[name][number] = count
    if plan.title:
        write([strong(plan.title)])
    if not chosen and on is not None:
        write([f"no list stands on {on}"])
    elif not chosen:
        write([f"{plan.files[0]} has no lists yet; a list starts as: list 12 standard ipv4"])
    if short:
        write(short_lines(plan, chosen, hits))
        return
    if any(each.windows for each in chosen):
        write([f"as in force at {when:%a %Y-%m-%d %H:%M}"])
    if any(number for each in hits.values() for number in each.values()):
        write([quiet("8x: the tally counts eight packets for the line, each a leg of a conversation")])
    for each in chosen:
        write(["", *lines(plan, each, when, hits[each.name])])
