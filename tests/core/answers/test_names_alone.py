"""Plans that differ in one name alone: known as the same, and nothing else is."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from crossgate.core.answers.compare import differences
from crossgate.core.answers.names_alone import Renamed, differ_in_names_alone
from crossgate.core.model.errors import PlanErrors
from crossgate.core.model.named import NameSpace
from crossgate.core.model.plan import Plan
from crossgate.core.traffic.session import Session
from crossgate.language.draft import Draft
from crossgate.language.reader import read
from crossgate.language.renaming import NameKind, rename
from tests.core.network import reference

Read = Callable[[str], Plan]

SITE = """\
subnet desk 10.0.1.0/24
subnet shop 10.0.2.0/24
subnet link 10.0.3.0/29
outside world
window night daily 22:00-05:30
window dark  daily 21:00-05:30
group some 10.0.1.9, till
service pay tcp/8443
service lend tcp/9443, pay
switch s
    port 1
    port 2
router r stateful
    interface a 10.0.1.1/24 on desk at s.1
    interface b 10.0.3.1/29 on link
    interface c 192.0.2.1/30 on world
    route default via 192.0.2.2
    translate itself tcp/443 entering c to 10.0.2.9
    manage netconf till user noc
router q
    interface a 10.0.2.1/24 on shop
    interface b 10.0.3.2/29 on link
host till 10.0.2.9 on shop
host pc   10.0.1.9 on desk at s.2
leases 10.0.1.100-10.0.1.120 on desk by till names till
list night extended ipv4
    10 permit pay desk to till during night
    20 permit lend some to shop during night until 2037-05-01
    30 permit udp/53 desk to till at most 5 a second
list dark extended ipv4
    10 permit ip shop to some
place night inbound on r.a
place dark  inbound on q.a
expect permit pay pc to till at mon 23:00 by night 10
"""
RENAMED = [
    (Renamed(NameSpace.NAME, "desk", "office"), ("desk", "office")),
    (Renamed(NameSpace.NAME, "shop", "store"), ("shop", "store")),
    (Renamed(NameSpace.NAME, "world", "internet"), ("world", "internet")),
    (Renamed(NameSpace.NAME, "till", "box"), ("till", "box")),
    (Renamed(NameSpace.NAME, "pc", "box"), ("pc", "box")),
    (Renamed(NameSpace.NAME, "some", "few"), ("some", "few")),
    (
        Renamed(NameSpace.NAME, "s", "switch-1"),
        ("switch s", "switch switch-1", " s.", " switch-1."),
    ),
    (Renamed(NameSpace.NAME, "q", "core"), ("router q", "router core", "q.a", "core.a")),
    (
        Renamed(NameSpace.POINT, "a", "up", "r"),
        ("interface a 10.0.1", "interface up 10.0.1", "r.a", "r.up"),
    ),
    (
        Renamed(NameSpace.POINT, "c", "up", "r"),
        ("interface c", "interface up", "entering c", "entering up"),
    ),
    (Renamed(NameSpace.POINT, "2", "7", "s"), ("port 2", "port 7", "s.2", "s.7")),
    (Renamed(NameSpace.SERVICE, "pay", "till-app"), ("pay", "till-app")),
    (
        Renamed(NameSpace.WINDOW, "night", "late"),
        ("window night", "window late", "during night", "during late"),
    ),
    (
        Renamed(NameSpace.LIST, "night", "door"),
        ("list night", "list door", "place night", "place door", "by night", "by door"),
    ),
]


def replaced(text: str, words: tuple[str, ...]) -> str:
    for old, new in zip(words[::2], words[1::2], strict=True):
        assert old in text
        text = text.replace(old, new)
    return text


@pytest.mark.parametrize(("renamed", "words"), RENAMED, ids=lambda each: str(each[0]))
def test_one_name_is_nothing_and_every_line_less_is_something(
    plan_of: Read, renamed: Renamed, words: tuple[str, ...]
) -> None:
    old, text = plan_of(SITE), replaced(SITE, words)
    assert differ_in_names_alone(old, plan_of(text), renamed)
    assert not differ_in_names_alone(old, plan_of(SITE), renamed)
    lines = text.splitlines(keepends=True)
    less = 0
    for number, line in enumerate(lines):
        try:
            plan = plan_of("".join([*lines[:number], *lines[number + 1 :]]))
        except PlanErrors:
            continue
        # What is expected is no part of what is compared here.
        assert differ_in_names_alone(old, plan, renamed) is line.startswith("expect"), line
        less += 1
    assert less >= 12


@pytest.mark.parametrize(
    ("renamed", "words", "also"),
    [
        # A name of another space that is spelled alike stands for something else.
        (RENAMED[13], "during night until", "during dark until"),
        (RENAMED[8], "place dark  inbound on q.a", "place dark  inbound on q.b"),
        (RENAMED[3], "on desk by box", "on desk by pc"),
        (RENAMED[0], "10.0.1.1/24", "10.0.1.2/24"),
        (RENAMED[11], "tcp/8443", "tcp/8444"),
        (RENAMED[12], "22:00-05:30", "22:00-05:00"),
        (RENAMED[3], "at most 5", "at most 6"),
        (RENAMED[3], "permit ip shop", "deny ip shop"),
        (RENAMED[3], "desk at s.1", "desk"),
        (RENAMED[3], "router r stateful", "router r closed stateful"),
    ],
)
def test_whatever_else_differs_is_seen(
    plan_of: Read, renamed: tuple[Renamed, tuple[str, ...]], words: str, also: str
) -> None:
    text = replaced(SITE, renamed[1])
    other = Renamed(NameSpace.LIST, "night", "dark")
    assert words in text
    assert not differ_in_names_alone(plan_of(SITE), plan_of(text.replace(words, also)), renamed[0])
    assert not differ_in_names_alone(plan_of(SITE), plan_of(text), other)


@settings(max_examples=25, deadline=None)
@given(st.integers(0, 1 << 32), st.data())
def test_what_is_taken_for_the_same_is_treated_alike(
    tmp_path: Path, seed: int, data: st.DataObject
) -> None:
    path = tmp_path / "p.gate"
    path.write_text(reference.network(seed))
    reading = read(path)
    draft, old = Draft(reading), reading.plan
    name = data.draw(st.sampled_from([*old.devices, *old.hosts]))
    rename(draft, NameKind.DEVICE if name in old.devices else NameKind.HOST, name, "anew")
    text = draft.result()[str(path)].decode()
    renamed = Renamed(NameSpace.NAME, name, "anew")
    path.write_text(text)
    assert differ_in_names_alone(old, read(path).plan, renamed)
    lines = text.splitlines(keepends=True)
    del lines[data.draw(st.integers(0, len(lines) - 1))]
    path.write_text("".join(lines))
    try:
        new = read(path).plan
    except PlanErrors:
        return
    if differ_in_names_alone(old, new, renamed):
        assert differences(Session(old), Session(new)) == []
