"""What may stand where in a line: the automaton made from a form (`row`), the forms of entries, the
kinds of words (`KINDS`) and the parts that forms have in common (`PARTS`).

Lines are read by the functions in the table of statements (`syntax`), which report errors more
exactly. The forms say, of a line that is still being typed, what each word is and what may come
next.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Iterable, Iterator, Mapping
from functools import cache
from typing import NamedTuple

from crossgate.core.model.address import looks_like_address
from crossgate.core.model.entry import Kind
from crossgate.core.model.tls import TlsTest
from crossgate.language.conditions import WRITTEN, written
from crossgate.language.lines import Token
from crossgate.language.row import Row


def _conditions(kind: Kind) -> str:
    """Return the form of the conditions of an entry."""
    every = written(kind)
    loose = " | ".join(each.form for each in every if each.loose)
    return " ".join(
        [
            *([f"({loose})*"] if loose else []),
            *(f"[{each.form}]" for each in every if not each.loose),
        ]
    )


ENTRIES: Mapping[tuple[Kind, bool], str] = {
    (
        Kind.STANDARD,
        False,
    ): f"[NUMBER] [off] ACTION MEMBERS {_conditions(Kind.STANDARD)} [log] [for TEXT] [TEXT]",
    (
        Kind.EXTENDED,
        False,
    ): (
        f"[NUMBER] [off] ACTION SERVICE MEMBERS to MEMBERS {_conditions(Kind.EXTENDED)} [log] "
        "[for TEXT] [TEXT]"
    ),
    (Kind.STANDARD, True): (
        "[NUMBER] [off] (permit | deny) STATION [during WINDOW] [until DATE] [log] [for TEXT] "
        "[TEXT]"
    ),
    (
        Kind.EXTENDED,
        True,
    ): (
        "[NUMBER] [off] (permit | deny) ETHERTYPE STATION to STATION [during WINDOW] "
        "[until DATE] [log] [for TEXT] [TEXT]"
    ),
}
"""The forms of entries, by the kind of their list and whether it is one for frames."""

PARTS: Mapping[str, str] = {
    "ACTION": "(permit | deny | reject)",
    "MEMBERS": "MEMBER (, MEMBER)* [but MEMBER (, MEMBER)*]",
    "MEMBER": "(any | PATTERN [wild WILDCARD | mask WILDCARD] | leases of SUBNET | NAME)",
    "TLS": WRITTEN[TlsTest].form,
    "STATION": "(any | broadcast | MAC [wild MAC] | MACHINE)",
    "ETHERTYPE": "(any | ipv4 | ipv6 | arp | NUMBER)",
    "WHERE": "(POINT | subnet SUBNET | host HOST | group GROUP | DEVICE itself)",
    "CLAIM": (
        "((permit | deny | half-open) SERVICE ENDS to ENDS LIMITS [flags FLAGS] [HOURS_OF] "
        "[by LIST (NUMBER | otherwise)] | only SERVICES ENDS to (elsewhere | ENDS) LIMITS "
        "[HOURS_OF]) [until DATE] [for TEXT] [TEXT]"
    ),
    "SERVICES": "(nothing | SERVICE (and SERVICE)*)",
    "ENDS": "END (, END)* [but END (, END)*]",
    "END": "(any | PATTERN [wild WILDCARD | mask WILDCARD] | leases of SUBNET | ENDPOINT)",
    "SERVER": "(ADDRESS | MACHINE)",
    "HOURS_OF": "(during | outside) WINDOW",
    "LIMITS": (
        "[source port NUMBER] [at TIME [CLOCK]] [flooding] [no tls | TLS] [over (ipv4 | ipv6)]"
    ),
}

_DAY = re.compile(r"(mon|tue|wed|thu|fri|sat|sun|daily|weekdays|weekends)", re.IGNORECASE)


def _is_name(word: str) -> bool:
    return _no_text(word) and not looks_like_address(word)


class KindOfWord(NamedTuple):
    """What a word of a form in capitals stands for: its meaning, and what tells whether a word may
    be one. `commas` says that it may have commas in it.
    """

    meaning: str
    fits: Callable[[str], bool]
    commas: bool = False

    def may_be(self, word: str) -> bool:
        """Whether a word may be of this kind."""
        return (self.commas or "," not in word) and self.fits(word)


def _no_text(word: str) -> bool:
    return word[:1] != '"'


def _number(word: str) -> bool:
    return word[:1].isdigit()


def _point(word: str) -> bool:
    return "." in word


def _time(word: str) -> bool:
    return ":" in word


KINDS: Mapping[str, KindOfWord] = {
    "TEXT": KindOfWord("text in double quotes", lambda word: word[:1] == '"', commas=True),
    "NUMBER": KindOfWord("a number", _number),
    "RANGE": KindOfWord("a number, or a first and a last one: `1-99`", _number),
    "ZONE": KindOfWord("a name of the IANA time zone database", _is_name),
    "NEW": KindOfWord("the name that this line defines", _no_text),
    "USER": KindOfWord("a user's name on a device", _no_text),
    "PART": KindOfWord("an interface or a port of this device", _no_text),
    "PREFIX": KindOfWord("an address with the length of its prefix", looks_like_address),
    "ADDRESS": KindOfWord("an address", looks_like_address),
    "PATTERN": KindOfWord("an address, a prefix or a range of addresses", looks_like_address),
    "WILDCARD": KindOfWord("a mask, written as an address", looks_like_address),
    "MAC": KindOfWord("a hardware address of six octets", lambda word: word.count(":") == 5),
    "NAME": KindOfWord("a host, a subnet, a group, a device or a point", _is_name),
    "ENDPOINT": KindOfWord("a NAME or an outside", _is_name),
    "MACHINE": KindOfWord("a host, a device or a point", _is_name),
    "SUBNET": KindOfWord("a subnet", _is_name),
    "HOST": KindOfWord("a host", _is_name),
    "GROUP": KindOfWord("a group", _is_name),
    "DEVICE": KindOfWord("a device", lambda word: _is_name(word) and not _point(word)),
    "POINT": KindOfWord("an interface or a port of a device: `DEVICE.PART`", _point),
    "PORT": KindOfWord("a port of a switch: `SWITCH.PORT`", _point),
    "SERVICE": KindOfWord(
        "services without blanks: `tcp/80,443`, `ping`",
        lambda word: word[:1] not in ('"', ","),
        commas=True,
    ),
    "LIST": KindOfWord("an access list", _no_text),
    "WINDOW": KindOfWord("a window", _is_name),
    "FINDING": KindOfWord("a finding of `check`", _is_name),
    "PORTS": KindOfWord("ports without blanks: `53,1024-`", _no_text, commas=True),
    "FLAGS": KindOfWord("TCP flags: `SYN,!ACK`", _no_text, commas=True),
    "DSCP": KindOfWord("a DSCP value, by its name or number", _no_text),
    "VERSIONS": KindOfWord(
        "versions of TLS: `1.2,1.3`, `1.2-`", lambda word: word[:1] in "-123456789", commas=True
    ),
    "SUITES": KindOfWord("cipher suites, by name or number", _no_text, commas=True),
    "DAYS": KindOfWord(
        "`daily`, `weekdays`, `weekends`, `mon`, `mon-fri`",
        lambda word: _DAY.match(word) is not None,
    ),
    "HOURS": KindOfWord("from when to when: `22:00-05:30`", _time),
    "DATE": KindOfWord("a day: `2027-03-31`", lambda word: word.count("-") == 2),
    "CLOCK": KindOfWord("a time of the day: `06:00`", _time),
    "TIME": KindOfWord(
        "`now`, a day of the week or a day; with a CLOCK behind it, or `2027-03-31T06:00`",
        lambda word: _number(word) or word == "now" or _DAY.match(word) is not None,
    ),
}
"""The kinds of words; words that a form has itself go before."""


def _at_commas(token: Token) -> Iterator[Token]:
    """Yield the parts of a word that is divided at its commas, and the commas."""
    for part in re.finditer(r",|[^,]+", token.text):
        yield Token(part[0], token.start + part.start(), token.start + part.end())


class FormStep(NamedTuple):
    """A word that may come next, itself or any of a kind, and the states that it leads to."""

    word: str
    kind: str
    after: int


class Form:
    """A form as an automaton over words: `states[n]` are the steps from a state, a line begins in
    state 0, and `ends` are the final states.
    """

    def __init__(self, text: str) -> None:
        self._empty: list[set[int]] = [set()]
        self._steps: list[list[FormStep]] = [[]]
        end = self._sequence(_Reader(text), 0)
        reach = [self._closure(state) for state in range(len(self._steps))]
        self.states: list[list[FormStep]] = [
            [step for each in sorted(closed) for step in self._steps[each]] for closed in reach
        ]
        self.ends = frozenset(state for state, closed in enumerate(reach) if end in closed)

    def roles(self, tokens: Iterable[Token]) -> list[tuple[Token, str]]:
        """Return the words of a line, each with what it is: "word" for a word of the language, a
        kind, or "" where the form has no place for it.

        Commas between words that have none of their own are words too.
        """
        found, states = list[tuple[Token, str]](), {0}
        for token in tokens:
            whole = "," not in token.text or self._taking(states, token.text)
            for part in (token,) if whole else _at_commas(token):
                steps = self._taking(states, part.text)
                role = "" if not steps else "word" if steps[0].word else steps[0].kind
                found.append((part, role))
                states = {step.after for step in steps} or states
        return found

    def after(self, words: Iterable[str]) -> list[FormStep]:
        """Return what may follow the words of an unfinished line, each once; nothing where the
        words do not fit the form.
        """
        states = {0}
        for word in words:
            states = {step.after for step in self._taking(states, word)}
        steps = (step for state in sorted(states) for step in self.states[state])
        return list({(step.word, step.kind): step for step in steps}.values())

    def accepts(self, words: Iterable[str]) -> bool:
        """Whether the words are a complete line."""
        states = {0}
        for word in words:
            states = {step.after for step in self._taking(states, word)}
        return bool(states & self.ends)

    def _taking(self, states: Iterable[int], word: str) -> list[FormStep]:
        """Return the steps for a word: where some step is for exactly this word, only such
        steps.
        """
        steps = [step for state in sorted(states) for step in self.states[state]]
        own = [step for step in steps if step.word == word]
        return own or [step for step in steps if step.kind and KINDS[step.kind].may_be(word)]

    # From a form to the automaton: each part leads from one state to another.

    def _state(self) -> int:
        self._empty.append(set())
        self._steps.append([])
        return len(self._steps) - 1

    def _closure(self, state: int) -> set[int]:
        found, left = {state}, [state]
        while left:
            for each in self._empty[left.pop()] - found:
                found.add(each)
                left.append(each)
        return found

    def _choices(self, reader: _Reader, start: int) -> int:
        end = self._state()
        while True:
            self._empty[self._sequence(reader, start)].add(end)
            if reader.peek() != "|":
                return end
            reader.take()

    def _sequence(self, reader: _Reader, start: int) -> int:
        while reader.peek() not in ("", ")", "]", "|"):
            start = self._repeated(reader, start)
        return start

    def _repeated(self, reader: _Reader, start: int) -> int:
        first = self._state()
        self._empty[start].add(first)
        last = self._part(reader, first)
        if reader.peek() in ("*", "+"):
            self._empty[last].add(first)
            if reader.take() == "*":
                self._empty[first].add(last)
        end = self._state()
        self._empty[last].add(end)
        return end

    def _part(self, reader: _Reader, start: int) -> int:
        word = reader.take()
        if word in ("(", "["):
            end = self._choices(reader, start)
            if reader.take() == "]":
                self._empty[start].add(end)
            return end
        if word in PARTS:
            return self._choices(_Reader(PARTS[word]), start)
        end = self._state()
        self._steps[start].append(
            FormStep("", word, end) if word in KINDS else FormStep(word, "", end)
        )
        return end


class _Reader:
    """The words of a form, read one after the other."""

    def __init__(self, text: str) -> None:
        self._words = re.findall(r"[\w-]+|[^\s\w]", text)
        self._index = 0

    def peek(self) -> str:
        return self._words[self._index] if self._index < len(self._words) else ""

    def take(self) -> str:
        self._index += 1
        return str(self._words[self._index - 1])


@cache
def statement_form(row: Row) -> Form:
    """Return the form of a statement, or of a line in a block, from its row in the table of
    statements.
    """
    return Form(f"{row.keyword} {row.form}")


@cache
def entry_form(kind: Kind, frames: bool) -> Form:
    """Return the form of the entries of a list."""
    return Form(ENTRIES[kind, frames])
