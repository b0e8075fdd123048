"""The state of a plan, in under ten lines."""

from __future__ import annotations

from collections.abc import Iterator, Sequence

from crossgate.core.answers.standing import Standing
from crossgate.core.audit import Audited
from crossgate.core.audit.claims import by_place
from crossgate.core.model.accesslist import line_name
from crossgate.core.model.finding_kinds import Severity
from crossgate.core.model.plan import Plan
from crossgate.show.console import alert, count, name, quiet, strong, word

MOST_NAMES = 6
"""How many names a line has; of more it says how many."""

WAYS_TO_BEGIN = (
    "There is no plan (*.gate) in this folder. To begin:",
    "  crossgate new FILE.gate          a plan of your own: a small one that runs, or from tables",
    "                                   (--subnets, --hosts)",
    "  crossgate demo FOLDER            a full example, a ferry terminal, to look at and to change",
    "  crossgate import ietf FILE --plan NEW.gate",
    "                                   a plan of what a device holds, from its ietf document",
    "  crossgate --plan FILE COMMAND    a plan that lies elsewhere; or set CROSSGATE_PLAN",
)


def standing_lines(plan: Plan, found: Standing, audited: Audited | None) -> Iterator[str]:
    """Yield the state of a plan; without an audit its findings were not looked at."""
    entries = sum(len(each.entries) for each in plan.every_list.values())
    outsides = sum(each.outside for each in plan.segments.values())
    yield f"{strong(plan.title or plan.files[0])}" + (
        f"  {quiet(plan.files[0])}" if plan.title else ""
    )
    yield ", ".join(
        (
            count(len(plan.devices), "device"),
            count(sum(not each.outside for each in plan.segments.values()), "subnet"),
            *([count(outsides, "outside")] if outsides else []),
            f"{count(len(plan.every_list), 'list')} with {count(entries, 'entry', 'entries')}",
        )
    )
    yield _findings(plan, audited)
    yield _expectations(found)
    if found.unplaced:
        yield f"stand nowhere: {_names([each.name for each in found.unplaced])}"
    if found.shut:
        yield f"shut now: {_names([each.name for each in found.shut])}"
    if found.off:
        lines = [line_name(access_list.name, entry.number) for access_list, entry in found.off]
        yield f"off: {_names(lines)}"


def _findings(plan: Plan, audited: Audited | None) -> str:
    if audited is None:
        return f"findings: not looked at, the plan is large; {name('crossgate check')} does"
    totals = [
        (severity, sum(each.severity is severity for each in by_place(plan, audited.findings)))
        for severity in Severity
    ]
    told = [
        word(severity, shown=count(number, str(severity))) for severity, number in totals if number
    ]
    accepted = f", {len(audited.accepted)} accepted" if audited.accepted else ""
    if audited.missed:
        accepted += f", {count(len(audited.missed), 'question')} not answered"
    return f"findings: {', '.join(told) or 'none'}{accepted}" + (
        f"; {name('crossgate check')} shows them" if told or audited.missed else ""
    )


def _expectations(found: Standing) -> str:
    if not found.held + found.failed + found.left:
        return (
            "expectations: none; an expect line says what must hold, as: expect permit ping "
            "FROM to TO"
        )
    told = [f"{found.held} hold" if found.held != 1 else "1 holds"]
    if found.failed:
        told.append(alert(f"{found.failed} fail" if found.failed != 1 else "1 fails"))
    if found.left:
        told.append(f"{found.left} not looked at")
    return f"expectations: {', '.join(told)}" + (
        f"; {name('crossgate verify')} tells why" if found.failed or found.left else ""
    )


def _names(names: Sequence[str]) -> str:
    more = f" and {len(names) - MOST_NAMES} more" if len(names) > MOST_NAMES else ""
    return ", ".join(names[:MOST_NAMES]) + more
