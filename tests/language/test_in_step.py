"""Tables taken into a plan that exists: against what a new plan of the same tables would be."""

from __future__ import annotations

import random
from collections.abc import Sequence
from pathlib import Path

import pytest

from crossgate.core.model.errors import PlanError, PlanErrors
from crossgate.core.model.plan import Plan
from crossgate.language.beginning import from_tables
from crossgate.language.draft import Draft
from crossgate.language.in_step import in_step
from crossgate.language.known_rows import ComingTable, RowKey
from crossgate.language.reader import Reading, read
from crossgate.language.table_rows import TableRow

Rows = list[dict[str, str]]


def rows_of(file: str, rows: Rows) -> list[TableRow]:
    fields = {name for row in rows for name in row}
    return [
        TableRow(file, number, {each: each for each in fields}, row)
        for number, row in enumerate(rows, 2)
    ]


def taken_in(
    reading: Reading,
    subnets: Rows | None = None,
    hosts: Rows | None = None,
    key: RowKey = RowKey.NAME,
    prune: bool = False,
    whole: bool = True,
) -> tuple[Draft, Reading]:
    """Return the draft and the plan in step with tables."""
    draft = Draft(reading)
    tables: list[ComingTable | None] = [
        None if rows is None else ComingTable(rows_of(file, rows), key, prune, whole)
        for file, rows in (("subnets.csv", subnets), ("hosts.csv", hosts))
    ]
    in_step(draft, *tables)
    return draft, reading.changed(draft.result())


def network(plan: Plan) -> object:
    """Return what tables say of a plan, in no order."""
    return (
        {name: (each.on, {*each.addresses}, each.mac) for name, each in plan.hosts.items()},
        {name: ({*each.prefixes}, each.vlan) for name, each in plan.segments.items()},
        {
            (one.on, address.address, address.length)
            for each in plan.devices.values()
            for one in each.interfaces.values()
            for address in one.addresses
        },
    )


def drawn(chance: random.Random) -> tuple[Rows, Rows]:
    """Draw a table of subnets, each with a gateway, and one of hosts on them."""
    subnets: Rows = []
    hosts: Rows = []
    for number in sorted(chance.sample(range(1, 12), chance.randint(2, 5))):
        net = f"10.9.{chance.choice((number, number + 100))}"
        length = chance.choice((24, 25))
        subnets.append(
            {
                "name": f"net-{number}",
                "prefix": f"{net}.0/{length}",
                "gateway": f"{net}.{chance.choice((1, 126))}",
                "device": "core",
            }
        )
        subnets[-1]["vlan"] = str(chance.randint(2, 4000))
        for machine in chance.sample(range(2, 9), chance.randint(1, 3)):
            hosts.append(
                {
                    "name": f"Host {number} {machine}",
                    "address": f"{net}.{chance.choice((machine, machine + 50))}",
                    "mac": f"00:00:5e:00:53:{number * 16 + machine:02x}",
                }
            )
            if chance.random() < 0.5:
                hosts[-1]["subnet"] = f"net-{number}"
    return subnets, hosts


@pytest.mark.parametrize("seed", range(40))
def test_a_plan_in_step_is_what_a_new_one_of_the_tables_would_be(tmp_path: Path, seed: int) -> None:
    chance = random.Random(seed)
    (subnets, hosts), (subnets_now, hosts_now) = drawn(chance), drawn(chance)
    path = tmp_path / "net.gate"
    old = from_tables(path, "t", rows_of("s", subnets), rows_of("h", hosts)).text
    wanted = from_tables(path, "t", rows_of("s", subnets_now), rows_of("h", hosts_now))
    reading = read(path, {str(path): old.encode()})
    chance.shuffle(subnets_now)
    chance.shuffle(hosts_now)
    kept = {each["name"] for each in subnets_now}
    gone = [each for each in reading.plan.segments if each not in kept]
    # A subnet that is gone has an interface on it, which a person takes out first.
    text = "".join(
        line
        for line in old.splitlines(keepends=True)
        if not any(
            line.split()[:1] == ["interface"] and line.endswith(f" {each}\n") for each in gone
        )
        and not any(line.split()[:1] == ["host"] and f"-{each[4:]}-" in line for each in gone)
    )
    reading = read(path, {str(path): text.encode()})
    _, now = taken_in(reading, subnets_now, hosts_now, prune=True)
    assert network(now.plan) == network(wanted.plan)
    again, _ = taken_in(now, subnets_now, hosts_now, prune=True)
    assert again.result() == {}
    assert again.remarks == []


PLAN = """\
subnet hall 10.9.1.0/24 2001:db8:9:1::/64
subnet yard 10.9.2.0/24
router core
    interface hall 10.9.1.1/24 2001:db8:9:1::1/64 on hall
    interface yard 10.9.2.1/24 on yard
host Desk-1 10.9.1.10 2001:db8:9:1::10 on hall gateway 10.9.1.1 mac 00:00:5e:00:53:10  # by the door
host desk-2 10.9.1.11 on hall mac 00:00:5e:00:53:11
host crane 10.9.2.10
group desks Desk-1, desk-2
"""


@pytest.fixture
def reading(tmp_path: Path) -> Reading:
    path = tmp_path / "net.gate"
    path.write_text(PLAN)
    return read(path)


def line_of(now: Reading, start: str) -> str:
    text = next(iter(now.data.values())).decode()
    return next(each for each in text.splitlines() if each.startswith(start))


def test_only_what_a_row_says_otherwise_is_written(reading: Reading) -> None:
    rows = [
        {"name": "desk 1", "address": "10.9.1.99"},
        {"name": "desk-2", "address": "10.9.1.11", "mac": "0000.5e00.5311"},
        {"name": "crane", "address": "10.9.2.10", "subnet": "YARD"},
    ]
    draft, now = taken_in(reading, hosts=rows)
    assert line_of(now, "host Desk-1") == (
        "host Desk-1 10.9.1.99 2001:db8:9:1::10 on hall gateway 10.9.1.1 mac 00:00:5e:00:53:10"
        "  # by the door"
    )
    assert now.data[now.plan.files[0]].decode().count("\n") == PLAN.count("\n")
    before, after = PLAN.encode().split(b"\n"), now.data[now.plan.files[0]].split(b"\n")
    assert sum(old != new for old, new in zip(before, after, strict=True)) == 1
    assert draft.remarks == []


def test_a_machine_that_moves_loses_what_its_new_subnet_does_not_have(reading: Reading) -> None:
    draft, now = taken_in(reading, hosts=[{"name": "Desk-1", "address": "10.9.2.50"}])
    moved = now.plan.hosts["Desk-1"]
    assert (moved.on, [str(each) for each in moved.addresses], moved.gateways) == (
        "yard",
        ["10.9.2.50"],
        (),
    )
    assert any("2001:db8:9:1::10" in each for each in draft.remarks)
    assert any("gateway 10.9.1.1" in each for each in draft.remarks)
    assert any("desk-2, crane; --prune" in each for each in draft.remarks)


@pytest.mark.parametrize("key", [RowKey.MAC, RowKey.ADDRESS])
def test_names_are_given_anew_by_another_key_and_may_be_exchanged(
    reading: Reading, key: RowKey
) -> None:
    rows = [
        {"name": "desk-2", "address": "10.9.1.10", "mac": "00:00:5e:00:53:10"},
        {"name": "Desk-1", "address": "10.9.1.11", "mac": "00:00:5e:00:53:11"},
        {"name": "lift", "address": "10.9.2.10"},
    ]
    if key is RowKey.MAC:
        rows[2]["name"] = "crane"
    _, now = taken_in(reading, hosts=rows, key=key)
    assert str(now.plan.hosts["desk-2"].addresses[0]) == "10.9.1.10"
    assert line_of(now, "group desks") == "group desks desk-2, Desk-1"
    assert ("lift" in now.plan.hosts) is (key is RowKey.ADDRESS)


def test_a_lease_table_moves_machines_and_gives_no_name_anew(reading: Reading) -> None:
    rows = [
        {"name": "call-me-anything", "address": "10.9.1.77", "mac": "00:00:5e:00:53:10"},
        {"name": "crane", "address": "10.9.2.77", "mac": "00:00:5e:00:53:99"},
        {"name": "desk-2", "address": "10.9.2.78", "mac": "00:00:5e:00:53:98"},
        {"name": "", "address": "10.9.2.79", "mac": "00:00:5e:00:53:97"},
    ]
    draft, now = taken_in(reading, hosts=rows, key=RowKey.MAC, whole=False)
    assert {*now.plan.hosts} == {"Desk-1", "desk-2", "crane"}
    assert str(now.plan.hosts["Desk-1"].addresses[0]) == "10.9.1.77"
    assert str(now.plan.hosts["crane"].addresses[0]) == "10.9.2.77"
    assert str(now.plan.hosts["desk-2"].addresses[0]) == "10.9.1.11"
    assert [each[:19] for each in draft.remarks] == ["row 4 is left out: ", "row 5 is left out: "]


def grouped(reading: Reading, roles: Sequence[str], prune: bool = False) -> Reading:
    names = ("Desk-1", "desk-2", "crane")
    rows = [
        {"name": name, "address": str(reading.plan.hosts[name].addresses[0]), "role": role}
        for name, role in zip(names, roles, strict=True)
    ]
    return taken_in(reading, hosts=rows, prune=prune)[1]


def test_groups_of_a_column_are_kept_in_step(reading: Reading) -> None:
    first = grouped(reading, ("office", "office; near doors", ""))
    assert line_of(first, "group office") == (
        'group office Desk-1, desk-2  # kept by column "role" of hosts.csv'
    )
    assert line_of(first, "group near-doors").startswith("group near-doors desk-2  #")
    then = grouped(first, ("", "office", "office"))
    assert line_of(then, "group office").startswith("group office desk-2, crane  #")
    assert "near-doors" not in then.plan.groups
    with pytest.raises(PlanErrors, match="the plan has a group desks that this column"):
        grouped(reading, ("desks", "", ""))


def test_what_goes_is_refused_while_lines_name_it(reading: Reading) -> None:
    row = {"name": "Desk-1", "address": "10.9.1.10"}
    with pytest.raises(PlanError, match=r"host desk-2 is not in hosts\.csv, and line 9 names it"):
        taken_in(reading, hosts=[row], prune=True)
    office = grouped(reading, ("", "", "lifts"))
    used = office.changed(
        {file: data + b"group all lifts, desks\n" for file, data in office.data.items()}
    )
    with pytest.raises(PlanError, match="group lifts has no machine any more, and line 11"):
        grouped(used, ("", "", ""))


@pytest.mark.parametrize(
    ("rows", "told"),
    [
        ([{"name": "a", "address": "10.9.1.300"}], 'hosts.csv:2: column "address": 10.9.1.300'),
        (
            [{"name": "a", "address": "10.9.1.5", "subnet": "x"}],
            "no subnet x; there are hall, yard",
        ),
        ([{"address": "10.9.1.5"}], "hosts.csv:2: a name is missing"),
        ([{"name": "a", "address": "10.9.1.5"}] * 2, 'hosts.csv:3: column "name": a is in row 2'),
        ([{"name": "a", "address": "10.9.1.10"}], "that of Desk-1, which the table does not have"),
    ],
)
def test_a_row_that_cannot_be_taken_in_is_named(reading: Reading, rows: Rows, told: str) -> None:
    with pytest.raises(PlanErrors) as errors:
        taken_in(reading, hosts=rows)
    assert told in str(errors.value)


def test_an_error_of_the_plan_is_told_at_the_row(reading: Reading) -> None:
    draft = Draft(reading)
    rows = [{"name": "hall", "address": "10.9.1.55"}, {"name": "b", "address": "10.9.7.1"}]
    in_step(draft, None, ComingTable(rows_of("hosts.csv", rows)))
    with pytest.raises(PlanErrors) as errors:
        reading.changed(draft.result())
    told = [str(draft.explained(each)) for each in errors.value.errors]
    assert [each.partition(" ")[0] for each in told] == ["hosts.csv:2:", "hosts.csv:3:"]


def test_a_subnet_takes_its_interfaces_with_it(reading: Reading) -> None:
    rows = [
        {"name": "hall", "prefix": "10.9.0.0/23"},
        {"name": "yard", "prefix": "10.9.2.0/24", "gateway": "10.9.2.254", "device": "core"},
        {
            "name": "pier",
            "prefix": "10.9.3.0/24",
            "gateway": "10.9.3.1",
            "device": "jetty",
            "vlan": "7",
        },
    ]
    _, now = taken_in(reading, subnets=rows)
    core = now.plan.devices["core"].interfaces
    assert [f"{each.address}/{each.length}" for each in core["hall"].addresses] == [
        "10.9.1.1/23",
        "2001:db8:9:1::1/64",
    ]
    assert str(core["yard"].addresses[0].address) == "10.9.2.254"
    assert now.plan.devices["jetty"].interfaces["v7"].on == "pier"


def test_whose_a_gateway_is_is_asked(reading: Reading) -> None:
    two = reading.changed(
        {
            file: data + b"router other\n    interface y 10.9.2.2/24 on yard\n"
            for file, data in reading.data.items()
        }
    )
    new = {"name": "pier", "prefix": "10.9.3.0/24", "gateway": "10.9.3.1"}
    with pytest.raises(PlanErrors, match="which device is the gateway of pier"):
        taken_in(two, subnets=[new])
    with pytest.raises(PlanErrors, match=r"core\.yard and other\.y are on yard"):
        taken_in(two, subnets=[{"name": "yard", "prefix": "10.9.2.0/24", "gateway": "10.9.2.9"}])
    _, same = taken_in(
        two, subnets=[{"name": "yard", "prefix": "10.9.2.0/24", "gateway": "10.9.2.2"}]
    )
    assert same.data == two.data
