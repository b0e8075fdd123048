"""What the editing commands share: read, change, show the effect, ask on a terminal, and write."""

from __future__ import annotations

import sys
from collections.abc import Callable, Iterable, Iterator, Sequence
from contextlib import AbstractContextManager, contextmanager
from contextvars import ContextVar
from inspect import Parameter, Signature, signature
from shlex import quote
from typing import TYPE_CHECKING, Annotated, Any, NamedTuple

import typer

from crossgate.commands.common import meter, plan_file, plan_files, print_json, reading_of
from crossgate.commands.shared_options import JsonOption, SourcePortsOption
from crossgate.core.model.errors import PlanError

if TYPE_CHECKING:
    from pathlib import Path

    from crossgate.language.change import Proposal
    from crossgate.language.draft import Draft
    from crossgate.language.reader import Reading
    from crossgate.show.edit import View

AnywayOption = Annotated[
    bool,
    typer.Option(
        "--anyway",
        help="Write it even when it breaks an expect or a keep, or brings a new error finding.",
    ),
]
DryRunOption = Annotated[
    bool, typer.Option("--dry-run", help="Show what it would do, and write nothing.")
]
YesOption = Annotated[
    bool, typer.Option("--yes", help="Write it without asking; only a terminal is asked.")
]

EveryOption = Annotated[bool, typer.Option("--all", help="Show all that it does.")]

_may_ask: ContextVar[bool] = ContextVar("may_ask", default=False)
"""Whether a person may be asked while an edit is worked out."""

Change = Callable[["Draft"], str]
"""Edits a draft and says in a sentence what it did (`language.change.Change`)."""
_collected: ContextVar[list[Change] | None] = ContextVar("collected", default=None)
"""Where the changes of commands are put that are not carried out one by one."""


def changes_of(run_command: Callable[[], object]) -> list[Change]:
    """Return the changes that a command would make, without making them."""
    found: list[Change] = []
    token = _collected.set(found)
    try:
        run_command()
    finally:
        _collected.reset(token)
    return found


class EditOptions(NamedTuple):
    """How an edit is carried out, from the options that all edits have; `view` is how much of its
    preview is shown, None for a screenful.
    """

    anyway: bool = False
    yes: bool = False
    dry_run: bool = False
    as_json: bool = False
    view: View | None = None


def edit_options(command: Callable[..., None]) -> Callable[..., None]:
    """Give a command that takes `how` the options that all edits have."""
    own = signature(command, eval_str=True).parameters.values()
    return _with_options(command, [each for each in own if each.name != "how"])


def edit_command(command: Callable[..., Change]) -> Callable[..., None]:
    """Make a command of a function that takes the command's words and returns the change: it gets
    the options that all edits have, except `--all` where it has one of its own.
    """

    def run(context: typer.Context, how: EditOptions, **words: Any) -> None:
        collected = _collected.get()
        if collected is None:
            _may_ask.set(not (how.yes or how.dry_run or how.as_json))
            carry_out(context, command(**words), how)
            return
        if how not in (EditOptions(), EditOptions(view=_view())):  # some option was given
            raise PlanError(
                "--anyway, --yes, --dry-run, --all, --source-ports and --json stand behind "
                "batch itself"
            )
        collected.append(command(**words))

    context, *_ = signature(run, eval_str=True).parameters.values()
    run.__name__, run.__doc__ = command.__name__, command.__doc__
    return _with_options(run, [context, *signature(command, eval_str=True).parameters.values()])


def _with_options(command: Callable[..., None], own: Sequence[Parameter]) -> Callable[..., None]:
    """Add the options for `how` to a command that takes it, after its own."""

    def told(
        *,
        anyway: AnywayOption = False,
        yes: YesOption = False,
        dry_run: DryRunOption = False,
        show_all: EveryOption = False,
        source_ports: SourcePortsOption = False,
        as_json: JsonOption = False,
    ) -> EditOptions:
        view = _view(show_all, source_ports) if offered else None
        return EditOptions(anyway, yes, dry_run, as_json, view)

    offered = not any("--all" in _declared(each) for each in own)
    options = {
        name: each
        for name, each in signature(told, eval_str=True).parameters.items()
        if offered or name not in ("show_all", "source_ports")
    }

    def run(**words: Any) -> None:
        how = told(**{name: words.pop(name) for name in options})
        command(**words, how=how)

    parameters = [each.replace(kind=Parameter.KEYWORD_ONLY) for each in (*own, *options.values())]
    run.__signature__ = Signature(parameters)  # type: ignore[attr-defined]
    run.__annotations__ = {each.name: each.annotation for each in parameters}
    run.__name__, run.__doc__ = command.__name__, command.__doc__
    return run


def _declared(parameter: Parameter) -> Sequence[object]:
    """Return the option names of a parameter."""
    (told,) = getattr(parameter.annotation, "__metadata__", (None,))
    # Typer has the first option of an annotation where a default would be.
    return () if told is None else (told.default, *(told.param_decls or ()))


def _view(every: bool = False, source_ports: bool = False) -> View:
    """Return how much of a preview is shown, for a command with both options."""
    from crossgate.show.edit import View

    return View(every, source_ports, offered=True)


def carry_out(
    context: typer.Context,
    change: Change,
    how: EditOptions,
    *,
    harmless: bool = False,
    reading: Reading | None = None,
    written: Callable[[], None] | None = None,
) -> Proposal:
    """Make a change to the plan: show the proposal, write it unless it is refused, a dry run or not
    wanted, and return it; see `propose`.

    After writing, `written` is called where it is given; otherwise the edit is kept, so that it can
    be undone. The plan is read here, once no other edit is being made to it, unless a `reading` is
    given in which the change was found. Exits with 1, the plan untouched, when the change is
    refused or a person at a terminal declines it.
    """
    path = plan_file(context, "write")
    if how.dry_run:
        proposal, wanted = _made(reading or reading_of(path), change, None, how, harmless)
    else:
        with alone(path, how.yes or how.as_json):
            found = reading or reading_of(path)
            proposal, wanted = _made(found, change, path, how, harmless)
            if proposal.changes and wanted:
                (written or _kept(path, found, proposal))()
    if proposal.refused or (proposal.changes and not how.dry_run and not wanted):
        raise typer.Exit(1)
    return proposal


def _kept(path: Path, reading: Reading, proposal: Proposal) -> Callable[[], None]:
    """Return a function that keeps an edit after it was written, so that it can be undone."""

    def keep() -> None:
        from crossgate.formats.edit_history import History
        from crossgate.show.console import warn

        words = " ".join(quote(each) for each in sys.argv[1:])
        try:
            History(path).add(words, reading.plan.now(), proposal.old, proposal.new)
        except PlanError as error:
            warn(f"the edit is written, and cannot be undone: {error.message}")

    return keep


def _made(
    reading: Reading,
    change: Change,
    path: Path | None,
    how: EditOptions,
    harmless: bool,
) -> tuple[Proposal, bool]:
    """Show what a change does, and write it to the plan at `path`, unless that is None or the
    change is refused or declined.

    Returns the proposal, and whether it was written.
    """
    from crossgate.formats.json.edit import edit_document
    from crossgate.formats.replacing import replace_files
    from crossgate.language.change import propose
    from crossgate.show.console import warn, write
    from crossgate.show.edit import SCREEN, outcome, proposal_lines

    with meter("comparing") as tell:
        proposal = propose(
            reading, change, reading.plan.now(), anyway=how.anyway, harmless=harmless, tell=tell
        )
    if not how.as_json:
        write(proposal_lines(proposal, how.view or SCREEN))
        for error in proposal.impact.unaudited if proposal.impact else ():
            warn(f"new findings may be missing: {error.message}")
    written = bool(
        path
        and proposal.changes
        and not proposal.refused
        and (how.yes or how.as_json or wants("write it?"))
    )
    if path and written:
        replace_files(path, reading.data, proposal.new)
    if how.as_json:
        print_json(edit_document(proposal, written))
    elif proposal.changes:
        write([outcome(proposal, written, path is None)])
    return proposal, written


@contextmanager
def alone(path: Path, asked: bool) -> Iterator[None]:
    """Keep other edits by this user from changing the plan's files while the enclosed code runs; an
    edit that was left half done is finished first.

    A person at a terminal is asked before that, unless `asked`. Raises `PlanError` where another
    edit holds a file for too long, and where a half-done edit cannot be finished.
    """
    from crossgate.formats.edit_records import half_done
    from crossgate.formats.finishing import finish
    from crossgate.show.console import warn

    if path.exists() and not path.is_file():
        raise PlanError(f"{path} is no regular file, so it cannot be edited")
    files = plan_files(path)
    with in_turn(files):
        for edit in half_done(files):
            if edit.plan != path.resolve():
                raise PlanError(
                    f"{edit.text()}; finish it first: crossgate --plan {edit.plan} recover"
                )
            if not asked and not wants(f"{edit.text()}; finish it first?"):
                raise PlanError(f"{edit.text()}; nothing is written")
            finish(edit, files)
            warn(f"an edit of {path} that was left half done is finished")
        yield


def in_turn(files: Iterable[Path]) -> AbstractContextManager[None]:
    """Keep other edits by this user from changing files while the enclosed code runs; a person at a
    terminal is told what is waited for.
    """
    from crossgate.formats.own_state import taking_turns
    from crossgate.show.console import warn

    return taking_turns(files, lambda told: warn(told) if sys.stderr.isatty() else None)


def wants(question: str) -> bool:
    """Ask a yes-or-no question where there is a person to ask: standard input and output are both
    terminals. Without one the answer is yes.
    """
    if not (sys.stdin and sys.stdin.isatty() and sys.stdout.isatty()):
        return True
    try:
        return typer.confirm(question, default=False, prompt_suffix=" ")
    except typer.Abort:
        return False


def wants_instead(told: Sequence[str], asked: str) -> bool:
    """After some explanation, ask a person at a terminal whether they want something else than they
    typed; without a person the answer is no.
    """
    if not _may_ask.get() or not (sys.stdin.isatty() and sys.stdout.isatty()):
        return False
    for line in told:
        typer.echo(line)
    return wants(asked)
