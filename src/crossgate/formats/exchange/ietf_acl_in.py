"""Access lists of RFC 8519 read: aces as entries, with the interfaces that they are attached to
(`ietf_acl` writes them).
"""

from __future__ import annotations

from collections.abc import Callable

from crossgate.core.model.address import (
    Family,
)
from crossgate.core.model.errors import PlanError, unknown
from crossgate.core.model.network import Point
from crossgate.core.model.plan import Plan
from crossgate.formats.exchange.asked import Given
from crossgate.formats.exchange.ietf_ace_in import MOST_COUNT, Ace, stations_named
from crossgate.formats.exchange.ietf_acl import (
    ACL,
    INTERFACES,
    SIDES,
)
from crossgate.formats.exchange.tree import Node, read_tree
from crossgate.language.coming import Coming, ComingList, ComingPlace


def read(given: Given) -> Coming:
    """Read lists and where they are attached. Raises `PlanError` for any other document."""
    if given.device is not None and given.device not in given.plan.devices:
        raise PlanError(unknown("device", given.device, list(given.plan.devices)))
    document = read_tree(given.path, given.data)
    coming = Coming(str(given.path), less=given.less)
    found = document.get(f"{ACL}:acls")
    document.get(f"{INTERFACES}:interfaces")  # only there so that the names below are known
    if found is None:
        there = ", ".join(each.split(" = ")[0].lstrip("/") for each in document.left()) or "nothing"
        raise PlanError(f"{given.path} has no {ACL}:acls (RFC 8519); it has {there}")
    others = [*document.left()]
    if f"{INTERFACES}:interfaces" in document and others:
        coming.told.append(
            f"only lists come in: {', '.join(each.lstrip('/') for each in others)} left out; "
            "crossgate import ietf brings in more"
        )
    else:
        coming.told += [f"{each} has no meaning here" for each in others]
    read_acls(found, given, coming, lambda text: point_of(given.plan, given.device, text))
    return coming


def read_acls(
    acls: Node, given: Given, coming: Coming, place: Callable[[str], Point | None]
) -> None:
    """Read the lists of a document, and the places that they are attached to; `place` finds the
    place for an interface's name.
    """
    names: dict[str, list[ComingList]] = {}
    for each in acls.list("acl", key="name"):
        names[each.text("name")] = _read_acl(each, given, coming)
    attached = acls.get("attachment-points")
    if attached is not None:
        for each in attached.list("interface", key="interface-id"):
            _read_attachment(each, names, place, coming)
        coming.told += [f"{each} has no meaning here" for each in attached.left()]
    coming.told += [f"{each} has no meaning here" for each in acls.left()]


def _read_acl(acl: Node, given: Given, coming: Coming) -> list[ComingList]:
    """Read one list, or the two lists that it becomes for both families."""
    kind = acl.identity("type", ACL, "")
    aces = acl.get("aces")
    read_aces = [Ace(each) for each in aces.list("ace", key="name")] if aces else []
    families = {
        "ipv4-acl-type": [Family.IPV4],
        "mixed-eth-ipv4-acl-type": [Family.IPV4],
        "ipv6-acl-type": [Family.IPV6],
        "mixed-eth-ipv6-acl-type": [Family.IPV6],
        "": sorted({each.family for each in read_aces if each.family}) or [*Family],
        "mixed-eth-ipv4-ipv6-acl-type": [*Family],
    }.get(kind)
    if families is not None:
        for ace in read_aces:
            if ace.family is not None and ace.family not in families:
                raise acl.error(
                    f"a list of the type {kind} has an ace with {ace.family.word} matches, which "
                    "takes no packet of it"
                )
    if kind == "eth-acl-type":
        own, known = coming.new_list(acl.text("name"), None), stations_named(given.plan)
        for ace in read_aces:
            ace.into_frames(own, known, last=ace is read_aces[-1])
        if own.otherwise is None:
            if given.otherwise is None:
                raise acl.error(_OPEN)
            own.otherwise = given.otherwise
        for each in (*acl.left(), *(aces.left() if aces else ())):
            own.note(f"{each} has no word here")
        return [own]
    if families is None:
        raise acl.error(f"the type {kind} is no type of RFC 8519")
    found = []
    for family in families:
        own = coming.new_list(acl.text("name"), family, apart=len(families) > 1)
        for ace in read_aces:
            if ace.family in (None, family):
                ace.into(own, family)
        _close(own, acl, given)
        left = [*acl.left(), *(aces.left() if aces else ())]
        for each in left:
            own.note(f"{each} has no word here")
        found.append(own)
    return found


def _close(own: ComingList, acl: Node, given: Given) -> None:
    """Set the otherwise line to what becomes of packets that no ace takes. Raises `PlanError` where
    that is not told.
    """
    if not own.close(given.otherwise, lambda rule: not rule.log and rule.number is None):
        raise acl.error(_OPEN)


_OPEN = (
    "no ace takes what is left, and RFC 8519 does not say what becomes of it; say so with "
    "--otherwise permit or deny"
)


def _read_attachment(
    interface: Node,
    names: dict[str, list[ComingList]],
    place: Callable[[str], Point | None],
    coming: Coming,
) -> None:
    text = interface.text("interface-id")
    point = place(text)
    for direction, side in SIDES.items():
        below = interface.get(side)
        sets = below.get("acl-sets") if below is not None else None
        for each in sets.list("acl-set", key="name") if sets is not None else ():
            own = names.get(each.text("name"))
            if own is None:
                raise each.error(f"there is no acl {each.text('name')} in the document")
            for one in own:
                if point is None:
                    one.note(f"was attached {side} to {text}, which the plan has not")
                else:
                    coming.places.append(ComingPlace(one, direction, point, each.path))
            coming.told += [
                f"{left} has no meaning here"
                for left in each.left()
                if not left.startswith(f"{each.path}/ace-statistics")
            ]
            for statistics in each.list("ace-statistics", key="name"):
                packets = statistics.number("matched-packets", MOST_COUNT) or 0
                for one in own:
                    one.count(statistics.text("name"), packets)
        if sets is not None:
            coming.told += [
                f"{left} has no meaning here"
                for node in (below, sets)
                if node is not None
                for left in node.left()
            ]
    coming.told += [f"{each} has no meaning here" for each in interface.left()]


def point_of(plan: Plan, device: str | None, text: str) -> Point | None:
    """Return the interface or port that a document names: that of the device the document is for,
    given as DEVICE.NAME, or the only one with the name.
    """
    owners = [plan.devices[device]] if device is not None else [*plan.devices.values()]
    found = []
    for each in owners:
        for own in (text, text.removeprefix(f"{each.name}.")):
            found += [part[own].point for part in (each.interfaces, each.ports) if own in part]
    unique = list(dict.fromkeys(found))
    return unique[0] if len(unique) == 1 else None
