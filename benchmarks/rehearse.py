"""What a rehearsal costs: a frame on its way past two lists of 200, against the same frame read and
passed on without a question; and the start of a whole site, in seconds.
"""

from __future__ import annotations

import sys
import tempfile
import time
from collections.abc import Callable
from datetime import datetime
from pathlib import Path

sys.path.insert(0, str(Path(__file__).parent))
from crossgate.core.model.address import Family
from crossgate.core.model.errors import PlanError
from crossgate.language.reader import read
from crossgate.rehearsal import frames
from crossgate.rehearsal.fabric import Fabric
from crossgate.rehearsal.session import refusal, start
from sites import SIZES, site

FRAMES, FLOWS = 50_000, 5_000
MONDAY = datetime(2026, 11, 30, 12)
PLAN = """
subnet a 10.0.0.0/24
subnet b 10.0.1.0/24
router r{stateful}
    interface a 10.0.0.1/24 on a
    interface b 10.0.1.1/24 on b
host x 10.0.0.9 on a
host y 10.0.1.9 on b
list in extended ipv4
{tcp}    permit udp any to any
list out extended ipv4
{udp}    permit udp any to any
place in inbound on r.a
place out outbound on r.b
"""


def plan_text(stateful: bool) -> str:
    """Return a plan with two lists of 200 entries between two machines."""
    lines = {
        kind: "".join(
            f"    permit {kind}/{1000 + n} 10.0.0.0/24 to 10.0.1.0/24\n" for n in range(199)
        )
        for kind in ("tcp", "udp")
    }
    return PLAN.format(stateful=" stateful" * stateful, **lines)


def frame(port: int) -> bytes:
    """Return a frame with 1,000 octets of UDP from one machine to the other."""
    ends = bytes((10, 0, 0, 9, 10, 0, 1, 9))
    head = b"\x45\0\x04\x04\0\0\0\0\x40\x11\0\0" + ends
    return frames.framed(
        Family.IPV4, head + port.to_bytes(2) + b"\x17\x70\x03\xf0\0\0" + b"x" * 1000, 2, 1
    )


def rate(do: Callable[[bytes], object], several: list[bytes]) -> float:
    """Return how many frames are done in a second of processor time."""
    begun = time.process_time()
    for each in several:
        do(each)
    return len(several) / (time.process_time() - begun)


def passed(octets: bytes) -> bytes:
    """Read a frame and pass it on, without a question."""
    found = frames.read_frame(octets)
    assert found is not None
    return frames.passed_on(octets, found, 2, 1, frames.ends_of(found), 1)


def main() -> None:
    """Print the rates, each with its ratio to the reference of the same run."""
    one, many = [frame(5000)] * FRAMES, [frame(5000 + n) for n in range(FLOWS)]
    bare = rate(passed, one)
    print(f"{'read and passed on, nobody asked':<44}{bare:>10,.0f} a second")
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / "plan.gate"
        for stateful in (False, True):
            path.write_text(plan_text(stateful))
            fabric = Fabric(read(path).plan, lambda: MONDAY)
            name = f"two lists of 200, {'stateful' if stateful else 'stateless'}"
            for what, several in (("one flow", one), ("a flow each", many)):
                found = rate(lambda octets: fabric.receive("x", octets, 0.0), several)  # noqa: B023
                print(f"{f'{name}, {what}':<44}{found:>10,.0f} a second, {bare / found:.1f} times")
        why = refusal()
        for size in ("S", "M") if not why else ():
            path.write_text(site(SIZES[size], "two cores"))
            plan = read(path).plan
            begun = time.monotonic()
            try:
                session = start(plan, lambda: MONDAY)
            except PlanError as error:
                print(f"{size}: {error.message}")
                continue
            took = time.monotonic() - begun
            session.close()
            machines = len(plan.hosts) + len(plan.devices)
            print(f"{f'up, {size}: {machines} machines':<44}{took:>10.1f} s")
        if why:
            print(f"no rehearsal was started: {why}")


if __name__ == "__main__":
    main()
