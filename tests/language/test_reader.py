"""Plans that are read, and what is wrong with those that are not: the place, the word, the mend."""

from __future__ import annotations

import os
from collections.abc import Callable
from contextvars import copy_context
from datetime import datetime
from pathlib import Path

import pytest

import crossgate
from crossgate.core.model.address import Family
from crossgate.core.model.entry import Action, Kind
from crossgate.core.model.errors import PlanError, PlanErrors
from crossgate.core.model.plan import Plan
from crossgate.core.model.window import open_at, states
from crossgate.language.reader import read, read_plan

Read = Callable[[str], Plan]

NET = """subnet hall 10.64.8.0/22 2001:db8:64:8::/64 vlan 80
subnet office 10.64.20.0/24
outside sea
switch core
    interface v8 10.64.8.1/22 2001:db8:64:8::1/64 on hall
    interface v20 10.64.20.1/24 on office
    interface out 203.0.113.2/30 on sea
    port 1
host kiosk 10.64.8.21 2001:db8:64:8::21 on hall at core.1
host server 10.64.20.10 on office
group cranes 10.64.8.30-10.64.8.33, server
service booking tcp/8443, tcp/9443
window night daily 22:00-05:30
"""
LIST = NET + "list l extended ipv4\n    {}\n"
SIX = NET + "list l extended ipv6\n    {}\n"


def fails(text: str, tmp_path: Path) -> str:
    path = tmp_path / "bad.gate"
    path.write_text(text, encoding="utf-8")
    with pytest.raises(PlanErrors) as caught:
        read_plan(path)
    return str(caught.value)


def test_a_whole_plan_is_read(plan_of: Read) -> None:
    plan = plan_of(
        NET + 'title "Ternhaven"\nclient ports 40000-50000\nnumbering standard 1-50 extended '
        "51-99\nrouting static\n"
        'list 12 standard ipv4\n    note "who"\n    10 permit cranes "loading"\n    off deny any '
        "log\n    otherwise reject\n"
        "place 12 outbound on core.v20\nplace 12 inbound on subnet hall\nplace 12 inbound on core "
        "itself\nplace 12 inbound on core.1\n"
    )
    access_list = plan.lists["12"]
    assert (access_list.kind, access_list.family, access_list.otherwise.action) == (
        Kind.STANDARD,
        Family.IPV4,
        Action.REJECT,
    )
    assert [
        (entry.number, entry.off, entry.log, entry.comment) for entry in access_list.entries
    ] == [
        (10, False, False, "loading"),
        (20, True, True, ""),
    ]
    assert [str(placement.point) for placement in plan.placements] == [
        "core.v20",
        "subnet hall",
        "core itself",
        "core.1",
    ]
    assert (plan.title, plan.client_ports, plan.static_routing) == (
        "Ternhaven",
        (40000, 50000),
        True,
    )
    assert [str(each) for each in plan.groups["cranes"].members[Family.IPV4].patterns] == [
        "10.64.8.30/31",
        "10.64.8.32/31",
        "10.64.20.10",
    ]


@pytest.mark.parametrize(
    ("entry", "says", "word"),
    [
        ("permit tcp/70000 any to any", "70000 is no port: 0 to 65535", "70000"),
        ("permit tcp/90-20 any to any", "upside down: write 20-90", "90-20"),
        ("permit tcp/htps any to any", "there is https", "htps"),
        ("permit tcp any to 10.64.8.0/33", "/33 is no IPv4 prefix length: 0 to 32", "10.64.8.0/33"),
        ("permit tcp any to 2001:db8::1", "is IPv6 and this is an ipv4 list", "2001:db8::1"),
        (
            "permit tcp any to 10.64.8.9-10.64.8.1",
            "upside down: write 10.64.8.1-10.64.8.9",
            "10.64.8.9-10.64.8.1",
        ),
        (
            "permit tcp any to 10.64.8.0 mask 0.0.3.255",
            "as a wildcard write wild 0.0.3.255",
            "0.0.3.255",
        ),
        ("permit tcp any to 10.64.8.0 wild 2001:db8::1", "its wildcard IPv6", "2001:db8::1"),
        ("permit tcp any to Kiosk", "no name Kiosk; there is kiosk", "Kiosk"),
        ("permit tcp any to sea", "a device cannot know what is in it", "sea"),
        ("permit tcp any to core.9", "no interface or port core.9", "core.9"),
        ("permit tcp any to core.1", "is a port and has no addresses", "core.1"),
        ("permit tcp any", "expected to here", ""),
        ("permit tcp any into any", "expected to, not into", "into"),
        ("permitt tcp any to any", "permit", "permitt"),
        ("permit gre/80 any to any", "gre has no ports", "gre"),
        ("permit udp any to any established", "needs a service of tcp", "established"),
        ("permit icmp any to any source port 80", "source port needs", "source"),
        ("permit tcp any to any flags SYM", "SYM is no TCP flag", "SYM"),
        ("permit tcp any to any dscp 64", "64 is no DSCP value", "64"),
        ("permit tcp any to any during nigth", "there is night", "nigth"),
        ("permit tcp any to any log during night", "during stands too late or twice", "during"),
        ("permit tcp any to any fragments fragments", "stands twice", "fragments"),
        ('permit tcp any to any "open', "no closing quote", '"open'),
        ("permit tcp any to any now", "expected", "now"),
        ("permit bookin any to any", "there is booking", "bookin"),
        ("permit 300 any to any", "no protocol number", "300"),
    ],
)
def test_an_entry_is_told_what_is_wrong_with_it(
    tmp_path: Path, entry: str, says: str, word: str
) -> None:
    told = fails(LIST.format(entry), tmp_path)
    assert says in told
    lines = told.split("\n")
    assert lines[0].startswith(f"{tmp_path / 'bad.gate'}:15:")
    assert lines[1].strip() == entry
    if word:
        marked = lines[2].index("^")
        assert lines[1][marked : marked + len(lines[2].strip())] == word


@pytest.mark.parametrize(
    ("text", "says"),
    [
        ("subnet a 10.0.0.1/24\n", "10.0.0.0/24"),
        ("subnet a 10.0.0.0/24\nsubnet b 10.0.0.128/25\n", "both have 10.0.0.128/25"),
        ("subnet a 10.0.0.0/24\nsubnet a 10.0.1.0/24\n", "a is the name of a subnet already"),
        ("subnet a 10.0.0.0/24\nrouter r\n    interface i 10.0.1.1/24 on a\n", "10.0.1.1"),
        (
            (
                "subnet a 10.0.0.0/24\nrouter r\n    interface i 10.0.0.1/24 on a\nhost h "
                "10.0.0.1 on "
                "a\n"
            ),
            "both have 10.0.0.1",
        ),
        ("subnet a 10.0.0.0/24\nhost h 10.0.1.5 on a\n", "10.0.1.5"),
        ("subnet a 10.0.0.0/24\nhost h 10.0.0.5 on b\n", "no subnet b"),
        ("subnet a 10.0.0.0/24\nhost h 10.9.0.5\n", "expected on"),
        ("outside o\n", "no device has an interface on o"),
        ("router r\n    port 1\n", "only a switch has ports"),
        ("switch s\n    port 1 to t.1\n", "no switch t"),
        (
            "switch s\n    port 1 to t.1\n    port 2 to t.2\nswitch t\n    port 1\n    port 2\n",
            "closes a ring of switches",
        ),
        ("switch s\n    port 1 to s.1\n", "joined to itself"),
        (
            (
                "subnet a 10.0.0.0/24\nrouter r\n    interface i 10.0.0.1/24 on a\n    route "
                "10.9.0.0/16 via 10.5.0.1\n"
            ),
            "cannot hand packets",
        ),
        ("group g h\ngroup h g\n", "groups go round in a circle"),
        ("service s t\nservice t s\n", "services go round in a circle"),
        ("service tcp udp/1\n", "means itself"),
        ("window w daily 25:00-26:00\n", "no time of day"),
        (
            "subnet a 10.0.0.0/24\nrouter r\n    interface i 10.0.0.1/24\n    manage netconf ledger\n",
            "no host ledger",
        ),
        (
            "subnet a 10.0.0.0/24\nrouter r\n    interface i 10.0.0.1/24\n    manage netconf port 0\n",
            "0 is no port to connect to",
        ),
        (
            "subnet a 10.0.0.0/24\nrouter r\n    interface i 10.0.0.1/24\n    manage netconf\n    manage netconf\n",
            "r is managed already",
        ),
        (
            "subnet a 10.0.0.0/24\nrouter r\n    interface i 10.0.0.1/24\n    manage netconf user -x\n",
            "-x is no user's name",
        ),
        ("window w 2026-12-02 10:00 to 2026-12-01 10:00\n", "closes before it opens"),
        ("window w someday 10:00-11:00\n", "expected daily"),
        ("list 5 standart ipv4\n", "did you mean standard?"),
        ("list 5 ext ipv4\n", "did you mean extended?"),
        ("list 5 standard ipv4\nplace 5 in on r.a\n", "write: place 5 inbound on r.a"),
        (
            "list l extended ipv4\n    10 permit ip any to any\n    10 deny ip any to any\n",
            "has an entry 10 in line 2 already",
        ),
        (
            "list l extended ipv4\n    otherwise deny\n    otherwise permit\n",
            "has its otherwise in line 2 already",
        ),
        ("list l standard ipv4\n    permit any to any\n", "a standard list asks for sources only"),
        ("list l extended ipv4\nlist l extended ipv6\n", "there is a list l already"),
        (
            "list kiosk-fence extended ipv4\nplace KIOSK-fence inbound on r.i\n",
            "no list KIOSK-fence; there is kiosk-fence",
        ),
        ("    permit any\n", "no statement above it opens a block"),
        ("subnet a 10.0.0.0/24\n    vlan 5\n", "subnet opens no block"),
        ("subnat a 10.0.0.0/24\n", "no statement subnat; there is subnet"),
        ('include "missing.gate"\n', "there is no file"),
        ("title one\n", "in double quotes"),
        ('title "a"\ntitle "b"\n', "stands in line 1 already"),
        ("numbering standard 1-99 extended 50-199\n", "overlaps the standard numbers 1-99"),
        ("client ports 70000\n", "at most 65535"),
        ("routing fastest\n", "expected shortest or static"),
        ('accept nonsense in l "why"\n', "the name of a finding"),
        ("list l extended ipv4\naccept no-effect in l\n", "the reason, in double quotes"),
        (
            'list l extended ipv4\naccept no-effect in l 10 "why"\n',
            "no entry in list l with number 10",
        ),
    ],
)
def test_a_plan_is_told_what_is_wrong_with_it(tmp_path: Path, text: str, says: str) -> None:
    assert says in fails(text, tmp_path)


@pytest.mark.parametrize(
    ("line", "says"),
    [
        ("expect permit ssh kiosk to nobody", "no name nobody"),
        ("expect allow ssh kiosk to server", "expected permit, deny, half-open or only"),
        ("expect permit ssh kiosk to server by l 40", "no entry in list l with number 40"),
        ("expect permit ssh kiosk to server over ipv5", "expected ipv4 or ipv6"),
        ("expect permit ssh kiosk to server at noon", "expected a time"),
        ("expect permit ping kiosk to server source port 5", "ping has no source port"),
        ("expect permit ssh kiosk server", "expected to"),
        ("expect permit ssh kiosk to server always", "nothing more belongs here"),
        ("place l sideways on core.v8", "expected inbound, outbound or within"),
        ("place l inbound on core", "itself, or a point as core.v8"),
        ("place l inbound on hall", "write subnet hall"),
        ("place l inbound on subnet sea", "lists stand on subnets and devices"),
        (
            "place l inbound on core.v8\nplace l inbound on core.v8",
            "a place takes one list of a family each way",
        ),
    ],
)
def test_claims_and_places_are_told_what_is_wrong_with_them(
    tmp_path: Path, line: str, says: str
) -> None:
    assert says in fails(LIST.format("10 permit ip any to any") + line + "\n", tmp_path)


def test_all_errors_are_told_at_once_in_the_order_of_their_lines(tmp_path: Path) -> None:
    told = fails(
        (
            "subnat x\nlist l extended ipv4\n    permit tcp/99999 any to any\n    permitt ip any "
            "to "
            "any\nhost h 1.2.3.4 on y\n"
        ),
        tmp_path,
    )
    numbers = [
        int(line.split(":")[1]) for line in told.split("\n") if line.startswith(str(tmp_path))
    ]
    assert numbers == [1, 3, 4, 5]
    assert told.endswith("4 errors")


def test_an_error_is_not_told_again_where_its_name_is_used(tmp_path: Path) -> None:
    told = fails(
        (
            "subnet a 10.0.0.0/99\nhost h 10.0.0.1 on a\nlist l extended ipv4\n    permit ip a to "
            "h\nplace l inbound on subnet a\n"
        ),
        tmp_path,
    )
    assert told.count(str(tmp_path)) == 1


def test_tabs_line_endings_and_comments_do_not_matter(plan_of: Read, tmp_path: Path) -> None:
    text = (
        'list l extended ipv4  # here\n\n\t10\tpermit ip any to any "a # is no comment '
        'here"\n# at the margin\n    20 deny ip any to any\n'
    )
    expected = [(entry.number, entry.comment) for entry in plan_of(text).lists["l"].entries]
    assert expected == [(10, "a # is no comment here"), (20, "")]
    path = tmp_path / "win.gate"
    path.write_bytes(b"\xef\xbb\xbf" + text.replace("\n", "\r\n").encode())
    assert [
        (entry.number, entry.comment) for entry in read_plan(path).lists["l"].entries
    ] == expected


@pytest.mark.parametrize(
    ("data", "says"),
    [
        (b'title "caf\xe9"\n', "byte 0xe9 is not UTF-8"),
        (b"\xff\xfet\x00", "UTF-16"),
        (b"\x7fELF\x00\x01", "binary file"),
    ],
)
def test_what_is_no_text_is_said_so(tmp_path: Path, data: bytes, says: str) -> None:
    path = tmp_path / "odd.gate"
    path.write_bytes(data)
    with pytest.raises(PlanError, match=says):
        read_plan(path)


def test_includes_are_read_in_place_and_may_not_go_round(tmp_path: Path) -> None:
    (tmp_path / "parts").mkdir()
    (tmp_path / "parts" / "net.gate").write_text("subnet a 10.0.0.0/24\n")
    main = tmp_path / "main.gate"
    main.write_text('include "parts/net.gate"\nhost h 10.0.0.9 on a\n')
    plan = read_plan(main)
    assert plan.hosts["h"].on == "a"
    assert plan.files == (str(main), str(tmp_path / "parts" / "net.gate"))
    (tmp_path / "parts" / "net.gate").write_text('subnet a 10.0.0.0/24\ninclude "../main.gate"\n')
    with pytest.raises(PlanErrors, match="include goes round in a circle"):
        read_plan(main)


@pytest.fixture
def outside(tmp_path: Path) -> Path:
    """A plan that includes a file of another folder."""
    (tmp_path / "plans").mkdir()
    (tmp_path / "shared").mkdir()
    (tmp_path / "shared" / "net.gate").write_text("subnet a 10.0.0.0/24\n")
    main = tmp_path / "plans" / "main.gate"
    main.write_text('include "../shared/net.gate"\n')
    return main


def test_an_include_of_another_folder_is_read_only_where_a_person_trusts_it(
    outside: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    def attempt() -> Plan:
        return copy_context().run(read_plan, outside)

    with pytest.raises(
        PlanErrors, match=r"net.gate lies outside the plan's folder .*--include-from .*shared"
    ):
        attempt()
    (outside.parent / "link.gate").symlink_to("../shared/net.gate")
    outside.write_text('include "link.gate"\n')
    with pytest.raises(PlanErrors, match="lies outside the plan's folder"):
        attempt()
    monkeypatch.setenv(
        "CROSSGATE_INCLUDE_FROM", os.pathsep.join(["/nowhere", str(outside.parents[1] / "shared")])
    )
    assert attempt().segments
    monkeypatch.setenv("CROSSGATE_INCLUDE_FROM", "")
    assert crossgate.read(outside, include_from=[outside.parents[1] / "shared"]).segments
    with pytest.raises(PlanErrors):
        attempt()
    (outside.parents[1] / ".git").mkdir()
    assert attempt().segments


def test_of_an_include_that_is_no_plan_by_its_name_no_word_is_shown(tmp_path: Path) -> None:
    main = tmp_path / "main.gate"
    for name in ("secret", "secret.gate"):
        (tmp_path / name).write_bytes(
            b"root:hunter2 secretword\nsubnet secretword\n"
            + b"secretword \xff\n" * (name == "secret")
        )
        main.write_text(f'include "{name}"\n')
        with pytest.raises(PlanErrors) as raised:
            read_plan(main)
        shown = "secretword" in str(raised.value) or "hunter2" in str(raised.value)
        assert shown is name.endswith(".gate")
        assert f"{name}:1" in str(raised.value) or f"{name}:3" in str(raised.value)


@pytest.mark.parametrize("make", [os.mkfifo, Path.mkdir, lambda path: path.symlink_to("/dev/zero")])
def test_an_include_is_a_regular_file(tmp_path: Path, make: Callable[[Path], object]) -> None:
    make(tmp_path / "odd.gate")
    main = tmp_path / "main.gate"
    main.write_text('include "odd.gate"\n')
    with pytest.raises(PlanErrors, match=r"no regular file|is a folder|lies outside"):
        read_plan(main)


def test_bytes_can_stand_in_for_a_file(tmp_path: Path) -> None:
    path = tmp_path / "disk.gate"
    path.write_text("list a extended ipv4\n")
    assert list(read(path).plan.lists) == ["a"]
    reading = read(path, {str(path): b"list b extended ipv6\n"})
    assert list(reading.plan.lists) == ["b"]
    assert reading.data == {str(path): b"list b extended ipv6\n"}


def test_ipv6_wildcards_and_icmp_are_read(plan_of: Read) -> None:
    access_list = plan_of(
        SIX.format("permit icmp/packet-too-big 2001:db8::a wild ::ffff:0:0:0:0 to hall")
    ).lists["l"]
    (entry,) = access_list.entries
    assert str(entry.source.patterns[0]) == "2001:db8::a wild 0:0:0:ffff::"
    assert (entry.service.terms[0].protocol, entry.service.terms[0].icmp_type) == (58, 2)


def test_windows_cross_midnight_and_exclude_their_end(plan_of: Read) -> None:
    plan = plan_of(
        "window n fri 22:00-02:00, sun 10:00-11:00\nwindow d 2026-12-01 06:00 to 2026-12-05 18:00\n"
    )
    opened = {
        datetime(2026, 11, 27, 21, 59): set(),
        datetime(2026, 11, 27, 22, 0): {"n"},
        datetime(2026, 11, 28, 1, 59): {"n"},
        datetime(2026, 11, 28, 2, 0): set(),
        datetime(2026, 11, 29, 10, 30): {"n"},
        datetime(2026, 12, 1, 6, 0): {"d"},
        datetime(2026, 12, 5, 17, 59): {"d"},
        datetime(2026, 12, 5, 18, 0): set(),
    }
    for moment, names in opened.items():
        assert open_at(plan.windows.values(), moment) == names
    found = states(list(plan.windows.values()))
    assert set(found) == {frozenset(), frozenset({"n"}), frozenset({"d"})} | (
        {frozenset({"n", "d"})} & set(found)
    )
    for state, moment in found.items():
        assert open_at(plan.windows.values(), moment) == state


def test_a_range_of_ports_declares_each(plan_of: Read) -> None:
    plan = plan_of(
        "subnet a 10.0.0.0/24\nswitch s\n    port 1-24\n    port up to t.1\nswitch t\n    port "
        "1\nhost h 10.0.0.5 on a at s.7\n"
    )
    assert [*plan.devices["s"].ports] == [*map(str, range(1, 25)), "up"]
    assert str(plan.hosts["h"].at) == "s.7"
    for line, says in (
        ("port 1-24 to t.1", "a cable joins two ports, and 1-24 is 24"),
        ("port 7", "s has an interface or port 7 already"),
        ("port 20-30", "s has an interface or port 20 already"),
    ):
        with pytest.raises(PlanErrors, match=says):
            plan_of(
                f"switch s\n    port 1-24\n    {line}\nswitch t\n    port 1\n"
                if "to" not in line
                else f"switch s\n    {line}\nswitch t\n    port 1\n"
            )
    assert [*plan_of("switch s\n    port 24-1\n    port up-1\n").devices["s"].ports] == [
        "24-1",
        "up-1",
    ]


def test_what_stands_behind_addresses_comes_in_any_order(plan_of: Read) -> None:
    own = (
        "at core.1 mac 00:00:5e:00:53:21 gateway 10.64.8.1 stateful on hall",
        "stateful on hall gateway 10.64.8.1 at core.1 mac 00:00:5e:00:53:21",
    )
    first, second = (plan_of(f"{NET}host own 10.64.8.9 {each}\n").hosts["own"] for each in own)
    assert first == second
    assert (first.stateful, first.on, str(first.at)) == (True, "hall", "core.1")
    interface = "router more\n    interface a 10.64.8.2/22 {}\n"
    first_at, second_at = (
        plan_of(NET + interface.format(each)).devices["more"].interfaces["a"]
        for each in ("on hall cost 7 passive", "passive cost 7 on hall")
    )
    assert first_at == second_at
    assert (first_at.cost, first_at.passive) == (7, True)


@pytest.mark.parametrize(
    ("line", "says"),
    [
        ("host own 10.64.8.9 at core.1 on hall at core.1", "at is written twice"),
        ("host own 10.64.8.9 stateful stateful", "stateful is written twice"),
        ("host own 10.64.8.9 gateway 10.64.8.1 gateway 10.64.8.2", "has an IPv4 gateway already"),
        ("host own 10.64.8.9 at core.1 on office", "10.64.8.9 is not in office"),
        (
            "router r\n    interface a 203.0.113.1/30 passive on sea",
            "sea is an outside, over which",
        ),
    ],
)
def test_what_stands_behind_addresses_is_told_where_it_is_wrong(
    tmp_path: Path, line: str, says: str
) -> None:
    assert says in fails(f"{NET}{line}\n", tmp_path)


@pytest.mark.parametrize("without", [",", " ,", ", "])
def test_commas_stand_with_blanks_around_them_or_none(plan_of: Read, without: str) -> None:
    apart, close = (
        plan_of(
            NET
            + f"service all tcp/80{comma}udp/53\ngroup some kiosk{comma}server but server\n"
            + "list l extended ipv4\n"
            + f"    permit all 10.64.8.9{comma}10.64.8.0 wild 0.0.0.3{comma}server to any but kiosk{comma}server\n"
            + f"    permit all 10.64.9.9{comma}10.64.8.0 mask  255.255.255.252{comma}leases of office{comma}kiosk to any\n"
            + f"    permit all kiosk{comma}leases of office to any but 10.64.8.9{comma}10.64.9.0 mask 255.255.255.0\n"
            + "leases 10.64.20.100-10.64.20.120 on office by server\n"
            + f"expect deny all 10.64.8.9{comma}10.64.8.0 wild 0.0.0.3 to office{comma}cranes\n"
        )
        for comma in (" , ", without)
    )
    assert apart.services["all"].tokens == close.services["all"].tokens == ("tcp/80", "udp/53")
    assert apart.groups["some"].members == close.groups["some"].members
    for one, other in zip(apart.lists["l"].entries, close.lists["l"].entries, strict=True):
        assert one.source.patterns == other.source.patterns
        assert one.destination.patterns == other.destination.patterns
    assert apart.expectations[0].source == close.expectations[0].source
    assert "10.64.8.0/30" in {str(each) for each in apart.lists["l"].entries[0].source.patterns}


def test_an_error_behind_a_comma_without_a_blank_is_shown_where_it_is(tmp_path: Path) -> None:
    line = "    permit 10.64.8.0 wild 0.0.0.3,nobody"
    told = fails(f"{NET}list 1 standard ipv4\n{line}\n", tmp_path)
    shown, marked = told.splitlines()[1:3]
    assert "no name nobody" in told
    assert marked.index("^") == shown.index("nobody")
