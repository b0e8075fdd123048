"""What a finding is, and the names that there are."""

from __future__ import annotations

from dataclasses import dataclass, field
from enum import StrEnum
from typing import NamedTuple

from crossgate.core.model.errors import Place
from crossgate.core.model.packet import Packet


class Severity(StrEnum):
    """How much a finding matters: a mistake, a probable mistake, a remark."""

    ERROR = "error"
    WARNING = "warning"
    NOTE = "note"


class FindingKind(NamedTuple):
    """A sort of finding: how much it matters, and what it means."""

    severity: Severity
    meaning: str


KINDS = {
    "never-reached": FindingKind(Severity.ERROR, "no packet gets as far as this entry: earlier ones take all of it"),
    "no-effect": FindingKind(Severity.WARNING, "the entry could go and no packet would be treated differently"),
    "mask-reversed": FindingKind(Severity.ERROR, "a netmask where a wildcard is meant, or the reverse"),
    "subnet-missed": FindingKind(Severity.WARNING, "addresses that begin like a subnet and are one bit wider or narrower than it"),
    "protocol-meant": FindingKind(Severity.WARNING, "a protocol whose name people take for something else"),
    "transport-narrowed": FindingKind(Severity.NOTE, "a service behind one transport that is spoken over others too"),
    "unplaced": FindingKind(Severity.WARNING, "a list that nothing places"),
    "nothing-permitted": FindingKind(Severity.WARNING, "a placed list that permits no packet at all"),
    "too-broad": FindingKind(Severity.NOTE, "a permit for everything where what stands beside it is narrow"),
    "locked-out": FindingKind(Severity.ERROR, "a keep that does not hold"),
    "wrong-side": FindingKind(Severity.WARNING, "no packet that can cross this place in this direction can match this entry"),
    "standard-near-source": FindingKind(Severity.NOTE, "a standard list near its source, which stops traffic to everywhere"),
    "unjoined": FindingKind(Severity.WARNING, "machines of one subnet at switches that no cable joins"),
    "replies-blocked": FindingKind(Severity.WARNING, "a conversation that this entry permits is half-open: a list stops the way back"),
    "spoofable": FindingKind(Severity.WARNING, "an entry trusts a source address that can also be claimed from elsewhere (RFC 2827)"),
    "icmp6-needed": FindingKind(Severity.WARNING, "an IPv6 list that stops ICMPv6 messages which must not be dropped (RFC 4890)"),
    "neighbour-blocked": FindingKind(Severity.WARNING, "an IPv6 list that stops neighbour discovery of its own link (RFC 4861, RFC 4890)"),
    "one-family": FindingKind(Severity.WARNING, "a place with a list for one family only, where both families pass"),
    "number-kind": FindingKind(Severity.NOTE, "a number that by the numbering says the other kind"),
    "out-of-order": FindingKind(Severity.NOTE, "lines that do not stand in the order of their numbers"),
    "window-never": FindingKind(Severity.WARNING, "an entry whose window is over"),
    "accept-unused": FindingKind(Severity.NOTE, "an accept line that no finding needs"),
}


class Finding(NamedTuple):
    """One finding: its name, where it is, what is wrong and how to mend it.

    `because` are the numbers of the entries that cause it; `packet` is a witness where one exists.
    """

    name: str
    place: Place
    access_list: str | None
    entry: int | None
    message: str
    because: tuple[int, ...] = ()
    packet: Packet | None = None

    @property
    def severity(self) -> Severity:
        """How much it matters."""
        return KINDS[self.name].severity


@dataclass(frozen=True, slots=True)
class Acceptance:
    """An `accept` line: findings of one name in a list, or at one entry of it, that are meant to be, and why."""

    finding: str
    access_list: str
    entry: int | None
    reason: str
    place: Place = field(compare=False)

    def covers(self, finding: Finding) -> bool:
        """Whether it speaks of this finding."""
        same = (self.finding, self.access_list) == (finding.name, finding.access_list)
        return same and self.entry in (None, finding.entry)
