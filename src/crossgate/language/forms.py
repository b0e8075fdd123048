"""What may stand where in a line: a form for each statement, and the automaton made from it.

In a form, lower-case words stand for themselves and words in capitals for a kind of word (`KINDS`)
or for a part that is defined below (`_PARTS`). `( | )` are alternatives, `[ ]` is optional, `*` and
`+` are repetition.

Lines are read by the functions in the table of statements (`syntax`), which report errors more
exactly. The forms say, of a line that is still being typed, what each word is and what may come
next.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Iterable, Mapping, Sequence
from functools import cache
from typing import NamedTuple

from crossgate.core.model.accesslist import Kind
from crossgate.core.model.address import looks_like_address
from crossgate.core.model.bundles import BUNDLES
from crossgate.core.model.tls import TlsTest
from crossgate.language.conditions import WRITTEN, written

FORMS: Mapping[str, str] = {
    "title": "TEXT",
    "include": "TEXT",
    "routing": "(shortest | static)",
    "numbering": "standard RANGE (, RANGE)* extended RANGE (, RANGE)*",
    "client": "ports RANGE",
    "zone": "ZONE",
    "subnet": "NEW PREFIX+ [vlan NUMBER] [isolated]",
    "outside": "NEW PREFIX* [but END (, END)*]",
    "router": "NEW (stateful | closed)*",
    "switch": "NEW (stateful | closed)*",
    "interface": "PART PREFIX+ (on SUBNET | at PORT | mac MAC | cost NUMBER | passive)*",
    "port": "PART [to PORT | isolated]",
    "route": "((PREFIX | default) via ADDRESS | PREFIX discard)",
    "translate": (
        "(ENDS [SERVICE] leaving PART (as (itself | ENDS) | unchanged) | ENDS both ways PART as "
        "ENDS | (itself | ENDS) [SERVICE] entering PART to END [port NUMBER])"
    ),
    "manage": "netconf [ADDRESS | HOST] [port NUMBER] [user USER]",
    "gateway": "ADDRESS+ [on SUBNET] by POINT (, POINT)* [vrid NUMBER]",
    "host": "NEW ADDRESS+ (on SUBNET | at PORT | gateway ADDRESS | mac MAC)* [stateful]",
    "leases": (
        "PATTERN (, PATTERN)* on SUBNET by MACHINE [names SERVER (, SERVER)*] "
        "[time SERVER (, SERVER)*]"
    ),
    "group": "NEW (from TEXT [column TEXT] | MEMBERS)",
    "use": f"services ({' | '.join(BUNDLES)})+",
    "service": "NEW SERVICE (, SERVICE)*",
    "window": "NEW (DAYS HOURS (, DAYS HOURS)* | DATE CLOCK to DATE CLOCK)",
    "list": "NEW (standard | extended) (ipv4 | ipv6 | ethernet) [until DATE] [for TEXT]",
    "note": "TEXT",
    "otherwise": "ACTION",
    "place": "LIST ((inbound | outbound) on WHERE | within subnet SUBNET)",
    "expect": "CLAIM",
    "keep": "CLAIM",
    "accept": "FINDING in LIST [NUMBER] TEXT",
}
"""The forms of statements and of lines in blocks that begin with a keyword, without that keyword.
"""


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

_PARTS: Mapping[str, str] = {
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
    return word[:1] not in ('"', ",") and not looks_like_address(word)


KINDS: Mapping[str, Callable[[str], bool]] = {
    "TEXT": lambda word: word[:1] == '"',
    "NUMBER": lambda word: word[:1].isdigit(),
    "RANGE": lambda word: word[:1].isdigit(),
    "ZONE": _is_name,
    "NEW": lambda word: word[:1] != '"',
    "USER": lambda word: word[:1] != '"',
    "PART": lambda word: word[:1] != '"',
    "PREFIX": looks_like_address,
    "ADDRESS": looks_like_address,
    "PATTERN": looks_like_address,
    "WILDCARD": looks_like_address,
    "MAC": lambda word: word.count(":") == 5,
    "NAME": _is_name,
    "ENDPOINT": _is_name,
    "MACHINE": _is_name,
    "SUBNET": _is_name,
    "HOST": _is_name,
    "GROUP": _is_name,
    "DEVICE": lambda word: _is_name(word) and "." not in word,
    "POINT": lambda word: "." in word,
    "PORT": lambda word: "." in word,
    "SERVICE": lambda word: word[:1] not in ('"', ","),
    "LIST": lambda word: word[:1] != '"',
    "WINDOW": _is_name,
    "FINDING": _is_name,
    "PORTS": lambda word: word[:1] != '"',
    "FLAGS": lambda word: word[:1] != '"',
    "DSCP": lambda word: word[:1] != '"',
    "VERSIONS": lambda word: word[:1] in "-123456789",
    "SUITES": lambda word: word[:1] != '"',
    "DAYS": lambda word: _DAY.match(word) is not None,
    "HOURS": lambda word: ":" in word,
    "DATE": lambda word: word.count("-") == 2,
    "CLOCK": lambda word: ":" in word,
    "TIME": lambda word: word[:1].isdigit() or word == "now" or _DAY.match(word) is not None,
}
"""The kinds of words, each with what tells whether a word may be of it; words that a form has
itself go before.
"""


class Step(NamedTuple):
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
        self._steps: list[list[Step]] = [[]]
        end = self._sequence(_Reader(text), 0)
        reach = [self._closure(state) for state in range(len(self._steps))]
        self.states: list[list[Step]] = [
            [step for each in sorted(closed) for step in self._steps[each]] for closed in reach
        ]
        self.ends = frozenset(state for state, closed in enumerate(reach) if end in closed)

    def roles(self, words: Sequence[str]) -> list[str]:
        """Return what each word of a line is: "word" for a word of the language, a kind, or ""
        where the form has no place for it.
        """
        found, states = [], {0}
        for word in words:
            steps = self._taking(states, word)
            found.append("" if not steps else "word" if steps[0].word else steps[0].kind)
            states = {step.after for step in steps} or states
        return found

    def after(self, words: Iterable[str]) -> list[Step]:
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

    def _taking(self, states: Iterable[int], word: str) -> list[Step]:
        """Return the steps for a word: where some step is for exactly this word, only such steps."""
        steps = [step for state in sorted(states) for step in self.states[state]]
        own = [step for step in steps if step.word == word]
        return own or [step for step in steps if step.kind and KINDS[step.kind](word)]

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
        if word in _PARTS:
            return self._choices(_Reader(_PARTS[word]), start)
        end = self._state()
        self._steps[start].append(Step("", word, end) if word in KINDS else Step(word, "", end))
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
def statement_form(keyword: str) -> Form | None:
    """Return the form of a statement, or of a line in a block, that begins with a keyword; None
    where there is none.
    """
    return Form(f"{keyword} {FORMS[keyword]}") if keyword in FORMS else None


@cache
def entry_form(kind: Kind, frames: bool) -> Form:
    """Return the form of the entries of a list."""
    return Form(ENTRIES[kind, frames])


COMMAS = frozenset(("numbering", "gateway", "leases", "group", "service", "window"))
"""The statements in which a comma is a word of its own."""
