"""The words of plans and answers, each explained in two sentences, for `crossgate help WORD` and
the documentation.
"""

from __future__ import annotations

from typing import NamedTuple

from crossgate.core.model.finding_kinds import KINDS


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

LISTS = {
    "list": Word(
        (
            "An access list: entries that are read from the top, of which the first that a packet "
            "matches decides. It does nothing until it is placed."
        ),
        "list kiosk-fence extended ipv4",
    ),
    "standard": Word(
        (
            "A list whose entries ask for the source address only. It belongs near the "
            "destination, "
            "since it cannot tell destinations apart."
        ),
        "list 12 standard ipv4",
    ),
    "extended": Word(
        "A list whose entries ask for service, source and destination.",
        "list kiosk-fence extended ipv4",
    ),
    "entry": Word(
        (
            "A line of a list: a number, an action, and the packets that it takes. Without a "
            "number "
            "it gets the next ten."
        ),
        "10 permit booking tickets to manifest",
    ),
    "permit": Word(
        "The packet goes on. In an expectation: the conversation gets through, there and back.",
        "10 permit https any to timetable",
    ),
    "deny": Word(
        "The packet is dropped without a word, so its sender waits and times out.",
        "20 deny ip any to terminal",
    ),
    "reject": Word(
        "The packet is dropped and its sender told at once, by ICMP: administratively prohibited.",
        "30 reject tcp/telnet any to any log",
    ),
    "otherwise": Word(
        "What a list does with packets that no entry takes. Where it is not written it is deny.",
        "otherwise deny",
    ),
    "off": Word(
        "An entry that stays in the file and is no part of the list.",
        "40 off permit ping tickets to servers",
    ),
    "during": Word(
        (
            "The entry is in force while the window is open; while it is shut, it is as if it were "
            "not there."
        ),
        "30 permit duty during night",
    ),
    "until": Word(
        "The last day of an entry, which is in force to its end; of a claim, which is not looked at "
        "after it; or of a list, which stands until somebody lifts it. check says when it is over.",
        "30 permit ssh duty to servers until 2027-03-31",
    ),
    "for": Word(
        "Who answers for an entry, a list or a claim; it changes nothing.",
        '30 permit ssh duty to servers until 2027-03-31 for "crane team"',
    ),
    "at most": Word(
        "The entry takes no more than so many new conversations a second or a minute, in all or "
        "from each source; what is beyond goes on to the next entry. "
        "It counts TCP segments with SYN and without ACK, and every packet without TCP flags.",
        "10 permit https any to timetable at most 50 a second from each source",
    ),
    "tls": Word(
        "The entry takes only conversations whose server's hello settles on one of these "
        "versions: 1.0 to 1.3, with commas, 1.2- for that one and later, -1.1 for that one and "
        "all before it. Only with TCP, in a list at a stateful device; as long as it is not "
        "settled, what may pass does.",
        "10 permit https any to timetable tls 1.2-",
    ),
    "cipher": Word(
        (
            "The entry takes only conversations whose server chooses one of these cipher suites, "
            "by "
            "IANA name or number."
        ),
        "10 permit tcp/443 any to manifest cipher TLS_AES_128_GCM_SHA256,0xC02F",
    ),
    "log": Word(
        (
            "The device writes down what the entry takes. It changes nothing of what becomes of "
            "the "
            "packet."
        ),
        "20 deny any log",
    ),
    "note": Word(
        (
            "A remark that belongs to the list and is shown with it. A # comment belongs to the "
            "file "
            "only."
        ),
        'note "Kiosks sell tickets, nothing else"',
    ),
    "ethernet": Word(
        (
            "A list that is asked about frames, at switch ports and hosts: by hardware addresses "
            "and "
            "what the frame carries. It is asked before the list for packets there."
        ),
        "list banned extended ethernet",
    ),
    "mac": Word(
        "A machine's hardware address, by which ethernet lists know it.",
        "host laptop 10.64.32.99 on berth-1 mac 00:00:5e:00:53:99",
    ),
    "broadcast": Word(
        "In an ethernet list: the address of all stations of a link, ff:ff:ff:ff:ff:ff.",
        "20 permit arp any to broadcast",
    ),
    "any": Word("Every address of the list's family.", "20 deny any log"),
    "wild": Word(
        (
            "A wildcard mask: where it has a 0 bit the address must match, where it has a 1 bit it "
            "need not. The 1 bits may stand anywhere."
        ),
        "20 permit 10.64.32.10 wild 0.0.3.0",
    ),
    "mask": Word(
        (
            "A netmask, the other way round: where it has a 1 bit the address must match. Its 1 "
            "bits "
            "stand together at the left."
        ),
        "10 permit 10.64.8.0 mask 255.255.252.0",
    ),
    "ip": Word(
        (
            "Every protocol of the list's family. A service with a port takes the protocol's name "
            "before it: tcp/443."
        ),
        "20 deny ip any to terminal",
    ),
    "source port": Word(
        (
            "The entry takes only packets from these ports of the sender. Answers come from a "
            "service's port."
        ),
        "permit udp any to office source port 53",
    ),
    "established": Word(
        (
            "TCP segments with ACK or RST, as all have but the one that opens a conversation. It "
            "trusts the sender's flags: a stateful device knows better."
        ),
        "20 permit tcp berth-1 to duty established",
    ),
    "flags": Word(
        "TCP flags that must be set, or not set behind a !.", "deny tcp any to any flags SYN,!ACK"
    ),
    "fragments": Word(
        (
            "The later fragments of a packet, which carry no ports. Entries with ports do not take "
            "them."
        ),
        "deny ip any to any fragments",
    ),
    "dscp": Word(
        "The packet's marking for its treatment on the way (RFC 2474), by number or by name.",
        "permit ip any to any dscp ef",
    ),
    "place": Word(
        "Says where a list stands and which way. A place has one list of a family each way.",
        "place kiosk-fence inbound on lighthouse.v80",
    ),
    "inbound": Word(
        "Into the device, through the interface, as seen from the device.",
        "place kiosk-fence inbound on lighthouse.v80",
    ),
    "outbound": Word(
        (
            "Out of the device, through the interface, as seen from the device. On a subnet: out "
            "of the subnet."
        ),
        "place 12 outbound on lighthouse.v160",
    ),
    "within": Word(
        "Between two machines of one subnet, as a switch or an access point can ask it. "
        "What devices send and get does not meet it.",
        "place between-kiosks within subnet tickets",
    ),
    "follow": Word(
        "A list placed on a host, or on a group for each host in it, follows the machine: it is "
        "asked wherever that is plugged in, inbound before all else that it sends, "
        "outbound behind all else that is sent to it.",
        "place camera-only inbound on group cameras",
    ),
    "itself": Word(
        (
            "A list that is asked for what is sent to the device's own addresses, inbound, or "
            "sent by it, outbound."
        ),
        "place duty-only inbound on lighthouse itself",
    ),
}

CLAIMS = {
    "expect": Word(
        (
            "What must hold, proved by `verify` for every packet that it speaks of. An edit that "
            "breaks it is refused unless it is made anyway."
        ),
        "expect deny ssh tickets to harbour",
    ),
    "keep": Word(
        (
            "An expect that protects what you must not lose. No edit breaks it unless you insist, "
            "and "
            "`check` calls it an error."
        ),
        'keep permit ssh duty to lighthouse "the way in"',
    ),
    "only": Word(
        "These services get through and nothing else does. Lines of `only` that overlap add up.",
        "expect only booking and domain tickets to servers",
    ),
    "elsewhere": Word(
        "In a line of `only`: every address off the source's own subnets.",
        "expect only nothing kiosk-1 to elsewhere",
    ),
    "nothing": Word(
        "In a line of `only`: no service at all.", "expect only nothing gate-1 to elsewhere"
    ),
    "by": Word(
        "Pins which line must decide: a list and an entry's number, or otherwise.",
        "expect deny telnet kiosk-1 to manifest by kiosk-fence 30",
    ),
    "flooding": Word(
        (
            "The claim speaks of what is beyond every `at most` of the lists on the way; without "
            "it, "
            "of what is within."
        ),
        "expect deny https any to timetable flooding",
    ),
    "no tls": Word(
        (
            "The claim speaks of conversations that speak no TLS; with tls or cipher it speaks of "
            "those that settle on these; without any of them, of all."
        ),
        "expect half-open https any to timetable no tls",
    ),
    "over": Word(
        "Limits a claim to one family. Without it both are claimed, as far as both ends have them.",
        "expect permit domain kiosk-2 to resolver over ipv4",
    ),
    "at": Word(
        "The hour that a claim speaks of. Without it the claim must hold at every hour.",
        "expect permit ssh duty to crane-1 at mon 23:00",
    ),
    "accept": Word(
        "A finding that is meant to be, with the reason. It is told apart from the others.",
        'accept one-family in kiosk-port "fenced elsewhere"',
    ),
}

ANSWERS = {
    "permitted": Word(
        "Every packet of the conversation arrives, there and back, on every equal path.",
        "crossgate trace kiosk-1 manifest tcp/8443",
    ),
    "denied": Word(
        "A list stops the packet that opens the conversation.",
        "crossgate trace kiosk-1 crane-2 ping",
    ),
    "half-open": Word(
        (
            "The opening packet arrives and a list stops the answer, or it goes to another "
            "machine: "
            "the far end was reached, and the sender hears nothing."
        ),
        "crossgate trace duty camera-3 tcp/rtsp",
    ),
    "unroutable": Word(
        (
            "No list stopped it: there is no way to go. It keeps no claim, neither a permit nor a "
            "deny."
        ),
        "route default via 203.0.113.1",
    ),
    "varies": Word(
        "Equal paths end differently, and the device that makes the difference is named.",
        "crossgate trace a b https --all-paths",
    ),
    "shut": Word(
        "A window that is not open at the time asked about, or an entry bound to one.",
        "crossgate lists --at 'mon 12:00'",
    ),
    "open": Word(
        "A window at a time that lies in it, or an entry bound to one.",
        "crossgate lists --at 'mon 23:00'",
    ),
    "stray": Word(
        (
            "A packet that opens no conversation: a later fragment, a TCP segment that is no SYN, "
            "an "
            "ICMP message that nobody answers."
        ),
        "crossgate reach guests harbour --strays",
    ),
    "leg": Word(
        (
            "One packet of a conversation on its way: TCP has SYN, SYN+ACK and ACK, all else a "
            "request and its reply. Where a list asks for TLS the hellos follow, or data."
        ),
        "crossgate trace kiosk-1 manifest tcp/8443",
    ),
    "crossing": Word(
        (
            "A packet's passing of a place where a list could stand: an interface or a port, a "
            "subnet, a device itself."
        ),
        "crossgate points guest-1 crane-2",
    ),
    "tally": Word(
        (
            "How many packets each line decided in traces and verifications that were added up. It "
            "lies beside the plan."
        ),
        "crossgate verify --tally",
    ),
}

TRADE = {
    "vlan": Word(
        "The number of a subnet's own network at switches. It names the subnet and changes nothing "
        "of what becomes of packets; about vlan 80 tells which subnet it is.",
        "subnet tickets 10.64.8.0/22 vlan 80",
    ),
    "wildcard": Word(
        "The mask behind wild: a 0 bit must be as in the address, a 1 bit may be either. Its 1 "
        "bits need not stand together: 10.64.32.10 wild 0.0.3.0 is host 10 of four subnets.",
        "crossgate wild 10.64.32.10 wild 0.0.3.0 has 10.64.34.10",
    ),
    "netmask": Word(
        "The other way round than a wildcard: a 1 bit must be as in the address. It is written "
        "behind mask, in IPv4 alone, or as a prefix length.",
        "20 deny 10.64.40.0 mask 255.255.254.0",
    ),
    "hits": Word(
        "How many packets a line has decided: the tally counts them, in traces, proofs and "
        "replays with --tally. A line that never counts is met by nothing that was tried; "
        "check tells which nothing can meet.",
        "crossgate tally kiosk-fence",
    ),
    "implicit deny": Word(
        "What no entry of a list takes is denied, though nobody wrote that. Here it is the "
        "list's otherwise line, always shown, and it can be written as permit or reject.",
        "otherwise deny",
    ),
    "priority": Word(
        "Entries have numbers, and the lower one is read first; there is no other rank. What "
        "lines above take of a line, lists --taken tells.",
        "crossgate lists guest-fence --taken",
    ),
    "first match": Word(
        "The first entry that takes a packet decides about it, and nothing below is read. So an "
        "exception stands above the line that it is an exception from.",
        "crossgate entry add guest-fence 'permit ping guests to manifest' --before 20",
    ),
    "direction": Word(
        "Inbound is what comes into the device at that place, outbound what goes out of it, seen "
        "from the device and not from the machines. Packets that come from the hall are inbound "
        "at the hall's interface.",
        "place kiosk-fence inbound on lighthouse.v80",
    ),
    "dhcp": Word(
        "Leases begin with a packet from 0.0.0.0 to 255.255.255.255, UDP 68 to 67: a list that "
        "asks for the subnet's own addresses inbound stops it. The service is bootps (or dhcp) "
        "one way and bootpc the other.",
        "10 permit udp/bootps any to any source port 68",
    ),
    "translation": Word(
        "A device gives packets other addresses at an interface. A list sees the address that is "
        "on the wire where it stands; trace shows from where on it is another.",
        "translate tickets leaving sea as itself",
    ),
    "stateless": Word(
        "A device that remembers nothing judges each packet alone, answers too. So its lists need "
        "a line for the answers, or established.",
        "crossgate help half-open",
    ),
}

GROUPS = {
    "the network": NETWORK,
    "lists": LISTS,
    "what must hold": CLAIMS,
    "answers": ANSWERS,
    "words of the trade": TRADE,
}
"""All words but the findings', by what they are about."""


def explained() -> dict[str, Word]:
    """Return every word with its explanation; a finding's says what it means and how it is
    mended.
    """
    found = {word: told for group in GROUPS.values() for word, told in group.items()}
    for name, kind in KINDS.items():
        found[name] = Word(
            f"A finding of `check` ({kind.severity}): {kind.meaning}. To mend it: {kind.mend}.",
            kind.example,
        )
    return found
