"""`crossgate editor`: a language server for plans, on standard input and output."""

from __future__ import annotations

import sys

import typer

from crossgate.core.model.errors import PlanError

EXTRA = "pip install 'crossgate[editor]'"


def editor(context: typer.Context) -> None:
    """Serve an editor: errors as you type, findings, names, completion, layout and mends (Language
    Server Protocol 3.17).

    Editors start it and speak with it on standard input and output. A file belongs to the plan that
    includes it, or to --plan.
    """
    from crossgate.core.model.plan import Plan

    try:
        from crossgate.editor.documents import BoundedInput
        from crossgate.editor.server import editor as made
    except ModuleNotFoundError as error:
        raise PlanError(
            f"an editor is served by the package {error.name}, which is not installed: {EXTRA}"
        ) from None
    stdin = BoundedInput(sys.stdin.buffer)
    server = made(Plan.now, context.find_root().params.get("plan"))
    server.start_io(stdin=stdin)  # type: ignore[arg-type]
