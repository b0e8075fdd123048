"""Where and why a packet ends on its way, and what its sender is told about that."""

from __future__ import annotations

from typing import NamedTuple

from crossgate.core.conversation.rules import Decided
from crossgate.core.model.address import Address, Family
from crossgate.core.model.entry import Action
from crossgate.core.model.packet import Packet
from crossgate.core.model.plan import Plan
from crossgate.core.network.failure import Failure, FailureKind
from crossgate.core.network.one_way import OneWay
from crossgate.core.network.paths import Crossing

_TIME_EXCEEDED = {Family.IPV4: 11, Family.IPV6: 3}
_UNREACHABLE = {Family.IPV4: 3, Family.IPV6: 1}
_PROHIBITED = {Family.IPV4: 13, Family.IPV6: 1}
"""ICMP types, and the code of type unreachable for what is prohibited (RFC 1812 section 5.2.7.1,
RFC 4443 section 3.1); code 0 of that is that there is no route.
"""
_SILENT = (FailureKind.DISCARDED, FailureKind.SOURCE_NOWHERE, FailureKind.NO_TRANSLATION)
"""Reasons of a packet's loss of which nobody is told."""


class Lost(NamedTuple):
    """Where a packet ends: the crossing, and why; `by` the list that denied it, or a `failure`, or
    neither where its hop limit is used up there.
    """

    crossing: Crossing | None
    by: Decided | None = None
    failure: Failure | None = None


def told_of(way: OneWay, lost: Lost, family: Family) -> tuple[str | None, int, int] | None:
    """Return who reports a packet's end, and the type and the code of the message; None where
    nobody does.
    """
    if lost.by is not None:
        if lost.by.decider.action is not Action.REJECT:
            return None
        assert lost.crossing is not None  # a list stands somewhere
        return lost.crossing.point.device, _UNREACHABLE[family], _PROHIBITED[family]
    if lost.failure is None:
        assert lost.crossing is not None  # there its hop limit is used up
        return lost.crossing.point.owner, _TIME_EXCEEDED[family], 0
    if lost.failure.kind in _SILENT or not way.path.devices:
        return None
    if lost.failure.kind is FailureKind.LOOP:
        return way.path.devices[-1], _TIME_EXCEEDED[family], 0
    return way.path.devices[-1], _UNREACHABLE[family], 0


def speaks_as(plan: Plan, device: str | None, crossing: Crossing | None, packet: Packet) -> Address:
    """Return the address from which a device reports about a packet: that of the interface by which
    it came, or else its first one; a device without addresses uses the packet's destination.
    """
    family = packet.family
    if device is not None:
        interfaces = plan.devices[device].interfaces
        at = crossing.point.part if crossing is not None else ""
        for each in (interfaces.get(at), *interfaces.values()):
            for own in () if each is None else each.in_family(family):
                return own.address
    return Address(family, packet.destination)
