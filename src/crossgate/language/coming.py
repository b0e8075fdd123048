"""Lists that come in from other formats, as they are read: rules in the order in which they are
asked, where the lists stand, and what is told of them. `importing` writes them into a plan.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass, field
from typing import NamedTuple

from crossgate.core.lists.rules import Rule
from crossgate.core.model.accesslist import Action, Kind
from crossgate.core.model.address import Family, everything
from crossgate.core.model.errors import PlanError
from crossgate.core.model.network import Direction, Point
from crossgate.core.model.plaintext import numeral
from crossgate.language.network import ComingDevice, ComingSegment
from crossgate.language.plain_names import list_name


class ComingRule(NamedTuple):
    """A rule, whether something that it asks was lost, how often it decided, and what it was
    called.
    """

    rule: Rule
    lost: bool
    hits: int
    called: str


class ComingEntry(NamedTuple):
    """An entry that comes in: its number and its text from `off` or its action on; and how often it
    decided.
    """

    number: int
    text: str
    hits: int = 0


def takes_all(rule: Rule) -> bool:
    """Whether a rule takes every packet of its family."""
    every = everything(rule.source.family)
    asked = Rule(
        rule.action,
        None,
        every,
        every,
        log=rule.log,
        number=rule.number,
        part=rule.part,
        parts=rule.parts,
        comment=rule.comment,
    )
    return rule == asked


@dataclass(eq=False)
class ComingList:
    """A list that comes in, as rules, or as entries that are written already; without a family it
    is for frames, and has no rules.
    """

    name: str
    family: Family | None
    kind: Kind | None = None
    rules: list[Rule] = field(default_factory=list)
    entries: list[ComingEntry] = field(default_factory=list)
    notes: list[str] = field(default_factory=list)
    otherwise: Action | None = None
    until: str = ""
    """The day to which it is wanted, "" for none."""
    owner: str = ""
    less: bool = False
    """Whether the list may let by less than its source, where it cannot do the same."""
    _items: list[ComingRule] = field(default_factory=list)
    _counted: Counter[str] = field(default_factory=Counter)

    def add(self, rule: Rule, lost: Sequence[str] = (), hits: int = 0, called: str = "") -> None:
        """Add a rule behind the others; `lost` is what it asks that has no word here: see
        `without`.

        Raises `PlanError` where the list would let by more than its source.
        """
        self.rules.append(rule)
        self._items.append(ComingRule(rule, self.without(lost, rule.action), hits, called))

    def without(self, lost: Sequence[str], action: Action) -> bool:
        """Whether an entry must be off since it asks what has no word here, `lost`; a note tells
        what it was.

        A permit that is off lets by less. A denial would let by more if it were off; without the
        condition it stops more, which is done where the list may let by `less` than its source.
        Raises `PlanError` for a denial otherwise.
        """
        if action is not Action.PERMIT and lost and not self.less:
            raise PlanError(
                f"{lost[0]} has no word here, and list {self.name} would let by more without this "
                f"{action}; "
                f"--approximate brings it in without that condition, so that it stops more"
            )
        for each in lost:
            if action is Action.PERMIT:
                self.note(f"an entry is off for this: {each} has no word here")
            else:
                self.note(f"an entry stops more than its source did: {each} has no word here")
        return bool(lost) and action is Action.PERMIT

    def close(self, rest: Action | None, plain: Callable[[Rule], bool]) -> bool:
        """Let the otherwise line be what the last rule says of all that is left; whether the list
        says what becomes of the rest.

        A rule that has lost a condition takes not all. `rest` is what becomes of what no rule
        takes, None where that is not told. Where the last rule is `plain`, the line stands in its
        place.
        """
        taking = [
            index
            for index, each in enumerate(self._items)
            if not each.lost and takes_all(each.rule)
        ]
        if not taking:
            self.otherwise = rest
            return rest is not None
        self.otherwise = self.rules[taking[-1]].action
        if taking[-1] == len(self.rules) - 1 and plain(self.rules[-1]):
            self.rules.pop()
        return True

    def note(self, text: str) -> None:
        """Add a remark, once."""
        if text not in self.notes:
            self.notes.append(text)

    def count(self, called: str, hits: int) -> None:
        """Add to how often a rule of some name decided at one place; it counts where the list does
        not say so of all places.
        """
        self._counted[called] += hits

    def items(self) -> Iterator[ComingRule]:
        """Yield the rules that are left, with their hits."""
        for each in self._items[: len(self.rules)]:
            yield each._replace(hits=each.hits or self._counted[each.called])

    def hits_otherwise(self) -> int:
        """Return how often the rule decided that became the otherwise line."""
        return sum(
            each.hits or self._counted[each.called] for each in self._items[len(self.rules) :]
        )


class ComingPlace(NamedTuple):
    """Where a list stands, and where the document says so."""

    of: ComingList
    direction: Direction
    point: Point
    said_at: str


@dataclass
class Coming:
    """All that comes in from one file; `told` is what it says that has no meaning here."""

    file: str
    lists: list[ComingList] = field(default_factory=list)
    places: list[ComingPlace] = field(default_factory=list)
    devices: list[ComingDevice] = field(default_factory=list)
    segments: list[ComingSegment] = field(default_factory=list)
    told: list[str] = field(default_factory=list)
    less: bool = False
    """Whether lists may let by less than their sources."""

    def new_list(
        self, name: str, family: Family | None, apart: bool = False, kind: Kind | None = None
    ) -> ComingList:
        """Add a list under a name that a plan may have; `apart` where the other family gets one of
        the same name.
        """
        own = list_name(name)
        if apart and family is Family.IPV6:
            own += "-6"
            self.told.append(
                f"{name} is for both families, and becomes {list_name(name)} and {own}"
            )
        taken = {each.name for each in self.lists}
        while own in taken:
            stem, _, last = own.rpartition("-")
            again = numeral(last) if stem else None
            own = f"{own}-2" if again is None else f"{stem}-{again + 1}"
        if own != name and not apart:
            self.told.append(f"the list named {name} becomes {own}")
        found = ComingList(own, family, kind, less=self.less)
        self.lists.append(found)
        return found
