"""The words of networks, with their meaning and an example."""

from __future__ import annotations

from typing import NamedTuple


class Word(NamedTuple):
    """A word: what it means, and lines of a plan or a command that use it."""

    meaning: str
    example: str


NETWORK = {
    "title": Word(
        "The plan's name, shown above its answers. A plan has one.",
        'title "Ternhaven ferry terminal"',
    ),
    "include": Word(
        (
            "Another file of the plan, as if its lines stood here. What is in it may be edited "
            "like "
            "the rest."
        ),
        'include "names.gate"',
    ),
    "subnet": Word(
        (
            "A range of addresses whose machines reach each other without a router. It has "
            "prefixes "
            "of either family and, if you like, a VLAN ID."
        ),
        "subnet tickets 10.64.8.0/22 2001:db8:64:8::/64 vlan 80",
    ),
    "outside": Word(
        (
            "What lies beyond the plan: with prefixes it is these, without it is all the rest. An "
            "outside is never a way between two devices of the plan."
        ),
        "outside internet",
    ),
    "router": Word(
        (
            "A device that forwards between its interfaces. It knows the subnets that it joins, "
            "and "
            "its routes."
        ),
        "router pier",
    ),
    "switch": Word(
        (
            "A device with ports, at which machines are plugged in; with interfaces it forwards "
            "as a "
            "router does. Lists may stand at its ports too."
        ),
        "switch lighthouse",
    ),
    "stateful": Word(
        (
            "A device that remembers the conversations it has let through: later packets and "
            "answers "
            "pass its lists unasked. A host may too: then its own lists do."
        ),
        "router breakwater stateful",
    ),
    "closed": Word(
        (
            "A device that lets nothing in where no list says so: what comes in at an interface "
            "without an inbound list of its family is denied."
        ),
        "router wall stateful closed",
    ),
    "isolated": Word(
        (
            "Machines at isolated ports, or of an isolated subnet, get no frame of each other: "
            "only "
            "of devices, and of ports that are not isolated."
        ),
        "port 3 isolated",
    ),
    "interface": Word(
        (
            "Where a device is on a subnet, with its address there. A list stands at it inbound or "
            "outbound."
        ),
        "interface v80 10.64.8.1/22 on tickets",
    ),
    "port": Word(
        (
            "A socket of a switch, joined by a cable to another switch's or to the machine that is "
            "said to be at it."
        ),
        "port 1 to jetty.24",
    ),
    "route": Word(
        "Where a device sends what is not on its subnets: a prefix, or default for all the rest.",
        "route default via 203.0.113.1",
    ),
    "cost": Word(
        "What computed routes count for leaving by an interface, 1 to 65535: the way with the "
        "least sum is taken. Where it is not written, it is 100 on a subnet with hosts or a "
        "shared "
        "gateway, so that packets of others go through it only where there is no other way, and 1 "
        "elsewhere.",
        "interface berth 10.64.255.1/30 on mole cost 10",
    ),
    "passive": Word(
        (
            "No device is a neighbour over this interface. Its subnet is reached as before, but "
            "nothing goes through it."
        ),
        "interface v80 10.64.8.1/22 on tickets passive",
    ),
    "translate": Word(
        "A stateful device gives packets another address at one of its interfaces, and takes that "
        "back in the answers; the first line that fits counts. A list sees what is on the wire "
        "where it stands: what comes in before it is translated, what goes out behind that.",
        "translate tickets leaving sea as itself",
    ),
    "leaving": Word(
        "What leaves by the interface gets one of these addresses as its source, and a port of "
        "the device's choice; itself is the interface's own. Nobody outside can open a "
        "conversation to who is hidden so.",
        "translate tickets leaving sea as 203.0.113.9",
    ),
    "both ways": Word(
        "The n-th address inside is the n-th one outside, for what leaves and for what comes in. "
        "In IPv6 it is one prefix for another of the same length.",
        "translate 10.64.32.0/28 both ways sea as 203.0.113.16/28",
    ),
    "entering": Word(
        "What comes in for the address, all of it or a service, goes to a machine inside, and to "
        "another port where one is written.",
        "translate 192.0.2.9 tcp/443 entering sea to manifest port 8443",
    ),
    "unchanged": Word(
        "Who is named goes as it is, above a line that would translate more.",
        "translate cranes leaving sea unchanged",
    ),
    "manage": Word(
        "How a device is managed, by NETCONF (RFC 6241): at an address or by a host of the plan, "
        "at a port, as a user. Without an address it is one of its own, without a user whoever runs "
        "the program. Never a secret: keys and the agent of SSH serve.",
        "manage netconf 10.64.20.1 user ops",
    ),
    "discard": Word(
        "Packets that a route takes end there, and nobody is told: unroutable.",
        "route 10.64.0.0/16 discard",
    ),
    "host": Word(
        (
            "A machine that packets are sent from and to. It has an address in its subnet and may "
            "be "
            "plugged in at a port."
        ),
        "host kiosk-1 10.64.9.21 on tickets at jetty.3",
    ),
    "gateway": Word(
        "On a host's line, the address that it hands packets to which leave its subnet; without "
        "one it is the subnet's shared gateway, else the device from which the way costs the "
        "least. "
        "As a statement, an address that several devices can answer for (VRRP): a claim holds "
        "only if it holds whichever of them answers.",
        "gateway 192.0.2.1 on quay by breakwater.quay, groyne.quay vrid 12",
    ),
    "leases": Word(
        "Addresses that machines of a subnet get for a time (DHCP), from a device there or from a "
        "host; names and time say whom they are told to ask. leases of SUBNET is a name for these "
        "addresses. check tells which list stops a lease, trace SUBNET lease shows the exchange.",
        "leases 10.64.8.50-10.64.8.99 on tickets by lighthouse names resolver",
    ),
    "but": Word(
        (
            "All of the words before it, without those behind: tickets but laptop, kiosk-2. Words "
            "with commas between are all of them together."
        ),
        "10 permit ssh staff but printer to any",
    ),
    "private": Word(
        (
            "The addresses that are nobody's on the internet (RFC 1918, RFC 6598, RFC 4193), "
            "unless "
            "the plan gives the name to something else."
        ),
        "outside internet but private",
    ),
    "group": Word(
        "A name for addresses: hosts, subnets, prefixes, ranges and other groups, or those of a table "
        'beside the plan: group banned from "banned.csv".',
        "group servers manifest, resolver",
    ),
    "use": Word(
        (
            "The services of a task as the trade has them: web, mail, names, time, management, "
            "voice, printing, files, directory. A plan has none of them unless it says so; "
            "about NAME shows what each is, and by which standards."
        ),
        "use services web names",
    ),
    "service": Word(
        "A name for protocols and ports, used in lists, expectations and traces alike.",
        "service booking tcp/8443, tcp/9443",
    ),
    "window": Word(
        (
            "A name for times: weekly hours, or from one date to another. Times are the devices' "
            "local ones."
        ),
        "window night daily 22:00-05:30",
    ),
    "client ports": Word(
        (
            "The source ports that clients choose from; 32768-65535 where it is not written. "
            "Claims "
            "speak of these."
        ),
        "client ports 49152-65535",
    ),
    "numbering": Word(
        (
            "Which list numbers say standard and which extended. Where it is not written, the "
            "trade's "
            "usual ranges hold."
        ),
        "numbering standard 1-99 extended 100-199",
    ),
    "zone": Word(
        (
            "The time zone of the devices' clocks: windows, --at and replayed traffic are on its "
            "wall "
            "clock. Where it is not written, the system's."
        ),
        "zone Europe/Lisbon",
    ),
    "routing": Word(
        (
            "How devices find their way: the shortest one by itself, or only by the routes that "
            "are "
            "written."
        ),
        "routing static",
    ),
}
