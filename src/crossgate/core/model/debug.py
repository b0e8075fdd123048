"""The program's log, for whoever looks for a fault; silent unless somebody listens."""

from __future__ import annotations

import sys


def log(module: str, message: str, *values: object) -> None:
    """Log a message of a module at the level DEBUG, with values in the place of each `%s`.

    Most runs have no listener, and importing `logging` takes as long as a small answer. So nothing
    is done unless `logging` has been imported.
    """
    logging = sys.modules.get("logging")
    if logging is not None:
        logging.getLogger(module).debug(message, *values)
