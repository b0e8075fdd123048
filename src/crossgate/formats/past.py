"""A plan's past: how its versions in git answer a question, and when the answer changed.

The question is asked of each version as if it were today's plan: with the names of that version, at
one and the same time. A version with errors is skipped; one without a name of the question gives
that as its answer.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from functools import partial
from pathlib import Path
from typing import NamedTuple

from crossgate.core.answers.traces import TraceLimits, asked
from crossgate.core.answers.turns import TurnedVersions, turns
from crossgate.core.answers.verify import Verifier
from crossgate.core.conversation.opening import service_label
from crossgate.core.conversation.packets import Tracer
from crossgate.core.model.accesslist import Decider
from crossgate.core.model.conditions import When
from crossgate.core.model.errors import PlanError
from crossgate.core.model.plan import Plan
from crossgate.core.network.ways import Network
from crossgate.core.traffic.session import Session
from crossgate.core.wording.sentences import decision, reason
from crossgate.formats.git import Commit, Revision
from crossgate.language.claims import expectation
from crossgate.language.lines import Line
from crossgate.language.reader import Reading, read
from crossgate.language.words import Words


class VersionAnswer(NamedTuple):
    """The answer of a version: the verdict, or whether a claim holds; the reason in words; and the
    text of the list line that decides, "" for none.
    """

    verdict: str
    why: str
    line: str


class Version(NamedTuple):
    """A version of a plan: its commit, None for changes that are not committed yet."""

    commit: Commit | None


class AnswerChange(NamedTuple):
    """A version with another answer than the one before it, and both answers; `skipped` versions
    between the two have errors.
    """

    version: Version
    now: VersionAnswer
    before: VersionAnswer
    skipped: int


class Since(NamedTuple):
    """The history of the answer to one question: today's answer, each change, newest first, and the
    oldest version.
    """

    asked: str
    today: VersionAnswer
    changes: tuple[AnswerChange, ...]
    oldest: Version
    looked_at: int

    def __repr__(self) -> str:
        return f"<Since {self.asked}: {self.today.verdict} changes={len(self.changes)}>"


Ask = Callable[[Reading], dict[str, VersionAnswer]]
"""A question: what it is called, with its answer, of each conversation that it is about. Raises
`PlanError` where a version does not have what it asks about.
"""
_FEW = 48
"""So many versions are all looked at, which takes about a second on a plan like the demo."""
NOT_THERE = "not there"
"""The verdict of a version that does not have what is asked about."""


class Past:
    """The versions of a plan; each is read and asked once."""

    def __init__(self, path: Path, today: Reading, commits: Sequence[Commit], ask: Ask) -> None:
        self._path, self._ask = path, ask
        newest = Revision(path, commits[0].id)
        committed = all(_same(newest, name, data) for name, data in today.data.items())
        self.versions = [*([] if committed else [Version(None)]), *map(Version, commits)]
        self._today = ask(today)
        self._known: dict[int, dict[str, VersionAnswer] | None] = {0: self._today}

    def since(self, every: bool) -> Iterator[Since]:
        """Yield the history of each of today's answers; with `every`, or for few versions, no
        version is left out.
        """
        every = every or len(self.versions) <= _FEW
        for name, answer in self._today.items():
            changes = [
                self._change(name, each)
                for each in turns(len(self.versions), partial(self._verdict, name), every)
            ]
            yield Since(name, answer, tuple(changes), self.versions[-1], len(self._known))

    def _verdict(self, name: str, at: int) -> str | None:
        answers = self._answers(at)
        return None if answers is None else self._of(answers, name).verdict

    def _answers(self, at: int) -> dict[str, VersionAnswer] | None:
        """Return the answers of a version; None where it has errors."""
        if at not in self._known:
            commit = self.versions[at].commit
            assert commit is not None
            try:
                reading = read(self._path, Revision(self._path, commit.id))
            except PlanError:
                self._known[at] = None
            else:
                self._known[at] = self._asked(reading)
        return self._known[at]

    def _asked(self, reading: Reading) -> dict[str, VersionAnswer]:
        try:
            return self._ask(reading)
        except PlanError as error:
            return {"": VersionAnswer(NOT_THERE, error.message, "")}

    @staticmethod
    def _of(answers: dict[str, VersionAnswer], name: str) -> VersionAnswer:
        missing = answers.get("", VersionAnswer(NOT_THERE, "nothing of the kind is there", ""))
        return answers.get(name, missing)

    def _change(self, name: str, turned: TurnedVersions) -> AnswerChange:
        newer, older = self._answers(turned.newer), self._answers(turned.older)
        assert newer is not None
        assert older is not None
        return AnswerChange(
            self.versions[turned.newer],
            self._of(newer, name),
            self._of(older, name),
            turned.skipped,
        )


def _same(revision: Revision, name: str, data: bytes) -> bool:
    try:
        return revision[name] == data
    except PlanError:
        return False


def conversation_asked(
    source: str, destination: str, service: str, choice: TraceLimits, when: When
) -> Ask:
    """Return a question about the conversations of two ends and a service, at a time."""

    def ask(reading: Reading) -> dict[str, VersionAnswer]:
        plan = reading.plan
        network = Network(plan)
        wanted = asked(network, [source], [destination], [service], choice)
        tracer = Tracer(network, plan.state_at(when))
        found = {}
        for conversation in (each for asked_for in wanted for each in asked_for.conversations):
            trace = tracer.trace(conversation)
            verdict = "varies" if trace.differing is not None else str(trace.verdict)
            last = trace.decided.decider if trace.decided else None
            deciders = [last] if last is not None else list(trace.deciders())
            name = f"{service_label(conversation.first)} {conversation.first.family.label}"
            found[name] = VersionAnswer(
                verdict, decision(trace) or reason(trace), _written(plan, deciders)
            )
        return found

    return ask


def _written(plan: Plan, deciders: Sequence[Decider]) -> str:
    """Return the text of the last of some lines that is an entry."""
    return next((each.entry.text for each in reversed(deciders) if each.entry is not None), "")


def claim_asked(text: str) -> Ask:
    """Return the question whether a claim, as it is written today, holds."""

    def ask(reading: Reading) -> dict[str, VersionAnswer]:
        plan = reading.plan
        expectation(Words(Line("", 0, text)), reading.names)
        found = Verifier(Session(plan)).verify(plan.expectations[-1])
        if not found.answered:
            return {text: VersionAnswer("not answered", found.why, "")}
        return {text: VersionAnswer("holds" if found.held else "fails", found.why, "")}

    return ask
