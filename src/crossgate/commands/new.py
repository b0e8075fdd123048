"""`crossgate new`: a plan to begin with, from the tables that people have, or a small working
one.
"""

from __future__ import annotations

from pathlib import Path
from typing import Annotated

import typer

from crossgate.commands.common import print_json
from crossgate.commands.shared_options import JsonOption
from crossgate.core.model.errors import PlanError


def new(
    file: Annotated[
        Path, typer.Argument(metavar="FILE", help="The plan to be written, as office.gate.")
    ],
    subnets: Annotated[
        Path | None,
        typer.Option(
            "--subnets",
            metavar="CSV",
            help=(
                "A table with name and prefix, and if you like vlan, gateway and device; .xlsx too."
            ),
        ),
    ] = None,
    hosts: Annotated[
        Path | None,
        typer.Option(
            "--hosts",
            metavar="CSV",
            help="A table with name and address, and if you like subnet and mac; .xlsx too.",
        ),
    ] = None,
    title: Annotated[
        str | None,
        typer.Option("--title", metavar="TEXT", help="The plan's title. Default: the file's name."),
    ] = None,
    as_json: JsonOption = False,
) -> None:
    """Start a plan: from tables of subnets and hosts, or a small commented one that runs."""
    from crossgate.formats.disk import put_file
    from crossgate.formats.network_tables import host_rows, subnet_rows
    from crossgate.language.beginning import from_tables, skeleton

    if file.suffix != ".gate":
        better = file.with_suffix(".gate") if file.name.strip(".") else file / "office.gate"
        raise PlanError(
            f"a plan's file ends in .gate, so that every command finds it; name it {better}"
        )
    if file.exists():
        raise PlanError(f"{file} is there already; name another file, nothing is overwritten")
    if hosts is not None and subnets is None:
        raise PlanError("hosts sit on subnets; give the table of subnets too: --subnets CSV")
    heading = title if title is not None else file.stem
    unused: list[str] = []
    if subnets is None:
        begun = skeleton(file, heading)
    else:
        subnet_table, not_needed = subnet_rows(subnets)
        unused = [f'"{each}" of {subnets}' for each in not_needed]
        host_table, not_needed = host_rows(hosts) if hosts is not None else ([], [])
        unused += [f'"{each}" of {hosts}' for each in not_needed]
        begun = from_tables(file, heading, subnet_table, host_table)
    put_file(file, begun.text.encode(), fresh=True)
    if as_json:
        from crossgate.formats.json.new import new_document

        print_json(new_document(begun, unused))
        return
    from crossgate.show.console import write
    from crossgate.show.new import lines

    write(lines(begun, str(file), unused))
