"""Making devices run what a plan says: one after the other, each by a commit that the device rolls
back itself unless it is confirmed from a new session.

Theory of operation. The journal has for each device what ran, what is to run, and how far it has
come; it is written before each step, so that it is never behind. A device is `waiting`, then
`committing`, then `confirmed`; one that was put back is `undone`. However a push ends, a device in
`committing` rolls back by itself when its time is up, or is told to; `confirmed` ones are put back
in reverse order, unless they are to stay. What a killed push has left, `undo` puts back.
"""

from __future__ import annotations

import json
import secrets
import time
from collections.abc import Callable, Iterator, Sequence
from contextlib import contextmanager, suppress
from dataclasses import asdict, dataclass, field
from enum import StrEnum
from functools import partial
from pathlib import Path

from crossgate.core.model.errors import PlanError
from crossgate.formats.disk import put_file
from crossgate.formats.own_state import name_for_file, own_folder, taking_turns
from crossgate.live.devices import DeviceAccess, running, session, unreached
from crossgate.live.documents import NETCONF, bare, lists_of, packets_counted, parsed, written

SCHEMA = "crossgate/push/1"
_NEEDED = (":candidate", ":confirmed-commit", ":validate")
_FIRST_HALF = "denies also what it is to deny then"
Tell = Callable[["PushStep", str], None]
"""Gets to know how far a device has come, and in words what has been done, "" for nothing yet."""


class Stage(StrEnum):
    """How far a device has come."""

    WAITING = "waiting"
    COMMITTING = "committing"
    CONFIRMED = "confirmed"
    UNDONE = "undone"


@dataclass(slots=True)
class PushStep:
    """What one device is sent at once: what ran there, what is to run, and the token that confirms
    the commit.
    """

    device: str
    old: str
    new: str
    token: str = field(default_factory=lambda: secrets.token_hex(12))
    stage: Stage = Stage.WAITING
    half: bool = False
    """Whether another step of the device follows, of which it is the first half."""
    packets: int | None = None
    """How many packets its lines had decided when it was confirmed, where the device tells."""


class Journal:
    """The record of a push of a plan, in a folder of the user's own, so that nobody else can decide
    what devices are put back to.
    """

    def __init__(self, plan: Path) -> None:
        self.path = own_folder("pushes") / f"{name_for_file(plan)}.json"

    def read(self) -> list[PushStep]:
        """Return the steps of a push that has not ended; none where there is none. Raises
        `PlanError` for a file that is no journal.
        """
        try:
            said = json.loads(self.path.read_text(encoding="utf-8"))
            if said["schema"] != SCHEMA:
                raise ValueError
            return [
                PushStep(
                    each["device"],
                    each["old"],
                    each["new"],
                    each["token"],
                    Stage(each["stage"]),
                    each.get("half", False) is True,
                )
                for each in said["steps"]
            ]
        except FileNotFoundError:
            return []
        except (OSError, ValueError, KeyError, TypeError):
            raise PlanError(
                f"{self.path} is no journal of a push; look what it is, and take it away"
            ) from None

    def write(self, steps: Sequence[PushStep]) -> None:
        """Record how far devices have come."""
        said = {"schema": SCHEMA, "steps": [asdict(each) for each in steps]}
        put_file(self.path, json.dumps(said, indent=1).encode())

    def end(self) -> None:
        """Remove it: nothing is left to be put right."""
        self.path.unlink(missing_ok=True)

    @contextmanager
    def alone(self) -> Iterator[None]:
        """Hold the plan's lock for pushes while the block runs. Raises `PlanError` where another
        push holds it.
        """
        with taking_turns([self.path]):
            yield


def push_step(
    step: PushStep,
    at: DeviceAccess,
    within: float,
    confirm_within: int,
    noted: Callable[[Stage], None],
    seen: Callable[[bytes], str] = lambda _: "",
    others: Sequence[DeviceAccess] = (),
) -> None:
    """Make a device run what a step says.

    In a new session, `seen` checks that it does, and returns what is wrong, "" for nothing; and the
    `others` must still be reachable. Raises `PlanError`; the device then rolls back by itself.
    """
    with session(at, within) as device:
        lacks = [each for each in _NEEDED if each not in device.server_capabilities]
        if lacks:
            raise PlanError(
                f"{step.device} cannot take a commit back by itself: it lacks {', '.join(lacks)} "
                "(RFC 6241)"
            )
        # The lock goes with the session, and with it what was edited and not committed (RFC 6241
        # sections 7.5 and 8.3.5.2).
        device.lock("candidate")
        # Validated as it is edited, not afterwards: one server forgets a candidate that it has
        # validated.
        device.edit_config(
            target="candidate", config=_replacing(step.new), test_option="test-then-set"
        )
        noted(Stage.COMMITTING)
        begun = time.monotonic()
        device.commit(confirmed=True, timeout=str(confirm_within), persist=step.token)
    # Who can reach it no more cannot confirm either, so that it goes back.
    found = running(at, within, counters=True)
    if found.why:
        raise PlanError(f"{found.why}; it goes back by itself within {confirm_within} seconds")
    wrong = seen(found.document)
    if wrong and time.monotonic() - begun > confirm_within:
        raise PlanError(
            f"nobody reached {step.device} for {confirm_within} seconds, and it went back by itself"
        )
    if wrong:
        raise PlanError(f"{step.device} does not run what was sent: {wrong}")
    lost = unreached(others, within)
    if lost:
        raise PlanError(f"behind {step.device} nobody reaches {', '.join(lost)} any more")
    step.packets = packets_counted(found.document, step.device)
    with session(at, within) as device:
        device.commit(persist_id=step.token)
    noted(Stage.CONFIRMED)


def _replacing(lists: str) -> str:
    root = parsed(lists.encode(), "lists")
    root.set(f"{{{NETCONF}}}operation", "replace")
    return f'<config xmlns="{NETCONF}">{written(root).decode()}</config>'


def take_back(step: PushStep, at: DeviceAccess, within: float, confirm_within: int) -> str:
    """Make a device run what it ran before a step; return why that was not possible, "" where it
    was.
    """
    if step.stage is Stage.COMMITTING:
        with suppress(PlanError), session(at, within) as device:
            device.cancel_commit(persist_id=step.token)
    found = running(at, within)
    if found.why:
        return found.why
    try:
        if bare(lists_of(found.document, step.device)) == bare(step.old):
            return ""
        back = PushStep(step.device, step.new, step.old)
        push_step(back, at, within, confirm_within, lambda stage: None)
    except PlanError as error:
        return error.message
    return ""


def push(
    journal: Journal,
    steps: list[PushStep],
    reached: dict[str, DeviceAccess],
    within: float,
    confirm_within: int,
    keep_done: bool,
    seen: Callable[[PushStep, bytes], str],
    tell: Tell,
) -> None:
    """Push to devices in order, and put back what was done where one fails, unless it is to stay.
    Raises `PlanError` with what failed, and how that ended.
    """
    journal.write(steps)
    done = dict[str, None]()
    for step in steps:

        def noted(stage: Stage, step: PushStep = step) -> None:
            step.stage = stage
            journal.write(steps)
            if stage is Stage.COMMITTING:
                tell(step, "")

        try:
            push_step(
                step,
                reached[step.device],
                within,
                confirm_within,
                noted,
                partial(seen, step),
                [reached[name] for name in done if name != step.device],
            )
            done[step.device] = None
            counted = (
                "" if not step.packets else f"; {step.packets:,} packets met its lines already"
            )
            tell(step, f"{_FIRST_HALF if step.half else 'runs what the plan says'}{counted}")
        except BaseException as error:
            undone = undo(journal, steps, reached, within, confirm_within, keep_done, tell)
            if isinstance(error, PlanError):
                raise PlanError(f"{error.message}; {undone}") from None
            raise
    journal.end()


def undo(
    journal: Journal,
    steps: Sequence[PushStep],
    reached: dict[str, DeviceAccess],
    within: float,
    confirm_within: int,
    keep_done: bool,
    tell: Tell,
) -> str:
    """Put devices back that a push has begun with, the last one first, confirmed ones too unless
    they are to stay. Return how that ended.
    """
    problems, kept = list[str](), list[str]()
    for step in reversed(steps):
        if step.stage not in (Stage.COMMITTING, Stage.CONFIRMED):
            continue
        if step.stage is Stage.CONFIRMED and keep_done:
            kept.append(step.device)
            continue
        why = take_back(step, reached[step.device], within, confirm_within)
        if why:
            problems.append(why)
            tell(step, "could not be put back")
            continue
        step.stage = Stage.UNDONE
        journal.write(list(steps))
        tell(step, "runs what it ran before")
    if problems:
        return (
            f"{'; '.join(problems)}. What was done is kept in mind: "
            "crossgate push --undo tries again"
        )
    journal.end()
    if kept:
        return f"{', '.join(reversed(kept))} stays as it is now, all else runs what it ran before"
    return "all devices run what they ran before"
