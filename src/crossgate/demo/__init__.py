"""The demo's files, and the steps that show the whole job on them."""

from __future__ import annotations

from importlib.resources import files
from pathlib import Path
from typing import NamedTuple

from crossgate.core.errors import PlanError

PLAN = "ternhaven.gate"
PROPOSAL = f"proposal/{PLAN}"
_SLIP = (
    (
        b"    20 deny   ip     any    to terminal\n    30 permit ip     guests to any\n",
        b"    15 permit ip     guests to any\n    20 deny   ip     any    to terminal\n",
    ),
)
"""What the proposal does otherwise: the broad permit was moved up by one line, above the denial that it must stand below."""


class Step(NamedTuple):
    """One command of the demo: what it shows, its words, and the exit status that it is meant to end with."""

    shows: str
    words: tuple[str, ...]
    status: int = 0


STEPS = (
    Step("The lists as they are read, with what their names stand for.", ("lists", "12", "kiosk-fence", "--at", "mon 12:00")),
    Step("A kiosk may book: every leg, every place it crosses.", ("trace", "kiosk-1", "manifest", "tcp/8443", "-4")),
    Step("It may not talk to a crane: no entry is for it, so the otherwise line decides.", ("trace", "kiosk-1", "crane-2", "ping")),
    Step("Telnet is rejected: the sender is told. An option makes a trace a test.",
         ("trace", "kiosk-1", "manifest", "telnet", "-4", "--expect", "deny")),
    Step("The gate controllers are let through by one scattered wildcard.", ("trace", "gate-3", "crane-1", "tcp/502")),
    Step("The duty officer reaches the cranes at night only.", ("trace", "duty", "crane-1", "ssh", "--at", "mon 23:00")),
    Step("Half-open: the camera of berth 3 gets the request, and a list on the way back stops the answer.",
         ("trace", "duty", "camera-3", "tcp/rtsp", "--expect", "half-open")),
    Step("In IPv6 a fence of its own stands at the same place.", ("trace", "kiosk-2", "manifest", "ssh", "-6")),
    Step("Mistakes in the plan: here none.", ("check",)),
)  # fmt: skip


def write(folder: Path) -> None:
    """Write the demo's files into a folder, which is made where needed. Raises `PlanError` rather than overwrite a plan."""
    try:
        folder.mkdir(parents=True, exist_ok=True)
        plan = (files(__package__) / "files" / PLAN).read_bytes()
        proposal = plan
        for old, new in _SLIP:
            assert old in proposal, "the proposal's slip must be in the plan"
            proposal = proposal.replace(old, new)
        (folder / PROPOSAL).parent.mkdir(exist_ok=True)
        for name, data in ((PLAN, plan), (PROPOSAL, proposal)):
            with (folder / name).open("xb") as target:
                target.write(data)
    except FileExistsError as error:
        raise PlanError(f"{error.filename} is there already; name another folder, nothing is overwritten") from None
    except OSError as error:
        raise PlanError(f"the demo cannot be written into {folder}: {error.strerror}") from None
