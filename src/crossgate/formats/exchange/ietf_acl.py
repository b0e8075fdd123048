"""Access lists written as RFC 8519 (module ietf-access-control-list), in JSON or XML, with the
interfaces that they are attached to (`ietf_acl_in` reads them).

An entry is an ace with its number as its name, or several aces: `30.2/6` is the second of six. A
comment follows the number, as far as 64 octets go. The module cannot express TCP flags except all
of them together, non-initial fragments, ports of protocols other than TCP and UDP, time windows,
and places that are not interfaces. It has no default action, so the otherwise line is always an
ace, the last one.
"""

from __future__ import annotations

from collections.abc import Iterable
from itertools import product
from typing import Any

from crossgate.core.lists.rules import Rule, closing, rules_of
from crossgate.core.model import iana
from crossgate.core.model.accesslist import AccessList, AnyList, DeciderKey
from crossgate.core.model.address import Family, Pattern
from crossgate.core.model.condition import Abilities
from crossgate.core.model.entry import Action
from crossgate.core.model.errors import PlanError
from crossgate.core.model.ethernet import MOST_MAC, EthernetList, format_mac
from crossgate.core.model.network import Direction, Point, PointKind
from crossgate.core.model.packet import TCP, UDP
from crossgate.core.model.plan import Plan
from crossgate.formats.exchange.asked import ExportedDocument, ExportWanted
from crossgate.formats.exchange.tree import Identity, json_of, xml_of

ACL, INTERFACES = "ietf-access-control-list", "ietf-interfaces"
_MOST_NAME = 64
_ABLE = Abilities(
    "ietf-acl",
    ported=(TCP, UDP),
    one_range=True,
    exact_flags=True,
    icmp_code=True,
    conditions=("dscp",),
    log=True,
    reject=True,
)
FORWARDING = {Action.PERMIT: "accept", Action.DENY: "drop", Action.REJECT: "reject"}
SIDES = {Direction.INBOUND: "ingress", Direction.OUTBOUND: "egress"}
L4 = {TCP: "tcp", UDP: "udp"}
BITS = ("cwr", "ece", "urg", "ack", "psh", "rst", "syn", "fin")
"""The TCP flags in the order of the module's bits."""
OTHERWISE = "otherwise"


def write(wanted: ExportWanted) -> ExportedDocument:
    """Write lists as one document. Raises `PlanError` for a name that is too long."""
    written = ExportedDocument("")
    tree = acl_tree(wanted, written)
    ids = interface_ids(wanted)
    if ids:
        own = [interface_tree(wanted.plan, point, name) for point, name in ids.items()]
        tree = {f"{INTERFACES}:interfaces": {"interface": own}, **tree}
    written.text = xml_of(tree) if wanted.xml else json_of(tree)
    return written


def acl_tree(wanted: ExportWanted, written: ExportedDocument) -> dict[str, Any]:
    """Return the tree of lists and their attachment points; `written` gets what is left out."""
    acls: dict[str, Any] = {
        "acl": [
            _frame_acl(each, wanted, written)
            if isinstance(each, EthernetList)
            else _acl(each, wanted, written)
            for each in wanted.every_list
        ]
    }
    attached = _attachments(wanted, written)
    if attached:
        acls["attachment-points"] = {"interface": attached}
    return {f"{ACL}:acls": acls if wanted.every_list else {}}


def interface_ids(wanted: ExportWanted) -> dict[Point, str]:
    """Return the interface names to use for the places of lists: their own names where all belong
    to one device.
    """
    points = dict.fromkeys(
        each.point
        for each in wanted.places
        if each.point.kind in (PointKind.INTERFACE, PointKind.PORT)
    )
    alone = len({each.owner for each in points}) == 1
    return {each: each.part if alone else str(each) for each in points}


def interface_tree(plan: Plan, point: Point, name: str) -> dict[str, Any]:
    """Return an interface with its name and type (RFC 8343); one of a VLAN is known by its
    subnet.
    """
    segment = plan.segment_at(point)
    vlan = segment is not None and plan.devices[point.owner].switch and segment.vlan is not None
    return {
        "name": name,
        "type": Identity("iana-if-type", "l3ipvlan" if vlan else "ethernetCsmacd"),
    }


def _acl(
    access_list: AnyList[Any], wanted: ExportWanted, written: ExportedDocument
) -> dict[str, Any]:
    assert isinstance(access_list, AccessList)
    name = access_list.name
    if len(name) > _MOST_NAME:
        raise PlanError(
            f"list {name} has a name of {len(name)} characters, and RFC 8519 has at most "
            f"{_MOST_NAME}"
        )
    taken = rules_of(access_list, _ABLE, wanted.limit)
    tell(access_list, taken.unsaid, taken.off, written)
    if access_list.notes:
        written.told.append(
            f"list {name}: {_many(len(access_list.notes), 'note')} left out, since ietf-acl has "
            "no remarks"
        )
    cut = sum(len(_ace_name(each).encode()) > _MOST_NAME and each.part == 1 for each in taken.rules)
    if cut:
        written.told.append(
            f"list {name}: {_many(cut, 'comment')} cut, since the names of aces have at most "
            f"{_MOST_NAME} octets"
        )
    aces = [_ace(each, _cut(_ace_name(each)), access_list.family) for each in taken.rules]
    aces.append(_ace(closing(access_list), OTHERWISE, access_list.family))
    if wanted.hits is not None:
        counted = set()
        for rule, ace in zip((*taken.rules, None), aces, strict=True):
            number = None if rule is None else rule.number
            hits = 0 if number in counted else wanted.hits.get(DeciderKey(name, number), 0)
            ace["statistics"] = {"matched-packets": str(hits)}
            counted.add(number)
    return {
        "name": name,
        "type": Identity(ACL, f"{access_list.family.word}-acl-type"),
        "aces": {"ace": aces},
    }


def _frame_acl(
    own: EthernetList, wanted: ExportWanted, written: ExportedDocument
) -> dict[str, Any]:
    """Return an ethernet list with its `eth` matches; in a mask of the module, a 1 means that the
    bit must match.
    """
    if len(own.name) > _MOST_NAME:
        raise PlanError(
            f"list {own.name} has a name of {len(own.name)} characters, and RFC 8519 has at most "
            f"{_MOST_NAME}"
        )
    said = [each for each in own.entries if not each.off and each.window is None]
    tell(
        own,
        [
            (each, "ietf-acl has no time windows")
            for each in own.entries
            if not each.off and each.window is not None
        ],
        sum(each.off for each in own.entries),
        written,
    )
    if own.notes:
        written.told.append(
            f"list {own.name}: {_many(len(own.notes), 'note')} left out, since ietf-acl has no "
            "remarks"
        )
    aces = []
    for entry in said:
        for part, (source, destination) in enumerate(
            product(entry.source.patterns, entry.destination.patterns), 1
        ):
            parts = len(entry.source.patterns) * len(entry.destination.patterns)
            name = (
                f"{entry.number}"
                + (f".{part}/{parts}" if parts > 1 else "")
                + (f" {entry.comment}" if entry.comment and part == 1 else "")
            )
            ace: dict[str, Any] = {"name": _cut(name)}
            matched = _eth_ends(source, destination) | (
                {} if entry.ethertype is None else {"ethertype": _ethertype(entry.ethertype)}
            )
            actions: dict[str, Any] = {"forwarding": Identity(ACL, FORWARDING[entry.action])}
            if entry.log:
                actions["logging"] = Identity(ACL, "log-syslog")
            ace |= ({"matches": {"eth": matched}} if matched else {}) | {"actions": actions}
            if wanted.hits is not None:
                hits = wanted.hits.get(DeciderKey(own.name, entry.number), 0) if part == 1 else 0
                ace["statistics"] = {"matched-packets": str(hits)}
            aces.append(ace)
    last: dict[str, Any] = {
        "name": OTHERWISE,
        "actions": {"forwarding": Identity(ACL, FORWARDING[own.otherwise.action])},
    }
    if wanted.hits is not None:
        last["statistics"] = {
            "matched-packets": str(wanted.hits.get(DeciderKey(own.name, None), 0))
        }
    return {"name": own.name, "type": Identity(ACL, "eth-acl-type"), "aces": {"ace": [*aces, last]}}


def _eth_ends(source: tuple[int, int], destination: tuple[int, int]) -> dict[str, str]:
    found = {}
    for side, (value, wildcard) in (("destination", destination), ("source", source)):
        if wildcard != MOST_MAC:
            found[f"{side}-mac-address"] = format_mac(value)
            if wildcard:
                found[f"{side}-mac-address-mask"] = format_mac(wildcard ^ MOST_MAC)
    return found


ETHERTYPE_NAMES = {
    "ipv4": 0x0800,
    "arp": 0x0806,
    "wlan": 0x0842,
    "trill": 0x22F3,
    "srp": 0x22EA,
    "decnet": 0x6003,
    "rarp": 0x8035,
    "appletalk": 0x809B,
    "aarp": 0x80F3,
    "vlan": 0x8100,
    "ipx": 0x8137,
    "qnx": 0x8204,
    "ipv6": 0x86DD,
    "efc": 0x8808,
    "esp": 0x8809,
    "cobranet": 0x8819,
    "mpls-unicast": 0x8847,
    "mpls-multicast": 0x8848,
    "pppoe-discovery": 0x8863,
    "pppoe-session": 0x8864,
    "intel-ans": 0x886D,
    "jumbo-frames": 0x8870,
    "homeplug": 0x887B,
    "eap": 0x888E,
    "profinet": 0x8892,
    "hyperscsi": 0x889A,
    "aoe": 0x88A2,
    "ethercat": 0x88A4,
    "provider-bridging": 0x88A8,
    "ethernet-powerlink": 0x88AB,
    "goose": 0x88B8,
    "gse": 0x88B9,
    "sv": 0x88BA,
    "lldp": 0x88CC,
    "sercos": 0x88CD,
    "wsmp": 0x88DC,
    "homeplug-av-mme": 0x88E1,
    "mrp": 0x88E3,
    "macsec": 0x88E5,
    "pbb": 0x88E7,
    "cfm": 0x8902,
    "fcoe": 0x8906,
    "fcoe-ip": 0x8914,
    "roce": 0x8915,
    "tte": 0x891D,
    "hsr": 0x892F,
}
"""What frames carry, by the names of the module `ietf-ethertypes` (RFC 8519 section 4.3); others
are numbers.
"""


def _ethertype(number: int) -> str | int:
    return next((name for name, each in ETHERTYPE_NAMES.items() if each == number), number)


def tell(
    access_list: AnyList[Any], unsaid: Iterable[Any], off: int, written: ExportedDocument
) -> None:
    """Add to `written` what of a list could not be expressed, and how many of its entries are
    off.
    """
    for entry, why in unsaid:
        line = OTHERWISE if entry is None else str(entry.number)
        written.unsaid.append(f"list {access_list.name} {line}: {why}")
    if off:
        written.told.append(
            f"list {access_list.name}: {_many(off, 'entry', 'entries')} left out, since "
            f"{'it is' if off == 1 else 'they are'} off"
        )


def _many(number: int, one: str, many: str = "") -> str:
    return f"{number} {one} is" if number == 1 else f"{number} {many or one + 's'} are"


def _ace_name(rule: Rule) -> str:
    part = "" if rule.parts == 1 else f".{rule.part}/{rule.parts}"
    comment = f" {rule.comment}" if rule.comment and rule.part == 1 else ""
    return f"{rule.number}{part}{comment}"


def _cut(name: str) -> str:
    """Return a name cut to `_MOST_NAME` octets, so that it is short enough whether octets or
    characters are counted.
    """
    octets = name.encode()
    return (
        name
        if len(octets) <= _MOST_NAME
        else octets[: _MOST_NAME - len("…".encode())].decode(errors="ignore").rstrip() + "…"
    )


def _ace(rule: Rule, name: str, family: Family) -> dict[str, Any]:
    network: dict[str, Any] = {}
    if rule.dscp is not None:
        network["dscp"] = rule.dscp
    if rule.protocol is not None:
        network["protocol"] = rule.protocol
    for side, pattern in (("destination", rule.destination), ("source", rule.source)):
        if pattern.wildcard != family.mask:
            network[f"{side}-{family.word}-network"] = prefix_text(pattern)
    matches: dict[str, Any] = {family.word: network} if network else {}
    transport: dict[str, Any] = {}
    if rule.flags:
        transport["flags"] = " ".join(
            bit for bit in BITS if rule.flags[0].value & iana.FLAGS[bit.upper()]
        )
    for side, ports in (("source", rule.source_ports), ("destination", rule.destination_ports)):
        if ports is not None:
            first, last = ports[0]
            transport[f"{side}-port"] = (
                {"operator": "eq", "port": first}
                if first == last
                else {"lower-port": first, "upper-port": last}
            )
    if transport and rule.protocol is not None:
        matches[L4[rule.protocol]] = transport
    if rule.icmp_type is not None:
        matches["icmp"] = {"type": rule.icmp_type} | (
            {} if rule.icmp_code is None else {"code": rule.icmp_code}
        )
    actions: dict[str, Any] = {"forwarding": Identity(ACL, FORWARDING[rule.action])}
    if rule.log:
        actions["logging"] = Identity(ACL, "log-syslog")
    return {"name": name} | ({"matches": matches} if matches else {}) | {"actions": actions}


def prefix_text(pattern: Pattern) -> str:
    """Write a prefix with its length, also where it is one address."""
    text = str(pattern)
    return text if "/" in text else f"{text}/{pattern.family.bits}"


def _attachments(wanted: ExportWanted, written: ExportedDocument) -> list[dict[str, Any]]:
    ids = interface_ids(wanted)
    found: dict[Point, dict[str, Any]] = {}
    for each in wanted.places:
        if each.point not in ids:
            written.unsaid.append(
                f"list {each.access_list} {each.where}: ietf-acl attaches lists to interfaces only"
            )
            continue
        interface = found.setdefault(each.point, {"interface-id": ids[each.point]})
        sets = interface.setdefault(SIDES[each.direction], {"acl-sets": {"acl-set": []}})
        sets["acl-sets"]["acl-set"].append({"name": each.access_list})
    return list(found.values())
