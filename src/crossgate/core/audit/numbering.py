"""Findings about numbers: of lists, and of the entries in them."""

from __future__ import annotations

from collections.abc import Iterator

from crossgate.core.audit.context import Case
from crossgate.core.audit.registry import finds
from crossgate.core.model.accesslist import numbered_kind
from crossgate.core.model.finding import Fault, Finding


@finds("number-kind")
def number_kind(case: Case) -> Iterator[Finding]:
    """Yield the numbered lists whose number stands for the other kind of list, or for none, by the
    plan's numbering.
    """
    for access_list in case.plan.lists.values():
        if not access_list.name.isdigit():
            continue
        says = numbered_kind(int(access_list.name), case.plan.numbering)
        if says is access_list.kind:
            continue
        ranges = ", ".join(
            f"{first}-{last}"
            for kind, first, last in case.plan.numbering
            if kind is access_list.kind
        )
        tells = f"says {says}" if says else "is in no range of the numbering"
        fault = Fault(
            f"the number {access_list.name} {tells}, but the list is {access_list.kind}",
            f"{access_list.kind} numbers are {ranges}",
        )
        yield Finding("number-kind", access_list.place, access_list.name, None, fault)


@finds("out-of-order")
def out_of_order(case: Case) -> Iterator[Finding]:
    """Yield the entries whose line stands below that of an entry with a higher number."""
    for access_list in case.plan.every_list.values():
        by_line = sorted(access_list.entries, key=lambda entry: entry.place.line)
        highest = None
        for entry in by_line:
            if highest is not None and entry.number < highest.number:
                fault = Fault(
                    (
                        f"entry {entry.number} stands below {highest.number} (line "
                        f"{highest.place.line}) and is read before it"
                    ),
                    "move the line up, so that the list reads as it works",
                )
                yield Finding(
                    "out-of-order",
                    entry.place,
                    access_list.name,
                    entry.number,
                    fault,
                    (highest.number,),
                )
            else:
                highest = entry
