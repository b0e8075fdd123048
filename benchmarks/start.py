"""Whole-process time of `crossgate trace` on the demo against a bare Typer program; at most 1.5 times."""

from __future__ import annotations

import os
import subprocess
import sys
import tempfile
import time
from pathlib import Path

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


def seconds(words: list[str], folder: Path) -> float:
    """Return the wall time of one run of a program."""
    # Installed packages come compiled; an environment that forbids that for a checkout would measure the compiler.
    environment = {name: value for name, value in os.environ.items() if name != "PYTHONDONTWRITEBYTECODE"}
    start = time.perf_counter()
    subprocess.run([sys.executable, *words], cwd=folder, check=True, stdout=subprocess.DEVNULL, env=environment)
    return time.perf_counter() - start


def main() -> None:
    """Run both in turn and print the fastest of each."""
    with tempfile.TemporaryDirectory() as temporary:
        folder = Path(temporary)
        write(folder)
        (folder / "bare.py").write_text(BARE)
        words = ["kiosk-1", "manifest", "tcp/8443"]
        ours, bare = [], []
        for _ in range(RUNS):
            bare.append(seconds(["bare.py", "trace", *words], folder))
            ours.append(seconds(["-m", "crossgate", "--plan", PLAN, "trace", *words], folder))
    print(
        f"crossgate trace {min(ours) * 1000:.0f} ms, bare Typer {min(bare) * 1000:.0f} ms: {min(ours) / min(bare):.2f} times (at most 1.5)"
    )


if __name__ == "__main__":
    main()
