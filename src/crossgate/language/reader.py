"""Text to `Plan`: statements are read in the order in which they need each other, whatever order they stand in.

`read_plan` returns a whole plan or raises `PlanErrors` with every error of every file, in the order of their places.
"""

from __future__ import annotations

import gc
from collections.abc import Callable, Collection, Iterator, Mapping, Sequence
from contextlib import contextmanager
from pathlib import Path
from typing import NamedTuple

from crossgate.core.model.accesslist import MOST_NUMBER, Kind
from crossgate.core.model.errors import Place, PlanError, PlanErrors, nearest
from crossgate.core.model.iana import protocols
from crossgate.core.model.packet import MOST_PORT
from crossgate.core.model.plaintext import numeral
from crossgate.core.model.plan import NamedService, Plan
from crossgate.core.model.service import split_service
from crossgate.language import claims, entries, times, topology, wiring
from crossgate.language.names import FollowOn, Names
from crossgate.language.source import Source, Statement
from crossgate.language.words import Line, Words

_NAME_SPACE = {"subnet", "outside", "router", "switch", "host", "group"}
_BLOCKS = {"router", "switch", "list"}
_STATEMENTS = (
    "title", "include", "routing", "numbering", "client", "subnet", "outside", "router", "switch", "host", "group", "service",
    "window", "list", "place", "expect", "keep", "accept",
)  # fmt: skip


class Reading(NamedTuple):
    """A plan, the resolver that reads more words against it, and the bytes of its files, by name, as they were read."""

    plan: Plan
    names: Names
    data: dict[str, bytes]


def read_plan(path: Path) -> Plan:
    """Read a plan file and what it includes. Raises `PlanError` or, for what stands in the files, `PlanErrors`."""
    return read(path).plan


def read(path: Path, data: Mapping[str, bytes] | None = None) -> Reading:
    """Read a plan; `data` are bytes to read instead of those on disk, by file name. Raises as `read_plan` does."""
    with _collector_paused():
        source = Source(path, data)
        reader = _Reader(source)
        plan = reader.read()
    errors = [error for error in (*source.errors, *reader.errors) if not isinstance(error, FollowOn)]
    if errors:
        order = {file: index for index, file in enumerate(source.files)}
        errors.sort(key=lambda error: (order.get(error.place.file, 0), error.place.line) if error.place else (0, 0))
        raise PlanErrors(errors)
    return Reading(plan, reader.names, source.data)


def in_order(names: Collection[str], needed: Callable[[str], Sequence[str]]) -> tuple[list[str], list[list[str]]]:
    """Return names so that each stands behind those it needs, and the circles among them; however long a chain is."""
    order: list[str] = []
    circles: list[list[str]] = []
    state: dict[str, bool] = {}
    for start in names:
        trail = [] if start in state else [(start, iter(needed(start)))]
        state.setdefault(start, False)
        while trail:
            name, left = trail[-1]
            following = next(left, None)
            if following is None:
                state[name] = True
                order.append(name)
                trail.pop()
            elif following not in state:
                state[following] = False
                trail.append((following, iter(needed(following))))
            elif not state[following]:
                way = [each for each, _ in trail]
                circles.append(way[way.index(following) :])
    return order, circles


def _round(circle: Sequence[str]) -> str:
    """Write a circle of names: `a has b has a`, a long one without its middle."""
    shown = circle if len(circle) <= 8 else [*circle[:6], f"... {len(circle) - 7} more ...", circle[-1]]
    return " has ".join([*shown, circle[0]])


@contextmanager
def _collector_paused() -> Iterator[None]:
    """Spare the cyclic collector its rounds over the many objects of a large plan, none of which is garbage."""
    running = gc.isenabled()
    gc.disable()
    try:
        yield
    finally:
        if running:
            gc.enable()


class _Reader:
    """Reads the statements of one source, kind by kind, gathering errors as it goes."""

    def __init__(self, source: Source) -> None:
        self.plan = Plan(files=tuple(source.files))
        self.names = Names(self.plan)
        self.errors: list[PlanError] = []
        self.lines: dict[Place, Line] = {}
        self.statements: dict[str, list[Statement]] = {name: [] for name in _STATEMENTS}
        for statement in source.statements:
            with self.gathering():
                self._sort_in(statement)

    @contextmanager
    def gathering(self) -> Iterator[None]:
        """Keep an error and go on."""
        try:
            yield
        except PlanError as error:
            self.errors.append(error)

    def _sort_in(self, statement: Statement) -> None:
        """Put a statement with its kind, and note the name that it declares."""
        words = Words(statement.line)
        self.lines[words.place] = statement.line
        keyword = words.take("a statement")
        if keyword not in self.statements:
            near = nearest(keyword, _STATEMENTS)
            raise words.error(f"no statement {keyword}; " + (f"there is {near}" if near else f"there are {', '.join(_STATEMENTS)}"))
        self.statements[keyword].append(statement)
        if statement.block and keyword not in _BLOCKS:
            first = Words(statement.block[0])
            span = (0, len(statement.block[0].text.strip()))
            self.errors.append(first.error(f"this line is indented, but {keyword} opens no block", index=0, span=span))
        name = words.peek()
        if keyword in _NAME_SPACE and name:
            words.index += 1
            if name in self.names.declared:
                self.statements[keyword].pop()
                raise words.error(f"{name} is the name of a {self.names.declared[name]} already; every name stands for one thing")
            self.names.declared[name] = keyword
        for kind, names in (
            ("service", self.names.declared_services),
            ("window", self.names.declared_windows),
            ("list", self.names.declared_lists),
        ):
            if keyword == kind and name:
                words.index += 1
                if name in names:
                    self.statements[keyword].pop()
                    raise words.error(f"there is a {kind} {name} already")
                names.add(name)

    def each(self, read: Callable[[Words], None], *keywords: str, commas: bool = False) -> None:
        """Read every statement of these kinds."""
        for keyword in keywords:
            for statement in self.statements[keyword]:
                with self.gathering():
                    read(Words(statement.line, commas))

    def read(self) -> Plan:
        """Read everything; names first, then what uses them."""
        plan, names = self.plan, self.names
        self._settings()
        self.each(self._segment, "subnet", "outside")
        for statement in (*self.statements["router"], *self.statements["switch"]):
            with self.gathering():
                self._device(statement)
        self.each(self._host, "host")
        self.each(self._pending_group, "group")
        self._groups()
        self._services()
        self.each(self._window, "window", commas=True)
        for statement in self.statements["list"]:
            with self.gathering():
                access_list = entries.access_list(statement, names, self.errors)
                plan.lists[access_list.name] = access_list
        self.each(self._placement, "place")
        self.each(self._expectation, "expect", "keep")
        self.each(self._acceptance, "accept")
        plan.expectations.sort(key=lambda each: (plan.files.index(each.place.file), each.place.line))
        self.errors += wiring.check(plan, self._complain)
        return plan

    def _groups(self) -> None:
        """Read the groups, those that others have before these."""
        pending = self.names.pending_groups
        order, circles = in_order(
            pending, lambda name: [part for word in pending[name].words[2:] for part in word.split(",") if part in pending]
        )
        for circle in circles:
            words = pending[circle[0]]
            self.errors.append(words.error(f"groups go round in a circle: {_round(circle)}", index=1))
            self.names.broken_groups.update(circle)
        for name in order:
            with self.gathering():
                self.plan.groups[name] = self.names.group(pending[name], name)

    def _segment(self, words: Words) -> None:
        segment = topology.segment(words)
        self.plan.segments[segment.name] = segment

    def _host(self, words: Words) -> None:
        host = topology.host(words, self.names)
        self.plan.hosts[host.name] = host

    def _pending_group(self, words: Words) -> None:
        words.keyword("group")
        self.names.pending_groups[words.name("a group")] = words

    def _window(self, words: Words) -> None:
        window = times.window(words)
        self.plan.windows[window.name] = window

    def _expectation(self, words: Words) -> None:
        self.plan.expectations.append(claims.expectation(words, self.names))

    def _acceptance(self, words: Words) -> None:
        self.plan.acceptances.append(claims.acceptance(words, self.names))

    def _device(self, statement: Statement) -> None:
        """Read a device and its block of interfaces, ports and routes."""
        device = topology.device(Words(statement.line))
        self.plan.devices[device.name] = device
        for line in statement.block:
            with self.gathering():
                words = Words(line)
                self.lines[words.place] = line
                kind = words.peek()
                if kind in ("interface", "port") and len(words.words) > 1:
                    self.names.declared[f"{device.name}.{words.words[1]}"] = kind
                if kind == "interface":
                    interface = topology.interface(words, self.names, device)
                    device.interfaces[interface.name] = interface
                elif kind == "port":
                    port = topology.port(words, device)
                    device.ports[port.name] = port
                elif kind == "route":
                    device.routes.append(topology.route(words))
                else:
                    words.choice(("interface", "port", "route") if device.switch else ("interface", "route"))

    def _services(self) -> None:
        """Read SERVICE = "service" NAME TOKEN *("," TOKEN), then see that every token stands for something."""
        named: dict[str, tuple[Words, NamedService]] = {}
        for statement in self.statements["service"]:
            with self.gathering():
                words = Words(statement.line)
                words.keyword("service")
                name = words.name("a service")
                if name in ("ip", "ping") or name in protocols():
                    raise words.error(f"{name} means itself; give the service another name")
                tokens: list[str] = []
                while not tokens or words.peek():
                    token = words.take("a service, as tcp/8443")
                    more = token.endswith(",")
                    tokens += split_service(token.rstrip(","))
                    if more and not words.peek():
                        raise words.missing("another service after the comma")
                    if not more and words.peek():
                        raise words.error("expected a comma between two services", index=words.index)
                named[name] = (words, NamedService(name, tuple(tokens), words.place))
        order, circles = in_order(named, lambda name: [token for token in named[name][1].tokens if token in named])
        for circle in circles:
            words = named[circle[0]][0]
            self.errors.append(words.error(f"services go round in a circle: {_round(circle)}", index=1))
        circular = {name for circle in circles for name in circle}
        for name in order:
            words, service = named[name]
            if name in circular or not self._stands_for_something(words):
                continue
            self.plan.services[name] = service

    def _stands_for_something(self, words: Words) -> bool:
        """See that every token of a service exists in some family; what is wrong is told here, and not where it is used."""
        before = len(self.errors)
        for index in range(2, len(words.words)):
            with self.gathering():
                words.index = index + 1
                claims.in_some_family(words, self.names, words.words[index].rstrip(","))
        return len(self.errors) == before

    def _placement(self, words: Words) -> None:
        """Read a placement; a place has one list of a family in a direction."""
        plan = self.plan
        placement = claims.placement(words, self.names)
        family = plan.lists[placement.access_list].family
        for other in plan.placements:
            if (other.point, other.direction) != (placement.point, placement.direction):
                continue
            if plan.lists[other.access_list].family is family:
                message = f"{placement.point} {placement.direction} has the {family.word} list {other.access_list} (line {other.place.line}) already"
                raise words.error(f"{message}; a place takes one list of a family each way", index=1)
        plan.placements.append(placement)

    def _settings(self) -> None:
        """Read TITLE, ROUTING, NUMBERING and CLIENT, each at most once."""
        settings = {"title": self._title, "routing": self._routing, "numbering": self._numbering, "client": self._client}
        for keyword, read in settings.items():
            for count, statement in enumerate(self.statements[keyword]):
                with self.gathering():
                    words = Words(statement.line, commas=keyword == "numbering")
                    words.keyword(keyword)
                    if count:
                        first = self.statements[keyword][0].line.number
                        raise words.error(f"{keyword} stands in line {first} already; a plan has one")
                    read(words)
                    words.end()

    def _title(self, words: Words) -> None:
        """TITLE = "title" TEXT."""
        self.plan.title = words.text("the title, in double quotes")

    def _routing(self, words: Words) -> None:
        """ROUTING = "routing" ("shortest" | "static")."""
        self.plan.static_routing = words.choice(("shortest", "static")) == "static"

    def _numbering(self, words: Words) -> None:
        """NUMBERING = "numbering" "standard" RANGES "extended" RANGES."""
        numbering: list[tuple[Kind, int, int]] = []
        for kind in Kind:
            words.keyword(kind.value)
            while True:
                first, last = self._number_range(words)
                for other, low, high in numbering:
                    if first <= high and low <= last:
                        raise words.error(f"{words.words[words.index - 1]} overlaps the {other} numbers {low}-{high}")
                numbering.append((kind, first, last))
                if not words.accept(","):
                    break
        self.plan.numbering = tuple(numbering)

    def _client(self, words: Words) -> None:
        """CLIENT = "client" "ports" RANGE."""
        words.keyword("ports")
        self.plan.client_ports = self._number_range(words, MOST_PORT)

    def _number_range(self, words: Words, most: int = MOST_NUMBER) -> tuple[int, int]:
        """RANGE = NUMBER ["-" NUMBER]."""
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

    def _complain(self, place: Place, word: str, message: str) -> PlanError:
        """Make an error at a word of a line that was read before."""
        text = self.lines[place].text
        column = text.find(word)
        return PlanError(message, place=place, source=text, column=max(column, 0) + 1, width=len(word) if column >= 0 else len(text))
