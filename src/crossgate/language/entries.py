"""Access lists as written: the `list` line, its entries, notes and `otherwise`.

A plan may hold a hundred thousand entries, so an entry is read in one pass over its words, and everything that many
entries share (a service, the addresses of a name) is one object.
"""

from __future__ import annotations

from crossgate.core.model.accesslist import MOST_NUMBER, AccessList, Action, Entry, Kind, Note, Otherwise
from crossgate.core.model.address import Family, anywhere
from crossgate.core.model.condition import MINUTE, SECOND, Limit
from crossgate.core.model.errors import PlanError, unknown
from crossgate.core.model.packet import PORT_PROTOCOLS, TCP
from crossgate.core.model.service import (
    ESTABLISHED,
    IP,
    NO_QUALIFIERS,
    FlagTest,
    Ports,
    Qualifiers,
    Service,
    ServiceError,
    both_flags,
    parse_dscp,
    parse_flags,
    parse_ports,
)
from crossgate.language.lines import Line
from crossgate.language.mends import mended
from crossgate.language.names import FollowOn, Names, Space
from crossgate.language.row import Row
from crossgate.language.words import Words

_ACTIONS = {action.value: action for action in Action}
_SECONDS = {"second": SECOND, "minute": MINUTE}
_FAMILIES = {family.word: family for family in Family}


def header(words: Words) -> tuple[str, Kind, Family]:
    """LIST = "list" ID ("standard" | "extended") ("ipv4" | "ipv6")."""
    words.keyword("list")
    name = words.number("a list number", MOST_NUMBER) if words.peek().isdigit() else words.name("a list")
    kind = Kind(words.choice([kind.value for kind in Kind]))
    family = _FAMILIES[words.choice(_FAMILIES)]
    words.end()
    return str(name), kind, family


def access_list(words: Words, names: Names) -> None:
    """Read a list with its block; a line that is in error is left out."""
    name, kind, family = header(words)
    reader = _EntryReader(names, kind, family, name)
    entries: dict[int, Entry] = {}
    notes: list[Note] = []
    otherwise: Otherwise | None = None
    highest = 0
    for line in words.block:
        try:
            at = Words(line)
            first = at.peek()
            if first == "note":
                notes.append(note(at))
            elif first == "otherwise":
                if otherwise is not None:
                    raise at.error(f"list {name} has its otherwise in line {otherwise.place.line} already", index=0)
                otherwise = closing_line(at)
            else:
                entry = reader.entry(at, highest + 10)
                if entry.number in entries:
                    raise at.error(f"list {name} has an entry {entry.number} in line {entries[entry.number].place.line} already", index=0)
                entries[entry.number] = entry
                highest = max(highest, entry.number)
        except FollowOn as error:
            names.errors.append(error)
        except PlanError as error:
            names.errors.append(mended(error, line, kind, family, lambda other: reader.entry(Words(other), 0)))
    ordered = tuple(entries[number] for number in sorted(entries))
    otherwise = otherwise or Otherwise(Action.DENY, words.place, written=False)
    names.plan.lists[name] = AccessList(name, kind, family, ordered, otherwise, words.place, tuple(notes))


def note(words: Words) -> Note:
    """NOTE = "note" TEXT."""
    words.keyword("note")
    text = words.text("the remark, in double quotes")
    words.end()
    return Note(text, words.place)


def closing_line(words: Words) -> Otherwise:
    """OTHERWISE = "otherwise" ACTION."""
    words.keyword("otherwise")
    action = _ACTIONS[words.choice(_ACTIONS)]
    words.end()
    return Otherwise(action, words.place, written=True)


def one_entry(line: Line, names: Names, kind: Kind, family: Family, next_number: int, name: str = "") -> Entry:
    """Read one entry that stands alone, of the list `name`; without a number it gets `next_number`. Raises `PlanError`."""
    reader = _EntryReader(names, kind, family, name)
    try:
        return reader.entry(Words(line), next_number)
    except PlanError as error:
        raise mended(error, line, kind, family, lambda other: reader.entry(Words(other), 0)) from None


class _EntryReader:
    """Reads the entries of one list."""

    def __init__(self, names: Names, kind: Kind, family: Family, name: str) -> None:
        self.name = name
        self.names = names
        self.kind = kind
        self.family = family
        self.any = anywhere(family)

    def entry(self, words: Words, next_number: int) -> Entry:
        """ENTRY = [NUMBER] ["off"] ACTION (SOURCE | SERVICE SOURCE "to" DESTINATION *QUALIFIER) ENDING."""
        number = next_number
        if words.words[0].isdecimal():
            number = words.number("an entry number", MOST_NUMBER)
        start = words.index
        action = _ACTIONS.get(words.peek())
        off = action is None and words.accept("off")
        if off:
            start = words.index
            action = _ACTIONS.get(words.peek())
        if action is None:
            words.choice(_ACTIONS, "permit, deny or reject" if off or start else "an entry (permit, deny or reject), note or otherwise")
            raise AssertionError
        words.index += 1
        service, destination, qualifiers = IP, self.any, NO_QUALIFIERS
        if self.kind is Kind.STANDARD:
            source = self.names.addresses(words, self.family)
        else:
            service = self.names.service(words, self.family)
            source = self.names.addresses(words, self.family)
            words.keyword("to")
            destination = self.names.addresses(words, self.family)
        window, limit, log, comment = None, None, False, ""
        end = words.index
        if end < len(words.words):
            qualifiers = self._qualifiers(words, service)
            window, limit, log, comment = self._ending(words, action, number)
            end = len(words.words) - (1 if words.words[-1][0] == '"' else 0)
        text = " ".join(words.words[start:end])
        return Entry(number, action, service, source, destination, qualifiers, window, limit, off, log, comment, text, words.place)

    def _ending(self, words: Words, action: Action, number: int) -> tuple[str | None, Limit | None, bool, str]:
        """ENDING = ["during" WINDOW] ["at" "most" N "a" ("second" | "minute") ["from" "each" "source"]] ["log"] [TEXT]."""
        window = None
        if words.accept("during"):
            window = words.take("the name of a window")
            windows = self.names.plan.windows
            if window not in windows:
                if window in self.names.declared[Space.WINDOWS]:
                    raise FollowOn("")
                raise words.error(unknown("window", window, list(windows)))
        limit = self._limit(words, action, number) if words.accept("at") else None
        log = words.accept("log")
        comment = words.text("a comment in double quotes") if words.peek()[:1] == '"' else ""
        if words.peek():
            self._misplaced(words)
        return window, limit, log, comment

    def _limit(self, words: Words, action: Action, number: int) -> Limit:
        """Read a limit behind its `at`."""
        words.keyword("most")
        if action is not Action.PERMIT:
            raise words.error(
                f"at most says how much is permitted, and this entry is a {action}; write {action} alone, below a permit at most"
            )
        most = words.number("how many new conversations, as 50", MOST_NUMBER)
        if not most:
            raise words.error("at most 0 permits nothing; write deny")
        words.keyword("a")
        seconds = _SECONDS[words.choice(tuple(_SECONDS))]
        each_source = words.accept("from")
        if each_source:
            words.keyword("each")
            words.keyword("source")
        return Limit(most, seconds, each_source, self.name, number)

    def _misplaced(self, words: Words) -> None:
        """Say why a word cannot stand where an entry's ending is."""
        word = words.take("")
        if self.kind is Kind.STANDARD:
            if word == "to" or word in _QUALIFIER_WORDS:
                raise words.error(f"a standard list asks for sources only, so {word} does not belong here; make the list extended")
            raise words.error(f"expected during, at most, log, a comment in double quotes or the end of the line, not {word}")
        if word in _QUALIFIER_WORDS or word in ("during", "at", "log"):
            raise words.error(
                f"{word} stands too late or twice; the order is: {', '.join(_QUALIFIER_WORDS)}, during, at most, log, comment"
            )
        raise words.error(f"expected {', '.join(_QUALIFIER_WORDS)}, during, at most, log, a comment or the end of the line, not {word}")

    def _qualifiers(self, words: Words, service: Service) -> Qualifiers:
        """QUALIFIER = "source" "port" PORTS | "established" | "flags" FLAGS | "fragments" | "dscp" DSCP."""
        if self.kind is Kind.STANDARD or words.peek() not in _QUALIFIER_WORDS:
            return NO_QUALIFIERS
        source_ports: Ports | None = None
        tests: list[tuple[FlagTest, ...]] = []
        fragments, dscp = False, None
        seen: set[str] = set()
        while (word := words.peek()) in _QUALIFIER_WORDS:
            words.index += 1
            if word in seen:
                raise words.error(f"{word} stands twice")
            seen.add(word)
            try:
                if word == "source":
                    _needs(words, service, PORT_PROTOCOLS, "a source port needs a service of tcp, udp, sctp or dccp")
                    words.keyword("port")
                    source_ports = parse_ports(words.take("ports, as 1024- or 80,443"))
                elif word == "established":
                    _needs(words, service, {TCP}, "established asks for TCP flags and needs a service of tcp")
                    tests.append(ESTABLISHED)
                elif word == "flags":
                    _needs(words, service, {TCP}, "flags are TCP's and need a service of tcp")
                    tests.append((parse_flags(words.take("TCP flags, as SYN,!ACK")),))
                elif word == "dscp":
                    dscp = parse_dscp(words.take("a DSCP value, 0 to 63 or a name"))
                else:
                    fragments = True
            except ServiceError as error:
                raise words.error(str(error), span=(error.start, error.end)) from None
        return Qualifiers(source_ports, both_flags(tests), fragments, dscp)


_QUALIFIER_WORDS = ("source", "established", "flags", "fragments", "dscp")


def _needs(words: Words, service: Service, protocols: frozenset[int] | set[int], message: str) -> None:
    if any(term.protocol not in protocols for term in service.terms):
        raise words.error(f"{message}, not {service.text}")


LIST_LINES = (Row("note", note), Row("otherwise", closing_line))
"""What stands in the block of a list besides entries."""
