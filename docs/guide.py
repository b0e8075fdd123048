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
import shutil
import subprocess
import sys
import tempfile
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
    environment = {
        name: value for name, value in os.environ.items() if not name.startswith("CROSSGATE")
    } | {"COLUMNS": str(WIDTH)}
    ours = shutil.which("crossgate", path=str(Path(sys.executable).parent))
    command = line if program != "crossgate" or ours is None else f"{ours} {line.partition(' ')[2]}"
    done = subprocess.run(
        command,
        shell=True,
        cwd=folder,
        env=environment,
        stdout=subprocess.PIPE,
        stderr=subprocess.STDOUT,
        text=True,
        check=False,
    )
    return f"$ {line}\n{done.stdout}"


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
