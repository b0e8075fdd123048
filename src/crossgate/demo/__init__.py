"""The demo's files, and the steps that show the whole job on them."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager
from importlib.resources import files
from importlib.util import find_spec
from pathlib import Path
from typing import NamedTuple

from crossgate.core.model.errors import PlanError
from crossgate.demo.traffic import DAY, FLOWS, SEA, Day, write_captures, write_flows
from crossgate.formats.disk import put_file

PLAN = "ternhaven.gate"
PROPOSAL = f"proposal/{PLAN}"
DEVICE = "gangway.json"
"""The configuration of a new router, as it hands it out itself."""
_SLIP = (
    b"    20 deny   ip     any    to terminal\n    30 permit ip     guests to any\n",
    b"    15 permit ip     guests to any\n    20 deny   ip     any    to terminal\n",
)
"""What the proposal does otherwise: the broad permit was moved up by one line, above the denial
that it must stand below.
"""


class Step(NamedTuple):
    """One command of the demo: what it shows, its words, and the exit status that it is meant to
    end with; `needs` is an extra of the package.
    """

    shows: str
    words: tuple[str, ...]
    status: int = 0
    needs: str = ""

    @property
    def left_out(self) -> str:
        """Why it cannot run here; "" where it can."""
        if any(find_spec(name) is None for name in _PACKAGES[self.needs]):
            return f"it needs pip install 'crossgate[{self.needs}]'"
        if self.needs == "rehearse":
            from crossgate.rehearsal.session import refusal

            return refusal()
        return ""


_PACKAGES = {
    "": (),
    "traffic": ("pcapy", "pyarrow"),
    "rehearse": ("pyroute2", "dpkt"),
    "pictures": ("matplotlib", "networkx", "jinja2"),
}
"""The packages of each extra that a step may need."""


STEPS = (
    Step(
        "The lists as they are read, with what their names stand for.",
        ("lists", "12", "kiosk-fence", "--at", "mon 12:00"),
    ),
    Step(
        (
            "Where could a list against the guests stand? Every place on the way, and what else "
            "passes there."
        ),
        ("points", "guest-1", "crane-2"),
    ),
    Step(
        "A kiosk may book: every leg, every place it crosses.",
        ("trace", "kiosk-1", "manifest", "tcp/8443", "-4", "--tally"),
    ),
    Step(
        "It may not talk to a crane: no entry is for it, so the otherwise line decides.",
        ("trace", "kiosk-1", "crane-2", "ping", "--tally"),
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
        (
            "Half-open: the camera of berth 3 gets the request, and a list on the way back stops "
            "the "
            "answer."
        ),
        ("trace", "duty", "camera-3", "tcp/rtsp", "--expect", "half-open"),
    ),
    Step(
        "From the sea with an address of ours: it is dropped where it comes in.",
        ("trace", "visitor", "manifest", "https", "--as", "10.64.20.40", "--expect", "deny"),
    ),
    Step(
        "A flood: what is beyond the rate that the list permits goes on to the next entry.",
        ("trace", "visitor", "timetable", "https", "-4", "--flood", "--expect", "deny"),
    ),
    Step(
        (
            "Who still speaks an old TLS gets a connection, and no answer: the list judges what "
            "server and client settle on."
        ),
        ("trace", "visitor", "timetable", "https", "-4", "--tls", "1.1", "--expect", "half-open"),
    ),
    Step(
        "The laptop is known by its hardware address, and its frames get no further than its port.",
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
    Step(
        (
            "What must hold, proved at every hour and for every address: the table written before "
            "the "
            "lists."
        ),
        ("verify", "--tally"),
    ),
    Step(
        "And seen: the same claims tried with real packets between real network stacks.",
        ("rehearse", "--expectations"),
        needs="rehearse",
    ),
    Step("The counters: which lines decided so far.", ("tally",)),
    Step("Who reaches whom.", ("grid", "ping", "booking", "--at", "mon 12:00")),
    Step("Mistakes: what is written but does not do what was meant.", ("check",)),
    Step(
        "Exactly what gets from the ticket hall to the harbour office, and what stops the rest.",
        ("reach", "tickets", "harbour", "--at", "mon 12:00"),
    ),
    Step(
        "A colleague proposes to move one line up. What would that open?", ("compare", PROPOSAL), 1
    ),
    Step(
        (
            "A day of the terminal's traffic, captured: what would these lists have stopped, and "
            "which line decides how much?"
        ),
        ("replay", DAY, "--zone", "UTC", "--top", "5"),
        needs="traffic",
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
        ("distil", DAY, "--into", "berths-need", "--place", "inbound", "pier.up", "--dry-run"),
        1,
        needs="traffic",
    ),
    Step(
        (
            "A new router has been set up for berth 4. What does its own configuration say, and "
            "what "
            "would it do here?"
        ),
        ("import", "ietf", DEVICE, "--dry-run"),
    ),
    Step(
        "A list as devices take it, in the standard's own terms: what these cannot say is refused.",
        ("export", "ietf-acl", "berth-1-in"),
        1,
    ),
    Step("And as people put it into a request for change.", ("export", "markdown", "kiosk-fence")),
    Step(
        (
            "The network with every list where it stands, and the way of the camera's answer to "
            "the "
            "gate that stops it."
        ),
        ("draw", "network", "--path", "duty", "camera-3", "tcp/rtsp", "--out", "network.svg"),
        needs="pictures",
    ),
    Step(
        "And all of it on one page, to hand on.",
        ("report", "--out", "report.html"),
        needs="pictures",
    ),
    Step(
        "The wildcard for three gate controllers, and whom else it lets in.",
        ("wild", "cover", "10.64.32.10", "10.64.33.10", "10.64.34.10"),
    ),
    Step(
        (
            "A new entry goes to the end, or where it still has an effect; first it is shown what "
            "it "
            "does."
        ),
        (
            "entry",
            "add",
            "guest-fence",
            "permit ntp guests to manifest",
            "--effective",
            "--dry-run",
        ),
    ),
    Step(
        "What could be mended, and by which edits? Each is proved before it is shown.", ("mend",), 1
    ),
    Step(
        "An edit that would lock out the people who run the network is refused.",
        ("entry", "add", "duty-only", "deny harbour", "--number", "5"),
        1,
    ),
    Step(
        "What to try on site, so that every line of the hall's list is seen at work.",
        ("sheet", "kiosk-fence", "--at", "mon 12:00"),
    ),
    Step(
        "And what came back is not what the plan says: which one thing is wrong there?",
        (
            "cause",
            "kiosk-1 to manifest booking silent",
            "kiosk-1 to manifest telnet silent",
            "kiosk-1 to crane-2 ping silent",
            "-4",
            "--at",
            "mon 12:00",
        ),
        1,
    ),
)


def write(folder: Path) -> None:
    """Write the demo's plans into a folder, which is made where needed. Raises `PlanError` rather
    than overwrite one.
    """
    with _told(folder):
        folder.mkdir(parents=True, exist_ok=True)
        plan, device = (
            (files(__package__) / "files" / name).read_bytes() for name in (PLAN, DEVICE)
        )
        (folder / PROPOSAL).parent.mkdir(exist_ok=True)
        for name, data in ((PLAN, plan), (PROPOSAL, plan.replace(*_SLIP)), (DEVICE, device)):
            put_file(folder / name, data, fresh=True)


def write_traffic(folder: Path) -> None:
    """Write the demo's captures and its table of flows into a folder. Raises `PlanError` rather
    than overwrite one.
    """
    with _told(folder):
        day = Day()
        write_captures(folder, day)
        if find_spec("pyarrow") is not None:
            write_flows(folder, day)


@contextmanager
def _told(folder: Path) -> Iterator[None]:
    try:
        yield
    except OSError as error:
        raise PlanError(f"the demo cannot be written into {folder}: {error.strerror}") from None
