"""`crossgate import`: lists and networks from open formats, subnets and hosts from tables, as an
edit of the plan.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from pathlib import Path
from typing import TYPE_CHECKING, Annotated, NamedTuple

import typer

from crossgate.commands.common import plan_file
from crossgate.commands.completing import complete_device
from crossgate.commands.editing import Change, EditOptions, carry_out, edit_options
from crossgate.commands.tallying import add_to_tally
from crossgate.core.model.entry import Action
from crossgate.core.model.errors import PlanError, unknown
from crossgate.core.model.plaintext import quotable
from crossgate.formats.disk import put_file
from crossgate.formats.exchange.registry import FORMATS, format_named
from crossgate.language.known_rows import RowKey

if TYPE_CHECKING:
    from crossgate.core.model.accesslist import DeciderKey
    from crossgate.language.change import Proposal
    from crossgate.language.draft import Draft
    from crossgate.language.table_rows import TableRow


TABLES = ("hosts", "subnets")
"""Tables that come in as formats do."""
_COMING = (*TABLES, *(name for name, each in FORMATS.items() if each.reading))


def complete_format(incomplete: str) -> Iterator[str]:
    """Offer the formats that can be read."""
    return (name for name in _COMING if name.startswith(incomplete))


@edit_options
def import_(
    context: typer.Context,
    format_name: Annotated[
        str,
        typer.Argument(
            metavar="FORMAT",
            autocompletion=complete_format,
            help=f"One of {', '.join(_COMING)}.",
        ),
    ],
    files: Annotated[
        list[Path] | None, typer.Argument(metavar="FILE...", help="What comes in.")
    ] = None,
    on: Annotated[
        str | None,
        typer.Option(
            "--on",
            metavar="DEVICE",
            autocompletion=complete_device,
            help="The device it is from, whose interfaces are meant.",
        ),
    ] = None,
    otherwise: Annotated[
        Action | None,
        typer.Option(
            "--otherwise",
            metavar="ACTION",
            help="What becomes of the rest where lists do not say.",
        ),
    ] = None,
    named: Annotated[
        str | None,
        typer.Option("--as", metavar="NAME", help="The name of a list that comes in without one."),
    ] = None,
    replace: Annotated[
        bool,
        typer.Option(
            "--replace",
            help="Replace lists that are there already.",
        ),
    ] = False,
    approximate: Annotated[
        bool,
        typer.Option(
            "--approximate",
            help="Permit less than the file does where the plan cannot say the same; never more.",
        ),
    ] = False,
    tally: Annotated[
        bool, typer.Option("--tally", help="Add to the tally how often lines have decided.")
    ] = False,
    drift: Annotated[
        bool,
        typer.Option(
            "--drift",
            help="With --dry-run: exit status 1 where some traffic would be treated differently, else 0.",
        ),
    ] = False,
    key: Annotated[
        RowKey,
        typer.Option("--key", help="Of tables: the column by which rows are known."),
    ] = RowKey.NAME,
    prune: Annotated[
        bool, typer.Option("--prune", help="Of tables: remove what the table does not have.")
    ] = False,
    roles: Annotated[
        str | None,
        typer.Option(
            "--group",
            metavar="COLUMN",
            help="Of hosts: keep a group for each value of this column.",
        ),
    ] = None,
    leases: Annotated[
        Path | None,
        typer.Option(
            "--from-leases",
            metavar="FILE",
            help="Of hosts: leases, known by hardware address.",
        ),
    ] = None,
    hosts: Annotated[
        Path | None,
        typer.Option(
            "--hosts", metavar="FILE", help="Of subnets: a table of hosts in the same step."
        ),
    ] = None,
    *,
    how: EditOptions,
) -> None:
    """Bring lists in from an open format, or subnets and hosts from a table, and see first what
    that does to traffic.
    """
    from crossgate.formats.bounds import read_document
    from crossgate.formats.exchange.asked import Given
    from crossgate.language.importing import take_in

    if drift and not how.dry_run:
        raise PlanError("--drift is about what would be, and writes nothing; say --dry-run too")
    tables = _Tables(format_name, files or [], key, prune, roles or "", leases, hosts)
    if format_name in TABLES:
        for option, value in {
            "on": on,
            "otherwise": otherwise,
            "as": named,
            "replace": replace,
            "approximate": approximate,
            "tally": tally,
        }.items():
            if value:
                raise PlanError(f"--{option} has no meaning for a table of {format_name}")
        with _begun(plan_file(context, "write")):
            proposal = carry_out(context, tables.change(), how._replace(anyway=how.anyway or drift))
        _leave(proposal, drift)
        return
    tables.see_none()
    if format_name not in FORMATS:
        raise PlanError(unknown("format", format_name, _COMING))
    found = format_named(format_name, writing=False)
    if not files:
        raise PlanError("name the file that comes in")
    found.see_options(
        tally=tally, otherwise=otherwise, on=on, approximate=approximate, **{"as": named}
    )
    if "as" in found.takes and named is None:
        raise PlanError(f"lists have no names in {format_name}; give one with --as NAME")
    hits: dict[DeciderKey, int] = {}

    def change(draft: Draft) -> str:
        coming = [
            found.read(
                Given(path, read_document(path), draft.plan, on, otherwise, named, approximate)
            )
            for path in files
        ]
        said, decided = take_in(draft, coming, replace)
        hits.update(decided)
        return said

    with _begun(plan_file(context, "write")):
        proposal = carry_out(context, change, how._replace(anyway=how.anyway or drift))
    if tally and hits and not how.dry_run and not proposal.refused:
        add_to_tally(context, proposal.plan, hits)
    _leave(proposal, drift)


def _leave(proposal: Proposal, drift: bool) -> None:
    """Exit with the status of drift, where that is asked for."""
    if drift and proposal.errors:
        raise typer.Exit(2)
    if drift and proposal.impact is not None and proposal.impact.differences:
        raise typer.Exit(1)


class _Tables(NamedTuple):
    """Tables to be imported: of subnets, hosts or leases."""

    what: str
    files: Sequence[Path]
    key: RowKey
    prune: bool
    roles: str
    leases: Path | None
    hosts: Path | None

    def see_none(self) -> None:
        """Check that no option is given that only tables have. Raises `PlanError`."""
        told = {
            "--prune": self.prune,
            "--group": self.roles,
            "--from-leases": self.leases,
            "--hosts": self.hosts,
            "--key": self.key is not RowKey.NAME,
        }
        for option, value in told.items():
            if value:
                raise PlanError(
                    f"{option} is for tables: crossgate import hosts FILE, or subnets FILE"
                )

    def _see(self) -> None:
        """Check that the options fit the table. Raises `PlanError`."""
        subnets = self.what == "subnets"
        if len(self.files) + (self.leases is not None) != 1:
            raise PlanError(f"name one table of {self.what}, as CSV or .xlsx")
        if subnets and (self.leases is not None or self.key is RowKey.MAC):
            raise PlanError("subnets have no hardware addresses; that is for a table of hosts")
        if subnets and self.roles and self.hosts is None:
            raise PlanError("a column of roles is one of hosts; name their table with --hosts FILE")
        if not subnets and self.hosts is not None:
            raise PlanError("--hosts is for import subnets, to take in both tables in one step")
        if self.leases is not None and (self.prune or self.roles):
            raise PlanError(
                "a table of leases has only the machines that ask for an address; "
                "leave --prune and --group out"
            )

    def change(self) -> Change:
        """Return the edit. Raises `PlanError`."""
        self._see()
        from crossgate.formats.network_tables import host_rows, lease_rows, subnet_rows
        from crossgate.language.in_step import in_step
        from crossgate.language.known_rows import ComingTable

        def table(path: Path, rows: Sequence[TableRow]) -> ComingTable:
            if not rows:
                raise PlanError(f"{path} has a header and no rows")
            return ComingTable(rows, self.key, self.prune)

        def change(draft: Draft) -> str:
            if self.leases is not None:
                leases, told = lease_rows(self.leases, draft.plan.now())
                draft.remarks += told
                return in_step(draft, None, ComingTable(leases, RowKey.MAC, whole=False))
            subnets = hosts = None
            if self.what == "subnets":
                subnets = table(self.files[0], subnet_rows(self.files[0])[0])
            file = self.files[0] if self.what == "hosts" else self.hosts
            if file is not None:
                hosts = table(file, host_rows(file, self.roles)[0])
            return in_step(draft, subnets, hosts)

        return change


@contextmanager
def _begun(path: Path) -> Iterator[None]:
    """Begin a plan that does not exist, and remove it again where nothing was written."""
    if path.exists() or not path.parent.is_dir():
        yield
        return
    empty = f'title "{quotable(path.stem)}"\n'.encode()
    put_file(path, empty, fresh=True)
    try:
        yield
    finally:
        if path.read_bytes() == empty:
            path.unlink()
