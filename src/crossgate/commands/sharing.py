"""The options of commands that share their work among processes, and the pools that do it."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import closing, contextmanager
from typing import TYPE_CHECKING, Annotated

import typer

from crossgate.core.model.errors import PlanError

if TYPE_CHECKING:
    from crossgate.spread.pools import Pool

WorkersOption = Annotated[
    int | None,
    typer.Option("--workers", min=1, metavar="N", help="Share the work among N processes."),
]
ClusterOption = Annotated[
    str | None,
    typer.Option(
        "--cluster",
        metavar="ADDRESS",
        help="Share it by Dask, as tcp://192.0.2.1:8786.",
    ),
]
TrustedNetworkOption = Annotated[
    bool,
    typer.Option("--trusted-network", help="Allow --cluster to use another machine without TLS."),
]


def see_who_shares(workers: int | None, cluster: str | None) -> None:
    """Raise `PlanError` where both processes of this machine and a cluster are named."""
    if workers is not None and cluster is not None:
        raise PlanError(
            "--workers and --cluster exclude each other: processes of this machine, or those of a "
            "cluster"
        )


@contextmanager
def pool_of(
    workers: int | None, cluster: str | None, trusted: bool, copies: bool = False
) -> Iterator[Pool | None]:
    """Have a pool of workers that share the work while the block runs; None where this process does
    it all. With `copies`, processes of this machine begin as copies of this one. Raises
    `PlanError`.
    """
    see_who_shares(workers, cluster)
    if workers is None and cluster is None:
        yield None
        return
    from crossgate.spread.pools import ClusterPool, LocalPool

    with closing(
        LocalPool(workers, copies) if workers is not None else ClusterPool(cluster or "", trusted)
    ) as pool:
        yield pool
