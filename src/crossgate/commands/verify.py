"""`crossgate verify`: every expectation, whether it holds and why not, then the entries that none
of them reached.
"""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from crossgate.commands.common import (
    load_or_tell,
    meter,
    print_json,
    progress,
    tell_missed,
    tell_mistaken,
    write_file,
)
from crossgate.commands.completing import complete_part
from crossgate.commands.shared_options import JsonOption, PiecesOption, TallyOption
from crossgate.commands.sharing import ClusterOption, TrustedNetworkOption, WorkersOption, pool_of
from crossgate.commands.tallying import add_to_tally
from crossgate.core.model.errors import PlanError

if TYPE_CHECKING:
    from crossgate.core.answers.outage import Outage
    from crossgate.core.answers.verify import Verified
    from crossgate.core.traffic.session import Session
    from crossgate.spread.pools import Pool


def verify(
    context: typer.Context,
    junit: Annotated[
        Path | None, typer.Option(metavar="FILE", help="Also write the result as JUnit XML.")
    ] = None,
    without: Annotated[
        list[str] | None,
        typer.Option(
            "--without",
            metavar="NAME",
            autocompletion=complete_part,
            help="Verify with this device or point down; may be repeated.",
        ),
    ] = None,
    any_one_down: Annotated[
        bool,
        typer.Option(
            "--any-one-down",
            help=(
                "Also show which claims no longer hold while a device or a link between devices "
                "is down."
            ),
        ),
    ] = False,
    full: Annotated[
        bool, typer.Option("--full", help="Show those that hold too, on a line each.")
    ] = False,
    tally: TallyOption = False,
    pieces: PiecesOption = None,
    workers: WorkersOption = None,
    cluster: ClusterOption = None,
    trusted_network: TrustedNetworkOption = False,
    as_json: JsonOption = False,
) -> None:
    """Try every expect and keep of the plan; exit status 1 when one does not hold."""
    from crossgate.core.answers.verify import Verifier
    from crossgate.core.model.window import is_past
    from crossgate.core.traffic.session import Session

    plan = load_or_tell(context, junit, _errors_text)
    if without:
        from crossgate.core.answers.outage import down_point

        plan = plan.without(down_point(plan, word) for word in without)
    session = Session(plan)
    verifier = Verifier(session)
    now = plan.now()
    wanted = plan.wanted(now)
    over = [each for each in plan.expectations if is_past(each.until, now)]
    outages = None
    with pool_of(workers, cluster, trusted_network, copies=True) as pool:
        if pool is not None:
            from crossgate.spread.verify import verify_in_parts

            with meter("verifying") as tell:
                verify_in_parts(verifier, wanted, pool, tell)
        results = [verifier.verify(each) for each in progress(wanted, len(wanted), "verifying")]
        if any_one_down:
            outages = _outages(session, results, pool)
    unreached = list(verifier.unreached())
    tell_mistaken(service for each in wanted for service in each.services)
    if tally:
        add_to_tally(context, plan, verifier.reached)
    if junit is not None:
        from crossgate.formats.junit import junit_text

        write_file(junit, junit_text(plan, results), plan.sources)
    if as_json:
        from crossgate.formats.json.verify import verify_document

        print_json(verify_document(plan, results, unreached, outages, over))
    else:
        from crossgate.show.console import write
        from crossgate.show.verify import lines

        write(lines(plan, results, unreached, outages, full, over))
    tell_missed(
        [PlanError(f"{each.expectation.text}: {each.why}") for each in results if not each.answered]
    )
    if not all(result.held for result in results) or any(outage.broken for outage in outages or ()):
        raise typer.Exit(1)


def _outages(session: Session, results: list[Verified], pool: Pool | None) -> list[Outage]:
    from crossgate.core.answers.outage import any_one_down, parts

    if pool is None:
        count = len(list(parts(session.plan)))
        return list(progress(any_one_down(session, results), count, "taking down"))
    from crossgate.spread.verify import outages_in_parts

    with meter("taking down") as tell:
        return outages_in_parts(session.plan, results, pool, tell)


def _errors_text(plan: Path, errors: Sequence[PlanError]) -> str:
    from crossgate.formats.junit import junit_of_errors

    return junit_of_errors(str(plan), errors)
