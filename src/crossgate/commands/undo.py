"""`crossgate undo` and `crossgate redo`: the last edits that the program wrote, undone and made
again.
"""

from __future__ import annotations

import os
from collections.abc import Mapping
from difflib import unified_diff
from hashlib import sha256
from typing import TYPE_CHECKING, Annotated

import typer

from crossgate.commands.common import plan_file, print_json
from crossgate.commands.editing import EditOptions, carry_out, edit_options
from crossgate.core.model.errors import PlanError

if TYPE_CHECKING:
    from collections.abc import Sequence

    from crossgate.formats.edit_history import Edit, Edits, History
    from crossgate.language.draft import Draft

CountArgument = Annotated[
    int, typer.Argument(metavar="[N]", min=1, help="How many edits; default: the last one.")
]
_MOST_LINES = 40
_NONE = "the program has written no edit of this plan yet"


@edit_options
def undo(
    context: typer.Context,
    number: CountArgument = 1,
    listed: Annotated[
        bool, typer.Option("--list", help="Show the edits that can be undone or made again.")
    ] = False,
    *,
    how: EditOptions,
) -> None:
    """Undo the last edits that the program wrote, to the octet; refused where somebody has changed
    the text since.
    """
    from crossgate.formats.edit_history import Edits, History, back

    path = plan_file(context, "undo an edit of")
    history = History(path)
    if listed:
        _tell(history.read(), how.as_json)
        return

    def change(draft: Draft) -> str:
        edits = history.read()
        last = edits.done[-number:]
        if len(last) < number:
            raise PlanError(_too_few(len(edits.done), "undone", edits))
        _put(draft, history, back(last))
        return f"undone: {_commands(last)}"

    def written() -> None:
        edits = history.read()
        history.write(Edits(edits.every, edits.undone + number))

    carry_out(context, change, how, written=written)


@edit_options
def redo(
    context: typer.Context,
    number: CountArgument = 1,
    *,
    how: EditOptions,
) -> None:
    """Make edits again that were undone, in their order."""
    from crossgate.formats.edit_history import Edits, History, forward

    path = plan_file(context, "make an edit again in")
    history = History(path)

    def change(draft: Draft) -> str:
        edits = history.read()
        next_ones = edits.taken_back[:number]
        if len(next_ones) < number:
            raise PlanError(_too_few(len(edits.taken_back), "made again", edits))
        _put(draft, history, forward(next_ones))
        return f"made again: {_commands(next_ones)}"

    def written() -> None:
        edits = history.read()
        history.write(Edits(edits.every, edits.undone - number))

    carry_out(context, change, how, written=written)


def _put(draft: Draft, history: History, files: Mapping[str, tuple[str, str]]) -> None:
    """Replace files by what they were, or will be. Raises `PlanError` where one is not what the
    edit left.
    """
    names = {os.path.realpath(name): name for name in draft.data}
    for file, (now, wanted) in files.items():
        name = names.get(file)
        if name is None:
            raise PlanError(f"{file} is no file of this plan any more, so nothing is done")
        if sha256(draft.data[name]).hexdigest() != now:
            _tell_difference(name, history.bytes_of(now), draft.data[name])
            raise PlanError(
                f"{name} was changed since then, as shown; take that back by hand first, or leave "
                "it as it is"
            )
        draft.put(name, history.bytes_of(wanted))
    draft.exact = True


def _tell_difference(name: str, left: bytes, found: bytes) -> None:
    from crossgate.show.console import warn

    before, after = (each.decode("utf-8", "replace").splitlines() for each in (left, found))
    lines = list(unified_diff(before, after, "as the edit left it", name, lineterm=""))
    for line in lines[:_MOST_LINES]:
        warn(line)
    if len(lines) > _MOST_LINES:
        warn(f"and {len(lines) - _MOST_LINES} more lines")


def _commands(edits: Sequence[Edit]) -> str:
    return "; ".join(each.command for each in edits)


def _too_few(known: int, what: str, edits: Edits) -> str:
    if known:
        return f"only {known} can be {what}: crossgate undo --list shows them"
    if edits.every:
        return f"no edit is left that could be {what}: crossgate undo --list shows all"
    return _NONE


def _tell(edits: Edits, as_json: bool) -> None:
    if as_json:
        from crossgate.formats.json.edit import edits_document

        print_json(edits_document(edits))
        return
    from crossgate.show.console import write
    from crossgate.show.edit import edits_lines

    write(edits_lines(edits) if edits.every else [_NONE])
