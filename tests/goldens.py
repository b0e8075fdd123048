"""What the commands print on two plans, at 80 and 200 columns: `make golden` writes it, and a
person reads it before it is committed.
"""

from __future__ import annotations

import os
import shutil
import subprocess
import sys
import tempfile
from pathlib import Path
from typing import NamedTuple

from crossgate.demo import write, write_traffic

HERE = Path(__file__).with_name("golden")
WIDTHS = (80, 200)
AT = ("--at", "2026-11-30 12:00")
"""The time of all that depends on it, so that it prints the same on every day."""


class Golden(NamedTuple):
    """A command whose output is kept: its plan, its name among the files, and its words."""

    plan: str
    name: str
    words: tuple[str, ...]


DEMO, LONG = "ternhaven", "long-names"
_ON_BOTH = {
    "check": ("check",),
    "lists-short": ("lists", "--short"),
    "lists": ("lists", *AT),
    "verify": ("verify",),
    "verify-full": ("verify", "--full"),
    "any-one-down": ("verify", "--any-one-down"),
    "grid": ("grid", "ping", "https", *AT),
    "tally": ("tally",),
}
_ON_DEMO = {
    "lists-words": ("lists", "--words"),
    "trace-week": ("trace", "duty", "crane-1", "ssh", "--week", *AT),
    "about-host": ("about", "kiosk-1", *AT),
    "about-group": ("about", "terminal", *AT),
    "sheet": ("sheet", *AT),
    "cause": (
        "cause",
        "kiosk-1 to manifest booking silent",
        "kiosk-1 to manifest telnet silent",
        "-4",
        *AT,
    ),
    "trace": ("trace", "kiosk-1", "manifest", "tcp/8443", "-4", *AT),
    "trace-many": ("trace", "tickets", "servers", "booking", "domain", "ping", *AT),
    "points": ("points", "guest-1", "crane-2"),
    "grid-of-sets": (
        "grid",
        "ip",
        "--from",
        "tickets",
        "--from",
        "guests",
        "--from",
        "internet",
        "--to",
        "harbour",
        "--to",
        "cranes",
        *AT,
    ),
    "reach": ("reach", "guests", "internet", *AT),
    "compare": ("compare", f"proposal/{DEMO}.gate"),
    "entry-add": ("entry", "add", "guest-fence", "permit ntp guests to manifest", "--dry-run"),
    "place-move": ("place", "guest-fence", "inbound", "pier.up", "--move", "--dry-run"),
    "fence": ("fence", "berth-2", "--dry-run"),
    "replay": ("replay", "day.pcap", "--zone", "UTC"),
    "replay-from": ("replay", "sea.pcap", "--from", "breakwater.sea", "--zone", "UTC"),
    "replay-against": (
        "replay",
        "flows.parquet",
        "--against",
        f"proposal/{DEMO}.gate",
        "--zone",
        "UTC",
    ),
    "replay-list": ("replay", "day.pcap", "--list", "kiosk-fence", "--zone", "UTC", "--top", "3"),
    "distil": (
        "distil",
        "day.pcap",
        "--into",
        "berths-need",
        "--place",
        "inbound",
        "pier.up",
        "--dry-run",
    ),
    "import": ("import", "ietf", "gangway.json", "--dry-run"),
    "wild": ("wild", "cover", "10.64.32.10", "10.64.33.10", "10.64.34.10"),
    "help-word": ("help", "half-open"),
}
_ON_LONG = {
    "trace": ("trace", "ticket-vending-machine-1", "manifest-database-server", "tcp/8443"),
    "trace-many": (
        "trace",
        "passenger-hall-northeast",
        "manifest-database-server,container-crane-number-1",
        "tcp/8443",
        "telnet",
        "ping",
    ),
    "points": ("points", "ticket-vending-machine-1", "container-crane-number-1"),
    "grid-of-sets": (
        "grid",
        "ip",
        "--from",
        "passenger-hall-northeast",
        "--from",
        "transatlantic-providers",
        "--to",
        "administration-buildings",
        "--to",
        "container-terminal-south",
        "--to",
        "lighthouse-switch-number",
    ),
    "reach": ("reach", "passenger-hall-northeast", "administration-buildings"),
    "reach-all": ("reach", "passenger-hall-northeast", "administration-buildings", "--all"),
    "entry-drop": ("entry", "drop", "passenger-hall-fence-ip6", "50", "--dry-run"),
    "lift": ("lift", "container-terminal-fence", "--dry-run"),
    "standing": (),
}
GOLDEN = [
    Golden(plan, name, words)
    for plan, own in ((DEMO, _ON_BOTH | _ON_DEMO), (LONG, _ON_BOTH | _ON_LONG))
    for name, words in own.items()
]


def prepare(folder: Path, traffic: Path) -> None:
    """Write the plans into a folder, and put the demo's captures and flows there, which are in
    another one.
    """
    write(folder)
    for each in traffic.iterdir():
        shutil.copy(each, folder)
    shutil.copy(HERE / f"{LONG}.gate", folder)


def kept(golden: Golden, columns: int) -> Path:
    """Return the file that keeps what a command prints."""
    return HERE / str(columns) / f"{golden.plan}-{golden.name}.txt"


def words_of(golden: Golden) -> tuple[str, ...]:
    """Return the whole command line."""
    return ("--plan", f"{golden.plan}.gate", *golden.words)


def main() -> None:
    """Write everything anew."""
    with tempfile.TemporaryDirectory() as temporary, tempfile.TemporaryDirectory() as traffic:
        write_traffic(Path(traffic))
        prepare(Path(temporary), Path(traffic))
        for columns in WIDTHS:
            (HERE / str(columns)).mkdir(exist_ok=True)
            for golden in GOLDEN:
                environment = {
                    name: value for name, value in os.environ.items() if name != "CROSSGATE_PLAN"
                } | {"COLUMNS": str(columns)}
                words = [sys.executable, "-m", "crossgate", *words_of(golden)]
                done = subprocess.run(
                    words,
                    cwd=temporary,
                    env=environment,
                    capture_output=True,
                    text=True,
                    check=False,
                )
                kept(golden, columns).write_text(done.stdout + done.stderr, encoding="utf-8")


if __name__ == "__main__":
    main()
