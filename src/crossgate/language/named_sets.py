"""Names for sets: `group` and `service` lines, which may name each other in any order, but not in a
circle.

All statements of a kind are collected first, and read once all are known, each after those that it
needs.
"""

from __future__ import annotations

from collections.abc import Callable, Collection, Sequence

from crossgate.core.model.bundles import BUNDLES
from crossgate.core.model.iana import protocols
from crossgate.core.model.named import NamedService, NameSpace
from crossgate.core.model.service_words import split_service
from crossgate.language.claims import in_some_family
from crossgate.language.names import Names
from crossgate.language.words import Words


def in_order(
    names: Collection[str], needed: Callable[[str], Sequence[str]]
) -> tuple[list[str], list[list[str]]]:
    """Return names in an order in which each follows those it needs, and the circles among them;
    chains may be of any length.
    """
    order: list[str] = []
    circles: list[list[str]] = []
    state: dict[str, bool] = {}
    for start in names:
        trail = [] if start in state else [(start, iter(needed(start)))]
        state.setdefault(start, False)
        while trail:
            name, left = trail[-1]
            following = next(left, None)
            if following is None:
                state[name] = True
                order.append(name)
                trail.pop()
            elif following not in state:
                state[following] = False
                trail.append((following, iter(needed(following))))
            elif not state[following]:
                way = [each for each, _ in trail]
                circles.append(way[way.index(following) :])
    return order, circles


def _round(circle: Sequence[str]) -> str:
    """Write a circle of names: `a has b has a`, a long one without its middle."""
    shown = (
        circle if len(circle) <= 8 else [*circle[:6], f"... {len(circle) - 7} more ...", circle[-1]]
    )
    return " has ".join([*shown, circle[0]])


def group(words: Words, names: Names) -> None:
    """Keep a group's line, to be read by `groups`."""
    words.keyword("group")
    names.pending_groups[words.name("a group")] = words


def groups(names: Names) -> None:
    """Read the groups that lines have kept (`Names.group`)."""
    pending = names.pending_groups
    order, circles = in_order(
        pending,
        lambda name: [
            part for word in pending[name].words[2:] for part in word.split(",") if part in pending
        ],
    )
    for circle in circles:
        names.errors.append(
            pending[circle[0]].error(f"groups go round in a circle: {_round(circle)}", index=1)
        )
        names.broken_groups.update(circle)
    for name in order:
        with names.gathering():
            names.plan.groups[name] = names.group(pending[name], name)


def service(words: Words, names: Names) -> None:
    """Keep a service's line, to be read by `services`."""
    words.keyword("service")
    name = words.name("a service")
    if name in ("ip", "ping") or name in protocols():
        raise words.error(f"{name} means itself; give the service another name")
    names.pending_services[name] = words


def use(words: Words, names: Names) -> None:
    """Read a `use` statement, which names bundles of services."""
    words.keyword("use")
    words.keyword("services")
    while True:
        name = words.choice(BUNDLES)
        declared = names.declared[NameSpace.SERVICE]
        if name in names.plan.services:
            raise words.error(f"{name} is used already; write it once")
        if name in declared:
            raise words.error(f"the plan has a service {name} of its own; leave it out here")
        own = BUNDLES[name]
        names.plan.services[name] = NamedService(name, own.tokens, words.place, own.source)
        if not words.peek():
            return


def services(names: Names) -> None:
    """Read the services that lines have kept; each of their tokens has a meaning in some family."""
    named: dict[str, NamedService] = {}
    for name, words in names.pending_services.items():
        with names.gathering():
            named[name] = NamedService(name, _tokens(words), words.place)
    order, circles = in_order(
        named, lambda name: [token for token in named[name].tokens if token in named]
    )
    for circle in circles:
        names.errors.append(
            names.pending_services[circle[0]].error(
                f"services go round in a circle: {_round(circle)}", index=1
            )
        )
    circular = {name for circle in circles for name in circle}
    for name in order:
        if name not in circular and _stands_for_something(names.pending_services[name], names):
            names.plan.services[name] = named[name]


def _tokens(words: Words) -> tuple[str, ...]:
    tokens: list[str] = []
    while not tokens or words.peek():
        token = words.take("a service, as tcp/8443")
        more = token.endswith(",") or words.accept(",")
        tokens += split_service(token.rstrip(","))
        if more and not words.peek():
            raise words.missing("another service after the comma")
        if not more and words.peek():
            raise words.error("expected a comma between two services", index=words.index)
    return tuple(tokens)


def _stands_for_something(words: Words, names: Names) -> bool:
    """Check that every token of a service has a meaning in some family, so that errors are reported
    here and not where it is used.
    """
    before = len(names.errors)
    for index in (index for index, word in enumerate(words.words) if index > 1 and word != ","):
        with names.gathering():
            words.index = index + 1
            in_some_family(words, names, words.words[index].rstrip(","))
    return len(names.errors) == before
