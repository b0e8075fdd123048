"""A comparison of two plans whose pairs are compared by other processes.

What differs is told by lists and entries, which equal only themselves: so a worker sends the name
of each, and here it is the list or entry of the plans that were compared.
"""

from __future__ import annotations

import pickle
from collections.abc import Iterator
from dataclasses import dataclass
from io import BytesIO
from typing import Any, NamedTuple

from crossgate.core.answers.change import PlanChange
from crossgate.core.answers.compare import ComparedTraffic, Found, PairKey
from crossgate.core.model.accesslist import AccessList, AnyList
from crossgate.core.model.address import Family
from crossgate.core.model.condition import State
from crossgate.core.model.entry import AnyEntry
from crossgate.core.model.ethernet import EthernetList, Ruling
from crossgate.core.model.plan import Plan
from crossgate.core.model.progress import Tell
from crossgate.core.sets.effort import allow, allowed
from crossgate.core.traffic.session import Session
from crossgate.spread.jobs import given, kept, packed, shared_evenly, unpacked
from crossgate.spread.pools import Part, Pool

Rulings = tuple[tuple[Ruling, ...], Family]


class _Name(NamedTuple):
    """A list of the old or the new plan (`side` 0, 1), or the entry at a `place` in it: among those
    that it has, or those that are in force in a `state`. An ethernet list is another list for the
    packets of frames about which it has `rulings`.
    """

    side: int
    list_name: str
    rulings: Rulings | None = None
    state: State | None = None
    place: int | None = None


@dataclass(frozen=True)
class CompareJob:
    """What to compare: two plans, and how many pieces a question may take."""

    old: Plan
    new: Plan
    pieces: int

    def begun(self) -> tuple[CompareJob, ComparedTraffic]:
        """Return it, and all that the plans can treat differently. What falls into too many pieces
        already then is told by whoever gives the job.
        """
        return self, ComparedTraffic(PlanChange(Session(self.old), Session(self.new)), missed=[])


def compare_part(job: bytes, part: Part) -> bytes:
    """Compare the plans in the pairs that a part names by their numbers; `job` is a `CompareJob` as
    it was given.
    """
    wanted, traffic = kept(job, CompareJob.begun)
    allow(wanted.pieces)
    found: dict[PairKey, object] = {}
    for _, comparison, keys in traffic.each_state(unpacked(part)):
        for nth, key in keys:
            if key not in found:
                found[key] = traffic.find(nth, comparison)
    octets = BytesIO()
    _Names(octets, traffic).dump(found)
    return octets.getvalue()


def compared_in_parts(traffic: ComparedTraffic, pool: Pool, tell: Tell) -> Found:
    """Return what two plans treat differently of each pair, found by other processes. Raises
    `PlanError` where parts are lost.
    """
    wanted = CompareJob(traffic.old.plan, traffic.new.plan, allowed())
    job = given(pool, wanted, lambda _: (wanted, traffic))
    parts = [packed(each) for each in shared_evenly(range(len(traffic.pairs)), pool)]
    found: dict[PairKey, Any] = {}
    for count, octets in enumerate(pool.done(compare_part, job, parts), 1):
        found.update(_Named(BytesIO(octets), traffic).load())
        tell(count, len(parts))
    return found


class _Names(pickle.Pickler):
    """Writes names in the place of lists and entries."""

    def __init__(self, file: BytesIO, traffic: ComparedTraffic) -> None:
        super().__init__(file, pickle.HIGHEST_PROTOCOL)
        self._names: dict[int, _Name] = {}
        for one, name in _named(traffic):
            self._names.setdefault(id(one), name)

    def persistent_id(self, obj: object) -> _Name | None:
        return self._names[id(obj)] if isinstance(obj, (AnyList, AnyEntry)) else None


class _Named(pickle.Unpickler):
    """Reads what was written with names."""

    def __init__(self, file: BytesIO, traffic: ComparedTraffic) -> None:
        super().__init__(file)
        self._lists = _lists(traffic)

    def persistent_load(self, pid: _Name) -> object:
        own = self._lists[pid.side][pid.list_name]
        if pid.rulings is not None:
            assert isinstance(own, EthernetList)
            own = own.for_packets(*pid.rulings)
        if pid.place is None:
            return own
        if pid.state is None:
            return own.entries[pid.place]
        assert isinstance(own, AccessList)
        return own.in_force(pid.state)[pid.place]


def _named(traffic: ComparedTraffic) -> Iterator[tuple[object, _Name]]:
    """Yield each list and entry of two plans with its name."""
    for side, lists in enumerate(_lists(traffic)):
        for own in lists.values():
            yield from _parts(own, _Name(side, own.name))
            for rulings, made in own.by_rulings.items() if isinstance(own, EthernetList) else ():
                yield from _parts(made, _Name(side, own.name, rulings))


def _parts(own: AnyList[Any], name: _Name) -> Iterator[tuple[object, _Name]]:
    yield own, name
    for place, entry in enumerate(own.entries):
        yield entry, name._replace(place=place)
    for state, entries in own.by_state.items() if isinstance(own, AccessList) else ():
        for place, entry in enumerate(entries):
            yield entry, name._replace(state=state, place=place)


def _lists(traffic: ComparedTraffic) -> tuple[dict[str, AnyList[Any]], dict[str, AnyList[Any]]]:
    return traffic.old.plan.every_list, traffic.new.plan.every_list
