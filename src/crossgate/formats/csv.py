"""Tables as comma-separated values (RFC 4180)."""

from __future__ import annotations

import csv
import sys
from collections.abc import Iterable

from crossgate.core.answers.grid import Cell
from crossgate.core.conversation.opening import service_of


def write_grid(cells: Iterable[Cell]) -> None:
    """Write every conversation of a grid to standard output; a cell of sets is one line, without a
    packet and a deciding line.
    """
    writer = csv.writer(sys.stdout)
    writer.writerow(["from", "to", "service", "packet", "family", "verdict", "list", "entry"])
    for cell in cells:
        for family, fates in cell.fates.items():
            for conversation, (verdict, decider, _) in fates:
                listed = decider.access_list.name if decider else ""
                number = (
                    ""
                    if decider is None
                    else "otherwise"
                    if decider.number is None
                    else decider.number
                )
                packet = service_of(conversation.first)
                writer.writerow(
                    [
                        cell.source,
                        cell.destination,
                        cell.service,
                        packet,
                        int(family),
                        verdict,
                        listed,
                        number,
                    ]
                )
        for family, (verdict, *_) in cell.proved.items():
            writer.writerow(
                [cell.source, cell.destination, cell.service, "", int(family), verdict, "", ""]
            )
