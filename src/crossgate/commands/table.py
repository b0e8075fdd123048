"""The table of all commands: where each is, and how help lists it."""

from __future__ import annotations

from typing import NamedTuple


class Listed(NamedTuple):
    """A command as help lists it: the module and the function or group in it, the step of the work
    that it belongs to, and examples on the demo.
    """

    module: str
    function: str
    step: str
    examples: tuple[str, ...]


_START, _LOOK, _WRITE, _PROVE, _TRY, _LIVE, _SHOW, _OPEN, _NUMBERS = (
    "Start",
    "Look",
    "Write and place",
    "Trace and prove",
    "Try and observe",
    "Devices",
    "Show",
    "Open formats",
    "Numbers and words",
)
"""The steps, in the order of the work."""

COMMANDS = {
    "new": Listed(
        "new",
        "new",
        _START,
        ("new office.gate", "new office.gate --subnets subnets.csv --hosts hosts.xlsx"),
    ),
    "demo": Listed("demo", "demo", _START, ("demo", "demo ternhaven")),
    "lists": Listed(
        "lists",
        "lists",
        _LOOK,
        (
            "lists kiosk-fence 12",
            "lists --words 110",
            "lists --short --on lighthouse",
            "lists 12 --at 'mon 23:00'",
        ),
    ),
    "about": Listed("about", "about", _LOOK, ("about kiosk-1", "about tcp/443", "about vlan 80")),
    "points": Listed("points", "points", _LOOK, ("points guest-1 crane-2",)),
    "entry": Listed("entry", "entry", _WRITE, ()),
    "list": Listed("listing", "listing", _WRITE, ()),
    "place": Listed(
        "placement",
        "place",
        _WRITE,
        (
            "place guest-fence inbound lighthouse.v400 --move",
            "place sea6 inbound 'subnet quay' --dry-run",
        ),
    ),
    "lift": Listed(
        "placement", "lift", _WRITE, ("lift kiosk-port", "lift 12 outbound lighthouse.v160")
    ),
    "fence": Listed(
        "fence",
        "fence",
        _WRITE,
        ("fence berth-2", "fence berth-2 --except manifest --one-way", "fence berth-2 --undo"),
    ),
    "twin": Listed(
        "twin",
        "twin",
        _WRITE,
        ("twin kiosk-fence kiosks-in-ipv6 --dry-run", "twin kiosk-port socket6 --place --dry-run"),
    ),
    "distil": Listed(
        "distil",
        "distil",
        _WRITE,
        (
            "distil day.pcap --into berths --place inbound pier.up --dry-run",
            "distil flows.parquet --into hall -4 --widen 50 --dry-run",
        ),
    ),
    **{
        name: Listed("statements", name, _WRITE, ())
        for name in ("group", "service", "window", "host", "subnet", "route", "expect")
    },
    "rename": Listed(
        "rename",
        "rename",
        _WRITE,
        ("rename host kiosk-1 kiosk-a --dry-run", "rename point lighthouse.v80 hall --dry-run"),
    ),
    "batch": Listed("batch", "batch", _WRITE, ("batch swap.txt", "batch - --dry-run")),
    "undo": Listed("undo", "undo", _WRITE, ("undo", "undo 3 --dry-run", "undo --list")),
    "redo": Listed("undo", "redo", _WRITE, ("redo", "redo 2")),
    "tidy": Listed("tidy", "tidy", _WRITE, ("tidy", "tidy --check")),
    "recover": Listed("recover", "recover", _WRITE, ("recover", "recover --dry-run")),
    "editor": Listed("editor", "editor", _WRITE, ("editor", "--plan ternhaven.gate editor")),
    "watch": Listed("watch", "watch", _WRITE, ("watch", "watch --once")),
    "trace": Listed(
        "trace",
        "trace",
        _PROVE,
        (
            "trace kiosk-1 manifest tcp/8443",
            "trace kiosk-1 crane-2 ping --why",
            "trace duty crane-1 ssh --week",
            "trace tickets servers booking domain ping",
            "trace visitor manifest https --as duty",
        ),
    ),
    "reach": Listed(
        "reach",
        "reach",
        _PROVE,
        ("reach tickets harbour", "reach internet any https", "reach guests harbour --strays"),
    ),
    "grid": Listed(
        "grid",
        "grid",
        _PROVE,
        (
            "grid ping booking",
            "grid ping --from tickets --to harbour",
            "grid ping --against proposal/ternhaven.gate",
        ),
    ),
    "verify": Listed(
        "verify", "verify", _PROVE, ("verify", "verify --without pier", "verify --any-one-down")
    ),
    "check": Listed(
        "check", "check", _PROVE, ("check", "check --strict", "check --sarif findings.sarif")
    ),
    "mend": Listed("mending", "mend", _PROVE, ("mend", "mend icmp6-needed guest-fence6 --take a")),
    "compare": Listed(
        "compare",
        "compare",
        _PROVE,
        (
            "compare proposal/ternhaven.gate",
            "compare ternhaven.gate proposal/ternhaven.gate --list guest-fence",
            "compare --since HEAD~1",
        ),
    ),
    "since": Listed(
        "since", "since", _PROVE, ("since kiosk-1 manifest tcp/8443", "since --claim 193 --every")
    ),
    "replay": Listed(
        "replay",
        "replay",
        _TRY,
        (
            "replay day.pcap --zone UTC",
            "replay sea.pcap --from breakwater.sea --zone UTC",
            "replay flows.parquet --against proposal/ternhaven.gate --zone UTC",
        ),
    ),
    "tally": Listed("tally", "tally", _TRY, ("tally", "tally clear")),
    "sheet": Listed(
        "sheet",
        "sheet",
        _TRY,
        ("sheet kiosk-fence", "sheet --from kiosk-1 --can ping,connect", "sheet --csv"),
    ),
    "probe": Listed(
        "probe",
        "probe",
        _TRY,
        ("probe --as kiosk-1 --dry-run", "probe --as kiosk-1 --out kiosk-1.csv"),
    ),
    "cause": Listed(
        "cause",
        "cause",
        _TRY,
        (
            "cause 'kiosk-1 to manifest tcp/8443 silent' -4",
            "cause kiosk-1.csv",
        ),
    ),
    "rehearse": Listed(
        "rehearse",
        "rehearse",
        _TRY,
        (
            "rehearse kiosk-1 -- ping -c 1 manifest",
            "rehearse --expectations",
            "rehearse --capture lighthouse.v80 --out hall.pcapng",
        ),
    ),
    "drift": Listed("live", "drift", _LIVE, ("drift", "drift lighthouse pier --stand-ins 8301")),
    "pull": Listed("live", "pull", _LIVE, ("pull lighthouse", "pull --stand-ins 8301 --dry-run")),
    "push": Listed(
        "push", "push", _LIVE, ("push --dry-run", "push lighthouse --stand-ins 8301 --approximate")
    ),
    "stand-in": Listed(
        "stand_in", "stand_in", _LIVE, ("stand-in", "stand-in pier --fresh --fail pier=slow")
    ),
    "draw": Listed("drawing", "draw", _SHOW, ()),
    "report": Listed(
        "reporting", "report", _SHOW, ("report", "report --out ternhaven.html --at 'mon 12:00'")
    ),
    "import": Listed(
        "importing",
        "import_",
        _OPEN,
        ("import ietf gangway.json --dry-run", "import ietf-acl gangway.json --on pier --dry-run"),
    ),
    "export": Listed(
        "exporting",
        "export",
        _OPEN,
        (
            "export ietf-acl kiosk-fence6",
            "export markdown kiosk-fence",
            "export ietf --on pier --approximate",
        ),
    ),
    "wild": Listed(
        "wild",
        "wild",
        _NUMBERS,
        (
            "wild 10.64.8.0/22",
            "wild 10.64.32.10 wild 0.0.3.0 has 10.64.34.10",
            "wild cover 10.64.32.10 10.64.33.10",
        ),
    ),
    "help": Listed("help", "explain", _NUMBERS, ("help", "help half-open", "help never-reached")),
    "bug-report": Listed(
        "bug_report",
        "bug_report",
        _NUMBERS,
        (
            "bug-report -- trace kiosk-1 manifest tcp/8443",
            "bug-report --out fault.zip --key names.txt -- check",
        ),
    ),
}
"""The commands, in the order in which help shows them."""
