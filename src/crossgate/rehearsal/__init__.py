"""The plan as a live network on this machine: real programs send real packets, and the plan's lists
decide about them.

`frames` reads and writes what goes over a link, `fabric` takes it from machine to machine as the
plan says, `namespaces` makes the machines, and `network` runs all of it. `claims` tests what the
plan claims.
"""

from __future__ import annotations

MOST_ASKED = 1 << 18
"""No question to a rehearsal, and no answer, is longer, in octets."""
