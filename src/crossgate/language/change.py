"""An edit as a proposal: what it would write and what that would do, worked out before anything is
written.

Nothing here touches a file. A command shows a proposal, and writes its `new` files in the place of
the `old` ones unless it is refused.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Mapping
from datetime import datetime
from difflib import SequenceMatcher, unified_diff
from pathlib import Path
from types import MappingProxyType
from typing import NamedTuple

from crossgate.core.impact import Impact, impact_of
from crossgate.core.model.errors import PlanErrors
from crossgate.core.model.finding_kinds import Severity
from crossgate.core.model.plan import Plan
from crossgate.core.model.progress import Tell
from crossgate.core.traffic.session import Session
from crossgate.language.draft import Draft
from crossgate.language.layout import is_tidy, kept_tidy
from crossgate.language.lines import alike_from_start
from crossgate.language.reader import Reading
from crossgate.language.source import decode

Change = Callable[[Draft], str]
"""Edits a draft and says in a sentence what it did. Raises `PlanError` for what cannot be done."""


class LineEdit(NamedTuple):
    """The lines of a text from `first` to before `last`, counted from 0, and the text that replaces
    them.
    """

    first: int
    last: int
    text: str


def line_edits(old: str, new: str) -> list[LineEdit]:
    """Return the line edits that turn one text into another."""
    before, after = (re.findall(r"[^\n]*\n|[^\n]+", text) for text in (old, new))
    blocks = SequenceMatcher(None, before, after, autojunk=False).get_opcodes()
    return [
        LineEdit(first, last, "".join(after[start:end]))
        for kind, first, last, start, end in blocks
        if kind != "equal"
    ]


class Proposal(NamedTuple):
    """An edit that has not been made.

    `said` describes it in a sentence; `old` and `new` are the bytes of the files that it changes,
    by name, and `diff` their unified diff. `plan` is the changed plan, or the unchanged one where
    the change would have `errors`; there is an `impact` only where something changes without
    errors. `refused` says why it may not be written, "" where it may. `remarks` are what else
    there is to tell, and `read` are the bytes of all files of the plan as they were read.
    """

    said: str
    old: Mapping[str, bytes]
    new: Mapping[str, bytes]
    diff: tuple[str, ...]
    plan: Plan
    impact: Impact | None
    errors: tuple[str, ...]
    refused: str
    remarks: tuple[str, ...] = ()
    read: Mapping[str, bytes] = MappingProxyType({})

    def __repr__(self) -> str:
        how = f"refused, {self.refused}" if self.refused else f"files={len(self.new)}"
        said, *_ = self.said.partition("\n")
        return f"<Proposal {said}: {how}>"

    @property
    def changes(self) -> bool:
        """Whether there is anything to write."""
        return bool(self.new)

    @property
    def edits(self) -> dict[str, list[LineEdit]]:
        """The line edits of each file."""
        return {
            file: line_edits(decode(Path(file), self.old[file]), decode(Path(file), data))
            for file, data in self.new.items()
        }


def propose(
    reading: Reading,
    change: Change,
    now: datetime,
    *,
    anyway: bool = False,
    harmless: bool = False,
    tell: Tell | None = None,
    session: Session | None = None,
    brief: bool = False,
) -> Proposal:
    """Work out a change of a plan as it was read.

    It is refused when the plan would have errors, when an expectation that holds would fail, when
    there would be a new finding that is an error, and when its effect is not known; with `anyway`
    only errors refuse it. A `harmless` change may not affect any traffic. A file that was in the
    standard layout stays so. `tell` is told how far the comparison of the two plans is. A `session`
    of the unchanged plan is used again where there is one. With `brief`, no more is worked out of a
    change that is refused than why.
    """
    draft = Draft(reading, session)
    said = change(draft)
    new = draft.result()
    nothing = Proposal(
        said, {}, {}, (), reading.plan, None, (), "", tuple(draft.remarks), reading.data
    )
    if not new:
        return nothing
    old = {file: reading.data[file] for file in new}
    try:
        plan = reading.changed(new).plan
    except PlanErrors as errors:
        problems = tuple(dict.fromkeys(str(draft.explained(each)) for each in errors.errors))
        return nothing._replace(
            old=old,
            new=new,
            diff=tuple(_diff(old, new)),
            errors=problems,
            refused="the plan would have errors",
        )
    tidy = {
        file: kept_tidy(file, old[file], data, plan)
        for file, data in ({} if draft.exact else new).items()
        if _is_tidy(reading, file)
    }
    if any(data != new[file] for file, data in tidy.items()):
        new = {file: data for file, data in {**new, **tidy}.items() if data != old[file]}
        if not new:
            return nothing
        old = {file: old[file] for file in new}
        plan = reading.changed(new).plan
    diff = tuple(_diff(old, new))
    after = Session(plan, beside=draft.tried or draft.session)
    impact = impact_of(draft.session, after, now, tell, draft.proved, draft.renamed, brief)
    refused = "" if anyway else _why_refused(impact)
    if harmless and impact.differences:
        refused = "traffic would be treated otherwise, which must not be; please report this plan"
    return nothing._replace(old=old, new=new, diff=diff, plan=plan, impact=impact, refused=refused)


def _is_tidy(reading: Reading, file: str) -> bool:
    """Whether a file of a plan is in the standard layout; asked for each of many edits."""
    known, data = reading.names.kept.tidy, reading.data[file]
    if file not in known or known[file][0] != data:
        known[file] = data, is_tidy(file, data, reading.plan)
    return known[file][1]


_AROUND = 100
"""So many lines around what changes are searched for what is alike."""


def _diff(old: Mapping[str, bytes], new: Mapping[str, bytes]) -> list[str]:
    """Return the unified diff of files, without line endings."""
    lines: list[str] = []
    for file, data in new.items():
        before, after = (
            text.decode("utf-8-sig").removesuffix("\n").split("\n") for text in (old[file], data)
        )
        # What is alike at both ends of a large file is nothing to search.
        start = max(alike_from_start(before, after) - _AROUND, 0)
        rest = alike_from_start(before[start:][::-1], after[start:][::-1]) - _AROUND
        was, now = (each[start : len(each) - max(rest, 0)] for each in (before, after))
        found = unified_diff(was, now, file, file, lineterm="")
        lines += (_further(each, start) if each[:2] == "@@" else each for each in found)
    return lines


_HUNK_LINE = re.compile(r"(?<=[-+])\d+")


def _further(head: str, lines: int) -> str:
    """Return the header of a hunk of a diff, moved down by `lines` lines."""
    return _HUNK_LINE.sub(lambda number: str(int(number[0]) + lines), head)


def _why_refused(impact: Impact) -> str:
    keeps = sum(each.expectation.keep for each in impact.broken)
    counts = ((keeps, "keep"), (len(impact.broken) - keeps, "expect"))
    parts = [f"{number} {word}{'s' if number > 1 else ''}" for number, word in counts if number]
    if parts:
        return f"it breaks {' and '.join(parts)}"
    errors = list(
        dict.fromkeys(each.name for each in impact.findings if each.severity is Severity.ERROR)
    )
    if errors:
        return f"it brings a new error: {', '.join(errors)}"
    return f"what it does is not known: {impact.missed[0].message}" if impact.missed else ""
