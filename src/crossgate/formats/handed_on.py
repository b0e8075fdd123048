"""File names in documents for others: they never show where a file is on this machine."""

from __future__ import annotations

import os
from pathlib import PurePath


def handed_on(file: str) -> str:
    """Return a file's name for a document that others get: as it is; an absolute one relative to
    the present folder, or without any folder.
    """
    path = PurePath(file)
    if not path.is_absolute():
        return path.as_posix()
    here = PurePath(os.path.abspath(os.curdir))
    return path.relative_to(here).as_posix() if path.is_relative_to(here) else path.name
