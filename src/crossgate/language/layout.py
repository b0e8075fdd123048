"""A plan in one layout: columns aligned, addresses in their usual form, entries in the order of their numbers.

Lines of a kind that follow each other are one table, and so are the entries of a list. Words are only set anew, never
changed, but for addresses: hexadecimal in lower case and shortened (RFC 5952), no bits where a wildcard or a prefix
leaves them open. Comments stay with their lines, and a comment above an entry moves with it.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator, Sequence
from itertools import zip_longest
from typing import NamedTuple

from crossgate.core.model.address import (
    AddressError,
    Pattern,
    format_address,
    looks_like_address,
    parse_address,
    parse_prefix,
    parse_range,
    prefix,
)
from crossgate.core.model.plan import Plan

_INDENT = "    "
_WORD = re.compile(r'"[^"]*"?|#.*|[^\s"#]+')
_ACTIONS = ("permit", "deny", "reject")


class _Set(NamedTuple):
    """One line: its cells where it is part of a table, else its whole text; `kind` tells which lines make a table together."""

    kind: str
    cells: tuple[str, ...]
    remark: str = ""
    indent: str = ""
    number: int | None = None


def tidied(text: str, file: str, plan: Plan) -> str:
    """Return the text of one of a plan's files in the usual layout; the meaning is the same."""
    ending = "\r\n" if "\r\n" in text else "\n"
    lines = [line.removesuffix("\r") for line in text.split("\n")]
    standard = {each.place.line: each.kind == "standard" for each in plan.lists.values() if each.place.file == file}
    numbers = {entry.place.line: entry.number for each in plan.lists.values() if each.place.file == file for entry in each.entries}
    found: list[_Set] = []
    block = ""
    for number, line in enumerate(lines, 1):
        if number in standard:
            block = "standard" if standard[number] else "extended"
        elif line[:1] not in (" ", "\t", "#", ""):
            block = ""
        found.append(_set(line, block, numbers.get(number)))
    return ending.join(_tables(list(_ordered(found)))).rstrip(" ")


def _set(line: str, block: str, number: int | None) -> _Set:
    words = _WORD.findall(line)
    remark = words.pop() if words and words[-1].startswith("#") else ""
    if not words:
        return _Set("", (), remark, _INDENT if remark and line[0] in " \t" else "")
    indented = line[0] in " \t"
    if indented and block and words[0] not in ("note", "otherwise"):
        return _Set("entry", _entry(words, block == "standard"), remark, _INDENT, number)
    kind = words[0]
    cells = _CELLS[kind](words) if kind in _CELLS else (" ".join(words),)
    return _Set("what" if kind in ("expect", "keep") else kind, cells, remark, _INDENT if indented else "")


def _entry(words: list[str], standard: bool) -> tuple[str, ...]:
    """NUMBER | off | ACTION | SERVICE | SOURCE | to DESTINATION | the rest | comment."""
    left = list(words)
    number = left.pop(0) if left[0].isdecimal() else ""
    off = left.pop(0) if left and left[0] == "off" else ""
    action = left.pop(0) if left and left[0] in _ACTIONS else ""
    comment = left.pop() if left and left[-1].startswith('"') else ""
    service = "" if standard or not left else left.pop(0)
    source = _addresses(left)
    destination = ""
    if left and left[0] == "to":
        left.pop(0)
        destination = f"to {_addresses(left)}"
    return number, off, action, service, source, destination, " ".join(left), comment


def _addresses(left: list[str]) -> str:
    """Take the words of one source or destination off the front, and return them in their usual form."""
    if not left:
        return ""
    word = left.pop(0)
    if left[:1] in (["wild"], ["mask"]) and len(left) > 1:
        return _masked(word, left.pop(0), left.pop(0))
    return _literal(word)


def _literal(word: str) -> str:
    """Return an address, prefix or range in its usual form; a prefix has no host bits."""
    if not looks_like_address(word):
        return word
    try:
        if "-" in word:
            parts = parse_range(word)
            return f"{format_address(parts[0].family, parts[0].first)}-{format_address(parts[0].family, parts[-1].last)}"
        if "/" in word:
            address, length = parse_prefix(word)
            return f"{format_address(address.family, prefix(address, length).value)}/{length}"
        return str(parse_address(word))
    except AddressError:
        return word


def _masked(word: str, kind: str, mask_word: str) -> str:
    address, mask = parse_address(word), parse_address(mask_word)
    wildcard = mask.value if kind == "wild" else mask.value ^ mask.family.mask
    cleared = Pattern(address.family, address.value & ~wildcard, wildcard)
    return f"{format_address(cleared.family, cleared.value)} {kind} {mask}"


def _own(word: str) -> str:
    """Return an interface's address, whose host bits stay."""
    address, length = parse_prefix(word)
    return f"{address}/{length}"


def _by_family(words: Sequence[str], usual: Callable[[str], str]) -> tuple[str, str]:
    """Return the IPv4 and the IPv6 words of a line's addresses as two cells."""
    return " ".join(usual(word) for word in words if ":" not in word), " ".join(usual(word) for word in words if ":" in word)


def _until(words: list[str], *stops: str) -> int:
    return next((index for index, word in enumerate(words) if index and word in stops), len(words))


def _subnet(words: list[str]) -> tuple[str, ...]:
    end = _until(words, "vlan")
    return words[0], words[1], *_by_family(words[2:end], _literal), " ".join(words[end:])


def _attached(words: list[str], usual: Callable[[str], str]) -> tuple[str, ...]:
    end = _until(words, "on")
    rest = words[end + 2 :]
    rest = [_literal(word) if before == "gateway" else word for before, word in zip(["", *rest], rest, strict=False)]
    return words[0], words[1], *_by_family(words[2:end], usual), " ".join(words[end : end + 2]), " ".join(rest)


def _group(words: list[str]) -> tuple[str, ...]:
    members = [each.split() for each in " ".join(words[2:]).split(",")]
    return words[0], words[1], ", ".join(_addresses(each) for each in members)


def _route(words: list[str]) -> tuple[str, ...]:
    return words[0], _literal(words[1]), " ".join([words[2], *map(_literal, words[3:])])


def _expectation(words: list[str]) -> tuple[str, ...]:
    left = words[3:]
    comment = left.pop() if left[-1].startswith('"') else ""
    source = _literal(left.pop(0))
    destination = f"{left.pop(0)} {_literal(left.pop(0))}"
    return words[0], words[1], words[2], source, destination, " ".join(left), comment


def _named(words: list[str]) -> tuple[str, ...]:
    return words[0], words[1], " ".join(words[2:])


def _placement(words: list[str]) -> tuple[str, ...]:
    return words[0], words[1], words[2], " ".join(words[3:])


def _acceptance(words: list[str]) -> tuple[str, ...]:
    return words[0], words[1], " ".join(words[2:-1]), words[-1]


_CELLS: dict[str, Callable[[list[str]], tuple[str, ...]]] = {
    "subnet": _subnet,
    "interface": lambda words: _attached(words, _own),
    "host": lambda words: _attached(words, _literal),
    "route": _route,
    "group": _group,
    "service": _named,
    "window": _named,
    "port": _named,
    "place": _placement,
    "expect": _expectation,
    "keep": _expectation,
    "accept": _acceptance,
}


def _ordered(lines: list[_Set]) -> Iterator[_Set]:
    """Yield the lines with each list's entries in the order of their numbers, what stands above an entry with it."""
    index = 0
    while index < len(lines):
        if lines[index].kind != "list":
            yield lines[index]
            index += 1
            continue
        end = index + 1
        while end < len(lines) and (lines[end].indent or not (lines[end].cells or lines[end].remark)):
            end += 1
        while end > index + 1 and not (lines[end - 1].cells or lines[end - 1].remark):
            end -= 1
        yield lines[index]
        yield from _block(lines[index + 1 : end])
        index = end


def _block(lines: list[_Set]) -> Iterator[_Set]:
    """Yield a list's block in order: what stands above the first entry, the entries, the otherwise line."""
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
    """Yield the lines as text, each run of one kind as a table; comment lines do not end one, other lines do."""
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
    """Whether a line may stand within a table: a comment by itself, or a note between entries."""
    return (not line.cells and bool(line.remark)) or (kind == "entry" and line.kind == "note")


def _table(lines: list[_Set], kind: str) -> Iterator[str]:
    rows = [line.cells for line in lines if line.kind == kind]
    widths = [max(map(len, column)) for column in zip_longest(*rows, fillvalue="")]
    bodies = []
    for line in lines:
        if line.kind == kind and len(line.cells) > 1:
            cells = [cell.ljust(width) for cell, width in zip(line.cells, widths, strict=False) if width]
            bodies.append(line.indent + " ".join(cells).rstrip())
        else:
            bodies.append(line.indent + " ".join(line.cells))
    remarked = [len(body) for body, line in zip(bodies, lines, strict=True) if line.remark and line.cells]
    for body, line in zip(bodies, lines, strict=True):
        if line.remark and line.cells:
            yield f"{body.ljust(max(remarked))}  {line.remark.rstrip()}"
        else:
            yield body + line.remark.rstrip()
