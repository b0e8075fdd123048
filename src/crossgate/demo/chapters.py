"""The demo's story: chapters of commands that show the whole job on its files."""

from __future__ import annotations

from crossgate.demo import DEVICE, PROPOSAL
from crossgate.demo.chapters_on_paper import NOON, ON_PAPER
from crossgate.demo.story import Chapter, DemoStep
from crossgate.demo.traffic import DAY, FLOWS, SEA

FIRST_PORT = 18_301
"""The port of the first stand-in."""
_PLAYED = ("--stand-ins", str(FIRST_PORT))

_LOCKED_OUT = """
crossgate place kiosk-fence inbound lighthouse.v200 --anyway --yes > /dev/null
crossgate push lighthouse --approximate --anyway --yes --within 3 --confirm-within 5 | tail -2
crossgate undo --yes > /dev/null
crossgate drift lighthouse"""

CHAPTERS = (
    *ON_PAPER,
    Chapter(
        "Traffic that was seen",
        (
            DemoStep(
                "A day of the terminal's traffic, captured: what would these lists have stopped, and "
                "which line decides how much?",
                ("replay", DAY, "--zone", "UTC", "--top", "5"),
                needs="traffic",
                tells=("  permitted  1", "  denied     1", "guest-1 to manifest"),
            ),
            DemoStep(
                "What was captured at the sea came in there, whatever source address it claims.",
                ("replay", SEA, "--from", "breakwater.sea", "--zone", "UTC"),
                needs="traffic",
            ),
            DemoStep(
                "The day's flows through the colleague's proposal: what would it have let in?",
                ("replay", FLOWS, "--against", PROPOSAL, "--zone", "UTC"),
                1,
                needs="traffic",
            ),
            DemoStep(
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
            DemoStep(
                "A new router has been set up for berth 4. What does its own configuration say, and "
                "what would it do here?",
                ("import", "ietf", DEVICE, "--dry-run"),
            ),
            DemoStep(
                "A list as devices take it, in the standard's own terms: what these cannot say is "
                "refused.",
                ("export", "ietf-acl", "berth-1-in"),
                1,
                tells=("cannot ask", "nothing is written"),
            ),
            DemoStep(
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
            DemoStep(
                "And as people put it into a request for change.",
                ("export", "markdown", "kiosk-fence"),
            ),
        ),
    ),
    Chapter(
        "Pictures",
        (
            DemoStep(
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
            DemoStep(
                "The week of one conversation.",
                ("draw", "week", "duty", "crane-1", "ssh", "--out", "week.svg"),
                needs="pictures",
            ),
            DemoStep(
                "And all of it on one page, to hand on.",
                ("report", "--out", "report.html"),
                needs="pictures",
            ),
        ),
    ),
    Chapter(
        "On site",
        (
            DemoStep(
                "What to try on site, so that every line of the hall's list is seen at work.",
                ("sheet", "kiosk-fence", *NOON),
                tells=("on kiosk-1", "tcp/8443", ":8443"),
            ),
            DemoStep(
                "And what came back is not what the plan says: which one thing is wrong there?",
                (
                    "cause",
                    "kiosk-1 to manifest booking silent",
                    "kiosk-1 to manifest telnet silent",
                    "kiosk-1 to crane-2 ping silent",
                    "-4",
                    *NOON,
                ),
                1,
                tells=("kiosk-fence is applied outbound", "kiosk-port 10 is missing"),
            ),
        ),
    ),
    Chapter(
        "Real packets",
        (
            DemoStep(
                "The same claims tried with real packets between real network stacks.",
                ("rehearse", "--expectations"),
                needs="rehearse",
                tells=("seen to hold",),
            ),
            DemoStep(
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
            DemoStep(
                "The plan's devices are played on this machine as NETCONF servers. What they run is "
                "held against the plan, by meaning.",
                ("drift", "lighthouse", "groyne", "jetty", *_PLAYED),
                needs="live",
            ),
            DemoStep(
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
            DemoStep(
                "What a push would send, to whom, in which order, and what that does.",
                ("push", "lighthouse", *_PLAYED, "--approximate", "--dry-run"),
                needs="live",
            ),
            DemoStep(
                "It runs there: committed, looked at, confirmed.",
                ("push", "lighthouse", *_PLAYED, "--approximate", "--yes"),
                needs="live",
            ),
            DemoStep("And it does not differ.", ("drift", "lighthouse", *_PLAYED), needs="live"),
            DemoStep("The plan is as it was.", ("undo", "--yes"), needs="live"),
        ),
        stand_ins=True,
    ),
    Chapter(
        "Locked out, and let in again",
        (
            DemoStep(
                "A list put at the wrong interface stops the duty officer's own packets. Pushed all "
                "the same, from the desk and over the rehearsed network: nobody reaches the device "
                "any more, nobody confirms, and it takes the commit back by itself.",
                ("rehearse", "duty", "--devices", "--", "sh", "-c", _LOCKED_OUT),
                needs="rehearse,live",
            ),
        ),
    ),
)
