"""Captures, logs and records of flows, replayed through a plan."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from datetime import datetime
from pathlib import Path
from typing import TYPE_CHECKING, Any

from crossgate.core.model.address import Family
from crossgate.core.model.errors import PlanError
from crossgate.core.model.plaintext import listed
from crossgate.core.model.plan import Plan

if TYPE_CHECKING:
    import pyarrow as pa

    from crossgate.core.traffic.seen import Seen


def replay(plan: Plan, flows: Any, *, columns: str | Sequence[str] = ()) -> pa.Table:
    """Replay packets or flow records through a plan, and return a row for each conversation, with
    its verdict and what stopped it.

    `flows` are the path of a file or a list of paths, as the command takes them, or a table: a
    pandas data frame, a pyarrow table, or anything else that pyarrow can convert, with columns
    named by IPFIX elements or the usual short forms; `columns` name others as `WHAT=NAME`, as the
    option `--column` does. Needs the extra `traffic`. Raises `PlanError` for a table without
    addresses and protocol, and for a file that cannot be read to its end.
    """
    import pyarrow as pa

    from crossgate.core.answers.replay import Replay
    from crossgate.core.network.ways import Network
    from crossgate.formats.verdicts import NO_VERDICTS, verdict_rows

    replaying = Replay(Network(plan), plan.time_zone)
    rows = [NO_VERDICTS]
    for seen, is_flows in _batches(flows, listed(columns)):
        for family, batch in seen.items():
            ended = replaying.add(family, batch, plan.client_ports if is_flows else None)
            rows += [verdict_rows(each, replaying.tracer) for each in ended]
    rows += [verdict_rows(each, replaying.tracer) for each in replaying.rest()]
    return pa.concat_tables(rows)


def _batches(flows: Any, columns: Sequence[str]) -> Iterator[tuple[dict[Family, Seen], bool]]:
    """Yield the packets or flow records that `replay` is given, each with whether it is the latter.
    Raises `PlanError`.
    """
    import pyarrow as pa

    from crossgate.core.traffic.seen import SECOND
    from crossgate.formats.readers.names import columns_of, told_columns
    from crossgate.formats.readers.tables import TableAccount, read_batches
    from crossgate.formats.readers.traffic import Traffic

    told, now = told_columns(columns), int(datetime.now().timestamp() * SECOND)
    paths = [flows] if isinstance(flows, str | Path) else flows
    if isinstance(paths, list | tuple) and all(isinstance(each, str | Path) for each in paths):
        traffic = Traffic([Path(each) for each in paths], told, now)
        yield from traffic.batches()
        for path, where in traffic.broken:
            raise PlanError(f"{path} could not be read to its end, at {where}")
        return
    table = flows if isinstance(flows, pa.Table) else pa.table(flows)
    columns_of(table.schema.names, told, "the table")
    batches = table.combine_chunks().to_batches()
    for seen in read_batches(batches, told, now, TableAccount(), "the table"):
        yield seen, True
