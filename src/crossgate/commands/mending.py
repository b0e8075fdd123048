"""`crossgate mend`: edits that make failing expectations hold, and that end findings, each proved
before it is shown.
"""

from __future__ import annotations

import sys
from collections.abc import Sequence
from typing import TYPE_CHECKING, Annotated

import typer

from crossgate.commands.common import meter, plan_file, print_json, reading_of
from crossgate.commands.editing import AnywayOption, EditOptions, YesOption, carry_out
from crossgate.commands.shared_options import JsonOption
from crossgate.core.model.errors import PlanError

if TYPE_CHECKING:
    from crossgate.core.model.plan import Plan
    from crossgate.language.mending import Mendable


MOST = 20
"""So many things are looked at unless more are asked for: claims first, then findings by severity.
"""


def mend(
    context: typer.Context,
    what: Annotated[
        list[str] | None,
        typer.Argument(
            metavar="[LINE | FINDING [LIST [ENTRY]]]",
            help="The line of an expectation, or a finding; default: all.",
        ),
    ] = None,
    take: Annotated[
        str | None,
        typer.Option(
            "--take", metavar="LETTER", help="Show what this proposal does; with --write, make it."
        ),
    ] = None,
    every: Annotated[
        bool, typer.Option("--all", help="Mend every expectation that can be, one after the other.")
    ] = False,
    whole_list: Annotated[
        bool,
        typer.Option("--every", help=f"Look at all that there is, not only at the first {MOST}."),
    ] = False,
    fewest: Annotated[
        bool,
        typer.Option(
            "--least", help="Write a list for each subnet that denies what no expectation permits."
        ),
    ] = False,
    written: Annotated[
        bool, typer.Option("--write", help="Make the edit, as any edit is made.")
    ] = False,
    anyway: AnywayOption = False,
    yes: YesOption = False,
    as_json: JsonOption = False,
) -> None:
    """Find edits that make what must hold hold, and end findings; each is proved, and nothing that
    held breaks.
    """
    from crossgate.language.ending import moves
    from crossgate.language.mending import mend_all
    from crossgate.language.to_mend import to_mend

    path = plan_file(context, "mend")
    if every and (what or take):
        raise PlanError("--all mends everything; leave LINE, FINDING and --take out")
    if fewest and (every or what or take):
        raise PlanError(
            "--least is about all that is expected; leave LINE, FINDING, --take and --all out"
        )
    if written and not (every or take or fewest):
        raise PlanError("--write makes an edit; say which with --take LETTER, --all or --least")
    how = EditOptions(anyway, yes, not written, as_json)
    reading = reading_of(path)
    now = reading.plan.now()
    if fewest:
        from crossgate.language.least import least

        with meter("trying lines") as tell_lines:
            change = least(reading, tell_lines)
        carry_out(context, change, how, reading=reading)
        return
    if every:
        with meter("mending") as tell:
            done: list[Mendable] = []

            def mended(found: Mendable) -> None:
                done.append(found._replace(mends=found.mends[:1]))
                tell(len(done), 0)
                if not as_json:
                    _tell(reading.plan, done[-1])

            whole, left = mend_all(
                reading, now, mended, lambda session, packet: moves(session, packet, now)
            )
        for each in left if done and not as_json else ():
            _tell(reading.plan, each)
        if done and not as_json:
            typer.echo()
        if whole is None:
            _show(reading.plan, left, as_json)
            raise typer.Exit(1 if left else 0)
        carry_out(context, whole.change, how, reading=reading)
        if left and not as_json:
            typer.echo()
            _show(reading.plan, left, as_json)
        raise typer.Exit(1 if left else 0)
    wanted = to_mend(reading, what or [], now)
    later = 0 if whole_list else max(0, len(wanted) - MOST)
    wanted = wanted[: len(wanted) - later]
    found: list[Mendable] = []
    with meter("mending") as tell:
        for number, look in enumerate(wanted, 1):
            if take is not None and len(found) > 1:
                break
            tell(number, len(wanted))
            one = look()
            if one is not None:
                found.append(one)
                if len(wanted) > 1 and take is None and not as_json:
                    _tell(reading.plan, one)
    if len(wanted) > 1 and found and take is None and not as_json:
        typer.echo()
    if take is None:
        _show(reading.plan, found, as_json, later)
        raise typer.Exit(1 if found else 0)
    mends = [mend for each in found for mend in each.mends]
    if len(found) != 1:
        much = "several things" if found else "nothing"
        raise PlanError(
            f"--take {take}: {much} could be mended; name one, by its line or as FINDING LIST ENTRY"
        )
    letters = "abcdefgh"[: len(mends)]
    if len(take) != 1 or take not in letters:
        raise PlanError(
            f"--take {take}: there "
            f"{'is ' + ', '.join(letters) if letters else 'is no proposal for it'}"
        )
    carry_out(context, mends[letters.index(take)].change, how, reading=reading)


def _tell(plan: Plan, found: Mendable) -> None:
    """Show on one line what was found, while the search goes on; the progress line of a terminal is
    cleared first.
    """
    from crossgate.show.console import write
    from crossgate.show.mend import in_a_line

    if sys.stderr.isatty():
        sys.stderr.write("\r\x1b[K")
    write([in_a_line(plan, found)])
    sys.stdout.flush()


def _show(plan: Plan, found: Sequence[Mendable], as_json: bool, later: int = 0) -> None:
    """Show what was found, and how many things were not looked at."""
    if as_json:
        from crossgate.formats.json.mend import mend_document

        print_json(mend_document(plan.files[0], found, later))
        return
    from crossgate.show.console import count, write
    from crossgate.show.mend import mend_lines

    write(mend_lines(plan, found))
    if later:
        write(["", f"{count(later, 'finding')} more not looked at; --every looks at all"])
