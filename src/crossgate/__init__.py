"""Cross Gate: write, place, trace and prove access lists, offline, from one plain-text plan.

As a library it has the names of `crossgate.library`, each made when it is first asked for, and
changes of a plan as `crossgate.changes`:

    import crossgate

    plan = crossgate.read("ternhaven.gate")
    print(crossgate.trace(plan, "kiosk-1", "manifest", "tcp/8443")[0].verdict)

Version numbers follow semantic versioning (semver.org): of the language, the commands, the JSON
documents and the names here.
"""

from typing import TYPE_CHECKING, Any

if TYPE_CHECKING:
    from crossgate import changes
    from crossgate.library import (
        AddressSet,
        Family,
        Finding,
        PacketSet,
        Plan,
        PlanError,
        PlanErrors,
        Trace,
        Verdict,
        When,
        about,
        addresses,
        cause,
        check,
        claim_since,
        compare,
        export,
        grid,
        hours,
        leases,
        lines,
        mend,
        outages,
        parse,
        points,
        propose,
        reach,
        read,
        replay,
        sheet,
        since,
        trace,
        verify,
        when,
        why,
        write,
    )

__version__ = "0.2.0"
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
    "__version__",
    "about",
    "addresses",
    "cause",
    "changes",
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


def __getattr__(name: str) -> Any:
    from importlib import import_module

    if name == "changes":
        return import_module("crossgate.changes")
    if name in __all__:
        return getattr(import_module("crossgate.library"), name)
    raise AttributeError(f"module {__name__!r} has no attribute {name!r}")


def __dir__() -> list[str]:
    return __all__
