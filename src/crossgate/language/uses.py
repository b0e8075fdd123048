"""Where the text of a plan mentions a name."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping
from typing import NamedTuple

from crossgate.core.model.named import NameSpace
from crossgate.language.texts import Text

_SPACES = {
    **dict.fromkeys(("host", "subnet", "outside", "router", "switch", "group"), NameSpace.NAME),
    **dict.fromkeys(("interface", "switch port"), NameSpace.POINT),
    **dict.fromkeys(("service", "service of IANA", "protocol"), NameSpace.SERVICE),
    "window": NameSpace.WINDOW,
    "list": NameSpace.LIST,
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
    space = _SPACES.get(kind)
    if space is None:
        return
    for text in texts:
        for number in dict.fromkeys(
            number for number, each in text.mentioning(space, name) if not each.declares
        ):
            head = text.written(text.heads[number]) if text.written(number).is_entry else None
            own = head.words[1].text if head is not None and len(head.words) > 1 else ""
            yield Use(text.file, number + 1, text.line(number).strip(), own)
