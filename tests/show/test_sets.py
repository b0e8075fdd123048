"""What gets through, as text: a screen of it, however much there is; `--all` leaves nothing out."""

from __future__ import annotations

import random
import re
from collections.abc import Callable
from datetime import datetime

from crossgate.core.answers.reach import reach
from crossgate.core.conversation.verdict import Verdict
from crossgate.core.model.conditions import When
from crossgate.core.model.plan import Plan
from crossgate.core.traffic.session import Session
from crossgate.show.sets import MOST_LINES, MOST_PARTS, reach_lines

NETWORK = """
subnet here 10.0.0.0/16
subnet far 10.1.0.0/16
router r
    interface a 10.0.0.1/16 on here
    interface b 10.1.0.1/16 on far
"""
NOW = datetime(2026, 11, 30, 12)
COLOUR = re.compile(r"\x1b\[[0-9;]*m|\[/?[a-z ]*\]")


def told(plan: Plan, every: bool) -> list[str]:
    found = list(reach(Session(plan), "here", "far", When(NOW), "tcp"))
    lines = "\n".join(
        reach_lines(plan, "here", "far", When(NOW), found, strays=False, devices=False, every=every)
    )
    return [line.rstrip() for line in COLOUR.sub("", lines).splitlines()]


def listed(entries: list[str]) -> str:
    return (
        NETWORK
        + "list l extended ipv4\n"
        + "".join(f"    {each}\n" for each in entries)
        + "place l inbound on r.a\n"
    )


def test_where_many_entries_stop_something_they_are_named_alone(
    plan_of: Callable[[str], Plan],
) -> None:
    plan = plan_of(
        listed(
            [f"deny tcp/{port} here to far" for port in range(1000, 1000 + 4 * MOST_PARTS, 2)]
            + ["permit ip any to any"]
        )
    )
    short, whole = told(plan, every=False), told(plan, every=True)
    assert sum("denied by" in line for line in short) == MOST_PARTS
    assert (
        f"    and {MOST_PARTS} more lines of lists that stop something; --all shows what each of "
        "them stops"
    ) in short
    assert sum("denied by" in line for line in whole) == 2 * MOST_PARTS
    assert sum("tcp/1000" in line for line in whole) == 2
    assert not any("--all" in line for line in whole)


def test_long_terms_and_many_lines_are_cut(plan_of: Callable[[str], Plan]) -> None:
    rng = random.Random(1)
    ports = ",".join(str(port) for port in sorted(rng.sample(range(2000, 9000, 2), 200)))
    hosts = [
        f"permit tcp/{3000 + host} 10.0.{host}.7 to 10.1.{host}.9" for host in range(3 * MOST_LINES)
    ]
    plan = plan_of(listed([f"permit tcp/{ports} 10.0.200.0/24 to far", *hosts]))
    short, whole = told(plan, every=False), told(plan, every=True)
    (cut,) = [line for line in short if re.search(r" and \d+ more  ", line)]
    assert len(cut) < 300
    assert (
        int(re.findall(r" and (\d+) more  ", cut)[0]) + cut.split(" and ")[0].count(",") + 1 == 200
    )
    assert f"    and {2 * MOST_LINES + 1} more lines; --all shows them" in short
    assert any(ports in line for line in whole)
    assert sum("to 10.1." in line for line in whole) == 3 * MOST_LINES


def test_everything_else_is_told_only_where_clients_send_some_of_it(
    plan_of: Callable[[str], Plan],
) -> None:
    plan = plan_of(listed(["permit tcp/80 here to far source port 53", "otherwise deny"]))
    (found, *_) = reach(Session(plan), "here", "far", When(NOW), "tcp")
    for port, shown in ((53, False), (40_000, True)):
        parts = [
            each._replace(
                lines=[], clients=[], rest=True, packet=each.packet._replace(source_port=port)
            )
            if each.verdict is not Verdict.DENIED
            else each
            for each in found.parts
        ]
        lines = COLOUR.sub(
            "",
            "\n".join(
                reach_lines(
                    plan,
                    "here",
                    "far",
                    When(NOW),
                    [found._replace(parts=parts)],
                    False,
                    False,
                    False,
                )
            ),
        )
        assert ("    everything else" in lines) is shown
        assert ("1 set from source ports outside" in lines) is not shown
