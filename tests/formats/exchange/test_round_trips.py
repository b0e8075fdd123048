"""Out and in again is the same list: for drawn lists in both families and every format that goes
both ways, and for the demo's.
"""

from __future__ import annotations

from pathlib import Path

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from crossgate.core.model.address import Family
from tests.conftest import Run
from tests.formats.exchange.drawn import EVERYTHING, RFC4849, RFC8519, differ, lists, out_and_in
from tests.formats.exchange.yang import see_that_it_is_valid


@settings(max_examples=30)
@given(data=st.data(), family=st.sampled_from(Family))
def test_what_rfc_8519_can_say_comes_back_and_is_valid(
    tmp_path: Path, data: st.DataObject, family: Family
) -> None:
    old, new, text = out_and_in(tmp_path, data.draw(lists(family, RFC8519)), "ietf-acl")
    own, found = old.lists["drawn"], new.lists["drawn"]
    assert differ(own, found) == []
    assert isinstance(text, str)
    see_that_it_is_valid(text)
    assert [each.number for each in found.entries] == [each.number for each in own.entries]
    assert [(each.action, each.log, each.qualifiers) for each in found.entries] == [
        (each.action, each.log, each.qualifiers) for each in own.entries
    ]
    assert [each.comment for each in found.entries if len(each.comment) < 40] == [
        each.comment for each in own.entries if len(each.comment) < 40
    ]
    assert found.otherwise.action is own.otherwise.action


@settings(max_examples=50)
@given(data=st.data(), family=st.sampled_from(Family))
def test_as_xml_too(tmp_path: Path, data: st.DataObject, family: Family) -> None:
    text = data.draw(lists(family, RFC8519))
    _, by_json, _ = out_and_in(tmp_path, text, "ietf-acl")
    old, by_xml, _ = out_and_in(tmp_path, text, "ietf-acl", xml=True)
    assert differ(old.lists["drawn"], by_xml.lists["drawn"]) == []
    assert [each.text for each in by_xml.lists["drawn"].entries] == [
        each.text for each in by_json.lists["drawn"].entries
    ]


@settings(max_examples=40)
@given(data=st.data(), family=st.sampled_from(Family), as_bytes=st.booleans())
def test_filter_rules_come_back(
    tmp_path: Path, data: st.DataObject, family: Family, as_bytes: bool
) -> None:
    text = data.draw(lists(family, RFC4849)) + "place drawn outbound on subnet hall\n"
    old, new, _ = out_and_in(tmp_path, text, "nas-filter-rule", bytes=as_bytes)
    assert [each for each in new.lists if each != "drawn"] == []
    assert differ(old.lists["drawn"], new.lists["drawn"]) == []


@settings(max_examples=70)
@given(data=st.data(), family=st.sampled_from(Family))
def test_a_table_comes_back_word_for_word(
    tmp_path: Path, data: st.DataObject, family: Family
) -> None:
    old, new, _ = out_and_in(
        tmp_path,
        data.draw(lists(family, EVERYTHING)) + "place drawn inbound on lighthouse.v80\n",
        "csv",
    )
    own, found = old.lists["drawn"], new.lists["drawn"]
    assert [
        (each.number, each.meaning, each.log, each.comment.split()) for each in found.entries
    ] == [(each.number, each.meaning, each.log, each.comment.split()) for each in own.entries]
    assert differ(own, found) == []


@pytest.mark.parametrize("format_name", ["ietf-acl", "csv"])
def test_the_demo_comes_back(run: Run, demo: Path, format_name: str) -> None:
    before = (demo / "ternhaven.gate").read_text()
    out = run("export", format_name, "--approximate", "--out", "lists.json")
    assert out.returncode == 0
    approximate = "cannot be said" in out.stderr or "ietf-acl cannot" in out.stderr
    done = run(
        "import", format_name, "lists.json", "--replace", "--yes", *["--anyway"] * approximate
    )
    assert done.returncode == 0, done.stdout
    assert ((demo / "ternhaven.gate").read_text() == before) is not approximate
