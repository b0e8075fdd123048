"""Text as people type it and as terminals show it: whole numbers, and characters that must not
reach a terminal.
"""

from __future__ import annotations

import re
from collections.abc import Iterable

_MOST_DIGITS = 18
"""No number of the language has more digits, and longer ones cost more the longer they are."""

_UNSHOWABLE = re.compile(
    "[\\x00-\\x08\\x0b-\\x1f\\x7f-\\x9f\\u061c\\u200e\\u200f\\u2028-\\u202e\\u2066-\\u2069\\ufffe\\uffff]"
)
"""Control characters but for tabulator and line feed (ISO 6429), line separators, what turns the
direction of text (Unicode UAX 9), and what XML 1.0 forbids.
"""


def numeral(text: str) -> int | None:
    """Return the whole number written with up to 18 ASCII digits; None for any other text."""
    return int(text) if text.isascii() and text.isdigit() and len(text) <= _MOST_DIGITS else None


def listed(words: str | Iterable[str]) -> list[str]:
    """Return words as a list, of which a single one may stand by itself."""
    return [words] if isinstance(words, str) else list(words)


def quotable(text: str) -> str:
    """Return a text so that it may stand in double quotes in a line of a plan: printable, on one
    line, with single blanks and no quotes.
    """
    return " ".join(
        "".join(each if each.isprintable() else " " for each in text.replace('"', "'")).split()
    )


def escaped(text: str) -> str:
    """Return a text with an escape for every character that would control a terminal or deceive its
    reader.
    """
    return _UNSHOWABLE.sub(lambda found: _escape(found[0]), text)


def escaped_json(text: str) -> str:
    """Return a JSON text with such characters as JSON escapes; they occur only inside its
    strings.
    """
    return _UNSHOWABLE.sub(lambda found: f"\\u{ord(found[0]):04x}", text)


def _escape(character: str) -> str:
    code = ord(character)
    return f"\\x{code:02x}" if code < 256 else f"\\u{code:04x}"


def columns_of(text: str) -> int:
    """Return how many columns of a terminal a text takes: a wide letter takes two, a combining one
    none.
    """
    if text.isascii():
        return len(text)
    from wcwidth import wcwidth

    return sum(1 if each.isascii() else max(wcwidth(each), 0) for each in text)
