"""`crossgate about`: what a name means, what belongs to it, and where it is used."""

from __future__ import annotations

from typing import Annotated

import typer

from crossgate.commands.common import moment, plan_path, print_json, reading_of
from crossgate.commands.completing import complete_about
from crossgate.commands.shared_options import AtOption, JsonOption


def about(
    context: typer.Context,
    words: Annotated[
        list[str],
        typer.Argument(
            metavar="NAME...",
            autocompletion=complete_about,
            help="A name of the plan, DEVICE.POINT, an address, tcp/443, or vlan 80.",
        ),
    ],
    at: AtOption = None,
    every: Annotated[
        bool, typer.Option("--every", help="Show every line that uses it, and every name in it.")
    ] = False,
    as_json: JsonOption = False,
) -> None:
    """Tell what NAME means and contains, where the plan uses it, and which lists its packets meet,
    in the order in which they are asked.
    """
    from crossgate import library
    from crossgate.language.uses import texts_of, uses

    reading = reading_of(plan_path(context))
    found = library.about(reading.plan, " ".join(words), at=moment(at, reading.plan))
    texts = texts_of(reading.data)
    told = [(each, list(uses(texts, each.kind, each.name))) for each in found]
    if as_json:
        from crossgate.formats.json.about import about_document

        print_json(about_document(reading.plan, told))
        return
    from crossgate.show.about import lines
    from crossgate.show.console import write

    for number, (each, used) in enumerate(told):
        write([""] * bool(number))
        write(lines(each, used, every))
