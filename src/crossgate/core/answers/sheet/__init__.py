"""A sheet of tests: the fewest by which a person sees on site that every line does what it should.

Three things are wanted:

1. For each entry and each otherwise line, a test that shows it: the line decides about it, and
without the line the result would differ. Where no test's result differs, one that increases the
line's counter.

2. Beside each entry, a test that the entry must not affect, and that differs in one thing from a
test that it takes: a neighbouring machine, the other transport, the next port.

3. For each claim, a test of what it is about; for an `only` line also a test of what it excludes.

A test can serve several of these purposes, so that few tests serve all (`cover`). What no test can
show is told with the reason. Lines that have already been seen at work need no test.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Sequence
from itertools import islice
from typing import NamedTuple

from crossgate.core.answers.sheet.candidates import Candidate, Candidates
from crossgate.core.answers.sheet.claims import claimed
from crossgate.core.answers.sheet.cover import fewest
from crossgate.core.answers.sheet.machines import SheetMachines
from crossgate.core.answers.sheet.tests import Can, SheetKey, Tried, Trying, key_of
from crossgate.core.conversation.opening import Conversation
from crossgate.core.conversation.packets import Indexes, Tracer
from crossgate.core.conversation.rules import legs_of, packet_on
from crossgate.core.model.accesslist import AccessList, DeciderKey
from crossgate.core.model.claim import Promise
from crossgate.core.model.conditions import When
from crossgate.core.model.entry import Entry
from crossgate.core.model.errors import Place
from crossgate.core.network.ways import Network

_MOST_TRIED = 16
"""So many candidates that meet a list are tried for one of its lines before that is given up."""
Tell = Callable[[int, int], None]
"""Called with how many lines are done, and how many there are."""


class SheetReason(NamedTuple):
    """Why a test is in the sheet: it `shows` or `counts` a line, it is `beside` an entry, or it
    tests what a claim is about (`claimed`) or excludes (`left out`).
    """

    what: str
    line: DeciderKey | None = None
    claim: Place | None = None


class SheetRow(NamedTuple):
    """A test of the sheet with its number, and why it is there."""

    number: int
    tried: Tried
    reasons: tuple[SheetReason, ...]


class NotShown(NamedTuple):
    """A line or a claim that no test of the sheet shows, and why."""

    line: DeciderKey | None
    claim: Promise | None
    reason: str


class Sheet(NamedTuple):
    """Tests in the order in which they are done, machine by machine; what none of them shows; and
    which lines need no test, since they have been seen at work.
    """

    when: When
    rows: tuple[SheetRow, ...]
    not_shown: tuple[NotShown, ...]
    at_work: tuple[DeciderKey, ...] = ()

    def __repr__(self) -> str:
        return f"<Sheet tests={len(self.rows)} not_shown={len(self.not_shown)}>"


class SheetWanted(NamedTuple):
    """What a sheet is to be about: lists, all where none is given; machines to sit at, all hosts
    where none is given; what can be tried there; and which lines have been seen `at_work`.
    """

    lists: Sequence[AccessList] = ()
    machines: Sequence[str] = ()
    can: frozenset[Can] = frozenset(Can)
    at_work: frozenset[DeciderKey] = frozenset()


def sheet(network: Network, when: When, wanted: SheetWanted, tell: Tell | None = None) -> Sheet:
    """Return the sheet of tests for a plan at one time."""
    return _Maker(network, when, wanted).made(tell)


class _Maker:
    def __init__(self, network: Network, when: When, wanted: SheetWanted) -> None:
        plan = network.plan
        self._network, self._when, self._wanted = network, when, wanted
        self._plan, self._state = plan, plan.state_at(when)
        self._trying, self._indexes = Trying(Tracer(network, self._state)), Indexes(self._state)
        self._machines = SheetMachines(network, wanted.machines)
        self._candidates = Candidates(self._machines, self._state)
        self._tried: dict[SheetKey, Tried | None] = {}
        self._deciding: dict[DeciderKey, list[Tried]] = {}
        self._reasons: dict[SheetKey, set[SheetReason]] = {}
        self._not_shown: list[NotShown] = []
        self._at_work: list[DeciderKey] = []

    def made(self, tell: Tell | None) -> Sheet:
        lists = [
            each
            for each in self._wanted.lists or self._plan.lists.values()
            if isinstance(each, AccessList)
        ]
        if not self._wanted.lists:
            self._claims()
        every = sum(len(each.entries) + 1 for each in lists)
        for count, line in enumerate(line for each in lists for line in self._lines(each)):
            self._show(*line)
            if tell is not None:
                tell(count + 1, every)
        self._add_all_that_is_shown()
        chosen = fewest({key: frozenset(own) for key, own in self._reasons.items() if own})
        rows, not_shown = tuple(self._rows(chosen)), tuple(self._not_shown)
        return Sheet(self._when, rows, not_shown, tuple(self._at_work))

    def _lines(self, access_list: AccessList) -> Iterator[tuple[AccessList, Entry | None, str]]:
        """Yield the lines of a list, each with the reason why nothing can show it, "" where
        something may.
        """
        stands = bool(self._plan.places_of(access_list))
        for entry in access_list.entries:
            yield access_list, entry, self._asleep(entry) if stands else "the list stands nowhere"
        yield access_list, None, "" if stands else "the list stands nowhere"

    def _asleep(self, entry: Entry) -> str:
        if entry.off:
            return "it is off"
        if not entry.is_awake(self._state):
            return f"{entry.window} is shut at this time"
        return "" if entry.in_force(self._state) else "what it asks of TLS is not tried"

    def _show(self, access_list: AccessList, entry: Entry | None, asleep: str) -> None:
        key = DeciderKey(access_list.name, None if entry is None else entry.number)
        if key in self._wanted.at_work:
            self._at_work.append(key)
            return
        if asleep:
            self._not_shown.append(NotShown(key, None, asleep))
            return
        shown = self._showing(access_list, entry, key)
        found = shown or next(iter(self._deciding.get(key, ())), None)
        if found is None:
            self._not_shown.append(NotShown(key, None, self._why_not(access_list, entry)))
            return
        self._reason(found, SheetReason("counts" if shown is None else "shows", key))
        if entry is not None:
            self._beside(access_list, entry, found, key)

    def _showing(
        self, access_list: AccessList, entry: Entry | None, key: DeciderKey
    ) -> Tried | None:
        """Return a test that shows a line, preferably one that is in the sheet already; None where
        none is found.
        """
        for tried in self._deciding.get(key, ()):
            if self._trying.shows(tried, key):
                return tried
        if entry is None:
            several = [self._candidates.of_rest(access_list)]
        else:
            left = self._candidates.left(access_list, entry)
            if not left:
                return None
            several = [
                self._candidates.of_entry(access_list, entry),
                self._candidates.among(access_list, entry, left),
            ]
        for each in several:
            likely = (one.conversation for one in each if self._may_meet(access_list, one, key))
            for conversation in islice(likely, _MOST_TRIED):
                found = self._try(conversation)
                if found is not None and key in found.deciders and self._trying.shows(found, key):
                    return found
        return None

    def _may_meet(self, access_list: AccessList, candidate: Candidate, key: DeciderKey) -> bool:
        """Whether a line of a list can be the one that decides about a candidate."""
        conversation = candidate.conversation
        first = conversation.first
        if self._plan.translations[first.family]:
            return True  # what the list sees may be another packet
        if candidate.answer:
            legs, answer = legs_of(first, conversation.on_link)
            first = packet_on(first, next(each for each in legs if each.returns), answer)
        return self._indexes.of(access_list)[0].decide(first).number == key.entry

    def _try(self, conversation: Conversation) -> Tried | None:
        key = key_of(conversation)
        if not self._machines.may_send(conversation.source.name):
            return None
        if key not in self._tried:
            found = self._trying.tried(conversation)
            usable = found is not None and found.can in self._wanted.can
            self._tried[key] = found if usable else None
            if found is not None and usable:
                for line in found.deciders:
                    self._deciding.setdefault(line, []).append(found)
        return self._tried[key]

    def _reason(self, tried: Tried, reason: SheetReason) -> None:
        self._reasons.setdefault(key_of(tried.conversation), set()).add(reason)

    def _beside(self, access_list: AccessList, entry: Entry, shown: Tried, key: DeciderKey) -> None:
        for each in self._candidates.beside(access_list, entry, shown.conversation):
            tried = self._try(each)
            if tried is not None and key not in tried.deciders:
                self._reason(tried, SheetReason("beside", key))
                return

    def _claims(self) -> None:
        for claim in self._plan.wanted(self._when.at):
            found = claimed(self._network, claim, self._when)
            if isinstance(found, str):
                self._not_shown.append(NotShown(None, claim, found))
                continue
            for what, several in found.items():
                tried = next(filter(None, map(self._try, several)), None)
                if tried is not None:
                    self._reason(tried, SheetReason(what, None, claim.place))
                elif what == "claimed":
                    reason = "no ping, connection or lookup of a machine is of it"
                    self._not_shown.append(NotShown(None, claim, reason))

    def _add_all_that_is_shown(self) -> None:
        """Add to every test of the sheet all lines that it also shows as reasons."""
        wanted = {each for own in self._reasons.values() for each in own}
        for key, own in self._reasons.items():
            tried = self._tried[key]
            assert tried is not None
            for line in tried.deciders:
                shows, counts = SheetReason("shows", line), SheetReason("counts", line)
                if counts in wanted:
                    own.add(counts)
                if shows in wanted and self._trying.shows(tried, line):
                    own.add(shows)

    def _why_not(self, access_list: AccessList, entry: Entry | None) -> str:
        if entry is None:
            return "no ping, connection or lookup between machines gets as far as it"
        if next(self._candidates.of_entry(access_list, entry), None) is None:
            return (
                "no machine of the plan can send what it asks for by ping, connection or lookup, "
                "so that it comes by where the list stands"
            )
        return "lines above take all of it that machines can send by ping, connection or lookup"

    def _rows(self, chosen: Iterable[SheetKey]) -> Iterator[SheetRow]:
        order = {name: rank for rank, name in enumerate(self._plan.hosts)}
        kinds = list(Can)
        tests = [(self._tried[key], self._reasons[key]) for key in chosen]
        ready = [(tried, reasons) for tried, reasons in tests if tried is not None]
        ready.sort(
            key=lambda each: (
                order.get(each[0].conversation.source.name, len(order)),
                each[0].conversation.first.family,
                kinds.index(each[0].can),
                str(each[0].conversation.destination.name),
            )
        )
        for number, (tried, reasons) in enumerate(ready, 1):
            yield SheetRow(number, tried, tuple(sorted(reasons, key=_rank)))


def _rank(reason: SheetReason) -> tuple[object, ...]:
    line, claim = reason.line, reason.claim
    return (
        ("shows", "counts", "claimed", "left out", "beside").index(reason.what),
        "" if line is None else line.access_list,
        -1 if line is None or line.entry is None else line.entry,
        0 if claim is None else claim.line,
    )
