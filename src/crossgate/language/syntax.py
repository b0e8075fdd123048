"""The statements of the language: one table with a row for each statement, used by the reader, the
standard layout, the edits, completion and the documentation.

Rows are in the order in which statements are read, whatever their order in a plan: what is named
comes before what names it. To add a statement, write a row here, with its form and its reading
function.
"""

from __future__ import annotations

from crossgate.core.model.bundles import BUNDLES
from crossgate.core.model.named import NameSpace
from crossgate.language import (
    claims,
    device_lines,
    entries,
    leasing,
    managing,
    named_sets,
    placements,
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
    """Do nothing: `source` has read it already."""


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
        Row("title", "TEXT", settings.title, once=True),
        Row("include", "TEXT", _read_by_source),
        Row("routing", "(shortest | static)", settings.routing, once=True),
        Row(
            "numbering",
            "standard RANGE (, RANGE)* extended RANGE (, RANGE)*",
            settings.numbering,
            commas=True,
            once=True,
        ),
        Row("client", "ports RANGE", settings.client, once=True),
        Row("zone", "ZONE", settings.zone, once=True),
        Row(
            "subnet",
            "NEW PREFIX+ [vlan NUMBER] [isolated]",
            topology.segment,
            subnet_cells,
            NameSpace.NAME,
        ),
        Row(
            "outside",
            "NEW PREFIX* [but END (, END)*]",
            topology.segment,
            space=NameSpace.NAME,
        ),
        *(
            Row(
                keyword,
                "NEW (stateful | closed)*",
                topology.device,
                space=NameSpace.NAME,
                block=device_lines.DEVICE_LINES,
            )
            for keyword in ("router", "switch")
        ),
        Row(
            "gateway",
            "ADDRESS+ [on SUBNET] by POINT (, POINT)* [vrid NUMBER]",
            topology.gateway,
            gateway_cells,
            commas=True,
        ),
        Row(
            "host",
            "NEW ADDRESS+ (on SUBNET | at PORT | gateway ADDRESS | mac MAC | stateful)*",
            topology.host,
            host_cells,
            NameSpace.NAME,
        ),
        Row(
            "leases",
            "PATTERN (, PATTERN)* on SUBNET by MACHINE [names SERVER (, SERVER)*]"
            " [time SERVER (, SERVER)*]",
            leasing.leases,
            leases_cells,
            commas=True,
        ),
        Row(
            "group",
            "NEW (from TEXT [column TEXT] | MEMBERS)",
            named_sets.group,
            group_cells,
            NameSpace.NAME,
            finish=_sets,
        ),
        Row("use", f"services ({' | '.join(BUNDLES)})+", named_sets.use),
        Row(
            "service",
            "NEW SERVICE (, SERVICE)*",
            named_sets.service,
            named_cells,
            NameSpace.SERVICE,
            finish=_services,
        ),
        Row(
            "window",
            "NEW (DAYS HOURS (, DAYS HOURS)* | DATE CLOCK to DATE CLOCK)",
            times.window,
            named_cells,
            NameSpace.WINDOW,
            commas=True,
        ),
        Row(
            "list",
            "NEW (standard | extended) (ipv4 | ipv6 | ethernet) [until DATE] [for TEXT]",
            entries.access_list,
            space=NameSpace.LIST,
            block=entries.LIST_LINES,
        ),
        Row(
            "place",
            "LIST ((inbound | outbound) on WHERE | within subnet SUBNET)",
            placements.placement,
            placement_cells,
        ),
        *(
            Row(keyword, "CLAIM", claims.expectation, expectation_cells, table="expect or keep")
            for keyword in ("expect", "keep")
        ),
        Row("accept", "FINDING in LIST [NUMBER] TEXT", claims.acceptance, acceptance_cells),
    )
}
"""The statements that start at the left margin, by their keyword."""

BLOCK_LINES = {row.keyword: row for statement in STATEMENTS.values() for row in statement.block}
"""The lines of blocks that begin with a keyword; all others in a list are entries."""

EVERY_ROW = (*STATEMENTS.values(), *BLOCK_LINES.values())
