"""A plan that is being written: read again at every change, with the results of `check` and
`verify` from the background.
"""

from __future__ import annotations

import os
import re
import threading
from collections.abc import Callable, Iterator, Mapping
from dataclasses import dataclass, field
from pathlib import Path
from time import monotonic
from typing import TYPE_CHECKING, NamedTuple

from crossgate.core.model.errors import Place, PlanError
from crossgate.core.model.finding import Finding
from crossgate.core.model.named import NameSpace
from crossgate.language.kept import Kept
from crossgate.language.reader import Reading, attempt
from crossgate.language.source import decode, read_bytes
from crossgate.language.texts import Mention, Text

if TYPE_CHECKING:
    from datetime import datetime
    from multiprocessing.connection import Connection
    from multiprocessing.process import BaseProcess

    from crossgate.core.model.plan import Plan

_INCLUDE = re.compile(rb'^include\s+"([^"]*)"', re.MULTILINE)


class Proved(NamedTuple):
    """The result for an expectation: whether it holds; if not, why, and what would mend it; not
    `answered` where the answer is unknown.
    """

    held: bool
    why: str
    needed: str
    answered: bool


class Looked(NamedTuple):
    """The results for one reading of a plan: the findings that are not accepted, and the result for
    each expectation, by its place.
    """

    reading: Reading
    findings: list[Finding]
    proved: dict[Place, Proved]


@dataclass(slots=True)
class OpenPlan:
    """A plan, given by its own file, and its present state."""

    path: Path
    reading: Reading | None = None
    """The last reading; names of what is not in error are in it in any case."""
    errors: list[PlanError] = field(default_factory=list)
    texts: dict[str, Text] = field(default_factory=dict)
    """Its files as lines, by name."""
    looked: Looked | None = None
    """What was found out last, of a reading that may have been superseded since."""
    revision: int = 0
    _kept: Kept = field(default_factory=Kept)

    def read(self, unsaved: Mapping[str, bytes]) -> None:
        """Read it, using the unsaved texts of an editor, by file name."""
        self.revision += 1
        try:
            self.reading, self.errors = attempt(self.path, unsaved, self._kept)
        except PlanError as error:
            self.errors = [error]
            return
        texts = {}
        for file, data in self.reading.data.items():
            try:
                text = decode(Path(file), data)
            except PlanError:
                text = data.decode("utf-8", "replace")
            before = self.texts.get(file)
            texts[file] = before if before is not None and before.text == text else Text(file, text)
        self.texts = texts

    @property
    def whole(self) -> Reading | None:
        """The reading, if there is no error in it."""
        return None if self.errors else self.reading

    @property
    def settled(self) -> Looked | None:
        """The findings and proofs for the plan's present text; None while they are being worked
        out.
        """
        return (
            self.looked if self.looked is not None and self.looked.reading is self.reading else None
        )

    def declaration(self, space: NameSpace, name: str) -> tuple[Text, int, Mention] | None:
        """Return where a name is defined."""
        for text in self.texts.values():
            found = text.declared.get((space, name))
            if found is not None:
                return text, *found
        return None

    def mentioning(self, space: NameSpace, name: str) -> Iterator[tuple[Text, int, Mention]]:
        """Yield every mention of a name in all of the plan's files."""
        for text in self.texts.values():
            for number, mention in text.mentioning(space, name):
                yield text, number, mention


def look_at(
    path: Path, data: Mapping[str, bytes], now: Callable[[Plan], datetime]
) -> tuple[list[Finding], dict[Place, Proved]]:
    """Return the results of `check` and `verify` for a plan without errors, given as the bytes of
    its files.
    """
    from crossgate.core.answers.verify import Verifier
    from crossgate.core.audit import audit
    from crossgate.core.traffic.session import Session

    plan = attempt(path, data)[0].plan
    session = Session(plan)
    verifier = Verifier(session)
    proved = {}
    for each in plan.expectations:
        found = verifier.verify(each)
        proved[each.place] = Proved(found.held, found.why, found.needed, found.answered)
    return audit(session, now(plan)).findings, proved


_Job = tuple[Path, dict[str, bytes], Callable[["Plan"], "datetime"]]


def _work(pipe: Connection) -> None:
    """Look at plans that arrive through a pipe, one after the other, until it is closed."""
    while True:
        try:
            job: _Job = pipe.recv()
        except (EOFError, KeyboardInterrupt):
            return
        try:
            pipe.send(look_at(*job))
        except Exception as error:  # told by whoever waits
            pipe.send(f"{type(error).__name__}: {error}")


class Watcher:
    """Looks at plans, each some time after its last change, in a separate process so that typing is
    never slowed. When a plan changes meanwhile, the result would be useless, and that process is
    ended.
    """

    def __init__(
        self,
        pause: float,
        now: Callable[[Plan], datetime],
        done: Callable[[OpenPlan], None],
        failed: Callable[[str], None],
    ) -> None:
        """Make it; `pause` is in seconds, `now` returns the time on a plan's clock, `done` and
        `failed` are called in a separate thread.
        """
        self._pause, self._now, self._done, self._failed = pause, now, done, failed
        self._wanted: dict[Path, tuple[OpenPlan, float]] = {}
        self._changed = threading.Condition()
        self._stopped = False
        self._worker: tuple[BaseProcess, Connection] | None = None
        threading.Thread(target=self._run, daemon=True).start()

    def look_soon(self, plan: OpenPlan) -> None:
        """Look at a plan once it has not changed for a while."""
        with self._changed:
            self._wanted[plan.path] = plan, monotonic() + self._pause
            self._changed.notify()

    def forget(self, plan: OpenPlan) -> None:
        """Stop looking at a plan."""
        plan.revision += 1
        with self._changed:
            self._wanted.pop(plan.path, None)

    def stop(self) -> None:
        """End the thread that looks at plans, after the plan it is looking at."""
        with self._changed:
            self._stopped = True
            self._changed.notify()

    def _run(self) -> None:
        while (plan := self._next()) is not None:
            reading, revision = plan.whole, plan.revision
            if reading is not None:
                found = self._answer((plan.path, dict(reading.data), self._now), plan, revision)
                if isinstance(found, str):
                    self._failed(found)
                elif found is not None and plan.revision == revision:
                    plan.looked = Looked(reading, *found)
                    self._done(plan)
        self._end()

    def _next(self) -> OpenPlan | None:
        """Wait for a plan whose time has come; return None when the thread is to end."""
        with self._changed:
            while not self._stopped:
                plan, due = min(
                    self._wanted.values(), key=lambda each: each[1], default=(None, 0.0)
                )
                left = None if plan is None else due - monotonic()
                if plan is not None and left is not None and left <= 0:
                    del self._wanted[plan.path]
                    return plan
                self._changed.wait(left)
        return None

    def _answer(
        self, job: _Job, plan: OpenPlan, revision: int
    ) -> tuple[list[Finding], dict[Place, Proved]] | str | None:
        """Have a plan looked at; return None where it changed before that was done, a message where
        it was not possible.
        """
        from multiprocessing import get_context

        if self._worker is None or not self._worker[0].is_alive():
            context = get_context("spawn")
            own, its = context.Pipe()
            process: BaseProcess = context.Process(target=_work, args=(its,), daemon=True)
            process.start()
            its.close()
            self._worker = process, own
        pipe = self._worker[1]
        try:
            pipe.send(job)
            while not pipe.poll(0.05):
                if plan.revision != revision or self._stopped:
                    self._end()
                    return None
            found: tuple[list[Finding], dict[Place, Proved]] | str = pipe.recv()
        except (EOFError, OSError) as error:
            self._end()
            return f"{type(error).__name__}: {error}"
        return found

    def _end(self) -> None:
        if self._worker is not None:
            process, pipe = self._worker
            self._worker = None
            pipe.close()
            process.terminate()
            process.join()


def plan_of(file: Path, unsaved: Mapping[str, bytes]) -> Path:
    """Return the plan that a file belongs to: one beside or above it that includes it, directly or
    through others; or else itself.
    """
    seen = {os.path.realpath(file)}
    while True:
        around = (
            each
            for folder in (file.parent, *list(file.parents)[1:3])
            for each in sorted(folder.glob("*.gate"))
        )
        real = os.path.realpath(file)
        found = next(
            (
                each
                for each in around
                if os.path.realpath(each) not in seen and real in _included(each, unsaved)
            ),
            None,
        )
        if found is None:
            return file
        seen.add(os.path.realpath(found))
        file = found


def _included(file: Path, unsaved: Mapping[str, bytes]) -> set[str]:
    """Return the real paths of the files that one includes, directly or through others."""
    found: set[str] = set()
    left = [file]
    while left:
        each = left.pop()
        try:
            data = unsaved[str(each)] if str(each) in unsaved else read_bytes(each, included=True)
        except PlanError:
            continue
        for name in _INCLUDE.findall(data):
            target = Path(os.path.normpath(each.parent / name.decode("utf-8", "replace")))
            if os.path.realpath(target) not in found:
                found.add(os.path.realpath(target))
                left.append(target)
    return found
