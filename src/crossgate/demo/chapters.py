"""The demo's story: chapters of commands that show the whole job on its files."""

from __future__ import annotations

from importlib.util import find_spec
from typing import NamedTuple

from crossgate.demo import ANNEX, DEVICE, ISOLATED, PROPOSAL
from crossgate.demo.traffic import DAY, FLOWS, SEA


class Step(NamedTuple):
    """One command of the demo: what it shows, its words, and its expected exit status; `needs` are
    extras of the package, separated by commas.

    The short story shows the lines of its answer that contain one of the words in `tells`; it
    leaves out a step without such words.
    """

    shows: str
    words: tuple[str, ...]
    status: int = 0
    needs: str = ""
    tells: tuple[str, ...] = ()

    @property
    def left_out(self) -> str:
        """Why the step cannot run here; "" where it can."""
        extras = self.needs.split(",")
        if any(find_spec(name) is None for each in extras for name in _PACKAGES[each]):
            return f"it needs pip install 'crossgate[{self.needs}]'"
        if "rehearse" in extras:
            from crossgate.rehearsal.session import refusal

            return refusal()
        return ""


class Chapter(NamedTuple):
    """A part of the story: its title and its steps; with `stand_ins`, stand-ins of the plan's
    devices run on this machine meanwhile.
    """

    title: str
    steps: tuple[Step, ...]
    stand_ins: bool = False

    @property
    def told(self) -> list[Step]:
        """The steps of the short story."""
        return [each for each in self.steps if each.tells]


_PACKAGES = {
    "": (),
    "traffic": ("pcapy", "pyarrow"),
    "rehearse": ("pyroute2", "dpkt"),
    "pictures": ("matplotlib", "networkx", "jinja2"),
    "live": ("ncclient", "asyncssh", "lxml"),
}
"""The packages of each extra that a step may need."""

FIRST_PORT = 18_301
"""The port of the first stand-in."""
_PLAYED = ("--stand-ins", str(FIRST_PORT))
_NOON = ("--at", "mon 12:00")

_LOCKED_OUT = """
crossgate place kiosk-fence inbound lighthouse.v200 --anyway --yes > /dev/null
crossgate push lighthouse --approximate --anyway --yes --within 3 --confirm-within 5 | tail -2
crossgate undo --yes > /dev/null
crossgate drift lighthouse"""

CHAPTERS = (
    Chapter(
        "A plan and its lists",
        (
            Step(
                "The lists as they are read, with what their names stand for.",
                ("lists", "12", "kiosk-fence", *_NOON),
                tells=("list kiosk-fence", "permit booking", "reject"),
            ),
            Step(
                "The same in plain sentences.",
                ("lists", "kiosk-fence", "--words"),
            ),
            Step(
                "Where could a list against the guests stand? Every place on the way, and what else "
                "passes there.",
                ("points", "guest-1", "crane-2"),
            ),
            Step(
                "The wildcard for three gate controllers, and whom else it lets in.",
                ("wild", "cover", "10.64.32.10", "10.64.33.10", "10.64.34.10"),
            ),
            Step(
                "A plan of one's own begins with the tables that are there already.",
                (
                    "new",
                    ANNEX,
                    "--subnets",
                    "annex/subnets.csv",
                    "--hosts",
                    "annex/hosts.csv",
                ),
            ),
        ),
    ),
    Chapter(
        "One packet, leg by leg",
        (
            Step(
                "A kiosk may book: every leg, every place it crosses.",
                ("trace", "kiosk-1", "manifest", "tcp/8443", "-4", "--tally"),
            ),
            Step(
                "It may not talk to a crane: no entry is for it, so the otherwise line decides.",
                ("trace", "kiosk-1", "crane-2", "ping", "--tally"),
                tells=("lighthouse.v80  inbound", "denied:", "hears nothing"),
            ),
            Step(
                "Why not? Each line above the one that decides, and where the packet differs.",
                ("trace", "kiosk-1", "crane-2", "ping", "--why"),
            ),
            Step(
                "Telnet is rejected: the sender is told. An option makes a trace a test.",
                ("trace", "kiosk-1", "manifest", "telnet", "-4", "--expect", "deny"),
            ),
            Step(
                "The gate controllers are let through by one scattered wildcard.",
                ("trace", "gate-3", "crane-1", "tcp/502"),
            ),
            Step(
                "The duty officer reaches the cranes at night only.",
                ("trace", "duty", "crane-1", "ssh", "--at", "mon 23:00"),
            ),
            Step(
                "And the whole week of it.",
                ("trace", "duty", "crane-1", "ssh", "--week", "--at", "2026-12-07 08:00"),
            ),
            Step(
                "Half-open: the camera of berth 3 gets the request, and a list on the way back stops "
                "the answer.",
                ("trace", "duty", "camera-3", "tcp/rtsp", "--expect", "half-open"),
                tells=("pier.b3", "half-open:"),
            ),
            Step(
                "From the sea with an address of ours: it is dropped where it comes in.",
                (
                    "trace",
                    "visitor",
                    "manifest",
                    "https",
                    "--as",
                    "10.64.20.40",
                    "--expect",
                    "deny",
                ),
            ),
            Step(
                "A flood: what is beyond the rate that the list permits goes on to the next entry.",
                ("trace", "visitor", "timetable", "https", "-4", "--flood", "--expect", "deny"),
            ),
            Step(
                "Who still speaks an old TLS gets a connection, and no answer: the list judges what "
                "server and client settle on.",
                (
                    "trace",
                    "visitor",
                    "timetable",
                    "https",
                    "-4",
                    "--tls",
                    "1.1",
                    "--expect",
                    "half-open",
                ),
            ),
            Step(
                "The laptop is known by its hardware address, and its frames get no further than its "
                "port.",
                ("trace", "laptop", "duty", "ssh", "--expect", "deny"),
            ),
            Step(
                "Two routers share the quay's gateway: the answers hold whichever of them has it.",
                ("trace", "timetable", "visitor", "ping", "-4", "--all-paths"),
            ),
            Step(
                "In IPv6 a fence of its own stands at the same place.",
                ("trace", "kiosk-2", "manifest", "ssh", "-6"),
            ),
            Step("The counters: which lines decided so far.", ("tally", "kiosk-fence")),
        ),
    ),
    Chapter(
        "What must hold, proved",
        (
            Step(
                "Every claim of the plan, proved at every hour and for every address: the table "
                "written before the lists.",
                ("verify", "--tally"),
                tells=("expectations held",),
            ),
            Step(
                "Which of them fail while one device or link is down.",
                ("verify", "--any-one-down"),
                1,
            ),
            Step(
                "Exactly what gets from the ticket hall to the harbour office, and what stops the "
                "rest.",
                ("reach", "tickets", "harbour", *_NOON),
                tells=("booking  tickets but", "denied by kiosk-fence 30", "telnet  "),
            ),
            Step("Who reaches whom.", ("grid", "ping", "booking", *_NOON)),
        ),
    ),
    Chapter(
        "Mistakes and their mends",
        (
            Step(
                "What is written but does not do what was meant.",
                ("check",),
                tells=("warning renewal", "cannot renew", "4 warnings"),
            ),
            Step(
                "What could be mended, and by which edits? Each is proved before it is shown.",
                ("mend",),
                1,
            ),
        ),
    ),
    Chapter(
        "Edits, seen before they are made",
        (
            Step(
                "A new entry goes to the end, or where it still has an effect; first it is shown what "
                "it does.",
                (
                    "entry",
                    "add",
                    "guest-fence",
                    "permit ntp guests to manifest",
                    "--effective",
                    "--dry-run",
                ),
                tells=("guest-fence gets", "+    15", "was denied", "is  permitted"),
            ),
            Step(
                "An edit that would lock out the people who run the network is refused.",
                ("entry", "add", "duty-only", "deny harbour", "--number", "5"),
                1,
                tells=("breaks  ", "is denied:", "refused:"),
            ),
            Step(
                "An exception for one host stands above what it is an exception from.",
                (
                    "entry",
                    "add",
                    "guest-fence",
                    "permit ping guest-1 to manifest",
                    "--before",
                    "20",
                    "--dry-run",
                ),
            ),
            Step(
                "Guests may ping the quay and see no web there: the denial is of the web alone.",
                (
                    "entry",
                    "add",
                    "guest-fence",
                    "deny tcp/80,443 guests to quay",
                    "--before",
                    "30",
                    "--dry-run",
                ),
            ),
            Step(
                "The same entry below what permits more does nothing, and moving says so.",
                ("entry", "move", "guest-fence", "20", "--after", "30", "--dry-run"),
                1,
            ),
            Step(
                "A line is switched off and stays in the file.",
                ("entry", "off", "guest-fence6", "20", "--yes"),
            ),
            Step("And what the program wrote is undone, to the octet.", ("undo", "--yes")),
            Step(
                "A list in the other family, with the names that have addresses of both.",
                ("twin", "kiosk-port", "socket6", "--place", "--dry-run"),
            ),
        ),
    ),
    Chapter(
        "A fence around a subnet",
        (
            Step(
                "Berth 2 is kept from all others: lists, their places and the claims that prove it.",
                ("fence", "berth-2", "--dry-run"),
                tells=("is fenced off", "+place", "now  246"),
            ),
            Step("Written, it can be tried.", ("fence", "berth-2", "--yes")),
            Step("What it keeps out.", ("trace", "crane-1", "10.64.33.10", "ping", "ssh")),
            Step("And away with it.", ("fence", "berth-2", "--undo", "--yes")),
            Step("What was written, and can be undone.", ("undo", "--list")),
        ),
    ),
    Chapter(
        "Addresses that are lent",
        (
            Step(
                "A guest's telephone has no address yet: does it get one, and can it keep it?",
                ("trace", "guest-1", "lease"),
                tells=("duty-only  15", "duty-only  20", "half-open:"),
            ),
            Step("All who get one there.", ("trace", "guests", "lease")),
            Step(
                "The addresses that are lent are a name like others.",
                ("reach", "leases of guests", "resolver"),
            ),
        ),
    ),
    Chapter(
        "Before and after",
        (
            Step(
                "A colleague proposes to move one line up. What would that open?",
                ("compare", PROPOSAL),
                1,
                tells=(
                    "guests to berth-2, spine",
                    " differences between",
                ),
            ),
            Step(
                "No list sees what guests send each other. Their access points can keep them apart.",
                ("compare", ISOLATED),
                1,
            ),
        ),
    ),
    Chapter(
        "Traffic that was seen",
        (
            Step(
                "A day of the terminal's traffic, captured: what would these lists have stopped, and "
                "which line decides how much?",
                ("replay", DAY, "--zone", "UTC", "--top", "5"),
                needs="traffic",
                tells=("  permitted  1", "  denied     1", "guest-1 to manifest"),
            ),
            Step(
                "What was captured at the sea came in there, whatever source address it claims.",
                ("replay", SEA, "--from", "breakwater.sea", "--zone", "UTC"),
                needs="traffic",
            ),
            Step(
                "The day's flows through the colleague's proposal: what would it have let in?",
                ("replay", FLOWS, "--against", PROPOSAL, "--zone", "UTC"),
                1,
                needs="traffic",
            ),
            Step(
                "The least that the berths need, as the day showed it: a list for what comes to them.",
                (
                    "distil",
                    DAY,
                    "--into",
                    "berths-need",
                    "--place",
                    "inbound",
                    "pier.up",
                    "--dry-run",
                ),
                1,
                needs="traffic",
            ),
        ),
    ),
    Chapter(
        "To and from other formats",
        (
            Step(
                "A new router has been set up for berth 4. What does its own configuration say, and "
                "what would it do here?",
                ("import", "ietf", DEVICE, "--dry-run"),
            ),
            Step(
                "A list as devices take it, in the standard's own terms: what these cannot say is "
                "refused.",
                ("export", "ietf-acl", "berth-1-in"),
                1,
                tells=("cannot ask", "nothing is written"),
            ),
            Step(
                "The rules that a RADIUS server hands out for a port (RFC 4849).",
                (
                    "export",
                    "nas-filter-rule",
                    "camera-only",
                    "--direction",
                    "inbound",
                    "--unplaced",
                ),
            ),
            Step(
                "And as people put it into a request for change.",
                ("export", "markdown", "kiosk-fence"),
            ),
        ),
    ),
    Chapter(
        "Pictures",
        (
            Step(
                "The network with every list where it stands, and the way of the camera's answer to "
                "the gate that stops it.",
                (
                    "draw",
                    "network",
                    "--path",
                    "duty",
                    "camera-3",
                    "tcp/rtsp",
                    "--out",
                    "network.svg",
                ),
                needs="pictures",
            ),
            Step(
                "The week of one conversation.",
                ("draw", "week", "duty", "crane-1", "ssh", "--out", "week.svg"),
                needs="pictures",
            ),
            Step(
                "And all of it on one page, to hand on.",
                ("report", "--out", "report.html"),
                needs="pictures",
            ),
        ),
    ),
    Chapter(
        "On site",
        (
            Step(
                "What to try on site, so that every line of the hall's list is seen at work.",
                ("sheet", "kiosk-fence", *_NOON),
                tells=("on kiosk-1", "tcp/8443", ":8443"),
            ),
            Step(
                "And what came back is not what the plan says: which one thing is wrong there?",
                (
                    "cause",
                    "kiosk-1 to manifest booking silent",
                    "kiosk-1 to manifest telnet silent",
                    "kiosk-1 to crane-2 ping silent",
                    "-4",
                    *_NOON,
                ),
                1,
                tells=("kiosk-fence is applied outbound", "kiosk-port 10 is missing"),
            ),
        ),
    ),
    Chapter(
        "Real packets",
        (
            Step(
                "The same claims tried with real packets between real network stacks.",
                ("rehearse", "--expectations"),
                needs="rehearse",
                tells=("seen to hold",),
            ),
            Step(
                "One command on a machine of the plan, rehearsed here.",
                ("rehearse", "guest-1", "--", "ping", "-c", "1", "-W", "1", "10.64.20.10"),
                1,
                needs="rehearse",
            ),
        ),
    ),
    Chapter(
        "Devices",
        (
            Step(
                "The plan's devices are played on this machine as NETCONF servers. What they run is "
                "held against the plan, by meaning.",
                ("drift", "lighthouse", "groyne", "jetty", *_PLAYED),
                needs="live",
            ),
            Step(
                "One line more in the plan.",
                (
                    "entry",
                    "add",
                    "kiosk-fence",
                    "permit ntp tickets to manifest",
                    "--effective",
                    "--yes",
                ),
                needs="live",
            ),
            Step(
                "What a push would send, to whom, in which order, and what that does.",
                ("push", "lighthouse", *_PLAYED, "--approximate", "--dry-run"),
                needs="live",
            ),
            Step(
                "It runs there: committed, looked at, confirmed.",
                ("push", "lighthouse", *_PLAYED, "--approximate", "--yes"),
                needs="live",
            ),
            Step("And it does not differ.", ("drift", "lighthouse", *_PLAYED), needs="live"),
            Step("The plan is as it was.", ("undo", "--yes"), needs="live"),
        ),
        stand_ins=True,
    ),
    Chapter(
        "Locked out, and let in again",
        (
            Step(
                "A list put at the wrong interface stops the duty officer's own packets. Pushed all "
                "the same, from the desk and over the rehearsed network: nobody reaches the device "
                "any more, nobody confirms, and it takes the commit back by itself.",
                ("rehearse", "duty", "--devices", "--", "sh", "-c", _LOCKED_OUT),
                needs="rehearse,live",
            ),
        ),
    ),
)
