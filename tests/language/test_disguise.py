"""A plan in disguise: nothing of it can be read any more, and everything is as it was."""

from __future__ import annotations

import random
import re
import sys
from datetime import datetime
from pathlib import Path

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from crossgate.core.answers.verify import Verifier
from crossgate.core.audit import audit
from crossgate.core.model.address import Family, parse_address
from crossgate.core.model.errors import PlanErrors
from crossgate.core.traffic.session import Session
from crossgate.language.disguise import Disguise
from crossgate.language.reader import read_plan

sys.path.insert(0, str(Path(__file__).parents[2] / "benchmarks"))
from sites import SHAPES, Size, site

NOW = datetime(2026, 12, 1, 12)


def disguised(folder: Path, texts: dict[str, str], seed: int = 1) -> tuple[Path, Disguise]:
    """Return the plan in disguise, written to a folder of its own."""
    disguise = Disguise(texts, random.Random(seed))
    folder.mkdir(exist_ok=True)
    for name, new in disguise.files.items():
        (folder / new).write_text(disguise.text(name), newline="")
    return folder / "plan.gate", disguise


def told(path: Path) -> tuple[object, ...]:
    """Return what is so of a plan, by its lines."""
    try:
        plan = read_plan(path)
    except PlanErrors as errors:
        return ("errors", sorted(each.place.line for each in errors.errors if each.place))
    session = Session(plan)
    verifier = Verifier(session)
    found = audit(session, NOW)
    return (
        [(each.place.line, verifier.verify(each).held) for each in plan.expectations],
        sorted((each.place.line, each.name) for each in found.findings),
        len(found.accepted),
    )


def test_the_demo_is_as_it_was_and_nobody_can_read_it(demo: Path, tmp_path: Path) -> None:
    text = (demo / "ternhaven.gate").read_text()
    plan = read_plan(demo / "ternhaven.gate")
    path, disguise = disguised(tmp_path / "new", {str(demo / "ternhaven.gate"): text})
    assert told(path) == told(demo / "ternhaven.gate")
    new = path.read_text()
    assert [len(line.split("#")[0].split()) > 0 for line in new.splitlines()] == [
        len(line.split("#")[0].split()) > 0 for line in text.splitlines()
    ]
    names = {
        *plan.segments,
        *plan.devices,
        *plan.hosts,
        *plan.groups,
        *plan.services,
        *plan.windows,
        *plan.every_list,
    } - {"12", "110"}
    assert names & set(re.findall(r"[\w-]+", new)) == set()
    addresses = {str(address) for host in plan.hosts.values() for address in host.addresses}
    assert addresses & set(re.findall(r"[0-9a-f.:]+", new)) == set()
    assert not re.search(r"[Tt]icket|[Ff]erry|order 4520", new)
    assert disguise.known["kiosk-1"] == disguise.word("kiosk-1") == "host2"
    assert (
        disguise.word("lighthouse.v80")
        == f"{disguise.known['lighthouse']}.{disguise.known['.v80']}"
    )
    assert (
        disguise.word("permit tcp/443 kiosk-1,kiosk-2 to any")
        == "permit tcp/443 host2,host3 to any"
    )


@settings(max_examples=12)
@given(st.integers(0, 10_000), st.sampled_from(SHAPES), st.sampled_from(Family))
def test_any_site_is_as_it_was(
    tmp_path_factory: pytest.TempPathFactory, seed: int, shape: str, family: Family
) -> None:
    folder = tmp_path_factory.mktemp("site")
    text = site(Size(4, 8, 6, 6, 5, 3, 6), shape, family, seed)
    (folder / "site.gate").write_text(text)
    path, _ = disguised(folder / "new", {str(folder / "site.gate"): text}, seed)
    assert told(path) == told(folder / "site.gate")


SMALL = """subnet hall 10.20.4.0/22 2001:db8:a:b::/64
router gate
    interface up 10.20.4.1/22 2001:db8:a:b::1/64 on hall
host pc 10.20.5.200 on hall mac 00:00:5e:00:53:01
list fence extended ipv4
    permit ip 10.20.5.200-10.20.6.3 to 10.20.0.9 wild 0.0.255.0
    permit ip 10.20.5.200 mask 255.255.255.0 to 224.0.0.5
    permit ip any to 127.0.0.1
    deny ip 10.0.0.0/8 to 169.254.0.0/16
list six extended ipv6
    permit ip fe80::/10 to ff02::1
list frames standard ethernet
    permit 00:00:5e:00:00:00 wild 00:00:00:ff:ff:ff
    permit 33:33:00:00:00:01
"""


@pytest.mark.parametrize("seed", range(5))
def test_masks_ranges_and_what_has_a_meaning_of_its_own_stay(tmp_path: Path, seed: int) -> None:
    (tmp_path / "p.gate").write_text(SMALL)
    path, disguise = disguised(tmp_path / "new", {"p.gate": SMALL}, seed)
    plan, was = read_plan(path), read_plan(tmp_path / "p.gate")
    entries = plan.lists["list1"].entries
    mask = disguise.masks[Family.IPV4]
    assert mask & 0xFF0003FF == 0 != mask
    for entry, old in zip(entries, was.lists["fence"].entries, strict=True):
        for own, before in ((entry.source, old.source), (entry.destination, old.destination)):
            assert [(each.wildcard, each.size) for each in own.patterns] == [
                (each.wildcard, each.size) for each in before.patterns
            ]
    assert entries[0].source.patterns[0].first == parse_address("10.20.5.200").value ^ mask
    new = path.read_text()
    for kept in (
        "224.0.0.5",
        "127.0.0.1",
        "169.254.0.0/16",
        "10.0.0.0/8",
        "fe80::/10 to ff02::1",
        "33:33:00:00:00:01",
        "wild 00:00:00:ff:ff:ff",
    ):
        assert kept in new
    assert "10.20." not in new
    assert plan.hosts["host1"].mac != was.hosts["pc"].mac


def test_a_plan_with_errors_has_the_same_ones(tmp_path: Path) -> None:
    text = (
        SMALL
        + "host pc2 10.20.5.300 on hall\nhost pc3 10.20.5.9 on hal\nwhat secret is this\nlist "
        "fence extended ipv4\n"
        '    permit secret pc to any\n    permit tcp/secret pc to any "secret\n    permit ip any '
        "to any # secret\nexpect permit ssh secret to pc\r\n"
        'include "secret/more.gate"\nplace fence inbound on gate.secret\nplace fence inbound '
        'gate.up\naccept secret in fence "secret"\n'
    )
    (tmp_path / "p.gate").write_text(text, newline="")
    path, _ = disguised(tmp_path / "new", {str(tmp_path / "p.gate"): text})
    assert told(path) == told(tmp_path / "p.gate")
    assert told(path)[0] == "errors"
    assert "secret" not in path.read_text()


def test_wide_subnets_leave_no_bit_to_turn(tmp_path: Path) -> None:
    _, disguise = disguised(
        tmp_path / "new", {"p.gate": "subnet all 10.0.0.0/8\nsubnet one 2001:db8::/64\n"}
    )
    assert disguise.masks[Family.IPV4] == 0 != disguise.masks[Family.IPV6]


def test_includes_are_named_anew(tmp_path: Path) -> None:
    texts = {
        "a/b.gate": 'include "c/d.gate"\nexpect permit ssh x to x\n',
        "a/c/d.gate": "subnet s 10.0.0.0/24\nhost x 10.0.0.9 on s\n",
    }
    path, disguise = disguised(tmp_path / "new", texts)
    assert path.read_text() == 'include "part-1.gate"\nexpect permit ssh host1 to host1\n'
    assert disguise.files == {"a/b.gate": "plan.gate", "a/c/d.gate": "part-1.gate"}
    assert read_plan(path).expectations


@pytest.mark.parametrize(
    "line",
    [
        "group some pc, nobody",
        "group somepc, gate",
        "    stray, words, here",
        'host x 10.20.4.9 on hall "open',
        "list fen:ce2 extended ipv4",
        "router ga%te",
        "window w mon 25:00-08:00",
        'include "open.gate',
        "gateway 10.20.4.9 on hall by gate.up,, nobody.x",
    ],
)
def test_a_faulty_line_is_as_faulty_as_it_was(tmp_path: Path, line: str) -> None:
    text = f"{SMALL}{line}\nexpect permit ssh pc to hall\n"
    (tmp_path / "p.gate").write_text(text)
    path, _ = disguised(tmp_path / "new", {str(tmp_path / "p.gate"): text})
    assert told(path) == told(tmp_path / "p.gate")
    assert told(path)[0] == "errors"


def test_names_with_commas_and_no_blanks_between_are_names(tmp_path: Path) -> None:
    text = (
        "subnet hall 10.0.0.0/24\nsubnet yard 10.0.1.0/24\nrouter gate\n"
        "    interface a 10.0.0.1/24 on hall\n    interface b 10.0.1.1/24 on yard\n"
        "host kiosk 10.0.0.5 on hall\nhost pc 10.0.0.6 stateful on hall\n"
        "list fence extended ipv4\n    permit tcp/80,443 kiosk,pc to yard\n"
        "place fence inbound on gate.a\nexpect permit https pc,kiosk to yard\n"
    )
    (tmp_path / "p.gate").write_text(text)
    path, _ = disguised(tmp_path / "new", {"p.gate": text})
    new = path.read_text()
    assert "permit tcp/80,443 host1,host2 to subnet2" in new
    assert "https host2,host1 to subnet2" in new
    assert told(path) == told(tmp_path / "p.gate")
