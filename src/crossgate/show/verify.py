"""Expectations for people: a line each, what broke the failed ones and what they need, and the
entries that nothing reached.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from typing import Any

from crossgate.core.answers.outage import Outage
from crossgate.core.answers.verify import Verified
from crossgate.core.conversation.verdict import Verdict
from crossgate.core.model.accesslist import AnyList
from crossgate.core.model.claim import Promise
from crossgate.core.model.entry import AnyEntry
from crossgate.core.model.network import PointKind
from crossgate.core.model.plan import Plan
from crossgate.core.traffic.conditions import ENOUGH
from crossgate.show.console import count, folded, leading_word, name, quiet, strong, word
from crossgate.show.width import columns

MOST_UNREACHED = 12


def lines(
    plan: Plan,
    results: Sequence[Verified],
    unreached: Sequence[tuple[AnyList[Any], AnyEntry]],
    outages: Sequence[Outage] | None = None,
    full: bool = False,
    over: Sequence[Promise] = (),
) -> Iterator[str]:
    """Yield the results as lines, failed ones first; those that hold are only counted, unless all
    are to be shown in `full`.

    Those that are `over` were not verified. With `outages`, what fails while each part is down
    follows.
    """
    if plan.down:
        names = [
            point.owner if point.kind is PointKind.ITSELF else str(point) for point in plan.down
        ]
        yield f"While {' and '.join(sorted(names))} {'is' if len(names) == 1 else 'are'} down:"
        yield ""
    if not results:
        yield (
            f"{plan.files[0]} expects nothing yet; a line that does: expect deny ping HOST to HOST"
        )
    shown = [each for each in results if full or not each.held]
    for result in sorted(shown, key=lambda each: each.held):
        yield from _result_lines(plan, result)
    if unreached and outages is None and not plan.down:
        yield from [""] * bool(shown)
        yield "No expectation reached:"
        rows = [
            [access_list.name, str(entry.number), leading_word(entry.text)]
            for access_list, entry in unreached
        ]
        told = rows if full else rows[:MOST_UNREACHED]
        yield from columns(told, indent=2)
        if len(told) < len(rows):
            yield quiet(
                f"  and {count(len(rows) - len(told), 'more entry', 'more entries')}; --full "
                "shows them"
            )
    if results:
        failed = sum(not result.held and result.answered for result in results)
        unknown = sum(not result.answered for result in results)
        if shown or (unreached and outages is None and not plan.down):
            yield ""
        yield strong(
            f"{count(len(results) - failed - unknown, 'expectation')} held, {failed} failed"
            + (f", {unknown} not answered" if unknown else "")
        ) + (
            (
                f"; {name('crossgate mend')} looks for edits that make "
                f"{'it' if failed == 1 else 'them'} hold"
            )
            if failed and not plan.down
            else ""
        )
        most = max(results, key=lambda result: result.states)
        if most.states > ENOUGH:
            yield quiet(
                f"line {plan.line_of(most.expectation.place)} was looked at in {most.states:,} states of "
                "the conditions on its ways"
            )
    if over:
        lines_of = ", ".join(plan.line_of(each.place) for each in over)
        yield quiet(
            f"{count(len(over), 'claim')} past {'its' if len(over) == 1 else 'their'} last day "
            f"{'was' if len(over) == 1 else 'were'} not looked at: line{'s' * (len(over) > 1)} "
            f"{lines_of}"
        )
    if results and outages is not None:
        yield ""
        yield from _outage_lines(plan, outages)


def _result_lines(plan: Plan, result: Verified) -> Iterator[str]:
    expectation = result.expectation
    comment = quiet(f'  "{expectation.comment}"') if expectation.comment else ""
    said = "held" if result.held else "failed" if result.answered else "open"
    mark = word(said, bold=not result.held) + " " * (6 - len(said))
    yield from columns(
        [[mark, quiet(f"{plan.line_of(expectation.place):>4}"), expectation.text + comment]]
    )
    if not result.held:
        yield from folded(result.why, 14)
        yield from folded(f"needed: {result.needed}", 14)


def _outage_lines(plan: Plan, outages: Sequence[Outage]) -> Iterator[str]:
    """Yield what fails while each part is down, then how many parts can fail without any effect on
    claims.
    """
    harmless = 0
    for outage in outages:
        if not outage.broken:
            harmless += 1
            continue
        failing = count(len(outage.broken), "claim")
        yield strong(
            f"{outage.part.name} down: {failing} {'fails' if len(outage.broken) == 1 else 'fail'}"
        )
        for result in outage.broken:
            cut_off = result.verdict is Verdict.UNROUTABLE
            ending = ": there is no way" if cut_off else ""
            yield from columns(
                [
                    [
                        quiet(f"{plan.line_of(result.expectation.place):>4}"),
                        result.expectation.text + ending,
                    ]
                ],
                indent=2,
            )
            if not cut_off:
                yield from folded(result.why, 8)
    if harmless:
        yield (
            f"{count(harmless, 'device or link', 'devices and links')} can be down, one at a "
            "time, and every claim holds that held"
        )
