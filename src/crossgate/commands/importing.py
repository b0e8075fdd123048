"""`crossgate import`: lists and networks from open formats, as an edit of the plan."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from crossgate.commands.common import add_to_tally, plan_file
from crossgate.commands.completing import complete_device
from crossgate.commands.editing import How, carry_out, edit_options
from crossgate.core.model.accesslist import Action
from crossgate.core.model.errors import PlanError
from crossgate.core.model.plaintext import quotable
from crossgate.formats.disk import put_file
from crossgate.formats.exchange.registry import FORMATS, format_named

if TYPE_CHECKING:
    from crossgate.core.model.accesslist import DeciderKey
    from crossgate.language.draft import Draft


def complete_format(incomplete: str) -> Iterator[str]:
    """Offer the formats that come in."""
    return (name for name, each in FORMATS.items() if each.reading and name.startswith(incomplete))


_IN = ", ".join(name for name, each in FORMATS.items() if each.reading)


@edit_options
def import_(
    context: typer.Context,
    format_name: Annotated[
        str, typer.Argument(metavar="FORMAT", autocompletion=complete_format, help=f"One of {_IN}.")
    ],
    files: Annotated[list[Path], typer.Argument(metavar="FILE...", help="What comes in.")],
    on: Annotated[
        str | None,
        typer.Option(
            "--on",
            metavar="DEVICE",
            autocompletion=complete_device,
            help="The device that it is from: interfaces are that one's.",
        ),
    ] = None,
    otherwise: Annotated[
        Action | None,
        typer.Option(
            "--otherwise",
            metavar="ACTION",
            help="What becomes of the rest in lists that do not say so.",
        ),
    ] = None,
    named: Annotated[
        str | None,
        typer.Option("--as", metavar="NAME", help="The name of a list that comes in without one."),
    ] = None,
    replace: Annotated[
        bool,
        typer.Option(
            "--replace",
            help="Put lists in the place of those of the same names, and where others stand.",
        ),
    ] = False,
    approximate: Annotated[
        bool,
        typer.Option(
            "--approximate",
            help="Let less by than the file does where the plan cannot say the same; never more.",
        ),
    ] = False,
    tally: Annotated[
        bool, typer.Option("--tally", help="Add how often lines have decided to the tally.")
    ] = False,
    drift: Annotated[
        bool,
        typer.Option(
            "--drift",
            help="With --dry-run: exit status 1 where some traffic would fare otherwise, else 0.",
        ),
    ] = False,
    *,
    how: How,
) -> None:
    """Bring lists in from an open format, and see first what that does to traffic."""
    from crossgate.formats.bounds import read_document
    from crossgate.formats.exchange.asked import Given
    from crossgate.language.importing import take_in

    found = format_named(format_name, writing=False)
    found.see_options(
        tally=tally, otherwise=otherwise, on=on, approximate=approximate, **{"as": named}
    )
    if drift and not how.dry_run:
        raise PlanError("--drift is about what would be, and writes nothing; say --dry-run too")
    if "as" in found.takes and named is None:
        raise PlanError(f"lists have no names in {format_name}; give one with --as NAME")
    hits: dict[DeciderKey, int] = {}

    def change(draft: Draft) -> str:
        coming = [
            found.read(
                Given(path, read_document(path), draft.plan, on, otherwise, named, approximate)
            )
            for path in files
        ]
        said, decided = take_in(draft, coming, replace)
        hits.update(decided)
        return said

    with _begun(plan_file(context, "write")):
        proposal = carry_out(context, change, how._replace(anyway=how.anyway or drift))
    if tally and hits and not how.dry_run and not proposal.refused:
        add_to_tally(context, proposal.plan, hits)
    if drift and proposal.errors:
        raise typer.Exit(2)
    if drift and proposal.impact is not None and proposal.impact.differences:
        raise typer.Exit(1)


@contextmanager
def _begun(path: Path) -> Iterator[None]:
    """Begin a plan that is not there, and take it away again where nothing was written."""
    if path.exists() or not path.parent.is_dir():
        yield
        return
    empty = f'title "{quotable(path.stem)}"\n'.encode()
    put_file(path, empty, fresh=True)
    try:
        yield
    finally:
        if path.read_bytes() == empty:
            path.unlink()
