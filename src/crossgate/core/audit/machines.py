"""What the machines of a network send to each other across the lists of a plan."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping, Sequence
from typing import Any

from crossgate.core.audit.scope import AuditScope
from crossgate.core.model.accesslist import AccessList
from crossgate.core.model.address import Address, Family, Pattern, single
from crossgate.core.model.entry import Entry
from crossgate.core.network.address_classes import AddressClass
from crossgate.core.sets.addresses import AddressSet
from crossgate.core.sets.patterns import PatternIndex
from crossgate.core.traffic.between import Flow, FlowEnd, end_without, flows_of, merged
from crossgate.core.traffic.session import Session

_MOST_FLOWS = 20_000
"""So many flows are kept; entries of one list ask for the same ones."""


class Machines:
    """The address classes of a plan's machines, and what they send to each other."""

    def __init__(self, session: Session, scope: AuditScope, kept: dict[str, Any]) -> None:
        """What depends on the plan alone is kept with its session, the rest in `kept`."""
        self._session = session
        self._scope = scope
        always = session.kept.setdefault("audit", {})
        self._own: dict[tuple[Family, int], AddressSet] = always.setdefault("own", {})
        self._meant: dict[tuple[Family, tuple[Pattern, ...]], list[int]] = always.setdefault(
            "meant", {}
        )
        self._joined: dict[Family, dict[int, tuple[Pattern, ...]]] = kept.setdefault("joined", {})
        self._senders: dict[str, dict[int, list[int]]] = kept.setdefault("senders", {})
        self._flows: dict[tuple[Family, int, int], list[Flow]] = kept.setdefault("flows", {})
        self._ends: dict[tuple[Family, int], FlowEnd] = kept.setdefault("ends", {})

    def senders(self, access_list: AccessList) -> dict[int, list[int]]:
        """Return, for each address class of machines that send across a list, the classes of
        machines that they send to, limited to those that are looked at (`AuditScope.columns`);
        classes that are alike are joined.
        """
        if access_list.name not in self._senders:
            family = access_list.family
            matrix, machines = self._session.matrix(family), self._machines(family)
            places = self._session.plan.places_of(access_list)
            rows = dict(
                matrix.meeting(
                    sum(matrix.graphs.bit(place) for place in places),
                    columns=self._scope.columns(family),
                )
            )
            columns = {
                row: [each for each in meets.nonzero()[0].tolist() if each in machines]
                for row, meets in rows.items()
            }
            self._senders[access_list.name] = {
                one: columns[row] for one in machines if (row := int(matrix.row[one])) in columns
            }
        return self._senders[access_list.name]

    def across(
        self,
        access_list: AccessList,
        entry: Entry,
        sent: Mapping[int, Sequence[int]],
        senders: Iterable[int],
    ) -> Iterator[tuple[int, Sequence[int]]]:
        """Yield the senders with the classes that have destinations of an entry, of the traffic
        `sent` across the entry's list; those without any are left out.
        """
        classes = self._session.address_classes(access_list.family)
        receivers = classes.overlapping(entry.destination.patterns)
        chosen = None if len(receivers) == len(classes) else set(receivers)
        for one in senders:
            others = sent[one] if chosen is None else [each for each in sent[one] if each in chosen]
            if others:
                yield one, others

    def nodes(self, family: Family, one: int, others: Sequence[int]) -> tuple[list[int], list[int]]:
        """Return the node numbers of the graphs from an address class to each of others, and those
        back from each.
        """
        return self._session.matrix(family).between_each(one, others)

    def flows(self, family: Family, one: int, other: int) -> list[Flow]:
        """Return what the machines of one address class send to those of another."""
        key = (family, one, other)
        if key not in self._flows:
            if len(self._flows) > _MOST_FLOWS:
                self._flows.clear()
            classes = self._session.address_classes(family)
            self._flows[key] = flows_of(
                self._session.network,
                classes[one].end,
                classes[other].end,
                (self._end(family, one), self._end(family, other)),
                self._session.matrix(family).plain_between(one, other),
            )
        return self._flows[key]

    def _end(self, family: Family, index: int) -> FlowEnd:
        """Return the machines of an address class, as an end of flows."""
        key = (family, index)
        if key not in self._ends:
            own = self._session.address_classes(family)[index]
            self._ends[key] = end_without((own.pattern,), self._machines(family)[index])
        return self._ends[key]

    def flows_to(self, family: Family, one: int, others: Iterable[int]) -> Iterator[Flow]:
        """Yield what the machines of one address class send to those of each of others."""
        for other in others:
            yield from self.flows(family, one, other)

    def own_addresses(self, family: Family, index: int) -> AddressSet:
        """Return the addresses of an address class that are in no class inside it."""
        key = (family, index)
        if key not in self._own:
            each = self._session.address_classes(family)[index]
            self._own[key] = AddressSet.of(family, (each.pattern,)) - AddressSet.of(
                family, each.excluded
            )
        return self._own[key]

    def meant(self, family: Family, patterns: tuple[Pattern, ...]) -> list[int]:
        """Return the classes of the addresses that an entry asks for: those of machines, and others
        only where it names them singly or has no machines.
        """
        key = (family, patterns)
        if key not in self._meant:
            classes = self._session.address_classes(family)
            every = classes.holding(patterns)
            whole = any(each.wildcard == family.mask for each in patterns)
            index = PatternIndex(patterns)
            own = every if whole else [each for each in every if _is_meant(classes[each], index)]
            self._meant[key] = own or every
        return self._meant[key]

    def class_of(self, address: Address) -> int:
        """Return the address class of a machine, among those that are left when classes that are
        alike are joined.
        """
        known = self._machines(address.family)
        around = self._session.address_classes(address.family).overlapping((single(address),))
        return next(each for each in reversed(around) if each in known)

    def _machines(self, family: Family) -> dict[int, tuple[Pattern, ...]]:
        """Return the address classes of machines that are left when classes that are alike are
        joined, each with the patterns inside it that were not (`merged`).
        """
        if family not in self._joined:
            import numpy as np

            matrix, classes = self._session.matrix(family), self._session.address_classes(family)
            chosen = self._scope.columns(family)
            routed = [index for index, each in enumerate(classes) if not each.scoped]
            group = [classes[index] for index in routed]
            columns = np.array(
                [index for index in routed if chosen is None or index in chosen], dtype=np.intp
            )
            matrix.work_out(columns.tolist())
            number = {each.pattern: index for index, each in zip(routed, group, strict=True)}
            names: dict[str, int] = {}
            segments = np.array(
                [names.setdefault(each.end.segment, len(names)) for each in group], dtype=np.intp
            )

            def same(one: AddressClass, other: AddressClass) -> bool:
                if (one.end.device is None) is not (other.end.device is None):
                    return False
                on_link = [segments == names[each.end.segment] for each in (one, other)]
                return bool((on_link[0] == on_link[1]).all()) and matrix.alike(
                    number[one.pattern], number[other.pattern], columns
                )

            left = merged(group, same)
            self._joined[family] = {
                routed[index]: inner
                for index, inner in left.items()
                if group[index].end.device is None
            }
        return self._joined[family]


def _is_meant(known: AddressClass, patterns: PatternIndex) -> bool:
    """Whether patterns are about a class: about machines, or about an address that is named by
    itself.
    """
    if known.end.device is None and not known.scoped:
        return True
    return (known.scoped or not known.pattern.wildcard) and any(
        known.pattern.covers(each) for each in patterns.overlapping(known.pattern)
    )
