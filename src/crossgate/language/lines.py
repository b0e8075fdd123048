"""A plan file as lines, of which nothing is lost: words and their columns, remarks, line endings.

1. A line feed ends a line, and a carriage return before it belongs to the ending; the lines with
their endings are exactly the text of the file.

2. Words are separated by white space. A text in double quotes is one word and keeps its opening
quote as its mark; `#` outside of quotes starts a remark, which goes to the line's end.

3. An indented line belongs to the statement above it.

Reading, editing and the standard layout all take lines apart here and nowhere else.
"""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator, Sequence
from itertools import takewhile
from typing import NamedTuple

_WORD = re.compile(r'"[^"]*"?|#.*|[^\s"#]+')
_WORD_OR_END = re.compile(r'"[^"]*"?|#.*|,(?=\s)|(?:(?!,\s)[^\s"#])+')
_WORD_OR_COMMA = re.compile(r'"[^"]*"?|#.*|,|[^\s",#]+')
_DIVIDED = re.compile(
    r"\b(?:wild|mask|leases\s+of)\s+[^\s,]+,[^\s,]|[^\s,],[^\s,]+\s+(?:wild|mask|of)\b|\s,[^\s,]"
)
"""Where words that are joined by commas without blanks are divided (`_divided`)."""


class Token(NamedTuple):
    """A word, a quoted text or a remark, and its first and last column in the line."""

    text: str
    start: int
    end: int


class Line(NamedTuple):
    """A line of a file: the file's name as the user gave it, the line's number from 1, its text,
    and its ending.
    """

    file: str
    number: int
    text: str
    ending: str = "\n"

    @property
    def indent(self) -> str:
        """The blanks and tabs that it begins with."""
        return self.text[: len(self.text) - len(self.text.lstrip())]

    def words(self) -> list[Token]:
        """Return its words, without the remark."""
        return [each for each in tokens(self.text) if each.text[0] != "#"]

    @property
    def remark(self) -> Token | None:
        """The remark at its end, from the `#` on; None where there is none."""
        return next((each for each in tokens(self.text) if each.text[0] == "#"), None)


class EntryLine(NamedTuple):
    """The columns of the parts of an entry in its line, for the parts that it has.

    `body` is where its action starts; `end` is after the last word that belongs neither to the
    comment, nor to a remark, nor to the `owner`, which is `for` and the text after it.
    """

    number: Token | None
    off: Token | None
    body: int
    end: int
    comment: Token | None
    remark: Token | None
    owner: Token | None = None

    @property
    def start(self) -> int:
        """The column where the part after its number starts."""
        return self.off.start if self.off else self.body


def split_words(text: str, commas: bool = False) -> list[str]:
    """Return the words of a line without its remark; with `commas`, every comma outside quotes is a
    separate word.
    """
    if not commas and is_divided(text):
        words = [each.text for each in tokens(text)]
    else:
        words = (_WORD_OR_COMMA if commas else _WORD).findall(text)
    if words and words[-1][0] == "#":
        words.pop()
    return words


def is_divided(text: str) -> bool:
    """Whether a line has words that are joined by commas and yet do not belong together."""
    return "," in text and _DIVIDED.search(text) is not None


def tokens(text: str, commas: bool = False) -> Iterator[Token]:
    """Yield the words and the remark of a line, with their columns; see `split_words` for
    `commas`.
    """
    found = _found(_WORD_OR_COMMA if commas else _WORD, text)
    return found if commas or "," not in text else _divided(found)


def form_tokens(text: str) -> Iterator[Token]:
    """Yield the words and the remark of a line as forms expect them: a comma followed by a blank is
    a separate word.
    """
    return _found(_WORD_OR_END, text)


def _found(pattern: re.Pattern[str], text: str) -> Iterator[Token]:
    return (Token(match[0], *match.span()) for match in pattern.finditer(text))


def _divided(found: Iterable[Token]) -> Iterator[Token]:
    """Divide words that are joined by commas without blanks where they do not belong together.

    Behind `wild`, `mask` and `leases of` one word is read, and what is joined to it begins
    something new. Before `wild` and `mask`, and in `leases of`, only the last one is meant. A comma
    that a word begins with stands by itself.
    """
    every = list(found)
    behind = ("", "")
    for index, (text, start, end) in enumerate(every):
        following = every[index + 1].text if index + 1 < len(every) else ""
        if text[0] not in '"#':
            ends = {1} if text[0] == "," and len(text) > 1 else set[int]()
            if behind[1] in ("wild", "mask") or behind == ("leases", "of"):
                ends.add(text.find(",", 0, -1) + 1)
            if following in ("wild", "mask") or (following == "of" and text.endswith(",leases")):
                ends.add(text.rfind(",", 0, -1) + 1)
            for middle in sorted(each + start for each in ends - {0}):
                yield Token(text[: middle - start], start, middle)
                text, start = text[middle - start :], middle
        yield Token(text, start, end)
        behind = (behind[1], text)


def file_lines(file: str, text: str) -> Iterator[Line]:
    """Yield the lines of a file; an empty file has none, and there is none after the last line
    feed.
    """
    whole = text.split("\n")
    last = whole.pop()
    for number, line in enumerate(whole, 1):
        yield (
            Line(file, number, line[:-1], "\r\n") if line[-1:] == "\r" else Line(file, number, line)
        )
    if last:
        stripped = last.removesuffix("\r")
        yield Line(file, len(whole) + 1, stripped, last[len(stripped) :])


def alike_from_start(some: Sequence[str], others: Sequence[str]) -> int:
    """Return how many texts at the start of two sequences are equal."""
    pairs = zip(some, others, strict=False)
    return sum(1 for _ in takewhile(lambda pair: pair[0] == pair[1], pairs))


def entry_line(text: str) -> EntryLine:
    """Return the columns of the parts of an entry in its line: `[NUMBER] ["off"] ENTRY ["for" TEXT]
    [COMMENT] [REMARK]`.
    """
    found = list(tokens(text))
    remark = found.pop() if found and found[-1].text[0] == "#" else None
    last = found.pop() if len(found) > 1 and found[-1].text[0] == '"' else None
    comment = None if found and found[-1].text == "for" else last
    if comment is not None and len(found) > 2 and found[-1].text[0] == '"':
        last = found.pop()
    owner = None
    if found and found[-1].text == "for" and last is not None:
        owner = Token(f"for {last.text}", found.pop().start, last.end)
    number = found.pop(0) if found and found[0].text.isdecimal() else None
    off = found.pop(0) if found and found[0].text == "off" else None
    body = found[0].start if found else len(text)
    end = found[-1].end if found else body
    return EntryLine(number, off, body, end, comment, remark, owner)
