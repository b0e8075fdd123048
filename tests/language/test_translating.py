"""The lines by which a device translates: what they mean, and what is no translation."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from crossgate.core.model.address import Family
from crossgate.core.model.errors import PlanErrors
from crossgate.core.model.plan import Plan
from crossgate.language.translating import one_to_one
from tests.conftest import Run

Read = Callable[[str], Plan]
EDGE = """
subnet in  10.0.0.0/24 2001:db8:1::/64
subnet dmz 10.0.1.0/28
outside net
service web tcp/80, tcp/443
group both 10.0.0.0/28, 10.0.1.0/28
router edge stateful
    interface in  10.0.0.1/24    2001:db8:1::1/64 on in
    interface dmz 10.0.1.1/28                     on dmz
    interface sea 203.0.113.2/29 2001:db8:9::2/64 on net
    interface far 198.51.100.2/29                 on net cost 9
{}
host shop 10.0.1.9 on dmz
host pc 10.0.0.9 2001:db8:1::9 on in
"""


def told(plan: Plan) -> list[tuple[object, ...]]:
    return [
        (
            str(each.kind),
            int(each.family),
            " ".join(map(str, each.inside)),
            " ".join(map(str, each.public)),
            each.port,
        )
        for family in Family
        for each in plan.translations[family]
    ]


@pytest.mark.parametrize(
    ("line", "rules"),
    [
        (
            "translate in leaving sea as itself",
            [("leaving", 4, "10.0.0.0/24", "203.0.113.2", None)],
        ),
        (
            "translate in, dmz but pc leaving sea as 203.0.113.4-203.0.113.5",
            [
                (
                    "leaving",
                    4,
                    "10.0.0.0/29 10.0.0.8 10.0.0.10/31 10.0.0.12/30 10.0.0.16/28 10.0.0.32/27 "
                    "10.0.0.64/26 10.0.0.128/25 10.0.1.0/28",
                    "203.0.113.4/31",
                    None,
                )
            ],
        ),
        (
            "translate in leaving sea unchanged",
            [
                ("leaving", 4, "10.0.0.0/24", "", None),
                ("leaving", 6, "2001:db8:1::/64", "", None),
            ],
        ),
        (
            "translate both both ways edge.sea as 192.0.2.32/27",
            [("both ways", 4, "10.0.0.0/28 10.0.1.0/28", "192.0.2.32/28 192.0.2.48/28", None)],
        ),
        (
            "translate in both ways sea as 2001:db8:a::/64",
            [("both ways", 6, "2001:db8:1::/64", "2001:db8:a::/64", None)],
        ),
        (
            "translate itself web entering sea to shop port 8443",
            [("entering", 4, "10.0.1.9", "203.0.113.2", 8443)],
        ),
        (
            "translate itself entering sea to pc",
            [
                ("entering", 4, "10.0.0.9", "203.0.113.2", None),
                ("entering", 6, "2001:db8:1::9", "2001:db8:9::2", None),
            ],
        ),
    ],
)
def test_what_a_line_means(plan_of: Read, line: str, rules: list[object]) -> None:
    assert told(plan_of(EDGE.format(f"    {line}"))) == rules


@pytest.mark.parametrize(
    ("line", "says"),
    [
        ("translate in leaving sea", "expected as or unchanged here"),
        ("translate in leaving", "expected an interface of edge here"),
        ("translate in leaving quay as itself", "no interface quay; there are in, dmz, sea, far"),
        ("translate in sea as itself", "expected leaving, both ways or entering, not sea"),
        ("translate 2001:db8:1::/64 leaving sea as itself", "IPv6 addresses are hidden behind no"),
        ("translate in leaving sea as 2001:db8:a::9", "who leaves gets an IPv4 address here"),
        ("translate in leaving sea as 192.0.0.0/20", "a pool has at most 1,024"),
        ("translate in leaving sea as 10.0.1.9", "10.0.1.9 is shop's own"),
        ("translate in leaving sea as 198.51.100.2", "198.51.100.2 is edge.far's own"),
        ("translate dmz both ways sea as 192.0.2.32/29", "16 IPv4 inside, 8 outside"),
        ("translate dmz web both ways sea as 192.0.2.32/28", "both ways translates every packet"),
        ("translate in both ways sea as 192.0.2.9, 2001:db8:a::9", "addresses of both families"),
        ("translate 203.0.113.4 entering sea to dmz", "led to one machine; name one"),
        ("translate 203.0.113.4/31 entering sea to shop", "for several use both ways"),
        ("translate 2001:db8:a::9 entering sea to shop", "have no family in common"),
        ("translate 203.0.113.4 ping entering sea to shop port 80", "of a service that has ports"),
        ("translate 203.0.113.4 web entering sea to shop port 0", "0 is no port"),
        ("translate itself leaving sea as itself", "itself is what comes in for"),
        ("translate 10.0.0.1 wild 0.255.255.254 leaving sea as itself", "no row of addresses"),
        ("translate in tpc leaving sea as itself", "no service tpc"),
        (
            "translate in leaving sea as 192.0.2.9\n    translate in leaving far as 192.0.2.9",
            "edge.sea translates to that address as well",
        ),
        ("translate net leaving sea as itself", "net is an outside"),
        ("translate in leaving sea as itself too", "nothing more belongs here"),
    ],
)
def test_what_is_no_translation(plan_of: Read, line: str, says: str) -> None:
    with pytest.raises(PlanErrors) as error:
        plan_of(EDGE.format(f"    {line}"))
    assert says in str(error.value)


def test_a_device_that_remembers_nothing_translates_nothing(plan_of: Read) -> None:
    with pytest.raises(PlanErrors, match="write router edge stateful"):
        plan_of(EDGE.replace(" stateful", "").format("    translate in leaving sea as itself"))


@given(
    st.lists(st.tuples(st.integers(0, 40), st.integers(1, 9)), min_size=1, max_size=3),
    st.integers(0, 60),
)
def test_one_to_one_is_the_nth_to_the_nth(pieces: list[tuple[int, int]], start: int) -> None:
    inside, at = [], 0
    for gap, size in pieces:
        inside.append((at + gap + 1, at + gap + 1 + size))
        at = inside[-1][1]
    every = [value for first, end in inside for value in range(first, end)]
    found = list(one_to_one(inside, [(start, start + len(every))]))
    assert [one + n for one, _, size in found for n in range(size)] == every
    assert [other + n for _, other, size in found for n in range(size)] == [
        start + n for n in range(len(every))
    ]
    for one, other, size in found:
        assert one % size == other % size == 0


def test_edits_tidy_and_questions_know_it(run: Run, tmp_path: Path) -> None:
    plan = tmp_path / "edge.gate"
    plan.write_text(
        EDGE.format(
            "    translate itself tcp/443 entering sea to shop port 8443\n"
            "    translate in, dmz leaving sea as itself"
        )
        + "host guest 192.0.2.7 on net\nlist out extended ipv4\n    10 permit ip in to any\n"
        "place out outbound on edge.sea\nexpect permit https pc to guest\n"
        "expect permit https guest to 203.0.113.2\n"
    )
    assert run("tidy").returncode == 0
    assert "    translate itself tcp/443 entering sea to shop port 8443\n" in plan.read_text()
    assert run("verify").returncode == 1
    checked = run("check").stdout
    assert "translated-away in out 10" in checked
    assert "ask for edge.sea" in checked
    shown = run("trace", "pc", "guest", "https").stdout
    assert "edge      translates " in shown
    assert "from here on from 203.0.113.2, a port of its choice" in shown
    mended = run("entry", "add", "out", "permit https edge.sea to any", "--yes")
    assert "permitted by out 20" in " ".join(mended.stdout.split()), mended.stdout
    assert run("verify").returncode == 0
    came = run("trace", "guest", "203.0.113.2", "https", "--json").stdout
    assert '"seen": {"source": "192.0.2.7", "destination": "10.0.1.9, port 8443"}' in (
        " ".join(came.split()).replace("{ ", "{").replace(" }", "}")
    )
    assert '"external-interface": "sea"' in run("export", "ietf", "--on", "edge").stdout


def test_an_entry_that_asks_for_another_address_is_mended(run: Run, tmp_path: Path) -> None:
    plan = tmp_path / "edge.gate"
    plan.write_text(
        EDGE.format(
            "    translate itself tcp/443 entering sea to shop port 8443\n"
            "    translate in leaving sea as itself"
        )
        + "host guest 192.0.2.7 on net\n"
        "list come extended ipv4\n    10 permit tcp/8443 any to shop\n"
        "list go extended ipv4\n    10 permit tcp in to any\n"
        "place come inbound on edge.sea\nplace go outbound on edge.sea\n"
        "keep permit https guest to 203.0.113.2\nkeep permit https pc to guest\n"
    )
    assert run("check").stdout.count("translated-away") == 2
    for name, text in (
        ("come 10", "10 permit tcp/443 any to edge.sea"),
        ("go 10", "10 permit tcp edge.sea to any"),
    ):
        found = run("mend", "translated-away", *name.split(), "--take", "a", "--write", "--yes")
        assert "translated-away" in found.stdout, found.stderr
        assert text in " ".join(plan.read_text().split())
    assert "translated-away" not in run("check").stdout
    assert run("verify").returncode == 0
