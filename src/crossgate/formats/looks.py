"""The time up to which traffic has been looked at, for each of its files, kept in the user's own
folder for each plan.
"""

from __future__ import annotations

import json
from collections.abc import Mapping
from pathlib import Path

from crossgate.core.model.errors import PlanError
from crossgate.formats.disk import put_file
from crossgate.formats.own_state import existing_folder, name_for_file, own_folder

_FOLDER = "looks"


def last_look(plan: Path) -> dict[str, int]:
    """Return the time up to which each file was looked at with a plan, in microseconds since 1970;
    nothing where it never was. Raises `PlanError` where the record cannot be read.
    """
    folder = existing_folder(_FOLDER)
    kept = None if folder is None else folder / f"{name_for_file(plan)}.json"
    if kept is None or not kept.exists():
        return {}
    try:
        found = json.loads(kept.read_bytes())
        if not isinstance(found, dict) or not all(type(each) is int for each in found.values()):
            raise ValueError("no times by file")
    except (OSError, ValueError) as error:
        raise PlanError(
            f"{kept}, where the last look is kept, cannot be read ({error}); delete it to begin anew"
        ) from None
    return found


def keep_look(plan: Path, times: Mapping[str, int]) -> None:
    """Keep the time up to which some files have been looked at; what is known of other files stays.
    Raises `PlanError`.
    """
    kept = own_folder(_FOLDER) / f"{name_for_file(plan)}.json"
    put_file(kept, json.dumps({**last_look(plan), **times}).encode())
