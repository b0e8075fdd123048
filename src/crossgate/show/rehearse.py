"""A rehearsal for people: decisions as they happen, how many packets each line decided, and the
results of claims.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from typing import Any

from crossgate.core.model.accesslist import DeciderKey, line_name
from crossgate.core.model.plan import Plan
from crossgate.show.console import count, name, quiet, strong, word
from crossgate.show.width import columns

_DOES = {"permit": "permits", "deny": "denies", "reject": "rejects"}


def event_line(said: Mapping[str, Any]) -> str:
    """Return a line about a decision, or about a change of the plan."""
    if "plan" in said:
        why = f": {said['why'].splitlines()[0]}" if said["why"] else ""
        return quiet(f"  the plan {_PLAN[said['plan']]}{why}")
    ends = f"{said['packet']} from {said['from']} to {said['to']}"
    if "line" in said:
        return quiet(f"  {said['line']} {_DOES[said['action']]} {ends}, {said['where']}")
    return quiet(f"  lost: {ends}: {said['lost']}")


_PLAN = {
    "changed": "was saved, and holds from now on",
    "committed": "is as its devices run it now",
    "has errors": "was saved with errors, and the one before goes on",
    "other machines": "was saved, and the one before goes on; end the rehearsal and start it anew",
}


def decided_lines(plan: Plan, decided: Sequence[tuple[str, int | None, int]]) -> Iterator[str]:
    """Yield how many packets each line decided."""
    if not decided:
        yield "No list decided anything."
        return
    yield "Decided:"
    rows = []
    for list_name, entry, hits in decided:
        access_list = plan.every_list.get(list_name)
        own = None if access_list is None or entry is None else access_list.entry(entry)
        if own is not None:
            text = own.text
        else:
            action = "deny" if access_list is None else str(access_list.otherwise.action)
            text = f"otherwise {action}" if entry is None and access_list is not None else ""
        rows.append([count(hits, "packet"), line_name(list_name, entry), quiet(text)])
    yield from columns(rows, indent=2)


def by_key(decided: Sequence[tuple[str, int | None, int]]) -> dict[DeciderKey, int]:
    """Return the same counts by the lines' keys, for a tally."""
    return {DeciderKey(list_name, entry): hits for list_name, entry, hits in decided}


def claim_lines(found: Mapping[str, Any], full: bool) -> Iterator[str]:
    """Yield the result of a claim: one line where it held, otherwise also what differed."""
    where, claim = f"{found['line']:>5}", found["claim"]
    if found["held"] is None:
        yield f"{quiet('not tried')} {where}  {claim}"
        yield quiet(f"{'':>17}{found['why']}")
        return
    tried = len(found["tried"])
    if found["held"]:
        if full:
            told = quiet(f"  {count(tried, 'time')}")
            yield f"{word('held', shown='seen     ')} {where}  {claim}{told}"
        return
    yield f"{word('failed', shown='otherwise')} {where}  {claim}"
    for each in found["tried"]:
        if not each["held"]:
            yield (
                f"{'':>17}{each['packet']} from {name(each['from'])} to {name(each['to'])} over "
                f"{each['family']}: {each['seen']}"
            )


def sheet_lines(found: Mapping[str, Any], full: bool) -> Iterator[str]:
    """Yield the result of a test of the sheet: one line where it was as the plan says."""
    number, what = f"{found['test']:>5}", found["command"]
    if found["held"] is None:
        yield f"{quiet('not tried')} {number}  {what}"
        yield quiet(f"{'':>17}{found['why']}")
    elif found["held"] and full:
        yield f"{word('held', shown='seen     ')} {number}  {what}"
    elif not found["held"]:
        (tried,) = found["tried"]
        yield f"{word('failed', shown='otherwise')} {number}  {what} on {name(tried['from'])}"
        yield f"{'':>17}{tried['seen']} instead of {tried['wanted']}"


def counter_lines(found: Sequence[Mapping[str, Any]]) -> Iterator[str]:
    """Yield the lines whose counters rose by fewer packets than the tests sent past them."""
    for each in found:
        if each["counted"] < each["least"]:
            yield (
                f"{word('failed', shown='otherwise')}        "
                f"{line_name(each['list'], each['entry'])} counted {each['counted']}, and "
                f"{count(each['least'], 'test')} met it"
            )


def sheet_total(tests: Sequence[Mapping[str, Any]], counters: Sequence[Mapping[str, Any]]) -> str:
    """Return how many tests were made, and how many lines counted what they should."""
    tried = [each for each in tests if each["held"] is not None]
    held = sum(each["held"] for each in tried)
    counted = sum(each["counted"] >= each["least"] for each in counters)
    left = len(tests) - len(tried)
    return (
        f"{strong(f'{held} of {len(tried)}')} tests seen as the plan says, and the counters of "
        f"{counted} of {len(counters)} lines" + (f"; {left} not tried" if left else "")
    )


def claims_total(found: Sequence[Mapping[str, Any]]) -> str:
    """Return how many claims were tried, and how many of them held."""
    tried = [each for each in found if each["held"] is not None]
    held = sum(each["held"] for each in tried)
    packets = sum(len(each["tried"]) for each in tried)
    left = len(found) - len(tried)
    told = f"; {left} not tried" if left else ""
    return (
        f"{strong(f'{held} of {len(tried)}')} claims seen to hold, by "
        f"{count(packets, 'conversation')}{told}"
    )
