"""Text to text: changes of a plan's lines that leave every other byte as it is.

1. An edit knows where things stand from the plan that was read (every entry, list and placement has its place).
2. It takes out, puts in and replaces whole lines, with the line ending and the indentation of their neighbours.
3. An entry written without a number has one that depends on the entries above it; where an edit would change that, the
   number is written down first, so that no other entry is ever renumbered.
"""

from __future__ import annotations

import re
from dataclasses import dataclass, field, replace
from datetime import datetime
from pathlib import Path
from typing import NamedTuple

from crossgate.core.answers.verify import Verifier
from crossgate.core.audit import Finding, audit
from crossgate.core.model.accesslist import MOST_NUMBER, AccessList, Entry, Kind
from crossgate.core.model.address import Family
from crossgate.core.model.errors import Place, PlanError, unknown
from crossgate.core.model.network import Direction, Placement, Point
from crossgate.core.model.plan import Plan
from crossgate.core.traffic.session import Session
from crossgate.language.claims import where
from crossgate.language.entries import header, one_entry
from crossgate.language.fence import Asked, fence, first_line, without_fence
from crossgate.language.fence import last_line as closing_line
from crossgate.language.layout import tidied
from crossgate.language.lines import Line
from crossgate.language.reader import Reading, read
from crossgate.language.source import decode
from crossgate.language.words import Words

GIVEN = "the text given"
_MARK = b"\xef\xbb\xbf"
"""The byte order mark that some editors put before UTF-8 text."""
_NUMBERED = re.compile(r"(\s*)([0-9]{1,18})(\s+)")
_COMMENT = re.compile(r'("[^"]*")|(\s*#.*)')


@dataclass(slots=True)
class _Place:
    """An old line with its ending, None once it is taken out, and what has been put above and below it."""

    line: str | None
    above: list[str] = field(default_factory=list)
    below: list[str] = field(default_factory=list)

    def text(self) -> str:
        """Return what stands there now."""
        return "".join((*self.above, self.line or "", *self.below))


class Draft:
    """A plan's files as lines to be changed. Line numbers are those of the plan as it was read, whatever is changed."""

    def __init__(self, reading: Reading) -> None:
        self.plan = reading.plan
        self.names = reading.names
        self.data = reading.data
        self._files: dict[str, list[_Place]] = {}

    def _lines(self, file: str) -> list[_Place]:
        """Return the lines of a file; the first is at index 0. Line feeds and nothing else end one, as for the reader."""
        if file not in self._files:
            text = decode(Path(file), self.data[file].removeprefix(_MARK))
            self._files[file] = [_Place(line) for line in re.findall(r"[^\n]*\n|[^\n]+", text)]
        return self._files[file]

    def _at(self, place: Place) -> _Place:
        return self._lines(place.file)[place.line - 1]

    def text(self, place: Place) -> str:
        """Return the line at a place without its ending."""
        return (self._at(place).line or "").rstrip("\r\n")

    def replace(self, place: Place, text: str) -> None:
        """Put another line in the place of one."""
        self._at(place).line = text + _ending(self._at(place).line or "\n")

    def drop(self, place: Place) -> None:
        """Take a line out."""
        self._at(place).line = None

    def after(self, place: Place, *texts: str) -> None:
        """Put lines below one; a last line without a line ending leaves the file without one."""
        ending, at = self._newline(place.file), self._at(place)
        if place.line == len(self._lines(place.file)) and not _ending(at.text()):
            if at.below:
                at.below[-1] += ending
            elif at.line is not None:
                at.line += ending
            at.below += [text + ending for text in texts[:-1]] + [texts[-1]]
        else:
            at.below += [text + ending for text in texts]

    def before(self, place: Place, *texts: str) -> None:
        """Put lines above one."""
        self._at(place).above += [text + self._newline(place.file) for text in texts]

    def append(self, *texts: str) -> None:
        """Put lines at the end of the plan's own file."""
        file = self.plan.files[0]
        lines = self._lines(file)
        if not lines:
            lines.append(_Place(""))
        self.after(Place(file, len(lines)), *texts)

    def _newline(self, file: str) -> str:
        return "\r\n" if b"\r\n" in self.data[file] else "\n"

    def whole(self, file: str) -> str:
        """Return a file's whole text as it stands."""
        return "".join(line.text() for line in self._lines(file))

    def rewrite(self, file: str, text: str) -> None:
        """Put another text in the place of a whole file's; its lines cannot be told apart after that."""
        self._files[file] = [_Place(text)]

    def result(self) -> dict[str, bytes]:
        """Return the files that have changed, as bytes."""
        changed = {}
        for file in self._files:
            mark = _MARK if self.data[file].startswith(_MARK) else b""
            data = mark + self.whole(file).encode()
            if data != self.data[file]:
                changed[file] = data
        return changed


def _ending(line: str) -> str:
    return "\r\n" if line.endswith("\r\n") else "\n" if line.endswith("\n") else ""


def find_list(plan: Plan, name: str) -> AccessList:
    """Return a list by its name. Raises `PlanError`."""
    return plan.access_list(name)


def find_entry(access_list: AccessList, number: int) -> Entry:
    """Return an entry by its number. Raises `PlanError`."""
    for entry in access_list.entries:
        if entry.number == number:
            return entry
    known = [str(entry.number) for entry in access_list.entries]
    raise PlanError(unknown(f"entry in list {access_list.name} with number", str(number), known))


def given_entry(draft: Draft, access_list: AccessList, text: str) -> Entry:
    """Read an entry that a person gave for a list; errors point into that text. Raises `PlanError`."""
    if not text.strip() or text.strip().startswith("#") or "\n" in text:
        raise PlanError("an entry is one line: an action, then what it is for, as: permit tcp/443 any to any")
    return one_entry(Line(GIVEN, 1, text), draft.names, access_list.kind, access_list.family, 0)


def unnumbered(text: str) -> tuple[str, int | None]:
    """Return an entry's text without its number, and the number, None where it has none."""
    found = re.match(r"\s*([0-9]{1,18})\s+(.*)", text)
    return (found[2].strip(), int(found[1])) if found else (text.strip(), None)


def number_between(access_list: AccessList, before: Entry | None, after: Entry | None) -> int:
    """Return a free number between two entries that follow each other, None for the ends of the list. Raises `PlanError`."""
    low = before.number if before else 0
    if after is None:
        if low + 1 > MOST_NUMBER:
            raise PlanError(f"{low} is the last number that there is; make room with: crossgate list renumber {access_list.name}")
        return min((low // 10 + 1) * 10, MOST_NUMBER)
    if after.number - low < 2:
        where = f"between {low} and {after.number}" if before else f"before {after.number}"
        raise PlanError(f"no number is free {where}; make room with: crossgate list renumber {access_list.name}")
    ten = (low // 10 + 1) * 10
    return ten if ten < after.number else (low + after.number) // 2


def add_entry(draft: Draft, access_list: AccessList, number: int, text: str) -> None:
    """Write an entry with a number into a list. Raises `PlanError` when the number is taken."""
    taken = next((entry for entry in access_list.entries if entry.number == number), None)
    if taken is not None:
        raise PlanError(
            f"list {access_list.name} has an entry {number} in line {taken.place.line} already; change it, or give another number"
        )
    _insert(draft, access_list, number, text, list(access_list.entries))


def drop_entry(draft: Draft, access_list: AccessList, entry: Entry) -> None:
    """Take an entry out of a list."""
    follower = _unnumbered_below(draft, access_list, entry.place.line)
    if follower is not None and follower.number == entry.number + 10:
        _number(draft, follower)
    draft.drop(entry.place)


def move_entry(draft: Draft, access_list: AccessList, entry: Entry, number: int) -> None:
    """Give an entry another number, and its line the place that goes with it."""
    line = draft.text(entry.place)
    found = _NUMBERED.match(line)
    drop_entry(draft, access_list, entry)
    others = [each for each in access_list.entries if each is not entry]
    _insert(draft, access_list, number, line[found.end() :] if found else line.lstrip(), others or [entry])


def change_entry(draft: Draft, entry: Entry, text: str) -> None:
    """Write another text for an entry; its number, its comments and whether it is off stay unless the text says otherwise."""
    line = draft.text(entry.place)
    start = len(line) - len(line.lstrip())
    found = _NUMBERED.match(line)
    if found:
        start = found.end()
    remark = next((match[0] for match in _COMMENT.finditer(line) if match[2]), "")
    off = "off " if entry.off and not text.startswith("off ") else ""
    comment = f' "{entry.comment}"' if entry.comment and '"' not in text else ""
    draft.replace(entry.place, f"{line[:start]}{off}{text.strip()}{comment}{remark}")


def switch_entry(draft: Draft, entry: Entry, off: bool) -> None:
    """Write `off` before an entry's action, or take it away."""
    line = draft.text(entry.place)
    found = _NUMBERED.match(line)
    start = found.end() if found else len(line) - len(line.lstrip())
    if off:
        draft.replace(entry.place, f"{line[:start]}off {line[start:]}")
    else:
        draft.replace(entry.place, line[:start] + re.sub(r"^off\s+", "", line[start:]))


def _unnumbered_below(draft: Draft, access_list: AccessList, line: int) -> Entry | None:
    """Return the first entry below a line that is written without a number, and has not been taken out."""
    below = sorted((entry for entry in access_list.entries if entry.place.line > line), key=lambda entry: entry.place.line)
    return next((entry for entry in below if (text := draft.text(entry.place)) and not _NUMBERED.match(text)), None)


def _number(draft: Draft, entry: Entry) -> None:
    """Write down the number of an entry that is written without one."""
    line = draft.text(entry.place)
    indent = len(line) - len(line.lstrip())
    draft.replace(entry.place, f"{line[:indent]}{entry.number} {line[indent:]}")


def _insert(draft: Draft, access_list: AccessList, number: int, body: str, others: list[Entry]) -> None:
    """Put an entry's line below that of the entry before it, else above that of the one after it, else below the list's head."""
    before = [entry for entry in others if entry.number < number]
    after = [entry for entry in others if entry.number > number]
    near = before[-1] if before else after[0] if after else None
    lead = re.match(r"\s*", draft.text(near.place)) if near else None
    text = f"{lead[0] if lead and lead[0] else '    '}{number} {body}"
    follower = _unnumbered_below(draft, access_list, near.place.line if before and near else access_list.place.line)
    if follower is not None and follower.number < number + 10:
        _number(draft, follower)
    if before:
        draft.after(before[-1].place, text)
    elif after:
        draft.before(after[0].place, text)
    else:
        draft.after(max([access_list.place, *(note.place for note in access_list.notes)], key=lambda place: place.line), text)


def new_list(draft: Draft, name: str, kind: Kind, family: Family) -> None:
    """Write an empty list behind the last one. Raises `PlanError` when there is one of that name, or the name is none."""
    words = Words(Line(GIVEN, 1, f"list {name} {kind} {family.word}"))
    header(words)
    plan = draft.plan
    if name in plan.lists:
        raise PlanError(f"there is a list {name} already (line {plan.lists[name].place.line}); give the new one another name")
    texts = ("", f"list {name} {kind} {family.word}")
    own = [each for each in plan.lists.values() if each.place.file == plan.files[0]]
    if own:
        draft.after(last_line(max(own, key=lambda each: each.place.line)), *texts)
    else:
        draft.append(*texts)


def last_line(access_list: AccessList) -> Place:
    """Return where the last line of a list stands."""
    places = [access_list.place, access_list.otherwise.place, *(note.place for note in access_list.notes)]
    return max([*places, *(entry.place for entry in access_list.entries)], key=lambda place: place.line)


def drop_list(draft: Draft, access_list: AccessList) -> None:
    """Take a list with its block out. Raises `PlanError` while it is placed."""
    placed = [placement for placement in draft.plan.placements if placement.access_list == access_list.name]
    if placed:
        lines = ", ".join(str(placement.place.line) for placement in placed)
        raise PlanError(f"list {access_list.name} stands in the network (line {lines}); first: crossgate lift {access_list.name}")
    last = last_line(access_list)
    for number in range(access_list.place.line, last.line + 1):
        draft.drop(Place(access_list.place.file, number))


def renumber(draft: Draft, access_list: AccessList, start: int, step: int) -> dict[int, int]:
    """Number a list's entries anew in their order, and mend what speaks of them; return the new numbers by the old ones."""
    if access_list.entries and start + step * (len(access_list.entries) - 1) > MOST_NUMBER:
        raise PlanError(f"{len(access_list.entries)} entries from {start} in steps of {step} go beyond {MOST_NUMBER}; take a smaller step")
    numbers = {entry.number: start + step * index for index, entry in enumerate(access_list.entries)}
    for entry in access_list.entries:
        line = draft.text(entry.place)
        found = _NUMBERED.match(line)
        if found:
            draft.replace(entry.place, f"{found[1]}{_padded(numbers[entry.number], found)}{line[found.end() :]}")
        else:
            _number(draft, replace(entry, number=numbers[entry.number]))
    mentions = [
        (each.place, each.by.entry, "by") for each in draft.plan.expectations if each.by and each.by.access_list == access_list.name
    ]
    mentions += [(each.place, each.entry, "in") for each in draft.plan.acceptances if each.access_list == access_list.name]
    for place, number, word in mentions:
        if number is not None:
            pattern = rf"(\b{word}\s+{re.escape(access_list.name)}\s+){number}\b"
            draft.replace(place, re.sub(pattern, rf"\g<1>{numbers[number]}", draft.text(place), count=1))
    return numbers


def _padded(number: int, found: re.Match[str]) -> str:
    """Write a number in the room that another took with the blanks behind it, at least one blank."""
    return str(number).ljust(len(found[2]) + len(found[3]) - 1) + " "


def point_given(draft: Draft, words: str) -> Point:
    """Read where a list is to stand: POINT, `subnet NAME` or `DEVICE itself`. Raises `PlanError`."""
    given = Words(Line(GIVEN, 1, words))
    given.accept("on")
    point = where(given, draft.names)
    given.end()
    return point


def place_list(draft: Draft, access_list: AccessList, direction: Direction, point: Point) -> None:
    """Write a placement behind the last one. Raises `PlanError` where one of the family stands already."""
    for placement in draft.plan.placements:
        other = draft.plan.lists[placement.access_list]
        if (placement.point, placement.direction, other.family) == (point, direction, access_list.family):
            again = "" if other is access_list else f"; first: crossgate lift {other.name} {direction} {point}"
            raise PlanError(f"{other.name} stands {direction} on {point} already (line {placement.place.line}){again}")
    text = f"place {access_list.name} {direction} on {point}"
    own = [placement.place for placement in draft.plan.placements if placement.place.file == draft.plan.files[0]]
    if own:
        draft.after(max(own, key=lambda place: place.line), text)
    else:
        draft.append("", text)


def lift_list(draft: Draft, access_list: AccessList, direction: Direction | None, point: Point | None) -> list[Placement]:
    """Take placements of a list out, all of them or those in one direction, at one point. Raises `PlanError` when there is none."""
    found = [
        placement
        for placement in draft.plan.placements
        if placement.access_list == access_list.name
        and direction in (None, placement.direction)
        and point in (None, placement.point)
    ]  # fmt: skip
    if not found:
        where_to = "" if direction is None else f" {direction}" + ("" if point is None else f" on {point}")
        stands = [f"{each.direction} on {each.point}" for each in draft.plan.placements if each.access_list == access_list.name]
        raise PlanError(
            f"{access_list.name} does not stand{where_to or ' anywhere'}" + (f"; it stands {' and '.join(stands)}" if stands else "")
        )
    for placement in found:
        draft.drop(placement.place)
    return found


def write_fence(draft: Draft, path: Path, asked: Asked, now: datetime) -> list[str]:
    """Write a fence around a subnet at the plan's end; return the expectations that would not hold, which are left out.

    What the fence's own lists are found fault with, by what the person asked to leave open, is accepted with that reason.
    """
    made = fence(draft.plan, asked)
    claims = [text for each in made.expectations for text in (each.whole, *each.parts)]
    verifier = Verifier(Session(_fenced(draft, path, asked, made.lines(claims)).plan))
    known = {each.text: each for each in verifier.network.plan.expectations}
    held: list[str] = []
    unproved: list[str] = []
    for each in made.expectations:
        if verifier.verify(known[each.whole]).held:
            held.append(each.whole)
            continue
        for part in each.parts:
            (held if verifier.verify(known[part]).held else unproved).append(part)

    def findings() -> list[Finding]:
        plan = _fenced(draft, path, asked, made.lines(held)).plan
        own = {name: {entry.number for entry in plan.lists[name].entries} for name in plan.lists.keys() - draft.plan.lists.keys()}
        return [found for found in audit(Session(plan), now, focus=own).findings if found.access_list in own]

    faults = findings()
    needless = {(each.access_list or "", each.entry or 0) for each in faults if each.name == "no-effect"}
    if needless:
        made = made.without(needless)
        faults = findings()
    accepted = [
        f'accept {found.name} in {found.access_list}{"" if found.entry is None else f" {found.entry}"} "{_OPEN[found.name]}"'
        for found in faults
        if found.name in _OPEN
    ]
    lines = made.lines(held, dict.fromkeys(accepted))
    # Set in the usual layout by itself: nothing above it is touched.
    file = draft.plan.files[0]
    trial = _fenced(draft, path, asked, lines)
    whole, usual = trial.text, tidied(trial.text, file, trial.plan)
    start = first_line(asked.subnet)
    draft.rewrite(file, whole[: whole.index(start)] + usual[usual.index(start) :])
    return unproved


_OPEN = {"spoofable": "left open by the fence's exceptions", "one-family": "the other family has no other subnet to keep it from"}


class _Trial(NamedTuple):
    """A plan with a fence that is to be tried, and the text of its file."""

    plan: Plan
    text: str


def _fenced(draft: Draft, path: Path, asked: Asked, lines: list[str]) -> _Trial:
    trial = Draft(Reading(draft.plan, draft.names, draft.data))
    trial.append("", first_line(asked.subnet), *lines, closing_line(asked.subnet))
    return _Trial(read(path, {**draft.data, **trial.result()}).plan, trial.whole(draft.plan.files[0]))


def undo_fence(draft: Draft, subnet: str) -> None:
    """Take away a fence that was written around a subnet. Raises `PlanError` when there is none."""
    for file in draft.plan.files:
        text = without_fence(draft.whole(file), subnet)
        if text is not None:
            draft.rewrite(file, text)
            return
    raise PlanError(f"there is no fence around {subnet} between its two comment lines ({first_line(subnet)}); see: crossgate lists")
