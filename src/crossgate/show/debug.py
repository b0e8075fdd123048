"""The program's log on standard error: `--debug`."""

from __future__ import annotations

import logging
import platform
import sys

from crossgate import __version__
from crossgate.core.model.plaintext import escaped

_LOG = logging.getLogger("crossgate")


class _Safe(logging.Formatter):
    """Escapes log messages as error messages are: nothing from a file may control the terminal."""

    def format(self, record: logging.LogRecord) -> str:
        return escaped(super().format(record))


def listen() -> None:
    """Show the log, each line with the milliseconds since the start and the module."""
    handler = logging.StreamHandler(sys.stderr)
    handler.setFormatter(_Safe("%(relativeCreated)7.0f ms  %(name)s: %(message)s"))
    _LOG.addHandler(handler)
    _LOG.setLevel(logging.DEBUG)
    _LOG.propagate = False
    _LOG.debug(
        "crossgate %s, Python %s on %s", __version__, platform.python_version(), platform.platform()
    )


def listens() -> bool:
    """Whether the log is shown."""
    return bool(_LOG.handlers)
