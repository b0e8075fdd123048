"""Where lists are placed, what must hold and which findings are intended: `place`, `expect`, `keep`
and `accept` lines.
"""

from __future__ import annotations

from datetime import date
from typing import Any, NamedTuple

from crossgate.core.model.accesslist import AnyList, DeciderKey
from crossgate.core.model.address import Family
from crossgate.core.model.claim import ELSEWHERE, Claim, ClaimHours, Expectation, Moment, Only
from crossgate.core.model.entry import MOST_NUMBER
from crossgate.core.model.errors import PlanError
from crossgate.core.model.finding import Acceptance
from crossgate.core.model.finding_kinds import KINDS
from crossgate.core.model.packet import MOST_PORT, PORT_PROTOCOLS, SYN, TCP
from crossgate.core.model.service import FlagTest, Service, ServiceError
from crossgate.core.model.service_words import parse_flags
from crossgate.core.model.tls import Spoken
from crossgate.core.model.window import until_name
from crossgate.core.sets.meaning import meaning_of
from crossgate.language.conditions import owner, tls_test, until, window_name
from crossgate.language.mends import mended_claim
from crossgate.language.names import Names
from crossgate.language.times import moment
from crossgate.language.words import Words

_FAMILIES = {family.word: family for family in Family}


def expectation(words: Words, names: Names) -> None:
    """Read an `expect` or a `keep` statement."""
    keep = words.choice(("expect", "keep")) == "keep"
    if words.accept("only"):
        _only(words, names, keep)
        return
    try:
        claim = Claim(words.choice([*(claim.value for claim in Claim), "only"]))
        service = words.take("a service, as tcp/443, ping or ip")
        services = in_some_family(words, names, service)
        source, destination = _ends(words, names)
    except PlanError as error:
        raise mended_claim(error, words.line, names.plan.is_service) from None
    limits = _limits(words, names, {service: services})
    flags = _flags(words, claim, service, services) if words.accept("flags") else None
    hours = _hours(words, names, limits.at)
    by = _decider(words, names) if words.accept("by") else None
    hours, day = _until(words, hours, limits.at)
    answers, comment, text = _close(words)
    source_port, at, flooding, spoken, over = limits
    found = Expectation(
        keep,
        claim,
        service,
        source,
        destination,
        source_port,
        at,
        over,
        by,
        comment,
        text,
        words.place,
        flooding,
        spoken,
        hours,
        flags,
        day,
        answers,
    )
    names.plan.expectations.append(found)


def _only(words: Words, names: Names, keep: bool) -> None:
    """Take `nothing`, or services with `and` between them; the destination may be `elsewhere`."""
    services: dict[str, dict[Family, Service]] = {}
    if not words.accept("nothing"):
        while not services or words.accept("and"):
            service = words.take("a service, as tcp/443, ping or ip, or nothing")
            services[service] = in_some_family(words, names, service)
    source, destination = _ends(words, names, elsewhere=True)
    source_port, at, flooding, spoken, over = _limits(words, names, services)
    hours = _hours(words, names, at)
    if words.peek() == "flags":
        words.index += 1
        raise words.error(
            "only speaks of conversations, and such segments are of none; leave flags out, or "
            "write expect deny"
        )
    if words.peek() == "by":
        words.index += 1
        raise words.error(
            "only speaks of all that is sent, so no single line decides it; leave by out, or "
            "write expect permit"
        )
    hours, day = _until(words, hours, at)
    answers, comment, text = _close(words)
    found = Only(
        keep,
        tuple(services),
        source,
        destination,
        source_port,
        at,
        over,
        comment,
        text,
        words.place,
        flooding,
        spoken,
        hours,
        None,
        day,
        answers,
    )
    names.plan.expectations.append(found)


def _ends(words: Words, names: Names, elsewhere: bool = False) -> tuple[str, str]:
    """Take a source, `to` and a destination."""
    source = _end(words, names)
    words.keyword("to")
    if elsewhere and words.peek() == ELSEWHERE and meaning_of(names.plan, ELSEWHERE) is None:
        return source, words.take("")
    return source, _end(words, names)


def _limits(words: Words, names: Names, services: dict[str, dict[Family, Service]]) -> _Limits:
    """Take what limits a claim to some of its packets."""
    source_port = at = over = spoken = None
    if words.accept("source"):
        words.keyword("port")
        source_port = words.number("a port", MOST_PORT)
        for service, by_family in services.items():
            if any(
                term.protocol not in (None, *PORT_PROTOCOLS)
                for each in by_family.values()
                for term in each.terms
            ):
                raise words.error(f"{service} has no source port")
    if words.accept("at"):
        at = moment(words)
    flooding = words.accept("flooding")
    if words.accept("no"):
        words.keyword("tls")
        spoken = Spoken(None)
    elif words.peek() in ("tls", "cipher"):
        spoken = Spoken(tls_test(words))
    if spoken is not None:
        for service, by_family in services.items():
            if not any(
                term.protocol in (None, TCP) for each in by_family.values() for term in each.terms
            ):
                raise words.error(f"TLS is spoken over TCP, and {service} is none")
    if words.accept("over"):
        over = _FAMILIES[words.choice(_FAMILIES)]
        for service, by_family in services.items():
            if over not in by_family:
                _in_family(words, names, service, over)
    return _Limits(source_port, at, flooding, spoken, over)


def _flags(words: Words, claim: Claim, service: str, services: dict[Family, Service]) -> FlagTest:
    """Take the flags behind `flags`: TCP segments with them that open nothing, each of them
    alone.
    """
    if any(term.protocol not in (None, TCP) for each in services.values() for term in each.terms):
        raise words.error(f"flags are TCP's, and {service} is not tcp alone")
    if claim is Claim.HALF_OPEN:
        raise words.error(
            "nobody answers such a segment, so it is never half-open; write permit or deny"
        )
    try:
        found = parse_flags(words.take("TCP flags, as FIN or SYN,ACK"))
    except ServiceError as error:
        raise words.error(str(error), span=(error.start, error.end)) from None
    if found.care == 0xFF and found.value == SYN:
        raise words.error("a segment with SYN alone opens a conversation; leave flags out")
    return found


def _hours(words: Words, names: Names, at: Moment | None) -> ClaimHours | None:
    """Take `during` or `outside` and a window where they stand."""
    if words.peek() not in ("during", "outside"):
        return None
    word = words.take("")
    if at is not None:
        raise words.error(f"at {at.text} is one time; leave it out, or what stands from {word} on")
    return ClaimHours(window_name(words, names), word == "during")


class _Limits(NamedTuple):
    """The words that narrow a claim down."""

    source_port: int | None
    at: Moment | None
    flooding: bool
    spoken: Spoken | None
    over: Family | None


def _until(
    words: Words, hours: ClaimHours | None, at: Moment | None
) -> tuple[ClaimHours | None, date | None]:
    """Take `until` and a day where they stand; return the hours to that day's end, and the day."""
    if words.peek() != "until":
        return hours, None
    day = until(words)
    if hours is not None and not hours.inside:
        raise words.error(
            f"outside {hours.window} and until do not go together; write during a window of the "
            "hours that are meant"
        )
    if at is not None:
        return hours, day
    return ClaimHours(until_name(day, "" if hours is None else hours.window), inside=True), day


def _close(words: Words) -> tuple[str, str, str]:
    """Take the owner, the comment and the line's end, and return the first two, and the line
    without the comment.
    """
    answers = owner(words)
    comment = words.text("a comment in double quotes") if words.peek()[:1] == '"' else ""
    words.end()
    return answers, comment, " ".join(words.words[: -1 if comment else None])


def acceptance(words: Words, names: Names) -> None:
    """Read an `accept` statement."""
    words.keyword("accept")
    finding = words.choice(KINDS, "the name of a finding, as no-effect")
    words.keyword("in")
    access_list = names.any_list(words, "the number or name of a list")
    number = _entry_number(words, access_list) if words.peek()[:1].isdigit() else None
    reason = words.text("the reason, in double quotes")
    if not reason.strip():
        raise words.error("say why it is accepted, in double quotes")
    words.end()
    names.plan.acceptances.append(
        Acceptance(finding, access_list.name, number, reason, words.place)
    )


def _in_family(words: Words, names: Names, service: str, family: Family) -> Service:
    return names.read_service(words, service, family)


def in_some_family(words: Words, names: Names, service: str) -> dict[Family, Service]:
    """Return what a service means in each family in which it has a meaning. Raises the `PlanError`
    of IPv4 where it has none in either.
    """
    found: dict[Family, Service] = {}
    errors: list[PlanError] = []
    for family in Family:
        try:
            found[family] = _in_family(words, names, service, family)
        except PlanError as error:
            errors.append(error)
    if not found:
        raise errors[0]
    return found


def _end(words: Words, names: Names) -> str:
    """Take one end of a claim: names and addresses with commas between them, and others after
    `but`.
    """
    if not words.peek():
        raise words.missing(
            "an end: a host, a device, a point, a subnet, a group, an outside, an address or any"
        )
    return names.several_endpoints(words)


def _decider(words: Words, names: Names) -> DeciderKey:
    """Take a list and the number of its entry, or `otherwise`."""
    access_list = names.any_list(words, "the number or name of a list")
    if words.accept("otherwise"):
        return DeciderKey(access_list.name, None)
    return DeciderKey(access_list.name, _entry_number(words, access_list))


def _entry_number(words: Words, access_list: AnyList[Any]) -> int:
    number = words.number("an entry number or otherwise", MOST_NUMBER)
    known = [entry.number for entry in access_list.entries]
    if number not in known:
        raise words.unknown(
            f"entry in list {access_list.name} with number", str(number), list(map(str, known))
        )
    return number
