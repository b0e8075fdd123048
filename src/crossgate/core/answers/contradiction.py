"""Two claims that contradict each other: they demand different things of one packet, so that no
lists can satisfy both.
"""

from __future__ import annotations

from crossgate.core.answers.verify import Verifier
from crossgate.core.model.claim import Promise
from crossgate.core.model.packet import Packet
from crossgate.core.sets.addresses import apart
from crossgate.core.sets.frame import PacketSet
from crossgate.core.traffic.examples import example


def contradiction(verifier: Verifier, one: Promise, other: Promise) -> Packet | None:
    """Return a packet of which two claims demand different things at the same time and with the
    same TLS; None where there is none.
    """
    if not _at_once(one, other):
        return None
    for first in verifier.claims.says(one):
        for second in verifier.claims.says(other):
            if first.claim is not second.claim and first.region.family is second.region.family:
                both = first.region.common(second.region)
                if both is not None and apart(both.source, both.destination):
                    return example(verifier.network.plan, [PacketSet.of(both)])
    return None


def _at_once(one: Promise, other: Promise) -> bool:
    """Whether two claims can apply to the same conversation: at the same time, both within or both
    beyond a rate, and with the same TLS.
    """
    return (
        one.flooding is other.flooding
        and (one.at is None or other.at is None or one.at == other.at)
        and (
            one.hours is None
            or other.hours is None
            or one.hours.window != other.hours.window
            or one.hours == other.hours
        )
        and (one.spoken is None or other.spoken is None or one.spoken == other.spoken)
    )
