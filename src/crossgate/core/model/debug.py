"""What is done, for whoever hunts a fault: the program's log, silent unless somebody listens."""

from __future__ import annotations

import sys


def log(module: str, message: str, *values: object) -> None:
    """Log a message of a module at the level DEBUG, with values in the place of each `%s`.

    Most runs have no listener, and `logging` takes as long to import as a small answer takes. So
    where nobody has imported it nothing is done.
    """
    logging = sys.modules.get("logging")
    if logging is not None:
        logging.getLogger(module).debug(message, *values)
