"""What goes out, before programs that are not ours: they are installed by `.ci/run`, and missing
elsewhere.
"""

from __future__ import annotations

import os
import shutil

import pytest


def program(name: str) -> str:
    """Return where a program is; skip the test where it is not, unless it must be there
    (`CROSSGATE_PEERS`).
    """
    found = shutil.which(name, path=f"{os.environ.get('PATH', '')}:/usr/sbin")
    if found is None and not os.environ.get("CROSSGATE_PEERS"):
        pytest.skip(f"{name} is not installed here")
    assert found is not None, f"{name} is missing"
    return found
