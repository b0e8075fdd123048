"""`crossgate check`: the plan's errors, then its findings."""

from __future__ import annotations

import typer

from crossgate.commands.common import JsonOption, load, print_json


def check(context: typer.Context, as_json: JsonOption = False) -> None:
    """Find what is written but does not do what its author meant."""
    from crossgate.core.audit import Severity, audit

    plan = load(context)
    findings = audit(plan)
    if as_json:
        from crossgate.formats.answers import check_document

        print_json(check_document(plan, findings))
    else:
        from crossgate.show.check import lines
        from crossgate.show.console import write

        write(lines(plan, findings))
    if any(finding.severity is Severity.ERROR for finding in findings):
        raise typer.Exit(1)
