"""Access lists of RFC 8519 read: aces as entries, with the interfaces that they are attached to
(`ietf_acl` writes them).
"""

from __future__ import annotations

import re
from collections.abc import Callable

from crossgate.core.lists.rules import Rule
from crossgate.core.model import iana
from crossgate.core.model.accesslist import MOST_NUMBER, Action
from crossgate.core.model.address import (
    AddressError,
    Family,
    Pattern,
    everything,
    parse_block,
    parse_prefix,
)
from crossgate.core.model.conditions import ALL_FLAGS
from crossgate.core.model.errors import PlanError, unknown
from crossgate.core.model.ethernet import (
    BROADCAST,
    ETHERTYPES,
    MOST_ETHERTYPE,
    MOST_MAC,
    MacError,
    format_mac,
    parse_mac,
)
from crossgate.core.model.network import Point
from crossgate.core.model.packet import MOST_PORT, TCP, icmp_of
from crossgate.core.model.plaintext import numeral, quotable
from crossgate.core.model.plan import Plan
from crossgate.core.model.service import FlagTest, Ports
from crossgate.formats.exchange.asked import Given
from crossgate.formats.exchange.ietf_acl import (
    ACL,
    BITS,
    ETHERTYPE_NAMES,
    FORWARDING,
    INTERFACES,
    L4,
    OTHERWISE,
    SIDES,
)
from crossgate.formats.exchange.tree import Node, read_tree
from crossgate.language.coming import Coming, ComingEntry, ComingList, ComingPlace

_ACTIONS = {name: action for action, name in FORWARDING.items()}
_L3 = {family: family.word for family in Family}
MOST_COUNT = (1 << 64) - 1
"""The most that a counter64 holds (RFC 6991)."""
NAMED_ACE = re.compile(r"(\d{1,10})(?:\.(\d+)/(\d+))?(?: +(.*))?", re.DOTALL)


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
    read_aces = [_Ace(each) for each in aces.list("ace", key="name")] if aces else []
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
        own, known = coming.new_list(acl.text("name"), None), _stations_named(given.plan)
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


class _Ace:
    """An ace, which can be read for either family."""

    def __init__(self, ace: Node) -> None:
        self._ace = ace
        self._matches = ace.get("matches")
        networks = [
            family
            for family, word in _L3.items()
            if self._matches is not None and self._matches.get(word) is not None
        ]
        if len(networks) > 1:
            raise ace.error("matches has both ipv4 and ipv6, which exclude each other")
        self.family = networks[0] if networks else None

    def _actions(self) -> tuple[Node, Action]:
        actions = self._ace.get("actions")
        if actions is None:
            raise self._ace.error("actions is missing")
        action = _ACTIONS.get(actions.identity("forwarding", ACL))
        if action is None:
            raise self._ace.error(
                f"the action {actions.text('forwarding')} is none of {', '.join(_ACTIONS)}"
            )
        return actions, action

    def into_frames(self, own: ComingList, known: dict[int, str], last: bool) -> None:
        """Add the entry to an ethernet list; the last one becomes its otherwise line where it takes
        all frames and logs none.
        """
        ace = self._ace
        actions, action = self._actions()
        if action is Action.REJECT:
            action = Action.DENY
            own.note("reject of frames is deny here: nobody tells the sender of a frame")
        logged = self._logged(actions, own)
        eth = self._matches.get("eth") if self._matches is not None else None
        ends = [_stations(eth, side, known) for side in ("source", "destination")]
        carried = _carried(eth)
        lost = [
            *(eth.left() if eth is not None else ()),
            *(self._matches.left() if self._matches is not None else ()),
        ]
        name, statistics = ace.text("name"), ace.get("statistics")
        hits = statistics.number("matched-packets", MOST_COUNT) if statistics is not None else None
        takes_all = not lost and (ends, carried) == (["any", "any"], "any")
        if takes_all:
            own.otherwise = action
        if not (takes_all and last and not logged):
            named = NAMED_ACE.fullmatch(name)
            comment = quotable((named[4] or "") if named else name)
            words = ["off"] * own.without(lost, action)
            words += [str(action), carried, ends[0], "to", ends[1]] + ["log"] * logged
            words += [f'"{comment}"'] if comment else []
            before = max((each.number for each in own.entries), default=0)
            number = (
                int(named[1])
                if named and before < int(named[1]) <= MOST_NUMBER
                else before // 10 * 10 + 10
            )
            own.entries.append(ComingEntry(number, " ".join(words), hits or 0))
        for each in (*ace.left(), *actions.left()):
            own.note(f"{each} has no word here")

    def into(self, own: ComingList, family: Family) -> None:
        """Add the rule to a list, with notes on what it asks that this language cannot say."""
        ace = self._ace
        actions, action = self._actions()
        every = everything(family)
        rule = Rule(action, None, every, every, log=self._logged(actions, own))
        lost: list[str] = []
        if self._matches is not None:
            rule = self._matched(rule, self._matches, family, lost, own)
        name = ace.text("name")
        named = NAMED_ACE.fullmatch(name)
        if named:
            number, part, parts, comment = named.groups()
            rule = rule._replace(
                number=int(number),
                part=int(part or 1),
                parts=int(parts or 1),
                comment=comment or "",
            )
        elif name != OTHERWISE:
            rule = rule._replace(comment=name)
        statistics = ace.get("statistics")
        hits = statistics.number("matched-packets", MOST_COUNT) if statistics is not None else None
        own.add(rule, lost, hits or 0, name)
        for each in (*ace.left(), *actions.left()):
            own.note(f"{each} has no word here")

    @staticmethod
    def _logged(actions: Node, own: ComingList) -> bool:
        """Whether an ace logs; a kind of logging that the module does not have is reported."""
        logging = actions.identity("logging", ACL, "log-none")
        if logging not in ("log-none", "log-syslog"):
            own.note(f"{actions.path}/logging = {logging} has no word here")
        return logging == "log-syslog"

    def _matched(
        self, rule: Rule, matches: Node, family: Family, lost: list[str], own: ComingList
    ) -> Rule:
        network = matches.get(family.word)
        if network is not None:
            sides = [
                _prefix(network, f"{side}-{family.word}-network", family, own)
                for side in ("source", "destination")
            ]
            rule = rule._replace(
                source=sides[0] or rule.source,
                destination=sides[1] or rule.destination,
                protocol=network.number("protocol", 255),
                dscp=network.number("dscp", 63),
            )
            lost += network.left()
        for number, word in L4.items():
            transport = matches.get(word)
            if transport is not None:
                rule = _of_protocol(rule, number, transport)
                ports = [
                    _ports(transport.get(f"{side}-port"), lost)
                    for side in ("source", "destination")
                ]
                rule = rule._replace(source_ports=ports[0], destination_ports=ports[1])
                if number == TCP and "flags" in transport:
                    rule = rule._replace(flags=(_flags(transport),))
                lost += transport.left()
        icmp = matches.get("icmp")
        if icmp is not None:
            rule = _of_protocol(rule, icmp_of(family), icmp)
            rule = rule._replace(
                icmp_type=icmp.number("type", 255), icmp_code=icmp.number("code", 255)
            )
            lost += icmp.left()
            if rule.icmp_type is None and rule.icmp_code is not None:
                lost.append(f"{icmp.path}/code = {rule.icmp_code} without a type")
                rule = rule._replace(icmp_code=None)
        lost += matches.left()
        return rule


def _of_protocol(rule: Rule, protocol: int, node: Node) -> Rule:
    if rule.protocol not in (None, protocol):
        raise node.error(
            f"the ace asks for protocol {rule.protocol} too, which no packet here is; {protocol} "
            "is what belongs"
        )
    return rule._replace(protocol=protocol)


def _stations_named(plan: Plan) -> dict[int, str]:
    """Return the machines of a plan by their hardware addresses, and the address of all."""
    found = {each.mac: name for name, each in plan.hosts.items() if each.mac is not None}
    own = (
        (each.mac, str(each.point))
        for device in plan.devices.values()
        for each in device.interfaces.values()
    )
    return {
        BROADCAST: "broadcast",
        **{mac: point for mac, point in own if mac is not None},
        **found,
    }


def _stations(eth: Node | None, side: str, known: dict[int, str]) -> str:
    """Return the hardware addresses at one side of a frame as an entry writes them."""
    if eth is None or f"{side}-mac-address" not in eth:
        return "any"
    try:
        value = parse_mac(eth.text(f"{side}-mac-address"))
        mask = parse_mac(eth.text(f"{side}-mac-address-mask", format_mac(MOST_MAC)))
    except MacError as error:
        raise eth.error(error.message) from None
    wildcard = mask ^ MOST_MAC
    if wildcard == MOST_MAC:
        return "any"
    if wildcard:
        return f"{format_mac(value & mask)} wild {format_mac(wildcard)}"
    return known.get(value, format_mac(value))


def _carried(eth: Node | None) -> str:
    """Return the contents of a frame as an entry writes them: a name of the language, or a number.
    Raises `PlanError` for an unknown name.
    """
    if eth is None or "ethertype" not in eth:
        return "any"
    text = eth.text("ethertype")
    number = ETHERTYPE_NAMES.get(text, numeral(text))
    if number is None or number > MOST_ETHERTYPE:
        raise eth.error(
            f"ethertype is {text}, which is neither a number up to {MOST_ETHERTYPE} nor a name of "
            "ietf-ethertypes (RFC 8519)"
        )
    return next((name for name, each in ETHERTYPES.items() if each == number), f"0x{number:04x}")


def _prefix(network: Node, name: str, family: Family, own: ComingList) -> Pattern | None:
    """Read a prefix; bits beyond its length are cleared and reported, as YANG's canonical form
    requires (RFC 6991, `ip-prefix`).
    """
    if name not in network:
        return None
    text = network.text(name)
    try:
        found, given = parse_block(text), parse_prefix(text)[0]
    except AddressError as error:
        raise network.error(f"{name}: {error.message}") from None
    if found.family is not family:
        raise network.error(f"{name} is {text}, which is no {family.label} prefix")
    if found.value != given.value:
        own.note(f"{network.path}/{name} = {text} is the prefix {found}")
    return found


def _ports(node: Node | None, lost: list[str]) -> Ports | None:
    """Read ports as a range or with an operator; what the module does not define is added to
    `lost`.
    """
    if node is None:
        return None
    lower, upper = node.number("lower-port", MOST_PORT), node.number("upper-port", MOST_PORT)
    port, operator = node.number("port", MOST_PORT), node.text("operator", "eq")
    lost += node.left()
    if (lower is not None or upper is not None) and (port is not None or "operator" in node):
        raise node.error("a range stands beside an operator, which exclude each other")
    if lower is not None or upper is not None:
        if lower is None or upper is None or lower > upper:
            raise node.error("a range has a lower-port and an upper-port that is no less")
        return ((lower, upper),)
    if port is None:
        if any(True for _ in node.left()):
            return None
        raise node.error("neither a port nor a range stands here")
    found = {
        "eq": ((port, port),),
        "lte": ((0, port),),
        "gte": ((port, MOST_PORT),),
        "neq": tuple(each for each in ((0, port - 1), (port + 1, MOST_PORT)) if each[0] <= each[1]),
    }.get(operator)
    if found is None:
        raise node.error(f"the operator {operator} is none of eq, lte, gte, neq")
    return found


def _flags(transport: Node) -> FlagTest:
    words = transport.text("flags").split()
    unknown = [each for each in words if each not in BITS]
    if unknown:
        raise transport.error(f"flags has {unknown[0]}, which is none of {' '.join(BITS)}")
    return FlagTest(sum(iana.FLAGS[each.upper()] for each in dict.fromkeys(words)), ALL_FLAGS)


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
