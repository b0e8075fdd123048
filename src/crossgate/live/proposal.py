"""What a push would do, worked out before anything is sent."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from datetime import datetime
from typing import NamedTuple

from crossgate.core.answers.compare import differences
from crossgate.core.answers.difference import Difference
from crossgate.core.answers.drift import in_force
from crossgate.core.model.errors import PlanError
from crossgate.core.model.plan import Plan
from crossgate.core.traffic.session import Session
from crossgate.formats.exchange.asked import ExportWanted, chosen
from crossgate.formats.exchange.ietf import write
from crossgate.language.coming import Coming
from crossgate.language.reader import Reading
from crossgate.live.devices import RunningConfiguration
from crossgate.live.documents import bare, lists_of, with_lists
from crossgate.live.drift import are_the_same_on, coming_from
from crossgate.live.halves import first_half
from crossgate.live.order import Move, Order, Runs, as_it_runs, between, order
from crossgate.live.pushing import PushStep


class StepEffect(NamedTuple):
    """What a step does to traffic: what is treated differently after it, in the words of the plan
    at that point.
    """

    plan: Plan
    found: list[Difference]


class Push(NamedTuple):
    """What a push would do: its steps in order, the effect of each on traffic, and what cannot be
    expressed exactly; `order` tells what holds throughout, or what prevents the push.
    """

    steps: tuple[PushStep, ...]
    changes: tuple[StepEffect, ...]
    unsaid: tuple[str, ...]
    order: Order


def proposed(
    reading: Reading,
    running: Sequence[RunningConfiguration],
    at: datetime,
    tell: Callable[[int, int], None] = lambda done, of: None,
) -> Push:
    """Work out how devices come to run what a plan says for a time. Raises `PlanError` where the
    configuration of one cannot be read.
    """
    now = in_force(reading.plan, at)
    before, after = dict[str, Coming](), dict[str, Coming]()
    wanted, unsaid = dict[str, str](), dict[str, list[str]]()
    runs = {each.device: each for each in running}
    for name, each in runs.items():
        lists, cannot = _lists_of(now, name)
        if bare(lists_of(each.document, name)) == bare(lists):
            continue
        wanted[name], unsaid[name] = lists, cannot
        before[name] = coming_from(reading.plan, each)
        after[name] = coming_from(
            reading.plan, each._replace(document=with_lists(each.document, lists, name))
        )
    start, end = (as_it_runs(reading, own, at) for own in (before, after))
    plans = {Runs.BEFORE: start, Runs.AFTER: end}
    differing = [name for name in wanted if not are_the_same_on(start, end, name)]
    halved = dict[str, str]()

    def halves() -> Plan | None:
        """Return the plan in which all devices run the first half, and keep what that is."""
        try:
            first = {
                name: first_half(before[name], after[name], reading.plan.devices[name].closed)
                for name in differing
            }
        except PlanError:
            return None
        half = as_it_runs(reading, before | first, at)
        halved.update({name: _lists_of(half, name)[0] for name in differing})
        there = {
            name: coming_from(
                reading.plan,
                runs[name]._replace(document=with_lists(runs[name].document, own, name)),
            )
            for name, own in halved.items()
        }
        plans[Runs.HALF] = as_it_runs(reading, before | there, at)
        return plans[Runs.HALF]

    found = order(start, end, differing, tell, halves)
    moved = {each.device for each in found.moves if each.runs is Runs.AFTER}
    moves = (*found.moves, *(Move(name) for name in differing if name not in moved))
    steps, changes = list[PushStep](), list[StepEffect]()
    there, was = dict[str, Runs](), Session(between(plans, {}))
    old = {name: lists_of(each.document, name) for name, each in runs.items()}
    for device, by_then in moves:
        new = wanted[device] if by_then is Runs.AFTER else halved[device]
        steps.append(PushStep(device, old[device], new, half=by_then is Runs.HALF))
        old[device], there[device] = new, by_then
        following = Session(between(plans, there), beside=was)
        changes.append(StepEffect(following.plan, differences(was, following)))
        was = following
    return Push(
        tuple(steps),
        tuple(changes),
        tuple(f"{name}: {line}" for name in differing for line in unsaid[name]),
        found,
    )


def _lists_of(plan: Plan, name: str) -> tuple[str, list[str]]:
    """Return the lists of a device as XML, and what the models cannot express."""
    every, places = chosen(plan, (), name, bare=True)
    document = write(ExportWanted(plan, every, places, name, xml=True))
    assert isinstance(document.text, str)
    return lists_of(document.text.encode(), name), document.unsaid


def wrong_after(reading: Reading, step: PushStep, document: bytes, at: datetime) -> str:
    """Return how a device's lists differ after a step from what it was sent; "" where they do
    not.
    """
    there = RunningConfiguration(step.device, document)
    try:
        plans = [
            as_it_runs(reading, {step.device: coming_from(reading.plan, one)}, at)
            for one in (there, there._replace(document=with_lists(document, step.new, step.device)))
        ]
    except PlanError as error:
        return error.message
    return "" if are_the_same_on(plans[0], plans[1], step.device) else "its lists are others"
