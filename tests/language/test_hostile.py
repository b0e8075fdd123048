"""Plans that nobody should write: each is read or told with its place, in good time, and nothing
steers a terminal.
"""

from __future__ import annotations

import os
import random
import time
from collections.abc import Callable
from contextlib import suppress
from pathlib import Path

import pytest

from crossgate.core.model.address import Family
from crossgate.core.model.errors import PlanError
from crossgate.core.model.plaintext import escaped, numeral
from crossgate.core.model.plan import Plan
from crossgate.core.model.window import states
from crossgate.language.named_sets import in_order
from crossgate.language.reader import read_plan

Read = Callable[[str], Plan]
LONG = "9" * 5000
LIST = "list l extended ipv4\n    {}\n"


@pytest.mark.parametrize(
    "text",
    [
        "subnet a 10.0.0.²/24",
        "subnet a 10.0.0.0/²",
        f"subnet a 10.0.0.0/{LONG}",
        f"subnet a 10.{LONG}.0.0/24",
        f"subnet a 10.0.0.0/24 vlan {LONG}",
        f"list {LONG} standard ipv4",
        "list ² standard ipv4",
        LIST.format("² permit ip any to any"),
        LIST.format(f"{LONG} permit ip any to any"),
        LIST.format("٣ permit ip any to any"),
        LIST.format(f"permit tcp/{LONG} any to any"),
        LIST.format("permit tcp/² any to any"),
        LIST.format(f"permit {LONG} any to any"),
        LIST.format(f"permit icmp/{LONG} any to any"),
        LIST.format(f"permit icmp/3/{LONG} any to any"),
        LIST.format(f"permit ip any to any dscp {LONG}"),
        LIST.format("permit ip 10.0.0.² to any"),
        LIST.format(f"permit ip 10.0.0.{LONG} to any"),
        f"numbering standard 1-{LONG} extended 5",
        "numbering standard ²-3 extended 5",
        f"client ports {LONG}",
        f"window w daily {LONG}:00-05:00",
        "window w daily ²²:00-05:00",
        f"window w {LONG}-01-01 00:00 to 2026-01-01 00:00",
        f"expect permit tcp/80 10.0.0.1 to 10.0.0.2 source port {LONG}",
        f"expect permit tcp/80 10.0.0.1 to 10.0.0.2 at mon {LONG}:00",
        f"host h 10.0.0.{LONG} on a",
        f"router r\n    route 10.0.0.0/{LONG} via 10.0.0.1",
        f'accept no-effect in l {LONG} "x"',
        f"place {LONG} inbound on r.a",
        f"group g 10.0.0.1-10.0.0.{LONG}",
        f"service s tcp/{LONG}-{LONG}",
    ],
)
def test_odd_digits_and_endless_numbers_are_told(plan_of: Read, text: str) -> None:
    with pytest.raises(PlanError, match=r"test\.gate:\d"):
        plan_of(text + "\n")


def test_a_number_is_ascii_digits_and_not_endless() -> None:
    assert [
        numeral(text) for text in ("0", "007", "9" * 18, "9" * 19, "²", "٣", "-1", "", "1 ")
    ] == [
        0,
        7,
        10**18 - 1,
        None,
        None,
        None,
        None,
        None,
        None,
    ]


@pytest.mark.parametrize(
    "span",
    [
        "0001-01-01 00:00 to 0001-01-02 00:00",
        "9999-12-30 00:00 to 9999-12-31 23:59",
        "0001-01-01 00:00 to 9999-12-31 23:59",
    ],
)
def test_windows_at_the_ends_of_time_have_their_states(plan_of: Read, span: str) -> None:
    plan = plan_of(f"window w {span}\nwindow n daily 22:00-06:00\n")
    found = set(states(list(plan.windows.values())))
    assert {frozenset({"w"}), frozenset({"w", "n"})} <= found
    assert all(moment is not None for moment in states(list(plan.windows.values())).values())


def test_chains_of_any_length_are_read(plan_of: Read, tmp_path: Path) -> None:
    count = 1500
    text = (
        "".join(f"group g{each} g{each + 1}, 10.0.{each % 256}.1\n" for each in range(count))
        + f"group g{count} 10.1.0.1\n"
    )
    text += (
        "".join(f"service s{each} s{each + 1}\n" for each in range(count))
        + f"service s{count} tcp/80\n"
    )
    plan = plan_of(text + LIST.format("permit s0 g0 to any"))
    assert len(plan.groups["g0"].members[Family.IPV4].patterns) == 257
    assert len(plan.lists["l"].entries[0].service.terms) == 1
    for each in range(count):
        (tmp_path / f"i{each}.gate").write_text(
            f'include "i{each + 1}.gate"\nsubnet s{each} 10.{each // 256}.{each % 256}.0/24\n'
        )
    (tmp_path / f"i{count}.gate").write_text("")
    deep = read_plan(tmp_path / "i0.gate")
    assert (len(deep.segments), len(deep.files)) == (count, count + 1)
    assert next(iter(deep.segments)) == f"s{count - 1}"


def test_circles_of_any_length_are_told_once(plan_of: Read) -> None:
    count = 1500
    groups = "".join(f"group g{each} g{(each + 1) % count}\n" for each in range(count))
    services = "".join(f"service s{each} s{(each + 1) % count}\n" for each in range(count))
    for text, says in (
        (groups, "groups go round in a circle: g0 has g1"),
        (services, "services go round in a circle: s0 has s1"),
    ):
        with pytest.raises(PlanError, match=says) as told:
            plan_of(text)
        assert str(told.value).count("in a circle") == 1
        assert len(str(told.value)) < 1000


def test_names_are_put_in_order_of_need() -> None:
    needs = {"a": ["b", "c"], "b": ["d"], "c": ["d"], "d": [], "x": ["y"], "y": ["z"], "z": ["y"]}
    order, circles = in_order(needs, lambda name: needs[name])
    assert order[:4] == ["d", "b", "c", "a"]
    assert circles == [["y", "z"]]


def test_what_doubles_at_each_level_ends(plan_of: Read) -> None:
    """Worked out anew wherever it is used, the last of these would be read 2^60 times."""
    text = "".join(
        f"service s{each} s{each + 1},s{each + 1}\ngroup g{each} g{each + 1}, g{each + 1}\n"
        for each in range(60)
    )
    plan = plan_of(
        text + "service s60 tcp/80\ngroup g60 10.0.0.1\n" + LIST.format("permit s0 g0 to any")
    )
    assert (
        len(plan.lists["l"].entries[0].service.terms),
        len(plan.lists["l"].entries[0].source.patterns),
    ) == (1, 1)


def test_only_regular_files_are_included(tmp_path: Path) -> None:
    (tmp_path / "folder").mkdir()
    os.mkfifo(tmp_path / "pipe")
    (tmp_path / "loop").symlink_to("loop")
    for name, says in (
        ("/dev/zero", "lies outside"),
        ("folder", "is a folder"),
        ("pipe", "no regular file"),
        ("loop", "cannot be read"),
        ("no", "there is no file"),
    ):
        (tmp_path / "p.gate").write_text(f'include "{name}"\n')
        with pytest.raises(PlanError, match=says):
            read_plan(tmp_path / "p.gate")
    with pytest.raises(PlanError, match="cannot be read"):
        read_plan(tmp_path / "loop")


def test_a_file_that_is_far_too_large_is_refused(tmp_path: Path) -> None:
    with (tmp_path / "p.gate").open("wb") as stream:
        stream.truncate(256 * 1024 * 1024 + 1)
    with pytest.raises(PlanError, match="larger than 256 MB"):
        read_plan(tmp_path / "p.gate")


@pytest.mark.parametrize(
    ("text", "says"),
    [
        (
            "router r\n\xa0\xa0interface a 10.0.0.1/24 on a\n",
            r"test.gate:2:1: this line begins with no-break space \(U\+00A0\)",
        ),
        (
            "router r\n\x0binterface a 10.0.0.1/24 on a\n",
            r"test.gate:2:1: this line begins with a control character \(U\+000B\)",
        ),
        ("subnet a 10.0.0.0/24\rsubnet b 10.0.1.0/24\r", "lines end in carriage returns alone"),
    ],
)
def test_odd_blanks_and_old_line_endings_are_told(tmp_path: Path, text: str, says: str) -> None:
    (tmp_path / "test.gate").write_bytes(text.encode())
    with pytest.raises(PlanError, match=says):
        read_plan(tmp_path / "test.gate")


def test_a_bad_service_is_one_error_at_its_own_line(plan_of: Read) -> None:
    entries = "\n".join(f"    permit {name} any to any" for name in ("bad", "bad", "uses", "bad"))
    with pytest.raises(PlanError) as told:
        plan_of(
            "service bad tcp/99999\nservice uses bad, tcp/80\nlist l extended "
            f"ipv4\n{entries}\nexpect permit bad 10.0.0.1 to 10.0.0.2\n"
        )
    assert str(told.value).count("test.gate:") == 1
    assert "test.gate:1:17: 99999 is no port" in str(told.value)


def test_what_would_steer_a_terminal_is_an_escape_from_the_start(plan_of: Read) -> None:
    plan = plan_of(
        'title "a\x1b[31mb\x07"\nlist l extended ipv4\n    permit ip any to any "\u202egnp.\x9b"\n'
    )
    assert plan.title == "a\\x1b[31mb\\x07"
    assert plan.lists["l"].entries[0].comment == "\\u202egnp.\\x9b"
    assert escaped("tab\tline\nDEL\x7f é 日本") == "tab\tline\nDEL\\x7f é 日本"
    with pytest.raises(PlanError) as told:
        plan_of("subnet \x1b]0;x\x07 10.0.0.0/24\n")
    assert "\x1b" not in str(told.value)


WORDS = [
    "",
    " ",
    "    ",
    "#",
    '"',
    ",",
    "-",
    "/",
    ".",
    "any",
    "to",
    "10.0.0.1",
    "10.0.0.0/8",
    "²",
    "\t",
    "\xa0",
    "\x00",
    "\x1b",
    "999999999999",
    "::",
    "wild",
    "include",
]


def test_mutated_plans_are_read_or_told(tmp_path: Path) -> None:
    """Seeded mutations of the demo's plan; CROSSGATE_FUZZ says for how many seconds, else there are
    a few hundred.
    """
    from importlib.resources import files

    original = (files("crossgate.demo") / "files" / "ternhaven.gate").read_text(encoding="utf-8")
    seconds = float(os.environ.get("CROSSGATE_FUZZ", "0"))
    chance, start, count = random.Random(64 if not seconds else time.time_ns()), time.monotonic(), 0
    path = tmp_path / "m.gate"
    while count < 250 or time.monotonic() - start < seconds:
        count += 1
        path.write_bytes(mutated(original, chance).encode("utf-8", "surrogatepass"))
        with suppress(PlanError):
            read_plan(path)


def mutated(text: str, chance: random.Random) -> str:
    """Change a few lines or words of a text, or leave some out."""
    lines = text.split("\n")
    for _ in range(chance.randint(1, 6)):
        index = chance.randrange(len(lines))
        words = lines[index].split(" ")
        where = chance.randrange(len(words))
        match chance.randrange(6):
            case 0:
                words[where] = chance.choice(WORDS)
            case 1:
                words.insert(where, chance.choice(WORDS))
            case 2:
                del words[where]
            case 3:
                words[where] = chance.choice(chance.choice(lines).split(" "))
            case 4:
                lines.insert(index, chance.choice(lines))
            case _:
                words[where] = words[where][: chance.randrange(len(words[where]) + 1)]
        lines[index] = " ".join(words)
    return "\n".join(lines)
