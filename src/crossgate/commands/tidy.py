"""`crossgate tidy`: the plan in one layout, its meaning proved unchanged."""

from __future__ import annotations

from typing import TYPE_CHECKING, Annotated

import typer

from crossgate.commands.common import JsonOption, plan_path
from crossgate.commands.editing import DryRunOption, carry_out

if TYPE_CHECKING:
    from crossgate.language.draft import Draft


def tidy(
    context: typer.Context,
    check: Annotated[bool, typer.Option("--check", help="Write nothing; exit status 1 when there is something to tidy.")] = False,
    dry_run: DryRunOption = False,
    as_json: JsonOption = False,
) -> None:
    """Align columns, normalise addresses and put entries in order; no packet is treated otherwise."""
    from crossgate.language.layout import tidied

    untidy: list[str] = []

    def change(draft: Draft) -> str:
        for file in draft.plan.files:
            text = draft.whole(file)
            tidy_text = tidied(text, file, draft.plan)
            if tidy_text != text:
                draft.rewrite(file, tidy_text)
                untidy.append(file)
        return f"{', '.join(untidy)} {'is' if len(untidy) == 1 else 'are'} tidied" if untidy else f"{plan_path(context)} is tidy"

    carry_out(context, change, anyway=False, dry_run=dry_run or check, as_json=as_json, harmless=True)
    if check and untidy:
        raise typer.Exit(1)
