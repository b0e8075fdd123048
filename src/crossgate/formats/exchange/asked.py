"""What a format is asked for and what it returns: the same values for all formats."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

from crossgate.core.model.accesslist import AccessList, AnyList, DeciderKey
from crossgate.core.model.entry import Action
from crossgate.core.model.errors import PlanError, unknown
from crossgate.core.model.network import Direction, Placement
from crossgate.core.model.plan import Plan


@dataclass(frozen=True)
class ExportWanted:
    """What is to be written: lists, their places, and options."""

    plan: Plan
    every_list: Sequence[AnyList[Any]]
    places: Sequence[Placement] = ()
    device: str | None = None
    """The device that all of it is for; names of interfaces are its own then."""
    hits: Mapping[DeciderKey, int] | None = None
    """How often each line decided, where that is wanted too."""
    direction: Direction | None = None
    """Which way packets of unplaced lists go."""
    limit: int = 256
    """At most so many prefixes for a wildcard."""
    xml: bool = False
    bytes: bool = False
    raw: bool = False
    """Whether cells that a spreadsheet would take for formulas go out as they are."""

    @property
    def lists(self) -> list[AccessList]:
        """The lists for packets among them."""
        return [each for each in self.every_list if isinstance(each, AccessList)]


@dataclass
class ExportedDocument:
    """The document; what could not be expressed exactly, line by line; and what has no effect on
    traffic and no place in the format.
    """

    text: str | bytes
    unsaid: list[str] = field(default_factory=list)
    told: list[str] = field(default_factory=list)

    def __repr__(self) -> str:
        return f"<Written length={len(self.text)} unsaid={len(self.unsaid)}>"


@dataclass(frozen=True)
class Given:
    """A file to be imported, the plan that it is imported into, and options."""

    path: Path
    data: bytes
    plan: Plan
    device: str | None = None
    otherwise: Action | None = None
    name: str | None = None
    """The name of a list that has none in the format."""
    less: bool = False
    """Whether lists may let by less than the file does, where they cannot do the same."""


def chosen(
    plan: Plan, names: Sequence[str], device: str | None, bare: bool
) -> tuple[list[AnyList[Any]], list[Placement]]:
    """Return the lists to be written, and their places; no list only for a format that can describe
    a device without any. Raises `PlanError`.
    """
    if device is not None and device not in plan.devices:
        raise PlanError(unknown("device", device, list(plan.devices)))
    places = [
        each for each in plan.every_placement if device is None or each.point.device == device
    ]
    standing = {each.access_list for each in places}
    found = [plan.any_list(name) for name in dict.fromkeys(names)]
    if not names:
        found = [
            each for each in plan.every_list.values() if device is None or each.name in standing
        ]
        if not found and not (bare and device is not None):
            raise PlanError(f"no list stands on {device}" if device else "the plan has no lists")
    meant = {each.name for each in found}
    return found, [each for each in places if each.access_list in meant]
