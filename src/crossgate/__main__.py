"""The program `crossgate`: errors become text on standard error and an exit status here, and
nowhere else.
"""

from __future__ import annotations

import os
import signal
import sys


def main() -> None:
    """Run the command line; exit status 0 it holds, 1 the answer is no, 2 it could not run, 130 it
    was interrupted.
    """
    signal.signal(signal.SIGINT, _interrupted)
    # Helpers of this program would look for Python's own modules in the working folder first, where
    # anybody's files may lie.
    os.environ["PYTHONSAFEPATH"] = "1"
    try:
        status = _run(sys.argv[1:])
    except SystemExit as leaving:
        status = _status(leaving)
    except BrokenPipeError:
        status = 0
    except RecursionError:
        status = _told(
            "what you ask for is nested too deep for this program; please report it, with what "
            "crossgate bug-report packs"
        )
    except Exception as error:
        status = _unforeseen(error)
    sys.exit(_flushed(status))


def _interrupted(signum: int, frame: object) -> None:
    sys.exit(130)


def _run(words: list[str]) -> int:
    """Run a command line, and return its exit status."""
    import gc

    from crossgate.show.console import ready_streams

    # A short run makes few cycles; the collector's rounds over every imported module cost more than
    # they free.
    gc.set_threshold(100_000)
    problem = ready_streams(words)
    if problem:
        return _told(problem)
    from crossgate.commands import run
    from crossgate.core.model.errors import PlanError

    try:
        run(words)
    except PlanError as error:
        from crossgate.show.width import screen_width

        told = error.told(screen_width())
        return _told(told, plain=error.place is not None or "\n" in told)
    return 0


def _status(leaving: SystemExit) -> int:
    """Return the exit status that something asked to exit with; a text is printed."""
    if isinstance(leaving.code, str):
        return _told(leaving.code)
    return leaving.code or 0


def _told(message: str, plain: bool = False) -> int:
    """Report on standard error why the program could not run."""
    from crossgate.core.model.plaintext import escaped

    print(escaped(message if plain else f"crossgate: {message}"), file=sys.stderr)
    return 2


def _unforeseen(error: Exception) -> int:
    """Report an unexpected error, and how to report it to us; with the full trace after `--debug`,
    or where CROSSGATE_TRACE asks for it.
    """
    import traceback

    if isinstance(error, OSError):
        what = (
            "the answer cannot be written"
            if error.filename is None
            else f"{error.filename} cannot be used"
        )
        return _told(f"{what}: {error.strerror or error}")
    if os.environ.get("CROSSGATE_TRACE") or _debugs():
        traceback.print_exception(error)
    frames = traceback.extract_tb(error.__traceback__)
    where = (
        f"{os.path.basename(frames[-1].filename)} line {frames[-1].lineno}" if frames else "nowhere"
    )
    return _told(
        f"sorry, this is a fault of Cross Gate and not of your plan ({type(error).__name__} in "
        f"{where}: {error}). Nothing half done is left. "
        "Please report it: crossgate bug-report -- COMMAND packs what is needed, without the "
        "plan's names; crossgate --debug COMMAND shows more"
    )


def _debugs() -> bool:
    """Whether `--debug` was given."""
    debug = sys.modules.get("crossgate.show.debug")
    return debug is not None and debug.listens()


def _flushed(status: int) -> int:
    """Return the exit status after all output has been written; 2 where that is not possible."""
    from crossgate.show.console import silence

    try:
        if sys.stdout is not None:
            sys.stdout.flush()
    except BrokenPipeError:
        silence()
    except OSError as error:
        silence()
        return _told(f"the answer cannot be written: {error.strerror or error}")
    return status


if __name__ == "__main__":
    main()
