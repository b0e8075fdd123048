"""What a stand-in reports besides its configuration: its modules (RFC 8525), and how often its
lines have decided (RFC 8519 section 4.1, `statistics`).
"""

from __future__ import annotations

import copy
import hashlib
from collections.abc import Callable, Mapping
from functools import cache
from typing import Any, NamedTuple

from lxml import etree

from crossgate.formats.exchange.ietf_ace_in import NAMED_ACE
from crossgate.formats.exchange.ietf_acl import OTHERWISE
from crossgate.formats.exchange.tree import NAMESPACES
from crossgate.live.documents import Element, name_of

LIBRARY = "urn:ietf:params:xml:ns:yang:ietf-yang-library"
DATASTORES = "urn:ietf:params:xml:ns:yang:ietf-datastores"
_LIBRARY_REVISION = "2019-01-04"
Counts = Callable[[], Mapping[str, Mapping[int | None, int]]]
"""Tells how often the lines of each list have decided, by the number of an entry, None for what
becomes of the rest.
"""


class Module(NamedTuple):
    """A YANG module of a device, with its revision and features."""

    revision: str
    features: tuple[str, ...] = ()


MODULES = {
    "iana-if-type": Module("2019-02-08"),
    "ietf-access-control-list": Module(
        "2019-03-04",
        (
            *("match-on-eth", "match-on-ipv4", "match-on-ipv6"),
            *("match-on-tcp", "match-on-udp", "match-on-icmp"),
            *("eth", "ipv4", "ipv6", "acl-aggregate-stats", "interface-attachment"),
        ),
    ),
    "ietf-interfaces": Module("2018-02-20"),
    "ietf-ip": Module("2018-02-22"),
    "ietf-ipv4-unicast-routing": Module("2018-03-13"),
    "ietf-ipv6-unicast-routing": Module("2018-03-13"),
    "ietf-nat": Module("2019-01-10", ("basic-nat44", "napt44")),
    "ietf-routing": Module("2018-03-13"),
    "ietf-system": Module("2014-08-06"),
}


@cache
def _library() -> tuple[bytes, str]:
    """Return the modules as a document, and an identifier for their set."""
    spaces: Any = {None: LIBRARY}
    root: Element = etree.Element(f"{{{LIBRARY}}}yang-library", nsmap=spaces)
    modules = _add(root, "module-set")
    _add(modules, "name", "all")
    for name, module in MODULES.items():
        own = _add(modules, "module")
        _add(own, "name", name)
        _add(own, "revision", module.revision)
        _add(own, "namespace", NAMESPACES[name])
        for each in module.features:
            _add(own, "feature", each)
    schema = _add(root, "schema")
    _add(schema, "name", "all")
    _add(schema, "module-set", "all")
    for name in ("running", "candidate"):
        store = _add(root, "datastore")
        etree.SubElement(store, f"{{{LIBRARY}}}name", nsmap={"ds": DATASTORES}).text = f"ds:{name}"
        _add(store, "schema", "all")
    content = hashlib.sha256(etree.tostring(root)).hexdigest()[:16]
    _add(root, "content-id", content)
    return etree.tostring(root), content


def _add(parent: Element, name: str, text: str | None = None) -> Element:
    found: Any = etree.SubElement(parent, f"{{{LIBRARY}}}{name}")
    found.text = text
    return found


def capability() -> str:
    """Return the words by which a device's hello tells its modules (RFC 8526 section 2)."""
    return (
        "urn:ietf:params:netconf:capability:yang-library:1.1"
        f"?revision={_LIBRARY_REVISION}&content-id={_library()[1]}"
    )


def with_state(running: Element, counts: Counts) -> Element:
    """Return a running configuration together with the state data."""
    found = copy.deepcopy(running)
    by_list = counts()
    for acl in (each for top in found if name_of(top) == "acls" for each in top):
        if name_of(acl) == "acl":
            name = next((each.text for each in acl if name_of(each) == "name"), None) or ""
            _count(acl, dict(by_list.get(name, {})))
    found.append(etree.fromstring(_library()[0]))
    return found


def _count(acl: Element, own: dict[int | None, int]) -> None:
    """Write how often the lines of a list have decided; of an entry's aces, the first one has its
    count.
    """
    for ace in [
        each for each in acl.iter() if isinstance(each.tag, str) and name_of(each) == "ace"
    ]:
        space = etree.QName(ace).namespace
        called = next((each.text for each in ace if name_of(each) == "name"), None) or ""
        named = NAMED_ACE.fullmatch(called)
        number = int(named[1]) if named else None
        known = named is not None or called == OTHERWISE
        statistics = etree.SubElement(ace, f"{{{space}}}statistics")
        packets = etree.SubElement(statistics, f"{{{space}}}matched-packets")
        packets.text = str(own.pop(number, 0) if known else 0)
