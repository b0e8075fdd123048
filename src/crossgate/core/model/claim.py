"""What must hold: the claims that a plan makes about its traffic."""

from __future__ import annotations

from datetime import date, datetime
from enum import StrEnum
from typing import NamedTuple

from crossgate.core.model.accesslist import DeciderKey
from crossgate.core.model.address import Family
from crossgate.core.model.errors import Place, placeless
from crossgate.core.model.service import FlagTest
from crossgate.core.model.tls import Spoken
from crossgate.core.model.window import of_window


class Claim(StrEnum):
    """The verdict that an expectation demands."""

    PERMIT = "permit"
    DENY = "deny"
    HALF_OPEN = "half-open"


class Moment(NamedTuple):
    """A time that a person wrote: a date and time, or a minute of the week that stands for every
    week.
    """

    text: str
    date: datetime | None = None
    minute: int | None = None


class ClaimHours(NamedTuple):
    """All times at which a window is open (`inside`), or all at which it is not; for a claim with a
    last day, only times up to its end (`window.until_name`).
    """

    window: str
    inside: bool

    def __str__(self) -> str:
        if not of_window(self.window):
            return self.window
        return f"{'during' if self.inside else 'outside'} {self.window}"


@placeless
class Expectation(NamedTuple):
    """An `expect` or `keep` line, names as written; no edit may break a `keep`.

    With `flooding` it is about traffic beyond every limit of the lists on the way
    (`conditions.Limit`). With `spoken` it is about conversations that settle on that TLS version,
    with `hours` about every time in them, and with `flags` about TCP segments with such flags that
    open nothing. It applies `until` the end of a day, and `owner` answers for it.
    """

    keep: bool
    claim: Claim
    service: str
    source: str
    destination: str
    source_port: int | None
    at: Moment | None
    over: Family | None
    by: DeciderKey | None
    comment: str
    text: str
    place: Place
    flooding: bool = False
    spoken: Spoken | None = None
    hours: ClaimHours | None = None
    flags: FlagTest | None = None
    until: date | None = None
    owner: str = ""

    @property
    def services(self) -> tuple[str, ...]:
        """The services that it names, here one."""
        return (self.service,)


ELSEWHERE = "elsewhere"
"""The destination of an `only` line that is every address off the source's own subnets."""


@placeless
class Only(NamedTuple):
    """An `expect only` or `keep only` line: of all that the source sends to the destination only
    these services are permitted; without `services`, nothing.

    Lines whose ends overlap add up: what one permits, no other one denies.
    """

    keep: bool
    services: tuple[str, ...]
    source: str
    destination: str
    source_port: int | None
    at: Moment | None
    over: Family | None
    comment: str
    text: str
    place: Place
    flooding: bool = False
    spoken: Spoken | None = None
    hours: ClaimHours | None = None
    flags: None = None
    until: date | None = None
    owner: str = ""

    @property
    def by(self) -> None:
        """The line that must decide; an `only` line never names one."""
        return None

    def claim(self, claim: Claim, service: str, destination: str) -> Expectation:
        """Return what it demands of one service, as a claim of its own; for its own destination or
        a part of that.
        """
        return Expectation(
            self.keep,
            claim,
            service,
            self.source,
            destination,
            self.source_port,
            self.at,
            self.over,
            None,
            self.comment,
            self.text,
            self.place,
            self.flooding,
            self.spoken,
            self.hours,
        )


Promise = Expectation | Only
"""A line that says what must hold."""
