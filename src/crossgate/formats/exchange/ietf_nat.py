"""A device's translations as ietf-nat has them (RFC 8512): an instance for each interface.

- Leaving: a `policy` with `external-ip-address-pool` and, for the senders, `subscriber-match`. The
module does not say which of two policies comes first, so a rule is written with the senders that
the rules above it leave.

- Both ways, one to one: a static mapping without a protocol, of prefixes of the same length; for
IPv6 `nptv6-prefixes`.

- Entering, for a service: a static mapping with protocol and ports.

A static mapping also applies to what the machine opens itself; that is why a rule for all traffic
to one address cannot be expressed.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from typing import Any

from crossgate.core.model.address import (
    AddressError,
    Family,
    Pattern,
    everything,
    parse_block,
    range_patterns,
    single,
)
from crossgate.core.model.network import Device, Interface, Translation, TranslationKind
from crossgate.core.model.packet import PORT_PROTOCOLS, TCP, UDP
from crossgate.core.model.service import ServiceTerm, protocol_word
from crossgate.core.sets.addresses import AddressSet
from crossgate.formats.exchange.asked import ExportedDocument
from crossgate.formats.exchange.tree import Identity, Node
from crossgate.language.coming import Coming
from crossgate.language.coming_network import ComingDevice, ComingTranslation
from crossgate.language.plain_names import part_name
from crossgate.language.translating import MOST_PUBLIC

NAT = "ietf-nat"
_MOST_PORT, _MOST_ID = 65_535, (1 << 32) - 1
_TAKES_OTHERS_IN = {"eif": "anybody", "adf": "whoever was written to, from any port,"}
"""What filtering types mean for who may answer, where it is not the endpoint alone."""


# ---- Out


def nat_tree(device: Device, written: ExportedDocument) -> dict[str, Any]:
    """Return the instances of a device, nothing where it translates nothing."""
    instances: list[dict[str, Any]] = []
    for interface in device.interfaces.values():
        rules = [each for each in device.translations if each.point == interface.point]
        if rules:
            instances.append(_Instance(interface, rules, written).tree(len(instances) + 1))
    return {f"{NAT}:nat": {"instances": {"instance": instances}}} if instances else {}


class _Instance:
    """The rules of one interface, while they are being written."""

    def __init__(
        self, interface: Interface, rules: Sequence[Translation], written: ExportedDocument
    ) -> None:
        self._interface, self._rules, self._written = interface, rules, written
        self._policies: list[dict[str, Any]] = []
        self._mappings: list[dict[str, Any]] = []
        self._pools = 0
        self._above = {family: AddressSet.of(family, ()) for family in Family}
        self._partly = {family: AddressSet.of(family, ()) for family in Family}
        """The senders of the rules above, of all that they send and of some services."""

    def tree(self, number: int) -> dict[str, Any]:
        """Return the instance with this number as a tree."""
        for each in self._rules:
            if each.kind is TranslationKind.LEAVING:
                self._leaving(each)
            elif each.kind is TranslationKind.BOTH_WAYS:
                self._both_ways(each)
            else:
                self._entering(each)
        if not self._policies:
            self._policy({})  # the module tells the interface in a policy alone
        kind = "napt44" if self._pools else "basic-nat44" if self._mappings else "nptv6"
        found: dict[str, Any] = {
            "id": number,
            "name": str(self._interface.point),
            "type": Identity(NAT, kind),
            "policy": self._policies,
        }
        if self._mappings:
            found["mapping-table"] = {"mapping-entry": self._mappings}
        return found

    def _leaving(self, rule: Translation) -> None:
        senders = AddressSet.of(rule.family, rule.inside) - self._above[rule.family]
        protocols = []
        for term in rule.services or ():
            if term.ports is not None or term.icmp_type is not None or term.protocol is None:
                self._unsaid(rule, "is left out: a policy asks for protocols, and not for ports")
                return
            protocols.append({"protocol-id": term.protocol})
        if senders & self._partly[rule.family]:
            self._unsaid(rule, "comes below a rule for some services; the module has no order")
        covered = self._above if rule.services is None else self._partly
        covered[rule.family] |= senders
        if not rule.public or not senders:
            return
        policy: dict[str, Any] = {"external-ip-address-pool": []}
        for pool in rule.public:
            self._pools += 1
            policy["external-ip-address-pool"].append(
                {"pool-id": self._pools, "external-ip-pool": _prefix(pool)}
            )
        if protocols:
            policy["transport-protocols"] = protocols
        policy["subscriber-match"] = [
            {"match-id": number, "subnet": _prefix(each)}
            for number, each in enumerate(_prefixes(senders), 1)
        ]
        self._policy(policy | {"mapping-type": "edm", "filtering-type": "edf"})

    def _both_ways(self, rule: Translation) -> None:
        inside = AddressSet.of(rule.family, rule.inside)
        if inside & (self._above[rule.family] | self._partly[rule.family]):
            self._unsaid(rule, "comes below a rule for the same senders; the module has no order")
        self._above[rule.family] |= inside
        if rule.family is Family.IPV4:
            for own, public in rule.pairs():
                self._mapping(
                    {"internal-src-address": _prefix(own), "external-src-address": _prefix(public)}
                )
        else:
            self._written.told.append(
                f"{rule.point}: what an NPTv6 device does to a prefix keeps checksums as they are "
                "(RFC 6296), and this plan's does not: addresses differ in 16 bits"
            )
            pairs = [
                {"internal-ipv6-prefix": _prefix(own), "external-ipv6-prefix": _prefix(public)}
                for own, public in rule.pairs()
            ]
            self._policy({"nptv6-prefixes": pairs})

    def _entering(self, rule: Translation) -> None:
        if rule.family is Family.IPV6:
            self._unsaid(rule, "is left out: the module maps no single IPv6 address")
            return
        for term in rule.services or (ServiceTerm(),):
            if term.ports is None or term.protocol is None:
                self._unsaid(
                    rule,
                    "is left out: without ports, a mapping is of what the machine opens as well",
                )
                return
            if rule.port is not None and (len(term.ports) > 1 or len(set(term.ports[0])) > 1):
                self._unsaid(rule, "is left out: the module maps each port to one of its own")
                return
        for own, public in zip(rule.inside, rule.public, strict=True):
            for term in rule.services or ():
                for first, last in term.ports or ():
                    port = rule.port
                    self._mapping(
                        {
                            "transport-protocol": term.protocol,
                            "internal-src-address": _prefix(own),
                            "internal-src-port": _ports(port or first, port or last),
                            "external-src-address": _prefix(public),
                            "external-src-port": _ports(first, last),
                        }
                    )

    def _policy(self, policy: dict[str, Any]) -> None:
        realm = {"external-interface": self._interface.name}
        self._policies.append({"id": len(self._policies) + 1} | policy | {"external-realm": realm})

    def _mapping(self, mapping: dict[str, Any]) -> None:
        self._mappings.append({"index": len(self._mappings) + 1, "type": "static"} | mapping)

    def _unsaid(self, rule: Translation, why: str) -> None:
        self._written.unsaid.append(f"{rule.place}: translate {rule.text} {why}")


def _prefix(pattern: Pattern) -> str:
    length = pattern.family.bits - pattern.wildcard.bit_length()
    return f"{Pattern(pattern.family, pattern.first, 0)}/{length}"


def _prefixes(senders: AddressSet) -> Iterator[Pattern]:
    for first, end in senders.spans or ():
        yield from range_patterns(senders.family, first, end - 1)


def _ports(first: int, last: int) -> dict[str, int]:
    return {"start-port-number": first} | ({"end-port-number": last} if last > first else {})


# ---- In


def read_nat(nat: Node, device: ComingDevice, coming: Coming) -> None:
    """Read a device's translations. Raises `PlanError` for what the module does not allow."""
    device.translations = []
    instances = nat.get("instances")
    for each in instances.list("instance", key="id") if instances is not None else ():
        each.text("name", "")
        each.text("type", "")
        if each.text("enable", "true") == "false":
            coming.told.append(f"{each.path} is not enabled, and left out")
        else:
            _Reading(each, device, coming).read()
    for node in (nat, instances):
        coming.told += [f"{left} has no meaning here" for left in node.left()] if node else []


class _Reading:
    """An instance while it is being read. Mappings come before pools, since they are narrower."""

    def __init__(self, instance: Node, device: ComingDevice, coming: Coming) -> None:
        self._instance, self._device, self._coming = instance, device, coming
        self._rules: list[ComingTranslation] = []
        self._interfaces: dict[str, None] = {}

    def read(self) -> None:
        """Add the instance's rules to the device."""
        policies = self._instance.list("policy", key="id")
        for each in sorted(policies, key=lambda node: node.number("id", _MOST_ID) or 0):
            self._policy(each)
        pooled, self._rules = self._rules, []
        table = self._instance.get("mapping-table")
        for each in table.list("mapping-entry", key="index") if table is not None else ():
            self._mapping(each)
        for each in self._instance.list("nat-pass-through", key="id"):
            self._left_out(each, "no rule here asks for where a packet goes")
        self._tell_rest(self._instance)
        self._device.translations = [
            *(self._device.translations or ()),
            *dict.fromkeys(self._rules),
            *dict.fromkeys(pooled),
        ]

    def _policy(self, policy: Node) -> None:
        realm = policy.get("external-realm")
        interface = "" if realm is None else realm.text("external-interface", "")
        interface = self._known(policy, interface)
        pool = [
            _block(each, "external-ip-pool", Family.IPV4)
            for each in policy.list("external-ip-address-pool", key="pool-id")
        ]
        senders = [
            _block(each, "subnet") for each in policy.list("subscriber-match", key="match-id")
        ]
        protocols = [
            each.number("protocol-id", 255)
            for each in policy.list("transport-protocols", key="protocol-id")
        ]
        policy.text("mapping-type", "")
        others = _TAKES_OTHERS_IN.get(policy.text("filtering-type", ""))
        if others is not None and pool:
            self._coming.told.append(
                f"{policy.path}/filtering-type lets {others} in to a port that a conversation has "
                "opened; here only answers come in"
            )
        for each in policy.list("nptv6-prefixes", key="internal-ipv6-prefix"):
            own = _block(each, "internal-ipv6-prefix", Family.IPV6)
            self._one_to_one(
                each, own, _block(each, "external-ipv6-prefix", Family.IPV6), interface
            )
        self._tell_rest(policy)
        if not pool or not interface:
            return
        size = AddressSet.of(Family.IPV4, pool).size
        from_ipv4 = [each for each in senders if each.family is Family.IPV4]
        if size > MOST_PUBLIC:
            self._left_out(policy, f"its pool is {size:,} addresses, and at most {MOST_PUBLIC:,}")
        elif senders and not from_ipv4:
            self._left_out(policy, "IPv6 senders are hidden behind no IPv4 address here")
        else:
            source = tuple(from_ipv4) or (everything(Family.IPV4),)
            to = () if self._is_own(interface, pool) else tuple(pool)
            for protocol in protocols or (None,):
                word = "" if protocol is None else f" {protocol_word(protocol, Family.IPV4)}"
                words = f"{word} leaving {interface} as".lstrip()
                self._rules.append(ComingTranslation(source, words, to, "" if to else "itself"))

    def _mapping(self, mapping: Node) -> None:
        kind = mapping.text("type", "static")
        protocol = mapping.number("transport-protocol", 255)
        inside, public = (
            _block(mapping, f"{side}-src-address") if f"{side}-src-address" in mapping else None
            for side in ("internal", "external")
        )
        inner, outer = (
            self._port(mapping, f"{side}-src-port") for side in ("internal", "external")
        )
        self._tell_rest(mapping)
        if kind != "static":
            self._left_out(mapping, "it was made by a packet, and goes with its conversation")
        elif inside is None or public is None:
            self._left_out(mapping, "a source is mapped here, from one inside to one outside")
        elif inside.family is not public.family:
            self._left_out(mapping, "no address becomes one of the other family here")
        elif len(self._interfaces) != 1:
            several = ", ".join(self._interfaces) or "none"
            self._left_out(mapping, f"its instance has not one external interface, but {several}")
        elif protocol is None and outer is None and inner is None:
            self._one_to_one(mapping, inside, public, next(iter(self._interfaces)))
        elif inside.size > 1 or public.size > 1:
            self._left_out(mapping, "a service is led to one machine here")
        else:
            self._led_in(mapping, protocol, (public, outer), (inside, inner))

    def _led_in(
        self,
        mapping: Node,
        protocol: int | None,
        outside: tuple[Pattern, tuple[int, int] | None],
        inside: tuple[Pattern, tuple[int, int] | None],
    ) -> None:
        ports, own = outside[1], inside[1]
        if own not in (None, ports) and (ports is None or ports[0] != ports[1] or own[0] != own[1]):
            self._left_out(mapping, "only one port is led to another here")
            return
        asked = [TCP, UDP] if protocol is None else [protocol]
        if ports is not None and any(each not in PORT_PROTOCOLS for each in asked):
            self._left_out(mapping, f"protocol {protocol} has no ports")
            return
        self._coming.told.append(
            f"{mapping.path} is of what comes in; what {inside[0]} opens itself is translated by "
            "other rules alone"
        )
        to = f"port {own[0]}" if own not in (None, ports) and own is not None else ""
        for each in asked:
            term = ServiceTerm(each, None if ports is None else (ports,)).text(outside[0].family)
            words = f"{term} entering {next(iter(self._interfaces))} to"
            self._rules.append(ComingTranslation((outside[0],), words, (inside[0],), to))

    def _one_to_one(self, node: Node, inside: Pattern, public: Pattern, interface: str) -> None:
        if inside.size != public.size:
            self._left_out(node, f"{inside} and {public} are not of one size")
        elif interface:
            self._rules.append(ComingTranslation((inside,), f"both ways {interface} as", (public,)))

    def _known(self, policy: Node, interface: str) -> str:
        """Return the external interface by its name in the plan, "" where there is none."""
        if self._device.point(interface) is None:
            why = f"{interface} has no address" if interface else "no external interface is told"
            self._left_out(policy, why)
            return ""
        self._interfaces.setdefault(part_name(interface))
        return part_name(interface)

    def _is_own(self, interface: str, pool: Sequence[Pattern]) -> bool:
        own = [
            single(address)
            for each in self._device.interfaces
            if part_name(each.name) == interface
            for address, _ in each.addresses
            if address.family is Family.IPV4
        ]
        return own == pool

    def _port(self, mapping: Node, name: str) -> tuple[int, int] | None:
        node = mapping.get(name)
        if node is None:
            return None
        first = node.number("start-port-number", _MOST_PORT)
        if first is None:
            raise node.error("start-port-number is missing")
        last = node.number("end-port-number", _MOST_PORT, first)
        self._tell_rest(node)
        return first, first if last is None else last

    def _left_out(self, node: Node, why: str) -> None:
        self._coming.told.append(f"{node.path} is left out: {why}")

    def _tell_rest(self, node: Node) -> None:
        self._coming.told += [f"{left} has no meaning here" for left in node.left()]


def _block(node: Node, name: str, family: Family | None = None) -> Pattern:
    try:
        found = parse_block(node.text(name))
    except AddressError as error:
        raise node.error(f"{name}: {error.message}") from None
    if family is not None and found.family is not family:
        raise node.error(f"{name} is {found.family.label}; its module has {family.label} here")
    return found
