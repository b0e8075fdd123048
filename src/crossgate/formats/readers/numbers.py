"""Numbers, flags and times in the cells of a table."""

from __future__ import annotations

import re
from collections.abc import Mapping
from typing import Any

from numpy.typing import NDArray

from crossgate.core.traffic.seen import SECOND

_NUMBER = re.compile(r"[+-]?[0-9]{1,18}(\.[0-9]*)?")
_MOST_DIGITS = 40
"""No number of a table has more."""
_LETTERS = {"F": 1, "S": 2, "R": 4, "P": 8, "A": 16, "U": 32, "E": 64, "C": 128}


def number_in(word: str, words: Mapping[str, int], most: int) -> int | None:
    """Return the whole number that a word is or stands for, None where it is none from 0 to
    `most`.
    """
    if word.lower() in words:
        return words[word.lower()]
    if word.isascii() and word.isdigit():
        return int(word) if len(word) <= _MOST_DIGITS and int(word) <= most else None
    try:
        number = float(word)
    except ValueError:
        return None
    return int(number) if number.is_integer() and 0 <= number <= most else None


def is_number(text: str | None) -> bool:
    """Whether a text is a number of usual length."""
    return text is not None and _NUMBER.fullmatch(text) is not None


def flags_in(word: str) -> int | None:
    """Return the TCP flags that a word names, by number or letters (`SA`), None where it does
    not.
    """
    if word.lower().startswith("0x"):
        try:
            return int(word, 16) & 255
        except ValueError:
            return None
    if word.isascii() and word.isdigit():
        return int(word) & 255 if len(word) <= _MOST_DIGITS else None
    letters = word.upper().replace(".", "").replace("-", "").replace(" ", "").replace(",", "")
    return sum({_LETTERS[each] for each in letters}) if set(letters) <= _LETTERS.keys() else None


def unit_of(numbers: NDArray[Any]) -> int:
    """Return how many microseconds the unit of some times has, from their size: seconds up to the
    year 5138, milliseconds, and so on.
    """
    most = abs(float(numbers.max(initial=0)))
    return SECOND if most < 1e11 else 1_000 if most < 1e14 else 1 if most < 1e17 else -1_000
