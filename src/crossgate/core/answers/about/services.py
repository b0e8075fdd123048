"""The facts about services, windows and lists."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from datetime import datetime
from typing import Any

from crossgate.core.answers.about.held import asked_by, share
from crossgate.core.answers.about.values import About, Fact, told
from crossgate.core.model import iana
from crossgate.core.model.accesslist import AnyList, line_name
from crossgate.core.model.address import Family
from crossgate.core.model.plaintext import numeral
from crossgate.core.model.plan import Plan
from crossgate.core.model.service import ServiceError, ServiceTerm, format_ports
from crossgate.core.model.window import Window, changes


def of_service(plan: Plan, name: str) -> About:
    """Return the facts about a service of the plan."""
    own = plan.services[name]
    terms = _terms(plan, name)
    facts = [
        Fact("stands for", own.tokens),
        Fact("by", (own.source,) if own.source else ()),
        Fact("services in it", _services_in(plan, terms, name)),
        Fact("part of", _services_with(plan, terms, name)),
    ]
    return About("service", name, own.place, told(facts), (), asked_by(plan, terms, name))


def registered(plan: Plan, word: str) -> Iterator[About]:
    """Yield the facts about what IANA, or a token of the language, means by a word other than the
    plan's own services. Raises `ServiceError` for a faulty token.
    """
    number = iana.protocols().get(word, numeral(word))
    if number is not None and number < 256 and not (word.isdigit() and word in plan.every_list):
        yield _protocol(plan, word, number)
    if word in iana.services():
        yield _assigned(plan, word)
    elif "/" in word or word in ("ip", "ping"):
        yield _token(plan, word)


def _protocol(plan: Plan, word: str, number: int) -> About:
    name, mistaken = iana.protocol_names().get(number, ""), iana.mistaken_text(word)
    facts = [
        Fact("number", (str(number),)),
        Fact("name", (name,) if name else ()),
        Fact("take care", () if mistaken is None else ("; ".join(mistaken),)),
    ]
    terms = (ServiceTerm(number),)
    return About("protocol", word, None, told(facts), (), asked_by(plan, terms, word))


def _assigned(plan: Plan, name: str) -> About:
    """Return the facts about a service for which IANA has a port."""
    ports, transports = iana.services()[name]
    terms = tuple(ServiceTerm(iana.protocols()[each], (ports,)) for each in transports)
    facts = [
        Fact("ports", tuple(f"{each}/{format_ports((ports,))}" for each in transports)),
        Fact("part of", _services_with(plan, terms, name)),
    ]
    return About("service of IANA", name, None, told(facts), (), asked_by(plan, terms, name))


def _token(plan: Plan, token: str) -> About:
    """Return the facts about a service written as protocol and port. Raises `ServiceError`."""
    terms = _terms(plan, token)
    names = [
        name
        for name, (ports, transports) in iana.services().items()
        if any(ServiceTerm(iana.protocols()[each], (ports,)) in terms for each in transports)
    ]
    facts = [
        Fact("called by IANA", tuple(names)),
        Fact("part of", _services_with(plan, terms, token)),
    ]
    return About("service", token, None, told(facts), (), asked_by(plan, terms, token))


def of_window(plan: Plan, own: Window, at: datetime) -> About:
    """Return the facts about a window, as it is at a time."""
    turn = next(changes([own], at), None)
    opened = own.is_open(at)
    now = f"{'open' if opened else 'shut'} at {at:%a %Y-%m-%d %H:%M}"
    then = "" if turn is None else f"{'shuts' if opened else 'opens'} {turn:%a %Y-%m-%d %H:%M}"
    entries = [
        line_name(each.name, entry.number)
        for each in plan.every_list.values()
        for entry in each.entries
        if entry.window == own.name
    ]
    facts = [
        Fact("hours", (own.text,)),
        Fact("now", (now,)),
        Fact("next", (then or "never again",)),
        Fact("entries", tuple(entries)),
    ]
    return About("window", own.name, own.place, told(facts))


def of_list(plan: Plan, own: AnyList[Any]) -> About:
    """Return the facts about a list."""
    stands = [each for each in plan.every_placement if each.access_list == own.name]
    off = sum(each.off for each in own.entries)
    facts = [
        Fact("kind", (f"{own.kind} {own.about}",)),
        Fact("entries", (f"{len(own.entries)}" + (f", {off} off" if off else ""),)),
        Fact("otherwise", (str(own.otherwise.action),)),
        Fact("stands", tuple(each.where for each in stands) or ("nowhere",)),
        Fact("asks for hours", tuple(sorted(own.windows))),
    ]
    return About("list", own.name, own.place, told(facts))


def _terms(plan: Plan, word: str) -> tuple[ServiceTerm, ...]:
    """Return the terms of a service in both families, each once. Raises `ServiceError` where it has
    a meaning in neither.
    """
    found: dict[ServiceTerm, None] = {}
    wrong: ServiceError | None = None
    for family in Family:
        try:
            found.update(dict.fromkeys(plan.service(word, family).terms))
        except ServiceError as error:
            wrong = error
    if not found and wrong is not None:
        raise wrong
    return tuple(found)


def _services_with(plan: Plan, terms: Iterable[ServiceTerm], own: str) -> tuple[str, ...]:
    """Return the other services of the plan that share packets with some terms."""
    wanted = list(terms)
    return tuple(
        name
        for name in plan.services
        if name != own and any(share(a, b) for a in wanted for b in _terms(plan, name))
    )


def _services_in(plan: Plan, terms: Iterable[ServiceTerm], own: str) -> tuple[str, ...]:
    """Return the IANA names for what a service of the plan asks for, each with its port."""
    named = []
    for name, (ports, transports) in iana.services().items():
        for each in transports:
            term = ServiceTerm(iana.protocols()[each], (ports,))
            if name != own and any(
                term.protocol == other.protocol and ports in (other.ports or ()) for other in terms
            ):
                named.append(f"{name} ({each}/{ports[0]})")
    return tuple(named)
