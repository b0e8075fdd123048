"""`crossgate batch`: several edits as one."""

from __future__ import annotations

import shlex
import sys
from collections.abc import Iterator
from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Any

import typer

from crossgate.commands.common import STANDARD_INPUT
from crossgate.commands.editing import EditOptions, carry_out, changes_of, edit_options
from crossgate.core.model.errors import PlanError, unknown

if TYPE_CHECKING:
    from crossgate.language.together import AskedChange

_Usage: Any = next(each for each in typer.BadParameter.__mro__ if each.__name__ == "ClickException")
"""What is raised for words that are no command line, in whatever package Typer has it."""
EDITS = (
    "entry",
    "list",
    "place",
    "lift",
    "rename",
    "fence",
    "twin",
    "group",
    "service",
    "window",
    "host",
    "subnet",
    "route",
    "expect",
)
"""The commands that may be lines of a batch."""


@edit_options
def batch(
    context: typer.Context,
    file: Annotated[
        Path,
        typer.Argument(
            metavar="FILE|-",
            help="One edit a line, as on the command line without the program's name.",
        ),
    ],
    *,
    how: EditOptions,
) -> None:
    """Make several edits as one: one preview, one question, all or nothing. What must hold must
    hold at the end, and not in between.
    """
    from crossgate.language.together import together

    asked = [each for where, line in _lines(file) for each in _asked(context, where, line)]
    if not asked:
        raise PlanError(f"{file} has no edits; one is as: entry drop kiosk-fence 40")
    carry_out(context, together(asked), how)


def _lines(file: Path) -> Iterator[tuple[str, str]]:
    """Yield the lines of a file that are edits, each with its place. Raises `PlanError`."""
    from crossgate.formats.bounds import read_document

    from_input = file == STANDARD_INPUT
    data = sys.stdin.buffer.read() if from_input else read_document(file)
    name = "standard input" if from_input else file.name
    try:
        text = data.decode("utf-8-sig")
    except UnicodeDecodeError:
        raise PlanError(f"{name} is no text in UTF-8") from None
    for number, line in enumerate(text.splitlines(), 1):
        if line.strip() and not line.lstrip().startswith("#"):
            yield f"{name}:{number}", line.strip()


def _asked(context: typer.Context, where: str, line: str) -> Iterator[AskedChange]:
    """Yield the changes that a line asks for. Raises `PlanError`."""
    from crossgate.language.together import AskedChange

    try:
        words = shlex.split(line)
    except ValueError as error:
        raise PlanError(f"{where}: {str(error).lower()}: {line}") from None
    words = words[1:] if words[:1] == ["crossgate"] else words
    if not words or words[0] not in EDITS:
        named = words[0] if words else line
        raise PlanError(
            f"{where}: {unknown('edit', named, EDITS)}; a line is an edit as on the command line"
        )
    program: Any = context.find_root().command
    name, command, rest = program.resolve_command(context, words)

    def run() -> None:
        with command.make_context(name, list(rest), parent=context) as own:
            command.invoke(own)

    try:
        changes = changes_of(run)
    except (_Usage, PlanError) as error:
        raise PlanError(f"{where}: {_told(error)}") from None
    except (typer.Exit, SystemExit):
        raise PlanError(f"{where}: this asks for help, and is no edit") from None
    yield from (AskedChange(where, change) for change in changes)


def _told(error: Any) -> str:
    found: str = error.message if isinstance(error, PlanError) else error.format_message()
    return found
