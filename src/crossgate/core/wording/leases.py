"""How a lease ends, in words."""

from __future__ import annotations

from crossgate.core.answers.leases import Leased


def outcome(leased: Leased) -> str:
    """Say whether a machine gets and keeps its lease, and which message does not get through."""
    who, server, stopped = leased.exchange.client.name, leased.exchange.leases.by, leased.stopped
    if stopped is None:
        return f"{who} gets a lease from {server} and can keep it"
    if stopped.renews:
        return (
            f"{who} gets a lease from {server} and cannot renew it there; it has to ask everybody "
            "again before the lease ends (RFC 2131 section 4.4.5)"
        )
    return f"{who} gets no lease from {server}: it ends at the {stopped.what}"
