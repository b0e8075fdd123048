"""Configurations as XML: reading them safely, editing them by operations, and selecting parts of
them.

Source: RFC 6241 sections 6.2 (subtree filters) and 7.2 (edit-config). The modules are not loaded:
`KEYS` has the key leaves of each list in the modules that we use.
"""

from __future__ import annotations

import copy
from collections.abc import Collection, Iterator
from typing import Any

from lxml import etree

from crossgate.core.model.errors import PlanError
from crossgate.formats.bounds import MOST_DOCUMENT
from crossgate.formats.exchange.tree import MODULES, NAMESPACES, xml_root

NETCONF = "urn:ietf:params:xml:ns:netconf:base:1.0"
ACL = "urn:ietf:params:xml:ns:yang:ietf-access-control-list"
Element = Any
"""An element of lxml, which has no types of its own."""
KEYS = {
    "acl": ("name",),
    "ace": ("name",),
    "acl-set": ("name",),
    "interface": ("interface-id", "name"),
    "address": ("ip",),
    "control-plane-protocol": ("type", "name"),
    "route": ("destination-prefix",),
    "next-hop": ("index",),
    "instance": ("id",),
    "policy": ("id",),
    "mapping-entry": ("index",),
    "external-ip-address-pool": ("pool-id",),
    "port-set": ("start-port-number", "end-port-number"),
    "module-set": ("name",),
    "module": ("name",),
    "schema": ("name",),
    "datastore": ("name",),
}
"""The leaves by which the entries of a list are known, by the list's name: those of these that an
entry has (RFC 8519, RFC 8343, RFC 8344, RFC 8349, RFC 8512, RFC 8525).
"""
_IDENTITIES = ("type", "forwarding", "logging")
"""The leaves of these modules that name an identity."""
_OPERATIONS = ("merge", "replace", "create", "delete", "remove")


class DeviceError(Exception):
    """A device's refusal: an error tag of RFC 6241 appendix A, and a message."""

    def __init__(self, tag: str, message: str) -> None:
        super().__init__(message)
        self.tag, self.message = tag, message


def name_of(element: Element) -> str:
    """Return an element's name without its namespace."""
    found: str = etree.QName(element).localname
    return found


def nc(name: str) -> str:
    """Return a name of NETCONF's own namespace."""
    return f"{{{NETCONF}}}{name}"


def parsed(octets: bytes, what: str) -> Element:
    """Read XML from elsewhere (`xml_root`), up to `MOST_DOCUMENT` octets.

    Identities of known modules get the module's name as their prefix, which the root declares, so
    that they keep their meaning wherever a part of the tree is moved. Raises `PlanError`.
    """
    if len(octets) > MOST_DOCUMENT:
        raise PlanError(f"{what} is longer than {MOST_DOCUMENT >> 20} MB")
    read = xml_root(octets, what)
    for each in _identities(read):
        prefix, _, name = (each.text or "").strip().rpartition(":")
        module = MODULES.get(each.nsmap.get(prefix or None, ""))
        if module is not None and name:
            each.text = f"{module}:{name}"
    # A part of it that is moved elsewhere takes no prefix along that only its text needs.
    root: Element = etree.Element(read.tag, read.attrib, nsmap={**read.nsmap, **NAMESPACES})
    root.text = read.text
    root.extend(list(read))
    return root


def _identities(element: Element) -> Iterator[Element]:
    """Yield the leaves whose values are identities, in the modules that we use."""
    for name in _IDENTITIES:
        yield from element.iter(f"{{*}}{name}")


def written(element: Element) -> bytes:
    """Write an element, each module's part in its own namespace."""
    root = etree.fromstring(etree.tostring(element, with_tail=False))
    for each in _identities(root):
        module, _, name = (each.text or "").strip().rpartition(":")
        if NAMESPACES.get(module) == etree.QName(each).namespace:
            each.text = name
    used = {(each.text or "").partition(":")[0] for each in _identities(root)}
    found: bytes = etree.tostring(_plain(root, None, used), encoding="utf-8")
    return found


def _plain(element: Element, around: str | None, used: Collection[str]) -> Element:
    """Return a copy of an element with default namespaces, except for prefixes that are used;
    `around` is the default namespace at its place.
    """
    space = etree.QName(element).namespace
    spaces: Any = {None: space} if space != around else {}
    if space != around:
        spaces |= {each: NAMESPACES[each] for each in used if each in NAMESPACES}
    found: Element = etree.Element(element.tag, element.attrib, nsmap=spaces)
    found.text, found.tail = element.text, element.tail
    found.extend([_plain(each, space, used) for each in element])
    return found


def _key(element: Element) -> tuple[object, ...]:
    """Return what distinguishes an element from the others of its parent."""
    leaves = KEYS.get(name_of(element), ())
    found = [element.findtext(f"{{*}}{each}") for each in leaves]
    return element.tag, *(each for each in found if each is not None)


def merge(into: Element, edit: Element, default: str = "merge") -> None:
    """Apply an edit to a part of a configuration. Raises `DeviceError`."""
    operation = edit.get(nc("operation"), default)
    if operation not in (*_OPERATIONS, "none"):
        raise DeviceError("bad-attribute", f"{operation} is no operation")
    found = next((each for each in into if _key(each) == _key(edit)), None)
    name = name_of(edit)
    if operation in ("delete", "remove"):
        if found is not None:
            into.remove(found)
        elif operation == "delete":
            raise DeviceError("data-missing", f"there is no such {name}")
        return
    if operation == "create" and found is not None:
        raise DeviceError("data-exists", f"there is such a {name} already")
    if operation == "none" and found is None:
        raise DeviceError("data-missing", f"there is no such {name}")
    if found is None or operation == "replace" or not len(edit):
        if operation == "none":
            return
        new = copy.deepcopy(edit)
        _see_what_is_new(new)
        if found is None:
            into.append(new)
        else:
            into.replace(found, new)
        return
    for each in edit:
        merge(found, each, "merge" if operation == "create" else operation)


def _see_what_is_new(new: Element) -> None:
    """Remove the operations from an element that is inserted. Raises `DeviceError` where
    one deletes what does not exist.
    """
    for each in list(new.iter()):
        operation = each.attrib.pop(nc("operation"), "merge")
        if operation == "delete":
            raise DeviceError("data-missing", f"there is no such {name_of(each)}")
        if operation == "remove" and each.getparent() is not None:
            each.getparent().remove(each)


def chosen(data: Element, wanted: Element | None) -> Element:
    """Return what a subtree filter selects from a configuration; all of it without a filter (RFC
    6241 section 6.2).
    """
    found = etree.Element(data.tag, nsmap=data.nsmap)
    for each in data:
        several = [None] if wanted is None else [one for one in wanted if _fits(one, each)]
        for one in several:
            part = _part(one, each)
            if part is not None:
                merge(found, part)
    return found


def _fits(wanted: Element, element: Element) -> bool:
    name = etree.QName(wanted)
    same = name.localname == name_of(element)
    return same and name.namespace in (None, "", NETCONF, etree.QName(element).namespace)


def _value(leaf: Element) -> str:
    """Return the value of a leaf; for an identity, its name without the module."""
    text = (leaf.text or "").strip()
    return text.rpartition(":")[2] if name_of(leaf) in _IDENTITIES else text


def _part(wanted: Element | None, element: Element) -> Element | None:
    """Return what a filter selects from an element, None for nothing."""
    if wanted is None or not len(wanted):
        return copy.deepcopy(element)
    matched = [each for each in wanted if not len(each) and (each.text or "").strip()]
    for each in matched:
        if _value(each) not in [_value(one) for one in element if _fits(each, one)]:
            return None
    asked = [each for each in wanted if each not in matched]
    found = etree.Element(element.tag, element.attrib, nsmap=element.nsmap)
    keys, some = KEYS.get(name_of(element), ()), False
    for own in element:
        asking = [each for each in asked if _fits(each, own)]
        for part in (_part(each, own) for each in asking):
            if part is not None:
                merge(found, part)
                some = True
        told = name_of(own) in keys or any(_fits(each, own) for each in matched)
        if not asking and (told or not asked):
            found.append(copy.deepcopy(own))
    return found if some or matched else None


def lists_of(document: bytes, what: str) -> str:
    """Return the lists in a device's document, and their places, as XML; an empty container where
    it has none. Raises `PlanError`.
    """
    for each in parsed(document, what):
        if name_of(each) == "acls":
            return written(each).decode()
    return f'<acls xmlns="{ACL}"/>'


def bare(lists: str) -> bytes:
    """Return lists as XML text that is the same whatever their layout."""
    return written(parsed(lists.encode(), "lists"))


def with_lists(document: bytes, lists: str, what: str) -> bytes:
    """Return a device's document with its lists replaced. Raises `PlanError`."""
    found = parsed(document, what)
    for each in [one for one in found if name_of(one) == "acls"]:
        found.remove(each)
    found.append(parsed(lists.encode(), what))
    return written(found)


def packets_counted(document: bytes, what: str) -> int | None:
    """Return how many packets the lines of a device have counted; None where it does not report
    that. Raises `PlanError`.
    """
    found = [
        (each.text or "").strip()
        for each in parsed(document, what).iter(f"{{{ACL}}}matched-packets")
    ]
    return sum(int(each) for each in found if each.isdecimal()) if found else None
