"""What a push would do, worked out before anything is sent."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from datetime import datetime
from typing import NamedTuple

from crossgate.core.answers.compare import Difference, differences
from crossgate.core.answers.drift import in_force
from crossgate.core.model.errors import PlanError
from crossgate.core.model.plan import Plan
from crossgate.core.traffic.session import Session
from crossgate.formats.exchange.asked import Wanted, chosen
from crossgate.formats.exchange.ietf import write
from crossgate.language.importing import Coming
from crossgate.language.reader import Reading
from crossgate.live.devices import Running
from crossgate.live.documents import name_of, parsed, written
from crossgate.live.drift import are_the_same_on, coming_from
from crossgate.live.order import Order, as_it_runs, between, order
from crossgate.live.pushing import Step, bare, lists_of


class Change(NamedTuple):
    """What a step does to traffic: what fares otherwise behind it than before, in the words of the
    plan as it runs then.
    """

    plan: Plan
    found: list[Difference]


class Push(NamedTuple):
    """What a push would do: its steps in order, what each does to traffic by its device, what
    cannot be said exactly; `order` tells what holds throughout, or what stands in the way.
    """

    steps: tuple[Step, ...]
    changes: dict[str, Change]
    unsaid: tuple[str, ...]
    order: Order


def proposed(
    reading: Reading,
    running: Sequence[Running],
    at: datetime,
    tell: Callable[[int, int], None] = lambda done, of: None,
) -> Push:
    """Work out how devices are made to run what a plan says for a time. Raises `PlanError` where
    what runs on one cannot be read.
    """
    now = in_force(reading.plan, at)
    before, after = dict[str, Coming](), dict[str, Coming]()
    steps, unsaid = dict[str, Step](), dict[str, list[str]]()
    for each in running:
        name = each.device
        every, places = chosen(now, (), name, bare=True)
        document = write(Wanted(now, every, places, name, xml=True))
        assert isinstance(document.text, str)
        step = Step(name, lists_of(each.document, name), lists_of(document.text.encode(), name))
        if bare(step.old) == bare(step.new):
            continue
        steps[name], unsaid[name] = step, document.unsaid
        before[name] = coming_from(reading.plan, each)
        after[name] = coming_from(reading.plan, each._replace(document=_with(each, step.new)))
    plans = [as_it_runs(reading, each, at) for each in (before, after)]
    differing = [name for name in steps if not are_the_same_on(plans[0], plans[1], name)]
    found = order(plans[0], plans[1], differing, tell)
    ordered = (*found.devices, *(name for name in differing if name not in found.devices))
    changes, done, was = (
        dict[str, Change](),
        list[str](),
        Session(between(plans[0], plans[1], frozenset())),
    )
    for name in ordered:
        done.append(name)
        following = Session(between(plans[0], plans[1], frozenset(done)), beside=was)
        changes[name] = Change(following.plan, differences(was, following))
        was = following
    return Push(
        tuple(steps[name] for name in ordered),
        changes,
        tuple(f"{name}: {line}" for name in ordered for line in unsaid[name]),
        found,
    )


def _with(running: Running, lists: str) -> bytes:
    """Return what runs on a device with other lists."""
    document = parsed(running.document, running.device)
    for each in [one for one in document if name_of(one) == "acls"]:
        document.remove(each)
    document.append(parsed(lists.encode(), running.device))
    return written(document)


def wrong_after(reading: Reading, step: Step, document: bytes, at: datetime) -> str:
    """Return what a device does otherwise, after a step, than what it was sent says; "" where it
    does just that.
    """
    there = Running(step.device, document)
    try:
        plans = [
            as_it_runs(reading, {step.device: coming_from(reading.plan, one)}, at)
            for one in (there, there._replace(document=_with(there, step.new)))
        ]
    except PlanError as error:
        return error.message
    return "" if are_the_same_on(plans[0], plans[1], step.device) else "its lists are others"
