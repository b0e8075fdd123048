"""Write the tables of the documentation that are made from the program's own: `make docs`; with
--check, only look.
"""

from __future__ import annotations

import sys
from collections.abc import Iterator
from pathlib import Path

from crossgate.core.model.finding import KINDS
from crossgate.language.glossary import GROUPS

FINDINGS = Path(__file__).with_name("commands.md"), "findings"
WORDS = Path(__file__).with_name("language.md"), "words"


def findings() -> Iterator[str]:
    """Yield the table of findings."""
    yield "| finding | severity | meaning | mend | for example |\n"
    yield "| --- | --- | --- | --- | --- |\n"
    for name, kind in KINDS.items():
        yield f"| `{name}` | {kind.severity} | {kind.meaning} | {kind.mend} | {kind.example} |\n"


def words() -> Iterator[str]:
    """Yield the tables of words."""
    for group, own in GROUPS.items():
        yield f"\n| {group} | meaning | for example |\n"
        yield "| --- | --- | --- |\n"
        for word, told in own.items():
            yield f"| `{word}` | {told.meaning} | `{told.example}` |\n"


def made(text: str, name: str, lines: Iterator[str]) -> str:
    """Return a text with a part of it made anew, which stands between two marks."""
    start, end = f"<!-- {name}: made by make docs -->\n", f"<!-- end of {name} -->\n"
    before, _, rest = text.partition(start)
    return before + start + "".join(lines) + end + rest.partition(end)[2]


def main() -> int:
    """Write the tables anew; exit status 1 where --check finds another text."""
    stale = False
    for (path, name), lines in ((FINDINGS, findings()), (WORDS, words())):
        text = path.read_text(encoding="utf-8")
        new = made(text, name, lines)
        stale = stale or new != text
        if "--check" not in sys.argv:
            path.write_text(new, encoding="utf-8")
    return int(stale and "--check" in sys.argv)


if __name__ == "__main__":
    sys.exit(main())
