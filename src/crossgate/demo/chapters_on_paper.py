"""The chapters of the demo's story about a plan by itself: its lists, claims, mistakes and
edits.
"""

from __future__ import annotations

from crossgate.demo import ANNEX, ISOLATED, PROPOSAL
from crossgate.demo.story import Chapter, DemoStep

NOON = ("--at", "mon 12:00")

ON_PAPER = (
    Chapter(
        "A plan and its lists",
        (
            DemoStep(
                "The lists as they are read, with what their names stand for.",
                ("lists", "12", "kiosk-fence", *NOON),
                tells=("list kiosk-fence", "permit booking", "reject"),
            ),
            DemoStep(
                "The same in plain sentences.",
                ("lists", "kiosk-fence", "--words"),
            ),
            DemoStep(
                "Where could a list against the guests stand? Every place on the way, and what else "
                "passes there.",
                ("points", "guest-1", "crane-2"),
            ),
            DemoStep(
                "The wildcard for three gate controllers, and whom else it lets in.",
                ("wild", "cover", "10.64.32.10", "10.64.33.10", "10.64.34.10"),
            ),
            DemoStep(
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
            DemoStep(
                "A kiosk may book: every leg, every place it crosses.",
                ("trace", "kiosk-1", "manifest", "tcp/8443", "-4", "--tally"),
            ),
            DemoStep(
                "It may not talk to a crane: no entry is for it, so the otherwise line decides.",
                ("trace", "kiosk-1", "crane-2", "ping", "--tally"),
                tells=("lighthouse.v80  inbound", "denied:", "hears nothing"),
            ),
            DemoStep(
                "Why not? Each line above the one that decides, and where the packet differs.",
                ("trace", "kiosk-1", "crane-2", "ping", "--why"),
            ),
            DemoStep(
                "Telnet is rejected: the sender is told. An option makes a trace a test.",
                ("trace", "kiosk-1", "manifest", "telnet", "-4", "--expect", "deny"),
            ),
            DemoStep(
                "The gate controllers are let through by one scattered wildcard.",
                ("trace", "gate-3", "crane-1", "tcp/502"),
            ),
            DemoStep(
                "The duty officer reaches the cranes at night only.",
                ("trace", "duty", "crane-1", "ssh", "--at", "mon 23:00"),
            ),
            DemoStep(
                "And the whole week of it.",
                ("trace", "duty", "crane-1", "ssh", "--week", "--at", "2026-12-07 08:00"),
            ),
            DemoStep(
                "Half-open: the camera of berth 3 gets the request, and a list on the way back stops "
                "the answer.",
                ("trace", "duty", "camera-3", "tcp/rtsp", "--expect", "half-open"),
                tells=("pier.b3", "half-open:"),
            ),
            DemoStep(
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
            DemoStep(
                "A flood: what is beyond the rate that the list permits goes on to the next entry.",
                ("trace", "visitor", "timetable", "https", "-4", "--flood", "--expect", "deny"),
            ),
            DemoStep(
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
            DemoStep(
                "The laptop is known by its hardware address, and its frames get no further than its "
                "port.",
                ("trace", "laptop", "duty", "ssh", "--expect", "deny"),
            ),
            DemoStep(
                "Two routers share the quay's gateway: the answers hold whichever of them has it.",
                ("trace", "timetable", "visitor", "ping", "-4", "--all-paths"),
            ),
            DemoStep(
                "In IPv6 a fence of its own stands at the same place.",
                ("trace", "kiosk-2", "manifest", "ssh", "-6"),
            ),
            DemoStep("The counters: which lines decided so far.", ("tally", "kiosk-fence")),
        ),
    ),
    Chapter(
        "What must hold, proved",
        (
            DemoStep(
                "Every claim of the plan, proved at every hour and for every address: the table "
                "written before the lists.",
                ("verify", "--tally"),
                tells=("expectations held",),
            ),
            DemoStep(
                "Which of them fail while one device or link is down.",
                ("verify", "--any-one-down"),
                1,
            ),
            DemoStep(
                "Exactly what gets from the ticket hall to the harbour office, and what stops the "
                "rest.",
                ("reach", "tickets", "harbour", *NOON),
                tells=("booking  tickets but", "denied by kiosk-fence 30", "telnet  "),
            ),
            DemoStep("Who reaches whom.", ("grid", "ping", "booking", *NOON)),
        ),
    ),
    Chapter(
        "Mistakes and their mends",
        (
            DemoStep(
                "What is written but does not do what was meant.",
                ("check",),
                tells=("warning renewal", "cannot renew", "4 warnings"),
            ),
            DemoStep(
                "What could be mended, and by which edits? Each is proved before it is shown.",
                ("mend",),
                1,
            ),
        ),
    ),
    Chapter(
        "Edits, seen before they are made",
        (
            DemoStep(
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
            DemoStep(
                "An edit that would lock out the people who run the network is refused.",
                ("entry", "add", "duty-only", "deny harbour", "--number", "5"),
                1,
                tells=("breaks  ", "is denied:", "refused:"),
            ),
            DemoStep(
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
            DemoStep(
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
            DemoStep(
                "The same entry below what permits more does nothing, and moving says so.",
                ("entry", "move", "guest-fence", "20", "--after", "30", "--dry-run"),
                1,
            ),
            DemoStep(
                "A line is switched off and stays in the file.",
                ("entry", "off", "guest-fence6", "20", "--yes"),
            ),
            DemoStep("And what the program wrote is undone, to the octet.", ("undo", "--yes")),
            DemoStep(
                "A list in the other family, with the names that have addresses of both.",
                ("twin", "kiosk-port", "socket6", "--place", "--dry-run"),
            ),
        ),
    ),
    Chapter(
        "A fence around a subnet",
        (
            DemoStep(
                "Berth 2 is kept from all others: lists, their places and the claims that prove it.",
                ("fence", "berth-2", "--dry-run"),
                tells=("is fenced off", "+place", "now  246"),
            ),
            DemoStep("Written, it can be tried.", ("fence", "berth-2", "--yes")),
            DemoStep("What it keeps out.", ("trace", "crane-1", "10.64.33.10", "ping", "ssh")),
            DemoStep("And away with it.", ("fence", "berth-2", "--undo", "--yes")),
            DemoStep("What was written, and can be undone.", ("undo", "--list")),
        ),
    ),
    Chapter(
        "Addresses that are lent",
        (
            DemoStep(
                "A guest's telephone has no address yet: does it get one, and can it keep it?",
                ("trace", "guest-1", "lease"),
                tells=("duty-only  15", "duty-only  20", "half-open:"),
            ),
            DemoStep("All who get one there.", ("trace", "guests", "lease")),
            DemoStep(
                "The addresses that are lent are a name like others.",
                ("reach", "leases of guests", "resolver"),
            ),
        ),
    ),
    Chapter(
        "Before and after",
        (
            DemoStep(
                "A colleague proposes to move one line up. What would that open?",
                ("compare", PROPOSAL),
                1,
                tells=(
                    "guests to berth-2, spine",
                    " differences between",
                ),
            ),
            DemoStep(
                "No list sees what guests send each other. Their access points can keep them apart.",
                ("compare", ISOLATED),
                1,
            ),
        ),
    ),
)
