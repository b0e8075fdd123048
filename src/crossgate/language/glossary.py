"""The words of plans and answers, each explained in two sentences, for `crossgate help WORD` and
the documentation.
"""

from __future__ import annotations

from crossgate.core.model.finding_kinds import KINDS
from crossgate.language.glossary_lists import LISTS
from crossgate.language.glossary_network import NETWORK, Word

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
