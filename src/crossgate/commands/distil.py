"""`crossgate distil`: the fewest entries that permit what a capture or a table of flows holds."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated

import typer

from crossgate.commands.common import family_of, gauge
from crossgate.commands.completing import complete_list
from crossgate.commands.editing import Change, edit_command
from crossgate.commands.shared_options import IdleOption, UnpackedOption


@edit_command
def distil(
    files: Annotated[
        list[Path],
        typer.Argument(
            metavar="FILE...", help="Captures and tables of flows, as replay reads them."
        ),
    ],
    into: Annotated[
        str,
        typer.Option(
            "--into",
            metavar="LIST",
            autocompletion=complete_list,
            help="The list that gets the entries; made new where the plan has none of that name.",
        ),
    ],
    only_ipv4: Annotated[bool, typer.Option("-4", help="Only IPv4.")] = False,
    only_ipv6: Annotated[bool, typer.Option("-6", help="Only IPv6.")] = False,
    every: Annotated[bool, typer.Option("--all", help="Permit what nobody answered, too.")] = False,
    least: Annotated[
        int,
        typer.Option(
            "--at-least",
            min=1,
            metavar="N",
            help="Leave out what was seen fewer than N times.",
            show_default=False,
        ),
    ] = 1,
    widen: Annotated[
        float,
        typer.Option(
            min=0,
            max=100,
            metavar="N",
            help="Allow N percent of an entry to be traffic that was not seen.",
        ),
    ] = 0,
    rate: Annotated[
        float | None,
        typer.Option(
            "--rate",
            min=0,
            metavar="N",
            help="Limit each entry to what its busiest minute had and N percent more.",
        ),
    ] = None,
    place: Annotated[
        tuple[str, str] | None,
        typer.Option(
            "--place",
            metavar="DIRECTION WHERE",
            help="Place a new list, and take only what comes by there.",
        ),
    ] = None,
    idle: IdleOption = 300,
    column: Annotated[
        list[str] | None,
        typer.Option(
            "--column", metavar="WHAT=NAME", help="Name a column of tables, as source=client_ip."
        ),
    ] = None,
    unpacked: UnpackedOption = None,
) -> Change:
    """Write entries that permit what was seen and answered, and nothing else, and see first what
    that does to traffic.
    """
    from crossgate import changes
    from crossgate.core.model.address import Family

    chosen = family_of(only_ipv4, only_ipv6)
    return changes.distil(
        files,
        into,
        family=None if chosen is None else Family(chosen),
        every=every,
        least=least,
        widen=widen,
        rate=rate,
        place=place,
        idle=idle,
        columns=column or [],
        gauge=lambda octets: gauge("reading", octets),
    )
