"""Write the tables of the documentation that are made from the program's own: `make docs`; with
--check, only look.
"""

from __future__ import annotations

import sys
from collections.abc import Iterator
from pathlib import Path

from crossgate.core.model.finding import KINDS
from crossgate.language.forms import ENTRIES, PARTS
from crossgate.language.forms import KINDS as KINDS_OF_WORDS
from crossgate.language.glossary import GROUPS
from crossgate.language.syntax import STATEMENTS

FINDINGS = Path(__file__).with_name("commands.md"), "findings"
GRAMMAR = Path(__file__).with_name("language.md"), "grammar"
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


def grammar() -> Iterator[str]:
    """Yield the forms of all lines, of what these have in common, and the kinds of words."""
    yield "```\n"
    for row in STATEMENTS.values():
        yield f"{row.keyword} {row.form}\n"
    yield "\nin the block of a device\n"
    for row in STATEMENTS["switch"].block:
        yield f"    {row.keyword} {row.form}\n"
    for (kind, frames), form in ENTRIES.items():
        yield f"\nin a list: {kind} {'ethernet' if frames else 'ipv4 or ipv6'}\n    {form}\n"
    yield "\nin each list\n"
    for row in STATEMENTS["list"].block:
        yield f"    {row.keyword} {row.form}\n"
    yield "\n"
    width = max(map(len, PARTS)) + 2
    for part, form in PARTS.items():
        yield f"{part:{width}}{form}\n"
    yield "```\n\n| word | stands for |\n| --- | --- |\n"
    for name, kind in KINDS_OF_WORDS.items():
        yield f"| `{name}` | {kind.meaning} |\n"


def made(text: str, name: str, lines: Iterator[str]) -> str:
    """Return a text with a part of it made anew, which stands between two marks."""
    start, end = f"<!-- {name}: made by make docs -->\n", f"<!-- end of {name} -->\n"
    before, _, rest = text.partition(start)
    return before + start + "".join(lines) + end + rest.partition(end)[2]


def main() -> int:
    """Write the tables anew; exit status 1 where --check finds another text."""
    stale = False
    for (path, name), lines in ((FINDINGS, findings()), (GRAMMAR, grammar()), (WORDS, words())):
        text = path.read_text(encoding="utf-8")
        new = made(text, name, lines)
        stale = stale or new != text
        if "--check" not in sys.argv:
            path.write_text(new, encoding="utf-8")
    return int(stale and "--check" in sys.argv)


if __name__ == "__main__":
    sys.exit(main())
