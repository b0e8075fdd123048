"""What a person sees: columns, folded sentences, grids in letters, bits in a row, differences in
order of weight.
"""

from __future__ import annotations

import sys
from collections.abc import Callable, Iterable
from datetime import datetime

import pytest

from crossgate.core.answers.compare import differences
from crossgate.core.answers.grid import cells
from crossgate.core.answers.reach import reach
from crossgate.core.conversation.packets import Tracer
from crossgate.core.model.address import Family, Pattern, parse_block, pattern
from crossgate.core.model.conditions import When
from crossgate.core.model.plan import Plan
from crossgate.core.network.ways import Network
from crossgate.core.traffic.session import Session
from crossgate.show import console, grid, sets, wild
from crossgate.show.lists import lines as list_lines
from crossgate.show.width import CODES, columns, width

Read = Callable[[str], Plan]


def plain(lines: Iterable[str]) -> list[str]:
    return [CODES.sub("", line) for line in lines]


def test_columns_are_aligned_whatever_their_colours() -> None:
    rows = [["a", console.strong("bb"), "c"], ["aaa", "b"], ["a", "", ""]]
    assert plain(columns(rows, indent=2)) == ["  a    bb  c", "  aaa  b", "  a"]
    assert width(console.word("deny")) == 4


def test_numbers_have_their_nouns() -> None:
    assert [console.count(number, "entry", "entries") for number in (0, 1, 2, 1234)] == [
        "0 entries",
        "1 entry",
        "2 entries",
        "1,234 entries",
    ]


def test_sentences_are_folded_on_a_terminal_only(monkeypatch: pytest.MonkeyPatch) -> None:
    text = "word " * 30
    assert console.folded(text.strip(), 4) == ["    " + text.strip()]
    monkeypatch.setattr(sys.stdout, "isatty", lambda: True)
    monkeypatch.setenv("COLUMNS", "60")
    folded = console.folded(text.strip(), 4)
    assert len(folded) > 1
    assert all(len(line) <= 60 and line.startswith("    word") for line in folded)


def test_no_colour_is_no_colour(
    capsys: pytest.CaptureFixture[str], monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setenv("NO_COLOR", "1")
    console.write([console.alert("careful"), console.word("denied", bold=True)])
    assert capsys.readouterr().out == "careful\ndenied\n"


MANY = """
subnet a 10.0.0.0/24 2001:db8:1::/64
subnet b 10.0.1.0/24 2001:db8:2::/64
router r
    interface a 10.0.0.1/24 2001:db8:1::1/64 on a
    interface b 10.0.1.1/24 2001:db8:2::1/64 on b
list l extended ipv4
    permit tcp/80 any to any
    otherwise deny
place l inbound on r.a
"""


def hosts(number: int) -> str:
    return "".join(
        (
            f"host h{index} 10.0.{index % 2}.{10 + index} 2001:db8:{1 + index % 2}::{10 + index} "
            "on "
            f"{'ab'[index % 2]}\n"
        )
        for index in range(number)
    )


@pytest.mark.parametrize(("number", "screen"), [(3, 80), (14, 80), (30, 100), (30, 80), (30, 40)])
def test_a_grid_fits_the_screen_and_its_cells_never_touch(
    plan_of: Read, monkeypatch: pytest.MonkeyPatch, number: int, screen: int
) -> None:
    monkeypatch.setenv("COLUMNS", str(screen))
    plan = plan_of(MANY + hosts(number))
    network, names = Network(plan), list(plan.hosts)
    found = list(cells(Tracer(network), names, names, ["ping"]))
    folded = plain(grid.lines(names, names, ["ping"], found))
    told = plain(grid.lines(names, names, ["ping"], found, every=True))
    assert max(map(len, told[:-2])) <= screen  # the legend is folded as every line is
    named = [each for each in folded if " names in 2 rows" in each]
    assert len(named) == (number > 20)
    assert max(len(line) for line in folded if line.startswith(("h", " "))) <= screen
    rows = [line.split() for line in told if line.startswith("h")]
    assert all(len(cell) <= 2 for row in rows for cell in row[2:])
    # In several parts where one is too wide, each with every row; nothing is left out.
    parts = len(rows) // number
    assert (parts == 1) is (screen == 100 or number < 30)
    assert sum(len(row) - 2 for row in rows[::number]) == number


def test_names_across_stand_beside_each_other_or_downwards(
    plan_of: Read, monkeypatch: pytest.MonkeyPatch
) -> None:
    plan = plan_of(MANY + hosts(4))
    network = Network(plan)
    found = list(cells(Tracer(network), ["h0"], ["h1", "h3"], ["tcp/80,443"]))
    told = plain(grid.lines(["h0"], ["h1", "h3"], ["tcp/80,443"], found))
    assert told[1:3] == ["   h1 h3", "h0 mp mp"]
    assert "m parts of the service differ" in told[-2]
    long = [f"a-name-of-{number}-letters" for number in range(4)]
    down = plain(grid.lines(["h0"], long, ["ping"], []))
    assert [line[3::2][:4] for line in down[1:13]][:2] == ["aaaa", "----"]
    assert [line.split() for line in down[13:14]] == [["h0", "·", "·", "·", "·"]]


@pytest.mark.parametrize(
    ("written", "patterns", "says"),
    [
        ("10.64.8.0/22", [parse_block("10.64.8.0/22")], "  00001010 01000000 000010xx xxxxxxxx"),
        ("x", [pattern(Family.IPV4, 0x0A40200A, 0x300)], "  00001010 01000000 001000xx 00001010"),
        (
            "any",
            [Pattern(Family.IPV4, 0, Family.IPV4.mask)],
            "  xxxxxxxx xxxxxxxx xxxxxxxx xxxxxxxx",
        ),
        (
            "::1/128",
            [parse_block("2001:db8::1/128")],
            "  0000000000000000 0000000000000000 0000000000000000 0000000000000001",
        ),
    ],
)
def test_bits_stand_in_a_row_with_the_fixed_ones_marked(
    written: str, patterns: list[Pattern], says: str
) -> None:
    told = plain(wild.lines(written, patterns))
    assert says in told
    marks = told[told.index(says) + 1]
    assert list(marks[2:]) == [{"x": ".", " ": " "}.get(bit, "=") for bit in says[2:]]


def test_a_list_shows_its_notes_where_they_are_read(plan_of: Read) -> None:
    plan = plan_of(
        'list l extended ipv4\n    note "first"\n    20 deny ip any to any\n    note "late"\n    '
        '10 off permit ip any to any "why"\n'
    )
    told = plain(
        list_lines(plan, plan.lists["l"], datetime(2026, 12, 1), {10: 3, 20: 1234, None: 0})
    )
    assert told[1] == "  placed nowhere"
    body = [line.strip() for line in told[2:]]
    assert body[:2] == ["note: first", "note: late"]
    assert body[2].split() == ["10", "off", "3x", "permit", "ip", "any", "to", "any", '"why"']
    assert body[3].split()[:2] == ["20", "1,234x"]
    assert body[4].startswith("otherwise")


def test_differences_show_machines_first_and_say_what_is_left_out(plan_of: Read) -> None:
    plans = [
        plan_of(MANY + hosts(4)),
        plan_of(MANY.replace("    permit", "    permit tcp/22 any to any\n    permit") + hosts(4)),
    ]
    found = differences(Session(plans[0]), Session(plans[1]))
    told = plain(sets.difference_lines(plans[1], found, rest="--all shows all"))
    assert told[0] == "IPv4"
    assert told[1].startswith("  was denied by l otherwise, inbound on r.a")
    assert told[2].startswith("  is  permitted by l 10, inbound on r.a")
    assert told[3].strip() == "ssh  a to b"
    assert told[-1].endswith("packets that open no conversation; --all shows all")
    every = plain(sets.difference_lines(plans[1], found, every=True, rest=""))
    assert len(every) > len(told)
    few = plain(sets.difference_lines(plans[1], found * 20, rest="--json tells all"))
    assert len(few) < sets.MOST_ROWS + 8
    assert "more differences; " in few[-1]
    assert len(plain(sets.difference_lines(plans[1], found * 20, every=True, rest=""))) == 20 * len(
        every
    )  # a line each, none left out


def test_other_source_ports_are_counted(plan_of: Read) -> None:
    both = "    permit tcp/23 any to any source port 20\n    permit tcp/22 any to any\n    permit"
    plans = [plan_of(MANY + hosts(4)), plan_of(MANY.replace("    permit", both, 1) + hosts(4))]
    found = differences(Session(plans[0]), Session(plans[1]))
    told = plain(sets.difference_lines(plans[1], found))
    assert "telnet" not in " ".join(told)
    assert (
        "3 sets from source ports outside 32768-65535, which clients do not choose (--source-ports)"
        in told[-1]
    )
    shown = plain(sets.difference_lines(plans[1], found, source_ports=True, rest=""))
    assert "telnet source port 20" in " ".join(shown) or "tcp/23 source port 20" in " ".join(shown)


def test_reach_leaves_devices_out_unless_asked(plan_of: Read) -> None:
    plan = plan_of(MANY + hosts(2))
    at = datetime(2026, 12, 1)
    found = list(reach(Session(plan), "b", "a", When(at)))
    told = {
        devices: "\n".join(
            plain(sets.reach_lines(plan, "b", "a", When(at), found, False, devices, False))
        )
        for devices in (False, True)
    }
    assert ("--devices shows it" in told[False]) is any(each.devices for each in found)
    assert "--devices" not in told[True]
    assert "half-open, a later packet stopped by l otherwise" in told[False]
