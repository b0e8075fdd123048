"""`use services`: the services of a task as the trade has them."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

import pytest

from crossgate.core.model import iana
from crossgate.core.model.address import Family
from crossgate.core.model.bundles import BUNDLES
from crossgate.core.model.errors import PlanErrors
from crossgate.core.model.plan import Plan
from tests.conftest import Run

Read = Callable[[str], Plan]
NET = "subnet a 10.0.0.0/24\nsubnet b 10.0.1.0/24\n"


@pytest.mark.parametrize("name", BUNDLES)
def test_a_bundle_is_there_where_it_is_used_and_only_there(plan_of: Read, name: str) -> None:
    entry = f"list l extended ipv4\n    10 permit {name} a to b\n"
    plan = plan_of(f"use services {name}\n{NET}{entry}")
    terms = plan.lists["l"].entries[0].service.terms
    assert len(terms) == len({*BUNDLES[name].tokens})
    assert terms == tuple(
        term for token in BUNDLES[name].tokens for term in plan.service(token, Family.IPV4).terms
    )
    if name not in iana.services():  # `time` is a service of IANA, too, at port 37
        with pytest.raises(PlanErrors, match=f"bring in the trade's: use services {name}"):
            plan_of(NET + entry)


def test_a_service_of_the_plan_may_have_one(plan_of: Read) -> None:
    plan = plan_of(f"{NET}service intranet web, tcp/8080\nuse services names web\n")
    ports = [term.ports for term in plan.service("intranet", Family.IPV4).terms]
    assert ports == [((80, 80),), ((443, 443),), ((443, 443),), ((8080, 8080),)]


@pytest.mark.parametrize(
    ("lines", "told"),
    [
        ("use services web web\n", "web is used already"),
        ("use services web\nuse services web\n", "web is used already"),
        ("use services web\nservice web tcp/80\n", "the plan has a service web of its own"),
        ("use services wep\n", "did you mean web"),
        ("use services\n", "expected web, mail"),
        ("use web\n", "expected services"),
    ],
)
def test_what_cannot_be_used_is_told(plan_of: Read, lines: str, told: str) -> None:
    with pytest.raises(PlanErrors, match=told):
        plan_of(NET + lines)


def test_it_is_told_of_and_stays_as_it_is(tmp_path: Path, run: Run) -> None:
    (tmp_path / "net.gate").write_text(
        f"{NET}use services web\nlist l extended ipv4\n    10 permit web a to b\n"
    )
    told = run("about", "web").stdout
    assert "stands for      tcp/80, tcp/443, udp/443" in told
    assert "RFC 9114" in told
    refused = run("service", "add", "web", "tcp/8443")
    assert "web is a ready one (line 3); write one of your own: service NAME web" in refused.stderr
    assert "your" not in run("bug-report").stdout
