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
from crossgate.live.order import Order, as_it_runs, order
from crossgate.live.pushing import Step, lists_of


class Change(NamedTuple):
    """What a step does to traffic: what fares otherwise behind it, in the words of the plan with
    what runs on the device then.
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
    steps, changes, unsaid = dict[str, Step](), dict[str, Change](), list[str]()
    for each in running:
        name = each.device
        every, places = chosen(now, (), name, bare=True)
        document = write(Wanted(now, every, places, name, xml=True))
        assert isinstance(document.text, str)
        new = lists_of(document.text.encode(), name)
        own, other = (
            coming_from(reading.plan, one)
            for one in (each, each._replace(document=_with(each, new)))
        )
        plans = [as_it_runs(reading, {name: one}, at) for one in (own, other)]
        if are_the_same_on(plans[0], plans[1], name):
            continue
        before[name], after[name] = own, other
        changes[name] = Change(plans[1], differences(Session(plans[0]), Session(plans[1])))
        unsaid += [f"{name}: {line}" for line in document.unsaid]
        steps[name] = Step(name, lists_of(each.document, name), new)
    found = order(reading, before, after, at, tell)
    left = [name for name in steps if name not in found.devices]
    ordered = tuple(steps[name] for name in (*found.devices, *left))
    return Push(ordered, changes, tuple(unsaid), found)


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
