"""Every finding: a plan that has it, and a near twin that does not."""

from __future__ import annotations

from collections.abc import Callable
from datetime import datetime

import pytest

from crossgate.core.audit import audit
from crossgate.core.audit.claims import by_place
from crossgate.core.model.finding_kinds import KINDS
from crossgate.core.model.plan import Plan
from crossgate.core.traffic.session import Session
from crossgate.core.wording.sentences import packet_text
from tests.net import BEHIND

Read = Callable[[str], Plan]
NOW = datetime(2026, 12, 1, 8, 30)

NETWORK = """
subnet hall   10.64.8.0/24  2001:db8:64:8::/64
subnet office 10.64.20.0/24 2001:db8:64:14::/64
outside sea
router gate
    interface hall   10.64.8.1/24   2001:db8:64:8::1/64   on hall
    interface office 10.64.20.1/24  2001:db8:64:14::1/64  on office
    interface sea    203.0.113.2/30 2001:db8:ffff::2/64   on sea
host kiosk  10.64.8.21  2001:db8:64:8::21  on hall
host server 10.64.20.10 2001:db8:64:14::10 on office
window past   2026-01-01 00:00 to 2026-02-01 00:00
window coming 2027-01-01 00:00 to 2027-02-01 00:00
window night  daily 22:00-06:00
"""
FENCE = "list fence extended ipv4\n{}\nplace fence inbound on gate.hall\n"
SEA = "list sea-in extended ipv4\n{}\nplace sea-in inbound on gate.sea\n"
LEASES = "leases 10.64.8.50-10.64.8.99 on hall by {}\n"
SIX = "list six extended ipv6\n{}\nplace six inbound on gate.hall\n"


def names(plan: Plan) -> list[str]:
    return [finding.name for finding in audit(Session(plan), NOW).findings]


KEEN = """
subnet far 10.64.50.0/24
router keen stateful
    interface a 10.64.20.9/24 on office
    interface b 10.64.50.1/24 on far
host vault 10.64.50.9 on far
place l inbound on keen.a
list l extended ipv4
"""
"""A router that remembers conversations, and its list, which is to be written."""
EDGE = """
outside ocean 198.51.100.0/23
router edge stateful
    interface a   10.64.20.8/24   on office
    interface sea 198.51.101.2/29 on ocean
{}
host ship 198.51.100.77 on ocean
"""
"""A router that translates, and the lines by which it does."""
SHORE = """
router shore stateful
    interface a   10.64.20.8/24  on office
    interface sea 203.0.113.9/29 on sea
    translate office leaving sea as {}
"""
"""A second way out, that translates to an address: answers come back by the first one."""
PAIRS = {
    "never-reached": (
        FENCE.format("    10 deny ip hall to any\n    20 permit tcp/80 kiosk to server"),
        FENCE.format("    10 permit tcp/80 kiosk to server\n    20 deny ip hall to any log"),
    ),
    "no-effect": (
        FENCE.format("    10 permit tcp/80 kiosk to server\n    20 deny tcp/22 kiosk to server"),
        FENCE.format(
            "    10 permit tcp/80 kiosk to server\n    20 deny tcp/22 kiosk to server\n    30 "
            "permit tcp/20-30 kiosk to server"
        ),
    ),
    "mask-reversed": (
        FENCE.format("    10 permit tcp/80 10.64.8.0 wild 255.255.255.0 to server"),
        FENCE.format("    10 permit tcp/80 10.64.8.0 wild 0.0.0.255 to server"),
    ),
    "subnet-missed": (
        FENCE.format("    10 permit tcp/80 10.64.8.0/25 to server"),
        FENCE.format(
            "    10 permit tcp/80 10.64.8.0/26 to server\n    20 permit tcp/81 10.64.8.0/24 to "
            "server"
        ),
    ),
    "protocol-meant": (
        FENCE.format("    10 permit rdp kiosk to server"),
        FENCE.format(
            "    10 permit 27 kiosk to server\n    20 permit ms-wbt-server kiosk to server"
        ),
    ),
    "transport-narrowed": (
        FENCE.format("    10 permit tcp/22,http,domain kiosk to server"),
        FENCE.format(
            "    10 permit tcp/22,http,domain kiosk to server\n    20 permit udp/53 kiosk to server"
        ),
    ),
    "standard-near-source": (
        "subnet more 10.64.30.0/24\nrouter r2\n    interface a 10.64.20.2/24 on office\n    "
        "interface b 10.64.30.1/24 on more\n"
        "list 12 standard ipv4\n    deny kiosk\n    permit any\nplace 12 inbound on gate.hall\n",
        (
            "list 12 standard ipv4\n    deny 10.64.9.0/24\n    permit hall\nplace 12 inbound on "
            "gate.hall\n"
        ),
    ),
    "unplaced": (
        "list 12 standard ipv4\n    permit kiosk\n",
        "list 12 standard ipv4\n    permit kiosk\nplace 12 outbound on gate.office\n",
    ),
    "nothing-permitted": (
        FENCE.format("    10 deny tcp any to any log\n    20 deny ip any to any log"),
        FENCE.format(
            "    10 deny tcp any to any log\n    20 deny ip any to office log\n    otherwise permit"
        ),
    ),
    "too-broad": (
        FENCE.format(
            "    10 permit tcp/80 kiosk to server\n    20 permit ip any to any\n    30 deny udp "
            "hall to any"
        ),
        FENCE.format(
            "    10 permit tcp/80 kiosk to server\n    20 deny udp hall to any\n    30 permit ip "
            "any to any"
        ),
    ),
    "locked-out": (
        FENCE.format("    10 permit tcp/80 kiosk to server")
        + "keep permit tcp/22 kiosk to server over ipv4\n",
        FENCE.format("    10 permit tcp/22,80 kiosk to server")
        + "keep permit tcp/22 kiosk to server over ipv4\n",
    ),
    "wrong-side": (
        FENCE.format("    10 permit tcp/80 server to kiosk\n    20 permit tcp/80 kiosk to server"),
        FENCE.format("    20 permit tcp/80 kiosk to server"),
    ),
    "unjoined": (
        (
            "switch one\n    port 1\nswitch two\n    port 1\nhost x 10.64.8.31 on hall at "
            "one.1\nhost "
            "y 10.64.8.32 on hall at two.1\n"
        ),
        "switch one\n    port 1\n    port 2 to two.2\nswitch two\n    port 1\n    port 2\n"
        "host x 10.64.8.31 on hall at one.1\nhost y 10.64.8.32 on hall at two.1\n",
    ),
    "parts-apart": (
        (
            "subnet cargo 10.64.24.0/24\nrouter shed\n    interface cargo 10.64.24.1/24 on cargo\n "
            "   "
            "interface sea 203.0.113.3/29 on sea\n"
        ),
        (
            "subnet cargo 10.64.24.0/24\nrouter shed\n    interface cargo 10.64.24.1/24 on cargo\n "
            "   "
            "interface hall 10.64.8.2/24 on hall\n"
        ),
    ),
    "no-gateway": (
        "subnet cargo 10.64.24.0/24 2001:db8:64:18::/64\nrouter shed\n    interface cargo "
        "10.64.24.1/24 on cargo\n"
        "    interface hall 10.64.8.2/24 on hall\n",
        "subnet cargo 10.64.24.0/24 2001:db8:64:18::/64\nrouter shed\n    interface cargo "
        "10.64.24.1/24 2001:db8:64:18::1/64 on cargo\n"
        "    interface hall 10.64.8.2/24 on hall\n",
    ),
    "private-outside": (
        FENCE.format("    10 deny tcp/80 kiosk to 10.0.0.0/8"),
        FENCE.format("    10 deny tcp/80 kiosk to 198.51.100.0/24"),
    ),
    "route-unused": (
        "subnet cargo 10.64.24.0/24\nrouter shed\n    interface cargo 10.64.24.1/24 on cargo\n    "
        "interface hall 10.64.8.2/24 on hall\n"
        "    route 10.64.24.0/24 via 10.64.8.1\n",
        "subnet cargo 10.64.24.0/24\nrouter shed\n    interface cargo 10.64.24.1/24 on cargo\n    "
        "interface hall 10.64.8.2/24 on hall\n"
        "    route 10.64.24.0/23 via 10.64.8.1\n",
    ),
    "translated-away": (
        EDGE.format("    translate hall leaving sea as itself")
        + "list out extended ipv4\n    permit ip hall to any\nplace out outbound on edge.sea\n",
        EDGE.format("    translate hall leaving sea as itself")
        + "list out extended ipv4\n    permit ip edge.sea to any\nplace out outbound on edge.sea\n",
    ),
    "translation-unreturned": (
        SHORE.format("10.64.8.9"),
        SHORE.format("203.0.113.11"),
    ),
    "translation-unused": (
        EDGE.format(
            "    translate any leaving sea as itself\n    translate hall leaving sea as 198.51.101.3"
        ),
        EDGE.format(
            "    translate hall leaving sea as 198.51.100.3\n    translate any leaving sea as itself"
        ),
    ),
    "replies-blocked": (
        FENCE.format("    10 permit tcp/80 kiosk to server")
        + (
            "list back extended ipv4\n    permit tcp/22 office to hall\nplace back inbound on "
            "gate.office\n"
        ),
        FENCE.format("    10 permit tcp/80 kiosk to server")
        + (
            "list back extended ipv4\n    permit tcp server to hall source port 80 "
            "established\nplace back inbound on gate.office\n"
        ),
    ),
    "never-settled": (
        KEEN + "    permit tcp/443 office to vault tls 1.2-\nlist back extended ipv4\n    deny tcp "
        "vault to any\n    permit ip any to any\n"
        "place back inbound on subnet office\n",
        KEEN
        + "    permit tcp/443 office to vault tls 1.2-\nlist back extended ipv4\n    permit ip "
        "any to any\n"
        "place back inbound on subnet office\n",
    ),
    "quic-unseen": (
        KEEN
        + "    10 permit tcp/443 office to vault tls 1.2-\n    20 permit udp office to vault\n",
        KEEN
        + "    10 permit tcp/443 office to vault tls 1.2-\n    20 permit udp/-442 office to vault\n",
    ),
    "other-half": (
        FENCE.format("    10 deny tcp/443 hall to server\n    20 permit udp hall to any"),
        FENCE.format("    10 deny tcp/443 hall to server\n    20 permit udp/-442 hall to any"),
    ),
    "spoofable": (
        "list 12 standard ipv4\n    permit kiosk\nplace 12 outbound on gate.office\n",
        "list 12 standard ipv4\n    permit kiosk\nplace 12 outbound on gate.office\n"
        "list 13 standard ipv4\n    deny hall\n    permit any\nplace 13 inbound on gate.sea\n",
    ),
    "neighbour-can-claim": (
        "host other 10.64.8.22 on hall\n" + FENCE.format("    10 permit tcp/80 kiosk to server"),
        "host other 10.64.8.22 on hall\n"
        + FENCE.format("    10 permit tcp/80 kiosk to server")
        + "list ports standard ipv4\n    deny kiosk\n    otherwise permit\n"
        "place ports inbound on host other\n",
    ),
    "icmp6-needed": (
        SIX.format("    permit tcp/80 kiosk to server"),
        SIX.format(
            "    permit icmp/packet-too-big any to any\n    permit icmp/time-exceeded any to any\n "
            "   permit icmp/parameter-problem any to any\n"
            "    permit icmp/destination-unreachable any to any\n    permit tcp/80 kiosk to server"
        ),
    ),
    "neighbour-blocked": (
        SIX.format("    permit tcp/80 kiosk to server"),
        SIX.format(
            "    permit icmp/router-solicitation any to any\n    permit "
            "icmp/neighbor-solicitation any to any\n"
            "    permit icmp/neighbor-advertisement any to any\n    permit tcp/80 kiosk to server"
        ),
    ),
    "asked-twice": (
        "switch mast\n    port 1\nhost printer 10.64.8.30 on hall at mast.1\n"
        + FENCE.format("    10 permit tcp/80 kiosk to server")
        + "place fence inbound on host printer\nplace fence inbound on mast.1\n",
        "switch mast\n    port 1\nhost printer 10.64.8.30 on hall at mast.1\n"
        + FENCE.format("    10 permit tcp/80 kiosk to server")
        + "place fence inbound on host printer\nplace fence outbound on mast.1\n",
    ),
    "arp-blocked": (
        "switch mast\n    port 1\nhost printer 10.64.8.30 on hall at mast.1 mac 00:00:5e:00:53:30\n"
        "list frames extended ethernet\n    10 permit ipv4 printer to any\nplace frames inbound "
        "on mast.1\n",
        "switch mast\n    port 1\nhost printer 10.64.8.30 on hall at mast.1 mac 00:00:5e:00:53:30\n"
        "list frames extended ethernet\n    10 permit ipv4 printer to any\n    20 permit arp any "
        "to any\nplace frames inbound on mast.1\n",
    ),
    "vrrp-blocked": (
        (
            "router other\n    interface hall 10.64.8.2/24 on hall\ngateway 10.64.8.254 on hall by "
            "gate.hall, other.hall\n"
        )
        + FENCE.format("    10 permit tcp/80 kiosk to server"),
        (
            "router other\n    interface hall 10.64.8.2/24 on hall\ngateway 10.64.8.254 on hall by "
            "gate.hall, other.hall\n"
        )
        + FENCE.format("    10 permit vrrp 10.64.8.2 to 224.0.0.18"),
    ),
    "one-family": (
        FENCE.format("    10 permit tcp/80 kiosk to server"),
        FENCE.format("    10 permit tcp/80 kiosk to server")
        + SIX.format("    permit ip any to any"),
    ),
    "number-kind": (
        "list 12 extended ipv4\n    permit ip kiosk to any\nplace 12 inbound on gate.hall\n",
        "list 112 extended ipv4\n    permit ip kiosk to any\nplace 112 inbound on gate.hall\n",
    ),
    "out-of-order": (
        FENCE.format("    20 permit tcp/80 kiosk to server\n    10 permit tcp/81 kiosk to server"),
        FENCE.format("    10 permit tcp/81 kiosk to server\n    20 permit tcp/80 kiosk to server"),
    ),
    "bogus-source": (
        SEA.format("    10 permit tcp/443 any to server"),
        SEA.format(
            "    10 deny ip 127.0.0.0/8, 169.254.0.0/16 to any\n    20 permit tcp/443 any to server"
        ),
    ),
    "names-round": (
        FENCE.format("    10 deny domain kiosk to any\n    20 permit ip any to any"),
        FENCE.format("    10 deny domain kiosk to any\n    20 permit tcp/443 any to any"),
    ),
    "proxy-round": (
        FENCE.format("    10 deny tcp/80,443 kiosk to any\n    20 permit ip any to any"),
        FENCE.format("    10 deny tcp/80,443 kiosk to office\n    20 permit ip any to any"),
    ),
    "mail-round": (
        FENCE.format("    10 deny smtp kiosk to any\n    20 permit tcp/587 any to any"),
        FENCE.format("    10 deny smtp kiosk to any\n    20 permit tcp/588 any to any"),
    ),
    "management-round": (
        FENCE.format("    10 deny ssh kiosk to server\n    20 permit ip any to any"),
        FENCE.format("    10 deny telnet kiosk to server\n    20 permit ip any to any"),
    ),
    "lease-blocked": (
        FENCE.format("    10 permit ip kiosk to any") + LEASES.format("gate"),
        FENCE.format(
            "    10 permit udp/67 0.0.0.0, hall to any source port 68\n    20 permit ip kiosk to any"
        )
        + LEASES.format("gate"),
    ),
    "renewal-blocked": (
        FENCE.format("    10 permit udp/67 0.0.0.0 to any") + LEASES.format("server"),
        FENCE.format("    10 permit udp/67 0.0.0.0, leases of hall to any")
        + LEASES.format("server"),
    ),
    "names-blocked": (
        FENCE.format("    10 permit udp/67 any to any") + LEASES.format("gate names server"),
        FENCE.format("    10 permit udp/67 any to any\n    20 permit domain hall to any")
        + LEASES.format("gate names server"),
    ),
    "time-blocked": (
        FENCE.format("    10 permit udp/67 any to any") + LEASES.format("gate time server"),
        FENCE.format("    10 permit udp/67 any to any\n    20 permit ntp hall to any")
        + LEASES.format("gate time server"),
    ),
    "second-connection": (
        FENCE.format("    10 permit ftp kiosk to server"),
        FENCE.format("    10 permit ftp kiosk to server\n    20 permit tcp/1024- kiosk to server"),
    ),
    "expired": (
        FENCE.format("    10 permit tcp/22 kiosk to any until 2026-11-30"),
        FENCE.format("    10 permit tcp/22 kiosk to any until 2026-12-01"),
    ),
    "expires-soon": (
        FENCE.format("    10 permit tcp/22 kiosk to any until 2026-12-31"),
        FENCE.format("    10 permit tcp/22 kiosk to any until 2027-01-01"),
    ),
    "window-never": (
        FENCE.format(
            "    10 permit tcp/80 kiosk to server during past\n    20 permit tcp/81 kiosk to server"
        ),
        FENCE.format(
            "    10 permit tcp/80 kiosk to server during coming\n    20 permit tcp/81 kiosk to "
            "server"
        ),
    ),
    "accept-unused": (
        FENCE.format("    10 permit tcp/80 kiosk to server")
        + 'accept no-effect in fence 10 "why not"\n',
        FENCE.format("    10 permit tcp/80 kiosk to server")
        + 'accept one-family in fence "IPv6 comes later"\n',
    ),
}


def test_every_finding_has_its_pair() -> None:
    assert PAIRS.keys() == KINDS.keys()


@pytest.mark.parametrize("finding", PAIRS)
def test_the_finding_is_there_and_its_twin_has_it_not(plan_of: Read, finding: str) -> None:
    bad, good = PAIRS[finding]
    assert finding in names(plan_of(NETWORK + bad))
    assert finding not in names(plan_of(NETWORK + good))


@pytest.mark.parametrize(
    ("entries", "says", "because"),
    [
        (
            "    10 deny ip any to any\n    20 permit ip kiosk to any",
            "10 denies what this permits; move 20 before 10",
            (10,),
        ),
        (
            "    10 permit ip any to any\n    20 permit ip kiosk to any",
            "does the same; drop it",
            (10,),
        ),
        (
            (
                "    10 permit tcp/-1000 any to any\n    20 deny tcp/1001- any to any\n    30 "
                "permit "
                "tcp/500-2000 any to any"
            ),
            "10 and 20 (line 15, line 16) take all of it together",
            (10, 20),
        ),
        (
            "    10 permit tcp any to any established flags !ACK,!RST\n    20 permit ip any to any",
            "excludes itself",
            (),
        ),
    ],
)
def test_never_reached_says_why_and_how_to_mend_it(
    plan_of: Read, entries: str, says: str, because: tuple[int, ...]
) -> None:
    (found,) = [
        each
        for each in audit(Session(plan_of(NETWORK + FENCE.format(entries))), NOW).findings
        if each.name == "never-reached"
    ]
    assert says in found.message
    assert found.because == because


@pytest.mark.parametrize(
    ("after", "says", "because"),
    [
        ("    20 permit udp office to vault\n", "20 lets udp/443 by", (20,)),
        ("    otherwise permit\n", "the otherwise line lets udp/443 by", ()),
    ],
)
def test_what_goes_round_a_judged_entry_is_told_with_its_line(
    plan_of: Read, after: str, says: str, because: tuple[int, ...]
) -> None:
    plan = plan_of(NETWORK + KEEN + "    10 permit tcp/443 office to vault tls 1.2-\n" + after)
    (found,) = (each for each in audit(Session(plan), NOW).findings if each.name == "quic-unseen")
    assert found.message.startswith(says)
    assert found.because == because


def test_an_entry_is_never_reached_only_if_it_is_so_at_every_hour(plan_of: Read) -> None:
    entries = "    10 deny ip any to any during night\n    20 permit tcp/80 kiosk to server{}"
    assert "never-reached" not in names(plan_of(NETWORK + FENCE.format(entries.format(""))))
    assert "never-reached" in names(
        plan_of(NETWORK + FENCE.format(entries.format(" during night")))
    )


def test_no_effect_tells_a_packet_and_spares_what_logs(plan_of: Read) -> None:
    entries = "    10 permit tcp/80 kiosk to server\n    20 deny tcp/22 kiosk to server{}"
    (found,) = [
        each
        for each in audit(
            Session(plan_of(NETWORK + FENCE.format(entries.format("")))), NOW
        ).findings
        if each.name == "no-effect"
    ]
    assert found.packet is not None
    assert (found.entry, found.packet.destination_port) == (20, 22)
    assert "the otherwise line denies anyway" in found.message
    assert "no-effect" not in names(plan_of(NETWORK + FENCE.format(entries.format(" log"))))


def test_the_packet_of_no_effect_is_one_that_machines_send(plan_of: Read) -> None:
    entries = "    10 permit tcp/80 any to any\n    20 deny ip hall to office"
    plan = plan_of(NETWORK + FENCE.format(entries))
    (found,) = [each for each in audit(Session(plan), NOW).findings if each.name == "no-effect"]
    assert found.packet is not None
    packet = packet_text(found.packet)
    assert packet == "tcp/443 from 10.64.8.21 port 51000 to 10.64.20.10"


def test_what_a_group_leaves_out_on_purpose_is_no_subnet_missed(plan_of: Read) -> None:
    assert "subnet-missed" not in names(plan_of(f"{NETWORK}group g hall but 10.64.8.128/25\n"))
    assert "subnet-missed" in names(plan_of(f"{NETWORK}group g server, 10.64.8.0/25\n"))


def test_a_reversed_mask_is_told_with_the_right_one(plan_of: Read) -> None:
    (found,) = [
        each
        for each in audit(Session(plan_of(NETWORK + PAIRS["mask-reversed"][0])), NOW).findings
        if each.name == "mask-reversed"
    ]
    assert "write 10.64.8.0 wild 0.0.0.255, which is 10.64.8.0/24" in found.message
    group = "group g 10.64.8.0 wild 255.255.255.0\n"
    assert "mask-reversed" in names(plan_of(NETWORK + group))
    six = SIX.format("    permit ip 2001:db8:64:8:: wild ffff:ffff:ffff:ffff:: to any")
    assert "mask-reversed" in names(plan_of(NETWORK + six))
    for among in ("kiosk, 10.64.8.0 wild 255.255.255.0", "any but 10.64.8.0 wild 255.255.255.0"):
        several = FENCE.format(f"    10 permit tcp/80 {among} to server")
        assert "mask-reversed" in names(plan_of(NETWORK + several))
        right = several.replace("255.255.255.0", "0.0.0.255")
        assert "mask-reversed" not in names(plan_of(NETWORK + right))


@pytest.mark.parametrize(
    ("where", "entry", "says"),
    [
        ("inbound on gate.hall", "permit tcp/80 server to kiosk", "place the list outbound"),
        ("inbound on hub.1", "permit tcp/80 server to kiosk", "place the list outbound"),
        ("outbound on subnet hall", "permit ip office to any", "place the list inbound"),
        (
            "inbound on gate.sea",
            "permit tcp/80 kiosk to server",
            "what it asks for passes inbound on gate.hall; move it",
        ),
        ("inbound on gate itself", "deny tcp/22 any to server", "nothing that passes"),
    ],
)
def test_wrong_side_says_which_side_is_right(
    plan_of: Read, where: str, entry: str, says: str
) -> None:
    hub = "switch hub\n    port 1\nhost pinned 10.64.8.30 on hall at hub.1\n"
    plan = plan_of(
        NETWORK
        + hub
        + (
            f"list fence extended ipv4\n    10 {entry}\n    20 permit ip any to any\nplace fence "
            f"{where}\n"
        )
    )
    found = [each for each in audit(Session(plan), NOW).findings if each.name == "wrong-side"]
    if where == "inbound on hub.1":
        assert len(found) == 1
        return
    assert says in found[0].message


def test_a_denial_of_claimed_addresses_is_on_no_wrong_side(plan_of: Read) -> None:
    text = NETWORK + (
        "list anti extended ipv4\n    deny ip hall to any\n    permit ip any to any\nplace anti "
        "inbound on gate.sea\n"
    )
    assert "wrong-side" not in names(plan_of(text))


def test_replies_on_a_stateful_device_are_not_blocked(plan_of: Read) -> None:
    bad = NETWORK + PAIRS["replies-blocked"][0]
    assert "replies-blocked" not in names(
        plan_of(bad.replace("router gate", "router gate stateful"))
    )


BACK = """
list out extended ipv4
    permit tcp/80 hall to any
place out inbound on edge.a
list back extended ipv4
    permit tcp{} any to 192.0.2.1{}
place back inbound on outer.sea
"""
"""A list that sees the answers to what is translated, and is to be written."""


@pytest.mark.parametrize(
    ("port", "asks", "blocked"), [("/22", "", True), ("", " source port 80 established", False)]
)
def test_answers_to_what_is_translated_are_followed_to_where_it_is_not(
    plan_of: Read, port: str, asks: str, blocked: bool
) -> None:
    assert ("replies-blocked" in names(plan_of(BEHIND + BACK.format(port, asks)))) is blocked


def test_spoofable_names_who_can_claim_what(plan_of: Read) -> None:
    (found,) = [
        each
        for each in audit(Session(plan_of(NETWORK + PAIRS["spoofable"][0])), NOW).findings
        if each.name == "spoofable"
    ]
    assert "a machine on sea can claim 10.64.8.21 (kiosk)" in found.message
    assert found.packet is not None


def test_icmp6_names_what_is_stopped(plan_of: Read) -> None:
    text = NETWORK + SIX.format(
        "    10 permit icmp/packet-too-big any to any\n    20 permit tcp/80 kiosk to server"
    )
    (found,) = [
        each for each in audit(Session(plan_of(text)), NOW).findings if each.name == "icmp6-needed"
    ]
    assert "destination-unreachable, time-exceeded, parameter-problem" in found.message
    assert "packet-too-big" not in found.message
    fenced = NETWORK + SIX.format("    10 deny ip any to office\n    20 permit ip any to any")
    assert "icmp6-needed" not in names(plan_of(fenced))


def test_a_plan_accepts_a_finding_with_a_reason(plan_of: Read) -> None:
    text = NETWORK + PAIRS["no-effect"][0]
    accepted = audit(
        Session(plan_of(text + 'accept no-effect in fence 20 "the auditors want to see it"\n')), NOW
    )
    assert [finding.name for finding, _ in accepted.accepted] == ["no-effect"]
    assert accepted.accepted[0][1].reason == "the auditors want to see it"
    assert "no-effect" not in [finding.name for finding in accepted.findings]
    elsewhere = audit(Session(plan_of(text + 'accept no-effect in fence 10 "another"\n')), NOW)
    assert {"no-effect", "accept-unused"} <= {finding.name for finding in elsewhere.findings}


def test_the_demo_is_sound(plan_of: Read) -> None:
    from importlib.resources import files

    text = (files("crossgate.demo") / "files" / "ternhaven.gate").read_text(encoding="utf-8")
    audited = audit(Session(plan_of(text)), NOW)
    assert not [finding for finding in audited.findings if finding.severity == "error"]
    assert len(audited.accepted) == 3


@pytest.mark.parametrize(
    ("entry", "found"),
    [
        (
            "permit ip 10.64.8.21 mask 0.0.0.0 to any",
            "as a netmask leaves nothing of 10.64.8.21, so this is any",
        ),
        (
            "permit ip 10.64.8.21 wild 255.255.255.255 to any",
            "as a wildcard leaves nothing of 10.64.8.21, so this is any",
        ),
        ("permit ip 0.0.0.0 wild 255.255.255.255 to any", None),
        ("permit ip 0.0.0.0 mask 0.0.0.0 to any", None),
        ("permit ip 10.64.8.21 wild 0.0.0.0 to any", None),
        ("permit ip 10.64.8.21 mask 255.255.255.255 to any", None),
    ],
)
def test_a_mask_that_leaves_nothing_of_an_address_is_reversed_too(
    plan_of: Read, entry: str, found: str | None
) -> None:
    messages = [
        each.message
        for each in audit(Session(plan_of(NETWORK + FENCE.format(f"    10 {entry}"))), NOW).findings
        if each.name == "mask-reversed"
    ]
    assert [found in each for each in messages] == [True] if found else messages == []


@pytest.mark.parametrize(
    ("written", "says"),
    [
        (
            "10.64.8.0/23",
            (
                "one bit wider than hall, which is 10.64.8.0/24, and takes 10.64.9.0/24 too; write "
                "hall"
            ),
        ),
        (
            "10.64.8.0 wild 0.0.0.127",
            (
                "one bit narrower than hall, which is 10.64.8.0/24, and misses 10.64.8.128/25; "
                "write "
                "hall"
            ),
        ),
        ("10.64.8.0 wild 0.0.4.255", "one bit wider"),
        ("10.64.8.128/25", None),
        ("10.64.9.0/23", None),
        ("10.64.8.0/24", None),
        ("10.64.8.0/22", None),
        ("10.64.40.0/23", None),
    ],
)
def test_a_subnet_missed_by_one_bit_is_told_with_what_is_missed(
    plan_of: Read, written: str, says: str | None
) -> None:
    text = (
        NETWORK
        + "subnet even 10.64.40.0/24\nsubnet odd 10.64.41.0/24\n"
        + FENCE.format(f"    10 permit tcp/80 {written} to server")
    )
    messages = [
        each.message
        for each in audit(Session(plan_of(text)), NOW).findings
        if each.name == "subnet-missed"
    ]
    assert [says in each for each in messages] == [True] if says else messages == []
    if says and " " not in written:
        assert "group g: " in next(
            each.message
            for each in audit(Session(plan_of(NETWORK + f"group g {written}\n")), NOW).findings
        )


def test_a_word_in_a_service_of_the_plan_is_told_at_its_own_line(plan_of: Read) -> None:
    text = (
        NETWORK
        + "service remote rdp, tcp/domain\n"
        + FENCE.format("    10 permit remote kiosk to server\n    20 permit remote hall to office")
    )
    found = [
        each
        for each in audit(Session(plan_of(text)), NOW).findings
        if each.name in ("protocol-meant", "transport-narrowed")
    ]
    assert [(each.name, each.access_list, each.place.line) for each in found] == [
        ("protocol-meant", None, 14),
        ("transport-narrowed", None, 14),
    ]
    assert (
        "rdp is protocol 27, the Reliable Data Protocol of RFC 908; for remote desktops write "
        "ms-wbt-server"
    ) in found[0].message
    assert "domain over TCP only, and it is spoken over UDP too; write domain" in found[1].message


@pytest.mark.parametrize(
    ("entries", "asks"),
    [
        (
            "    10 deny tcp/22 any to any\n    20 deny tcp/23 any to any",
            "or is a closing permit missing: otherwise permit?",
        ),
        (
            "    10 deny tcp/22 any to any\n    20 permit tcp/80 any to any\n    otherwise permit",
            "or is a closing denial missing: otherwise deny?",
        ),
        ("    10 permit tcp/80 any to any\n    20 deny tcp/22 any to any", ""),
    ],
)
def test_no_effect_asks_for_a_forgotten_end(plan_of: Read, entries: str, asks: str) -> None:
    found = [
        each
        for each in audit(Session(plan_of(NETWORK + FENCE.format(entries))), NOW).findings
        if each.name == "no-effect"
    ]
    assert found
    assert all(each.message.endswith(asks or "to be seen") for each in found)


def test_a_standard_list_near_its_source_names_what_else_it_stops(plan_of: Read) -> None:
    text = NETWORK + PAIRS["standard-near-source"][0]
    (found,) = [
        each
        for each in audit(Session(plan_of(text)), NOW).findings
        if each.name == "standard-near-source"
    ]
    assert "as 10.64.8.21, it stops on the way to sea, office, more alike" in found.message
    # Nobody sends as the gateway, nor to all from its own address.
    for nobody in ("10.64.8.1", "10.64.8.255"):
        assert "standard-near-source" not in names(
            plan_of(text.replace("kiosk\n    permit", f"{nobody}\n    permit"))
        )
    far = text.replace("inbound on gate.hall", "outbound on gate.office")
    assert "standard-near-source" not in names(plan_of(far))
    assert "standard-near-source" not in names(
        plan_of(
            text.replace("standard", "extended")
            .replace("deny kiosk", "deny ip kiosk to any")
            .replace("permit any", "permit ip any to any")
        )
    )


@pytest.mark.parametrize(
    ("where", "blocked", "spared"),
    [
        (
            "inbound on gate.hall",
            "router-solicitation, neighbor-solicitation, neighbor-advertisement",
            "",
        ),
        (
            "inbound on gate.sea",
            "router-solicitation, neighbor-solicitation, neighbor-advertisement",
            "",
        ),
        (
            "inbound on hub.1",
            "router-solicitation, neighbor-solicitation, neighbor-advertisement",
            "",
        ),
        (
            "outbound on hub.1",
            "router-advertisement, neighbor-solicitation, neighbor-advertisement",
            "",
        ),
        (
            "inbound on hub.2",
            "router-advertisement, neighbor-solicitation, neighbor-advertisement",
            "",
        ),
        (
            "inbound on hub.3",
            (
                "router-solicitation, router-advertisement, neighbor-solicitation, "
                "neighbor-advertisement"
            ),
            "",
        ),
        ("outbound on gate.hall", "", ""),
        ("outbound on subnet hall", "", ""),
        (
            "inbound on gate.hall",
            "router-solicitation, neighbor-advertisement",
            "permit icmp/135 any to any",
        ),
        (
            "inbound on gate.hall",
            "router-solicitation, neighbor-solicitation",
            "permit icmp/136 fe80::/10 to any\n    permit icmp/136 hall to any",
        ),
        ("inbound on gate.hall", "", "deny ip kiosk to any\n    permit ip any to any"),
    ],
)
def test_neighbour_discovery_that_a_list_stops_is_named(
    plan_of: Read, where: str, blocked: str, spared: str
) -> None:
    hub = (
        "switch hub\n    port 1\n    port 2\n    port 3 to far.1\nswitch far\n    port 1\nhost "
        "pinned 2001:db8:64:8::30 on hall at hub.1\n"
    )
    text = (
        NETWORK.replace("2001:db8:64:8::1/64   on hall", "2001:db8:64:8::1/64 on hall at hub.2")
        + hub
    )
    plan = plan_of(
        text
        + f"list six extended ipv6\n    {spared or 'permit tcp/80 any to any'}\nplace six {where}\n"
    )
    found = [
        each for each in audit(Session(plan), NOW).findings if each.name == "neighbour-blocked"
    ]
    assert [f"stops {blocked} of the link" in each.message for each in found] == [True] * bool(
        blocked
    )


def test_what_machines_of_one_subnet_can_claim_is_told_once(plan_of: Read) -> None:
    more = (
        "list 12 standard ipv4\n    permit kiosk\n    permit 10.64.8.22\nplace 12 outbound on "
        "gate.office\n"
    )
    plan = plan_of(NETWORK + more)
    findings = audit(Session(plan), NOW).findings
    claims = [each for each in findings if each.name == "spoofable"]
    assert [(each.entry, each.segment) for each in claims] == [(10, "sea"), (20, "sea")]
    (told,) = [each for each in by_place(plan, findings) if each.name == "spoofable"]
    assert told.fault.what == (
        "sea comes in at gate.sea with any source address: no list on the way drops those of "
        "others, which list 12 entry 10 (permit kiosk) "
        "and list 12 entry 20 (permit 10.64.8.22) trust"
    )
    assert (told.access_list, told.place, told.fault.mend) == (
        None,
        claims[0].place,
        claims[0].fault.mend,
    )
    assert len(by_place(plan, findings)) == len(findings) - 1


def test_a_list_of_a_subnets_own_addresses_is_about_false_sources(plan_of: Read) -> None:
    own = (
        "list {} standard ipv4\n    permit hall\n    permit 0.0.0.0\n    otherwise deny\nplace "
        "{} inbound on gate.hall\n"
    )
    back = (
        "list back extended ipv4\n    deny tcp office to any\n    otherwise permit\nplace back "
        "inbound on gate.office\n"
    )
    assert not {"replies-blocked", "spoofable", "wrong-side"} & {
        *names(plan_of(NETWORK + own.format(12, 12) + back))
    }
    wide = (
        own.replace("standard", "extended")
        .replace("permit hall", "permit ip hall to any")
        .replace("    permit 0.0.0.0\n", "")
    )
    assert "replies-blocked" in names(plan_of(NETWORK + wide.format("l", "l") + back))
