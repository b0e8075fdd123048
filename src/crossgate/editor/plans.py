"""A plan that is being written: read anew at every change, with what `check` and `verify` say of it in the background."""

from __future__ import annotations

import os
import re
import threading
from collections.abc import Callable, Iterator, Mapping
from dataclasses import dataclass, field
from pathlib import Path
from typing import TYPE_CHECKING

from crossgate.core.model.errors import Place, PlanError
from crossgate.core.model.finding import Finding
from crossgate.editor.texts import Mention, Named, Text
from crossgate.language.names import Kept
from crossgate.language.reader import Reading, attempt
from crossgate.language.source import decode

if TYPE_CHECKING:
    from datetime import datetime

    from crossgate.core.answers.verify import Verified
    from crossgate.core.model.plan import Plan
    from crossgate.core.traffic.session import Session

_INCLUDE = re.compile(rb'^include\s+"([^"]*)"', re.MULTILINE)


class Superseded(Exception):
    """The plan has changed, so what was being worked out is of no use."""


@dataclass(frozen=True, slots=True)
class Looked:
    """What was found out of one reading of a plan: the findings, those accepted left out, and what became of each expectation, by its place."""

    reading: Reading
    session: Session
    findings: list[Finding]
    verified: dict[Place, Verified]


@dataclass(slots=True)
class OpenPlan:
    """A plan, by its own file, and how it stands."""

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
        """Read it with the unsaved texts of an editor, by file name."""
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
        """What was found out of the plan as it is; None where that is not known yet."""
        return self.looked if self.looked is not None and self.looked.reading is self.reading else None

    def declaration(self, named: Named, name: str) -> tuple[Text, int, Mention] | None:
        """Return where a name is given."""
        for text in self.texts.values():
            found = text.declared.get((named, name))
            if found is not None:
                return text, *found
        return None

    def mentioning(self, named: Named, name: str) -> Iterator[tuple[Text, int, Mention]]:
        """Yield every mention of a name in all of the plan's files."""
        for text in self.texts.values():
            for number, mention in text.mentioning(named, name):
                yield text, number, mention

    def look(self, now: Callable[[Plan], datetime], superseded: Callable[[], bool]) -> Looked | None:
        """Find out what `check` and `verify` say of the plan; None where it has errors. Raises `Superseded` once it is."""
        from crossgate.core.answers.verify import Verifier
        from crossgate.core.audit import audit
        from crossgate.core.traffic.session import Session

        reading = self.whole
        if reading is None:
            return None

        def tell(done: int, of: int) -> None:
            if superseded():
                raise Superseded

        session = Session(reading.plan)
        verifier = Verifier(session)
        verified = {}
        for each in reading.plan.expectations:
            tell(0, 0)
            verified[each.place] = verifier.verify(each)
        findings = audit(session, now(reading.plan), tell).findings
        self.looked = Looked(reading, session, findings, verified)
        return self.looked


class Watcher:
    """Looks at plans in the background, each a while after its last change, and forgets what has changed meanwhile."""

    def __init__(
        self, pause: float, now: Callable[[Plan], datetime], done: Callable[[OpenPlan], None], failed: Callable[[Exception], None]
    ) -> None:
        """Make it; `pause` are seconds, `now` tells the time on a plan's clock."""
        self._pause, self._now, self._done, self._failed = pause, now, done, failed
        self._timers: dict[Path, threading.Timer] = {}

    def look_soon(self, plan: OpenPlan) -> None:
        """Look at a plan once it has not changed for a while."""
        before = self._timers.pop(plan.path, None)
        if before is not None:
            before.cancel()
        timer = threading.Timer(self._pause, self._look, (plan, plan.revision))
        timer.daemon = True
        self._timers[plan.path] = timer
        timer.start()

    def stop(self) -> None:
        """Look at nothing any more."""
        for timer in self._timers.values():
            timer.cancel()
        self._timers = {}

    def _look(self, plan: OpenPlan, revision: int) -> None:
        try:
            if plan.look(self._now, lambda: plan.revision != revision) is not None and plan.revision == revision:
                self._done(plan)
        except Superseded:
            pass
        except Exception as error:
            self._failed(error)


def plan_of(file: Path, unsaved: Mapping[str, bytes]) -> Path:
    """Return the plan that a file belongs to: the one beside or above it that includes it, straight or by others; else itself."""
    around = [each for folder in (file.parent, *list(file.parents)[1:3]) for each in sorted(folder.glob("*.gate")) if each != file]
    real = os.path.realpath(file)
    found = next((each for each in around if real in _included(each, unsaved)), None)
    return file if found is None else plan_of(found, unsaved)


def _included(file: Path, unsaved: Mapping[str, bytes]) -> set[str]:
    """Return the real paths of the files that one includes, straight or by others."""
    found: set[str] = set()
    left = [file]
    while left:
        each = left.pop()
        try:
            data = unsaved[str(each)] if str(each) in unsaved else each.read_bytes()
        except OSError:
            continue
        for name in _INCLUDE.findall(data):
            target = Path(os.path.normpath(each.parent / name.decode("utf-8", "replace")))
            if os.path.realpath(target) not in found:
                found.add(os.path.realpath(target))
                left.append(target)
    return found
