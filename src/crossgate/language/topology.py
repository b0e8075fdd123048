"""The network's statements: subnets, outsides, devices with their interfaces, ports and routes, and
hosts.

Each function reads one statement into the plan. What needs the whole network to be known (who else
has this address, where a port's cable ends) is checked afterwards, in `wiring`.
"""

from __future__ import annotations

from crossgate.core.model.address import (
    Address,
    AddressError,
    Family,
    Pattern,
    looks_like_address,
    parse_address,
    parse_prefix,
    prefix,
)
from crossgate.core.model.errors import PlanError
from crossgate.core.model.ethernet import MacError, is_group_mac, parse_mac
from crossgate.core.model.named import NameSpace
from crossgate.core.model.network import (
    Device,
    Host,
    Interface,
    InterfaceAddress,
    Point,
    PointKind,
    Port,
    Route,
    Segment,
    SharedGateway,
)
from crossgate.core.model.plaintext import numeral
from crossgate.core.sets.meaning import WordKind, without
from crossgate.language.address_words import read_several
from crossgate.language.cells import interface_cells, named_cells, route_cells, translate_cells
from crossgate.language.managing import manage
from crossgate.language.names import Names
from crossgate.language.row import Row
from crossgate.language.translating import translate
from crossgate.language.words import Words

_MAX_VLAN = 4094


def segment(words: Words, names: Names) -> None:
    """SEGMENT = "subnet" NAME 1*PREFIX ["vlan" ID] ["isolated"] | "outside" NAME *PREFIX ["but"
    1#WORD], which is read by `outsides`.
    """
    prefixes: list[Pattern] = []
    if words.choice(("subnet", "outside")) == "outside":
        name = words.name("an outside")
        while words.peek() not in ("", "but"):
            prefixes.append(_subnet_prefix(words))
        if words.accept("but"):
            names.pending_outsides[name] = words
        names.plan.segments[name] = Segment(name, tuple(prefixes), words.place, outside=True)
        return
    name = words.name("a subnet")
    vlan = None
    while (word := words.peek()) and word not in ("vlan", "isolated"):
        prefixes.append(_subnet_prefix(words))
    if not prefixes:
        raise (
            words.missing("a prefix, as 10.64.8.0/22")
            if not words.peek()
            else words.error(
                "a subnet needs a prefix before its vlan, as 10.64.8.0/22", index=words.index
            )
        )
    if words.accept("vlan"):
        vlan = words.number("a VLAN ID from 1 to 4094", _MAX_VLAN)
        if vlan == 0:
            raise words.error("0 is no VLAN ID: 1 to 4094")
    isolated = words.accept("isolated")
    words.end()
    names.plan.segments[name] = Segment(name, tuple(prefixes), words.place, vlan, isolated=isolated)


def outsides(names: Names) -> None:
    """Read what is excluded from outsides, once the names that it may use are known."""
    for name, words in names.pending_outsides.items():
        with names.gathering():
            own = names.plan.segments[name]
            start = words.index
            found, *_ = read_several(words, names.endpoints)
            words.end()
            if any(each.kind is WordKind.OUTSIDE for each in found):
                raise words.error_from(
                    start, "an outside has no address of another one; leave it out here"
                )
            left_out = tuple(dict.fromkeys(each for meaning in found for each in meaning.patterns))
            if own.prefixes and not without(own.prefixes, left_out):
                raise words.error_from(start, f"nothing is left of {name}")
            names.plan.segments[name] = own._replace(left_out=left_out)


def _subnet_prefix(words: Words) -> Pattern:
    word = words.take("a prefix, as 10.64.8.0/22")
    address, length = _with_length(words, word, "a prefix, as 10.64.8.0/22")
    block = prefix(address, length)
    if block.value != address.value:
        raise words.error(f"{word} has bits set behind its prefix length; write {block}")
    return block


def _with_length(words: Words, word: str, expected: str) -> tuple[Address, int]:
    if "/" not in word:
        raise _with_netmask(words, word) or words.error(f"expected {expected}, not {word}")
    try:
        return parse_prefix(word)
    except AddressError as error:
        raise words.error(str(error)) from None


def _with_netmask(words: Words, word: str) -> PlanError | None:
    """Return the error for an address with a netmask behind it, as other notations have it; None
    where there is none.
    """
    try:
        address, mask = parse_address(word), parse_address(words.peek())
    except AddressError:
        return None
    family = address.family
    block = Pattern(family, address.value & mask.value, ~mask.value & family.mask)
    if mask.family is not family or not block.is_prefix:
        return None
    if address.value and not mask.value:
        return None  # nobody means all addresses by one of them
    text = f"{address}/{block.prefix_length}"
    words.take("a netmask")
    return words.mended_from(words.index - 2, f"{word} {mask} is written {text}", text)


def device(words: Words, names: Names) -> None:
    """DEVICE = ("router" | "switch") NAME ["stateful"] ["closed"], with a block of `DEVICE_LINES`;
    in either order.
    """
    what = words.choice(("router", "switch"))
    name = words.name(f"a {what}")
    closed = words.accept("closed")
    stateful = words.accept("stateful")
    closed = closed or words.accept("closed")
    words.end()
    found = names.plan.devices[name] = Device(
        name, what == "switch", stateful, words.place, closed=closed
    )
    for line in words.block:
        with names.gathering():
            _device_line(Words(line), names, found)


def _device_line(words: Words, names: Names, owner: Device) -> None:
    names.lines[words.place] = words.line
    keyword = words.peek()
    row = next((row for row in DEVICE_LINES if row.keyword == keyword), None)
    if row is None:
        words.choice([row.keyword for row in DEVICE_LINES if owner.switch or row is not _PORT])
        raise AssertionError
    if row.space is not None and len(words.words) > 1:
        for part in (row is _PORT and port_range(words.words[1])) or [words.words[1]]:
            names.declared[row.space][f"{owner.name}.{part}"] = keyword
    row.read(words, names, owner)


def interface(words: Words, names: Names, owner: Device) -> None:
    """INTERFACE = "interface" NAME 1*(ADDRESS/LEN) ["on" SUBNET] ["at" SWITCH.PORT] ["mac" MAC]
    ["cost" NUMBER] ["passive"].

    What stands behind the subnet may come in any order.
    """
    words.keyword("interface")
    name = words.part("an interface")
    if name in owner.interfaces or name in owner.ports:
        raise words.error(f"{owner.name} has an interface or port {name} already")
    own: list[InterfaceAddress] = []
    starts: list[int] = []
    while words.peek() not in ("on", *_ATTACHED, ""):
        _see_that_on_stands_before(words, names)
        word = words.take("an address")
        starts.append(words.index - 1)
        own.append(
            InterfaceAddress(
                *_with_length(words, word, "an address with its prefix length, as 10.64.8.1/22")
            )
        )
    if not own:
        raise (
            words.missing("an address with its prefix length, as 10.64.8.1/22")
            if not words.peek()
            else words.error(
                "an interface needs an address before `on`, as 10.64.8.1/22", index=words.index
            )
        )
    on = _on(words, names, [each.address for each in own])
    for index, each in zip(starts, own, strict=True):
        _belongs(words, index, each.address, on, names)
        if (
            on.outside
            and on.prefixes
            and not any(
                block.covers(each.connected)
                for block in on.prefixes
                if block.family is each.address.family
            )
        ):
            raise words.error(
                (
                    f"{each.connected} reaches beyond {on.name}, which is "
                    f"{' and '.join(map(str, on.prefixes))}"
                ),
                index=index,
            )
        if not on.outside and each.connected not in on.prefixes:
            block = next(
                block
                for block in on.prefixes
                if block.contains(each.address.value) and block.family is each.address.family
            )
            raise words.error(
                f"{on.name} is {block}; write {each.address}/{block.prefix_length}", index=index
            )
    at = mac = cost = None
    passive = False
    written: set[str] = set()
    while words.peek() in _ATTACHED:
        if words.peek() in written:
            raise words.error(f"{words.peek()} is written twice", index=words.index)
        written.add(words.peek())
        at, mac, cost = at or _at(words), mac or _mac(words), cost or _cost(words)
        passive = passive or _passive(words, on)
    words.end()
    owner.interfaces[name] = Interface(
        owner.name, name, tuple(own), on.name, at, words.place, mac, cost, passive
    )


_ATTACHED = ("at", "mac", "cost", "passive")
"""What an interface's line may say behind its subnet."""
_MOST_COST = 65_535
"""The highest cost of an interface (RFC 2328 appendix C.3)."""


def _cost(words: Words) -> int | None:
    """COST = ["cost" NUMBER], of 1 to 65535."""
    if not words.accept("cost"):
        return None
    expected = f"a cost from 1 to {_MOST_COST}"
    cost = words.number(expected, _MOST_COST)
    if not cost:
        raise words.error(f"0 is no cost; write {expected}")
    return cost


def _passive(words: Words, on: Segment) -> bool:
    """PASSIVE = ["passive"], of an interface on a subnet."""
    if not words.accept("passive"):
        return False
    if on.outside:
        raise words.error(
            f"{on.name} is an outside, over which no device is a neighbour; leave passive out"
        )
    return True


def _on(words: Words, names: Names, own: list[Address]) -> Segment:
    """ON = ["on" SUBNET]; it may be left out where exactly one subnet has the addresses."""
    if words.peek() != "on":
        return _only_subnet(words, names, own)
    words.keyword("on")
    name = words.take("the subnet or outside that it is on")
    if name not in names.plan.segments:
        raise names.unknown(words, "subnet", name, names.plan.segments)
    return names.plan.segments[name]


def _see_that_on_stands_before(words: Words, names: Names) -> None:
    """Raise `PlanError` where the next word is a subnet, or `in` before one."""
    word = words.peek()
    if word in names.plan.segments or word == "in":
        meant = "on" if word == "in" else f"on {word}"
        words.take("a word")
        raise words.error(f"expected on, not {word}; write {meant}", near=meant)


def _only_subnet(words: Words, names: Names, own: list[Address]) -> Segment:
    """Return the only subnet that has all of some addresses."""
    found = [
        each
        for each in names.plan.segments.values()
        if not each.outside and all(map(each.holds, own))
    ]
    if len(found) == 1:
        return found[0]
    if words.peek() and words.peek() not in ("gateway", "by", "stateful", *_ATTACHED):
        words.keyword("on")
    if not found:
        raise words.missing(f"on SUBNET (no subnet has {' and '.join(map(str, own))})")
    raise words.missing(f"on SUBNET ({' and '.join(each.name for each in found)} have {own[0]})")


def _belongs(words: Words, index: int, address: Address, on: Segment, names: Names) -> None:
    """Check that an address may be on its subnet or outside."""
    if on.outside and not on.prefixes:
        other = next(
            (each for each in names.plan.segments.values() if each.outside and each.holds(address)),
            None,
        )
        if other is not None:
            raise words.error(
                f"{address} is in {other.name}, so it is not on {on.name}, which is all the rest",
                index=index,
            )
    elif on.outside and not on.holds(address):
        has = " and ".join(map(str, on.prefixes))
        raise words.error(
            (
                f"{address} is not in {on.name}, which is {has}; write its prefix behind outside "
                f"{on.name}"
            ),
            index=index,
        )
    elif not on.holds(address):
        of_family = [str(block) for block in on.prefixes if block.family is address.family]
        has = (
            f"which is {' and '.join(of_family)}"
            if of_family
            else f"which has no {address.family.label} prefix"
        )
        raise words.error(f"{address} is not in {on.name}, {has}", index=index)


def _at(words: Words) -> Point | None:
    """AT = ["at" SWITCH.PORT]."""
    return _port_reference(words) if words.accept("at") else None


def _mac(words: Words) -> int | None:
    """MAC = ["mac" 6OCTETS], of one station."""
    if not words.accept("mac"):
        return None
    word = words.take("a hardware address, as 00:00:5e:00:53:21")
    try:
        value = parse_mac(word)
    except MacError as error:
        raise words.error(str(error)) from None
    if is_group_mac(value) or not value:
        raise words.error(
            f"{word} is no address of one machine" + (": it is a group's" if value else "")
        )
    return value


def _port_reference(words: Words) -> Point:
    word = words.take("a port, as jetty.3")
    switch, dot, name = word.partition(".")
    if not (dot and switch and name):
        raise words.error(f"expected a port as SWITCH.PORT, not {word}")
    return Point(PointKind.PORT, switch, name)


def port(words: Words, names: Names, owner: Device) -> None:
    """PORT = "port" (NAME ["to" SWITCH.PORT] | FIRST-LAST) ["isolated"]."""
    words.keyword("port")
    if not owner.switch:
        raise words.error(
            f"{owner.name} is a router, and only a switch has ports; write an interface"
        )
    several = port_range(words.peek())
    if several:
        words.take("a port")
        if words.peek() == "to":
            words.index += 1
            raise words.error(
                f"a cable joins two ports, and {words.words[1]} is {len(several)}; write a line "
                "for the one that it is at"
            )
    isolated = False
    for name in several or [words.part("a port")]:
        if name in owner.ports or name in owner.interfaces:
            raise words.error(f"{owner.name} has an interface or port {name} already")
        to = _port_reference(words) if words.accept("to") else None
        isolated = isolated or words.accept("isolated")
        if isolated and to is not None:
            raise words.error(
                "a cable to another switch carries the frames of all, so its port is not "
                "isolated; isolate the machines' own"
            )
        words.end()
        owner.ports[name] = Port(owner.name, name, to, words.place, isolated)


_MOST_PORTS = 1_024
"""No switch has more ports in a row."""


def port_range(word: str) -> list[str]:
    """Return the ports that `1-24` names; nothing for a word that is one port's name."""
    first, last = (numeral(each) for each in (word.partition("-")[0], word.partition("-")[2]))
    if first is None or last is None or not first < last < first + _MOST_PORTS:
        return []
    return [str(number) for number in range(first, last + 1)]


def route(words: Words, names: Names, owner: Device) -> None:
    """ROUTE = "route" (PREFIX | "default") "via" ADDRESS / "route" PREFIX "discard"."""
    words.keyword("route")
    word = words.take("a prefix or default")
    destination: Pattern | None = None
    if word != "default":
        words.index -= 1
        destination = _subnet_prefix(words)
    via = _via(words, destination)
    if via is None:
        assert destination is not None
        owner.routes.append(Route(destination, None, words.place))
        return
    if destination is None:
        destination = prefix(via, 0)
    if destination.family is not via.family:
        raise words.error(
            f"{via} is {via.family.label} and the route is {destination.family.label}"
        )
    words.end()
    owner.routes.append(Route(destination, via, words.place))


def _via(words: Words, destination: Pattern | None) -> Address | None:
    """VIA = "via" ADDRESS / "discard"; return the next device's address, None where packets are
    dropped.
    """
    if looks_like_address(words.peek()):
        word = words.take("an address")
        raise words.error(f"expected via, not {word}; write via {word}", near=f"via {word}")
    if words.choice(("via", "discard")) == "via":
        return _address(words, "the address of the next device")
    if destination is None:
        raise words.error(
            "default has no family where no next device is named; write 0.0.0.0/0 or ::/0"
        )
    words.end()
    return None


def _address(words: Words, expected: str) -> Address:
    word = words.take(expected)
    try:
        return parse_address(word)
    except AddressError as error:
        alone = word.partition("/")[0]
        if alone != word and looks_like_address(alone):
            message = f"expected {expected} alone, not {word}; write {alone}"
            raise words.error(message, near=alone) from None
        raise words.error(str(error)) from None


def host(words: Words, names: Names) -> None:
    """HOST = "host" NAME 1*ADDRESS ["on" SUBNET] ["at" SWITCH.PORT] ["gateway" ADDRESS]... ["mac"
    MAC] ["stateful"].
    """
    words.keyword("host")
    name = words.name("a host")
    own: list[Address] = []
    start = words.index
    while words.peek() not in ("on", "at", "gateway", "mac", "stateful", ""):
        _see_that_on_stands_before(words, names)
        own.append(_address(words, "an address"))
    if not own:
        raise (
            words.missing("an address")
            if not words.peek()
            else words.error("a host needs an address before `on`", index=words.index)
        )
    on = _on(words, names, own)
    for index, address in enumerate(own, start):
        _belongs(words, index, address, on, names)
        if not on.outside:
            continue
        inside = next(
            (
                each.name
                for each in names.plan.segments.values()
                if each.holds(address) and not each.outside
            ),
            None,
        )
        if inside is not None:
            raise words.error(
                (
                    f"{address} is in {inside}, so it is not on {on.name}, which is all that no "
                    "subnet covers"
                ),
                index=index,
            )
    mac, at = _mac(words), _at(words)
    gateways: dict[Family, Address] = {}
    while words.peek() in ("gateway", "mac"):
        if words.peek() == "mac":
            if mac is not None:
                words.index += 1
                raise words.error(f"{name} has a hardware address already")
            mac = _mac(words)
            continue
        words.index += 1
        gateway = _address(words, "the gateway's address")
        _belongs(words, words.index - 1, gateway, on, names)
        if gateway.family in gateways:
            raise words.error(f"{name} has an {gateway.family.label} gateway already")
        gateways[gateway.family] = gateway
    stateful = words.accept("stateful")
    words.end()
    names.plan.hosts[name] = Host(
        name, tuple(own), on.name, at, tuple(gateways.values()), words.place, mac, stateful
    )


_MOST_VRID = 255


def gateway(words: Words, names: Names) -> None:
    """GATEWAY = "gateway" 1*ADDRESS ["on" SUBNET] "by" POINT 1*("," POINT) ["vrid" N]."""
    words.keyword("gateway")
    own: list[Address] = []
    start = words.index
    while words.peek() not in ("on", "by", ""):
        own.append(_address(words, "the gateway's address"))
    if not own:
        raise words.missing("an address")
    on = _on(words, names, own)
    if on.outside:
        raise words.error(f"{on.name} is an outside; gateways of the plan are on its subnets")
    for index, address in enumerate(own, start):
        _belongs(words, index, address, on, names)
    words.keyword("by")
    by: list[Point] = []
    while not by or words.accept(","):
        point = names.point(words, words.take("an interface, as lighthouse.v80"))
        interface = names.plan.devices[point.owner].interfaces.get(point.part)
        if interface is None or interface.on != on.name:
            raise words.error(f"{point} is no interface on {on.name}")
        for address in own:
            if not interface.in_family(address.family):
                raise words.error(
                    f"{point} has no {address.family.label} address, so it does not answer for "
                    f"{address}"
                )
        if any(each.owner == point.owner for each in by):
            raise words.error(
                f"{point.owner} stands twice; a gateway is shared by different devices"
            )
        by.append(point)
    if len(by) == 1:
        raise words.error(
            f"only {by[0].owner} answers for it; name a second interface behind a comma, or give "
            f"{by[0]} the address itself"
        )
    vrid = None
    if words.accept("vrid"):
        vrid = words.number("a virtual router's number from 1 to 255", _MOST_VRID)
        if vrid == 0:
            raise words.error("0 is no virtual router's number: 1 to 255")
    words.end()
    names.plan.gateways.append(SharedGateway(tuple(own), on.name, tuple(by), vrid, words.place))


_PORT = Row("port", port, named_cells, NameSpace.NAME)
DEVICE_LINES = (
    Row("interface", interface, interface_cells, NameSpace.NAME),
    _PORT,
    Row("route", route, route_cells),
    Row("translate", translate, translate_cells),
    Row("manage", manage),
)
"""What stands in the block of a router or a switch; only a switch has ports."""
