"""What a plan gives names to besides its network and its lists: groups of addresses and
services.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from enum import StrEnum
from typing import NamedTuple

from crossgate.core.model.address import Address, Addresses, Family
from crossgate.core.model.errors import Place, PlanError, nearest, placeless, unknown
from crossgate.core.model.network import Point
from crossgate.core.model.service import Service, ServiceError, ServiceTerm
from crossgate.core.model.service_words import parse_service, split_service


class NameSpace(StrEnum):
    """What a name is for; in each space a name stands for one thing."""

    NAME = "name"
    """A host, subnet, outside, device or group."""
    POINT = "point"
    """An interface or a switch port of one device."""
    SERVICE = "service"
    WINDOW = "window"
    LIST = "list"
    FINDING = "finding"


class UnknownName(PlanError):
    """A name that the plan does not have; the message gives the most similar one it has, `near`
    what was likely meant, together with the `rest` after it.
    """

    def __init__(self, kind: str, name: str, known: Sequence[str], rest: str = "") -> None:
        super().__init__(unknown(kind, name, known))
        near = nearest(name, known)
        self.near = near and near + rest


@dataclass(frozen=True, slots=True)
class Group:
    """A named set of addresses, by family; `named` are those that it names singly. Where all its
    members are interfaces and switch ports, these are its `points`, where a list may be placed at
    once.
    """

    name: str
    members: dict[Family, Addresses]
    named: frozenset[Address]
    text: str
    place: Place = field(compare=False)
    points: tuple[Point, ...] = ()


@placeless
class NamedService(NamedTuple):
    """A named set of services: the tokens it stands for, read separately for each family."""

    name: str
    tokens: tuple[str, ...]
    place: Place
    source: str = ""
    """The standards that say what belongs to it, where it is one that the plan `use`s."""


class NamedServices:
    """Reads services where a plan's names stand for some; each name is worked out once."""

    def __init__(self, services: Mapping[str, NamedService]) -> None:
        self._services = services
        self._terms: dict[tuple[str, Family], tuple[ServiceTerm, ...] | ServiceError] = {}

    def read(self, text: str, family: Family) -> Service:
        """Read a service token as lists of `family` would. Raises `ServiceError`."""
        try:
            return parse_service(text, family, lambda name: self._terms_of(name, family))
        except ServiceError as error:
            name, own = text[error.start : error.end], list(self._services)
            near = nearest(name, own)
            if (
                not str(error).startswith("no service")
                or not (near or own)
                or (error.near and not near)
            ):
                raise
            raise ServiceError(
                unknown("service", name, own), error.start, error.end, near
            ) from None

    def _terms_of(self, name: str, family: Family) -> tuple[ServiceTerm, ...] | None:
        """Return the different terms of a service of the plan; None when it has no service of that
        name.

        A chain of services that contain each other may be of any length, so they are worked out
        from its end.
        """
        if name not in self._services:
            return None
        known, waiting = self._terms, [name]
        while waiting:
            service = self._services[waiting[-1]]
            parts = [part for token in service.tokens for part in split_service(token)]
            missing = [
                part for part in parts if part in self._services and (part, family) not in known
            ]
            if missing:
                waiting += missing
                continue
            waiting.pop()
            if (service.name, family) not in known:
                known[service.name, family] = self._own_terms(service, family)
        found = known[name, family]
        if isinstance(found, ServiceError):
            raise found
        return found

    def _own_terms(
        self, service: NamedService, family: Family
    ) -> tuple[ServiceTerm, ...] | ServiceError:
        def named(part: str) -> tuple[ServiceTerm, ...] | None:
            terms = self._terms.get((part, family))
            if isinstance(terms, ServiceError):
                raise terms
            return terms

        try:
            return tuple(
                dict.fromkeys(
                    term
                    for token in service.tokens
                    for term in parse_service(token, family, named).terms
                )
            )
        except ServiceError as error:
            return error
