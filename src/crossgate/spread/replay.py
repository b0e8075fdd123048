"""A replay of traffic whose parts are done by other processes."""

from __future__ import annotations

import tempfile
from collections.abc import Callable
from pathlib import Path

from crossgate.core.answers.replay import Replay
from crossgate.core.model.errors import PlanError
from crossgate.formats.readers.traffic import Traffic, size
from crossgate.formats.verdicts import VerdictTable, verdict_rows
from crossgate.spread.jobs import packed
from crossgate.spread.parts import Job, Parts, replay_part
from crossgate.spread.pools import Pool

_PART = 64 << 20
"""About so many octets of a file go to each part."""
_MOST, _EACH = 512, 4
"""At most so many parts, and at least so many for each worker."""


def replay_in_parts(
    replay: Replay,
    job: Job,
    traffic: Traffic,
    pool: Pool,
    table: VerdictTable | None,
    tell: Callable[[int, int], None],
) -> None:
    """Divide all traffic, have its parts replayed, and add up the results in `replay`, which itself
    traces only what rate limits count. Raises `PlanError` for what cannot be read, and where there
    is no space for the parts.
    """
    count = min(max(_EACH * pool.size, size(traffic.paths) // _PART), _MOST)
    with tempfile.TemporaryDirectory(prefix="crossgate-") as folder:
        parts = Parts(Path(folder), count)
        try:
            for seen, flows in traffic.batches():
                for family, each in seen.items():
                    parts.add(
                        family,
                        replay.arrived(family, each, job.plan.client_ports if flows else None),
                    )
                tell(traffic.rows, traffic.octets)
            parts.close()
        except OSError as error:
            raise PlanError(
                f"parts of the traffic cannot be kept in {folder}: {error.strerror or error}; "
                "TMPDIR names another place"
            ) from None
        for done in pool.done(replay_part, packed(job), parts.paths):
            replay.sums.include(done.sums)
            if table is not None and done.rows is not None:
                table.write(done.rows)
            replay.wait(done.waiting)
        for ended in replay.rest():
            if table is not None:
                table.write(verdict_rows(ended, replay.tracer))
