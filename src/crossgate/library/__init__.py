"""Cross Gate as a library: what a program can ask of a plan. `crossgate` itself has all of these
names.

All of it is offline, and only `write` writes. What people got wrong is a `PlanError` with its place
and its mend; a plan that is read with `read` is whole, or `PlanErrors` has every error in it.
"""

from crossgate.core.conversation.story import Trace
from crossgate.core.conversation.verdict import Verdict
from crossgate.core.model.address import Family
from crossgate.core.model.conditions import When
from crossgate.core.model.errors import PlanError, PlanErrors
from crossgate.core.model.finding import Finding
from crossgate.core.model.plan import Plan
from crossgate.core.sets.addresses import AddressSet
from crossgate.core.sets.frame import PacketSet
from crossgate.library.documents import export
from crossgate.library.edits import mend, propose, write
from crossgate.library.on_site import cause, sheet
from crossgate.library.past import claim_since, since
from crossgate.library.plans import addresses, lines, parse, read, when
from crossgate.library.questions import (
    about,
    check,
    compare,
    grid,
    hours,
    leases,
    outages,
    points,
    reach,
    trace,
    verify,
    why,
)
from crossgate.library.traffic import replay

__all__ = [
    "AddressSet",
    "Family",
    "Finding",
    "PacketSet",
    "Plan",
    "PlanError",
    "PlanErrors",
    "Trace",
    "Verdict",
    "When",
    "about",
    "addresses",
    "cause",
    "check",
    "claim_since",
    "compare",
    "export",
    "grid",
    "hours",
    "leases",
    "lines",
    "mend",
    "outages",
    "parse",
    "points",
    "propose",
    "reach",
    "read",
    "replay",
    "sheet",
    "since",
    "trace",
    "verify",
    "when",
    "why",
    "write",
]
