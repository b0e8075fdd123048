"""What a finding is."""

from __future__ import annotations

from enum import StrEnum
from typing import NamedTuple

from crossgate.core.errors import Place
from crossgate.core.packet import Packet


class Severity(StrEnum):
    """How much a finding matters: a mistake, a probable mistake, a remark."""

    ERROR = "error"
    WARNING = "warning"
    NOTE = "note"


class Finding(NamedTuple):
    """One finding: its name, where it is, what is wrong and how to mend it.

    `because` are the numbers of the entries that cause it; `packet` is a witness where one exists.
    """

    name: str
    severity: Severity
    place: Place
    access_list: str | None
    entry: int | None
    message: str
    because: tuple[int, ...] = ()
    packet: Packet | None = None
