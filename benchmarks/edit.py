"""An edit of a plan with 10,000 entries, preview included, whole process: at most 3 s.

The reference is `crossgate lists` with nothing to show of the same plan, which reads it once.
"""

from __future__ import annotations

import subprocess
import sys
import tempfile
import time
from pathlib import Path

sys.path.insert(0, str(Path(__file__).parent))
from synthetic import entries

HEAD = """
subnet a 10.0.0.0/24
subnet b 10.9.0.0/24
router r
    interface a 10.0.0.1/24 on a
    interface b 10.9.0.1/24 on b
host one 10.0.0.9 on a
host two 10.9.0.9 on b
"""
TAIL = "place big inbound on r.a\nexpect permit tcp/443 one to two\n"


def seconds(folder: Path, *words: str) -> float:
    """Return the wall time of one run."""
    start = time.perf_counter()
    subprocess.run(
        [sys.executable, "-m", "crossgate", *words],
        cwd=folder,
        check=True,
        stdout=subprocess.DEVNULL,
    )
    return time.perf_counter() - start


def main() -> None:
    """Run three edits and print the fastest."""
    with tempfile.TemporaryDirectory() as temporary:
        folder = Path(temporary)
        lines = ["list big extended ipv4", *entries(10_000), "    otherwise permit", ""]
        (folder / "big.gate").write_text(HEAD + "\n".join(lines) + TAIL)
        reading = min(seconds(folder, "tally") for _ in range(3))
        words = (
            "entry",
            "add",
            "big",
            "permit tcp/443 10.0.0.0/24 to 10.9.0.0/24",
            "--number",
            "5",
            "--dry-run",
            "--anyway",
        )
        edit = min(seconds(folder, *words) for _ in range(3))
        print(
            f"an edit of 10,000 entries: {edit:.2f} s (at most 3), {edit / reading:.1f} times "
            "reading the plan"
        )


if __name__ == "__main__":
    main()
