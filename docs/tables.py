"""Write the tables of the documentation that are made from the program's own: `make docs`; with --check, only look."""

from __future__ import annotations

import sys
from collections.abc import Iterator
from pathlib import Path

from crossgate.core.model.finding import KINDS

COMMANDS = Path(__file__).with_name("commands.md")
START, END = "<!-- findings: made by make docs -->\n", "<!-- end of findings -->\n"


def findings() -> Iterator[str]:
    """Yield the table of findings."""
    yield "| finding | severity | meaning | mend | for example |\n"
    yield "| --- | --- | --- | --- | --- |\n"
    for name, kind in KINDS.items():
        yield f"| `{name}` | {kind.severity} | {kind.meaning} | {kind.mend} | {kind.example} |\n"


def main() -> int:
    """Write the tables anew; exit status 1 where --check finds another text."""
    text = COMMANDS.read_text(encoding="utf-8")
    before, _, rest = text.partition(START)
    made = before + START + "".join(findings()) + END + rest.partition(END)[2]
    if "--check" in sys.argv:
        return int(made != text)
    COMMANDS.write_text(made, encoding="utf-8")
    return 0


if __name__ == "__main__":
    sys.exit(main())
