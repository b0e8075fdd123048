"""How machines get leases, for people: message by message, or a line for each machine."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterator, Sequence

from crossgate.core.answers.leases import Leased
from crossgate.core.model.conditions import When
from crossgate.core.model.plan import Plan
from crossgate.core.wording.sentences import asked_at, decision, packet_text
from crossgate.show.console import folded, name, quiet, strong, word
from crossgate.show.trace import legs_and_verdict
from crossgate.show.width import columns


def lines(
    leased: Leased, plan: Plan, when: When, every: bool = False, why: bool = False
) -> Iterator[str]:
    """Yield the messages of an exchange with what each meets, then how the exchange ends."""
    exchange = leased.exchange
    client = exchange.client
    known = "" if client.name == str(client.address) else f" ({client.address})"
    line = plan.line_of(exchange.leases.place)
    yield (
        f"{strong('lease')}  {strong(client.name)}{known} from {strong(exchange.leases.by)}"
        f"{_relay(leased)}  {exchange.leases.family.label}, line {line}"
    )
    for message, trace in zip(exchange.messages, leased.traces, strict=False):
        yield f"{message.what}: {quiet(packet_text(message.conversation.first))}"
        yield from legs_and_verdict(trace, plan, when, every, why=why)
    first, *rest = folded(f"{leased.verdict}: {leased.sentence}", 0)
    yield first.replace(leased.verdict, word(leased.verdict, bold=True), 1)
    yield from rest


def short_lines(every: Sequence[Leased], plan: Plan, when: When) -> Iterator[str]:
    """Yield a line for each exchange: the machine, its server, the verdict, the message that does
    not get through and the line that decides about it.
    """
    if told := asked_at(plan, when, False):
        yield quiet(told)
    families = {each.exchange.leases.family for each in every}
    rows, fates = [], Counter[str]()
    for each in every:
        exchange, stopped = each.exchange, each.stopped
        fates[each.verdict] += 1
        rows.append(
            [
                f"{name(exchange.client.name)} from {name(exchange.leases.by)}{_relay(each)}",
                *([exchange.leases.family.label] if len(families) > 1 else []),
                word(each.verdict),
                "" if stopped is None else f"{stopped.what}: {decision(each.traces[-1])}",
            ]
        )
    yield from columns(rows)
    if len(rows) > 1:
        yield quiet(", ".join(f"{number} {verdict}" for verdict, number in fates.items()))


def _relay(leased: Leased) -> str:
    relay = leased.exchange.relay
    return "" if relay is None else f" by way of {relay.name}"
