"""The numbers and names that IANA assigns, as tables only; `service` gives them their meaning.

Sources: the IANA registries "Assigned Internet Protocol Numbers", "ICMP Parameters", "ICMPv6
Parameters", "Service Name and Transport Protocol Port Number Registry" and "Differentiated Services
Field Codepoints". Names are the registries' own in lower case; blanks and signs that the plan
language cannot have became hyphens. A second name for a number is the common one. A service is
given the transports that it really uses, which are fewer than the registry reserves.
"""

from __future__ import annotations

from collections.abc import Mapping
from functools import cache
from types import MappingProxyType
from typing import NamedTuple

from crossgate.core.model.plaintext import numeral

_PROTOCOLS = """
0 hopopt; 1 icmp; 2 igmp; 3 ggp; 4 ipv4; 5 st; 6 tcp; 7 cbt; 8 egp; 9 igp; 10 bbn-rcc-mon; 11
nvp-ii; 12 pup; 13 argus; 14 emcon; 15 xnet; 16 chaos; 17 udp; 18 mux; 19 dcn-meas; 20 hmp; 21 prm;
22 xns-idp; 23 trunk-1; 24 trunk-2; 25 leaf-1; 26 leaf-2; 27 rdp; 28 irtp; 29 iso-tp4; 30 netblt; 31
mfe-nsp; 32 merit-inp; 33 dccp; 34 3pc; 35 idpr; 36 xtp; 37 ddp; 38 idpr-cmtp; 39 tp++; 40 il; 41
ipv6; 42 sdrp; 43 ipv6-route; 44 ipv6-frag; 45 idrp; 46 rsvp; 47 gre; 48 dsr; 49 bna; 50 esp; 51 ah;
52 i-nlsp; 53 swipe; 54 narp; 55 min-ipv4 mobile; 56 tlsp; 57 skip; 58 ipv6-icmp icmpv6; 59
ipv6-nonxt; 60 ipv6-opts; 62 cftp; 64 sat-expak; 65 kryptolan; 66 rvd; 67 ippc; 69 sat-mon; 70 visa;
71 ipcv; 72 cpnx; 73 cphb; 74 wsn; 75 pvp; 76 br-sat-mon; 77 sun-nd; 78 wb-mon; 79 wb-expak; 80
iso-ip; 81 vmtp; 82 secure-vmtp; 83 vines; 84 iptm ttp; 85 nsfnet-igp; 86 dgp; 87 tcf; 88 eigrp; 89
ospf ospfigp; 90 sprite-rpc; 91 larp; 92 mtp; 93 ax.25; 94 ipip; 95 micp; 96 scc-sp; 97 etherip; 98
encap; 100 gmtp; 101 ifmp; 102 pnni; 103 pim; 104 aris; 105 scps; 106 qnx; 107 a-n; 108 ipcomp; 109
snp; 110 compaq-peer; 111 ipx-in-ip; 112 vrrp; 113 pgm; 115 l2tp; 116 ddx; 117 iatp; 118 stp; 119
srp; 120 uti; 121 smp; 122 sm; 123 ptp; 124 isis; 125 fire; 126 crtp; 127 crudp; 128 sscopmce; 129
iplt; 130 sps; 131 pipe; 132 sctp; 133 fc; 134 rsvp-e2e-ignore; 135 mobility-header; 136 udplite;
137 mpls-in-ip; 138 manet; 139 hip; 140 shim6; 141 wesp; 142 rohc; 143 ethernet; 144 aggfrag; 145
nsh; 146 homa; 147 bit-emu
"""

_SERVICES = """
tcpmux 1 tcp; echo 7 tcp udp; discard 9 tcp udp; systat 11 tcp; daytime 13 tcp udp; qotd 17 tcp udp;
chargen 19 tcp udp; ftp-data 20 tcp; ftp 21 tcp; ssh 22 tcp; telnet 23 tcp; smtp 25 tcp; time 37 tcp
udp; nicname 43 tcp; whois 43 tcp; tacacs 49 tcp; domain 53 tcp udp; dns 53 tcp udp; bootps 67 udp;
bootpc 68 udp; dhcp 67 udp; tftp 69 udp; gopher 70 tcp; finger 79 tcp; http 80 tcp; www 80 tcp;
kerberos 88 tcp udp; iso-tsap 102 tcp; acr-nema 104 tcp; pop3 110 tcp; sunrpc 111 tcp udp; auth 113
tcp; ident 113 tcp; nntp 119 tcp; ntp 123 udp; epmap 135 tcp; netbios-ns 137 udp; netbios-dgm 138
udp; netbios-ssn 139 tcp; imap 143 tcp; snmp 161 udp; snmptrap 162 udp; xdmcp 177 udp; bgp 179 tcp;
irc 194 tcp; smux 199 tcp; z39-50 210 tcp; ptp-event 319 udp; ptp-general 320 udp; rpki-rtr 323 tcp;
ldap 389 tcp; svrloc 427 tcp udp; https 443 tcp; quic 443 udp; snpp 444 tcp; microsoft-ds 445 tcp;
kpasswd 464 tcp udp; urd 465 tcp; submissions 465 tcp; isakmp 500 udp; exec 512 tcp; biff 512 udp;
login 513 tcp; who 513 udp; shell 514 tcp; syslog 514 udp; printer 515 tcp; talk 517 udp; ntalk 518
udp; router 520 udp; rip 520 udp; ripng 521 udp; uucp 540 tcp; klogin 543 tcp; kshell 544 tcp;
dhcpv6-client 546 udp; dhcpv6-server 547 udp; afpovertcp 548 tcp; rtsp 554 tcp udp; nntps 563 tcp;
submission 587 tcp; asf-rmcp 623 udp; ipp 631 tcp; ldaps 636 tcp; ldp 646 tcp udp; msdp 639 tcp;
olsr 698 udp; kerberos-adm 749 tcp; iscsi 860 tcp; netconf-ssh 830 tcp; domain-s 853 tcp udp; rsync
873 tcp; ftps-data 989 tcp; ftps 990 tcp; telnets 992 tcp; imaps 993 tcp; pop3s 995 tcp; socks 1080
tcp; openvpn 1194 tcp udp; lotusnote 1352 tcp; ms-sql-s 1433 tcp; ms-sql-m 1434 udp; ncube-lm 1521
tcp; l2tp 1701 udp; l2f 1701 udp; pptp 1723 tcp; h323gatestat 1719 udp; h323hostcall 1720 tcp;
radius 1812 udp; radius-acct 1813 udp; mqtt 1883 tcp; ssdp 1900 udp; hsrp 1985 udp; cisco-sccp 2000
tcp; nfs 2049 tcp udp; radsec 2083 tcp; gtp-control 2123 udp; gtp-user 2152 udp; cvspserver 2401
tcp; docker-s 2376 tcp; etcd-client 2379 tcp; etcd-server 2380 tcp; mgcp-gateway 2427 udp;
mgcp-callagent 2727 udp; dict 2628 tcp; gpsd 2947 tcp; icpv2 3130 udp; isns 3205 tcp udp;
iscsi-target 3260 tcp; msft-gc 3268 tcp; msft-gc-ssl 3269 tcp; mysql 3306 tcp; ms-wbt-server 3389
tcp udp; stun 3478 tcp udp; turn 3478 tcp udp; nut 3493 tcp; distcc 3632 tcp; svn 3690 tcp;
bfd-control 3784 udp; bfd-echo 3785 udp; capwap-control 5246 udp; capwap-data 5247 udp; diameter
3868 tcp sctp; vxlan 4789 udp; geneve 6081 udp; ipfix 4739 tcp udp sctp; sieve 4190 tcp; epmd 4369
tcp; f5-iquery 4353 tcp; ntske 4460 tcp; ipsec-nat-t 4500 udp; iax 4569 udp; radmin-port 4899 tcp;
munin 4949 tcp; sip 5060 tcp udp sctp; sips 5061 tcp sctp; nat-pmp 5351 udp; mdns 5353 udp; llmnr
5355 tcp udp; turns 5349 tcp udp; stuns 5349 tcp udp; xmpp-client 5222 tcp; xmpp-server 5269 tcp;
postgresql 5432 tcp; nrpe 5666 tcp; nsca 5667 tcp; amqps 5671 tcp; amqp 5672 tcp; coap 5683 udp;
coaps 5684 udp; rfb 5900 tcp; vnc 5900 tcp; wsman 5985 tcp; wsmans 5986 tcp; x11 6000-6063 tcp;
redis 6379 tcp; syslog-tls 6514 tcp; openflow 6653 tcp; babel 6696 udp; ircs-u 6697 tcp; sflow 6343
udp; afs3-fileserver 7000 udp; http-alt 8080 tcp; puppet 8140 tcp; https-alt 8443 tcp; pcsync-https
8443 tcp; secure-mqtt 8883 tcp; gnmi-gnoi 9339 tcp; netconf-tls 6513 tcp; jetdirect 9100 tcp;
pdl-datastream 9100 tcp; bacula-dir 9101 tcp; bacula-fd 9102 tcp; bacula-sd 9103 tcp; git 9418 tcp;
tacacss 300 tcp; ndmp 10000 tcp; zabbix-agent 10050 tcp; zabbix-trapper 10051 tcp; amanda 10080 tcp;
dicom 11112 tcp; hkp 11371 tcp; memcache 11211 tcp; s1-control 36412 sctp; x2-control 36422 sctp;
ng-control 38412 sctp; xn-control 38422 sctp; m3ua 2905 sctp; m2ua 2904 sctp; m2pa 3565 sctp; mbap
502 tcp; mbap-s 802 tcp; opcua-tcp 4840 tcp; dnp 20000 tcp udp; ethernet-ip-2 44818 tcp udp;
ethernet-ip-1 2222 udp; iec-104 2404 tcp; bacnet 47808 udp; wireguard 51820 udp; teredo 3544 udp;
ws-discovery 3702 udp; twamp-control 862 tcp; owamp-control 861 tcp; couchdb 5984 tcp; mongodb 27017
tcp; xmlrpc-beep 602 tcp
"""

# TYPE name [second name] [: CODE name, CODE name ...]
_ICMP = """
0 echo-reply
3 destination-unreachable unreachable: 0 net-unreachable, 1 host-unreachable, 2 protocol-unreachable, 3 port-unreachable, 4 fragmentation-needed, 5 source-route-failed, 6 destination-network-unknown, 7 destination-host-unknown, 8 source-host-isolated, 9 network-prohibited, 10 host-prohibited, 11 network-unreachable-for-tos, 12 host-unreachable-for-tos, 13 administratively-prohibited, 14 host-precedence-violation, 15 precedence-cutoff-in-effect
4 source-quench
5 redirect: 0 redirect-for-network, 1 redirect-for-host, 2 redirect-for-tos-and-network, 3 redirect-for-tos-and-host
6 alternate-host-address: 0 alternate-address-for-host
8 echo-request echo
9 router-advertisement: 0 normal-router-advertisement, 16 does-not-route-common-traffic
10 router-solicitation router-selection
11 time-exceeded: 0 ttl-exceeded-in-transit, 1 fragment-reassembly-time-exceeded
12 parameter-problem: 0 pointer-indicates-the-error, 1 missing-a-required-option, 2 bad-length
13 timestamp timestamp-request
14 timestamp-reply
15 information-request
16 information-reply
17 address-mask-request
18 address-mask-reply
19 reserved-for-security
30 traceroute
31 datagram-conversion-error
32 mobile-host-redirect
33 ipv6-where-are-you
34 ipv6-i-am-here
35 mobile-registration-request
36 mobile-registration-reply
37 domain-name-request
38 domain-name-reply
39 skip
40 photuris: 0 bad-spi, 1 authentication-failed, 2 decompression-failed, 3 decryption-failed, 4 need-authentication, 5 need-authorization
41 experimental-mobility
42 extended-echo-request: 0 no-error
43 extended-echo-reply: 0 no-error, 1 malformed-query, 2 no-such-interface, 3 no-such-table-entry, 4 multiple-interfaces-satisfy-query
253 rfc3692-experiment-1
254 rfc3692-experiment-2
"""

_ICMPV6 = """
1 destination-unreachable unreachable: 0 no-route, 1 administratively-prohibited, 2 beyond-scope-of-source-address, 3 address-unreachable, 4 port-unreachable, 5 source-address-failed-policy, 6 reject-route, 7 error-in-source-routing-header, 8 headers-too-long, 9 error-in-p-route
2 packet-too-big: 0 packet-too-big
3 time-exceeded: 0 hop-limit-exceeded, 1 fragment-reassembly-time-exceeded
4 parameter-problem: 0 erroneous-header-field, 1 unrecognized-next-header, 2 unrecognized-ipv6-option, 3 incomplete-ipv6-header-chain, 4 sr-upper-layer-header-error, 5 unrecognized-next-header-by-intermediate-node, 6 extension-header-too-big, 7 extension-header-chain-too-long, 8 too-many-extension-headers, 9 too-many-options-in-extension-header, 10 option-too-big
100 private-experimentation-1
101 private-experimentation-2
127 reserved-for-error-expansion
128 echo-request echo
129 echo-reply
130 multicast-listener-query
131 multicast-listener-report
132 multicast-listener-done
133 router-solicitation
134 router-advertisement
135 neighbor-solicitation
136 neighbor-advertisement
137 redirect
138 router-renumbering: 0 router-renumbering-command, 1 router-renumbering-result, 255 sequence-number-reset
139 node-information-query: 0 subject-is-ipv6-address, 1 subject-is-name, 2 subject-is-ipv4-address
140 node-information-response: 0 successful-reply, 1 refuses-to-answer, 2 unknown-qtype
141 inverse-neighbor-discovery-solicitation
142 inverse-neighbor-discovery-advertisement
143 version-2-multicast-listener-report
144 home-agent-address-discovery-request
145 home-agent-address-discovery-reply
146 mobile-prefix-solicitation
147 mobile-prefix-advertisement
148 certification-path-solicitation
149 certification-path-advertisement
150 experimental-mobility
151 multicast-router-advertisement
152 multicast-router-solicitation
153 multicast-router-termination
154 fmipv6: 2 router-solicitation-for-proxy-advertisement, 3 proxy-router-advertisement
155 rpl-control: 0 dodag-information-solicitation, 1 dodag-information-object, 2 destination-advertisement-object, 3 destination-advertisement-object-acknowledgment
156 ilnpv6-locator-update
157 duplicate-address-request
158 duplicate-address-confirmation
159 mpl-control
160 extended-echo-request: 0 no-error
161 extended-echo-reply: 0 no-error, 1 malformed-query, 2 no-such-interface, 3 no-such-table-entry, 4 multiple-interfaces-satisfy-query
200 private-experimentation-3
201 private-experimentation-4
255 reserved-for-informational-expansion
"""

_DSCP = """
cs0 0; cs1 8; cs2 16; cs3 24; cs4 32; cs5 40; cs6 48; cs7 56; af11 10; af12 12; af13 14; af21 18;
af22 20; af23 22; af31 26; af32 28; af33 30; af41 34; af42 36; af43 38; ef 46; voice-admit 44; nqb
45; le 1; default 0; df 0
"""

FLAGS: Mapping[str, int] = MappingProxyType(
    {"FIN": 1, "SYN": 2, "RST": 4, "PSH": 8, "ACK": 16, "URG": 32, "ECE": 64, "CWR": 128}
)
"""TCP flags by name, as bits of the octet that holds them (RFC 9293 section 3.1)."""

ANSWERED: Mapping[int, Mapping[int, int]] = MappingProxyType(
    {
        1: {8: 0, 13: 14, 15: 16, 17: 18, 42: 43},
        58: {128: 129, 139: 140, 144: 145, 146: 147, 160: 161},
    }
)
"""By protocol (1 ICMP, 58 ICMPv6): the message types that are answered, with the type of the answer
(RFC 792, 950, 4443, 4620, 6275, 8335).
"""

ANSWERED_ON_LINK: Mapping[int, Mapping[int, int]] = MappingProxyType(
    {1: {10: 9}, 58: {133: 134, 135: 136, 141: 142}}
)
"""As `ANSWERED`, for messages that are answered only between two machines of one link (RFC 1256,
3122, 4861).
"""


class Mistaken(NamedTuple):
    """What a protocol's name really stands for, what people mistake it for, and how that is
    written.
    """

    is_really: str
    taken_for: str
    write: str


MISTAKEN: Mapping[str, Mistaken] = MappingProxyType(
    {
        "ipv4": Mistaken("IPv4 carried inside other packets", "everything in an ipv4 list", "ip"),
        "ipv6": Mistaken("IPv6 carried inside other packets", "everything in an ipv6 list", "ip"),
        "rdp": Mistaken(
            "the Reliable Data Protocol of RFC 908", "remote desktops", "ms-wbt-server"
        ),
        "l2tp": Mistaken("L2TP version 3 straight over IP", "L2TP over UDP", "udp/l2tp"),
        "ptp": Mistaken(
            "the Performance Transparency Protocol",
            "clocks that are set by IEEE 1588",
            "ptp-event,ptp-general",
        ),
    }
)
"""Protocols whose names are those of other, better known things."""
_PORTS_MEANT = MappingProxyType(
    {
        20: "ftp-data",
        21: "ftp",
        22: "ssh",
        23: "telnet",
        25: "smtp",
        53: "domain",
        67: "bootps",
        68: "bootpc",
        69: "tftp",
        80: "http",
        110: "pop3",
        123: "ntp",
        143: "imap",
        161: "snmp",
        162: "snmptrap",
        179: "bgp",
    }
)
"""Ports that everybody knows, and whose numbers as protocols nearly nobody speaks."""


SAID: Mapping[str, str] = MappingProxyType(
    {
        "all": "ip",
        "any": "ip",
        "cifs": "microsoft-ds",
        "dot": "tcp/domain-s",
        "echo-request": "ping",
        "ftp-control": "ftp",
        "ike": "isakmp",
        "imap4": "imap",
        "mdns-sd": "mdns",
        "mssql": "ms-sql-s",
        "nat-t": "ipsec-nat-t",
        "netbios": "netbios-ns,netbios-dgm,netbios-ssn",
        "netconf": "netconf-ssh",
        "oracle": "ncube-lm",
        "pop": "pop3",
        "postgres": "postgresql",
        "remote-desktop": "ms-wbt-server",
        "scp": "ssh",
        "sftp": "ssh",
        "smb": "microsoft-ds",
        "smtps": "submissions",
        "snmp-trap": "snmptrap",
        "traceroute": "udp/33434-33534",
        "web": "http,https",
        "winrm": "wsman,wsmans",
    }
)
"""What people say for a service that IANA calls otherwise, and how it is written here."""


def names_of_port(port: int) -> list[str]:
    """Return the services on a port, the first name for each transport."""
    found: dict[str, None] = {}
    taken = set[str]()
    for name, ((first, last), transports) in services().items():
        if first <= port <= last and not taken.issuperset(transports):
            taken.update(transports)
            found[name] = None
    return list(found)


def mistaken(token: str) -> Mistaken | None:
    """Return what a service token that is a protocol, by name or number, was most likely meant as;
    None where it is probably right.
    """
    if token in MISTAKEN:
        return MISTAKEN[token]
    number = protocols().get(token, numeral(token))
    if number is None or number not in _PORTS_MEANT:
        return None
    name = protocol_names().get(number, "")
    service = _PORTS_MEANT[number]
    return Mistaken(
        f"{name}, and no port" if name and name != token else "and no port",
        f"port {number}",
        service if service in services() else f"tcp/{number}",
    )


def mistaken_text(token: str) -> tuple[str, str] | None:
    """Return what is wrong with a token that was most likely meant otherwise, and what to write;
    None where it is probably right.
    """
    found = mistaken(token)
    if found is None:
        return None
    return (
        f"{token} is protocol {protocols().get(token, numeral(token))}, {found.is_really}",
        f"for {found.taken_for} write {found.write}",
    )


@cache
def protocols() -> Mapping[str, int]:
    """Return protocol numbers by keyword (IANA "Assigned Internet Protocol Numbers")."""
    rows = [row.split() for row in _PROTOCOLS.replace("\n", " ").split(";")]
    return MappingProxyType({name: int(number) for number, *names in rows for name in names})


@cache
def protocol_names() -> Mapping[int, str]:
    """Return protocol keywords by number."""
    return MappingProxyType({number: name for name, number in reversed(list(protocols().items()))})


@cache
def services() -> Mapping[str, tuple[tuple[int, int], tuple[str, ...]]]:
    """Return service names with their ports (first, last) and the transports that they use."""
    table = {}
    for row in _SERVICES.replace("\n", " ").split(";"):
        name, ports, *transports = row.split()
        first, _, last = ports.partition("-")
        table[name] = ((int(first), int(last or first)), tuple(transports))
    return MappingProxyType(table)


@cache
def icmp_types(protocol: int) -> Mapping[str, int]:
    """Return ICMP (protocol 1) or ICMPv6 (58) message types by name."""
    return MappingProxyType(
        {name: number for number, names, _ in _icmp_rows(protocol) for name in names}
    )


@cache
def icmp_codes(protocol: int) -> Mapping[int, Mapping[str, int]]:
    """Return, by message type, the codes that have names."""
    return MappingProxyType(
        {number: MappingProxyType(codes) for number, _, codes in _icmp_rows(protocol)}
    )


@cache
def _icmp_rows(protocol: int) -> tuple[tuple[int, tuple[str, ...], dict[str, int]], ...]:
    rows = []
    for line in (_ICMP if protocol == 1 else _ICMPV6).strip().splitlines():
        head, _, tail = line.partition(": ")
        number, *names = head.split()
        pairs = [pair.split() for pair in tail.split(",")] if tail else []
        rows.append((int(number), tuple(names), {name: int(code) for code, name in pairs}))
    return tuple(rows)


@cache
def dscp_names() -> Mapping[str, int]:
    """Return DSCP values (6 bits) by codepoint name."""
    rows = [row.split() for row in _DSCP.replace("\n", " ").split(";")]
    return MappingProxyType({name: int(value) for name, value in rows})
