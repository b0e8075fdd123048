"""Right plans in which one thing is turned, moved or reordered: the findings say what was done, and
nothing of the right ones.
"""

from __future__ import annotations

from pathlib import Path
from random import Random
from typing import NamedTuple

import pytest

from crossgate.core.audit import audit
from crossgate.core.model.address import Family
from crossgate.core.model.finding import Finding
from crossgate.core.model.finding_kinds import KINDS
from crossgate.core.traffic.session import Session
from crossgate.language.reader import read_plan
from tests.core.audit.test_findings import NOW

SERVICES = ("tcp/22", "tcp/80", "tcp/8443", "udp/161", "tcp/5000-5100", "gre")
MINE = ("wrong-side", "never-reached", "no-effect")


class Site(NamedTuple):
    """Subnets behind routers on a spine, and a list where the machines of one of them come in."""

    network: str
    own: int
    entries: list[str]
    others: list[int]

    def plan(self, entries: list[str], where: str) -> str:
        lines = "".join(f"    {10 * number} {text}\n" for number, text in enumerate(entries, 1))
        return (
            f"{self.network}list l extended "
            f"{'ipv4' if '10.' in self.network else 'ipv6'}\n{lines}place l {where}\n"
        )


def site(chance: Random, family: Family) -> Site:
    six = family is Family.IPV6
    count, length = chance.randint(3, 5), 64 if six else 24
    base = "2001:db8:{}::{}" if six else "10.{}.0.{}"
    network = "".join(
        f"subnet s{each} {base.format(each, '' if six else 0)}/{length}\n"
        for each in range(1, count + 1)
    )
    network += f"subnet spine {base.format(99, '' if six else 0)}/{length}\n"
    for each in range(1, count + 1):
        network += (
            f"router r{each}\n    interface u {base.format(each, 1)}/{length} on s{each}\n "
            f"   interface up {base.format(99, each)}/{length} on spine\n"
        )
        network += f"host h{each} {base.format(each, 9)}\nhost g{each} {base.format(each, 10)}\n"
    own = chance.randint(1, count)
    others = [each for each in range(1, count + 1) if each != own]
    entries = ["permit icmp any to any"] if six else []
    for other in chance.sample(others, chance.randint(1, len(others))):
        service = chance.choice(SERVICES)
        entries += [f"permit {service} h{own} to s{other}", f"deny {service} s{own} to s{other}"]
    return Site(network, own, [*entries, f"permit ip s{own} to any"], others)


def findings(path: Path, text: str) -> list[Finding]:
    path.write_text(text)
    rest = [each for each in KINDS if each not in MINE]
    return list(audit(Session(read_plan(path)), NOW, leave_out=rest).findings)


@pytest.mark.parametrize("family", Family)
def test_what_was_turned_moved_or_reordered_is_told(tmp_path: Path, family: Family) -> None:
    done = told = 0
    for seed in range(30):
        chance = Random(seed)
        made = site(chance, family)
        path, right = tmp_path / "p.gate", f"inbound on r{made.own}.u"
        assert findings(path, made.plan(made.entries, right)) == []
        own = [number for number, text in enumerate(made.entries, 1) if "icmp" not in text]

        turned = findings(path, made.plan(made.entries, f"outbound on r{made.own}.u"))
        done += 1
        told += {each.entry for each in turned if each.fault.mend == "place the list inbound"} == {
            10 * number for number in own
        }

        elsewhere = chance.choice(made.others)
        moved = findings(path, made.plan(made.entries, f"inbound on r{elsewhere}.u"))
        done += 1
        named = {
            each.entry
            for each in moved
            if each.fault.what.endswith(f"passes {right}")
            or "outbound there it could" in each.fault.what
        }
        told += named == {10 * number for number in own}

        first = next(
            number
            for number, text in enumerate(made.entries)
            if text.startswith("permit") and "icmp" not in text
        )
        entries = made.entries.copy()
        entries[first], entries[first + 1] = entries[first + 1], entries[first]
        reordered = findings(path, made.plan(entries, right))
        done += 1
        told += any(
            each.entry == 10 * (first + 2)
            and each.fault.mend == f"move {10 * (first + 2)} before {10 * (first + 1)}"
            for each in reordered
        )
    assert told >= 0.9 * done, (told, done)
