"""What must hold: the claims that a plan makes about its own traffic."""

from __future__ import annotations

from datetime import datetime
from enum import StrEnum
from typing import NamedTuple

from crossgate.core.model.accesslist import DeciderKey
from crossgate.core.model.address import Family
from crossgate.core.model.errors import Place, placeless


class Claim(StrEnum):
    """The verdict that an expectation claims."""

    PERMIT = "permit"
    DENY = "deny"
    HALF_OPEN = "half-open"


class Moment(NamedTuple):
    """A time that a person wrote: a date and time, or a minute of the week that stands for every week."""

    text: str
    date: datetime | None = None
    minute: int | None = None


@placeless
class Expectation(NamedTuple):
    """An `expect` or `keep` line, names as written; a `keep` may not be broken by an edit."""

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
