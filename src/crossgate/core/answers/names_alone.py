"""Whether two plans differ in nothing but one name, so that neither treats a packet differently.

Both plans are walked side by side. Texts as they were written are left out, since what they stand
for is compared; of everything else each value must be the same, or be the old name in the one and
the new name in the other where its field is one of those that hold such names. A field that is
not known to hold names must be the same, and so must one that is added to the model later: the
plans are then compared packet by packet, which takes longer and is as true.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import fields, is_dataclass
from typing import Any, NamedTuple

from crossgate.core.model.accesslist import AccessList
from crossgate.core.model.address import Addresses, Pattern
from crossgate.core.model.conditions import During, Limit
from crossgate.core.model.entry import AnyEntry
from crossgate.core.model.errors import Place
from crossgate.core.model.ethernet import EthernetList, Stations
from crossgate.core.model.finding import Acceptance
from crossgate.core.model.named import Group, NamedService, NameSpace
from crossgate.core.model.network import (
    Device,
    Host,
    Interface,
    Leases,
    Management,
    Placement,
    Point,
    Port,
    Segment,
    SharedGateway,
    Translation,
)
from crossgate.core.model.plan import Plan
from crossgate.core.model.service import Qualifiers, Service
from crossgate.core.model.window import Window


class Renamed(NamedTuple):
    """What is called `new` in one plan and `old` in the other; of a part also its `device`."""

    space: NameSpace
    old: str
    new: str
    device: str = ""


_PARTS: dict[type, tuple[str, tuple[str, ...]]] = {
    Device: ("name", ("interfaces", "ports")),
    Interface: ("device", ("name",)),
    Port: ("switch", ("name",)),
    Translation: ("device", ("interface",)),
    Point: ("owner", ("part",)),
}
"""The field that says which device it is, and those that hold names of its parts."""
_NAMES: dict[NameSpace, dict[type, tuple[str, ...]]] = {
    NameSpace.NAME: {
        Plan: ("segments", "devices", "hosts", "groups"),
        Segment: ("name",),
        Device: ("name",),
        Interface: ("device", "on"),
        Port: ("switch",),
        Translation: ("device",),
        Management: ("at",),
        Host: ("name", "on"),
        SharedGateway: ("on",),
        Leases: ("on", "by", "names", "time"),
        Group: ("name",),
        Point: ("owner",),
    },
    NameSpace.SERVICE: {Plan: ("services",), NamedService: ("name", "tokens")},
    NameSpace.WINDOW: {Plan: ("windows",), Window: ("name",), During: ("window",)},
    NameSpace.LIST: {
        Plan: ("lists", "frame_lists"),
        AccessList: ("name",),
        EthernetList: ("name",),
        Placement: ("access_list",),
        Limit: ("access_list",),
        Acceptance: ("access_list",),
    },
}
"""The fields that hold names of a space, one or several, or values found by them."""
_WRITTEN: dict[type, tuple[str, ...]] = {
    Plan: ("expectations",),
    AnyEntry: ("text",),
    Addresses: ("text",),
    Stations: ("text",),
    Service: ("text",),
    Translation: ("text",),
    Group: ("text",),
}
"""Fields that say how something was written. What expectations are about is compared elsewhere."""

_WITHOUT_NAMES = (Addresses, Service, Qualifiers, Pattern)
"""What a plan has most of, and what has no names in it but as written; compared as a whole first.
"""


def differ_in_names_alone(old: Plan, new: Plan, renamed: Renamed) -> bool:
    """Whether two plans are the same but for one name. The name must be free in the other plan."""
    return _Walk(renamed).same(old, new)


class _Walk:
    def __init__(self, renamed: Renamed) -> None:
        self._renamed = renamed

    def same(self, old: Any, new: Any) -> bool:
        """Whether two values say the same."""
        if old is new or (isinstance(old, _WITHOUT_NAMES) and old == new):
            return True
        if type(old) is not type(new):
            return False
        if isinstance(old, Place):
            return True
        names = _fields(type(old))
        if names:
            return all(self._same_field(old, new, name) for name in names)
        if isinstance(old, dict):
            return self._same_in_order(old.items(), new.items(), self.same)
        if isinstance(old, tuple | list):
            return self._same_in_order(old, new, self.same)
        return bool(old == new)

    def _same_in_order(self, old: Any, new: Any, same: Callable[[Any, Any], bool]) -> bool:
        return len(old) == len(new) and all(map(same, old, new))

    def _same_field(self, old: Any, new: Any, name: str) -> bool:
        was, now = getattr(old, name), getattr(new, name)
        if not self._holds_names(old, name):
            return self.same(was, now)
        if isinstance(was, dict):
            # They have the names in them by which they are found.
            return self._same_in_order(was.values(), now.values(), self.same)
        if isinstance(was, tuple):
            return self._same_in_order(was, now, self._same_name)
        return self._same_name(was, now)

    def _holds_names(self, old: Any, name: str) -> bool:
        """Whether a field of a value holds names among which the changed one can be."""
        if self._renamed.space is NameSpace.POINT:
            owner, own = _PARTS.get(type(old), ("", ()))
            return name in own and getattr(old, owner) == self._renamed.device
        return name in _NAMES[self._renamed.space].get(type(old), ())

    def _same_name(self, old: object, new: object) -> bool:
        if not isinstance(old, str):
            return old == new
        # A window that ends with a day has the window's name before `until`.
        name, blank, rest = old.partition(" ")
        return (self._renamed.new if name == self._renamed.old else name) + blank + rest == new


def _fields(kind: type) -> tuple[str, ...]:
    """Return the names of the fields of a class that are compared, none for one that is no
    record.
    """
    if kind not in _known:
        written = {
            each for own, names in _WRITTEN.items() if issubclass(kind, own) for each in names
        }
        if is_dataclass(kind):
            every = [each.name for each in fields(kind) if not each.name.startswith("_")]
        else:
            every = list(getattr(kind, "_fields", ()))
        _known[kind] = tuple(each for each in every if each not in written)
    return _known[kind]


_known: dict[type, tuple[str, ...]] = {}
