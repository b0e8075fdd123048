"""The program `crossgate`: errors become text on standard error and an exit status here, and nowhere else."""

from __future__ import annotations

import gc
import sys

from crossgate.core.errors import PlanError


def main() -> None:
    """Run the command line; exit status 0 it holds, 1 the answer is no, 2 it could not run."""
    # A short run makes few cycles; the collector's rounds over every imported module cost more than they free.
    gc.set_threshold(100_000)
    for stream in (sys.stdout, sys.stderr):
        if hasattr(stream, "reconfigure"):
            stream.reconfigure(encoding="utf-8", errors="backslashreplace")
    from crossgate.commands import application

    try:
        try:
            application(sys.argv[1:])()
        finally:
            sys.stdout.flush()
    except PlanError as error:
        print(f"crossgate: {error}" if error.place is None and "\n" not in str(error) else error, file=sys.stderr)
        sys.exit(2)
    except BrokenPipeError:
        from crossgate.show.console import silence

        silence()
        sys.exit(0)
    except KeyboardInterrupt:
        sys.exit(130)


if __name__ == "__main__":
    main()
