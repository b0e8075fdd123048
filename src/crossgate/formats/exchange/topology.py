"""The picture of links (RFC 8345, with the addresses of RFC 8346), to write and to read.

It has two networks. `layer-3` has a node for each device and one for each subnet, whose name begins
with `subnet.` or `outside.`, with links in both directions between an interface and its subnet.
`cables` has the switches, their ports, and links in both directions for each cable.
"""

from __future__ import annotations

from typing import Any

from crossgate.core.model.address import (
    Address,
    AddressError,
    Family,
    Pattern,
    parse_address,
    parse_block,
)
from crossgate.core.model.plan import Plan
from crossgate.formats.exchange.asked import ExportedDocument
from crossgate.formats.exchange.ietf_acl import prefix_text
from crossgate.formats.exchange.tree import Node
from crossgate.language.coming import Coming
from crossgate.language.coming_network import ComingDevice, ComingInterface, ComingSegment

_TP, _LINK = "ietf-network-topology:termination-point", "ietf-network-topology:link"
_L3 = "ietf-l3-unicast-topology"
LAYER_3, CABLES = "layer-3", "cables"
_SEGMENT = {False: "subnet", True: "outside"}


# ---- Out


def topology_tree(plan: Plan, written: ExportedDocument) -> dict[str, Any]:
    """Return the tree of all devices, subnets and cables; `written` gets what it cannot express."""
    if plan.hosts:
        written.told.append(
            "hosts are left out: the picture is of devices, subnets and the links between them"
        )
    nodes: list[dict[str, Any]] = []
    links: list[dict[str, Any]] = []
    for name, segment in plan.segments.items():
        attributes: dict[str, Any] = {"name": f"{_SEGMENT[segment.outside]}.{name}"}
        if segment.prefixes:
            attributes["prefix"] = [{"prefix": prefix_text(each)} for each in segment.prefixes]
        nodes.append({"node-id": name, f"{_L3}:l3-node-attributes": attributes})
    for device in plan.devices.values():
        points = []
        for interface in device.interfaces.values():
            own = {"ip-address": [str(each.address) for each in interface.addresses]}
            points.append({"tp-id": interface.name, f"{_L3}:l3-termination-point-attributes": own})
            links += _both_ways((device.name, interface.name), (interface.on, None))
        nodes.append({"node-id": device.name, _TP: points} if points else {"node-id": device.name})
    networks: list[dict[str, Any]] = [
        {
            "network-id": LAYER_3,
            "network-types": {f"{_L3}:l3-unicast-topology": {}},
            "node": nodes,
            _LINK: links,
        }
    ]
    switches = [each for each in plan.devices.values() if each.ports]
    if switches:
        cables = [
            link
            for each in switches
            for port in each.ports.values()
            if port.to
            for link in _both_ways((each.name, port.name), (port.to.owner, port.to.part))
        ]
        ported = [
            {"node-id": each.name, _TP: [{"tp-id": name} for name in each.ports]}
            for each in switches
        ]
        unique = {each["link-id"]: each for each in cables}
        networks.append(
            {"network-id": CABLES, "node": ported} | ({_LINK: [*unique.values()]} if unique else {})
        )
    return {"ietf-network:networks": {"network": [_filled(each) for each in networks]}}


def _filled(network: dict[str, Any]) -> dict[str, Any]:
    """Remove empty lists, which a document may not have."""
    return {name: value for name, value in network.items() if value != []}


def _both_ways(one: tuple[str, str | None], other: tuple[str, str | None]) -> list[dict[str, Any]]:
    return [_link(one, other), _link(other, one)]


def _link(source: tuple[str, str | None], destination: tuple[str, str | None]) -> dict[str, Any]:
    ends = []
    for side, (node, point) in (("source", source), ("dest", destination)):
        ends.append({f"{side}-node": node} | ({} if point is None else {f"{side}-tp": point}))
    names = [node if point is None else f"{node}.{point}" for node, point in (source, destination)]
    return {"link-id": " to ".join(names), "source": ends[0], "destination": ends[1]}


# ---- In


def read_topology(networks: Node, coming: Coming) -> None:
    """Read devices with their interfaces, subnets and cables. Raises `PlanError`."""
    devices: dict[str, ComingDevice] = {}
    for network in networks.list("network", key="network-id"):
        types = network.get("network-types")
        layer_3 = types is not None and f"{_L3}:l3-unicast-topology" in types
        if types is not None:
            types.get(f"{_L3}:l3-unicast-topology")
        segments: dict[str, ComingSegment] = {}
        for node in network.list("node", key="node-id"):
            _read_node(node, layer_3, segments, devices, coming)
        for link in network.list(_LINK, key="link-id"):
            _read_link(link, segments, devices)
        coming.segments += segments.values()
        coming.told += [
            f"{left} has no meaning here"
            for node in (network, types)
            if node is not None
            for left in node.left()
        ]
    for device in devices.values():
        for interface in device.interfaces:
            _lengthen(interface, coming)
    coming.devices += devices.values()


def _read_node(
    node: Node,
    layer_3: bool,
    segments: dict[str, ComingSegment],
    devices: dict[str, ComingDevice],
    coming: Coming,
) -> None:
    name = node.text("node-id")
    attributes = node.get(f"{_L3}:l3-node-attributes")
    label = attributes.text("name", "") if attributes is not None else ""
    prefixes: list[Pattern] = []
    for each in attributes.list("prefix", key="prefix") if attributes is not None else ():
        try:
            prefixes.append(parse_block(each.text("prefix")))
        except AddressError as error:
            raise each.error(error.message) from None
    points = node.list(_TP, key="tp-id")
    word = label.partition(".")[0]
    if layer_3 and not points and word in _SEGMENT.values():
        segments[name] = ComingSegment(name, prefixes, outside=word == "outside")
        return
    device = devices.setdefault(name, ComingDevice(name, pictured=True))
    for point in points:
        own = point.get(f"{_L3}:l3-termination-point-attributes")
        if not layer_3:
            device.ports[point.text("tp-id")] = None
            continue
        found = ComingInterface(point.text("tp-id"))
        for text in own.values("ip-address") if own is not None else ():
            try:
                found.addresses.append((parse_address(text), -1))
            except AddressError as error:
                raise point.error(error.message) from None
        device.interfaces.append(found)
        coming.told += [f"{left} has no meaning here" for left in point.left()]
    coming.told += [f"{left} has no meaning here" for left in node.left()]


def _read_link(
    link: Node, segments: dict[str, ComingSegment], devices: dict[str, ComingDevice]
) -> None:
    source, destination = link.get("source"), link.get("destination")
    if source is None or destination is None:
        raise link.error("a link has a source and a destination")
    one = source.text("source-node"), source.text("source-tp", "")
    other = destination.text("dest-node"), destination.text("dest-tp", "")
    for node, _ in (one, other):
        if node not in segments and node not in devices:
            raise link.error(f"there is no node {node} in its network")
    for (node, point), (far, far_point) in ((one, other), (other, one)):
        if node not in devices:
            continue
        device = devices[node]
        if far in segments:
            for each in device.interfaces:
                if each.name == point:
                    each.on = far
        elif point in device.ports and far_point:
            device.ports[point] = (far, far_point)


def _lengthen(interface: ComingInterface, coming: Coming) -> None:
    """Give addresses the prefix length of their subnet; RFC 8346 has addresses only."""
    for index, (address, _) in enumerate(interface.addresses):
        interface.addresses[index] = address, _length_of(address, interface.on, coming)


def _length_of(address: Address, on: str, coming: Coming) -> int:
    for segment in coming.segments:
        for each in segment.prefixes if segment.name == on else ():
            if each.family is address.family and each.contains(address.value):
                return each.prefix_length
    return 30 if address.family is Family.IPV4 else 64
