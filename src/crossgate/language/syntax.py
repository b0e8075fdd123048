"""The statements of the language: one table with a row for each statement, used by the reader, the
standard layout and the edits.

Rows are in the order in which statements are read, whatever their order in a plan: what is named
comes before what names it. To add a statement, write a row here and its reading function.
"""

from __future__ import annotations

from crossgate.core.model.named import NameSpace
from crossgate.language import (
    claims,
    device_lines,
    entries,
    leasing,
    managing,
    named_sets,
    settings,
    times,
    topology,
    translating,
)
from crossgate.language.cells import (
    acceptance_cells,
    expectation_cells,
    gateway_cells,
    group_cells,
    host_cells,
    leases_cells,
    named_cells,
    placement_cells,
    subnet_cells,
)
from crossgate.language.names import Names
from crossgate.language.row import Row
from crossgate.language.words import Words


def _read_by_source(words: Words, names: Names) -> None:
    """INCLUDE = "include" TEXT; `source` has read it already."""


def _sets(names: Names) -> None:
    """Read the groups, and then what is excluded from outsides."""
    named_sets.groups(names)
    topology.outsides(names)


def _services(names: Names) -> None:
    """Read the services, and then the devices' translations, which may name everything before."""
    named_sets.services(names)
    translating.translations(names)
    managing.managing_hosts(names)


STATEMENTS = {
    row.keyword: row
    for row in (
        Row("title", settings.title, once=True),
        Row("include", _read_by_source),
        Row("routing", settings.routing, once=True),
        Row("numbering", settings.numbering, commas=True, once=True),
        Row("client", settings.client, once=True),
        Row("zone", settings.zone, once=True),
        Row("subnet", topology.segment, subnet_cells, NameSpace.NAME),
        Row("outside", topology.segment, space=NameSpace.NAME),
        Row("router", topology.device, space=NameSpace.NAME, block=device_lines.DEVICE_LINES),
        Row("switch", topology.device, space=NameSpace.NAME, block=device_lines.DEVICE_LINES),
        Row("gateway", topology.gateway, gateway_cells, commas=True),
        Row("host", topology.host, host_cells, NameSpace.NAME),
        Row("leases", leasing.leases, leases_cells, commas=True),
        Row("group", named_sets.group, group_cells, NameSpace.NAME, finish=_sets),
        Row("use", named_sets.use),
        Row("service", named_sets.service, named_cells, NameSpace.SERVICE, finish=_services),
        Row("window", times.window, named_cells, NameSpace.WINDOW, commas=True),
        Row("list", entries.access_list, space=NameSpace.LIST, block=entries.LIST_LINES),
        Row("place", claims.placement, placement_cells),
        Row("expect", claims.expectation, expectation_cells, table="expect or keep"),
        Row("keep", claims.expectation, expectation_cells, table="expect or keep"),
        Row("accept", claims.acceptance, acceptance_cells),
    )
}
"""The statements that start at the left margin, by their keyword."""

BLOCK_LINES = {row.keyword: row for statement in STATEMENTS.values() for row in statement.block}
"""The lines of blocks that begin with a keyword; all others in a list are entries."""
