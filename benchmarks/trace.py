"""One conversation traced in process on the demo, at most 200 microseconds; a grid of 120,000
conversations, at most 20 s.

The reference for one conversation is a plain loop of `AccessList.decide` over the same crossings,
without any index.
"""

from __future__ import annotations

import sys
import tempfile
import time
from pathlib import Path

sys.path.insert(0, str(Path(__file__).parent))
from crossgate.core.answers.grid import cells
from crossgate.core.conversation.opening import conversations
from crossgate.core.conversation.packets import Tracer
from crossgate.core.network.endpoints import pairs
from crossgate.core.network.ways import Network
from crossgate.demo import PLAN, write
from crossgate.language.reader import read_plan
from synthetic import site

ROUNDS = 3_000


def one_conversation(folder: Path) -> None:
    """Time the demo's first trace, with paths and lists met before, as in a grid."""
    write(folder)
    plan = read_plan(folder / PLAN)
    network = Network(plan)
    tracer = Tracer(network)
    source, destination = pairs(network, "kiosk-1", "manifest")[0]
    (conversation,) = conversations(
        plan.service("tcp/8443", source.address.family), source, destination
    )
    trace = tracer.trace(conversation)
    start = time.perf_counter()
    for _ in range(ROUNDS):
        tracer.trace(conversation)
    seconds = (time.perf_counter() - start) / ROUNDS
    asked = [
        (each.access_list, leg.packet)
        for leg in trace.legs
        for each in leg.asked
        if each.access_list
    ]
    start = time.perf_counter()
    for _ in range(ROUNDS):
        for access_list, packet in asked:
            access_list.decide(packet)
    plain = (time.perf_counter() - start) / ROUNDS
    print(
        f"one conversation: {seconds * 1e6:.0f} microseconds (at most 200), {seconds / plain:.1f} "
        "times its lists asked one by one"
    )


def large_grid(folder: Path) -> None:
    """Time a grid of 200 hosts by 200 for three services."""
    path = folder / "site.gate"
    path.write_text(site())
    plan = read_plan(path)
    network = Network(plan)
    start = time.perf_counter()
    found = sum(
        1
        for _ in cells(
            Tracer(network), list(plan.hosts), list(plan.hosts), ["tcp/443", "udp/53", "ping"]
        )
    )
    seconds = time.perf_counter() - start
    print(
        f"a grid of {found:,} conversations: {seconds:.1f} s (at most 20), "
        f"{seconds / found * 1e6:.0f} microseconds each"
    )


def main() -> None:
    """Measure both."""
    with tempfile.TemporaryDirectory() as temporary:
        one_conversation(Path(temporary, "demo"))
        large_grid(Path(temporary))


if __name__ == "__main__":
    main()
