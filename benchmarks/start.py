"""Whole-process times against a bare Typer program with one command: a trace, the version,
completions, and how the plan stands.
"""

from __future__ import annotations

import os
import subprocess
import sys
import tempfile
import time
from collections.abc import Sequence
from pathlib import Path
from typing import NamedTuple

from crossgate.demo import PLAN, write

BARE = """
import typer
app = typer.Typer()

@app.callback()
def options(plan: str = ""): ...

@app.command()
def trace(source: str, destination: str, service: str):
    print(source, destination, service)

app()
"""
RUNS = 15


LARGE = (
    "subnet n 10.0.0.0/24\nhost one 10.0.0.1 on n\nlist big extended ipv4\n"
    + "    permit tcp/443 10.0.0.0/24 to 192.0.2.1\n" * 10_000
    + "list small standard ipv4\n    10 deny any\n"
)


class Measured(NamedTuple):
    """A command line, what the shell asks for where it is a completion, and how many times as long
    as the bare program it may take.
    """

    name: str
    words: tuple[str, ...]
    typed: str
    most: float


MEASURED = (
    Measured("trace", ("--plan", PLAN, "trace", "kiosk-1", "manifest", "tcp/8443"), "", 1.5),
    Measured("--version", ("--version",), "", 1.3),
    Measured("completing a command", (), "tra", 1.3),
    Measured("completing a host at 10,000 entries", (), "--plan large.gate trace o", 1.3),
    Measured(
        "completing an entry of a small list there", (), "--plan large.gate entry drop small ", 1.3
    ),
    Measured("crossgate alone on the demo", ("--plan", PLAN), "", 3.0),
)


def seconds(words: Sequence[str], folder: Path, typed: str = "") -> float:
    """Return the wall time of one run of a program."""
    # Installed packages come compiled; an environment that forbids that for a checkout would
    # measure the compiler.
    environment = {
        name: value for name, value in os.environ.items() if name != "PYTHONDONTWRITEBYTECODE"
    }
    if typed:
        line = f"crossgate {typed}"
        environment |= {
            "_CROSSGATE_COMPLETE": "complete_bash",
            "COMP_WORDS": line,
            "COMP_CWORD": str(line.count(" ")),
        }
    start = time.perf_counter()
    subprocess.run(
        [sys.executable, *words], cwd=folder, check=True, stdout=subprocess.DEVNULL, env=environment
    )
    return time.perf_counter() - start


OURS = "import sys; sys.argv[0] = 'crossgate'; from crossgate.__main__ import main; main()"


def main() -> None:
    """Run each in turn with the bare program and print the fastest of both."""
    with tempfile.TemporaryDirectory() as temporary:
        folder = Path(temporary)
        write(folder)
        (folder / "bare.py").write_text(BARE)
        (folder / "large.gate").write_text(LARGE)
        for measured in MEASURED:
            ours, bare = [], []
            for _ in range(RUNS):
                bare.append(seconds(["bare.py", "trace", "a", "b", "c"], folder))
                ours.append(seconds(["-c", OURS, *measured.words], folder, measured.typed))
            print(
                f"{measured.name}: {min(ours) * 1000:.0f} ms, bare Typer {min(bare) * 1000:.0f} "
                "ms: "
                f"{min(ours) / min(bare):.2f} times (at most {measured.most})"
            )


if __name__ == "__main__":
    main()
