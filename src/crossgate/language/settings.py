"""Settings of a whole plan, each given at most once: `title`, `routing`, `numbering`, `client`,
`zone`.
"""

from __future__ import annotations

from crossgate.core.model.entry import MOST_NUMBER, Kind
from crossgate.core.model.errors import nearest
from crossgate.core.model.packet import MOST_PORT
from crossgate.core.model.plaintext import numeral
from crossgate.language.names import Names
from crossgate.language.words import Words


def title(words: Words, names: Names) -> None:
    """Read a `title` statement."""
    words.keyword("title")
    names.plan.title = words.text("the title, in double quotes")
    words.end()


def routing(words: Words, names: Names) -> None:
    """Read a `routing` statement."""
    words.keyword("routing")
    names.plan.static_routing = words.choice(("shortest", "static")) == "static"
    words.end()


def zone(words: Words, names: Names) -> None:
    """Read a `zone` statement, with a name of the IANA time zone database."""
    from zoneinfo import ZoneInfo, available_timezones

    words.keyword("zone")
    name = words.take("a time zone, as Europe/Lisbon or UTC")
    try:
        ZoneInfo(name)
    except (KeyError, ValueError, OSError):
        near = nearest(name, sorted(available_timezones()))
        hint = (
            f"there is {near}" if near else "name one of the IANA database, as Europe/Lisbon or UTC"
        )
        raise words.error(f"no time zone {name}; {hint}", near=near) from None
    words.end()
    names.plan.zone = name


def numbering(words: Words, names: Names) -> None:
    """Read a `numbering` statement."""
    words.keyword("numbering")
    found: list[tuple[Kind, int, int]] = []
    for kind in Kind:
        words.keyword(kind.value)
        while True:
            first, last = _number_range(words, MOST_NUMBER)
            for other, low, high in found:
                if first <= high and low <= last:
                    raise words.error(
                        f"{words.words[words.index - 1]} overlaps the {other} numbers {low}-{high}"
                    )
            found.append((kind, first, last))
            if not words.accept(","):
                break
    words.end()
    names.plan.numbering = tuple(found)


def client(words: Words, names: Names) -> None:
    """Read a `client` statement."""
    words.keyword("client")
    words.keyword("ports")
    ports = _number_range(words, MOST_PORT)
    words.end()
    names.plan.client_ports = ports


def _number_range(words: Words, most: int) -> tuple[int, int]:
    """Take a number or a range of numbers."""
    word = words.take("a range, as 1-99")
    first, hyphen, last = word.partition("-")
    last = last if hyphen else first
    if not (first.isdigit() and last.isdigit() and word.isascii()):
        raise words.error(f"expected a range, as 1-99, not {word}")
    low, high = numeral(first), numeral(last)
    if low is None or high is None or max(low, high) > most:
        raise words.error(f"{word} is too large: at most {most}")
    if low > high:
        raise words.error(f"{word} is upside down: write {last}-{first}")
    return low, high
