"""Cross Gate as a library: what a program can ask of a plan. `crossgate` itself has all of these
names.

All of it is offline, and only `write` writes. What people got wrong is a `PlanError` with its place
and its mend; a plan that is read with `read` is whole, or `PlanErrors` has every error in it.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping, Sequence
from contextvars import copy_context
from datetime import datetime
from pathlib import Path
from typing import TYPE_CHECKING, Any, TypeVar

from crossgate.core.conversation.story import Trace
from crossgate.core.conversation.verdict import Verdict
from crossgate.core.model.address import Family
from crossgate.core.model.conditions import When
from crossgate.core.model.errors import PlanError, PlanErrors
from crossgate.core.model.finding import Finding
from crossgate.core.model.plaintext import listed
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
    from crossgate.core.answers.grid_asked import Grid
    from crossgate.core.answers.leases import Leased
    from crossgate.core.answers.points import Points
    from crossgate.core.answers.reach import Reached
    from crossgate.core.answers.verify import Verified
    from crossgate.core.model.accesslist import DeciderKey
    from crossgate.core.model.network import Direction
    from crossgate.core.traffic.seen import Seen
    from crossgate.formats.exchange.asked import ExportedDocument
    from crossgate.language.change import Change, Proposal
    from crossgate.language.mending import Mendable

Answer = TypeVar("Answer")

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
    "grid",
    "leases",
    "lines",
    "mend",
    "parse",
    "points",
    "propose",
    "reach",
    "read",
    "replay",
    "trace",
    "verify",
    "when",
    "write",
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
    from crossgate.language.reader import read as read_files

    return _trusting(include_from, lambda: read_files(Path(path), unsaved).plan)


def _trusting(folders: Sequence[str | Path], ask: Callable[[], Answer]) -> Answer:
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
    from crossgate.core.answers.traces import TraceLimits, asked, ends
    from crossgate.core.conversation.packets import Tracer
    from crossgate.core.network.ways import Network

    network = Network(plan)
    tracer = Tracer(network, plan.state_at(of or when(plan)))
    wanted = asked(
        network,
        ends(plan, source),
        ends(plan, destination),
        [service],
        TraceLimits(source_port, (), family),
    )
    return [tracer.trace(conversation) for each in wanted for conversation in each.conversations]


def grid(
    plan: Plan,
    services: str | Sequence[str] = (),
    sources: str | Sequence[str] = (),
    destinations: str | Sequence[str] = (),
    *,
    hosts: bool = False,
    of: When | None = None,
) -> Grid:
    """Return who reaches whom, by services, by default those that the plan expects, and ping.

    Ends are hosts, traced, or sets of addresses, proved as a whole; with `hosts`, the hosts of sets
    are taken one by one. The default are all hosts, or all subnets where there are none. Raises
    `PlanError` for an unknown end or service, `TooManyPieces` where a cell takes too much work.
    """
    from crossgate.core.answers.grid_asked import GridEnds, grid_of

    ends = GridEnds(listed(sources), listed(destinations), hosts)
    return grid_of(plan, of or when(plan), listed(services), ends)


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
    lists: str | Sequence[str] = (),
    *,
    on: str | None = None,
    unplaced: bool = False,
    limit: int = MOST_PREFIXES,
    xml: bool = False,
    direction: Direction | None = None,
    as_bytes: bool = False,
    raw: bool = False,
    hits: Mapping[DeciderKey, int] | None = None,
) -> ExportedDocument:
    """Return lists in an open format (`docs/formats`), and what that cannot express exactly:
    `text`, `unsaid` and what else is `told`.

    The lists are all of the plan's, those placed `on` a device, or the ones named; with their
    places unless they are `unplaced`. Raises `PlanError` for an unknown format, name or option.
    """
    from crossgate.formats.exchange.asked import ExportWanted, chosen

    found = format_named(format_name, writing=True)
    found.see_options(
        xml=xml,
        tally=hits is not None,
        limit=limit != MOST_PREFIXES,
        direction=direction,
        bytes=as_bytes,
        raw=raw,
    )
    every, places = chosen(plan, listed(lists), on, bare=format_name == "ietf")
    standing = () if unplaced else places
    return found.write(
        ExportWanted(plan, every, standing, on, hits, direction, limit, xml, as_bytes, raw)
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


def propose(
    path: str | Path,
    *changes: Change,
    unsaved: Mapping[str, bytes] | None = None,
    include_from: Sequence[str | Path] = (),
    at: datetime | None = None,
    anyway: bool = False,
) -> Proposal:
    """Work out changes of a plan (`crossgate.changes`) as one, on the file as `read` reads it, and
    return what they would write and do: `said`, `diff`, `impact`, and why it is `refused`.

    It is refused where the plan would have errors, an expectation that holds would fail, or there
    would be a new finding that is an error; with `anyway` only the first. `at` is the time for
    which windows are judged, now by default. Raises `PlanError` for a change that cannot be made.
    """
    from crossgate.language.change import propose as worked_out
    from crossgate.language.reader import read as read_files
    from crossgate.language.together import AskedChange, together

    numbered = [AskedChange(f"change {number}", each) for number, each in enumerate(changes, 1)]
    change = changes[0] if len(changes) == 1 else together(numbered)

    def proposal() -> Proposal:
        reading = read_files(Path(path), unsaved)
        return worked_out(reading, change, at or reading.plan.now(), anyway=anyway)

    return _trusting(include_from, proposal)


def write(proposal: Proposal) -> None:
    """Write what a proposal changes, all of it or nothing, if no file of the plan was changed since
    it was read; `crossgate undo` takes it back.

    Raises `PlanError` where the proposal is refused, or nothing can be written.
    """
    from crossgate.formats.edit_history import History
    from crossgate.formats.edit_records import half_done
    from crossgate.formats.own_state import taking_turns
    from crossgate.formats.replacing import replace_files

    if proposal.refused:
        raise PlanError(f"it is not written: {proposal.refused}")
    if not proposal.changes:
        return
    path, files = Path(proposal.plan.files[0]), list(map(Path, proposal.read))
    with taking_turns(files):
        for edit in half_done(files):
            raise PlanError(f"{edit.text()}; finish it first: crossgate --plan {edit.plan} recover")
        replace_files(path, proposal.read, proposal.new)
        made = f"crossgate.write, {proposal.said}"
        History(path).add(made, proposal.plan.now(), proposal.old, proposal.new)


def mend(
    path: str | Path,
    *what: str | int,
    unsaved: Mapping[str, bytes] | None = None,
    include_from: Sequence[str | Path] = (),
    at: datetime | None = None,
) -> list[Mendable]:
    """Return what could be mended in a plan's file: claims that fail and findings that edits end,
    each with its `mends`, of which each was proved and has a `proposal`.

    `what` names one: the line of a claim, or a finding, its list and its entry. Raises `PlanError`
    for what is not there.
    """
    from crossgate.language.reader import read as read_files
    from crossgate.language.to_mend import to_mend

    def mendable() -> list[Mendable]:
        reading = read_files(Path(path), unsaved)
        wanted = to_mend(reading, [str(each) for each in what], at or reading.plan.now())
        return [each for look in wanted if (each := look()) is not None]

    return _trusting(include_from, mendable)


def replay(plan: Plan, flows: Any, *, columns: str | Sequence[str] = ()) -> pa.Table:
    """Replay packets or flow records through a plan, and return a row for each conversation, with
    its verdict and what stopped it.

    `flows` are the path of a file or a list of paths, as the command takes them, or a table: a
    pandas data frame, a pyarrow table, or anything else that pyarrow can convert, with columns
    named by IPFIX elements or the usual short forms; `columns` name others as `WHAT=NAME`, as the
    option `--column` does. Needs the extra `traffic`. Raises `PlanError` for a table without
    addresses and protocol, and for a file that cannot be read to its end.
    """
    import pyarrow as pa

    from crossgate.core.answers.replay import Replay
    from crossgate.core.network.ways import Network
    from crossgate.formats.verdicts import NO_VERDICTS, verdict_rows

    replaying = Replay(Network(plan), plan.time_zone)
    rows = [NO_VERDICTS]
    for seen, is_flows in _batches(flows, listed(columns)):
        for family, batch in seen.items():
            ended = replaying.add(family, batch, plan.client_ports if is_flows else None)
            rows += [verdict_rows(each, replaying.tracer) for each in ended]
    rows += [verdict_rows(each, replaying.tracer) for each in replaying.rest()]
    return pa.concat_tables(rows)


def _batches(flows: Any, columns: Sequence[str]) -> Iterator[tuple[dict[Family, Seen], bool]]:
    """Yield the packets or flow records that `replay` is given, each with whether it is the latter.
    Raises `PlanError`.
    """
    import pyarrow as pa

    from crossgate.core.traffic.seen import SECOND
    from crossgate.formats.readers.names import columns_of, told_columns
    from crossgate.formats.readers.tables import TableAccount, read_batches
    from crossgate.formats.readers.traffic import Traffic

    told, now = told_columns(columns), int(datetime.now().timestamp() * SECOND)
    paths = [flows] if isinstance(flows, str | Path) else flows
    if isinstance(paths, list | tuple) and all(isinstance(each, str | Path) for each in paths):
        traffic = Traffic([Path(each) for each in paths], told, now)
        yield from traffic.batches()
        for path, where in traffic.broken:
            raise PlanError(f"{path} could not be read to its end, at {where}")
        return
    table = flows if isinstance(flows, pa.Table) else pa.table(flows)
    columns_of(table.schema.names, told, "the table")
    batches = table.combine_chunks().to_batches()
    for seen in read_batches(batches, told, now, TableAccount(), "the table"):
        yield seen, True
