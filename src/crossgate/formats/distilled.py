"""What files of traffic hold, family by family, to be distilled into entries."""

from __future__ import annotations

from collections.abc import Callable

from crossgate.core.answers.distil import Distiller
from crossgate.core.model.address import Family
from crossgate.core.model.errors import PlanError
from crossgate.core.model.plan import Plan
from crossgate.core.traffic.arrivals import Arrivals
from crossgate.core.traffic.assembly import Assembler
from crossgate.core.traffic.seen import SECOND, opened
from crossgate.formats.readers.traffic import Traffic


def distillers_of(
    plan: Plan,
    traffic: Traffic,
    idle: int,
    every: bool,
    times: bool,
    tell: Callable[[int, int], None] | None = None,
) -> dict[Family, Distiller]:
    """Return a distiller with all conversations of some traffic for each family, IPv4 first.

    A conversation ends after `idle` seconds without a packet; `every` takes those that nobody
    answered, too, and `times` keeps when they began. `tell` is told (rows, octets so far). Raises
    `PlanError` for a file that cannot be read to its end.
    """
    found: dict[Family, tuple[Arrivals, Assembler, Distiller]] = {}
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
        if tell is not None:
            tell(traffic.rows, traffic.octets)
    for _, assembler, distiller in found.values():
        left = assembler.rest()
        if left is not None:
            distiller.add(left, every)
    for path, where in traffic.broken:
        raise PlanError(
            f"{path} could not be read to its end, at {where}; what is permitted should stand on "
            "all of it"
        )
    return {family: distiller for family, (_, _, distiller) in sorted(found.items())}
