"""`crossgate report`: everything about a plan on one page."""

from __future__ import annotations

import hashlib
import re
from datetime import datetime
from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from crossgate.commands.common import load, meter, moment, plan_path, progress, write_file
from crossgate.commands.shared_options import AtOption
from crossgate.commands.tallying import tallied

if TYPE_CHECKING:
    from crossgate.core.model.plan import Plan
    from crossgate.core.sets.effort import TooManyPieces
    from crossgate.core.traffic.session import Session
    from crossgate.report.pages import GridPart

_STYLED = re.compile(r"\x1b\[[0-9;]*m")
_MOST_ENDS = 300
_MOST_SERVICES = 6
_MOST_DEVICES = 120


def report(
    context: typer.Context,
    out: Annotated[Path, typer.Option(metavar="FILE", help="The page.")] = Path("report.html"),
    since: Annotated[
        str | None,
        typer.Option(
            "--since", metavar="REV", help="Tell what changed since this git revision, too."
        ),
    ] = None,
    at: AtOption = None,
) -> None:
    """Write one page about the plan: its state, findings, the network drawn, lists, expectations,
    who reaches whom.
    """
    from crossgate import __version__
    from crossgate.core.answers.verify import Verifier
    from crossgate.core.audit import audit
    from crossgate.core.audit.claims import by_place
    from crossgate.core.traffic.session import Session
    from crossgate.report.pages import Report, list_parts, page

    plan = load(context)
    when = moment(at, plan)
    session = Session(plan)
    with meter("checking") as tell:
        audited = audit(session, when, tell)
    verifier = Verifier(session)
    wanted = plan.wanted(when)
    verified = [verifier.verify(each) for each in progress(wanted, len(wanted), "verifying")]
    missed: list[TooManyPieces] = list(audited.missed)
    changes = [] if since is None else _changes(context, session, since, missed)
    made = Report(
        plan,
        f"{when:%a %Y-%m-%d %H:%M}",
        __version__,
        _digest(plan),
        by_place(plan, audited.findings),
        [each for _, each in audited.accepted],
        verified,
        list_parts(plan, audited.findings, tallied(context, plan.every_list.values())),
        *_grids(plan, session, when, missed),
        _network(plan),
        _week(plan, when),
        since or "",
        changes,
        list(dict.fromkeys(each.message for each in missed)),
    )
    write_file(out, page(made), plan.sources)
    typer.echo(f"{out}: {made.standing}")


def _digest(plan: Plan) -> str:
    digest = hashlib.sha256()
    for name in plan.sources:
        digest.update(Path(name).read_bytes() if Path(name).exists() else b"")
    return digest.hexdigest()


def _changes(
    context: typer.Context, session: Session, since: str, missed: list[TooManyPieces]
) -> list[str]:
    from crossgate.core.answers.compare import differences
    from crossgate.core.traffic.session import Session
    from crossgate.formats.git import Revision
    from crossgate.language.reader import read
    from crossgate.show.sets import difference_lines

    path = plan_path(context)
    old = Session(read(path, Revision(path, since)).plan)
    with meter("comparing") as tell:
        found = differences(old, session, tell, missed)
    lines = (
        difference_lines(session.plan, found, rest="crossgate compare --since tells all")
        if found
        else ()
    )
    return [_STYLED.sub("", line) for line in lines]


def _grids(
    plan: Plan, session: Session, when: datetime, missed: list[TooManyPieces]
) -> tuple[list[GridPart], list[str]]:
    """Return who reaches whom by the services in the expectations, and sentences about what is left
    out.
    """
    from crossgate.commands.pictures import squares_of
    from crossgate.core.answers.grid import LeftOut, default_services
    from crossgate.core.answers.grid_asked import ends_of, hostless_of
    from crossgate.core.wording.sentences import first_of
    from crossgate.report.pages import grid_part

    if not plan.hosts and not plan.segments:
        return [], []
    names, hostless = ends_of(plan, (), hosts=False), hostless_of(plan, (), hosts=False)
    told = []
    if len(names) > _MOST_ENDS:
        kind = "machines" if plan.hosts else "subnets and outsides"
        subnets = [name for name, each in plan.segments.items() if not each.outside]
        told.append(f"{len(names)} {kind} are too many for this page: subnets stand for them")
        names, hostless, beyond = subnets[:_MOST_ENDS], (), subnets[_MOST_ENDS:]
        if beyond:
            told.append(
                f"left out: {first_of(beyond)}; crossgate grid ip --from NAME --to NAME shows any"
            )
    services, untraced = default_services(session.network, names)
    told += [LeftOut(hostless, tuple(untraced)).sentence]
    if services[_MOST_SERVICES:]:
        told.append(
            f"not shown: {first_of(services[_MOST_SERVICES:])}, for which crossgate grid has more "
            "room"
        )
    found = []
    for service in services[:_MOST_SERVICES]:
        squares = squares_of(plan, when, names, names, service, None, missed)
        verdicts = {
            key: {family.label: verdict for family, verdict in each.now.items()}
            for key, each in squares.items()
        }
        found.append(grid_part(service, names, verdicts))
    return found, [each for each in told if each]


def _network(plan: Plan) -> str:
    from crossgate.draw.network import network_sheet
    from crossgate.draw.style import LIGHT
    from crossgate.report.pages import themed

    if not plan.devices or len(plan.devices) > _MOST_DEVICES:
        return ""
    titles = {}
    for each in plan.every_placement:
        access_list = plan.any_list(each.access_list)
        told = (
            f"list {each.access_list}, {access_list.label}, {each.where}: "
            f"{len(access_list.entries)} entries"
        )
        titles[f"gate {each.access_list} {each.where}"] = told
    return themed(network_sheet(plan, LIGHT).svg(), titles)


def _week(plan: Plan, when: datetime) -> str:
    from crossgate.commands.pictures import entries_by_window
    from crossgate.draw.style import LIGHT
    from crossgate.draw.week import week_sheet
    from crossgate.report.pages import themed

    if not plan.windows:
        return ""
    return themed(
        week_sheet([*plan.windows.values()], entries_by_window(plan), when, LIGHT, title="").svg(),
        {},
    )
