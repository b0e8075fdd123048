"""A job as workers are given it, and what a worker keeps of it from one part to the next."""

from __future__ import annotations

import gc
import pickle
import threading
from collections.abc import Callable, Sequence
from pathlib import Path
from secrets import token_bytes
from typing import Any, TypeVar

from crossgate.spread.pools import Pool

Kept = TypeVar("Kept")

PARTS_EACH = 4
"""At least so many parts for each worker, since parts take their time unlike."""

_kept = threading.local()


def given(pool: Pool, job: object, make: Callable[[Any], object]) -> bytes:
    """Return a job as the tasks of a pool get it: pickled, or just a name for it where its workers
    begin as copies of this process. Then `make` makes here, once for all, what they keep of it.
    """
    if not pool.inherits:
        return packed(job)
    name = token_bytes()
    _kept.value, _kept.job = make(job), name
    return name


def kept(job: bytes, make: Callable[[Any], Kept]) -> Kept:
    """Return what `make` gives for a job as it was `given`; it is made once for all parts of a job
    that this thread does in a row.
    """
    if getattr(_kept, "job", None) != job:
        collects = gc.isenabled()
        gc.disable()  # a large plan is read in a third of the time
        try:
            wanted = pickle.loads(job)
        finally:
            if collects:
                gc.enable()
        _kept.value, _kept.job = make(wanted), job
    value: Kept = _kept.value
    return value


def packed(job: object) -> bytes:
    """Return a job, or what names a part of it, as octets."""
    return pickle.dumps(job, pickle.HIGHEST_PROTOCOL)


def unpacked(part: Path | bytes) -> Any:
    """Return what names a part of a job, which `packed` made."""
    assert isinstance(part, bytes)
    return pickle.loads(part)


def shared_evenly(numbers: Sequence[int], pool: Pool) -> list[Sequence[int]]:
    """Return some numbers in about `PARTS_EACH` shares for each worker; neighbours are in different
    ones, since they take about equally long.
    """
    count = min(PARTS_EACH * pool.size, len(numbers))
    return [numbers[first::count] for first in range(count)]
