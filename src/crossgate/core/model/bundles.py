"""Services that belong to one task, by common practice: `use services web mail` brings them into a
plan, and nothing else does.
"""

from __future__ import annotations

from typing import NamedTuple


class Bundle(NamedTuple):
    """The services of a task, as the plan language writes them, what each is for, and the standards
    behind them.
    """

    tokens: tuple[str, ...]
    source: str


BUNDLES = {
    "web": Bundle(
        ("tcp/80", "tcp/443", "udp/443"),
        "HTTP over TCP, TLS and QUIC: RFC 9110 section 4.2, RFC 9114",
    ),
    "mail": Bundle(
        ("tcp/25", "tcp/465", "tcp/587", "tcp/143", "tcp/993", "tcp/110", "tcp/995"),
        "SMTP, submission, IMAP and POP3: RFC 5321, RFC 6409, RFC 8314, RFC 9051, RFC 1939",
    ),
    "names": Bundle(
        ("udp/53", "tcp/53", "tcp/853", "udp/853"),
        "DNS over UDP, TCP, TLS and QUIC: RFC 1035, RFC 7766, RFC 7858, RFC 9250",
    ),
    "time": Bundle(("udp/123", "tcp/4460"), "NTP and its keys: RFC 5905, RFC 8915"),
    "management": Bundle(
        ("tcp/22", "tcp/830", "udp/161", "udp/162", "udp/514", "tcp/6514"),
        "SSH, NETCONF, SNMP and syslog: RFC 4253, RFC 6242, RFC 3417, RFC 5426, RFC 5425",
    ),
    "voice": Bundle(
        ("udp/5060", "tcp/5060", "tcp/5061", "udp/3478", "tcp/3478", "tcp/5349"),
        "SIP and STUN; media goes to ports that both ends agree on: RFC 3261, RFC 8489, RFC 3264",
    ),
    "printing": Bundle(
        ("tcp/631", "tcp/515", "tcp/9100"),
        "IPP, LPD and page descriptions: RFC 8010, RFC 1179, IANA pdl-datastream",
    ),
    "files": Bundle(
        ("tcp/2049", "tcp/111", "udp/111", "tcp/445", "tcp/21"),
        "NFS with its port mapper, SMB and FTP: RFC 8881, RFC 1833, IANA microsoft-ds, RFC 959",
    ),
    "directory": Bundle(
        ("tcp/389", "tcp/636", "tcp/88", "udp/88", "tcp/464", "udp/464"),
        "LDAP and Kerberos: RFC 4511, RFC 4513, RFC 4120, RFC 3244",
    ),
}
"""The bundles that there are."""
