"""Microseconds an entry for reading a plan of 1,000, 10,000 and 100,000 entries; at most 25, and
flat.

The reference is `str.split` of the same lines, so that the ratio does not depend on the machine.
"""

from __future__ import annotations

import sys
import tempfile
import time
import tracemalloc
from pathlib import Path

sys.path.insert(0, str(Path(__file__).parent))
from crossgate.language.reader import read_plan
from synthetic import plan


def main() -> None:
    """Read each size three times and print the fastest, and the memory that an entry takes."""
    with tempfile.TemporaryDirectory() as temporary:
        path = Path(temporary, "big.gate")
        for count in (1_000, 10_000, 100_000):
            text = plan(count)
            path.write_text(text)
            times, splits = [], []
            for _ in range(3):
                start = time.perf_counter()
                read_plan(path)
                times.append(time.perf_counter() - start)
                start = time.perf_counter()
                for line in text.split("\n"):
                    line.split()
                splits.append(time.perf_counter() - start)
            each = min(times) / count * 1e6
            print(
                f"{count:>7,} entries: {each:5.1f} microseconds an entry (at most 25), "
                f"{min(times) / min(splits):4.1f} times str.split"
            )
        tracemalloc.start()
        held = read_plan(path)
        size = tracemalloc.get_traced_memory()[0] / len(held.lists["big"].entries)
        print(f"memory: {size:.0f} bytes an entry held (at most 1,024)")


if __name__ == "__main__":
    main()
