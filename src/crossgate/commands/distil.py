"""`crossgate distil`: the fewest entries that permit what a capture or a table of flows holds."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from crossgate.commands.common import family_of, gauge
from crossgate.commands.completing import complete_list
from crossgate.commands.editing import Change, edit_command
from crossgate.commands.shared_options import IdleOption, UnpackedOption
from crossgate.core.model.errors import PlanError

if TYPE_CHECKING:
    from crossgate.core.answers.distil import Distiller
    from crossgate.core.model.address import Family
    from crossgate.core.model.plan import Plan
    from crossgate.language.draft import Draft


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
    chosen = family_of(only_ipv4, only_ipv6)

    def change(draft: Draft) -> str:
        from crossgate.language.distilling import Target, write
        from crossgate.show.console import count

        found = {
            family: each
            for family, each in _read(
                draft.plan, files, column or [], idle, every, rate is not None
            ).items()
            if chosen in (None, family)
        }
        for each in found.values():
            each.leave_out_rare(least)
        if not any(each.kinds for each in found.values()):
            left = sum(each.unanswered for each in found.values())
            it, them = ("is", "it") if left == 1 else ("are", "them")
            hint = (
                (
                    f"; {count(left, 'conversation')} that nobody answered {it} left out, and "
                    "--all "
                    f"permits {them} too"
                )
                if left
                else ""
            )
            if any(each.rare for each in found.values()):
                hint += f"; nothing was seen {least} times"
            raise PlanError(f"there is nothing in {', '.join(map(str, files))} to permit{hint}")
        several = chosen is None and all(each.kinds for each in found.values()) and len(found) > 1
        told = [
            write(
                draft,
                distiller,
                Target(f"{into}-6" if several and family == 6 else into, place),
                widen / 100,
                None if rate is None else rate / 100,
            )
            for family, distiller in found.items()
            if distiller.kinds
        ]
        if not any(told):
            raise PlanError(
                f"nothing that was seen is left to permit in {into}: none of it comes by there, "
                "or all of it is permitted already"
            )
        return "; ".join(filter(None, told))

    return change


def _read(
    plan: Plan,
    files: Sequence[Path],
    columns: Sequence[str],
    idle: int,
    every: bool,
    times: bool,
) -> dict[Family, Distiller]:
    import time

    from crossgate.core.answers.distil import Distiller
    from crossgate.core.traffic.arrivals import Arrivals
    from crossgate.core.traffic.assembly import Assembler
    from crossgate.core.traffic.seen import SECOND, opened
    from crossgate.formats.readers.names import told_columns
    from crossgate.formats.readers.traffic import Traffic, size

    traffic = Traffic(list(files), told_columns(columns), int(time.time() * SECOND))
    found: dict[Family, tuple[Arrivals, Assembler, Distiller]] = {}
    with gauge("reading", size(traffic.paths)) as tell:
        for seen, flows in traffic.batches():
            for family, each in seen.items():
                if family not in found:
                    found[family] = (
                        Arrivals(idle * SECOND),
                        Assembler(idle * SECOND),
                        Distiller(plan, family),
                    )
                arrivals, assembler, distiller = found[family]
                arrived = arrivals.take(opened(each, plan.client_ports if flows else None))
                if times:
                    distiller.add_times(arrived.seen, flows)
                distiller.add(assembler.add(arrived), every)
            tell(traffic.rows, traffic.octets)
    for _, assembler, distiller in found.values():
        left = assembler.rest()
        if left is not None:
            distiller.add(left, every)
    for told in traffic.told:
        if told.capture is not None and told.capture.broken:
            raise PlanError(
                f"{told.path} could not be read to its end, at {told.capture.broken}; what is "
                "permitted should stand on all of it"
            )
    return {family: distiller for family, (_, _, distiller) in sorted(found.items())}
