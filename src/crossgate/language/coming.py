"""Lists from other formats, as they are read: rules in their order, where the lists are placed, and
remarks about them. `importing` writes them into a plan.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass, field
from typing import NamedTuple

from crossgate.core.lists.rules import Rule
from crossgate.core.model.address import Family, everything
from crossgate.core.model.entry import Action, Kind
from crossgate.core.model.errors import PlanError
from crossgate.core.model.network import Direction, Point
from crossgate.core.model.plaintext import numeral
from crossgate.language.coming_network import ComingDevice, ComingSegment
from crossgate.language.plain_names import list_name


class ComingRule(NamedTuple):
    """A rule that is imported, whether something that it asks was lost, how often it decided, and
    its name there.
    """

    rule: Rule
    lost: bool
    hits: int
    called: str


class ComingEntry(NamedTuple):
    """An entry that is imported as text: its number, its text from `off` or its action on, and how
    often it decided.
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
    """A list that is imported, as rules, or as entries that are written already; without a family
    it is an ethernet list, and has no rules.
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
        """Add a rule after the others; `lost` is what it asks that this language cannot say: see
        `without`. Raises `PlanError` where the list would permit more than its source does.
        """
        self.rules.append(rule)
        self._items.append(ComingRule(rule, self.without(lost, rule.action), hits, called))

    def without(self, lost: Sequence[str], action: Action) -> bool:
        """Return whether an entry must be off because this language cannot say `lost`, what it
        asks; a note tells what that was.

        A permit that is off permits less. A denial that is off would permit more; without the
        condition it denies more, which is allowed where the list may permit `less` than its source.
        Raises `PlanError` for other denials.
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
        """Turn the last rule into the otherwise line where it is about all that is left, and return
        whether the list says what becomes of the rest.

        A rule that has lost a condition does not take all. `rest` is what becomes of packets that
        no rule takes, None where that is unknown. Where the last rule is `plain`, the otherwise
        line replaces it.
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
        """Add a remark, unless it is there already."""
        if text not in self.notes:
            self.notes.append(text)

    def count(self, called: str, hits: int) -> None:
        """Add to the number of times a rule decided at one place; used only where the list does not
        give the number for all places.
        """
        self._counted[called] += hits

    def items(self) -> Iterator[ComingRule]:
        """Yield the rules that are left, each with how often it decided."""
        for each in self._items[: len(self.rules)]:
            yield each._replace(hits=each.hits or self._counted[each.called])

    def hits_otherwise(self) -> int:
        """Return how often the rule that became the otherwise line decided."""
        return sum(
            each.hits or self._counted[each.called] for each in self._items[len(self.rules) :]
        )


class ComingPlace(NamedTuple):
    """Where a list is placed, and where the document says so."""

    of: ComingList
    direction: Direction
    point: Point
    said_at: str


@dataclass
class Coming:
    """All that is imported from one file; `told` is what the file says that has no meaning here."""

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
        """Add a list under a name that a plan can have; `apart` where a list of the other family
        gets the same name.
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
