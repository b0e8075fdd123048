"""The documents of `drift` and `push`: what runs on devices against the plan, and what was done
about it.
"""

from __future__ import annotations

from collections.abc import Sequence
from datetime import datetime
from typing import Literal, TypedDict

from crossgate.core.answers.difference import Difference
from crossgate.core.answers.drift import Drift
from crossgate.core.answers.verify import Verified
from crossgate.core.model.plan import Plan
from crossgate.formats.json.compare import DifferenceDocument, differences_document


class DeviceDriftDocument(TypedDict):
    """What runs on a device against the plan; `why` says why it could not be asked."""

    device: str
    asked: bool
    why: str
    differs: bool
    reworded: bool
    differences: list[DifferenceDocument]
    told: list[str]


class DriftDocument(TypedDict):
    """Which traffic devices treat otherwise than the plan."""

    schema: Literal["crossgate/drift/1"]
    plan: str
    at: str
    devices: list[DeviceDriftDocument]


class StepDocument(TypedDict):
    """A step of a push: which traffic is treated differently after it."""

    device: str
    half: bool
    stage: str
    differences: list[DifferenceDocument]


class BrokenDocument(TypedDict):
    """A claim that does not hold throughout a push, and why."""

    text: str
    why: str


class PushDocument(TypedDict):
    """The steps of a push, how many claims hold throughout, and what prevents it."""

    schema: Literal["crossgate/push/1"]
    plan: str
    at: str
    steps: list[StepDocument]
    unsaid: list[str]
    broken: list[BrokenDocument]
    claims: int
    refused: str


class PushEventDocument(TypedDict):
    """How far a device has come in a push."""

    schema: Literal["crossgate/push-event/1"]
    at: str
    device: str
    half: bool
    stage: str
    said: str
    packets: int | None


def drift_document(plan: Plan, drifts: Sequence[Drift], at: datetime) -> DriftDocument:
    """Return `crossgate/drift/1`: for each device whether it could be asked, and which traffic it
    treats differently.
    """
    return {
        "schema": "crossgate/drift/1",
        "plan": plan.files[0],
        "at": at.isoformat(),
        "devices": [
            {
                "device": each.device,
                "asked": not each.why,
                "why": each.why,
                "differs": each.differs,
                "reworded": each.reworded,
                "differences": differences_document(each.plan, each.found),
                "told": list(each.told),
            }
            for each in drifts
        ],
    }


def push_document(
    plan: Plan,
    steps: Sequence[tuple[str, bool, str, Sequence[Difference]]],
    unsaid: Sequence[str],
    broken: Sequence[Verified],
    claims: int,
    at: datetime,
    refused: str,
) -> PushDocument:
    """Return `crossgate/push/1`: the steps in order, by device, whether each is a first half, how
    far it has come and which traffic is treated differently after it; how many claims hold
    throughout, and those that prevent the push.
    """
    return {
        "schema": "crossgate/push/1",
        "plan": plan.files[0],
        "at": at.isoformat(),
        "steps": [
            {
                "device": device,
                "half": half,
                "stage": stage,
                "differences": differences_document(plan, found),
            }
            for device, half, stage, found in steps
        ],
        "unsaid": list(unsaid),
        "broken": [{"text": each.expectation.text, "why": each.why} for each in broken],
        "claims": claims,
        "refused": refused,
    }


def event_document(
    device: str, half: bool, stage: str, said: str, packets: int | None, at: datetime
) -> PushEventDocument:
    """Return `crossgate/push-event/1`: how far a device has come, also in words; and how many
    packets its lines had decided when it was confirmed, where it reports that.
    """
    return {
        "schema": "crossgate/push-event/1",
        "at": at.isoformat(),
        "device": device,
        "half": half,
        "stage": stage,
        "said": said,
        "packets": packets,
    }
