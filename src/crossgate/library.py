"""Cross Gate as a library: what a program can ask of a plan. `crossgate` itself has all of these
names.

All of it is offline and changes nothing. What people got wrong is a `PlanError` with its place and
its mend; a plan that is read with `read` is whole, or `PlanErrors` has every error in it.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from contextvars import copy_context
from datetime import datetime
from pathlib import Path
from typing import TYPE_CHECKING, Any

from crossgate.core.conversation.story import Trace
from crossgate.core.conversation.verdict import Verdict
from crossgate.core.model.address import Family
from crossgate.core.model.conditions import When
from crossgate.core.model.errors import PlanError, PlanErrors
from crossgate.core.model.finding import Finding
from crossgate.core.model.plan import Plan
from crossgate.core.model.tls import TlsError, asked_hello
from crossgate.core.sets.addresses import AddressSet
from crossgate.core.sets.frame import PacketSet
from crossgate.core.traffic.session import Session
from crossgate.formats.exchange.registry import MOST_PREFIXES, format_named

if TYPE_CHECKING:
    import pyarrow as pa

    from crossgate.core.answers.about.values import About
    from crossgate.core.answers.difference import Difference
    from crossgate.core.answers.leases import Leased
    from crossgate.core.answers.points import Points
    from crossgate.core.answers.reach import Reached
    from crossgate.core.answers.verify import Verified
    from crossgate.core.model.accesslist import DeciderKey
    from crossgate.core.model.network import Direction
    from crossgate.formats.exchange.asked import Written

__all__ = [
    "AddressSet",
    "Family",
    "Finding",
    "PacketSet",
    "Plan",
    "PlanError",
    "PlanErrors",
    "Trace",
    "Verdict",
    "When",
    "about",
    "addresses",
    "check",
    "compare",
    "export",
    "leases",
    "lines",
    "parse",
    "points",
    "reach",
    "read",
    "replay",
    "trace",
    "verify",
    "when",
]


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
    from crossgate.language.reader import read as read_reading
    from crossgate.language.source import allow_includes

    def within() -> Plan:
        allow_includes(map(Path, include_from))
        return read_reading(Path(path), unsaved).plan

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


def trace(
    plan: Plan,
    source: str,
    destination: str,
    service: str,
    *,
    of: When | None = None,
    source_port: int | None = None,
    family: Family | None = None,
) -> list[Trace]:
    """Send a service from one end to another, and return its conversations: one for each family
    that both have, and one for each port.

    Ends are hosts, devices, points, addresses, or groups and subnets, which stand for their hosts.
    Raises `PlanError` for an unknown end or service.
    """
    from crossgate.core.answers.traces import Choice, asked, ends
    from crossgate.core.conversation.packets import Tracer
    from crossgate.core.network.ways import Network

    network = Network(plan)
    tracer = Tracer(network, plan.state_at(of or when(plan)))
    wanted = asked(
        network,
        ends(plan, source),
        ends(plan, destination),
        [service],
        Choice(source_port, (), family),
    )
    return [tracer.trace(conversation) for each in wanted for conversation in each.conversations]


def leases(plan: Plan, whose: str, *, of: When | None = None) -> list[Leased]:
    """Trace how machines get addresses where the plan says `leases`: for a host, or for a subnet
    the hosts with one of its leased addresses and one unnamed machine.

    Each exchange has its messages and their traces, up to the first that does not get through.
    Raises `PlanError` where no `leases` line applies.
    """
    from crossgate.core.answers.leases import exchanges_of, followed
    from crossgate.core.conversation.packets import Tracer
    from crossgate.core.network.ways import Network

    network = Network(plan)
    tracer = Tracer(network, plan.state_at(of or when(plan)))
    return [followed(tracer, each) for each in exchanges_of(network, whose)]


def verify(plan: Plan) -> list[Verified]:
    """Prove the plan's expectations, each over every packet that it is about, at every hour."""
    from crossgate.core.answers.verify import Verifier

    verifier = Verifier(Session(plan))
    return [verifier.verify(each) for each in plan.expectations]


def check(plan: Plan, at: datetime | None = None) -> list[Finding]:
    """Return the findings of a plan that it does not accept, in the order of its lines; `at` is the
    time for which windows are judged, now by default.
    """
    from crossgate.core.audit import audit

    return audit(Session(plan), at or when(plan).at).findings


def reach(
    plan: Plan, source: str, destination: str, service: str | None = None, *, of: When | None = None
) -> list[Reached]:
    """Return exactly what becomes of everything between two sets of addresses, family by family,
    devices' own addresses separately.

    Raises `PlanError` for an unknown end or service, `TooManyPieces` where the answer takes too
    much work.
    """
    from crossgate.core.answers.reach import reach as reached

    return list(reached(Session(plan), source, destination, of or when(plan), service))


def points(plan: Plan, source: str, destination: str) -> list[Points]:
    """Return the places between two ends, there and back, and those that suit a standard and an
    extended list, for each family that both ends have. Raises `PlanError` for an unknown end.
    """
    from crossgate.core.answers.points import points as places
    from crossgate.core.network.ways import Network

    return places(Network(plan), source, destination)


def about(plan: Plan, word: str, *, at: datetime | None = None) -> list[About]:
    """Return all meanings of a word: a name of the plan, a point, an address, a service such as
    `tcp/443`, or `vlan 80`.

    Windows are described as they are `at` a time, now by default. Raises `PlanError` for a word
    without a meaning.
    """
    from crossgate.core.answers.about import about as told
    from crossgate.core.network.ways import Network

    return told(Network(plan), word, at or plan.now().replace(second=0, microsecond=0))


def export(
    plan: Plan,
    format_name: str,
    lists: Sequence[str] = (),
    *,
    on: str | None = None,
    unplaced: bool = False,
    limit: int = MOST_PREFIXES,
    xml: bool = False,
    direction: Direction | None = None,
    as_bytes: bool = False,
    raw: bool = False,
    hits: Mapping[DeciderKey, int] | None = None,
) -> Written:
    """Return lists in an open format (`docs/formats`), and what that cannot express exactly:
    `text`, `unsaid` and what else is `told`.

    The lists are all of the plan's, those placed `on` a device, or the ones named; with their
    places unless they are `unplaced`. Raises `PlanError` for an unknown format, name or option.
    """
    from crossgate.formats.exchange.asked import Wanted, chosen

    found = format_named(format_name, writing=True)
    found.see_options(
        xml=xml,
        tally=hits is not None,
        limit=limit != MOST_PREFIXES,
        direction=direction,
        bytes=as_bytes,
        raw=raw,
    )
    every, places = chosen(plan, lists, on, bare=format_name == "ietf")
    standing = () if unplaced else places
    return found.write(
        Wanted(plan, every, standing, on, hits, direction, limit, xml, as_bytes, raw)
    )


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


def compare(old: Plan, new: Plan) -> list[Difference]:
    """Return all traffic that two plans treat differently, in every state of their conditions;
    traffic that is permitted only now stands first.
    """
    from crossgate.core.answers.compare import differences

    return differences(Session(old), Session(new))


def replay(plan: Plan, flows: Any, *, columns: Sequence[str] = ()) -> pa.Table:
    """Replay a table of packets or flow records through a plan, and return a row for each
    conversation, with its verdict and what stopped it.

    `flows` is a pandas data frame, a pyarrow table, or anything else that pyarrow can convert, with
    columns named by IPFIX elements or the usual short forms; `columns` name others as `WHAT=NAME`,
    as the option `--column` does. Needs the extra `traffic`. Raises `PlanError` for a table without
    addresses and protocol.
    """
    import pyarrow as pa

    from crossgate.core.answers.replay import Replay
    from crossgate.core.network.ways import Network
    from crossgate.core.traffic.seen import SECOND
    from crossgate.formats.readers.names import columns_of, told_columns
    from crossgate.formats.readers.tables import TableAccount, read_batches
    from crossgate.formats.verdicts import NO_VERDICTS, verdict_rows

    table = flows if isinstance(flows, pa.Table) else pa.table(flows)
    replaying = Replay(Network(plan))
    rows = []
    now = int(datetime.now().timestamp() * SECOND)
    told = told_columns(columns)
    columns_of(table.schema.names, told, "the table")
    for seen in read_batches(
        table.combine_chunks().to_batches(), told, now, TableAccount(), "the table"
    ):
        for family, batch in seen.items():
            rows += [
                verdict_rows(each, replaying.tracer)
                for each in replaying.add(family, batch, plan.client_ports)
            ]
    rows += [verdict_rows(each, replaying.tracer) for each in replaying.rest()]
    return pa.concat_tables([NO_VERDICTS, *rows])
