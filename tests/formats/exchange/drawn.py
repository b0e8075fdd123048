"""Drawn lists, made of what a format can say, in a small plan; and whether two lists of one plan
decide alike.
"""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path

from hypothesis import strategies as st

from crossgate.core.lists.difference import compare_lists
from crossgate.core.lists.split import ListRegions
from crossgate.core.model.accesslist import AccessList
from crossgate.core.model.address import Family
from crossgate.core.model.plan import Plan
from crossgate.formats.exchange.asked import ExportWanted, Given
from crossgate.formats.exchange.registry import FORMATS
from crossgate.language.draft import Draft
from crossgate.language.importing import take_in
from crossgate.language.reader import read

NETWORK = """\
subnet hall 10.64.8.0/24 2001:db8:64:8::/64
router lighthouse
    interface v80 10.64.8.1/24 2001:db8:64:8::1/64 on hall
host kiosk 10.64.8.21 2001:db8:64:8::21 on hall
group berths 10.64.32.10, 10.64.33.10-10.64.33.13, 2001:db8::8, 2001:db8::20-2001:db8::27
service booking tcp/8443, tcp/9443
leases 10.64.8.100-10.64.8.120 on hall by lighthouse
"""
ADDRESSES = {
    Family.IPV4: (
        "any",
        "kiosk",
        "hall",
        "berths",
        "10.64.8.1",
        "10.0.0.0/8",
        "10.64.0.0/22",
        "10.64.16.8-10.64.16.27",
        "10.64.32.10 wild 0.0.3.0",
        "10.64.8.1 wild 0.0.12.6",
        "10.64.32.10 wild 0.0.3.0, kiosk",
        "10.64.8.20/30 but kiosk",
        "leases of hall, kiosk",
    ),
    Family.IPV6: (
        "any",
        "kiosk",
        "hall",
        "berths",
        "2001:db8::1",
        "2001:db8::/32",
        "2001:db8::8-2001:db8::13",
        "2001:db8::a wild ::a0:0:0",
        "2001:db8::5 wild ::f0",
        "2001:db8::5 wild ::f0, kiosk",
        "2001:db8::8/126 but 2001:db8::9",
    ),
}
SERVICES = (
    "ip",
    "tcp",
    "udp",
    "47",
    "tcp/80",
    "tcp/80,443,8000-8099",
    "udp/53,tcp/53",
    "booking",
    "tcp/-1023",
    "icmp",
    "6",
    "58",
    "1",
)


@dataclass(frozen=True)
class Says:
    """What lists are drawn from."""

    services: tuple[str, ...] = SERVICES
    qualifiers: tuple[str, ...] = ("", "source port 1024-", "source port 7,9-11")
    actions: tuple[str, ...] = ("permit", "deny")
    log: bool = False
    comments: bool = False


EVERYTHING = Says(
    (*SERVICES, "sctp/80", "icmp/8", "icmp/3/1,udp/9", "ping"),
    (
        "",
        "source port 7,9-11",
        "established",
        "flags SYN,!ACK",
        "fragments",
        "dscp 46",
        "established flags SYN dscp ef",
    ),
    ("permit", "deny", "reject"),
    True,
    True,
)
RFC8519 = Says(
    (*SERVICES, "icmp/8", "icmp/3/1,udp/9", "ping"),
    (
        "",
        "source port 1024-",
        "source port 7,9-11",
        "flags SYN,!ACK,!FIN,!RST,!PSH,!URG,!ECE,!CWR",
        "dscp 46",
    ),
    ("permit", "deny", "reject"),
    True,
    True,
)
RFC4849 = Says(
    (*SERVICES, "sctp/80"),
    (
        "",
        "source port 7,9-11",
        "established",
        "flags SYN,!ACK",
        "flags FIN,URG",
        "established flags SYN",
        "fragments",
    ),
)


@st.composite
def lists(draw: st.DrawFn, family: Family, says: Says) -> str:
    """Draw an extended list named `drawn`."""
    lines = [f"list drawn extended {family.word}"]
    number = 0
    for _ in range(draw(st.integers(0, 6))):
        number += draw(st.integers(1, 15))
        qualifier = draw(st.sampled_from(says.qualifiers))
        services = says.services
        if "established" in qualifier or "flags" in qualifier:
            services = tuple(
                each for each in services if each.startswith("tcp") or each in ("booking", "6")
            )
        elif "port" in qualifier:
            services = tuple(
                each
                for each in services
                if each.startswith(("tcp", "udp", "sctp")) or each in ("booking", "6")
            )
        elif "fragments" in qualifier:
            services = tuple(
                each
                for each in services
                if "/" not in each and each != "booking" and each != "ping"
            )
        ends = [draw(st.sampled_from(ADDRESSES[family])) for _ in range(2)]
        words = [
            str(number),
            draw(st.sampled_from(says.actions)),
            draw(st.sampled_from(services)),
            ends[0],
            "to",
            ends[1],
            qualifier,
        ]
        words += ["log"] * (says.log and draw(st.booleans()))
        words += [draw(st.sampled_from(['"why: a | b"', '"ümläut"', f'"{"long " * 20}"']))] * (
            says.comments and draw(st.booleans())
        )
        lines.append("    " + " ".join(filter(None, words)))
    if draw(st.booleans()):
        lines.append(f"    otherwise {draw(st.sampled_from(says.actions))}")
    return "\n".join(lines) + "\n"


def out_and_in(
    folder: Path, text: str, format_name: str, **options: object
) -> tuple[Plan, Plan, str | bytes]:
    """Read a plan with a list, write that in a format, and bring it into the plan in the place of
    it; return both plans, and what was written.
    """
    path = folder / "plan.gate"
    path.write_text(NETWORK + text, encoding="utf-8")
    reading = read(path)
    plan = reading.plan
    found = FORMATS[format_name]
    written = found.write(ExportWanted(plan, [plan.lists["drawn"]], plan.placements, **options))  # type: ignore[arg-type]
    assert not written.unsaid
    data = written.text if isinstance(written.text, bytes) else written.text.encode()
    draft, coming = Draft(reading), folder / "in"
    coming.write_bytes(data)
    take_in(draft, [found.read(Given(coming, data, plan, name="drawn"))], replace=True)
    return plan, read(path, {**reading.data, **draft.result()}).plan, written.text


def differ(old: AccessList, new: AccessList) -> list[object]:
    """Return the packets that two lists treat differently; `reject` is a denial of its own."""
    return list(compare_lists(ListRegions(old), ListRegions(new)))
