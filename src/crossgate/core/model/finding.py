"""What a finding is, and all the names that there are."""

from __future__ import annotations

from typing import NamedTuple

from crossgate.core.model.errors import Place, placeless
from crossgate.core.model.finding_kinds import KINDS, Severity
from crossgate.core.model.network import Direction, Point
from crossgate.core.model.packet import Packet

MENDED = frozenset(
    (
        "never-reached",
        "no-effect",
        "mask-reversed",
        "subnet-missed",
        "protocol-meant",
        "unplaced",
        "nothing-permitted",
        "wrong-side",
        "translated-away",
        "replies-blocked",
        "spoofable",
        "neighbour-can-claim",
        "icmp6-needed",
        "neighbour-blocked",
        "bogus-source",
        "other-half",
        "names-round",
        "proxy-round",
        "mail-round",
        "management-round",
        "lease-blocked",
        "renewal-blocked",
        "names-blocked",
        "time-blocked",
        "one-family",
        "out-of-order",
    )
)
"""The findings that edits are looked for."""


class Fault(NamedTuple):
    """What is wrong with one thing, and how to mend it."""

    what: str
    mend: str


class Finding(NamedTuple):
    """A finding: its name, its place, and what is wrong there with how to mend it.

    `because` are the numbers of the entries that cause it; `packet` is an example where there is
    one, sent on `segment` where that is not its source address's own.
    """

    name: str
    place: Place
    access_list: str | None
    entry: int | None
    fault: Fault
    because: tuple[int, ...] = ()
    packet: Packet | None = None
    segment: str | None = None
    passes: tuple[Point, Direction] | None = None
    """Where what an entry asks for comes by, that stands where nothing of it does."""
    instead: tuple[tuple[str, str], ...] = ()
    """Words of an entry, each with what it is to ask for instead."""
    beside: str = ""
    """The service to be denied beside what an entry denies, as an entry names it; or all that a
    line is to deny first in a list; or, of leases, what one is to permit.
    """

    def __repr__(self) -> str:
        return f"<Finding {self.name} at {self.place}>"

    @property
    def message(self) -> str:
        """What is wrong, and how to mend it."""
        return f"{self.fault.what}; {self.fault.mend}"

    @property
    def severity(self) -> Severity:
        """How much it matters."""
        return KINDS[self.name].severity


@placeless
class Acceptance(NamedTuple):
    """An `accept` line: findings of one name in a list, or at one entry of it, that are intended,
    and why.
    """

    finding: str
    access_list: str
    entry: int | None
    reason: str
    place: Place

    def covers(self, finding: Finding) -> bool:
        """Whether it is about this finding."""
        same = (self.finding, self.access_list) == (finding.name, finding.access_list)
        return same and self.entry in (None, finding.entry)
