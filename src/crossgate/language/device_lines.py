"""The lines in the block of a router or a switch: interfaces, ports and routes."""

from __future__ import annotations

from crossgate.core.model.address import Address, Pattern, looks_like_address, prefix
from crossgate.core.model.named import NameSpace
from crossgate.core.model.network import (
    Device,
    Interface,
    InterfaceAddress,
    Point,
    Port,
    Route,
    Segment,
)
from crossgate.core.model.plaintext import numeral
from crossgate.language.attached import (
    ATTACHED,
    at_port,
    mac_word,
    named_segment,
    one_address,
    only_subnet,
    options_of,
    port_reference,
    see_that_it_belongs,
    see_that_on_stands_before,
    subnet_prefix,
    with_length,
)
from crossgate.language.cells import interface_cells, named_cells, route_cells, translate_cells
from crossgate.language.managing import manage
from crossgate.language.names import Names
from crossgate.language.row import Row
from crossgate.language.translating import translate
from crossgate.language.words import Words


def interface(words: Words, names: Names, owner: Device) -> None:
    """Read an `interface` line; what stands behind its addresses may come in any order."""
    words.keyword("interface")
    name = words.part("an interface")
    if name in owner.interfaces or name in owner.ports:
        raise words.error(f"{owner.name} has an interface or port {name} already")
    own: list[InterfaceAddress] = []
    starts: list[int] = []
    while words.peek() not in ("on", *ATTACHED, ""):
        see_that_on_stands_before(words, names)
        word = words.take("an address")
        starts.append(words.index - 1)
        own.append(
            InterfaceAddress(
                *with_length(words, word, "an address with its prefix length, as 10.64.8.1/22")
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
    on: Segment | None = None
    at: Point | None = None
    mac: int | None = None
    cost: int | None = None
    passive: int | None = None
    for word in options_of(words, ("on", *ATTACHED)):
        match word:
            case "on":
                on = named_segment(words, names)
            case "at":
                at = at_port(words)
            case "mac":
                mac = mac_word(words)
            case "cost":
                cost = _cost(words)
            case _:
                passive = words.index
                words.index += 1
    on = on or only_subnet(words, names, [each.address for each in own])
    words.end()
    if passive is not None and on.outside:
        raise words.error(
            f"{on.name} is an outside, over which no device is a neighbour; leave passive out",
            index=passive,
        )
    for index, each in zip(starts, own, strict=True):
        see_that_it_belongs(words, index, each.address, on, names)
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
    owner.interfaces[name] = Interface(
        owner.name, name, tuple(own), on.name, at, words.place, mac, cost, passive is not None
    )


_MOST_COST = 65_535
"""The highest cost of an interface (RFC 2328 appendix C.3)."""


def _cost(words: Words) -> int:
    """Take `cost NUMBER`, from 1 to 65535."""
    words.keyword("cost")
    expected = f"a cost from 1 to {_MOST_COST}"
    cost = words.number(expected, _MOST_COST)
    if not cost:
        raise words.error(f"0 is no cost; write {expected}")
    return cost


def port(words: Words, names: Names, owner: Device) -> None:
    """Read a `port` line, of one port or of a row of them (`1-24`)."""
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
        to = port_reference(words) if words.accept("to") else None
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
    """Read a `route` line."""
    words.keyword("route")
    word = words.take("a prefix or default")
    destination: Pattern | None = None
    if word != "default":
        words.index -= 1
        destination = subnet_prefix(words)
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
    """Take `via ADDRESS` or `discard`; return the next device's address, None where packets are
    dropped.
    """
    if looks_like_address(words.peek()):
        word = words.take("an address")
        raise words.error(f"expected via, not {word}; write via {word}", near=f"via {word}")
    if words.choice(("via", "discard")) == "via":
        return one_address(words, "the address of the next device")
    if destination is None:
        raise words.error(
            "default has no family where no next device is named; write 0.0.0.0/0 or ::/0"
        )
    words.end()
    return None


PORT_LINE = Row("port", "PART [to PORT | isolated]", port, named_cells, NameSpace.NAME)
DEVICE_LINES = (
    Row(
        "interface",
        "PART PREFIX+ (on SUBNET | at PORT | mac MAC | cost NUMBER | passive)*",
        interface,
        interface_cells,
        NameSpace.NAME,
    ),
    PORT_LINE,
    Row("route", "((PREFIX | default) via ADDRESS | PREFIX discard)", route, route_cells),
    Row(
        "translate",
        "(ENDS [SERVICE] leaving PART (as (itself | ENDS) | unchanged)"
        " | ENDS both ways PART as ENDS"
        " | (itself | ENDS) [SERVICE] entering PART to END [port NUMBER])",
        translate,
        translate_cells,
    ),
    Row("manage", "netconf [ADDRESS | HOST] [port NUMBER] [user USER]", manage),
)
"""What stands in the block of a router or a switch; only a switch has ports."""
