"""`crossgate new`: a plan to begin with, from the tables that people have, or a small one that
runs.
"""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from crossgate.commands.common import JsonOption, print_json
from crossgate.core.model.errors import PlanError

if TYPE_CHECKING:
    from crossgate.formats.tables import Table
    from crossgate.language.beginning import Source

SUBNETS = (
    ("name", ("name", "title", "label")),
    ("gateway", ("gateway", "gw")),
    ("mask", ("mask", "netmask")),
    ("vlan", ("vlan", "vid")),
    ("device", ("device", "router", "switch", "firewall")),
    (
        "prefix",
        ("prefix", "cidr", "network", "net", "range", "ip", "ipv4", "ipv6", "address", "addresses"),
    ),
)
"""The header words that tell what a column of a table of subnets has, those that decide first."""
HOSTS = (
    ("mac", ("mac", "hardware", "ethernet")),
    ("subnet", ("subnet", "network", "vlan", "segment")),
    ("address", ("address", "addresses", "ip", "ipv4", "ipv6")),
    ("name", ("name", "host", "hostname", "machine", "server")),
)
"""The same of a table of hosts."""


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
        tables = [_subnets(subnets), *([_hosts(hosts)] if hosts is not None else [])]
        unused = [f'"{each}" of {table.file}' for table in tables for each in table.unused]
        begun = from_tables(
            file, heading, *([_sources(each) for each in tables] + [[]] * (2 - len(tables)))
        )
    put_file(file, begun.text.encode(), fresh=True)
    if as_json:
        from crossgate.formats.json.new import new_document

        print_json(new_document(begun, unused))
        return
    from crossgate.show.console import write
    from crossgate.show.new import lines

    write(lines(begun, str(file), unused))


def _subnets(path: Path) -> Table:
    """Read a table of subnets. A column headed just `subnet` has prefixes where its values do, else
    names.
    """
    from crossgate.formats.tables import named_by, read_table

    field = named_by(SUBNETS)

    def recognised(words: Sequence[str], values: Sequence[str]) -> str:
        if (
            "name" not in words
            and {"subnet", "segment", "network"} & {*words}
            and not {"mask", "gateway"} & {*words}
        ):
            return (
                "prefix" if any("/" in each or each.count(".") == 3 for each in values) else "name"
            )
        return field(words)

    return read_table(path, recognised, ("name", "prefix"), "name,prefix,vlan,gateway,device")


def _hosts(path: Path) -> Table:
    """Read a table of hosts."""
    from crossgate.formats.tables import named_by, read_table

    field = named_by(HOSTS)

    def recognised(words: Sequence[str], values: Sequence[str]) -> str:
        return (
            "name"
            if "name" in words and not {"subnet", "network", "vlan", "segment"} & {*words}
            else field(words)
        )

    return read_table(path, recognised, ("name", "address"), "name,address,subnet,mac")


def _sources(table: Table) -> list[Source]:
    from crossgate.language.beginning import Source

    return [Source(table.file, row.number, table.headers, row.values) for row in table.rows]
