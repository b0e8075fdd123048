"""A cursor over the words of one line, and errors that point at them.

The column of each word is worked out only when an error has to show it.
"""

from __future__ import annotations

import re
from collections.abc import Collection, Sequence

from crossgate.core.model.errors import Instead, Place, PlanError, nearest, unknown
from crossgate.core.model.plaintext import numeral
from crossgate.language.lines import Line, is_divided, split_words, tokens

_NAME = re.compile(r"[A-Za-z][A-Za-z0-9_-]*\Z")
_PART = re.compile(r"[A-Za-z0-9][A-Za-z0-9_/:.-]*\Z")


class Words:
    """A cursor over the words of a line; see `lines.split_words` for `commas`. `block` are the
    lines that belong to it.
    """

    __slots__ = ("_commas", "block", "index", "line", "words")

    def __init__(self, line: Line, commas: bool = False, block: Sequence[Line] = ()) -> None:
        self.line = line
        self.block = block
        self.index = 0
        self._commas = commas
        text = line.text
        if not commas and '"' not in text and "#" not in text and not is_divided(text):
            self.words = text.split()  # most lines; a plan may hold a hundred thousand
        else:
            self.words = split_words(text, commas)
            for index, word in enumerate(self.words):
                if word[0] == '"' and (len(word) == 1 or word[-1] != '"'):
                    raise self.error('this text has no closing quote; end it with "', index=index)

    @property
    def place(self) -> Place:
        """Where the line stands."""
        return Place(self.line.file, self.line.number)

    def peek(self) -> str:
        """Return the next word without taking it; "" at the end of the line."""
        return self.words[self.index] if self.index < len(self.words) else ""

    def take(self, expected: str) -> str:
        """Take the next word; at the end of the line, raise an error that says what was
        `expected`.
        """
        index = self.index
        if index >= len(self.words):
            raise self.missing(expected)
        self.index = index + 1
        return self.words[index]

    def accept(self, word: str) -> bool:
        """Take the next word if it is this one, and return whether it was."""
        if self.peek() == word:
            self.index += 1
            return True
        return False

    def keyword(self, word: str) -> None:
        """Take a word that must stand here; raise an error for any other."""
        if self.peek() != word:
            self.choice((word,))
        self.index += 1

    def choice(self, words: Collection[str], what: str = "") -> str:
        """Take one of a few words; `what` describes them in the error."""
        expected = what or _either(words)
        word = self.take(expected)
        if word not in words:
            begun = [each for each in words if len(word) > 1 and each.startswith(word.lower())]
            near = begun[0] if len(begun) == 1 else nearest(word, list(words))
            raise self.error(
                f"expected {expected}, not {word}" + (f"; did you mean {near}?" if near else ""),
                near=near,
            )
        return word

    def text(self, expected: str) -> str:
        """Take a text in double quotes and return what is between them."""
        word = self.take(expected)
        if word[0] != '"':
            raise self.error(f"expected {expected}, not {word}")
        return word[1:-1]

    def name(self, what: str) -> str:
        """Take a new name: a letter, then letters, digits, `_` or `-`."""
        word = self.take(f"the name of {what}")
        if not _NAME.match(word):
            raise self.error(
                f"{word} cannot name {what}: a name is a letter, then letters, digits, _ or -"
            )
        return word

    def part(self, what: str) -> str:
        """Take a new interface or port name, which may start with a digit and hold `/`, `:` and
        `.`.
        """
        word = self.take(f"the name of {what}")
        if not _PART.match(word):
            raise self.error(
                f"{word} cannot name {what}: letters, digits, _ - / : and . after a letter or digit"
            )
        return word

    def number(self, expected: str, most: int) -> int:
        """Take a whole number from 0 to `most`."""
        word = self.take(expected)
        if not (word.isascii() and word.isdigit()):
            raise self.error(f"expected {expected}, not {word}")
        number = numeral(word)
        if number is None or number > most:
            raise self.error(f"{word} is too large for {expected}: at most {most}")
        return number

    def end(self) -> None:
        """Raise an error unless the line ends here."""
        if self.index < len(self.words):
            self.index += 1
            raise self.error(
                f"nothing more belongs here, but there is {self.words[self.index - 1]}"
            )

    def missing(self, expected: str) -> PlanError:
        """Return an error that points behind the last word."""
        last = self._spans()[-1][1] if self.words else len(self.line.text)
        return PlanError(
            f"expected {expected} here", place=self.place, source=self.line.text, column=last + 2
        )

    def error(
        self,
        message: str,
        *,
        index: int | None = None,
        span: tuple[int, int] | None = None,
        near: str = "",
    ) -> PlanError:
        """Return an error at the word just taken, or at word `index`; `span` limits it to a part of
        that word, `near` is what is likely meant there.
        """
        spans = self._spans()
        at = self.index - 1 if index is None else index
        start, end = spans[at] if 0 <= at < len(spans) else (0, len(self.line.text))
        if span is not None and span[1] > span[0]:
            start, end = start + span[0], start + span[1]
        error = PlanError(
            message, place=self.place, source=self.line.text, column=start + 1, width=end - start
        )
        if near:
            error.instead = Instead(start, end, near)
        return error

    def unknown(self, kind: str, name: str, known: Sequence[str]) -> PlanError:
        """Return an error at the word just taken: no `kind` is called `name`."""
        return self.error(unknown(kind, name, known), near=nearest(name, known))

    def error_from(self, index: int, message: str) -> PlanError:
        """Return an error at the words from `index` to the one just taken."""
        spans = self._spans()
        start, end = spans[index][0], spans[self.index - 1][1]
        return PlanError(
            message, place=self.place, source=self.line.text, column=start + 1, width=end - start
        )

    def mended_from(self, index: int, message: str, meant: str) -> PlanError:
        """Return an error at the words from `index` to the one just taken, with what is likely
        meant there.
        """
        error = self.error_from(index, message)
        start = error.column - 1
        error.instead = Instead(start, start + error.width, meant)
        return error

    def _spans(self) -> list[tuple[int, int]]:
        return [
            (each.start, each.end)
            for each in tokens(self.line.text, self._commas)
            if each.text[0] != "#"
        ]


def _either(words: Collection[str]) -> str:
    *head, last = words
    return f"{', '.join(head)} or {last}" if head else last
