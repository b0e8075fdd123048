"""Run what docs/guide.md and its second half docs/meet.md, docs/trouble.md, docs/mistakes.md and the
pages of docs/formats tell to run, and write what it prints there: `make docs`; with --check, only
look.

In the page a block whose info string has a file's name is that file (`gate ferry.gate`), or what is
added to it where a `+` follows. A block `console` has command lines behind `$ `, each followed by
what it prints; the commands run in the order of the page, in a folder of their own.
"""

from __future__ import annotations

import os
import re
import shlex
import subprocess
import sys
import tempfile
from io import BufferedWriter, FileIO, TextIOWrapper
from pathlib import Path

GUIDE = Path(__file__).with_name("guide.md")
TROUBLE = Path(__file__).with_name("trouble.md")
MEET = Path(__file__).with_name("meet.md")
MISTAKES = Path(__file__).with_name("mistakes.md")
FORMATS = Path(__file__).with_name("formats")
WIDTH = 100
_BLOCK = re.compile(r"^```(\w+)([^\n]*)\n(.*?)^```$", re.MULTILINE | re.DOTALL)
_COMMANDS = ("crossgate", "cat")
"""What a line may run."""


def rendered(text: str, demo: bool) -> str:
    """Return a page with what its commands print now, in an empty folder or on the demo."""
    with tempfile.TemporaryDirectory() as temporary:
        if demo:
            from crossgate.demo import write

            write(Path(temporary))
        return _BLOCK.sub(lambda block: _block(block, Path(temporary)), text)


def _block(block: re.Match[str], folder: Path) -> str:
    kind, told, body = block.groups()
    if kind == "console":
        body = "\n".join(
            _printed(line[2:], folder) for line in body.splitlines() if line.startswith("$ ")
        )
    elif told.strip():
        name, *more = told.split()
        with (folder / name).open("a" if more == ["+"] else "w", encoding="utf-8") as file:
            file.write(body)
    return f"```{kind}{told}\n{body}```"


def _printed(line: str, folder: Path) -> str:
    """Return a command line and what it prints, as a terminal shows it."""
    program = line.split()[0]
    if program not in _COMMANDS:
        raise SystemExit(f"the guide runs only {' and '.join(_COMMANDS)}, not {program}")
    if program == "crossgate" and not set("|<>&;") & set(line):
        return f"$ {line}\n{_forked(shlex.split(line), folder)}"
    ours = str(Path(sys.executable).parent)
    done = subprocess.run(
        line,
        shell=True,
        cwd=folder,
        env={**_environment(), "PATH": os.pathsep.join((ours, os.environ.get("PATH", "")))},
        stdout=subprocess.PIPE,
        stderr=subprocess.STDOUT,
        text=True,
        check=False,
    )
    return f"$ {line}\n{done.stdout}"


def _environment() -> dict[str, str]:
    mine = {name: value for name, value in os.environ.items() if not name.startswith("CROSSGATE")}
    return {**mine, "COLUMNS": str(WIDTH)}


def _forked(words: list[str], folder: Path) -> str:
    """Return what crossgate prints, run by a child that has all modules which are loaded here."""
    import numpy  # noqa: F401

    from crossgate import library  # noqa: F401
    from crossgate.__main__ import main as crossgate

    reading, writing = os.pipe()
    child = os.fork()
    if child == 0:
        status = 1
        try:
            os.dup2(writing, 1)
            os.dup2(writing, 2)
            os.chdir(folder)
            os.environ.clear()
            os.environ.update(_environment())
            sys.argv = words
            sys.stdout, sys.stderr = (
                TextIOWrapper(
                    BufferedWriter(FileIO(number, "w")),
                    encoding="utf-8",
                    line_buffering=number == 2,
                )
                for number in (1, 2)
            )
            crossgate()
        except SystemExit:
            status = 0
        finally:
            sys.stdout.flush()
            os._exit(status)
    os.close(writing)
    with open(reading, encoding="utf-8") as told:
        text = told.read()
    if os.waitpid(child, 0)[1]:
        raise SystemExit(f"{' '.join(words)} did not end by itself:\n{text}")
    return text


PAGES = (GUIDE, MEET, TROUBLE, MISTAKES, *sorted(FORMATS.glob("*.md")))


def main() -> int:
    """Write the pages anew, those that are named or all; exit status 1 where --check finds another
    text.
    """
    stale = 0
    named = [each for each in PAGES if each.name in sys.argv[1:]]
    for page in named or PAGES:
        text = page.read_text(encoding="utf-8")
        new = rendered(text, demo=page not in (GUIDE, MISTAKES))
        stale |= new != text
        if "--check" not in sys.argv:
            page.write_text(new, encoding="utf-8")
    return int(stale and "--check" in sys.argv)


if __name__ == "__main__":
    raise SystemExit(main())
