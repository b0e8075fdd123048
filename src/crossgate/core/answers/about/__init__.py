"""What a word of a plan means: what belongs to it, which machines are in it, and every list that
its packets meet.

A word may have several meanings, a service of the plan and a protocol of IANA's: each is told.
Where the text of the plan uses the word is found by `language.uses`, which has that text.
"""

from __future__ import annotations

from collections.abc import Iterator
from datetime import datetime

from crossgate.core.answers.about import places, services
from crossgate.core.answers.about.values import About
from crossgate.core.model import iana
from crossgate.core.model.address import looks_like_address
from crossgate.core.model.errors import PlanError, nearest
from crossgate.core.model.network import LEASES_OF
from crossgate.core.network.ways import Network
from crossgate.core.sets.meaning import PRIVATE, meaning_of, words_of


def about(network: Network, word: str, at: datetime) -> list[About]:
    """Return all meanings of a word; windows are described as they are `at` a time. Raises
    `PlanError` where neither the plan nor IANA knows it.
    """
    plan = network.plan
    found = list(_everything(network, word, at))
    if not found:
        known = [*plan.names(), *plan.services, *plan.windows, *plan.every_list]
        near = nearest(word, [*known, *iana.services(), *iana.protocols()])
        said = iana.SAID.get(word.lower(), near)
        mend = f"; there is {said}" if said else ""
        raise PlanError(f"the plan has nothing called {word}, and IANA neither{mend}")
    return found


def _everything(network: Network, word: str, at: datetime) -> Iterator[About]:
    plan = network.plan
    if word.startswith("vlan "):
        yield places.of_vlan(plan, word)
        return
    several = words_of(word) != ([word], []) and not plan.is_service(word)
    if several or word == "any" or (looks_like_address(word) and not word.isdigit()):
        yield places.of_addresses(network, word)
        return
    yield from _places(network, word)
    if word in plan.services:
        yield services.of_service(plan, word)
    if word in plan.windows:
        yield services.of_window(plan, plan.windows[word], at)
    if word in plan.every_list:
        yield services.of_list(plan, plan.every_list[word])
    yield from services.registered(plan, word)


def _places(network: Network, word: str) -> Iterator[About]:
    """Yield what a word is among the names of machines, places and addresses."""
    plan = network.plan
    if word in plan.hosts:
        yield places.of_host(network, plan.hosts[word])
    elif word in plan.segments:
        yield places.of_segment(plan, plan.segments[word])
    elif word in plan.devices:
        yield places.of_device(plan, plan.devices[word])
    elif word in plan.groups:
        yield places.of_group(plan, word)
    elif word.startswith(LEASES_OF) and meaning_of(plan, word) is not None:
        yield places.of_segment(plan, plan.segments[word.removeprefix(LEASES_OF)])
    elif word.partition(".")[0] in plan.devices and "." in word:
        yield places.of_point(plan, plan.point(word))
    elif word == PRIVATE:
        yield places.of_addresses(network, word)
