"""The standard layout of a plan: columns aligned, addresses in their standard form, entries in the
order of their numbers.

Consecutive lines of a kind are one table, and so are the entries of a list. Words are aligned,
never changed, except addresses: hexadecimal in lower case and shortened (RFC 5952), with 0 bits
where a wildcard or a prefix leaves them open. Comments stay with their lines, and a comment above
an entry moves with it.
"""

from __future__ import annotations

from codecs import BOM_UTF8
from collections.abc import Iterator
from functools import lru_cache
from itertools import zip_longest
from typing import NamedTuple

from crossgate.core.model.entry import Kind
from crossgate.core.model.plan import Plan
from crossgate.language.cells import entry_cells, one_cell
from crossgate.language.lines import Line, alike_from_start, file_lines, is_divided
from crossgate.language.syntax import BLOCK_LINES, STATEMENTS

_INDENT = "    "


class _Set(NamedTuple):
    """A line: its cells where it is part of a table, or else its whole text; lines of the same
    `kind` make a table together.
    """

    kind: str
    cells: tuple[str, ...]
    remark: str = ""
    indent: str = ""
    number: int | None = None


def tidied(text: str, file: str, plan: Plan) -> str:
    """Return the text of one of a plan's files in the standard layout; its meaning stays the
    same.
    """
    return _tidied(list(file_lines(file, text)), file, plan, _ending(text))


def tidied_from(start: str, text: str, file: str, plan: Plan) -> str:
    """Return the text of one of a plan's files with the lines from `start` on, the first line of a
    block, in the standard layout.
    """
    lines = list(file_lines(file, text))
    first = next(index for index, line in enumerate(lines) if line.text == start)
    above = "".join(map(_whole, lines[:first]))
    return above + _tidied(lines[first:], file, plan, _ending(text))


def _ending(text: str) -> str:
    return "\r\n" if "\r\n" in text else "\n"


def _tidied(lines: list[Line], file: str, plan: Plan, ending: str) -> str:
    """Return some of a file's lines in the standard layout; no table or list may continue beyond
    them.
    """
    standard: dict[int, bool] = {}
    numbers: dict[int, int] = {}
    first, last = (lines[0].number, lines[-1].number) if lines else (0, -1)
    for each in plan.every_list.values():
        if each.place.file == file and first <= each.place.line <= last:
            standard[each.place.line] = each.kind is Kind.STANDARD
            numbers.update((entry.place.line, entry.number) for entry in each.entries)
    found: list[_Set] = []
    block = ""
    for line in lines:
        if line.number in standard:
            block = Kind.STANDARD if standard[line.number] else Kind.EXTENDED
        elif line.text[:1] not in (" ", "\t", "#", ""):
            block = ""
        found.append(_set(line, block, numbers.get(line.number)))
    whole = ending.join(_tables(list(_ordered(found))))
    return whole + ending if lines and lines[-1].ending.endswith("\n") else whole


def is_tidy(file: str, data: bytes, plan: Plan) -> bool:
    """Whether one of a plan's files is in the standard layout."""
    _, text = _marked(data)
    return tidied(text, file, plan) == text


def kept_tidy(file: str, old: bytes, new: bytes, after: Plan) -> bytes:
    """Return the new bytes of a file in the standard layout, as the old ones were. Only what the
    edit changed is aligned again.
    """
    (_, text), (mark, edited) = _marked(old), _marked(new)
    parts = [_parts(list(file_lines(file, each))) for each in (text, edited)]
    was, now = (["".join(map(_whole, part)) for part in each] for each in parts)
    start = alike_from_start(was, now)
    end = alike_from_start(was[start:][::-1], now[start:][::-1])
    changed = [line for part in parts[1][start : len(now) - end] for line in part]
    sides = "".join(now[:start]), "".join(now[len(now) - end :])
    return mark + _tidied(changed, file, after, _ending(edited)).join(sides).encode()


def _marked(data: bytes) -> tuple[bytes, str]:
    """Return the byte order mark that a file begins with, and its text."""
    mark = BOM_UTF8 if data.startswith(BOM_UTF8) else b""
    return mark, data.removeprefix(mark).decode()


def _whole(line: Line) -> str:
    """Return a line with its ending."""
    return line.text + line.ending


def _parts(lines: list[Line]) -> list[list[Line]]:
    """Return the lines of a file in parts beyond which no table or list continues: a part begins
    with an unindented line after a blank one, or with a list that follows something else.
    """
    found: list[list[Line]] = [[]]
    blank, statement = True, ""
    for line in lines:
        lists = line.text.startswith("list ") and not statement.startswith("list ")
        if found[-1] and (lists or (blank and line.text[:1].strip())):
            found.append([])
        found[-1].append(line)
        blank = not line.text.strip()
        if line.text[:1] != "#":
            statement = line.text
    return found


def _set(line: Line, block: str, number: int | None) -> _Set:
    found = _cells(line.text, block)
    return (
        found
        if number is None
        else found._replace(number=number if found.kind == "entry" else None)
    )


@lru_cache(maxsize=1 << 17)
def _cells(text: str, block: str) -> _Set:
    """Return a line as cells, without the number of an entry; results are kept, since an edit looks
    at the file before and after it.
    """
    remark = ""
    if '"' not in text and "#" not in text and not is_divided(text):
        words = text.split()  # most lines
    else:
        line = Line("", 0, text)
        words = [each.text for each in line.words()]
        remark = line.remark.text if line.remark else ""
    indented = text[:1] in (" ", "\t")
    if not words:
        return _Set("", (), remark, _INDENT if remark and indented else "")
    while "," in words[1:]:  # it belongs to the word before it
        at = words.index(",", 1)
        words[at - 1 : at + 1] = [f"{words[at - 1]},"]
    indent = _INDENT if indented else ""
    row = (BLOCK_LINES if indented else STATEMENTS).get(words[0])
    if indented and block and (row is None or row not in STATEMENTS["list"].block):
        return _Set("entry", entry_cells(words, block == Kind.STANDARD), remark, indent)
    if row is None:
        return _Set(words[0], one_cell(words), remark, indent)
    return _Set(row.table or row.keyword, row.cells(words), remark, indent)


def _ordered(lines: list[_Set]) -> Iterator[_Set]:
    """Yield the lines with each list's entries in the order of their numbers, each together with
    the lines above it that belong to it.
    """
    index = 0
    while index < len(lines):
        if lines[index].kind != "list":
            yield lines[index]
            index += 1
            continue
        end = index + 1
        while end < len(lines) and (
            lines[end].indent or not (lines[end].cells or lines[end].remark)
        ):
            end += 1
        while end > index + 1 and not (lines[end - 1].cells or lines[end - 1].remark):
            end -= 1
        yield lines[index]
        yield from _block(lines[index + 1 : end])
        index = end


def _block(lines: list[_Set]) -> Iterator[_Set]:
    """Yield a list's block in order: what is above the first entry, the entries, the otherwise
    line.
    """
    chunks: list[tuple[int, list[_Set]]] = []
    above: list[_Set] = []
    otherwise: list[_Set] = []
    for line in lines:
        if line.kind == "entry" and line.number is not None:
            chunks.append((line.number, [*above, line]))
            above = []
        elif line.kind == "otherwise":
            otherwise = [*above, line]
            above = []
        else:
            above.append(line)
    numbers = [number for number, _ in chunks]
    late = otherwise and any(each is otherwise[-1] for each in lines[:-1])
    if numbers == sorted(numbers) and not late:
        yield from lines
        return
    head: list[_Set] = []
    if chunks:
        first = chunks[0][1]
        while first[0].kind != "entry" and first[0].kind == "note":
            head.append(first.pop(0))
    yield from head
    for number, chunk in sorted(chunks, key=lambda each: each[0]):
        *others, line = chunk
        yield from others
        yield line._replace(cells=(str(number), *line.cells[1:]))
    yield from above
    yield from otherwise


def _tables(lines: list[_Set]) -> Iterator[str]:
    """Yield the lines as text, consecutive lines of one kind as a table; comment lines do not end
    one, other lines do.
    """
    start = 0
    while start < len(lines):
        kind, end = lines[start].kind, start + 1
        if kind and len(lines[start].cells) > 1:
            last = end
            while end < len(lines) and (lines[end].kind == kind or _goes_on(lines[end], kind)):
                end += 1
                if lines[end - 1].kind == kind:
                    last = end
            end = last
        yield from _table(lines[start:end], kind)
        start = end


def _goes_on(line: _Set, kind: str) -> bool:
    """Whether a line may be inside a table: a comment by itself, or a note between entries."""
    return (not line.cells and bool(line.remark)) or (kind == "entry" and line.kind == "note")


def _table(lines: list[_Set], kind: str) -> Iterator[str]:
    rows = [line.cells for line in lines if line.kind == kind]
    widths = [max(map(len, column)) for column in zip_longest(*rows, fillvalue="")]
    bodies = []
    for line in lines:
        if line.kind == kind and len(line.cells) > 1:
            cells = [
                cell.ljust(width) for cell, width in zip(line.cells, widths, strict=False) if width
            ]
            bodies.append(line.indent + " ".join(cells).rstrip())
        else:
            bodies.append(line.indent + " ".join(line.cells))
    remarked = [
        len(body) for body, line in zip(bodies, lines, strict=True) if line.remark and line.cells
    ]
    for body, line in zip(bodies, lines, strict=True):
        if line.remark and line.cells:
            yield f"{body.ljust(max(remarked))}  {line.remark.rstrip()}"
        else:
            yield body + line.remark.rstrip()
