"""All equal paths of a site at once: time and memory, against walking one path of one pair, times
the pairs.

`the walk` is all columns of a family (`core.network.way_graphs`), `a row` the graphs from one
origin to all address classes after that. Each site is walked in a process of its own, so that the
memory is its own.
"""

from __future__ import annotations

import resource
import subprocess
import sys
import tempfile
import time
from pathlib import Path

from crossgate.core.model.address import Family
from crossgate.core.network.address_classes import address_classes
from crossgate.core.network.ways import Network
from crossgate.language.reader import read_plan
from sites import SHAPES, SIZES, site

_PATHS = 300
"""How many single paths are walked for the reference."""


def memory() -> float:
    """Return the most memory that this process has had, in MB."""
    return resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024


def walk(size: str, shape: str, family: Family) -> str:
    """Walk a site and return a line that says what it took."""
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / "site.gate"
        path.write_text(site(SIZES[size], shape, family))
        plan = read_plan(path)
    network = Network(plan)
    classes = address_classes(network, family)
    before = memory()
    start = time.process_time()
    graphs = network.graphs(family)
    ends = [each.end for each in classes if not each.scoped]
    for each in ends:
        graphs.node(ends[0], each.address)
    walked = time.process_time() - start
    used = memory() - before
    start = time.process_time()
    for each in ends:
        graphs.node(ends[-1], each.address)
    row = time.process_time() - start
    start = time.process_time()
    step = max(len(ends) // _PATHS, 1)
    pairs = list(zip(ends[::step], ends[step // 2 :: step], strict=False))[:_PATHS]
    for origin, destination in pairs:
        Network.path(network, origin, destination.address)
    one = (time.process_time() - start) / max(len(pairs), 1)
    every = one * len(ends) ** 2
    return (
        f"{size} {shape:<9} {family.label}: {len(ends):>5,} classes; the walk {walked:6.2f} s, "
        f"{used:4.0f} MB; a row {row * 1000:5.0f} ms; "
        f"one path {one * 1e6:4.0f} us, so all pairs {every:8,.1f} s: {every / walked:8,.0f} "
        "times the walk"
    )


def main() -> None:
    """Walk every site; with a size, a shape and a family, just that one."""
    if len(sys.argv) == 4:
        print(walk(sys.argv[1], sys.argv[2], Family(int(sys.argv[3]))))
        return
    for size in SIZES:
        for shape in SHAPES:
            for family in Family:
                subprocess.run(
                    [sys.executable, __file__, size, shape, str(int(family))], check=True
                )
    print("the walk of L: at most 2 s and 300 MB")


if __name__ == "__main__":
    main()
