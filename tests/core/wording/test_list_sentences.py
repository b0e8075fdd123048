"""What lines of lists say, in sentences."""

from __future__ import annotations

from collections.abc import Callable

import pytest

from crossgate.core.lists.taken import taken
from crossgate.core.model.accesslist import AccessList
from crossgate.core.model.plan import Plan
from crossgate.core.wording.list_sentences import list_sentences

Read = Callable[[str], Plan]
NET = (
    "subnet office 10.0.0.0/24 2001:db8::/64\nsubnet labs 10.0.1.0/24\n"
    "host desk 10.0.0.5 on office mac 00:00:5e:00:53:01\nhost mail 10.0.1.9 on labs\n"
    "group staff desk\nservice shop tcp/8443, tcp/9000-9010\nwindow night daily 22:00-05:30\n"
)


def said(plan_of: Read, head: str, *entries: str) -> list[str]:
    """Return what the lines of one list say, its otherwise line last."""
    plan = plan_of(NET + "".join(f"{line}\n" for line in (head, *(f"    {e}" for e in entries))))
    (own,) = plan.every_list.values()
    above = {}
    if isinstance(own, AccessList):
        states = plan.states([own])
        above = {each.number: taken(own, each, each.number, states) for each in own.entries}
    return [each.text for each in list_sentences(plan, own, above)]


@pytest.mark.parametrize(
    ("entry", "sentence"),
    [
        ("permit shop office to mail", "may open shop (TCP 8443 and 9000 to 9010) to mail."),
        ("permit domain staff to labs", "of staff may send domain (TCP and UDP 53) to labs."),
        ("permit tcp/telnet any to any", "Everybody may open telnet (TCP 23)."),
        ("permit tcp/1024- desk to mail", "desk may open TCP 1024 and above to mail."),
        ("permit tcp/80,udp/90 desk to mail", "desk may send TCP 80 and UDP 90 to mail."),
        ("permit tcp any to mail", "Everybody may send TCP to mail."),
        ("permit ping office to any", "Machines of office may ping anybody."),
        ("permit icmp/3/4 any to any", "may send ICMP destination-unreachable fragmentation-"),
        ("permit icmp/8/7 any to any", "Everybody may send ICMP echo-request code 7."),
        ("permit icmp/77 any to any", "Everybody may send ICMP type 77."),
        ("permit icmp any to any", "Everybody may send ICMP."),
        ("permit 99 any to any", "Everybody may send protocol 99."),
        ("permit ospf any to any", "Everybody may send OSPF."),
        ("permit ip office, labs but desk to any", "of office and labs but not desk may send any"),
        ("permit ip office, 10.9.0.0/16 to mail", "of office and addresses of 10.9.0.0/16 may"),
        ("permit ip 10.0.0.1 wild 0.0.6.0 to any", "The 4 addresses of 10.0.0.1 wild 0.0.6.0 may"),
        (
            "permit ip any but desk to any but mail",
            "Everybody but desk may send anything to anybody but mail.",
        ),
        ("deny ip any to labs", "Nobody may send anything to labs; it is dropped without a word."),
        ("deny ip office to any", "Machines of office may send nothing; it is dropped without"),
        ("deny ssh office to mail", "of office may not open ssh (TCP 22) to mail; it is dropped"),
        ("reject ssh any to any", "Nobody may open ssh (TCP 22); it is refused, and the sender"),
        ("deny ping any to mail log", "Nobody may ping mail; it is dropped without a word. It is"),
        ("permit tcp any to any established", "on a connection that is under way (ACK or RST is"),
        ("permit tcp any to any flags syn,!ack", "may send TCP, with the TCP flags syn,!ack."),
        ("permit udp any to any source port 53", "may send UDP, from source port 53."),
        ("permit tcp any to any fragments", "may send TCP, as a fragment that is not the first."),
        ("permit ip any to any dscp ef", "may send anything, marked dscp 46."),
        ("permit ip any to any during night", "while night is open (daily 22:00-05:30)."),
        ("permit ssh any to any at most 9 a minute", "at most 9 a minute (what is beyond goes on"),
        ("permit https any to any tls 1.2-", "speaking TLS 1.2,1.3."),
        ("off permit ssh any to any", "Off, so nothing comes of it: everybody may open ssh"),
    ],
)
def test_a_line_in_words(plan_of: Read, entry: str, sentence: str) -> None:
    assert sentence in said(plan_of, "list a extended ipv4", entry)[0]


def test_many_ports_are_counted(plan_of: Read) -> None:
    (first, _) = said(plan_of, "list a extended ipv4", "permit tcp/1,3,5,7,9,11,13,15 any to any")
    assert first == "Everybody may open TCP 1, 3, 5, 7, 9, 11 and 2 more."


def test_what_is_left_by_lines_above(plan_of: Read) -> None:
    told = said(
        plan_of,
        "list a extended ipv4",
        "10 permit ssh desk to mail",
        "20 deny ssh any to labs",
        "30 permit tcp office to labs",
        "40 permit ssh office to mail",
        "50 deny ip any to any",
    )
    assert told[1].startswith("Of what 10 leaves, nobody may open ssh")
    assert told[2].startswith("Of what 20 leaves, machines of office")
    assert told[3].startswith("Nothing is left for it, since 10 and 20 came first: ")
    assert told[4].startswith("Of what 10 and 30 leave, nobody may send anything;")
    assert told[5] == "Nothing is left for the otherwise line."


@pytest.mark.parametrize(
    ("lines", "last"),
    [
        ((), "Everything is dropped without a word, as at the end of every list."),
        (("permit ssh any to any",), "Everything else is dropped without a word, as at the end"),
        (("permit ssh any to any", "otherwise permit"), "Everything else is let by."),
        (("otherwise reject",), "Everything is refused, and the sender is told."),
        (("permit ip any to any during night",), "Everything else is dropped"),
        (("off permit ip any to any",), "Everything else is dropped"),
        (("permit ip any to any",), "Nothing is left for the otherwise line."),
    ],
)
def test_the_otherwise_line(plan_of: Read, lines: tuple[str, ...], last: str) -> None:
    assert said(plan_of, "list a extended ipv4", *lines)[-1].startswith(last)


def test_standard_and_ethernet_lists(plan_of: Read) -> None:
    assert said(plan_of, "list 12 standard ipv4", "permit desk", "deny any")[:2] == [
        "desk may send anything.",
        "Of what 10 leaves, nobody may send anything; it is dropped without a word.",
    ]
    assert said(plan_of, "list e standard ethernet", "deny desk", "permit any") == [
        "desk may send nothing; it is dropped without a word.",
        "Everybody may send anything.",
        "Nothing is left for the otherwise line.",
    ]
    assert said(
        plan_of, "list e extended ethernet", "permit arp any to desk", "deny 0x88cc any to any"
    )[:2] == [
        "Everybody may send ARP frames to desk.",
        "Nobody may send 0x88cc frames; it is dropped without a word.",
    ]
