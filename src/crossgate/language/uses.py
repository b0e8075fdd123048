"""Where the text of a plan mentions a name."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping
from typing import NamedTuple

from crossgate.language.texts import Named, Text

_NAMED = {
    **dict.fromkeys(("host", "subnet", "outside", "router", "switch", "group"), Named.NAME),
    **dict.fromkeys(("interface", "switch port"), Named.POINT),
    **dict.fromkeys(("service", "service of IANA", "protocol"), Named.SERVICE),
    "window": Named.WINDOW,
    "list": Named.LIST,
}
"""What sort of name each kind of thing has, of those that `answers.about` tells of."""


class Use(NamedTuple):
    """A line that mentions a name: its file, its number, its text, and the list that it is an entry
    of, "" for none.
    """

    file: str
    line: int
    text: str
    access_list: str


def texts_of(data: Mapping[str, bytes]) -> list[Text]:
    """Return the texts of a plan's files, by their names."""
    return [Text(file, each.decode("utf-8", "replace")) for file, each in data.items()]


def uses(texts: Iterable[Text], kind: str, name: str) -> Iterator[Use]:
    """Yield the lines that mention something by its name, without the line that defines it; `kind`
    says what it is: a host, a list, a group...
    """
    named = _NAMED.get(kind)
    if named is None:
        return
    for text in texts:
        for number in dict.fromkeys(
            number for number, each in text.mentioning(named, name) if not each.declares
        ):
            head = text.written(text.heads[number]) if text.written(number).is_entry else None
            own = head.words[1].text if head is not None and len(head.words) > 1 else ""
            yield Use(text.file, number + 1, text.line(number).strip(), own)
