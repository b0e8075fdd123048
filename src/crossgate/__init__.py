"""Cross Gate: write, place, trace and prove access lists, offline, from one plain-text plan.

As a library it has the names of `crossgate.library`, each made when it is first asked for:

    import crossgate

    plan = crossgate.read("ternhaven.gate")
    print(crossgate.trace(plan, "kiosk-1", "manifest", "tcp/8443")[0].verdict)

Version numbers follow semantic versioning (semver.org): of the language, the commands, the JSON
documents and the names here.
"""

from typing import TYPE_CHECKING, Any

if TYPE_CHECKING:
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
        check,
        compare,
        export,
        leases,
        lines,
        parse,
        points,
        reach,
        read,
        replay,
        trace,
        verify,
        when,
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
    "check",
    "compare",
    "export",
    "leases",
    "lines",
    "parse",
    "points",
    "reach",
    "read",
    "replay",
    "trace",
    "verify",
    "when",
]


def __getattr__(name: str) -> Any:
    if name in __all__:
        from importlib import import_module

        return getattr(import_module("crossgate.library"), name)
    raise AttributeError(f"module {__name__!r} has no attribute {name!r}")


def __dir__() -> list[str]:
    return __all__
