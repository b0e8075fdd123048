"""Edits: whatever is done, every other line stays to the byte, and the plan reads as if the objects
had been edited.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from pathlib import Path

import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from crossgate.core.answers.compare import differences
from crossgate.core.model.accesslist import AccessList
from crossgate.core.model.entry import Entry
from crossgate.core.model.errors import PlanError
from crossgate.core.model.network import Direction
from crossgate.core.model.plan import Plan
from crossgate.core.traffic.session import Session
from crossgate.language import edits, list_edits, placing
from crossgate.language.draft import Draft
from crossgate.language.layout import is_tidy, kept_tidy, tidied
from crossgate.language.reader import Reading, read
from tests import net, small

from crossgate.core.model.address import Family  # isort: skip

slow = settings(
    max_examples=60,
    deadline=None,
    suppress_health_check=[HealthCheck.function_scoped_fixture, HealthCheck.too_slow],
)
ENDINGS = st.sampled_from(["\n", "\r\n"])


@st.composite
def list_texts(draw: st.DrawFn) -> str:
    """Draw a list as people leave it: with and without numbers, comments, notes, blank lines, tabs,
    no last newline.
    """
    lines = ["# above", "list small extended ipv4  # the list"]
    number = 0
    for index in range(draw(st.integers(0, 6))):
        lines += draw(
            st.lists(
                st.sampled_from(["", "    # a remark", '    note "why"', "\t", "# margin"]),
                max_size=1,
            )
        )
        lead = draw(st.sampled_from(["    ", "\t", "  "]))
        numbered = draw(st.booleans())
        number = number + draw(st.integers(1, 25)) if numbered else number + 10
        word = f"{number}{draw(st.sampled_from([' ', '   ']))}" if numbered else ""
        off = draw(st.sampled_from(["", "", "", "off "]))
        tail = draw(st.sampled_from(["", "  # tail", ' "said"', ' "said"   # both']))
        lines.append(f"{lead}{word}{off}{draw(small.entry_words(Family.IPV4))}{tail}")
        assert index < 7
    lines += draw(
        st.sampled_from([[], ["    otherwise permit"], ["    otherwise deny  # end", ""]])
    )
    lines += ["", "list other extended ipv4", "    permit ip any to any"]
    text = draw(ENDINGS).join(lines)
    return text + ("\n" if draw(st.booleans()) else "")


def load(tmp_path: Path, data: bytes) -> Reading:
    path = tmp_path / "edited.gate"
    path.write_bytes(data)
    return read(path)


def key(entry: Entry) -> tuple[object, ...]:
    return (entry.number, entry.off, entry.comment, *entry.meaning)


def entries(access_list: AccessList) -> list[tuple[object, ...]]:
    return [key(entry) for entry in access_list.entries]


@slow
@given(st.data(), list_texts())
def test_any_sequence_of_edits_is_the_edit_of_the_objects_and_leaves_the_rest(
    tmp_path: Path, data: st.DataObject, text: str
) -> None:
    reading = load(tmp_path, text.encode())
    for _ in range(data.draw(st.integers(1, 5))):
        before = reading.plan.lists["small"]
        expected = {entry.number: key(entry) for entry in before.entries}
        draft = Draft(reading)
        deed = data.draw(
            st.sampled_from(["add", "drop", "off", "change", "move"] if before.entries else ["add"])
        )
        touched: set[int] = set()
        if deed == "add":
            number = data.draw(
                st.sampled_from([each for each in range(80) if each not in expected])
            )
            words = data.draw(small.entry_words(Family.IPV4))
            edits.add_entry(draft, before, number, words)
            new = edits.given_entry(draft, before, words)
            expected[number] = key(replace(new, number=number))
        else:
            entry = data.draw(st.sampled_from(before.entries))
            touched.add(entry.place.line)
            if deed == "drop":
                edits.drop_entry(draft, before, entry)
                del expected[entry.number]
            elif deed == "off":
                edits.switch_entry(draft, entry, not entry.off)
                expected[entry.number] = key(replace(entry, off=not entry.off))
            elif deed == "change":
                words = data.draw(small.entry_words(Family.IPV4))
                edits.change_entry(draft, entry, words)
                new = edits.given_entry(draft, before, words)
                expected[entry.number] = key(
                    replace(new, number=entry.number, off=entry.off, comment=entry.comment)
                )
            else:
                number = data.draw(
                    st.sampled_from([each for each in range(80) if each not in expected])
                )
                edits.renumber_entry(draft, before, entry, number)
                del expected[entry.number]
                expected[number] = key(replace(entry, number=number))
        changed = draft.result()
        file = reading.plan.files[0]
        old, new_data = reading.data[file], changed.get(file, reading.data[file])
        _untouched(old.decode(), new_data.decode(), before, touched)
        reading = load(tmp_path, new_data)
        after = reading.plan.lists["small"]
        assert entries(after) == [expected[number] for number in sorted(expected)]
        assert after.otherwise.action is before.otherwise.action
        assert entries(reading.plan.lists["other"]) == entries(Draft(reading).plan.lists["other"])


def _untouched(old: str, new: str, access_list: AccessList, touched: set[int]) -> None:
    """Every old line that was not edited stands in the new text, to the byte and in order, but for
    a number written down.
    """
    lines = old.split("\n")
    unnumbered = {entry.place.line: str(entry.number) for entry in access_list.entries}
    left = new.split("\n")
    for number, line in enumerate(lines, 1):
        if number in touched:
            continue
        written = line
        if number in unnumbered:
            lead = line[: len(line) - len(line.lstrip())]
            written = f"{lead}{unnumbered[number]} {line.lstrip()}"
        bare = (line.rstrip("\r"), written.rstrip("\r"))
        place = next(
            (
                index
                for index, each in enumerate(left)
                if each in (line, written) or each.rstrip("\r") in bare
            ),
            None,
        )
        assert place is not None, (line, new)
        left = left[place + 1 :] if number not in unnumbered else left


PLAN = """# head
list fence extended ipv4
    note "the fence"
    permit tcp/80 any to any      # web
    permit tcp/443 any to any
    # the rest
    deny ip any to any "no more"

subnet a 10.0.0.0/24
router r
    interface i 10.0.0.1/24 on a
host h 10.0.0.9 on a
place fence inbound on r.i
expect deny tcp/80 h to r by fence 10
accept no-effect in fence 30 "shown to auditors"
"""


@pytest.fixture
def draft(tmp_path: Path) -> Draft:
    return Draft(load(tmp_path, PLAN.encode()))


def result(draft: Draft) -> str:
    (data,) = draft.result().values()
    return data.decode()


def fence(draft: Draft) -> AccessList:
    return draft.plan.lists["fence"]


def test_an_entry_between_others_gets_a_number_and_so_does_the_next(draft: Draft) -> None:
    edits.add_entry(draft, fence(draft), 15, "permit udp/53 any to any")
    assert result(draft) == PLAN.replace(
        "    permit tcp/443 any to any\n",
        "    15 permit udp/53 any to any\n    20 permit tcp/443 any to any\n",
    )


def test_a_changed_entry_keeps_its_comments(draft: Draft) -> None:
    edits.change_entry(draft, edits.find_entry(fence(draft), 10), "permit tcp/8080 any to any")
    edits.change_entry(draft, edits.find_entry(fence(draft), 30), 'reject ip any to any "told"')
    text = result(draft)
    assert "    permit tcp/8080 any to any      # web\n" in text
    assert '    reject ip any to any "told"\n' in text


def test_renumbering_takes_claims_and_acceptances_with_it(draft: Draft, tmp_path: Path) -> None:
    assert list_edits.renumber(draft, fence(draft), 100, 5) == {10: 100, 20: 105, 30: 110}
    text = result(draft)
    assert "by fence 100\n" in text
    assert 'accept no-effect in fence 110 "shown' in text
    assert [
        entry.number for entry in load(tmp_path, text.encode()).plan.lists["fence"].entries
    ] == [100, 105, 110]


def test_lists_come_behind_the_last_and_placements_behind_the_last(
    draft: Draft, tmp_path: Path
) -> None:
    from crossgate.core.model.entry import Kind

    list_edits.new_list(draft, "50", Kind.STANDARD, Family.IPV6)
    placing.place_list(
        draft, fence(draft), Direction.OUTBOUND, placing.point_given(draft, "subnet a")
    )
    text = result(draft)
    assert '"no more"\n\nlist 50 standard ipv6\n\nsubnet a' in text
    assert "on r.i\nplace fence outbound on subnet a\nexpect" in text
    placing.lift_list(draft, fence(draft), Direction.INBOUND, None)
    assert "place fence inbound" not in result(draft)


@pytest.mark.parametrize(
    ("deed", "says"),
    [
        (lambda draft: edits.find_list(draft.plan, "Fence"), "there is fence"),
        (lambda draft: edits.find_entry(fence(draft), 15), "no entry in list fence with number 15"),
        (
            lambda draft: edits.add_entry(draft, fence(draft), 20, "deny ip any to any"),
            "has an entry 20 in line 5 already",
        ),
        (
            lambda draft: edits.given_entry(draft, fence(draft), "permit tcp/99999 any to any"),
            "the text given:1:",
        ),
        (lambda draft: edits.given_entry(draft, fence(draft), ""), "an entry is one line"),
        (lambda draft: list_edits.drop_list(draft, fence(draft)), "crossgate lift fence"),
        (
            lambda draft: placing.lift_list(draft, fence(draft), Direction.OUTBOUND, None),
            "it stands inbound on r.i",
        ),
        (
            lambda draft: placing.place_list(
                draft, fence(draft), Direction.INBOUND, placing.point_given(draft, "r.i")
            ),
            "stands inbound on r.i already",
        ),
        (lambda draft: placing.point_given(draft, "r.x"), "no interface r.x"),
        (
            lambda draft: edits.number_between(fence(draft), *fence(draft).entries[:2][::-1]),
            "list renumber fence",
        ),
    ],
)
def test_what_cannot_be_done_is_told_with_its_mend(
    draft: Draft, deed: Callable[[Draft], object], says: str
) -> None:
    with pytest.raises(PlanError, match=says):
        deed(draft)


def test_an_included_file_is_edited_where_it_is(tmp_path: Path) -> None:
    (tmp_path / "lists.gate").write_text("list l extended ipv4\n    10 permit ip any to any\n")
    (tmp_path / "edited.gate").write_text('include "lists.gate"\n')
    reading = read(tmp_path / "edited.gate")
    draft = Draft(reading)
    edits.add_entry(draft, reading.plan.lists["l"], 5, "deny udp any to any")
    assert draft.result() == {
        str(
            tmp_path / "lists.gate"
        ): b"list l extended ipv4\n    5 deny udp any to any\n    10 permit ip any to any\n"
    }


# ---- tidy
# -----


def tidy(tmp_path: Path, text: str) -> tuple[str, Plan, Plan]:
    reading = load(tmp_path, text.encode())
    told = tidied(text, reading.plan.files[0], reading.plan)
    return told, reading.plan, load(tmp_path, told.encode()).plan


@slow
@given(st.data())
def test_what_an_edit_changed_is_set_as_in_a_whole_file_that_is_tidy(
    tmp_path: Path, data: st.DataObject
) -> None:
    """What stands around it stays to the octet, and all does in a file that was not tidy."""
    blocks = data.draw(st.lists(list_texts(), min_size=1, max_size=3))
    names = [(f"small-{index}", f"other-{index}") for index in range(len(blocks))]
    text = "\n\n".join(
        each.replace("list small", f"list {small}").replace("list other", f"list {other}")
        for each, (small, other) in zip(blocks, names, strict=True)
    )
    old = load(tmp_path, text.encode())
    file = old.plan.files[0]
    whole = tidied(text, file, old.plan)
    line = f"list {data.draw(st.sampled_from(names))[1]} extended ipv4"
    for before in (text, whole):
        reading = load(tmp_path, before.encode())
        start = before.index(line)
        at = before.index("permit ip any to any", start)
        end = at + len("permit ip any to any")
        ending = "\r\n" if "\r\n" in before else "\n"
        new = f"{before[:at]}deny   udp any   to any{ending}    {before[at:]}"
        after = load(tmp_path, new.encode()).plan
        assert is_tidy(file, before.encode(), reading.plan) is (before == whole)
        if before == whole:
            found = kept_tidy(file, before.encode(), new.encode(), after).decode()
            assert found.startswith(before[:start])
            assert found.endswith(before[end:])
            assert found == tidied(new, file, after)


@slow
@given(list_texts())
def test_tidying_twice_is_tidying_once_and_no_entry_changes(tmp_path: Path, text: str) -> None:
    once, old, new = tidy(tmp_path, text)
    assert tidy(tmp_path, once)[0] == once
    for name, access_list in old.lists.items():
        assert [entry.meaning for entry in new.lists[name].entries] == [
            entry.meaning for entry in access_list.entries
        ]
        assert [(entry.off, entry.comment) for entry in new.lists[name].entries] == [
            (entry.off, entry.comment) for entry in access_list.entries
        ]
        assert new.lists[name].otherwise.action is access_list.otherwise.action
    for remark in ("# above", "# the list", "# tail", "# a remark", "# margin", "# end"):
        assert once.count(remark) == text.count(remark)


@slow
@given(net.plans())
def test_tidying_never_changes_a_verdict(tmp_path: Path, text: str) -> None:
    told, old, new = tidy(
        tmp_path, text + "expect permit tcp/80 pinned to server\nexpect deny ip 10.0.0.5/29 to b\n"
    )
    assert differences(Session(old), Session(new)) == []
    assert tidy(tmp_path, told)[0] == told
    assert [each.claim for each in old.expectations] == [each.claim for each in new.expectations]


def test_tidying_aligns_normalises_and_orders(tmp_path: Path) -> None:
    text = (
        "subnet a 10.0.0.0/24 2001:DB8:0::/64\nsubnet longer   10.0.1.0/24\n"
        "list l extended ipv4\n"
        '    note "first"\n'
        "    20 deny ip 10.0.0.9/24 to any # why\n"
        "    # about ten\n"
        "    10 permit tcp/80 10.0.0.7 wild 0.0.0.3 to any\n"
    )
    assert tidy(tmp_path, text)[0] == (
        "subnet a      10.0.0.0/24 2001:db8::/64\nsubnet longer 10.0.1.0/24\n"
        "list l extended ipv4\n"
        '    note "first"\n'
        "    # about ten\n"
        "    10 permit tcp/80 10.0.0.4 wild 0.0.0.3 to any\n"
        "    20 deny   ip     10.0.0.0/24           to any  # why\n"
    )
