"""`crossgate check`: the plan's errors, then its findings."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path
from typing import Annotated

import typer

from crossgate.commands.common import (
    load_or_tell,
    meter,
    moment,
    print_json,
    tell_missed,
    write_file,
)
from crossgate.commands.shared_options import AtOption, JsonOption, PiecesOption
from crossgate.commands.sharing import ClusterOption, TrustedNetworkOption, WorkersOption, pool_of
from crossgate.core.model.errors import PlanError


def check(
    context: typer.Context,
    strict: Annotated[
        bool, typer.Option("--strict", help="Warnings count for the exit status too.")
    ] = False,
    sarif: Annotated[
        Path | None, typer.Option(metavar="FILE", help="Also write the findings as SARIF 2.1.0.")
    ] = None,
    at: AtOption = None,
    pieces: PiecesOption = None,
    workers: WorkersOption = None,
    cluster: ClusterOption = None,
    trusted_network: TrustedNetworkOption = False,
    as_json: JsonOption = False,
) -> None:
    """Find what is written but does not do what its author meant; exit status 1 when there is an
    error.
    """
    from crossgate.core.audit import audit
    from crossgate.core.model.finding_kinds import Severity
    from crossgate.core.traffic.session import Session

    plan = load_or_tell(context, sarif, _errors_text)
    when = moment(at, plan)
    with (
        pool_of(workers, cluster, trusted_network, copies=True) as pool,
        meter("checking") as tell,
    ):
        if pool is None:
            audited = audit(Session(plan), when, tell)
        else:
            from crossgate.spread.check import audit_in_parts

            audited = audit_in_parts(plan, when, pool, tell)
    if sarif is not None:
        from crossgate.formats.json.parts import json_text
        from crossgate.formats.sarif import sarif_document

        write_file(sarif, json_text(sarif_document(audited)), plan.sources)
    if as_json:
        from crossgate.formats.json.check import check_document

        print_json(check_document(plan, audited))
    else:
        from crossgate.show.check import lines
        from crossgate.show.console import write

        write(lines(plan, audited))
    tell_missed(audited.missed)
    counted = (Severity.ERROR, Severity.WARNING) if strict else (Severity.ERROR,)
    if any(finding.severity in counted for finding in audited.findings):
        raise typer.Exit(1)


def _errors_text(plan: Path, errors: Sequence[PlanError]) -> str:
    from crossgate.formats.json.parts import json_text
    from crossgate.formats.sarif import sarif_of_errors

    return json_text(sarif_of_errors(errors))
