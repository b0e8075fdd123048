"""The twin of a list: the same list in the other address family, where its names have addresses of
both.
"""

from __future__ import annotations

from crossgate.core.model.accesslist import AccessList
from crossgate.core.model.address import Family
from crossgate.core.model.entry import Kind
from crossgate.core.model.errors import PlanError
from crossgate.language import edits, list_edits, placing
from crossgate.language.draft import Draft

ERRORS = (
    "permit "
    "icmp/destination-unreachable,icmp/packet-too-big,icmp/time-exceeded,icmp/parameter-problem "
    "any to any"
)
"""What no IPv6 list may drop (RFC 4890 section 4.3.1)."""
NEIGHBOURS = (
    "permit "
    "icmp/router-solicitation,icmp/router-advertisement,icmp/neighbor-solicitation,icmp/neighbor-advertisement "
    "any to any"
)
"""What a link needs (RFC 4861, RFC 4890 section 4.4.1)."""


def other_family(family: Family) -> Family:
    """Return the other address family."""
    return Family.IPV6 if family is Family.IPV4 else Family.IPV4


def write_twin(draft: Draft, access_list: AccessList, name: str, placed: bool) -> str:
    """Write a list's twin, placed where the list is if that is wanted, and say so; entries without
    a counterpart are left out and reported.

    An IPv6 twin of an extended list begins with the ICMPv6 messages that must not be dropped.
    Raises `PlanError` where no entry has a counterpart.
    """
    family = other_family(access_list.family)
    empty = list_edits.empty_list(name, access_list.kind, family)
    lines, left = [], []
    for entry in access_list.entries:
        text = f"{'off ' * entry.off}{entry.text}{entry.said}"
        try:
            edits.given_entry(draft, empty, text)
        except PlanError as error:
            left.append(
                f"{access_list.name} {entry.number} has no twin in {family.label}: {error.message}"
            )
        else:
            lines.append((entry.number, text))
    if not lines:
        raise PlanError(
            f"no entry of {access_list.name} has a twin in {family.label}; "
            + (left[0] if left else "it has none")
        )
    head = []
    if family is Family.IPV6 and access_list.kind is Kind.EXTENDED:
        first = lines[0][0]
        numbers = [number for number in (first // 3, 2 * first // 3) if number > 0]
        if len(numbers) == 2 and numbers[0] < numbers[1] < first:
            head = [
                *zip(numbers, (f'{NEIGHBOURS} "RFC 4861"', f'{ERRORS} "RFC 4890"'), strict=True)
            ]
    notes = [f'    note "{note.text}"' for note in access_list.notes]
    otherwise = (
        [f"    otherwise {access_list.otherwise.action}"] if access_list.otherwise.written else []
    )
    body = [f"    {number} {text}" for number, text in (*head, *lines)]
    if name in draft.plan.lists:
        raise PlanError(
            f"there is a list {name} already (line {draft.plan.line_of(draft.plan.lists[name].place)}); give the "
            "twin another name"
        )
    list_edits.header_given(name, access_list.kind, family.word)
    list_edits.add_lists(
        draft, ["", f"list {name} {access_list.kind} {family.word}", *notes, *body, *otherwise]
    )
    stands = (
        [each for each in draft.plan.placements if each.access_list == access_list.name]
        if placed
        else []
    )
    for each in stands:
        placing.place_list(draft, empty, each.direction, each.point)
    draft.remarks += left
    where = f", {' and '.join(each.where for each in stands)}" if stands else ""
    return (
        f"{name} is the twin of {access_list.name} in {family.label}, {len(lines)} of its "
        f"{len(access_list.entries)} entries{where}"
    )
