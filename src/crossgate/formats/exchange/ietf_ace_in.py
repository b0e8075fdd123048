"""One ace of RFC 8519, read as rules."""

from __future__ import annotations

import re

from crossgate.core.lists.rules import Rule
from crossgate.core.model import iana
from crossgate.core.model.address import (
    AddressError,
    Family,
    Pattern,
    everything,
    parse_block,
    parse_prefix,
)
from crossgate.core.model.conditions import ALL_FLAGS
from crossgate.core.model.entry import MOST_NUMBER, Action
from crossgate.core.model.ethernet import (
    BROADCAST,
    ETHERTYPES,
    MOST_ETHERTYPE,
    MOST_MAC,
    MacError,
    format_mac,
    parse_mac,
)
from crossgate.core.model.packet import MOST_PORT, TCP, icmp_of
from crossgate.core.model.plaintext import numeral, quotable
from crossgate.core.model.plan import Plan
from crossgate.core.model.service import FlagTest, Ports
from crossgate.formats.exchange.ietf_acl import (
    ACL,
    BITS,
    ETHERTYPE_NAMES,
    FORWARDING,
    L4,
    OTHERWISE,
)
from crossgate.formats.exchange.tree import Node
from crossgate.language.coming import ComingEntry, ComingList

_ACTIONS = {name: action for action, name in FORWARDING.items()}
_L3 = {family: family.word for family in Family}
MOST_COUNT = (1 << 64) - 1
"""The most that a counter64 holds (RFC 6991)."""
NAMED_ACE = re.compile(r"(\d{1,10})(?:\.(\d+)/(\d+))?(?: +(.*))?", re.DOTALL)


class Ace:
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


def stations_named(plan: Plan) -> dict[int, str]:
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
