"""A device as YANG data models describe it: host name, interfaces, addresses, static routes and
lists, one document for each device.

Modules: ietf-system (RFC 7317), ietf-interfaces (RFC 8343), ietf-ip (RFC 8344), ietf-routing with
its IPv4 and IPv6 unicast modules (RFC 8349), ietf-nat (RFC 8512), ietf-access-control-list (RFC
8519). An interface's description is the name of its subnet. Without a device, the document is the
picture of all links: ietf-network-topology (RFC 8345), with the addresses of l3-unicast-topology
(RFC 8346).

These models have no place for `stateful`, the VLAN of a subnet, hosts, and (outside the picture)
cables.
"""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

from crossgate.core.model.address import (
    AddressError,
    Family,
    Pattern,
    parse_address,
    parse_block,
    parse_length,
)
from crossgate.core.model.errors import PlanError
from crossgate.core.model.network import Device, Interface, Route
from crossgate.core.model.plan import Plan
from crossgate.core.model.scope import Scope, scope_of
from crossgate.formats.exchange.asked import ExportedDocument, ExportWanted, Given
from crossgate.formats.exchange.ietf_acl import ACL, INTERFACES, acl_tree, interface_tree
from crossgate.formats.exchange.ietf_acl_in import read_acls
from crossgate.formats.exchange.ietf_nat import NAT, nat_tree, read_nat
from crossgate.formats.exchange.topology import read_topology, topology_tree
from crossgate.formats.exchange.tree import Identity, Node, json_of, read_tree, xml_of
from crossgate.language.coming import Coming
from crossgate.language.coming_network import ComingDevice, ComingInterface

SYSTEM, ROUTING = "ietf-system", "ietf-routing"
_UNICAST = {Family.IPV4: "ietf-ipv4-unicast-routing", Family.IPV6: "ietf-ipv6-unicast-routing"}
_DISCARDING = ("blackhole", "unreachable", "prohibit")
"""Special next hops that end a packet (RFC 8349 section 7); whether the sender is told is not
modelled.
"""
_NETWORKS = "ietf-network:networks"
_MOST_HOSTNAME = 63


# ---- Out


def write(wanted: ExportWanted) -> ExportedDocument:
    """Write a device's document, or the picture of all links."""
    written = ExportedDocument("")
    if wanted.device is None:
        tree = topology_tree(wanted.plan, written)
    else:
        tree = _device_tree(wanted, wanted.plan.devices[wanted.device], written)
    written.text = xml_of(tree) if wanted.xml else json_of(tree)
    return written


def _device_tree(wanted: ExportWanted, device: Device, written: ExportedDocument) -> dict[str, Any]:
    plan = wanted.plan
    if len(device.name) > _MOST_HOSTNAME:
        raise PlanError(
            f"{device.name} has more than {_MOST_HOSTNAME} characters, and a hostname has no more "
            "(RFC 7317)"
        )
    if device.stateful:
        written.told.append(f"{device.name} is stateful, which these models have no word for")
    closed = [str(point) for point, _, _ in plan.closed if point.device == device.name]
    if closed:
        what = (
            "closed, and no list says so: these models would let everything in; place a list there"
        )
        written.unsaid.append(f"{', '.join(dict.fromkeys(closed))}: {what}")
    if any(each.cost is not None or each.passive for each in device.interfaces.values()):
        written.told.append(
            f"costs and passive interfaces of {device.name} are left out, since these models have "
            "none"
        )
    vlans = [
        name
        for name in dict.fromkeys(each.on for each in device.interfaces.values())
        if plan.segments[name].vlan is not None
    ]
    if vlans:
        written.told.append(
            f"VLAN numbers of {', '.join(vlans)} are left out, since these models have none"
        )
    cables = [each for each in device.ports.values() if each.to is not None]
    if cables:
        written.told.append(
            f"cables of {device.name}'s ports are left out; crossgate export ietf without --on "
            "has them"
        )
    interfaces = [_interface(plan, each) for each in device.interfaces.values()]
    interfaces += [interface_tree(plan, each.point, each.name) for each in device.ports.values()]
    tree: dict[str, Any] = {
        f"{SYSTEM}:system": {"hostname": device.name},
        f"{INTERFACES}:interfaces": {"interface": interfaces},
    }
    if device.routes:
        static = {
            f"{_UNICAST[family]}:{family.word}": {"route": routes}
            for family in Family
            if (routes := [*_routes(device, family)])
        }
        protocol = {"type": Identity(ROUTING, "static"), "name": "static", "static-routes": static}
        tree[f"{ROUTING}:routing"] = {
            "control-plane-protocols": {"control-plane-protocol": [protocol]}
        }
    tree |= nat_tree(device, written)
    if wanted.every_list:
        tree |= acl_tree(wanted, written)
    return tree


def _interface(plan: Plan, interface: Interface) -> dict[str, Any]:
    found = interface_tree(plan, interface.point, interface.name)
    found["description"] = interface.on
    for family in Family:
        own = interface.in_family(family)
        if own:
            addresses = [{"ip": str(each.address), "prefix-length": each.length} for each in own]
            found[f"ietf-ip:{family.word}"] = {"forwarding": True, "address": addresses}
    return found


def _routes(device: Device, family: Family) -> Iterator[dict[str, Any]]:
    by_destination: dict[Pattern, list[Route]] = {}
    for route in device.routes:
        if route.destination.family is family:
            by_destination.setdefault(route.destination, []).append(route)
    for destination, routes in by_destination.items():
        text = "0.0.0.0/0" if family is Family.IPV4 else "::/0"
        if destination.wildcard != family.mask:
            text = str(destination) if "/" in str(destination) else f"{destination}/{family.bits}"
        neighbours = [each.via for each in routes if each.via is not None]
        hop: dict[str, Any]
        if not neighbours:
            hop = {"special-next-hop": "blackhole"}
        elif len(neighbours) == 1:
            hop = {"next-hop-address": str(neighbours[0])}
        else:
            hops = [
                {"index": str(index), "next-hop-address": str(via)}
                for index, via in enumerate(neighbours, 1)
            ]
            hop = {"next-hop-list": {"next-hop": hops}}
        yield {"destination-prefix": text, "next-hop": hop}


# ---- In


def read(given: Given) -> Coming:
    """Read a device's document, or a picture of links. Raises `PlanError` for what is neither."""
    document = read_tree(given.path, given.data)
    coming = Coming(str(given.path), less=given.less)
    networks = document.get(_NETWORKS)
    system, interfaces = document.get(f"{SYSTEM}:system"), document.get(f"{INTERFACES}:interfaces")
    if networks is not None:
        read_topology(networks, coming)
    elif interfaces is None:
        there = ", ".join(each.split(" = ")[0].lstrip("/") for each in document.left()) or "nothing"
        raise PlanError(
            f"{given.path} has neither {INTERFACES}:interfaces (RFC 8343) nor {_NETWORKS} (RFC "
            f"8345); it has {there}"
        )
    else:
        name = system.text("hostname", "") if system is not None else ""
        if not name and given.device is None:
            raise PlanError(
                f"{given.path} does not tell what the device is called: {SYSTEM}:system/hostname; "
                "say so with --on DEVICE"
            )
        device = ComingDevice(given.device or name.partition(".")[0])
        for each in interfaces.list("interface", key="name"):
            _read_interface(each, device, coming)
        routing = document.get(f"{ROUTING}:routing")
        if routing is not None:
            _read_routing(routing, device, coming)
        nat = document.get(f"{NAT}:nat")
        if nat is not None:
            read_nat(nat, device, coming)
        coming.devices.append(device)
        acls = document.get(f"{ACL}:acls")
        if acls is not None:
            read_acls(acls, given, coming, device.point)
        coming.told += [
            f"{each} has no meaning here"
            for node in (system, interfaces)
            if node is not None
            for each in node.left()
        ]
    coming.told += [f"{each} has no meaning here" for each in document.left()]
    return coming


def _read_interface(node: Node, device: ComingDevice, coming: Coming) -> None:
    name = node.text("name")
    kind = node.identity("type", "iana-if-type", "")
    found = ComingInterface(name, on=node.text("description", ""), vlan=kind == "l3ipvlan")
    enabled = node.text("enabled", "true")
    for family in Family:
        below = node.get(f"ietf-ip:{family.word}")
        if below is None:
            continue
        if below.text("enabled", "true") == "false":
            coming.told.append(f"{below.path} is not enabled, and left out")
            continue
        below.text("forwarding", "")
        for each in below.list("address", key="ip"):
            try:
                address = parse_address(each.text("ip").partition("%")[0])
                length = parse_length(_length(each, family), family)
            except AddressError as error:
                raise each.error(error.message) from None
            if address.family is not family:
                raise each.error(f"{address} is no {family.label} address")
            if scope_of(address) is Scope.LINK:
                coming.told.append(
                    f"{each.path} is left out: a link-local address belongs to its link and to no "
                    "subnet"
                )
            else:
                found.addresses.append((address, length))
            coming.told += [f"{left} has no meaning here" for left in each.left()]
        coming.told += [f"{left} has no meaning here" for left in below.left()]
    coming.told += [f"{left} has no meaning here" for left in node.left()]
    if enabled == "false":
        coming.told.append(f"{node.path} is not enabled, and left out")
    elif kind == "softwareLoopback":
        coming.told.append(f"{node.path} is a loopback, and left out")
    else:
        device.interfaces.append(found)


def _length(address: Node, family: Family) -> str:
    if "netmask" in address:
        mask = parse_address(address.text("netmask")).value ^ family.mask
        if mask & (mask + 1):
            raise address.error(
                f"{address.text('netmask')} is no netmask: its 1 bits do not stand together at "
                "the left"
            )
        return str(family.bits - mask.bit_length())
    return address.text("prefix-length")


def _read_routing(routing: Node, device: ComingDevice, coming: Coming) -> None:
    protocols = routing.get("control-plane-protocols")
    for each in (
        protocols.list("control-plane-protocol", key="name") if protocols is not None else ()
    ):
        static = each.get("static-routes")
        kind = each.identity("type", ROUTING)
        if kind != "static":
            coming.told.append(
                f"{each.path}: routes of {kind} are computed here, by the least cost"
            )
        for family in Family if static is not None else ():
            below = static.get(f"{_UNICAST[family]}:{family.word}") if static is not None else None
            for route in below.list("route", key="destination-prefix") if below is not None else ():
                _read_route(route, family, device, coming)
        coming.told += [f"{left} has no meaning here" for left in each.left()]
    routing.get("interfaces")
    coming.told += [f"{left} has no meaning here" for left in routing.left()]


def _read_route(route: Node, family: Family, device: ComingDevice, coming: Coming) -> None:
    try:
        destination = parse_block(route.text("destination-prefix"))
    except AddressError as error:
        raise route.error(error.message) from None
    hop = route.get("next-hop")
    if hop is None:
        raise route.error("next-hop is missing")
    several = hop.get("next-hop-list")
    hops = [hop] if several is None else several.list("next-hop", key="index")
    module = _UNICAST[family]
    found = 0
    if several is None and hop.text("special-next-hop", "") in _DISCARDING:
        device.routes.append((destination, None))
        found = 1
    for each in hops:
        text = each.text("next-hop-address", "") or each.text(f"{module}:next-hop-address", "")
        if text:
            try:
                via = parse_address(text.partition("%")[0])
            except AddressError as error:
                raise each.error(error.message) from None
            if scope_of(via) is Scope.LINK:
                continue  # told below: a neighbour is known here by an address of its subnet
            device.routes.append((destination, via))
            found += 1
        coming.told += [f"{left} has no meaning here" for left in each.left()]
    if not found:
        coming.told.append(
            f"{route.path} is left out: a route here goes to the address of a neighbour"
        )
