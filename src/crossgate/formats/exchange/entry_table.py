"""Lists as tables: CSV with a row for each line of each list, to write and to read; Markdown for
people to read.

Cells contain the words of the plan language, names of the plan included, so that a list is read
back as it was.
"""

from __future__ import annotations

import csv
import io
import re
from collections.abc import Iterator, Sequence
from datetime import date
from typing import Any, TypeVar

from crossgate.core.model.accesslist import AnyList
from crossgate.core.model.address import Family
from crossgate.core.model.entry import MOST_NUMBER, Action, AnyEntry, Kind
from crossgate.core.model.errors import PlanError
from crossgate.core.model.network import Direction
from crossgate.core.model.plaintext import numeral, quotable
from crossgate.core.model.window import of_window
from crossgate.core.network.entrance import place_named
from crossgate.formats.exchange.asked import ExportedDocument, ExportWanted, Given
from crossgate.formats.markdown import escaped
from crossgate.formats.tables import InputRow, guarded, read_table
from crossgate.language.cells import entry_cells
from crossgate.language.coming import Coming, ComingEntry, ComingList, ComingPlace
from crossgate.language.entries import ETHERNET

Choice = TypeVar("Choice")

COLUMNS = (
    "list",
    "kind",
    "family",
    "line",
    "off",
    "action",
    "service",
    "source",
    "destination",
    "conditions",
    "during",
    "log",
    "comment",
    "direction",
    "where",
    "limit",
    "tls",
    "cipher",
    "until",
    "for",
)
"""`line` is an entry's number, `note`, `otherwise` or `place`; `direction` and `where` are those of
a place; `limit`, `tls`, `cipher`, `until` and `for` are what stands behind these words, `limit`
behind `at most`; of a list they stand in the row of its otherwise line.
"""
_NEEDED = ("list", "line", "action")
_KINDS = {each.value: each for each in Kind}
_FAMILIES: dict[str, Family | None] = {**{each.word: each for each in Family}, ETHERNET: None}
_ACTIONS = {each.value: each for each in Action}
_DIRECTIONS = {each.value: each for each in Direction}


def _cells(entry: AnyEntry, kind: Kind) -> dict[str, str]:
    """Return an entry's words by column."""
    _, _, action, service, source, destination, rest, _ = entry_cells(
        entry.text.split(), kind is Kind.STANDARD
    )
    words = rest.split()
    if "log" in words[-1:]:
        words.pop()
    if entry.until is not None:
        words = words[:-2]
    limit, during, spoken = "", "", dict.fromkeys(("cipher", "tls"), "")
    for word in spoken:
        if entry.tls is not None and words[-2:-1] == [word]:
            spoken[word] = words.pop()
            words.pop()
    if entry.limit is not None:
        at = len(words) - words[::-1].index("at") - 1
        limit, words = " ".join(words[at + 2 :]), words[:at]
    if of_window(entry.window or ""):
        during, words = words[-1], words[:-2]
    return {
        "action": action,
        "service": service,
        "source": source,
        "destination": destination.removeprefix("to "),
        "conditions": " ".join(words),
        "during": during,
        "limit": limit,
        "log": "log" * entry.log,
        "comment": entry.comment,
        "off": "off" * entry.off,
        "until": str(entry.until or ""),
        "for": entry.owner,
        **spoken,
    }


def write_csv(wanted: ExportWanted) -> ExportedDocument:
    """Write a row for each line of the lists, and one for each place."""
    rows: list[dict[str, str]] = []
    for each in wanted.every_list:
        own = {"list": each.name, "kind": each.kind.value, "family": each.about}
        rows += [own | {"line": "note", "comment": note.text} for note in each.notes]
        rows += [
            own | {"line": str(entry.number)} | _cells(entry, each.kind) for entry in each.entries
        ]
        rows.append(
            own
            | {
                "line": "otherwise",
                "action": each.otherwise.action.value,
                "until": str(each.until or ""),
                "for": each.owner,
            }
        )
    for place in wanted.places:
        rows.append(
            {
                "list": place.access_list,
                "line": "place",
                "direction": place.direction.value,
                "where": str(place.point),
            }
        )
    text = io.StringIO()
    writer = csv.DictWriter(text, COLUMNS, restval="", lineterminator="\n")
    writer.writeheader()
    writer.writerows(
        rows
        if wanted.raw
        else ({column: guarded(text) for column, text in row.items()} for row in rows)
    )
    return ExportedDocument(text.getvalue())


def write_markdown(wanted: ExportWanted) -> ExportedDocument:
    """Write a table for each list, under its name, with where it stands."""
    return ExportedDocument(
        "\n".join(line for each in wanted.every_list for line in _section(each, wanted))
    )


def _section(access_list: AnyList[Any], wanted: ExportWanted) -> Iterator[str]:
    yield f"## {access_list.name}"
    yield ""
    places = [each.where for each in wanted.places if each.access_list == access_list.name]
    yield (
        f"{access_list.kind.capitalize()} {access_list.label} list, "
        f"{escaped(' and '.join(places)) or 'placed nowhere'}."
    )
    yield ""
    for note in access_list.notes:
        yield f"> {escaped(note.text)}"
    if access_list.notes:
        yield ""
    standard = access_list.kind is Kind.STANDARD
    columns = [
        "action",
        *([] if standard else ["service"]),
        "source",
        *([] if standard else ["destination"]),
        "conditions",
        "comment",
    ]
    table = [["no.", *columns]]
    for entry in access_list.entries:
        cells = _cells(entry, access_list.kind)
        conditions = [cells["conditions"], f"during {cells['during']}" if cells["during"] else ""]
        conditions += [
            f"at most {cells['limit']}" if cells["limit"] else "",
            *(
                f"{word} {cells[word]}" if cells[word] else ""
                for word in ("tls", "cipher", "until")
            ),
        ]
        conditions += [cells["log"], f"for {cells['for']}" if cells["for"] else "", cells["off"]]
        cells["conditions"] = ", ".join(filter(None, conditions))
        table.append([str(entry.number), *(cells[each] for each in columns)])
    table.append(["otherwise", access_list.otherwise.action.value, *[""] * (len(columns) - 1)])
    kept = [column for column in range(len(table[0])) if any(row[column] for row in table[1:])]
    shown = [[escaped(row[column]) for column in kept] for row in table]
    widths = [max(len(row[column]) for row in shown) for column in range(len(kept))]
    for number, row in enumerate(shown):
        yield (
            "| "
            + " | ".join(cell.ljust(width) for cell, width in zip(row, widths, strict=True))
            + " |"
        )
        if number == 0:
            yield "| " + " | ".join("-" * width for width in widths) + " |"
    yield ""


def read_csv(given: Given) -> Coming:
    """Read lists from a table, CSV or .xlsx, that has a row for each line. Raises `PlanError` with
    the row that cannot be used.
    """
    table = read_table(given.path, _recognised, _NEEDED, ",".join(COLUMNS))
    coming = Coming(
        str(given.path), told=[f"the column {each} has no meaning here" for each in table.unused]
    )
    lists: dict[str, ComingList] = {}
    numbers: dict[str, set[int]] = {}
    places: list[InputRow] = []
    for row in table.rows:
        name, line = (_value(given, row, column) for column in ("list", "line"))
        if line == "place":
            places.append(row)
            continue
        if name not in lists:
            kind = _chosen(given, row, "kind", _KINDS)
            lists[name] = coming.new_list(name, _chosen(given, row, "family", _FAMILIES), kind=kind)
        _read_line(given, row, line, lists[name], numbers.setdefault(name, set()))
    for row in places:
        name = _value(given, row, "list")
        if name not in lists:
            raise _error(given, row, f"list {name} is placed, and the table has no line of it")
        text = _value(given, row, "where")
        direction = _chosen(given, row, "direction", _DIRECTIONS)
        try:
            point = place_named(given.plan, text)
        except PlanError:
            lists[name].note(f"stood {direction} on {text}, which the plan has not")
        else:
            coming.places.append(
                ComingPlace(lists[name], direction, point, f"{given.path}, row {row.number}")
            )
    return coming


def _recognised(words: Sequence[str], below: Sequence[str]) -> str:
    return words[0] if len(words) == 1 and words[0] in COLUMNS else ""


def _read_line(given: Given, row: InputRow, line: str, own: ComingList, numbers: set[int]) -> None:
    values = row.values
    if line == "note":
        own.note(_value(given, row, "comment"))
    elif line == "otherwise":
        if own.otherwise is not None:
            raise _error(given, row, f"list {own.name} has its otherwise in a row above")
        own.otherwise = _chosen(given, row, "action", _ACTIONS)
        own.until, own.owner = _until(given, row), quotable(values.get("for", ""))
    else:
        number = numeral(line)
        if number is None or number > MOST_NUMBER:
            raise _error(
                given, row, f"line is {line}; it is an entry's number, note, otherwise or place"
            )
        if number in numbers:
            raise _error(given, row, f"list {own.name} has an entry {number} in a row above")
        numbers.add(number)
        words = ["off"] * bool(values.get("off")) + [_chosen(given, row, "action", _ACTIONS).value]
        source = _ends(given, row, "source")
        words += (
            [source]
            if own.kind is Kind.STANDARD
            else [_word(given, row, "service"), source, "to", _ends(given, row, "destination")]
        )
        words += [_words(given, row, "conditions")] if values.get("conditions") else []
        words += [f"during {_word(given, row, 'during')}"] if values.get("during") else []
        words += [f"at most {_words(given, row, 'limit')}"] if values.get("limit") else []
        words += [
            f"{word} {_word(given, row, word)}" for word in ("tls", "cipher") if values.get(word)
        ]
        words += [f"until {day}"] if (day := _until(given, row)) else []
        words += ["log"] * bool(values.get("log"))
        owner = quotable(values.get("for", ""))
        words += [f'for "{owner}"'] if owner else []
        comment = quotable(values.get("comment", ""))
        words += [f'"{comment}"'] if comment else []
        own.entries.append(ComingEntry(number, " ".join(words)))


def _until(given: Given, row: InputRow) -> str:
    """Return a row's last day, "" for none; a spreadsheet's date is read too. Raises
    `PlanError`.
    """
    found = row.values.get("until", "").removesuffix(" 00:00:00")
    if not found:
        return ""
    try:
        return str(date.fromisoformat(found))
    except ValueError:
        raise _error(given, row, f"until is {found}, and no day as 2027-03-31") from None


def _words(given: Given, row: InputRow, column: str) -> str:
    """Return the words for an entry in a cell. Raises `PlanError` where it is more than one line,
    or contains a comment sign or a quote.
    """
    found = _value(given, row, column)
    odd = next((letter for letter in found if letter in '"#' or not letter.isprintable()), None)
    if odd is not None:
        what = {'"': "a quotation mark", "#": "a number sign"}.get(
            odd, "a line break or another control character"
        )
        raise _error(
            given,
            row,
            f"{column} holds {what}; a cell holds the words of one line: {quotable(found)}",
        )
    return " ".join(found.split())


def _word(given: Given, row: InputRow, column: str) -> str:
    """Return a cell of one word. Raises `PlanError` where it is more."""
    found = _words(given, row, column)
    if " " in found:
        raise _error(given, row, f"{column} is {found}, where one word belongs")
    return found


def _ends(given: Given, row: InputRow, column: str) -> str:
    """Return the addresses in a cell: names and addresses behind commas or `but`, each one word,
    an address with its wildcard or mask, or the leases of a subnet. Raises `PlanError` for anything
    that would be read as another part of the entry.
    """
    found = _words(given, row, column)
    for each in re.split(r", ?| but ", found):
        words = each.split()
        three = len(words) == 3 and (words[1] in ("wild", "mask") or words[:2] == ["leases", "of"])
        if len(words) != 1 and not three:
            raise _error(
                given,
                row,
                f"{column} is {found}, where names or addresses belong, with commas between "
                "several, and ADDRESS wild WILDCARD for a wildcard",
            )
    return found


def _value(given: Given, row: InputRow, column: str) -> str:
    found = row.values.get(column, "")
    if not found:
        raise _error(given, row, f"{column} is empty")
    return found


def _chosen(given: Given, row: InputRow, column: str, words: dict[str, Choice]) -> Choice:
    found = _value(given, row, column)
    if found not in words:
        raise _error(given, row, f"{column} is {found}, which is none of {', '.join(words)}")
    return words[found]


def _error(given: Given, row: InputRow, message: str) -> PlanError:
    return PlanError(f"{given.path}, row {row.number}: {message}")
