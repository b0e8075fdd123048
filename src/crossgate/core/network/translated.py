"""What translations make of a packet at the borders that it crosses, on its way and on the way of
its answer.

Theory of operation. A *border* is an interface of a device that translates, crossed in one
direction.

1. When a packet leaves by a border, the first rule that fits gives it a new source.

2. When it comes in by a border, the first rule that fits gives it a new destination, and the device
sends it on to that. The same happens when a packet comes in by an inside interface for a public
address of the device; then its source is translated, too, as if it had left by the border and come
in again (a hairpin, RFC 4787 section 6).

3. An answer is sent to the source address that its packet arrived with. A device that the
conversation passed undoes its own translation, at whichever of its borders the answer passes. Any
other device treats the answer as a new packet; where it would translate that, nobody recognises the
answer any more, and it is lost.

4. A public address belongs to no machine: a packet to it is lost unless a rule translates its
destination.

Which rules fit depends on the two ends and on what is carried, which is divided into a few *sorts*.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence
from functools import cached_property

from crossgate.core.model.address import Address, Family, Pattern
from crossgate.core.model.network import Direction, Point, Translation, TranslationKind
from crossgate.core.model.packet import Packet
from crossgate.core.model.plan import Plan
from crossgate.core.network.failure import Failure, FailureKind
from crossgate.core.network.translated_state import Sorts, TranslatedState, Turn
from crossgate.core.network.view import Rewriting
from crossgate.core.network.way_graph import Border
from crossgate.core.sets.region import (
    packet_region,
)

_MOST = 8
"""So many times a packet is translated; one that would be more often goes round, and is lost."""


class Translations:
    """The translations of one family of a plan."""

    def __init__(self, plan: Plan, family: Family) -> None:
        self._plan = plan
        self.rules = plan.translations[family]
        self._at: dict[Point, list[int]] = {}
        self._points: dict[str, list[Point]] = {}
        for number, rule in enumerate(self.rules):
            if rule.point not in self._at:
                self._points.setdefault(rule.device, []).append(rule.point)
            self._at.setdefault(rule.point, []).append(number)
        self._like: dict[object, Address] = {}
        self._source_like: dict[Address, Address] = {}
        self._fitting: dict[Address, tuple[int, ...]] = {}
        self._instead: dict[Address, tuple[Address, ...]] = {}
        self._public: dict[Address, bool] = {}
        self.met: set[int] = set()
        """The rules that have taken packets, of all that were asked about."""

    @cached_property
    def sorts(self) -> Sorts:
        """The sorts of traffic that the rules tell apart."""
        return Sorts(self.rules)

    def sort_of(self, packet: Packet) -> int:
        """Return the sort of a packet that opens a conversation."""
        return self.sorts.of(packet_region(packet).what[0][0])

    def is_public(self, address: Address) -> bool:
        """Whether some translation uses an address in the place of others."""
        if address not in self._public:
            self._public[address] = any(each.is_public(address) for each in self.rules)
        return self._public[address]

    def leaving(self, source: Address) -> set[Point]:
        """Return the borders at which some rule may give a source another address."""
        rules = (self.rules[each] for each in self.fitting(source))
        return {rule.point for rule in rules if rule.public}

    def instead_of(self, source: Address) -> tuple[Address, ...]:
        """Return the addresses that a source may get at the first border by which it leaves."""
        if source not in self._instead:
            self._instead[source] = tuple(self._instead_of(source))
        return self._instead[source]

    def _instead_of(self, source: Address) -> Iterator[Address]:
        for rule in self.rules:
            fits = any(each.contains(source.value) for each in rule.inside)
            for block in rule.public if fits and rule.kind is TranslationKind.LEAVING else ():
                for value in range(block.first, block.last + 1):
                    yield source._replace(value=value)
            for inside, public in rule.pairs():
                if rule.kind is TranslationKind.BOTH_WAYS and inside.contains(source.value):
                    yield source._replace(value=source.value - inside.value + public.value)

    def like(self, address: Address, side: int) -> Address:
        """Return the representative of all addresses that the rules treat like this one, as a
        source (side 0) or as a destination (side 1).
        """
        if side:
            return address if self.is_public(address) else self._like.setdefault(None, address)
        if address not in self._source_like:
            self._source_like[address] = self._as_source(address)
        return self._source_like[address]

    def fitting(self, source: Address) -> tuple[int, ...]:
        """Return the numbers of the rules that translate a source address."""
        if source not in self._fitting:
            self._fitting[source] = tuple(
                number
                for number, rule in enumerate(self.rules)
                if rule.kind is not TranslationKind.ENTERING
                and any(each.contains(source.value) for each in rule.inside)
            )
        return self._fitting[source]

    def _as_source(self, address: Address) -> Address:
        fitting = self.fitting(address)
        if any(self.rules[each].kind is TranslationKind.BOTH_WAYS for each in fitting):
            return address
        return self._like.setdefault(fitting, address)

    # What a border does

    def turn(self, state: TranslatedState, border: Border) -> Turn:
        """Return what becomes of a packet at a border."""
        device, out = border.point.owner, border.direction is Direction.OUTBOUND
        if state.answering is not None:
            return self._taken_back(state, border.point, out)
        state = state._replace(known=state.known | {device})
        if len(state.view) >= _MOST:
            return Turn(state, lost=_going_round(device))
        if out:
            made = self._leaving(border.point, state)
            return Turn(state if made is None else self._from(state, made))
        return self._entering(state, border.point)

    def _leaving(self, point: Point, state: TranslatedState) -> Rewriting | None:
        """Return what the first rule that fits at an interface makes of the source of a packet that
        leaves by it.
        """
        source, taken = state.sources[-1], self.sorts.taken[state.sort]
        for number in self._at.get(point, ()):
            rule = self.rules[number]
            if rule.kind is TranslationKind.ENTERING or not taken[number]:
                continue
            for index, own in enumerate(rule.inside):
                if own.contains(source.value):
                    self.met.add(number)
                    if rule.kind is TranslationKind.LEAVING:
                        return (
                            Rewriting(rule.device, number, 0, pool=rule.public)
                            if rule.public
                            else None
                        )
                    offset = rule.public[index].value - own.value
                    return Rewriting(rule.device, number, 0, offset)
        return None

    def _led_in(self, point: Point, state: TranslatedState) -> Rewriting | None:
        """Return what the first rule that fits at an interface makes of the destination of a
        packet.
        """
        value, taken = state.destination.value, self.sorts.taken[state.sort]
        for number in self._at.get(point, ()):
            rule = self.rules[number]
            if rule.kind is TranslationKind.LEAVING or not taken[number]:
                continue
            for own, public in zip(rule.inside, rule.public, strict=True):
                if public.contains(value):
                    self.met.add(number)
                    return Rewriting(
                        rule.device, number, 1, own.value - public.value, port=rule.port
                    )
        return None

    def _entering(self, state: TranslatedState, point: Point) -> Turn:
        device = point.owner
        others = (each for each in self._points[device] if each != point)
        for at in (point, *others):
            made = self._led_in(at, state)
            if made is None:
                continue
            if at != point:  # from inside: as if it went out there, and came in again
                source = self._leaving(at, state)
                state = state if source is None else self._from(state, source)
            sort = state.sort if made.port is None else self.sorts.to_port(state.sort, made.port)
            destination = state.destination._replace(value=state.destination.value + made.offset)
            state = state._replace(view=(*state.view, made), destination=destination, sort=sort)
            return Turn(state, device)
        return self._not_led_in(state, device)

    def _not_led_in(self, state: TranslatedState, device: str) -> Turn:
        """Return what becomes of a packet that no rule fits: it is lost where it is for a public
        address.
        """
        own = self._plan.translated_at(state.destination)
        if own is None or own.device != device:
            return Turn(state)
        return Turn(state, lost=not_led_in(own.point, state.destination))

    def _from(self, state: TranslatedState, made: Rewriting) -> TranslatedState:
        before = state.sources[-1]
        value = made.pool[0].first if made.pool else before.value + made.offset
        return state._replace(
            view=(*state.view, made), sources=(*state.sources, before._replace(value=value))
        )

    def answered_by(self, arrived: TranslatedState, device: str | None) -> TranslatedState:
        """Return the state of the answer to a packet that has arrived, before it is sent.

        Where the packet was for `device` itself, by an address that the device translated, the
        answer comes from the address that the packet was first sent to.
        """
        answer = arrived.answer()
        last = next((each for each in reversed(answer.view) if each.side), None)
        if last is None or last.device != device:
            return answer
        return self._asked_before(answer, last)

    def _asked_before(self, state: TranslatedState, made: Rewriting) -> TranslatedState:
        """Return an answer whose source is the address that its packet was sent to before a
        rewriting.
        """
        assert state.answering is not None  # it is an answer
        asked = state.answering._replace(value=state.answering.value - made.offset)
        view = tuple(each for each in state.view if each is not made)
        return state._replace(view=view, answering=asked)

    def _taken_back(self, state: TranslatedState, point: Point, out: bool) -> Turn:
        """Return what becomes of an answer at a border that undoes its own translation: its
        destination becomes the source that the packet had before.
        """
        device = point.owner
        if device not in state.known:
            return self._as_new(state, point, out)
        last = next((each for each in reversed(state.view) if each.side == int(out)), None)
        if last is None or last.device != device:
            return Turn(state) if out else self._not_led_in(state, device)
        if out:
            return Turn(self._asked_before(state, last))
        view = tuple(each for each in state.view if each is not last)
        sources = state.sources[:-1]
        return Turn(state._replace(view=view, sources=sources, destination=sources[-1]), device)

    def _as_new(self, state: TranslatedState, point: Point, out: bool) -> Turn:
        """Return what becomes of an answer at a device that did not see the packet it answers."""
        device = point.owner
        assert state.answering is not None  # it is an answer
        for number in self._at.get(point, ()):
            rule = self.rules[number]
            if not self.sorts.takes_answer(rule, state.sort):
                continue
            if out and rule.kind is not TranslationKind.ENTERING and rule.public:
                fits = any(each.contains(state.answering.value) for each in rule.inside)
            else:
                fits = (
                    not out
                    and rule.kind is not TranslationKind.LEAVING
                    and rule.is_public(state.destination)
                )
            if fits:
                text = f"{device} does not know what it answers, and translates it as something new"
                return Turn(state, lost=Failure(FailureKind.NO_TRANSLATION, text))
        return Turn(state) if out else self._not_led_in(state, device)


def told_apart(rules: Sequence[Translation], others: Iterable[Pattern]) -> set[Pattern]:
    """Return the prefixes at which the rules divide addresses. Where a rule translates addresses
    one to one, a division on one side of it is one on the other side as well.
    """
    found = {block for rule in rules for block in (*rule.inside, *rule.public) if block.is_prefix}
    pairs = [pair for rule in rules for pair in rule.pairs()]
    waiting = [*found, *others]
    while waiting:
        each = waiting.pop()
        for inside, public in pairs:
            for own, other in ((inside, public), (public, inside)):
                if own.covers(each) and own != each:
                    image = each._replace(value=each.value - own.value + other.value)
                    if image not in found:
                        found.add(image)
                        waiting.append(image)
    return found


def not_led_in(point: Point, address: Address) -> Failure:
    """Return the reason why a packet to a public address is lost."""
    return Failure(FailureKind.NO_TRANSLATION, f"no translation at {point} leads in for {address}")


def not_known(state: TranslatedState) -> Failure:
    """Return the reason why an answer is lost that comes back by another device than its packet
    went.
    """
    last = state.view[-1]
    if last.side:
        text = (
            f"the answer comes from {state.answering}, and not from the address that was asked for: "
            f"it does not come back by {last.device}, which translates that"
        )
    else:
        text = (
            f"the answer to {state.destination} does not come back to {last.device}, which alone "
            "knows whose it is"
        )
    return Failure(FailureKind.NO_TRANSLATION, text)


def _going_round(device: str) -> Failure:
    return Failure(
        FailureKind.LOOP, f"it is translated again and again, at last by {device}, and goes round"
    )
