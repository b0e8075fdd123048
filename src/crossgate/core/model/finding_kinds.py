"""The kinds of findings that there are: what each means, how it is mended, an example."""

from __future__ import annotations

from enum import StrEnum
from typing import NamedTuple


class Severity(StrEnum):
    """How much a finding matters: a mistake, a probable mistake, or a remark."""

    ERROR = "error"
    WARNING = "warning"
    NOTE = "note"


class FindingKind(NamedTuple):
    """A kind of finding: how much it matters, what it means, how it is mended, and lines of a plan
    that show it. The function in `core.audit` that is marked with its name finds it.
    """

    severity: Severity
    meaning: str
    mend: str
    example: str


KINDS = {
    "never-reached": FindingKind(
        Severity.ERROR,
        "no packet gets as far as this entry: earlier ones take all of it, alone or together",
        "move it above what hides it, or drop it",
        "10 deny ip any to any; 20 permit https any to any",
    ),
    "no-effect": FindingKind(
        Severity.WARNING,
        (
            "the entry could go and no packet would be treated differently; one with log has its "
            "log "
            "to show for it"
        ),
        "drop it, or add log if it is there to be seen",
        "10 deny telnet any to any; otherwise deny",
    ),
    "mask-reversed": FindingKind(
        Severity.ERROR,
        "a netmask where a wildcard is meant, or the reverse",
        "write the other kind of mask, or a prefix",
        "10 permit ip 10.64.8.0 wild 255.255.252.0 to any",
    ),
    "subnet-missed": FindingKind(
        Severity.WARNING,
        "an address that begins like a subnet of the plan and is one bit wider or narrower than it",
        "write the subnet's name",
        "10 permit ip 10.64.8.0 wild 0.0.1.255 to any, where the subnet is 10.64.8.0/22",
    ),
    "protocol-meant": FindingKind(
        Severity.WARNING,
        "a protocol whose name people take for something else",
        "write the service that is meant",
        "10 permit rdp any to any, which is protocol 27 and no remote desktop",
    ),
    "transport-narrowed": FindingKind(
        Severity.NOTE,
        (
            "a service behind tcp/ or udp/ that is spoken over other transports too, which no "
            "other "
            "entry takes"
        ),
        "write the service's name alone for all of it",
        "10 permit udp/domain any to resolver",
    ),
    "unplaced": FindingKind(
        Severity.WARNING,
        "a list that nothing places",
        "place it, or drop it",
        "list spare standard ipv4",
    ),
    "nothing-permitted": FindingKind(
        Severity.WARNING,
        "a placed list that permits no packet at all: the closing permit was forgotten",
        "permit what may pass, or: otherwise permit",
        "10 deny telnet any to any, and no more",
    ),
    "too-broad": FindingKind(
        Severity.NOTE,
        "a permit for everything, above narrower entries or where all beside it is narrow",
        "name what is meant, or drop it",
        "10 permit ip any to any; 20 permit https any to manifest",
    ),
    "locked-out": FindingKind(
        Severity.ERROR,
        "a keep that does not hold",
        "what the finding names as needed",
        "keep permit ssh harbour to lighthouse",
    ),
    "wrong-side": FindingKind(
        Severity.WARNING,
        "no packet that can cross this place in this direction can match this entry",
        "swap source and destination, or place the list elsewhere or the other way",
        "10 permit https any to kiosks, inbound where the kiosks' own traffic comes in",
    ),
    "translated-away": FindingKind(
        Severity.WARNING,
        (
            "an entry that asks for an address which is another one where its list stands: a device "
            "translates it before, or only behind the list (RFC 2663)"
        ),
        "ask for the address that is seen there",
        "10 permit https any to booking, inbound where booking is still 203.0.113.9",
    ),
    "translation-unreturned": FindingKind(
        Severity.WARNING,
        "a translation whose packets arrive, and to which no answer finds back",
        "route its addresses to the device, or translate to others",
        "translate tickets leaving sea as 192.0.2.9, which is routed elsewhere",
    ),
    "translation-unused": FindingKind(
        Severity.NOTE,
        "a translation that no packet meets",
        "drop it, or move it above the line that takes all of it",
        "translate tickets leaving sea as 203.0.113.9 behind translate any leaving sea as itself",
    ),
    "standard-near-source": FindingKind(
        Severity.NOTE,
        (
            "a standard list where a subnet's machines leave it: what it stops, it stops on the "
            "way "
            "to everywhere"
        ),
        "place it near the destination, or write an extended list",
        "place 12 inbound on lighthouse.v80",
    ),
    "asked-twice": FindingKind(
        Severity.NOTE,
        (
            "a list that follows a machine, and the same again at the port where the machine is: "
            "each "
            "packet is asked twice"
        ),
        "lift the one at the port",
        "place camera-only inbound on host camera-1, and inbound on jetty.5 where camera-1 is",
    ),
    "unjoined": FindingKind(
        Severity.WARNING,
        "machines of one subnet at switches that no cable joins",
        "join the switches: port NAME to SWITCH.PORT",
        "two hosts on tickets, at hall.1 and at tower.1",
    ),
    "parts-apart": FindingKind(
        Severity.NOTE,
        "a part of the network that no device joins with the rest of it",
        "give a device interfaces in both",
        "subnet cargo 10.64.24.0/24, and no interface on it",
    ),
    "no-gateway": FindingKind(
        Severity.NOTE,
        (
            "a prefix of a subnet in which no device of it has an address: nothing leaves it or "
            "gets "
            "there by that family"
        ),
        "give an interface on the subnet an address in it, or drop the prefix",
        "subnet hall 10.64.8.0/22 2001:db8:64:8::/64, and at its only interface 10.64.8.1/22",
    ),
    "private-outside": FindingKind(
        Severity.NOTE,
        (
            "an outside that is all the rest has private addresses too, and a list speaks of some "
            "that no subnet has"
        ),
        "leave them out of it",
        "outside internet, and 10 deny ip any to 10.0.0.0/8",
    ),
    "route-unused": FindingKind(
        Severity.NOTE,
        "a static route that no packet takes: longer or better routes of its device have all of it",
        "drop it, or write a longer prefix",
        (
            "route 10.64.20.0/22 via 10.64.255.2, where computed routes lead to 10.64.20.0/24 and "
            "all "
            "the rest of it"
        ),
    ),
    "replies-blocked": FindingKind(
        Severity.WARNING,
        "a conversation that this entry permits is half-open, because a list stops the way back",
        "permit the answers where they are stopped, as: permit tcp any to any established",
        "20 permit rtsp office to cameras, and a list on the way back without its answers",
    ),
    "never-settled": FindingKind(
        Severity.WARNING,
        (
            "an entry that asks what TLS is spoken, of which no conversation gets as far as the "
            "server's hello at its device"
        ),
        "let the answers through, by the device where the list stands",
        "20 permit https any to booking tls 1.2-, and a list on the way back without its answers",
    ),
    "quic-unseen": FindingKind(
        Severity.NOTE,
        (
            "an entry that asks what TLS is spoken, beside which QUIC passes, that no such entry "
            "takes (RFC 9001)"
        ),
        "deny udp/443 first",
        "10 permit tcp/443 any to any tls 1.2-; 20 permit udp any to any",
    ),
    "other-half": FindingKind(
        Severity.NOTE,
        (
            "ports that are denied, and whose other half passes: the same service over TCP or UDP, "
            "QUIC beside HTTPS, ping beside ports"
        ),
        "deny the other half too, or accept it",
        "10 deny tcp/443 hall to any; 20 permit ip any to any",
    ),
    "names-round": FindingKind(
        Severity.NOTE,
        (
            "names that are denied to an outside, and asked over TLS or QUIC pass (RFC 7858, RFC "
            "9250)"
        ),
        "deny domain-s too, or accept it",
        "10 deny domain hall to any; 20 permit ip any to any",
    ),
    "proxy-round": FindingKind(
        Severity.NOTE,
        (
            "the web that is denied to an outside, and proxies at their usual ports there pass (RFC "
            "1928)"
        ),
        "deny tcp/1080,3128,8080 too, or accept it",
        "10 deny tcp/80,443 hall to any; 20 permit ip any to any",
    ),
    "mail-round": FindingKind(
        Severity.NOTE,
        "mail that is denied to an outside, and submission there passes (RFC 6409, RFC 8314)",
        "deny tcp/465,587 too, or accept it",
        "10 deny smtp hall to any; 20 permit ip any to any",
    ),
    "management-round": FindingKind(
        Severity.NOTE,
        (
            "management that is denied, and its unprotected twin passes: telnet beside ssh, http "
            "beside https, notifications beside requests"
        ),
        "deny the twin too, or accept it",
        "10 deny ssh hall to office; 20 permit ip any to any",
    ),
    "lease-blocked": FindingKind(
        Severity.ERROR,
        (
            "machines of a subnet get no lease: a list stops a message of it on every way (RFC 2131, "
            "RFC 8415); the first one has no source address yet"
        ),
        "permit what the finding names",
        "10 permit ip tickets to any, inbound at tickets; leases 10.64.8.50-10.64.8.99 on tickets by r",
    ),
    "renewal-blocked": FindingKind(
        Severity.WARNING,
        "machines get a lease and cannot renew it with its server (RFC 2131 section 4.4.5)",
        "permit what the finding names",
        "10 permit udp/dhcp 0.0.0.0 to 255.255.255.255, and leases by a host elsewhere",
    ),
    "names-blocked": FindingKind(
        Severity.WARNING,
        "machines with a lease cannot ask the resolver that it names",
        "what the finding names as needed",
        "10 permit https any to any; leases 10.64.8.50-10.64.8.99 on tickets by r names resolver",
    ),
    "time-blocked": FindingKind(
        Severity.WARNING,
        "machines with a lease cannot ask the clock that it names",
        "what the finding names as needed",
        "10 permit https any to any; leases 10.64.8.50-10.64.8.99 on tickets by r time clock",
    ),
    "second-connection": FindingKind(
        Severity.NOTE,
        (
            "a service that negotiates a second connection, which the same list stops: file "
            "transfer (RFC 959), telephony (RFC 3261)"
        ),
        "permit the range of ports that it negotiates",
        "10 permit ftp hall to server; otherwise deny",
    ),
    "bogus-source": FindingKind(
        Severity.NOTE,
        (
            "a list where an outside comes in that lets by sources which nobody there has (RFC 2827, "
            "RFC 6890)"
        ),
        "deny them first, or accept it",
        "10 permit ip any to any, inbound where an outside but private comes in",
    ),
    "spoofable": FindingKind(
        Severity.WARNING,
        (
            "an entry trusts a source address that can also be claimed from elsewhere: nothing on "
            "the "
            "way drops it (RFC 2827)"
        ),
        "where the others come in, permit only their own addresses",
        "10 permit ssh harbour to any",
    ),
    "neighbour-can-claim": FindingKind(
        Severity.NOTE,
        (
            "an entry trusts some machines of a subnet, whose addresses others there can take: "
            "no list where these are plugged in drops them"
        ),
        "at their ports, let by only who is there, or accept it",
        "10 permit ssh duty to any, where manifest is on the subnet of duty",
    ),
    "icmp6-needed": FindingKind(
        Severity.WARNING,
        (
            "an IPv6 list that stops ICMPv6 error messages which must not be dropped (RFC 4890 "
            "section 4.3.1)"
        ),
        "permit them any to any first",
        "10 permit tcp any to any; otherwise deny",
    ),
    "neighbour-blocked": FindingKind(
        Severity.WARNING,
        (
            "an IPv6 list at an interface or port that stops neighbour discovery of its own link "
            "(RFC "
            "4861, RFC 4890 section 4.4.1)"
        ),
        "permit icmp/133 to icmp/136 any to any first",
        "10 permit tcp any to any; otherwise deny, inbound at an interface",
    ),
    "arp-blocked": FindingKind(
        Severity.WARNING,
        (
            "an ethernet list that lets IPv4 by and stops the ARP without which no machine finds "
            "another (RFC 826)"
        ),
        "permit arp any to any",
        "10 permit ipv4 camera-1 to any, and no more, inbound on a port",
    ),
    "vrrp-blocked": FindingKind(
        Severity.WARNING,
        (
            "a list that keeps the devices of a shared gateway from hearing each other (VRRP, RFC "
            "9568): more than one of them will answer"
        ),
        "permit vrrp from the devices to 224.0.0.18, in IPv6 from fe80::/10 to ff02::12",
        "10 permit https any to any; otherwise deny, inbound at an interface that shares a gateway",
    ),
    "one-family": FindingKind(
        Severity.WARNING,
        "a place with a list for one family only, where both families pass",
        "write a list of the other family and place it there",
        "place 12 outbound on lighthouse.v20, with no IPv6 list beside it",
    ),
    "number-kind": FindingKind(
        Severity.NOTE,
        "a number that by the numbering says the other kind",
        "take a number of the list's own kind",
        "list 12 extended ipv4",
    ),
    "out-of-order": FindingKind(
        Severity.NOTE,
        "lines that do not stand in the order of their numbers, in which they are read",
        "move the line, or: crossgate tidy",
        "20 permit ip any to any above 10 deny ip guests to any",
    ),
    "window-never": FindingKind(
        Severity.WARNING,
        "an entry whose window is over",
        "drop it, or move the window",
        "during regatta, which was last year",
    ),
    "expired": FindingKind(
        Severity.WARNING,
        (
            "an entry that is out of force, a list that still stands, or a claim that is not looked "
            "at any more, since its last day is over"
        ),
        "move the day, or drop the line",
        "10 permit ssh any to duty until 2026-10-31",
    ),
    "expires-soon": FindingKind(
        Severity.NOTE,
        "an entry, a list or a claim whose last day comes within thirty days",
        "move the day if it is wanted longer",
        "10 permit ssh any to duty until 2026-12-24",
    ),
    "accept-unused": FindingKind(
        Severity.NOTE,
        "an accept line that no finding needs",
        "drop the line",
        'accept no-effect in 12 "...", once it is mended',
    ),
}
"""The findings that there are, by name, in the order in which they are looked for."""
