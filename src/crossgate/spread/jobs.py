"""What a worker keeps of a job from one of its parts to the next."""

from __future__ import annotations

import gc
import pickle
import threading
from collections.abc import Callable
from pathlib import Path
from typing import Any, TypeVar

Kept = TypeVar("Kept")

PARTS_EACH = 4
"""At least so many parts for each worker, since parts take their time unlike."""

_kept = threading.local()


def kept(job: bytes, make: Callable[[Any], Kept]) -> Kept:
    """Return what `make` gives for a pickled job; it is made once for all parts of a job that this
    thread does in a row.
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
