"""Traffic in parts: replayed apart, by whomever, and added up, they come to the single run's answer
to the last count.
"""

from __future__ import annotations

import os
import random
import shutil
import signal
import socket
import subprocess
import sys
import threading
import time
from collections.abc import Callable, Iterator
from contextlib import closing
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

import dask
import numpy as np
import pyarrow as pa
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from pyarrow import parquet

from crossgate.core.answers.replay import Replay
from crossgate.core.audit import audit, audit_share, together
from crossgate.core.model.address import Family
from crossgate.core.model.errors import PlanError
from crossgate.core.model.packet import Packet
from crossgate.core.network.ways import Network
from crossgate.core.traffic.seen import SECOND
from crossgate.core.traffic.session import Session
from crossgate.formats.verdicts import verdict_rows
from crossgate.language.reader import read_plan
from crossgate.spread.jobs import packed
from crossgate.spread.parts import Job, Parts, replay_part
from crossgate.spread.pools import ClusterPool, LocalPool, Pool, _see_scheduler
from tests import net
from tests.conftest import Ask, Run
from tests.core.answers.test_replay import MONDAY, seen
from tests.core.network import reference

COUNT = 5


def told(replay: Replay) -> tuple[Any, ...]:
    sums = replay.sums
    lines = [(each.name, [line[1:] for line in lines]) for each, lines in replay.lines()]
    numbers = (
        sums.verdicts,
        sums.on_link,
        sums.unmet,
        sums.nowhere,
        sums.first,
        sums.last,
        replay.again,
        replay.backwards,
    )
    return (*numbers, lines, replay.stopped())


def swapped(packet: Packet) -> Packet:
    return packet._replace(
        source=packet.destination,
        destination=packet.source,
        source_port=packet.destination_port,
        destination_port=packet.source_port,
    )


def sorted_rows(tables: list[pa.Table]) -> list[dict[str, Any]]:
    return sorted((row for each in tables for row in each.to_pylist()), key=str)


@settings(max_examples=60)
@given(
    text=net.plans(),
    family=st.sampled_from(Family),
    chosen=st.integers(0, 1_000),
    compared=st.booleans(),
    data=st.data(),
)
def test_parts_add_up_to_the_whole(
    tmp_path: Path, text: str, family: Family, chosen: int, compared: bool, data: st.DataObject
) -> None:
    see_parts(tmp_path, text, family, chosen, compared, data.draw(st.integers(1, 5)))


LIMITED = """list l0 extended ipv4
    permit tcp any to any during open at most 2 a second
    otherwise permit
place l0 inbound on left.a
list l1 extended ipv4
    otherwise deny
place l1 inbound on left itself
list frames extended ethernet
    deny ipv4 pinned to any
    otherwise permit
place frames inbound on hub.1
"""


def test_what_waited_for_its_limits_adds_up_with_the_parts(tmp_path: Path) -> None:
    network = net.NETWORK.format(left="", right="")
    text = network.replace("at hub.1", "at hub.1 mac 00:00:5e:00:53:02") + LIMITED
    for chosen in range(8):
        see_parts(tmp_path, text, Family.IPV4, chosen, compared=False, batches=3)


def see_parts(
    tmp_path: Path, text: str, family: Family, chosen: int, compared: bool, batches: int
) -> None:
    path = tmp_path / "plan.gate"
    path.write_text(text)
    other = tmp_path / "other.gate"
    other.write_text(net.NETWORK.format(left="", right=""))
    job = Job(
        read_plan(path), read_plan(other) if compared else None, None, UTC, 300 * SECOND, rows=True
    )
    draw = random.Random(chosen)
    openings = draw.sample(list(net.openings(family)), 12)
    alone, spread, done = job.replay(), job.replay(), []
    rows = []
    shutil.rmtree(tmp_path / "parts", ignore_errors=True)
    (tmp_path / "parts").mkdir()
    parts = Parts(tmp_path / "parts", COUNT)
    now = MONDAY
    for _ in range(batches):
        packets = draw.choices(openings, k=10)
        turned = [swapped(each) if draw.random() < 0.3 else each for each in packets]
        # Some batches begin before the last one ended, by less or by more than the idle time.
        now += draw.choice([SECOND, 200 * SECOND, -150 * SECOND, -400 * SECOND])
        times = [now + draw.choice([0, 5_000, SECOND, 299 * SECOND, 301 * SECOND]) for _ in packets]
        batch = seen(turned, times)
        batch.identity[:] = np.array([draw.randrange(4) for _ in packets], np.uint64)
        rows += [verdict_rows(each, alone.tracer) for each in alone.add(family, batch)]
        parts.add(family, spread.arrived(family, batch))
    rows += [verdict_rows(each, alone.tracer) for each in alone.rest()]
    parts.close()
    octets = packed(job)
    for number, part in enumerate(parts.paths):
        done.append(replay_part(octets, part if number % 2 else part.read_bytes()))
        spread.sums.include(done[-1].sums)
        spread.wait(done[-1].waiting)
    tables = [each.rows for each in done if each.rows is not None] + [
        verdict_rows(each, spread.tracer) for each in spread.rest()
    ]
    assert told(spread) == told(alone)
    assert sorted_rows(tables) == sorted_rows(rows)


def flows_in_parts(traffic: Path, folder: Path) -> tuple[Job, Replay, Parts]:
    """Return the demo's flows in many parts, and the answer of the single run."""
    from crossgate.formats.readers.traffic import Traffic

    plan = read_plan(traffic / "ternhaven.gate")
    job = Job(plan, None, None, UTC, 300 * SECOND, rows=False)
    alone, parts = job.replay(), Parts(folder, 12)
    for batch, _ in Traffic([traffic / "flows.parquet"], {}, 0).batches():
        for family, each in batch.items():
            arrived = alone.arrived(family, each, plan.client_ports)
            parts.add(family, arrived)
            list(alone.put(family, arrived))
    list(alone.rest())
    parts.close()
    return job, alone, parts


def added_up(pool: Pool, job: Job, parts: Parts, victim: Callable[[], int]) -> Replay:
    """Have parts replayed, and kill a worker after the first."""
    spread = Replay(Network(job.plan), UTC)
    with closing(pool):
        for number, done in enumerate(pool.done(replay_part, packed(job), parts.paths)):
            if not number:
                os.kill(victim(), signal.SIGKILL)
            spread.sums.include(done.sums)
            spread.wait(done.waiting)
    list(spread.rest())
    return spread


@pytest.mark.process
@pytest.mark.parametrize("copies", [False, True])
def test_a_process_that_is_killed_costs_nothing_but_time(
    traffic: Path, tmp_path: Path, monkeypatch: pytest.MonkeyPatch, copies: bool
) -> None:
    job, alone, parts = flows_in_parts(traffic, tmp_path)
    monkeypatch.setattr(threading, "active_count", lambda: 1)  # those of the tests hold no lock
    pool = LocalPool(2, copies)
    assert pool.inherits is (copies and sys.platform == "linux")
    spread = added_up(pool, job, parts, lambda: next(iter(pool._executor._processes)))
    assert told(spread)[:6] == told(alone)[:6]
    assert told(spread)[8:] == told(alone)[8:]
    assert sum(each.conversations for each in spread.sums.verdicts.values()) > 1_000


@settings(max_examples=8, deadline=None)
@given(st.integers(0, 1 << 32), st.integers(1, 4), st.randoms(use_true_random=False))
def test_findings_of_some_lists_each_come_to_those_of_all(
    seed: int, count: int, draw: random.Random
) -> None:
    plan = reference.random_plan(seed)
    shares: list[set[str]] = [set() for _ in range(count)]
    for name in plan.every_list:
        draw.choice(shares).add(name)
    others = draw.randrange(count)
    now = datetime(2026, 12, 1, 9)
    whole = audit(Session(plan), now)
    found = [
        audit_share(Session(plan), now, names, number == others)
        for number, names in enumerate(shares)
    ]
    assert together(plan, found) == whole
    session = Session(plan)  # as a worker does one share after the other
    one_by_one = [
        audit_share(session, now, names, with_others)
        for names, with_others in (({*plan.every_list}, False), (set[str](), True))
    ]
    assert together(plan, one_by_one) == whole


@pytest.mark.process
def test_a_check_that_is_shared_tells_the_same_to_the_letter(
    run: Run, launch: Run, traffic: Path
) -> None:
    alone = run("check", "--json").stdout
    for way in (run, launch):  # a process with threads, as the tests', is not copied
        shared = way("check", "--workers", "2", "--json")
        assert (shared.returncode, shared.stdout) == (0, alone)
    refused = run("check", "--workers", "2", "--cluster", "tcp://127.0.0.1:9")
    assert (refused.returncode, "exclude each other" in refused.stderr) == (2, True)


@pytest.fixture(scope="module")
def cluster(
    tmp_path_factory: pytest.TempPathFactory,
) -> Iterator[tuple[str, list[subprocess.Popen[bytes]]]]:
    """Start a scheduler and two workers as the README says, and give its address and the
    workers.
    """
    folder = tmp_path_factory.mktemp("cluster")
    found = folder / "scheduler.json"
    started: list[subprocess.Popen[bytes]] = []

    def start(*words: str) -> None:
        with (folder / f"log-{len(started)}").open("wb") as log:
            started.append(
                subprocess.Popen(
                    [sys.executable, "-m", "dask", *words], stdout=log, stderr=log, cwd=folder
                )
            )

    start(
        "scheduler",
        "--host",
        "127.0.0.1",
        "--port",
        "0",
        "--no-dashboard",
        "--scheduler-file",
        str(found),
    )
    for _ in range(2):
        start(
            "worker",
            "--scheduler-file",
            str(found),
            "--nworkers",
            "1",
            "--nthreads",
            "1",
            "--no-dashboard",
            "--no-nanny",
        )
    try:
        import json

        deadline = time.monotonic() + 60
        while not found.exists() or not found.read_text():
            assert time.monotonic() < deadline, (folder / "log-0").read_text()
            time.sleep(0.1)
        yield json.loads(found.read_text())["address"], started[1:]
    finally:
        for each in started:
            each.kill()
            each.wait()


@pytest.mark.long
@pytest.mark.process
def test_a_cluster_answers_as_the_single_run_does_even_when_a_worker_is_killed(
    run: Run,
    answer: Ask,
    traffic: Path,
    tmp_path: Path,
    cluster: tuple[str, list[subprocess.Popen[bytes]]],
) -> None:
    address, workers = cluster
    command = ["replay", str(traffic / "day.pcap"), "--zone", "UTC"]
    whole, table = answer(*command, "--out", "alone.parquet"), "spread.parquet"
    assert answer(*command, "--out", table, "--cluster", address) == whole
    assert sorted_rows([parquet.read_table(traffic / table)]) == sorted_rows(
        [parquet.read_table(traffic / "alone.parquet")]
    )
    refused = run("replay", str(traffic / "day.pcap"), "--cluster", address)
    assert refused.returncode == 2
    assert "--cluster needs --zone" in refused.stderr
    for each in (["check"], ["verify"], ["compare", str(traffic / "proposal" / "ternhaven.gate")]):
        assert run(*each, "--cluster", address).stdout == run(*each).stdout

    job, alone, parts = flows_in_parts(traffic, tmp_path)
    pool = ClusterPool(address)
    while pool.size < 2:  # the second one may still be on its way
        pool.close()
        time.sleep(0.2)
        pool = ClusterPool(address)
    spread = added_up(pool, job, parts, lambda: workers[0].pid)
    assert told(spread)[:6] == told(alone)[:6]
    assert told(spread)[8:] == told(alone)[8:]


@pytest.mark.parametrize(
    ("words", "problem"),
    [
        (("--workers", "2", "--cluster", "tcp://127.0.0.1:9"), "exclude each other"),
        (("--workers", "2", "--list", "KIOSKS"), "--workers is about conversations"),
        (
            ("--cluster", "nonsense://x", "--zone", "UTC"),
            "is no address of a scheduler; write tcp://HOST:PORT",
        ),
        (("--cluster", "tcp://127.0.0.1:99999", "--zone", "UTC"), "is no address of a scheduler"),
        (("--cluster", "", "--zone", "UTC"), "is no address of a scheduler"),
        (
            ("--cluster", "tls://127.0.0.1:9", "--zone", "UTC"),
            "has no distributed.comm.tls.ca-file",
        ),
        (
            ("--cluster", "tcp://127.0.0.1:9", "--zone", "UTC"),
            "no Dask scheduler answers there (Connection refused)",
        ),
    ],
)
def test_what_cannot_be_spread_is_told(
    run: Run, traffic: Path, words: tuple[str, ...], problem: str
) -> None:
    refused = run("replay", str(traffic / "day.pcap"), *words)
    assert refused.returncode == 2
    assert problem in refused.stderr


def test_a_scheduler_elsewhere_is_joined_behind_tls_or_when_the_network_is_trusted(
    monkeypatch: pytest.MonkeyPatch,
) -> None:
    class Connection:
        """A connection to a scheduler on another machine."""

        def __enter__(self) -> Connection:
            return self

        def __exit__(self, *_: object) -> None:
            pass

        def getpeername(self) -> tuple[str, int]:
            return "192.0.2.10", 8786

        def recv(self, _: int) -> bytes:
            return b"x"

    monkeypatch.setattr(
        "crossgate.spread.pools.socket.create_connection", lambda *_, **__: Connection()
    )
    with pytest.raises(
        PlanError, match=r"is neither on this machine nor behind TLS: .* or say --trusted-network"
    ):
        _see_scheduler("tcp://192.0.2.10:8786", trusted=False)
    _see_scheduler("tcp://192.0.2.10:8786", trusted=True)
    with dask.config.set({"distributed.comm.tls.ca-file": "ca.pem"}):
        _see_scheduler("tls://192.0.2.10:8786", trusted=False)


@pytest.mark.process
def test_what_listens_and_is_no_scheduler_is_told_in_one_sentence(
    launch: Run, traffic: Path
) -> None:
    with socket.create_server(("127.0.0.1", 0)) as server:
        address = f"127.0.0.1:{server.getsockname()[1]}"
        done = launch("replay", str(traffic / "day.pcap"), "--zone", "UTC", "--cluster", address)
    assert done.returncode == 2
    assert done.stderr.startswith(
        f"crossgate: --cluster {address}: no Dask scheduler answers there (nothing was heard for "
        "10 seconds"
    )
    assert done.stderr.count("\n") == 1


@pytest.mark.process
def test_nothing_is_printed_after_the_answer_of_a_cluster(
    launch: Run, traffic: Path, cluster: tuple[str, list[subprocess.Popen[bytes]]]
) -> None:
    done = launch(
        "replay", str(traffic / "flows.parquet"), "--zone", "UTC", "--cluster", cluster[0], "--json"
    )
    assert done.returncode == 0
    assert done.stderr == ""
