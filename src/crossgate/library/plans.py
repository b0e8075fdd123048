"""A plan from its files or its text, and its words: times, addresses, packets."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from contextvars import copy_context
from datetime import datetime
from pathlib import Path
from typing import TypeVar

from crossgate.core.model.address import Family
from crossgate.core.model.conditions import When
from crossgate.core.model.errors import PlanError
from crossgate.core.model.plan import Plan
from crossgate.core.model.tls import TlsError, asked_hello
from crossgate.core.sets.addresses import AddressSet
from crossgate.core.sets.frame import PacketSet

Answer = TypeVar("Answer")


def read(
    path: str | Path,
    unsaved: Mapping[str, bytes] | None = None,
    *,
    include_from: Sequence[str | Path] = (),
) -> Plan:
    """Read a plan file and what it includes; `unsaved` are bytes to use instead of those on disk,
    by the name of the file.

    Included files must be in the plan's own folder or git repository, or in one of the folders in
    `include_from`, which the caller trusts. Raises `PlanErrors` with every error in it, and
    `PlanError` for a file that cannot be read.
    """
    from crossgate.language.reader import read as read_files

    return trusting(include_from, lambda: read_files(Path(path), unsaved).plan)


def trusting(folders: Sequence[str | Path], ask: Callable[[], Answer]) -> Answer:
    """Return an answer for which files of some folders may be included; an edit reads them again."""
    from crossgate.language.source import allow_includes

    def within() -> Answer:
        allow_includes(map(Path, folders))
        return ask()

    return copy_context().run(within)


def parse(text: str, name: str = "plan.gate") -> Plan:
    """Read a plan from its text, under a name for its errors. Raises as `read` does."""
    return read(name, {name: text.encode()})


def when(
    plan: Plan,
    at: datetime | None = None,
    *,
    flooding: bool = False,
    tls: str | None = None,
    cipher: str | None = None,
) -> When:
    """Return which time and which conversations a question is about: now, on the plan's clock,
    within every `at most`, and without TLS.

    With `tls` or `cipher`, written as in an entry, it is about conversations that settle on that.
    Raises `PlanError` for an invalid time, version or suite.
    """
    try:
        return When(at or plan.now(), flooding, asked_hello(tls, cipher))
    except TlsError as error:
        raise PlanError(str(error)) from None


def addresses(plan: Plan, word: str, family: Family) -> AddressSet:
    """Return the addresses of a family that a word of the plan stands for: a name, an address, a
    prefix, a range or `any`.

    It is empty where the word has none of that family. Raises `PlanError` for a word that stands
    for no addresses.
    """
    from crossgate.core.network.endpoints import endpoint_set

    patterns = endpoint_set(plan, word, family).patterns
    return AddressSet.of(family, patterns) if patterns else AddressSet(family, spans=())


def lines(plan: Plan, packets: Sequence[PacketSet]) -> list[str]:
    """Return sets of packets of one family in few lines, SERVICE SOURCE to DESTINATION, with the
    plan's names where they fit exactly.

    Where all of them open conversations, the services are those of the conversations: `tcp/22`, and
    not its first segment.
    """
    from crossgate.core.sets.minimise import fewest_lines
    from crossgate.core.traffic.courses import opening_packets
    from crossgate.core.wording.services import Sort
    from crossgate.core.wording.sets import Wording

    sort = (
        Sort.OPENING
        if all(each <= opening_packets(each.family) for each in packets)
        else Sort.PACKET
    )
    rows = Wording(plan).rows(fewest_lines(packets), sort)
    return [f"{service} {source} to {destination}" for service, source, destination in rows]
