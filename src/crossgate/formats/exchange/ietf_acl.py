"""Access lists of RFC 8519 (module ietf-access-control-list), in JSON or XML, with the interfaces that they are attached to.

An entry is an ace of its number, or several: `30.2/6` is the second of six. A comment follows the number, as far as 64 characters go.
What the module cannot say: TCP flags but all of them together, non-initial fragments, ports of other protocols than TCP and UDP, time
windows, places that are no interfaces. It has no default action, so the otherwise line is always an ace, the last one.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Iterable
from itertools import product
from typing import Any

from crossgate.core.lists.rules import ALL_FLAGS, Abilities, Rule, closing, rules_of
from crossgate.core.model import iana
from crossgate.core.model.accesslist import AccessList, Action, AnyList, DeciderKey
from crossgate.core.model.address import AddressError, Family, Pattern, everything, parse_block, parse_prefix
from crossgate.core.model.errors import PlanError
from crossgate.core.model.ethernet import BROADCAST, ETHERTYPES, MOST_MAC, EthernetList, format_mac, parse_mac
from crossgate.core.model.network import Direction, Point, PointKind
from crossgate.core.model.packet import MOST_PORT, TCP, UDP, icmp_of
from crossgate.core.model.plan import Plan
from crossgate.core.model.service import FlagTest, Ports
from crossgate.formats.exchange.asked import Given, Wanted, Written
from crossgate.formats.exchange.tree import Identity, Node, json_of, read_tree, xml_of
from crossgate.language.importing import Coming, ComingEntry, ComingList, ComingPlace

ACL, INTERFACES = "ietf-access-control-list", "ietf-interfaces"
_MOST_NAME = 64
_ABLE = Abilities("ietf-acl", ported=(TCP, UDP), one_range=True, exact_flags=True, icmp_code=True, dscp=True, log=True, reject=True)
_FORWARDING = {Action.PERMIT: "accept", Action.DENY: "drop", Action.REJECT: "reject"}
_ACTIONS = {name: action for action, name in _FORWARDING.items()}
_SIDES = {Direction.INBOUND: "ingress", Direction.OUTBOUND: "egress"}
_L3 = {family: family.word for family in Family}
_L4 = {TCP: "tcp", UDP: "udp"}
_BITS = ("cwr", "ece", "urg", "ack", "psh", "rst", "syn", "fin")
"""The TCP flags in the order of the module's bits."""
_NAMED = re.compile(r"(\d{1,10})(?:\.(\d+)/(\d+))?(?: +(.*))?", re.DOTALL)
OTHERWISE = "otherwise"


# ---- Out


def write(wanted: Wanted) -> Written:
    """Write lists as one document. Raises `PlanError` for a name that is too long."""
    written = Written("")
    tree = acl_tree(wanted, written)
    ids = interface_ids(wanted)
    if ids:
        own = [interface_tree(wanted.plan, point, name) for point, name in ids.items()]
        tree = {f"{INTERFACES}:interfaces": {"interface": own}, **tree}
    written.text = xml_of(tree) if wanted.xml else json_of(tree)
    return written


def acl_tree(wanted: Wanted, written: Written) -> dict[str, Any]:
    """Return the tree of lists and their attachment points, and tell in `written` what is left out of it."""
    acls: dict[str, Any] = {
        "acl": [
            _frame_acl(each, wanted, written) if isinstance(each, EthernetList) else _acl(each, wanted, written)
            for each in wanted.every_list
        ]
    }
    attached = _attachments(wanted, written)
    if attached:
        acls["attachment-points"] = {"interface": attached}
    return {f"{ACL}:acls": acls if wanted.every_list else {}}


def interface_ids(wanted: Wanted) -> dict[Point, str]:
    """Return what the interfaces are called at which lists stand: by their own names where all are one device's."""
    points = dict.fromkeys(each.point for each in wanted.places if each.point.kind in (PointKind.INTERFACE, PointKind.PORT))
    alone = len({each.owner for each in points}) == 1
    return {each: each.part if alone else str(each) for each in points}


def interface_tree(plan: Plan, point: Point, name: str) -> dict[str, Any]:
    """Return an interface with its name and type (RFC 8343); one of a VLAN is known by its subnet."""
    device = plan.devices[point.owner]
    on = device.interfaces[point.part].on if point.kind is PointKind.INTERFACE else None
    vlan = on is not None and device.switch and plan.segments[on].vlan is not None
    return {"name": name, "type": Identity("iana-if-type", "l3ipvlan" if vlan else "ethernetCsmacd")}


def _acl(access_list: AnyList[Any], wanted: Wanted, written: Written) -> dict[str, Any]:
    assert isinstance(access_list, AccessList)
    name = access_list.name
    if len(name) > _MOST_NAME:
        raise PlanError(f"list {name} has a name of {len(name)} characters, and RFC 8519 has at most {_MOST_NAME}")
    taken = rules_of(access_list, _ABLE, wanted.limit)
    tell(access_list, taken.unsaid, taken.off, written)
    if access_list.notes:
        written.told.append(f"list {name}: {_many(len(access_list.notes), 'note')} left out, since ietf-acl has no remarks")
    cut = sum(len(_ace_name(each)) > _MOST_NAME and each.part == 1 for each in taken.rules)
    if cut:
        written.told.append(f"list {name}: {_many(cut, 'comment')} cut, since the names of aces have at most {_MOST_NAME} characters")
    aces = [_ace(each, _cut(_ace_name(each)), access_list.family) for each in taken.rules]
    aces.append(_ace(closing(access_list), OTHERWISE, access_list.family))
    if wanted.hits is not None:
        counted = set()
        for rule, ace in zip((*taken.rules, None), aces, strict=True):
            number = None if rule is None else rule.number
            hits = 0 if number in counted else wanted.hits.get(DeciderKey(name, number), 0)
            ace["statistics"] = {"matched-packets": str(hits)}
            counted.add(number)
    return {"name": name, "type": Identity(ACL, f"{access_list.family.word}-acl-type"), "aces": {"ace": aces}}


def _frame_acl(own: EthernetList, wanted: Wanted, written: Written) -> dict[str, Any]:
    """Return an ethernet list with its `eth` matches; a mask has a 1 where the address must match."""
    if len(own.name) > _MOST_NAME:
        raise PlanError(f"list {own.name} has a name of {len(own.name)} characters, and RFC 8519 has at most {_MOST_NAME}")
    said = [each for each in own.entries if not each.off and each.window is None]
    tell(own, [(each, "ietf-acl has no time windows") for each in own.entries if not each.off and each.window is not None],
         sum(each.off for each in own.entries), written)  # fmt: skip
    if own.notes:
        written.told.append(f"list {own.name}: {_many(len(own.notes), 'note')} left out, since ietf-acl has no remarks")
    aces = []
    for entry in said:
        for part, (source, destination) in enumerate(product(entry.source.patterns, entry.destination.patterns), 1):
            parts = len(entry.source.patterns) * len(entry.destination.patterns)
            name = (
                f"{entry.number}" + (f".{part}/{parts}" if parts > 1 else "") + (f" {entry.comment}" if entry.comment and part == 1 else "")
            )
            ace: dict[str, Any] = {"name": _cut(name)}
            matched = _eth_ends(source, destination) | ({} if entry.ethertype is None else {"ethertype": _ethertype(entry.ethertype)})
            actions: dict[str, Any] = {"forwarding": Identity(ACL, _FORWARDING[entry.action])}
            if entry.log:
                actions["logging"] = Identity(ACL, "log-syslog")
            ace |= ({"matches": {"eth": matched}} if matched else {}) | {"actions": actions}
            if wanted.hits is not None:
                hits = wanted.hits.get(DeciderKey(own.name, entry.number), 0) if part == 1 else 0
                ace["statistics"] = {"matched-packets": str(hits)}
            aces.append(ace)
    last: dict[str, Any] = {"name": OTHERWISE, "actions": {"forwarding": Identity(ACL, _FORWARDING[own.otherwise.action])}}
    if wanted.hits is not None:
        last["statistics"] = {"matched-packets": str(wanted.hits.get(DeciderKey(own.name, None), 0))}
    return {"name": own.name, "type": Identity(ACL, "eth-acl-type"), "aces": {"ace": [*aces, last]}}


def _eth_ends(source: tuple[int, int], destination: tuple[int, int]) -> dict[str, str]:
    found = {}
    for side, (value, wildcard) in (("destination", destination), ("source", source)):
        if wildcard != MOST_MAC:
            found[f"{side}-mac-address"] = format_mac(value)
            if wildcard:
                found[f"{side}-mac-address-mask"] = format_mac(wildcard ^ MOST_MAC)
    return found


def _ethertype(number: int) -> str | int:
    return next((name for name, each in ETHERTYPES.items() if each == number), number)


def tell(access_list: AnyList[Any], unsaid: Iterable[Any], off: int, written: Written) -> None:
    """Tell what of a list could not be said, and how many of its entries are off."""
    for entry, why in unsaid:
        line = OTHERWISE if entry is None else str(entry.number)
        written.unsaid.append(f"list {access_list.name} {line}: {why}")
    if off:
        written.told.append(
            f"list {access_list.name}: {_many(off, 'entry', 'entries')} left out, since {'it is' if off == 1 else 'they are'} off"
        )


def _many(number: int, one: str, many: str = "") -> str:
    return f"{number} {one} is" if number == 1 else f"{number} {many or one + 's'} are"


def _ace_name(rule: Rule) -> str:
    part = "" if rule.parts == 1 else f".{rule.part}/{rule.parts}"
    comment = f" {rule.comment}" if rule.comment and rule.part == 1 else ""
    return f"{rule.number}{part}{comment}"


def _cut(name: str) -> str:
    return name if len(name) <= _MOST_NAME else name[: _MOST_NAME - 1].rstrip() + "…"


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
        transport["flags"] = " ".join(bit for bit in _BITS if rule.flags[0].value & iana.FLAGS[bit.upper()])
    for side, ports in (("source", rule.source_ports), ("destination", rule.destination_ports)):
        if ports is not None:
            first, last = ports[0]
            transport[f"{side}-port"] = {"operator": "eq", "port": first} if first == last else {"lower-port": first, "upper-port": last}
    if transport and rule.protocol is not None:
        matches[_L4[rule.protocol]] = transport
    if rule.icmp_type is not None:
        matches["icmp"] = {"type": rule.icmp_type} | ({} if rule.icmp_code is None else {"code": rule.icmp_code})
    actions: dict[str, Any] = {"forwarding": Identity(ACL, _FORWARDING[rule.action])}
    if rule.log:
        actions["logging"] = Identity(ACL, "log-syslog")
    return {"name": name} | ({"matches": matches} if matches else {}) | {"actions": actions}


def prefix_text(pattern: Pattern) -> str:
    """Write a prefix with its length, also where it is one address."""
    text = str(pattern)
    return text if "/" in text else f"{text}/{pattern.family.bits}"


def _attachments(wanted: Wanted, written: Written) -> list[dict[str, Any]]:
    ids = interface_ids(wanted)
    found: dict[Point, dict[str, Any]] = {}
    for each in wanted.places:
        if each.point not in ids:
            written.unsaid.append(f"list {each.access_list} {each.direction} on {each.point}: ietf-acl attaches lists to interfaces only")
            continue
        interface = found.setdefault(each.point, {"interface-id": ids[each.point]})
        sets = interface.setdefault(_SIDES[each.direction], {"acl-sets": {"acl-set": []}})
        sets["acl-sets"]["acl-set"].append({"name": each.access_list})
    return list(found.values())


# ---- In


def read(given: Given) -> Coming:
    """Read lists and where they are attached. Raises `PlanError` for what is no such document."""
    document = read_tree(given.path, given.data)
    coming = Coming(str(given.path))
    found = document.get(f"{ACL}:acls")
    document.get(f"{INTERFACES}:interfaces")  # only there so that the names below are known
    if found is None:
        there = ", ".join(each.split(" = ")[0].lstrip("/") for each in document.left()) or "nothing"
        raise PlanError(f"{given.path} has no {ACL}:acls (RFC 8519); it has {there}")
    others = [*document.left()]
    if f"{INTERFACES}:interfaces" in document and others:
        coming.told.append(
            f"only lists come in: {', '.join(each.lstrip('/') for each in others)} left out; crossgate import ietf brings in more"
        )
    else:
        coming.told += [f"{each} has no meaning here" for each in others]
    read_acls(found, given, coming, lambda text: point_of(given.plan, given.device, text))
    return coming


def read_acls(acls: Node, given: Given, coming: Coming, place: Callable[[str], Point | None]) -> None:
    """Read the lists of a document, and the places that they are attached to; `place` tells which an interface's name is."""
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
    """Read one list, or the two that it is in the two families."""
    kind = acl.identity("type", "")
    aces = acl.get("aces")
    read_aces = [_Ace(each) for each in aces.list("ace", key="name")] if aces else []
    families = {
        "ipv4-acl-type": [Family.IPV4], "mixed-eth-ipv4-acl-type": [Family.IPV4],
        "ipv6-acl-type": [Family.IPV6], "mixed-eth-ipv6-acl-type": [Family.IPV6],
        "": sorted({each.family for each in read_aces if each.family}) or [*Family], "mixed-eth-ipv4-ipv6-acl-type": [*Family],
    }.get(kind)  # fmt: skip
    if kind == "eth-acl-type":
        own, known = coming.new_list(acl.text("name"), None), _stations_named(given.plan)
        for ace in read_aces:
            ace.into_frames(own, known)
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
    """Make the last rule the otherwise line where it takes all that is left."""
    last = own.rules[-1] if own.rules else None
    assert own.family is not None
    every = everything(own.family)
    if last is not None and (last.source, last.destination) == (every, every) and last == closing_of(last):
        own.otherwise = last.action
        if not last.log and (last.number is None):
            own.rules.pop()
    elif given.otherwise is not None:
        own.otherwise = given.otherwise
    else:
        raise acl.error(_OPEN)


_OPEN = "no ace takes what is left, and RFC 8519 does not say what becomes of it; say so with --otherwise permit or deny"


def closing_of(rule: Rule) -> Rule:
    """Return a rule as it would be if it asked for nothing."""
    plain = Rule(rule.action, None, rule.source, rule.destination, log=rule.log, number=rule.number, comment=rule.comment)
    return plain._replace(part=rule.part, parts=rule.parts)


class _Ace:
    """An ace as it stands, read for either family."""

    def __init__(self, ace: Node) -> None:
        self._ace = ace
        self._matches = ace.get("matches")
        networks = [family for family, word in _L3.items() if self._matches is not None and word in self._matches]
        if len(networks) > 1:
            raise ace.error("matches has both ipv4 and ipv6, which exclude each other")
        self.family = networks[0] if networks else None

    def _actions(self) -> tuple[Node, Action]:
        actions = self._ace.get("actions")
        if actions is None:
            raise self._ace.error("actions is missing")
        action = _ACTIONS.get(actions.identity("forwarding"))
        if action is None:
            raise self._ace.error(f"the action {actions.text('forwarding')} is none of {', '.join(_ACTIONS)}")
        return actions, action

    def into_frames(self, own: ComingList, known: dict[int, str]) -> None:
        """Add the entry to an ethernet list; the last one without matches is its otherwise line."""
        ace = self._ace
        actions, action = self._actions()
        if action is Action.REJECT:
            action = Action.DENY
            own.note("reject of frames is deny here: nobody tells the sender of a frame")
        logged = actions.identity("logging", "log-none") != "log-none"
        eth = self._matches.get("eth") if self._matches is not None else None
        ends = [_stations(eth, side, known) for side in ("source", "destination")]
        carried = "any" if eth is None else eth.text("ethertype", "any")
        own.otherwise = None
        lost = [*(eth.left() if eth is not None else ()), *(self._matches.left() if self._matches is not None else ())]
        name, statistics = ace.text("name"), ace.get("statistics")
        hits = statistics.number("matched-packets", (1 << 64) - 1) if statistics is not None else None
        if not lost and (ends, carried, logged) == (["any", "any"], "any", False):
            own.otherwise = action
            own.count(OTHERWISE, hits or 0)
        else:
            named = _NAMED.fullmatch(name)
            comment = (named[4] or "") if named else name
            words = ["off"] * bool(lost) + [str(action), _carried(carried), ends[0], "to", ends[1]] + ["log"] * logged
            words += [f'"{" ".join(comment.replace(chr(34), chr(39)).split())}"'] if comment else []
            number = max((each.number for each in own.entries), default=0) // 10 * 10 + 10
            own.entries.append(ComingEntry(number, " ".join(words), hits or 0))
        for each in lost:
            own.note(f"an entry is off for this: {each} has no word here")
        for each in (*ace.left(), *actions.left()):
            own.note(f"{each} has no word here")

    def into(self, own: ComingList, family: Family) -> None:
        """Add the rule to a list, and what it asks that has no word here as notes."""
        ace = self._ace
        actions, action = self._actions()
        logging = actions.identity("logging", "log-none")
        every = everything(family)
        rule = Rule(action, None, every, every, log=logging != "log-none")
        lost: list[str] = []
        if self._matches is not None:
            rule = self._matched(rule, self._matches, family, lost)
        name = ace.text("name")
        named = _NAMED.fullmatch(name)
        if named:
            number, part, parts, comment = named.groups()
            rule = rule._replace(number=int(number), part=int(part or 1), parts=int(parts or 1), comment=comment or "")
        elif name != OTHERWISE:
            rule = rule._replace(comment=name)
        statistics = ace.get("statistics")
        hits = statistics.number("matched-packets", (1 << 64) - 1) if statistics is not None else None
        own.add(rule, lost, hits or 0, name)
        for each in (*ace.left(), *actions.left()):
            own.note(f"{each} has no word here")

    def _matched(self, rule: Rule, matches: Node, family: Family, lost: list[str]) -> Rule:
        network = matches.get(family.word)
        if network is not None:
            sides = [_prefix(network, f"{side}-{family.word}-network", family) for side in ("source", "destination")]
            rule = rule._replace(
                source=sides[0] or rule.source, destination=sides[1] or rule.destination, protocol=network.number("protocol", 255),
                dscp=network.number("dscp", 63),
            )  # fmt: skip
            lost += network.left()
        for number, word in _L4.items():
            transport = matches.get(word)
            if transport is not None:
                rule = _of_protocol(rule, number, transport)
                ports = [_ports(transport.get(f"{side}-port"), lost) for side in ("source", "destination")]
                rule = rule._replace(source_ports=ports[0], destination_ports=ports[1])
                if number == TCP and "flags" in transport:
                    rule = rule._replace(flags=(_flags(transport),))
                lost += transport.left()
        icmp = matches.get("icmp")
        if icmp is not None:
            rule = _of_protocol(rule, icmp_of(family), icmp)
            rule = rule._replace(icmp_type=icmp.number("type", 255), icmp_code=icmp.number("code", 255))
            lost += icmp.left()
            if rule.icmp_type is None and rule.icmp_code is not None:
                lost.append(f"{icmp.path}/code = {rule.icmp_code} without a type")
                rule = rule._replace(icmp_code=None)
        lost += matches.left()
        return rule


def _of_protocol(rule: Rule, protocol: int, node: Node) -> Rule:
    if rule.protocol not in (None, protocol):
        raise node.error(f"the ace asks for protocol {rule.protocol} too, which no packet here is; {protocol} is what belongs")
    return rule._replace(protocol=protocol)


def _stations_named(plan: Plan) -> dict[int, str]:
    """Return the machines of a plan by their hardware addresses, and the address of all."""
    found = {each.mac: name for name, each in plan.hosts.items() if each.mac is not None}
    own = ((each.mac, str(each.point)) for device in plan.devices.values() for each in device.interfaces.values())
    return {BROADCAST: "broadcast", **{mac: point for mac, point in own if mac is not None}, **found}


def _stations(eth: Node | None, side: str, known: dict[int, str]) -> str:
    """Return the hardware addresses of one side of a frame as an entry has them."""
    if eth is None or f"{side}-mac-address" not in eth:
        return "any"
    value, mask = parse_mac(eth.text(f"{side}-mac-address")), parse_mac(eth.text(f"{side}-mac-address-mask", format_mac(MOST_MAC)))
    wildcard = mask ^ MOST_MAC
    if wildcard == MOST_MAC:
        return "any"
    if wildcard:
        return f"{format_mac(value & mask)} wild {format_mac(wildcard)}"
    return known.get(value, format_mac(value))


def _carried(text: str) -> str:
    """Return an EtherType as an entry has it."""
    return f"0x{int(text):04x}" if text.isdecimal() and int(text) not in ETHERTYPES.values() else _names_of_types().get(text, text)


def _names_of_types() -> dict[str, str]:
    return {str(number): name for name, number in ETHERTYPES.items()}


def _prefix(network: Node, name: str, family: Family) -> Pattern | None:
    if name not in network:
        return None
    text = network.text(name)
    try:
        found, own = parse_block(text), parse_prefix(text)[0]
    except AddressError as error:
        raise network.error(f"{name}: {error.message}") from None
    if found.family is not family:
        raise network.error(f"{name} is {text}, which is no {family.label} prefix")
    if found.value != own.value:
        raise network.error(f"{name} is {text}, which has bits set beyond its length; as a prefix it is {found}")
    return found


def _ports(node: Node | None, lost: list[str]) -> Ports | None:
    """Read a port as a range or with an operator; what the module does not have is lost."""
    if node is None:
        return None
    lower, upper = node.number("lower-port", MOST_PORT), node.number("upper-port", MOST_PORT)
    port, operator = node.number("port", MOST_PORT), node.text("operator", "eq")
    lost += node.left()
    if lower is not None or upper is not None:
        if lower is None or upper is None or lower > upper:
            raise node.error("a range has a lower-port and an upper-port that is no less")
        return ((lower, upper),)
    if port is None:
        if any(True for _ in node.left()):
            return None
        raise node.error("neither a port nor a range stands here")
    found = {
        "eq": ((port, port),), "lte": ((0, port),), "gte": ((port, MOST_PORT),),
        "neq": tuple(each for each in ((0, port - 1), (port + 1, MOST_PORT)) if each[0] <= each[1]),
    }.get(operator)  # fmt: skip
    if found is None:
        raise node.error(f"the operator {operator} is none of eq, lte, gte, neq")
    return found


def _flags(transport: Node) -> FlagTest:
    words = transport.text("flags").split()
    unknown = [each for each in words if each not in _BITS]
    if unknown:
        raise transport.error(f"flags has {unknown[0]}, which is none of {' '.join(_BITS)}")
    return FlagTest(sum(iana.FLAGS[each.upper()] for each in dict.fromkeys(words)), ALL_FLAGS)


def _read_attachment(interface: Node, names: dict[str, list[ComingList]], place: Callable[[str], Point | None], coming: Coming) -> None:
    text = interface.text("interface-id")
    point = place(text)
    for direction, side in _SIDES.items():
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
            for statistics in each.list("ace-statistics", key="name"):
                for one in own:
                    one.count(statistics.text("name"), statistics.number("matched-packets", (1 << 64) - 1) or 0)
        if sets is not None:
            coming.told += [f"{left} has no meaning here" for node in (below, sets) if node is not None for left in node.left()]
    coming.told += [f"{each} has no meaning here" for each in interface.left()]


def point_of(plan: Plan, device: str | None, text: str) -> Point | None:
    """Return the interface or port that a document names: of the one device it is for, as DEVICE.NAME, or the only one of that name."""
    owners = [plan.devices[device]] if device is not None else [*plan.devices.values()]
    found = []
    for each in owners:
        for own in (text, text.removeprefix(f"{each.name}.")):
            found += [part[own].point for part in (each.interfaces, each.ports) if own in part]
    unique = list(dict.fromkeys(found))
    return unique[0] if len(unique) == 1 else None
