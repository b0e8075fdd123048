"""The network's statements: subnets, outsides, devices (their lines are in `device_lines`), hosts
and shared gateways.

Each function reads one statement into the plan. What needs the whole network to be known (who else
has this address, where a port's cable ends) is checked afterwards, in `wiring`.
"""

from __future__ import annotations

from crossgate.core.model.address import Address, Family, Pattern
from crossgate.core.model.network import Device, Host, Point, Segment, SharedGateway
from crossgate.core.sets.meaning import WordKind, without
from crossgate.language.address_words import read_several
from crossgate.language.attached import (
    at_port,
    mac_word,
    named_segment,
    one_address,
    only_subnet,
    options_of,
    see_that_it_belongs,
    see_that_on_stands_before,
    subnet_prefix,
)
from crossgate.language.device_lines import DEVICE_LINES, PORT_LINE, port_range
from crossgate.language.names import Names
from crossgate.language.words import Words

_MAX_VLAN = 4094


def segment(words: Words, names: Names) -> None:
    """Read a `subnet` or an `outside` statement; what is excluded from an outside is read later
    (`outsides`).
    """
    prefixes: list[Pattern] = []
    if words.choice(("subnet", "outside")) == "outside":
        name = words.name("an outside")
        while words.peek() not in ("", "but"):
            prefixes.append(subnet_prefix(words))
        if words.accept("but"):
            names.pending_outsides[name] = words
        names.plan.segments[name] = Segment(name, tuple(prefixes), words.place, outside=True)
        return
    name = words.name("a subnet")
    vlan = None
    while (word := words.peek()) and word not in ("vlan", "isolated"):
        prefixes.append(subnet_prefix(words))
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


def device(words: Words, names: Names) -> None:
    """Read a `router` or a `switch` statement, with its block."""
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
        words.choice([row.keyword for row in DEVICE_LINES if owner.switch or row is not PORT_LINE])
        raise AssertionError
    if row.space is not None and len(words.words) > 1:
        for part in (row is PORT_LINE and port_range(words.words[1])) or [words.words[1]]:
            names.declared[row.space][f"{owner.name}.{part}"] = keyword
    row.read(words, names, owner)


_HOST_OPTIONS = ("on", "at", "gateway", "mac", "stateful")


def host(words: Words, names: Names) -> None:
    """Read a `host` statement; what stands behind its addresses may come in any order."""
    words.keyword("host")
    name = words.name("a host")
    own: list[Address] = []
    start = words.index
    while words.peek() not in (*_HOST_OPTIONS, ""):
        see_that_on_stands_before(words, names)
        own.append(one_address(words, "an address"))
    if not own:
        raise (
            words.missing("an address")
            if not words.peek()
            else words.error("a host needs an address before `on`", index=words.index)
        )
    on: Segment | None = None
    at: Point | None = None
    mac: int | None = None
    via: list[tuple[int, Address]] = []
    stateful = False
    for word in options_of(words, _HOST_OPTIONS, several="gateway"):
        match word:
            case "on":
                on = named_segment(words, names)
            case "at":
                at = at_port(words)
            case "mac":
                mac = mac_word(words)
            case "gateway":
                words.index += 1
                via.append((words.index, one_address(words, "the gateway's address")))
            case _:
                stateful = words.accept("stateful")
    on = on or only_subnet(words, names, own)
    words.end()
    for index, address in enumerate(own, start):
        see_that_it_belongs(words, index, address, on, names)
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
    gateways: dict[Family, Address] = {}
    for index, address in via:
        see_that_it_belongs(words, index, address, on, names)
        if address.family in gateways:
            raise words.error(f"{name} has an {address.family.label} gateway already", index=index)
        gateways[address.family] = address
    names.plan.hosts[name] = Host(
        name, tuple(own), on.name, at, tuple(gateways.values()), words.place, mac, stateful
    )


_MOST_VRID = 255


def gateway(words: Words, names: Names) -> None:
    """Read a `gateway` statement."""
    words.keyword("gateway")
    own: list[Address] = []
    start = words.index
    while words.peek() not in ("on", "by", ""):
        own.append(one_address(words, "the gateway's address"))
    if not own:
        raise words.missing("an address")
    on = named_segment(words, names) if words.peek() == "on" else only_subnet(words, names, own)
    if on.outside:
        raise words.error(f"{on.name} is an outside; gateways of the plan are on its subnets")
    for index, address in enumerate(own, start):
        see_that_it_belongs(words, index, address, on, names)
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
