"""The names of files in what is handed on to others: never where they lie on this machine."""

from __future__ import annotations

import os
from pathlib import PurePath


def handed_on(file: str) -> str:
    """Return a file's name for a document that others get: as it is, or for an absolute one its
    place below here, else its name alone.
    """
    path = PurePath(file)
    if not path.is_absolute():
        return path.as_posix()
    here = PurePath(os.path.abspath(os.curdir))
    return path.relative_to(here).as_posix() if path.is_relative_to(here) else path.name
