"""An edit that a power cut ends in between."""

from __future__ import annotations

import os
import signal
from collections.abc import Callable
from pathlib import Path


def killed_before_moving(name: str, edit: Callable[[], object]) -> None:
    """Edit in another process that is killed when it is about to move a file to this name."""
    child = os.fork()
    if child == 0:
        real = Path.replace

        def move(source: Path, target: Path) -> Path:
            if target.name == name:
                os.kill(os.getpid(), signal.SIGKILL)
            return real(source, target)

        Path.replace = move  # type: ignore[method-assign,assignment]
        try:
            edit()
        finally:
            os._exit(0)
    assert os.WIFSIGNALED(os.waitpid(child, 0)[1])
