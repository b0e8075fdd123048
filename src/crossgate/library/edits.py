"""Changes of a plan's files: worked out, found, and written."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from datetime import datetime
from pathlib import Path
from typing import TYPE_CHECKING

from crossgate.core.model.errors import PlanError
from crossgate.library.plans import trusting

if TYPE_CHECKING:
    from crossgate.language.change import Change, Proposal
    from crossgate.language.mending import Mendable


def propose(
    path: str | Path,
    *changes: Change,
    unsaved: Mapping[str, bytes] | None = None,
    include_from: Sequence[str | Path] = (),
    at: datetime | None = None,
    anyway: bool = False,
) -> Proposal:
    """Work out changes of a plan (`crossgate.changes`) as one, on the file as `read` reads it, and
    return what they would write and do: `said`, `diff`, `impact`, and why it is `refused`.

    It is refused where the plan would have errors, an expectation that holds would fail, or there
    would be a new finding that is an error; with `anyway` only the first. `at` is the time for
    which windows are judged, now by default. Raises `PlanError` for a change that cannot be made.
    """
    from crossgate.language.change import propose as worked_out
    from crossgate.language.reader import read as read_files
    from crossgate.language.together import AskedChange, together

    numbered = [AskedChange(f"change {number}", each) for number, each in enumerate(changes, 1)]
    change = changes[0] if len(changes) == 1 else together(numbered)

    def proposal() -> Proposal:
        reading = read_files(Path(path), unsaved)
        return worked_out(reading, change, at or reading.plan.now(), anyway=anyway)

    return trusting(include_from, proposal)


def write(proposal: Proposal) -> None:
    """Write what a proposal changes, all of it or nothing, if no file of the plan was changed since
    it was read; `crossgate undo` takes it back.

    Raises `PlanError` where the proposal is refused, or nothing can be written.
    """
    from crossgate.formats.edit_history import History
    from crossgate.formats.edit_records import half_done
    from crossgate.formats.own_state import taking_turns
    from crossgate.formats.replacing import replace_files

    if proposal.refused:
        raise PlanError(f"it is not written: {proposal.refused}")
    if not proposal.changes:
        return
    path, files = Path(proposal.plan.files[0]), list(map(Path, proposal.read))
    with taking_turns(files):
        for edit in half_done(files):
            raise PlanError(f"{edit.text()}; finish it first: crossgate --plan {edit.plan} recover")
        replace_files(path, proposal.read, proposal.new)
        made = f"crossgate.write, {proposal.said}"
        History(path).add(made, proposal.plan.now(), proposal.old, proposal.new)


def mend(
    path: str | Path,
    *what: str | int,
    unsaved: Mapping[str, bytes] | None = None,
    include_from: Sequence[str | Path] = (),
    at: datetime | None = None,
) -> list[Mendable]:
    """Return what could be mended in a plan's file: claims that fail and findings that edits end,
    each with its `mends`, of which each was proved and has a `proposal`.

    `what` names one: the line of a claim, or a finding, its list and its entry. Raises `PlanError`
    for what is not there.
    """
    from crossgate.language.reader import read as read_files
    from crossgate.language.to_mend import to_mend

    def mendable() -> list[Mendable]:
        reading = read_files(Path(path), unsaved)
        wanted = to_mend(reading, [str(each) for each in what], at or reading.plan.now())
        return [each for look in wanted if (each := look()) is not None]

    return trusting(include_from, mendable)
