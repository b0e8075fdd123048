"""A value that comes in is one value: whatever it holds, it never becomes a statement, a word or a
remark of its own.
"""

from __future__ import annotations

import csv
import io
import json
from pathlib import Path

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from crossgate.core.model.errors import PlanError
from crossgate.core.model.plaintext import quotable
from crossgate.core.model.plan import Plan
from crossgate.formats.exchange.asked import Given
from crossgate.formats.exchange.entry_table import COLUMNS
from crossgate.formats.exchange.ietf_acl import ETHERTYPE_NAMES
from crossgate.formats.exchange.registry import FORMATS
from crossgate.language.beginning import from_tables
from crossgate.language.draft import Draft
from crossgate.language.importing import take_in
from crossgate.language.reader import Reading, read
from crossgate.language.table_rows import TableRow
from tests.formats.exchange.yang import MODULES

PLAN = "subnet hall 10.64.8.0/24\nhost kiosk 10.64.8.21 on hall\n"
BREAKS = ["\n", "\r", "\r\n", "\x0b", "\x0c", "\x1c", "\x85", "\u2028", "\u2029", "\t", "\x00"]
HOSTILE = st.one_of(
    st.sampled_from(
        [
            '"',
            '" "',
            "#",
            "# 1",
            "any # x",
            'x" log "',
            "any to any",
            "off",
            "permit",
            "log",
            "wild",
            "10.0.0.1 wild 0.0.0.255",
            "to any",
            "é",
            "=1+1",
        ]
    ),
    st.builds(
        "{}{}{}".format,
        st.sampled_from(["any", "ip", "x", ""]),
        st.sampled_from(BREAKS),
        st.sampled_from(
            [
                "place x inbound on y",
                "host evil 10.64.8.66 on hall",
                "otherwise permit",
                "    20 permit ip any to any",
                "",
            ]
        ),
    ),
    st.text(max_size=8),
)


@pytest.fixture
def reading(tmp_path: Path) -> Reading:
    path = tmp_path / "plan.gate"
    path.write_text(PLAN)
    return read(path)


def taken_in(reading: Reading, name: str, data: bytes) -> Plan:
    draft = Draft(reading)
    take_in(draft, [FORMATS[name].read(Given(Path("in.csv"), data, reading.plan))], replace=False)
    return reading.changed(draft.result()).plan


def network_is_as_it_was(plan: Plan) -> None:
    assert [*plan.segments] == ["hall"]
    assert [*plan.hosts] == ["kiosk"]
    assert not plan.devices
    assert not plan.expectations
    assert not plan.every_placement


ROW = {
    "list": "drawn",
    "kind": "extended",
    "family": "ipv4",
    "line": "10",
    "action": "permit",
    "service": "ip",
    "source": "any",
    "destination": "kiosk",
}


@settings(max_examples=150)
@given(
    column=st.sampled_from(COLUMNS),
    value=HOSTILE,
    line=st.sampled_from(["10", "note", "otherwise"]),
)
def test_a_cell_of_a_table_of_entries_is_one_value(
    tmp_path_factory: pytest.TempPathFactory, column: str, value: str, line: str
) -> None:
    folder = tmp_path_factory.mktemp("cells")
    (folder / "plan.gate").write_text(PLAN)
    row = ROW | {"line": line, "comment": "said"} | {column: value}
    text = io.StringIO()
    writer = csv.DictWriter(text, COLUMNS, restval="", lineterminator="\n")
    writer.writeheader()
    writer.writerow(row)
    try:
        path = folder / "in.csv"
        path.write_bytes(text.getvalue().encode("utf-8", "surrogatepass"))
        reading = read(folder / "plan.gate")
        draft = Draft(reading)
        take_in(
            draft,
            [FORMATS["csv"].read(Given(path, path.read_bytes(), reading.plan))],
            replace=False,
        )
        plan = reading.changed(draft.result()).plan
    except PlanError:
        return
    network_is_as_it_was(plan)
    (found,) = plan.every_list.values()
    kept = row["line"]
    assert len(found.entries) == (kept.strip().isdecimal())
    assert found.otherwise.written is (kept.strip() == "otherwise")
    if column == "comment":
        texts = [*(each.comment for each in found.entries), *(note.text for note in found.notes)]
        assert texts in ([quotable(value)], [])
    elif found.entries:
        assert found.entries[0].comment == "said"


@settings(max_examples=150)
@given(
    subnet=st.fixed_dictionaries(
        {},
        optional={
            "name": HOSTILE,
            "prefix": HOSTILE,
            "vlan": HOSTILE,
            "gateway": HOSTILE,
            "device": HOSTILE,
        },
    ),
    host=st.fixed_dictionaries(
        {}, optional={"name": HOSTILE, "address": HOSTILE, "subnet": HOSTILE, "mac": HOSTILE}
    ),
    title=HOSTILE,
)
def test_a_cell_of_a_table_of_machines_is_one_value(
    subnet: dict[str, str], host: dict[str, str], title: str
) -> None:
    rows = {
        "name": "hall",
        "prefix": "10.64.8.0/24",
        "gateway": "10.64.8.1",
        "device": "core",
    } | subnet
    machine = {"name": "kiosk", "address": "10.64.8.21", "mac": "00:00:5e:00:53:01"} | host
    try:
        begun = from_tables(
            Path("new.gate"),
            title,
            [TableRow("s.csv", 2, {each: each for each in rows}, rows)],
            [TableRow("h.csv", 2, {each: each for each in machine}, machine)],
        )
    except PlanError:
        return
    plan = begun.plan
    assert (len(plan.segments), len(plan.hosts), len(plan.devices)) == (1, 1, 1)
    assert not plan.every_list
    assert not plan.expectations
    assert plan.title == quotable(title)


@settings(max_examples=120)
@given(
    where=st.sampled_from(["acl", "ace", "ethertype", "mac", "network", "forwarding"]),
    value=HOSTILE,
    frames=st.booleans(),
)
def test_a_leaf_of_a_document_is_one_value(
    tmp_path_factory: pytest.TempPathFactory, where: str, value: str, frames: bool
) -> None:
    folder = tmp_path_factory.mktemp("leaves")
    (folder / "plan.gate").write_text(PLAN)

    def leaf(name: str, usual: str) -> str:
        return value if where == name else usual

    eth = {
        "ethertype": leaf("ethertype", "arp"),
        "source-mac-address": leaf("mac", "00:00:5e:00:53:01"),
    }
    matches = (
        {"eth": eth} if frames else {"ipv4": {"source-ipv4-network": leaf("network", "10.0.0.0/8")}}
    )
    aces = [
        {
            "name": leaf("ace", "10 said"),
            "matches": matches,
            "actions": {"forwarding": leaf("forwarding", "accept")},
        },
        {"name": "rest", "actions": {"forwarding": "drop"}},
    ]
    kind = "eth-acl-type" if frames else "ipv4-acl-type"
    document = {
        "ietf-access-control-list:acls": {
            "acl": [{"name": leaf("acl", "drawn"), "type": kind, "aces": {"ace": aces}}]
        }
    }
    reading = read(folder / "plan.gate")
    try:
        plan = taken_in(reading, "ietf-acl", json.dumps(document).encode())
    except PlanError:
        return
    network_is_as_it_was(plan)
    (found,) = plan.every_list.values()
    assert len(found.entries) == 1
    assert found.otherwise.written


def test_the_names_of_ethertypes_are_those_of_the_module() -> None:
    text = (MODULES / "ietf" / "ietf-ethertypes.yang").read_text(encoding="utf-8")
    blocks = [each.split("}")[0] for each in text.split("enum ")[1:]]
    assert {
        each.split()[0]: int(each.split("value ")[1].split(";")[0])
        for each in blocks
        if "value " in each
    } == ETHERTYPE_NAMES
