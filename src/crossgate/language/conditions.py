"""How the conditions of entries are written: the form of each, and the function that reads it. What
a condition does is in its class, in `core.model.conditions` and `core.model.tls`.
"""

from __future__ import annotations

from collections.abc import Callable
from datetime import date, datetime
from functools import cache
from typing import NamedTuple, TypeVar

from crossgate.core.model.condition import Condition
from crossgate.core.model.conditions import (
    MINUTE,
    SECOND,
    Dscp,
    During,
    Flags,
    Fragments,
    Limit,
    SourcePorts,
)
from crossgate.core.model.entry import MOST_NUMBER, Action, Kind
from crossgate.core.model.named import NameSpace
from crossgate.core.model.packet import PORT_PROTOCOLS, TCP
from crossgate.core.model.service import ESTABLISHED, Service, ServiceError, both_flags
from crossgate.core.model.service_words import parse_dscp, parse_flags, parse_ports
from crossgate.core.model.tls import TlsError, TlsTest, chosen_hello, parse_suites, parse_versions
from crossgate.core.model.window import last_day, until_name
from crossgate.language.names import FollowOn, Names
from crossgate.language.words import Words

_LAST_YEAR = 9_998
_SECONDS = {"second": SECOND, "minute": MINUTE}
_T = TypeVar("_T")


class EntryHead(NamedTuple):
    """What the conditions of an entry may depend on: its list and number, and the words before
    them.
    """

    names: Names
    access_list: str
    number: int
    action: Action
    service: Service


class ConditionForm(NamedTuple):
    """How a condition is written: the words that it may begin with, its form (see `forms`), and the
    function that reads it.

    `loose` ones may come in any order after the destination; the others follow in the order of
    `WRITTEN`. A `standard` one may be used in a standard list too.
    """

    words: tuple[str, ...]
    form: str
    read: Callable[[Words, EntryHead], Condition]
    loose: bool = False
    standard: bool = False

    @property
    def told(self) -> tuple[str, ...]:
        """Its words as error messages show them."""
        return ("at most",) if self.words == ("at",) else self.words


def _needs(
    words: Words, service: Service, protocols: frozenset[int] | set[int], message: str
) -> None:
    if any(term.protocol not in protocols for term in service.terms):
        raise words.error(f"{message}, not {service.text}")


def _parsed(words: Words, parse: Callable[[str], _T], expected: str) -> _T:
    """Take a word and parse it; an error marks the faulty part of the word."""
    word = words.take(expected)
    try:
        return parse(word)
    except ServiceError as error:
        raise words.error(str(error), span=(error.start, error.end)) from None


def _source_ports(words: Words, head: EntryHead) -> Condition:
    """Take the ports behind `source port`."""
    words.keyword("source")
    _needs(
        words,
        head.service,
        PORT_PROTOCOLS,
        "a source port needs a service of tcp, udp, sctp or dccp",
    )
    words.keyword("port")
    return SourcePorts(_parsed(words, parse_ports, "ports, as 1024- or 80,443"))


def _established(words: Words, head: EntryHead) -> Condition:
    """Return the condition that `established` stands for."""
    words.keyword("established")
    _needs(words, head.service, {TCP}, "established asks for TCP flags and needs a service of tcp")
    return Flags(ESTABLISHED, "established")


def _flags(words: Words, head: EntryHead) -> Condition:
    """Take the flags behind `flags`."""
    words.keyword("flags")
    _needs(words, head.service, {TCP}, "flags are TCP's and need a service of tcp")
    return Flags(
        (_parsed(words, parse_flags, "TCP flags, as SYN,!ACK"),),
        f"flags {words.words[words.index - 1]}",
    )


def _fragments(words: Words, _: EntryHead) -> Condition:
    """Return the condition that `fragments` stands for."""
    words.keyword("fragments")
    return Fragments()


def _dscp(words: Words, _: EntryHead) -> Condition:
    """Take the value behind `dscp`."""
    words.keyword("dscp")
    return Dscp(_parsed(words, parse_dscp, "a DSCP value, 0 to 63 or a name"))


def _during(words: Words, head: EntryHead) -> Condition:
    return During(during(words, head.names))


def _until(words: Words, head: EntryHead) -> Condition:
    return During(until_name(until(words)))


def until(words: Words) -> date:
    """Take the day behind `until`, and return it."""
    words.keyword("until")
    word = words.take("a day, as 2027-03-31")
    try:
        found = datetime.strptime(word, "%Y-%m-%d").date()
    except ValueError:
        raise words.error(f"{word} is no day; write it as 2027-03-31") from None
    if found.year > _LAST_YEAR:
        raise words.error(f"{word} is further off than any day here; leave until out")
    return found


def owner(words: Words) -> str:
    """Take `for` and a text where they stand; return the owner of a line, "" for none."""
    return words.text("a name in double quotes") if words.accept("for") else ""


def during(words: Words, names: Names) -> str:
    """Take the window behind `during`, and return its name."""
    words.keyword("during")
    return window_name(words, names)


def window_name(words: Words, names: Names) -> str:
    """Take the name of a window."""
    window = words.take("the name of a window")
    if window not in names.plan.windows:
        if window in names.declared[NameSpace.WINDOW]:
            raise FollowOn("")
        raise words.unknown("window", window, list(names.plan.windows))
    return window


def _at_most(words: Words, head: EntryHead) -> Condition:
    """Take a rate behind `at`, as `most 5 a second from each source`."""
    words.keyword("at")
    words.keyword("most")
    action = head.action
    if action is not Action.PERMIT:
        raise words.error(
            f"at most says how much is permitted, and this entry is a {action}; write {action} "
            "alone, below a permit at most"
        )
    most = words.number("how many new conversations, as 50", MOST_NUMBER)
    if not most:
        raise words.error("at most 0 permits nothing; write deny")
    words.keyword("a")
    seconds = _SECONDS[words.choice(tuple(_SECONDS))]
    each_source = words.accept("from")
    if each_source:
        words.keyword("each")
        words.keyword("source")
    return Limit(most, seconds, each_source, head.access_list, head.number)


def _tls(words: Words, head: EntryHead) -> Condition:
    _needs(words, head.service, {TCP}, "TLS is spoken over TCP and needs a service of tcp")
    return tls_test(words)


def tls_test(words: Words) -> TlsTest:
    """Take what is asked of TLS, behind `tls` or `cipher`."""
    versions = _tls_part(words, "tls", parse_versions, "versions of TLS, as 1.2,1.3 or 1.2-")
    suites = _tls_part(
        words, "cipher", parse_suites, "cipher suites, by name or number, with commas"
    )
    test = TlsTest(versions, suites)
    if chosen_hello(test) is None:
        raise words.error(
            "no conversation settles on such a suite in such a version of TLS, so nothing matches"
        )
    return test


def _tls_part(
    words: Words, keyword: str, parse: Callable[[str], frozenset[int]], what: str
) -> frozenset[int] | None:
    if not words.accept(keyword):
        return None
    try:
        return parse(words.take(what))
    except TlsError as error:
        raise words.error(str(error)) from None


WRITTEN: dict[type[Condition] | str, ConditionForm] = {
    SourcePorts: ConditionForm(("source",), "source port PORTS", _source_ports, loose=True),
    "established": ConditionForm(("established",), "established", _established, loose=True),
    Flags: ConditionForm(("flags",), "flags FLAGS", _flags, loose=True),
    Fragments: ConditionForm(("fragments",), "fragments", _fragments, loose=True),
    Dscp: ConditionForm(("dscp",), "dscp DSCP", _dscp, loose=True),
    During: ConditionForm(("during",), "during WINDOW", _during, standard=True),
    Limit: ConditionForm(
        ("at",), "at most NUMBER a (second | minute) [from each source]", _at_most, standard=True
    ),
    TlsTest: ConditionForm(
        ("tls", "cipher"), "(tls VERSIONS [cipher SUITES] | cipher SUITES)", _tls
    ),
    "until": ConditionForm(("until",), "until DATE", _until, standard=True),
}
"""How each condition is written, in the order in which those stand that have one."""


@cache
def written(kind: Kind) -> tuple[ConditionForm, ...]:
    """Return the conditions that the entries of a kind of list may have."""
    return tuple(each for each in WRITTEN.values() if each.standard or kind is Kind.EXTENDED)


@cache
def _by_word(kind: Kind, loose: bool) -> dict[str, ConditionForm]:
    return {word: each for each in written(kind) if each.loose is loose for word in each.words}


def read_conditions(words: Words, head: EntryHead, kind: Kind) -> tuple[Condition, ...]:
    """Take the conditions of an entry, each once, and return them: the loose ones in any order,
    then the rest in theirs.
    """
    loose, rest = _by_word(kind, True), _by_word(kind, False)
    found: list[Condition] = []
    seen: set[str] = set()
    while (word := words.peek()) in loose:
        if word in seen:
            words.index += 1
            raise words.error(f"{word} stands twice")
        seen.add(word)
        found.append(loose[word].read(words, head))
    if word in rest:
        found += [
            each.read(words, head)
            for each in written(kind)
            if not each.loose and words.peek() in each.words
        ]
        if any(isinstance(each, During) for each in found[:-1]):
            found = _with_until(found, found[-1])
    return _joined(found) if "established" in seen and "flags" in seen else tuple(found)


def _with_until(found: list[Condition], last: Condition) -> list[Condition]:
    """Return conditions in which a window and a last day are one condition of time; the last day
    wins.
    """
    day = last_day(last.window) if isinstance(last, During) else None
    if day is None:
        return found
    return [
        During(until_name(day, each.window)) if isinstance(each, During) else each
        for each in found[:-1]
    ]


def _joined(found: list[Condition]) -> tuple[Condition, ...]:
    """Return conditions in which two about TCP flags are one."""
    flags = [each for each in found if isinstance(each, Flags)]
    both = Flags(both_flags([each.tests for each in flags]), " ".join(each.text for each in flags))
    return tuple(
        both if each is flags[0] else each
        for each in found
        if each is flags[0] or each not in flags
    )


MAKE_EXTENDED = "make the list extended"


def beyond_sources(word: str) -> str:
    """Return why a word of an extended list's entry cannot stand in a standard list's."""
    return f"a standard list asks for sources only, so {word} does not belong here; {MAKE_EXTENDED}"


def misplaced(word: str, kind: Kind) -> str:
    """Return why a word cannot stand at the end of an entry's conditions."""
    known = [each for every in WRITTEN.values() for each in every.words]
    if kind is Kind.STANDARD:
        own = [each for every in written(kind) for each in every.told]
        if word == "to" or (word in known and word not in own and word != "at"):
            return beyond_sources(word)
        return (
            f"expected {', '.join(own)}, log, for, a comment in double quotes or the end of the "
            f"line, not {word}"
        )
    told = ", ".join(each for every in WRITTEN.values() for each in every.told)
    if word in (*known, "log", "for"):
        return f"{word} stands too late or twice; the order is: {told}, log, for, comment"
    return f"expected {told}, log, for, a comment or the end of the line, not {word}"
