"""The terminal: colours, and lines that fit it. Colour supports the meaning and never carries it.

A line is a string that may contain colour codes; where the output is no terminal, or NO_COLOR is
set, they are left out.
"""

from __future__ import annotations

import os
import sys
from collections.abc import Iterable, Sequence
from itertools import zip_longest

import typer

from crossgate.core.model.plaintext import escaped
from crossgate.show.width import CODES, hung, screen_width, wrapped

_COLOURS = {
    "permit": "green",
    "deny": "red",
    "reject": "red",
    "permitted": "green",
    "denied": "red",
    "half-open": "yellow",
    "unroutable": "magenta",
    "varies": "yellow",
    "some": "yellow",
    "error": "red",
    "warning": "yellow",
    "note": "cyan",
    "held": "green",
    "failed": "red",
}


def quiet(text: str) -> str:
    """Return a text in the colour for what matters less."""
    return typer.style(text, fg="bright_black")


def strong(text: str) -> str:
    """Return a text in bold, for what the eye should find first."""
    return typer.style(text, bold=True)


def name(text: str) -> str:
    """Return a name in the colour for names that are explained beside it."""
    return typer.style(text, fg="cyan")


def alert(text: str) -> str:
    """Return a text in the colour for what a person should not overlook."""
    return typer.style(text, fg="yellow")


def word(text: str, bold: bool = False, shown: str = "") -> str:
    """Return an action, verdict or severity, or what is `shown` for it, in its colour."""
    return typer.style(shown or text, fg=_COLOURS.get(text), bold=bold or None)


def leading_word(text: str) -> str:
    """Return an entry with its first word, the action, in colour."""
    first, blank, rest = text.partition(" ")
    return word(first) + blank + rest


def write(lines: Iterable[str]) -> None:
    """Print lines to standard output, folded where they do not fit; when the reader is gone (`|
    head`), the rest is not printed. Characters that would control the terminal, except our own
    colours, are printed as escapes.
    """
    plain, terminal = "NO_COLOR" in os.environ, sys.stdout.isatty()
    try:
        for line in (part for each in lines for part in hung(each)):
            if not terminal:
                sys.stdout.write(f"{escaped(CODES.sub('', line))}\n")
                sys.stdout.flush()
                continue
            parts = CODES.split(line)
            codes = [] if plain else CODES.findall(line)
            typer.echo(
                "".join(
                    escaped(part) + code for part, code in zip_longest(parts, codes, fillvalue="")
                )
            )
    except BrokenPipeError:
        silence()


def ready_streams(words: Sequence[str]) -> str:
    """Prepare the standard streams for any text, and return why it is impossible to run, "" where
    it is possible. A closed standard error is replaced, so that no problem is ever printed among
    the answers.
    """
    if sys.stderr is None:
        sys.stderr = open(os.devnull, "w", encoding="utf-8")  # noqa: SIM115
    if sys.stdout is None:
        return "standard output is closed, so there is nowhere to answer to"
    for stream in (sys.stdout, sys.stderr):
        if hasattr(stream, "reconfigure"):
            stream.reconfigure(encoding="utf-8", errors="backslashreplace")
    for number, word in enumerate(words, 1):
        if any("\ud800" <= letter <= "\udfff" for letter in word):
            return f"word {number} of the command line is not UTF-8 text; files need names that are"
    return ""


def folded(text: str, indent: int) -> list[str]:
    """Return a sentence as indented lines that fit the screen."""
    lead, room = " " * indent, screen_width()
    return [lead + line for line in ([text] if room is None else wrapped(text, room - indent))]


def warn(text: str) -> None:
    """Report on standard error a problem that does not prevent the answer."""
    typer.echo(escaped(f"crossgate: {text}"), err=True)


def silence() -> None:
    """Stop printing: the reader of standard output has closed it."""
    os.dup2(os.open(os.devnull, os.O_WRONLY), sys.stdout.fileno())


def count(number: int, one: str, many: str = "") -> str:
    """Write a number with its noun: `1 list`, `2 lists`."""
    return f"{number:,} {one if number == 1 else many or one + 's'}"
