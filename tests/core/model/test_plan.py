"""What a plan finds by address."""

from __future__ import annotations

from collections.abc import Callable

import pytest

from crossgate.core.model.address import Pattern, parse_block, parse_masked
from crossgate.library import parse


@pytest.mark.parametrize("count", [15, 16, 17, 40])
@pytest.mark.parametrize(
    ("pattern", "holds"),
    [
        (parse_block("10.0.0.0/27"), lambda number: number < 32),
        (parse_masked("10.0.0.1", "wild", "0.0.0.254"), lambda number: number % 2 == 1),
        (parse_block("0.0.0.0/0"), lambda number: True),
        (parse_block("::/0"), lambda number: True),
    ],
)
def test_hosts_in_a_pattern_come_in_the_order_of_the_plan(
    pattern: Pattern, holds: Callable[[int], bool], count: int
) -> None:
    numbers = [*range(2 * count, count, -1), *range(1, count + 1)]
    hosts = [f"host h{each} 10.0.0.{each} 2001:db8::{each:x} on net" for each in numbers]
    router = ["router r", "    interface a 10.0.0.254/24 2001:db8::fe/64 on net"]
    plan = parse("\n".join(["subnet net 10.0.0.0/24 2001:db8::/64", *router, *hosts, ""]))
    found = list(plan.hosts_in(pattern))
    assert [each.value & 0xFF for each in found] == [each for each in numbers if holds(each)]
    assert {each.family for each in found} == {pattern.family}
