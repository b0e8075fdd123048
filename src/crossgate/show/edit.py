"""A change of a plan for people, before it is made: the text, then what it does."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path
from typing import NamedTuple

from crossgate.core.impact import Impact
from crossgate.core.model.finding_kinds import Severity
from crossgate.core.model.network import stands_at
from crossgate.core.model.plan import Plan
from crossgate.formats.edit_history import Edits
from crossgate.language.change import Proposal
from crossgate.show.check import where
from crossgate.show.console import count, folded, quiet, strong, word
from crossgate.show.sets import difference_lines
from crossgate.show.width import columns

MOST_TURNED = 5
MOST_ROWS = 16
MOST_FINDINGS = 3
"""A preview is about a screen: of each kind so many, then how many more."""


class View(NamedTuple):
    """How much of a preview is shown: `every` line of it, and what differs only for other
    `source_ports` than clients use; `offered` says whether the command has options for both.
    """

    every: bool = False
    source_ports: bool = False
    offered: bool = False

    def most(self, number: int) -> int | None:
        """Return how many of something are shown: `number`, a screenful; None for all."""
        return None if self.every else number

    @property
    def rest(self) -> str:
        """The words that say how to see the rest."""
        return "--all shows all" if self.offered else "--json tells all"


SCREEN = View()
"""About a screen, by a command that has no options for more."""


def proposal_lines(proposal: Proposal, view: View = SCREEN) -> Iterator[str]:
    """Yield a proposal: what it is, its diff, and what it does."""
    if not proposal.changes:
        yield f"{proposal.said}; nothing is to be written"
        yield from map(quiet, proposal.remarks)
        return
    yield proposal.said
    for remark in proposal.remarks:
        yield from folded(quiet(remark), 2)
    yield from map(_painted, proposal.diff)
    if proposal.impact is None:
        yield "\n".join(proposal.errors) + (
            f"\n{len(proposal.errors)} errors" if len(proposal.errors) > 1 else ""
        )
    else:
        yield from impact_lines(proposal.plan, proposal.impact, view)
        yield from _asked_for_nothing(proposal.plan, proposal.impact)


def _asked_for_nothing(new: Plan, impact: Impact) -> Iterator[str]:
    """Yield a question for each list past which no traffic goes any more, where it is new or some
    did before.
    """
    for name in dict.fromkeys(
        each.access_list for each in impact.findings if each.name == "wrong-side"
    ):
        found = [
            each
            for each in impact.findings
            if (each.name, each.access_list) == ("wrong-side", name)
        ]
        access_list = new.lists.get(name or "")
        if access_list is None or len(found) < sum(not each.off for each in access_list.entries):
            continue
        here = " or ".join(each.where for each in new.placements if each.access_list == name)
        passes = dict.fromkeys(
            stands_at(direction, point)
            for point, direction in (each.passes for each in found if each.passes is not None)
        )
        there = f"; those of {' and '.join(list(passes)[:MOST_FINDINGS])} are" if passes else ""
        yield from folded(
            strong(
                f"is it meant there? no packet that comes by {here} is asked for by {name}{there}"
            ),
            0,
        )


def edits_lines(edits: Edits) -> list[str]:
    """Return the edits that can be undone or made again, the oldest first."""
    rows = [(each, "") for each in edits.done]
    rows += [(each, quiet("undone")) for each in edits.taken_back]
    return columns(
        [
            each.made.replace("T", " "),
            each.command,
            ", ".join(Path(one.file).name for one in each.files),
            state,
        ]
        for each, state in rows
    )


def outcome(proposal: Proposal, written: bool, dry_run: bool) -> str:
    """Say whether a proposal was written, and why not."""
    if proposal.refused:
        return (
            f"refused: {proposal.refused}; nothing is "
            f"written{'' if proposal.impact is None else ', --anyway writes it'}"
        )
    return (
        "written"
        if written
        else "nothing is written: this was a dry run"
        if dry_run
        else "nothing is written"
    )


def _painted(line: str) -> str:
    """Return a line of a diff in its colour."""
    if line.startswith(("---", "+++", "@@")):
        return quiet(line)
    return (
        word({"+": "permit", "-": "deny"}.get(line[:1], ""), shown=line)
        if line[:1] in "+-"
        else line
    )


def impact_lines(new: Plan, impact: Impact, view: View = SCREEN) -> Iterator[str]:
    """Yield what a change does to expectations, traffic and findings."""
    turns = sorted(impact.turned, key=lambda each: each.now.held)
    first = turns[: view.most(MOST_TURNED)]
    for turned in first:
        expectation = turned.now.expectation
        mark = (
            word("held", bold=True, shown="holds now")
            if turned.now.held
            else word("failed", bold=True, shown="breaks")
        )
        yield f"{mark}  {quiet(new.line_of(expectation.place))}  {expectation.text}"
        if not turned.now.held:
            yield from folded(turned.now.why, 4)
    if len(turns) > len(first):
        yield quiet(f"and {count(len(turns) - len(first), 'more expectation')}; {view.rest}")
    if impact.differences:
        yield from difference_lines(
            new,
            impact.differences,
            every=view.every,
            source_ports=view.source_ports,
            most=MOST_ROWS,
            rest="" if view.offered else view.rest,
        )
    else:
        yield "no packet with a true source address is treated otherwise"
    if impact.findings:
        yield strong(f"{count(len(impact.findings), 'new finding')}:")
    findings = sorted(impact.findings, key=lambda each: list(Severity).index(each.severity))
    shown = findings[: view.most(MOST_FINDINGS)]
    for finding in shown:
        yield f"  {word(finding.severity)} {finding.name}{where(finding)}"
        yield from folded(finding.message, 4)
    if len(findings) > len(shown):
        yield quiet(f"  and {len(findings) - len(shown)} more; {view.rest}")
    if impact.gone:
        names = [f"{each.name}{where(each)}" for each in impact.gone]
        few = names[: view.most(MOST_FINDINGS)]
        more = f" and {len(names) - len(few)} more" if len(names) > len(few) else ""
        told = count(len(names), "finding")
        yield f"{strong(f'{told} gone:')} {', '.join(few)}{more}"
