"""Whatever a file of traffic holds, it is read or told; never is it a fault of the program."""

from __future__ import annotations

import json
import os
import random
import time
from contextlib import suppress
from datetime import UTC
from pathlib import Path

from crossgate.core.answers.distil import Distiller
from crossgate.core.answers.replay import Replay
from crossgate.core.model.errors import PlanError
from crossgate.core.network.ways import Network
from crossgate.demo import PLAN
from crossgate.demo.traffic import SEA
from crossgate.formats.readers.traffic import Traffic
from crossgate.language.reader import read_plan

ROWS = [
    {
        "src": f"10.64.{row % 50}.{row}",
        "dst": "10.64.20.10",
        "proto": (6, 17, 1, 47)[row % 4],
        "sport": 50_000 + row,
        "dport": row * 20,
        "flags": row,
        "pkts": row,
        "start": 1_764_000_000 + row,
    }
    for row in range(60)
]


def test_mutated_traffic_is_read_or_told(demo: Path, day: Path) -> None:
    """Seeded mutations of a capture and of tables; CROSSGATE_FUZZ says for how many seconds, else
    there are a few hundred.
    """
    whole = (day / SEA).read_bytes()[:8_000]
    lines = [",".join(ROWS[0]), *(",".join(map(str, row.values())) for row in ROWS)]
    originals = [
        whole,
        whole,
        "\n".join(lines).encode(),
        "".join(json.dumps(row) + "\n" for row in ROWS).encode(),
    ]
    seconds = float(os.environ.get("CROSSGATE_FUZZ", "0"))
    chance, start, count = random.Random(14 if not seconds else time.time_ns()), time.monotonic(), 0
    plan = read_plan(demo / PLAN)
    network = Network(plan)
    while count < 300 or time.monotonic() - start < seconds:
        count += 1
        path = demo / "mutated"
        path.write_bytes(mutated(chance.choice(originals), chance))
        with suppress(PlanError):
            replayed(network, path)


def replayed(network: Network, path: Path) -> None:
    replay = Replay(network, UTC)
    for batch, flows in Traffic([path], {}, 0).batches():
        for family, seen in batch.items():
            list(replay.add(family, seen, network.plan.client_ports if flows else None))
    for part in replay.rest():
        distiller = Distiller(network.plan, part.seen.packets.family)
        distiller.add(part.seen, every=True)
        assert sum(each.conversations for each in distiller.entries()) == len(part.seen)
    assert replay.sums.first is None or replay.clock.wall(replay.sums.first)


def mutated(original: bytes, chance: random.Random) -> bytes:
    """Change some octets of a file, or take some out or in, or cut it off."""
    data = bytearray(original)
    for _ in range(chance.choice((1, 3, 10, 60))):
        if not data:
            break
        place, kind = chance.randrange(len(data)), chance.random()
        if kind < 0.6:
            data[place] = chance.randrange(256)
        elif kind < 0.8:
            del data[place : place + chance.randrange(1, 30)]
        elif kind < 0.95:
            data[place:place] = chance.randbytes(chance.randrange(1, 9))
        else:
            del data[place:]
    return bytes(data)
