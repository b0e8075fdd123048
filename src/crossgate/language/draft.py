"""A plan's files as lines to be changed, every other byte left as it is.

Line numbers are those of the plan as it was read, whatever has been changed since.
"""

from __future__ import annotations

from codecs import BOM_UTF8
from collections.abc import Callable, Collection, Mapping, Sequence
from dataclasses import dataclass, field
from difflib import SequenceMatcher
from pathlib import Path

from crossgate.core.answers.names_alone import Renamed
from crossgate.core.answers.verify import Verified
from crossgate.core.model.errors import Place, PlanError
from crossgate.core.traffic.session import Session
from crossgate.language.lines import Line, file_lines
from crossgate.language.reader import Reading
from crossgate.language.source import decode

GIVEN = "the text given"
"""Where errors say that a text stands which a person gave on the command line."""


@dataclass(slots=True)
class _Slot:
    """An old line, None once it is removed, and the lines inserted above and below it, with their
    endings.

    `heads` says that the removed line began at the left margin.
    """

    line: Line | None
    heads: bool = False
    above: list[str] = field(default_factory=list)
    below: list[str] = field(default_factory=list)

    def text(self) -> str:
        """Return the text that is there now."""
        own = self.line.text + self.line.ending if self.line else ""
        return "".join((*self.above, own, *self.below))


class Draft:
    """A plan's files as lines to be changed. Line numbers are those of the plan as it was read,
    whatever is changed.

    An edit leaves in `remarks` what it has to tell beyond its sentence. An edit that writes
    expectations which it has proved already, for the network and lists that it writes, leaves them
    in `proved`, by text. One that has tried its result leaves the session of that plan in `tried`.
    One that gives something another name, and leaves everything where it is, says so in `renamed`.
    """

    def __init__(self, reading: Reading, session: Session | None = None) -> None:
        """Make it; a `session` of the plan is used again where there is one."""
        self.reading = reading
        self.plan = reading.plan
        self._session = session
        self.names = reading.names
        self.data = reading.data
        self.proved: Mapping[str, Verified] = {}
        self.tried: Session | None = None
        self.renamed: Renamed | None = None
        self.remarks: list[str] = []
        self._files: dict[str, list[_Slot]] = {}
        self._whole: dict[str, bytes] = {}
        self.explained: Callable[[PlanError], PlanError] = lambda error: error
        """Tells an error of the changed plan as whoever gave what was written understands it."""
        self.exact = False
        """Whether what is written is to stay as it is, also where a tidy file would be no more."""

    @property
    def session(self) -> Session:
        """The session of the plan as it was read."""
        if self._session is None:
            self._session = Session(self.plan)
        return self._session

    def _slots(self, file: str) -> list[_Slot]:
        """Return the lines of a file; the first is at index 0."""
        if file not in self._files:
            text = decode(Path(file), self.data[file].removeprefix(BOM_UTF8))
            self._files[file] = [_Slot(line) for line in file_lines(file, text)]
        return self._files[file]

    def _at(self, place: Place) -> _Slot:
        return self._slots(place.file)[place.line - 1]

    def line(self, place: Place) -> Line:
        """Return the line at a place; a removed one is empty."""
        return self._at(place).line or Line(place.file, place.line, "", "")

    def replace(self, place: Place, text: str) -> None:
        """Replace the text of a line; its ending stays."""
        self._at(place).line = self.line(place)._replace(text=text)

    def drop(self, place: Place) -> None:
        """Remove a line."""
        at = self._at(place)
        at.heads = not self.line(place).indent
        at.line = None

    def merge_block(
        self, first: Place, last: Place, texts: Sequence[str], keep: Collection[Place] = ()
    ) -> None:
        """Replace the lines from one to another by new ones; lines that say the same stay as they
        are, as do comments, blank lines, and those to `keep`.
        """
        places = [Place(first.file, number) for number in range(first.line, last.line + 1)]
        said = [(place, self.line(place).text.split()) for place in places]
        said = [(place, words) for place, words in said if words and not words[0].startswith("#")]
        before, after = [" ".join(words) for _, words in said], [" ".join(t.split()) for t in texts]
        above = first
        for kind, start, end, begin, stop in SequenceMatcher(
            None, before, after, autojunk=False
        ).get_opcodes():
            if kind == "equal":
                above = said[end - 1][0]
                continue
            new = list(texts[begin:stop])
            for place, words in said[start:end]:
                if place in keep:
                    above = place
                elif new:
                    remark = self.line(place).remark
                    same = remark is not None and new[0].split()[0] == words[0]
                    self.replace(
                        place, new.pop(0) + (f"  {remark.text}" if same and remark else "")
                    )
                    above = place
                else:
                    self.drop(place)
            if new:
                self.after(above, *new)

    def after(self, place: Place, *texts: str) -> None:
        """Insert lines below one; where the last line has no line ending, the file still ends
        without one.
        """
        ending, at = self._newline(place.file), self._at(place)
        if place.line == len(self._slots(place.file)) and not at.text().endswith("\n"):
            if at.below:
                at.below[-1] += ending
            elif at.line is not None:
                at.line = at.line._replace(ending=ending)
            at.below += [text + ending for text in texts[:-1]] + [texts[-1]]
        else:
            at.below += [text + ending for text in texts]

    def before(self, place: Place, *texts: str) -> None:
        """Insert lines above one."""
        self._at(place).above += [text + self._newline(place.file) for text in texts]

    def beside(self, places: Sequence[Place], *texts: str) -> None:
        """Insert lines below the last of some places, preferring places in the plan's own file;
        without places, at the end of the plan.
        """
        files = self.plan.files
        here = [each for each in places if each.file == files[0]] or places
        if here:
            self.after(max(here, key=lambda each: (files.index(each.file), each.line)), *texts)
        else:
            self.append(*([] if texts[0] == "" else [""]), *texts)

    def append(self, *texts: str) -> None:
        """Add lines at the end of the plan's own file."""
        file = self.plan.files[0]
        slots = self._slots(file)
        if not slots:
            slots.append(_Slot(Line(file, 1, "", "")))
        blank = not slots[-1].text().strip()
        self.after(Place(file, len(slots)), *(texts[1:] if blank and texts[0] == "" else texts))

    def _newline(self, file: str) -> str:
        return "\r\n" if b"\r\n" in self.data[file] else "\n"

    def whole(self, file: str) -> str:
        """Return a file's whole text as it is now."""
        return "".join(slot.text() for slot in self._slots(file))

    def rewrite(self, file: str, text: str) -> None:
        """Replace a file's whole text; its lines cannot be addressed after that."""
        self._files[file] = [_Slot(Line(file, 1, text, ""))]

    def put(self, file: str, data: bytes) -> None:
        """Replace a file's bytes, which are then written exactly so."""
        self._whole[file] = data

    def _close_gaps(self, file: str) -> None:
        """Remove the double blank lines, and those at the end, that removed statements leave."""
        slots = self._slots(file)
        index = 0
        while index < len(slots):
            start = index
            while index < len(slots) and slots[index].text() == "":
                index += 1
            gone = index > start
            if any(each.heads for each in slots[start:index]) and (
                start == 0 or not slots[start - 1].text().strip()
            ):
                while (
                    index < len(slots)
                    and slots[index].line is not None
                    and not slots[index].text().strip()
                ):
                    slots[index].line = None
                    index += 1
                while index == len(slots) and start and not slots[start - 1].text().strip():
                    slots[start - 1].line = None
                    start -= 1
            index += not gone

    def result(self) -> dict[str, bytes]:
        """Return the files that have changed, as bytes."""
        changed = {file: data for file, data in self._whole.items() if data != self.data[file]}
        for file in self._files:
            mark = BOM_UTF8 if self.data[file].startswith(BOM_UTF8) else b""
            self._close_gaps(file)
            text = self.whole(file)
            if not self.data[file].endswith(b"\n"):
                text = text.removesuffix(self._newline(file))
            data = mark + text.encode()
            if data != self.data[file]:
                changed[file] = data
        return changed
