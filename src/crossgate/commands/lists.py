"""`crossgate lists`: each list as it is read, and where it stands."""

from __future__ import annotations

from typing import TYPE_CHECKING, Annotated, Any

import typer

from crossgate.commands.common import load, moment, print_json
from crossgate.commands.completing import complete_list, complete_stands
from crossgate.commands.shared_options import AtOption, JsonOption, PiecesOption
from crossgate.commands.tallying import tallied
from crossgate.core.model.errors import PlanError

if TYPE_CHECKING:
    from datetime import datetime

    from crossgate.core.lists.taken import Taken
    from crossgate.core.model.accesslist import AnyList
    from crossgate.core.model.plan import Plan


def lists(
    context: typer.Context,
    names: Annotated[
        list[str] | None,
        typer.Argument(
            metavar="[LIST]...", autocompletion=complete_list, help="Default: every list."
        ),
    ] = None,
    on: Annotated[
        str | None,
        typer.Option(
            "--on",
            metavar="DEVICE",
            autocompletion=complete_stands,
            help="Those that stand at this device, point or subnet.",
        ),
    ] = None,
    short: Annotated[
        bool,
        typer.Option(
            "--short", help="One line for each list: kind, number of entries, places, tally."
        ),
    ] = False,
    taken: Annotated[
        bool, typer.Option("--taken", help="Tell of each line what the lines above take of it.")
    ] = False,
    words: Annotated[
        bool,
        typer.Option(
            "--words", help="Say each line in a sentence, with what lines above leave for it."
        ),
    ] = False,
    why: Annotated[
        str | None,
        typer.Option(
            "--why",
            metavar="PACKET",
            help="Show why lines match 'SERVICE FROM to TO' or not, as 'tcp/443 kiosk-1 to duty'.",
        ),
    ] = None,
    until: Annotated[
        bool, typer.Option("--until", help="The lines of the plan that have a last day, in order.")
    ] = False,
    at: AtOption = None,
    pieces: PiecesOption = None,
    as_json: JsonOption = False,
) -> None:
    """Show lists in the order they are read, what their names stand for, and where they are
    placed.
    """
    plan = load(context)
    when = moment(at, plan)
    chosen = [plan.any_list(name) for name in names or plan.every_list]
    if on is not None:
        standing = plan.lists_on(on)
        chosen = [each for each in chosen if each in standing]
    if short and (taken or words):
        raise PlanError(
            f"--short shows no lines of lists, and --{'taken' if taken else 'words'} is about "
            "lines; leave one of both out"
        )
    if until:
        if names or on or short or taken or words or why:
            raise PlanError("--until is about the whole plan; leave the rest out")
        _tell_dated(plan, when, as_json)
        return
    if why is not None:
        _tell_why(plan, chosen, why, when, as_json)
        return
    told = {each.name: _taken(plan, each) for each in chosen} if taken or words else {}
    if as_json:
        from crossgate.formats.json.lists import lists_document

        print_json(lists_document(plan, when, chosen, told if taken else {}, told if words else {}))
        return
    from crossgate.show.console import quiet, strong, write
    from crossgate.show.lists import lines, short_lines, worded_lines

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
    if words:
        for each in chosen:
            write(["", *worded_lines(plan, each, told[each.name])])
        return
    if any(each.windows for each in chosen):
        write([f"as in force at {when:%a %Y-%m-%d %H:%M}"])
    if any(number for each in hits.values() for number in each.values()):
        write(
            [quiet("8x: the tally counts eight packets for the line, each a leg of a conversation")]
        )
    for each in chosen:
        write(["", *lines(plan, each, when, hits[each.name], told.get(each.name, {}))])


def _tell_why(
    plan: Plan, chosen: list[AnyList[Any]], words: str, when: datetime, as_json: bool
) -> None:
    """Show why the lines of lists match a packet or not. Raises `PlanError`."""
    from crossgate.core.answers.why import why_alone
    from crossgate.core.model.accesslist import AccessList
    from crossgate.core.model.conditions import When
    from crossgate.core.network.ways import Network

    network, state = Network(plan), plan.state_at(When(when))
    for_packets = [each for each in chosen if isinstance(each, AccessList)]
    if len(for_packets) < len(chosen):
        raise PlanError("--why is about packets, and lists of frames are asked about none")
    found = []
    for each in for_packets:
        try:
            found.append((each, why_alone(network, each, words, state)))
        except PlanError:
            if len({one.family for one in for_packets}) == 1:
                raise  # else it may be a packet of the other family
    if as_json:
        from crossgate.formats.json.lists import why_document

        print_json(why_document(plan, found))
        return
    from crossgate.show.console import write
    from crossgate.show.lists import why_lines

    write(why_lines(found))


def _taken(plan: Plan, access_list: AnyList[Any]) -> dict[int, Taken]:
    """Return what lines of a list take from those below, by these lines' numbers; nothing for an
    ethernet list.
    """
    from crossgate.core.lists.split import Regions
    from crossgate.core.lists.taken import taken
    from crossgate.core.model.accesslist import AccessList, line_name
    from crossgate.core.sets.effort import question

    if not isinstance(access_list, AccessList):
        return {}
    states, regions = plan.states([access_list]), Regions(plan.lists)
    found = {}
    for entry in access_list.entries:
        with question(f"what is taken of {line_name(access_list.name, entry.number)}"):
            told = taken(access_list, entry, entry.number, states, regions)
        if told.parts:
            found[entry.number] = told
    return found


def _tell_dated(plan: Plan, when: datetime, as_json: bool) -> None:
    if as_json:
        from crossgate.formats.json.lists import dated_document

        print_json(dated_document(plan, when))
        return
    from crossgate.show.console import write
    from crossgate.show.lists import dated_lines

    write(dated_lines(plan, when))
