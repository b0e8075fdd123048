"""Entries of ethernet lists, as they are read."""

from __future__ import annotations

from crossgate.core.model.conditions import During
from crossgate.core.model.entry import Action, Kind
from crossgate.core.model.errors import nearest
from crossgate.core.model.ethernet import (
    ANY_STATION,
    BROADCAST,
    ETHERTYPES,
    MOST_ETHERTYPE,
    EthernetEntry,
    MacError,
    Stations,
    looks_like_mac,
    parse_mac,
)
from crossgate.core.model.window import until_name
from crossgate.language.conditions import (
    beyond_sources,
    during,
    owner,
    until,
)
from crossgate.language.entry_head import entry_head
from crossgate.language.names import Names
from crossgate.language.words import Words


class FrameEntryReader:
    """Reads the entries of one ethernet list."""

    def __init__(self, names: Names, kind: Kind, name: str) -> None:
        self.names, self.kind, self.name = names, kind, name

    def entry(self, words: Words, next_number: int) -> EthernetEntry:
        """Read an entry; one without a number gets the next."""
        number, off, start, action = entry_head(words, next_number)
        if action is Action.REJECT:
            raise words.error("a frame is dropped in silence, nobody tells its sender; write deny")
        ethertype, destination = None, ANY_STATION
        if self.kind is Kind.EXTENDED:
            ethertype = self._ethertype(words)
        source = self._stations(words)
        if self.kind is Kind.EXTENDED:
            words.keyword("to")
            destination = self._stations(words)
        window = during(words, self.names) if words.peek() == "during" else ""
        if words.peek() == "until":
            window = until_name(until(words), window)
        conditions = (During(window),) if window else ()
        log = words.accept("log")
        end = words.index
        answers = owner(words)
        comment = words.text("a comment in double quotes") if words.peek()[:1] == '"' else ""
        if words.peek():
            words.index += 1
            word = words.words[words.index - 1]
            if word == "to" and self.kind is Kind.STANDARD:
                raise words.error(beyond_sources(word))
            raise words.error(
                "expected during, until, log, for, a comment in double quotes or the end of the "
                "line, not "
                f"{word}"
            )
        text = " ".join(words.words[start:end])
        return EthernetEntry(
            number,
            action,
            conditions,
            off,
            log,
            comment,
            answers,
            text,
            words.place,
            ethertype,
            source,
            destination,
        )

    @staticmethod
    def _ethertype(words: Words) -> int | None:
        """Take an EtherType, `any` for every one."""
        word = words.take("what the frame carries: any, ipv4, ipv6, arp or a number as 0x88cc")
        if word == "any":
            return None
        if word in ETHERTYPES:
            return ETHERTYPES[word]
        try:
            number = int(word, 0) if word[:1].isdigit() else -1
        except ValueError:
            number = -1
        if not 0 <= number <= MOST_ETHERTYPE:
            near = nearest(word, [*ETHERTYPES, "any"])
            raise words.error(
                f"expected any, ipv4, ipv6, arp or a number as 0x88cc, not {word}"
                + (f"; did you mean {near}?" if near else ""),
                near=near,
            )
        return number

    def _stations(self, words: Words) -> Stations:
        """Take the stations of a frame list's entry."""
        word = words.take("a hardware address, a host, a device, a point, broadcast or any")
        if word == "any":
            return ANY_STATION
        if word == "broadcast":
            return Stations(word, ((BROADCAST, 0),))
        if looks_like_mac(word):
            value, wildcard, text = read_mac(words, word), 0, word
            if words.accept("wild"):
                mask = words.take("a wildcard, as 00:00:00:00:00:ff")
                wildcard, text = read_mac(words, mask), f"{word} wild {mask}"
            return Stations(text, ((value & ~wildcard, wildcard),))
        plan = self.names.plan
        if "." in word:
            point = self.names.point(words, word)
            interface = plan.devices[point.owner].interfaces.get(point.part)
            found = [] if interface is None else [interface.mac]
        elif word in plan.hosts:
            found = [plan.hosts[word].mac]
        elif word in plan.devices:
            found = [
                each.mac for each in plan.devices[word].interfaces.values() if each.mac is not None
            ] or [None]
        else:
            raise self.names.unknown(words, "host", word, [*plan.hosts, *plan.devices])
        known = [each for each in found if each is not None]
        if not known:
            raise words.error(
                f"the plan does not say {word}'s hardware address; write mac and the address "
                "behind its line"
            )
        return Stations(word, tuple((each, 0) for each in known))


def read_mac(words: Words, word: str) -> int:
    """Read the hardware address in the word that was just taken."""
    try:
        return parse_mac(word)
    except MacError as error:
        raise words.error(str(error)) from None
