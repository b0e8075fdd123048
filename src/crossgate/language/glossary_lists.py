"""The words of access lists, with their meaning and an example."""

from __future__ import annotations

from crossgate.language.glossary_network import Word

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
