"""Edits as proposals: what they would write and do, and what may not be written; no file is
touched.
"""

from __future__ import annotations

from datetime import datetime
from difflib import unified_diff
from pathlib import Path

import pytest

from crossgate.core.audit import Audited
from crossgate.core.conversation.verdict import Verdict
from crossgate.core.sets import effort
from crossgate.language import edits
from crossgate.language.change import Change, Proposal, propose
from crossgate.language.draft import Draft
from crossgate.language.inserting import insert_entry
from crossgate.language.reader import read

NOW = datetime(2026, 12, 1, 12)
PLAN = """subnet a 10.0.0.0/24
subnet b 10.0.1.0/24
router r
    interface a 10.0.0.1/24 on a
    interface b 10.0.1.1/24 on b
list l extended ipv4
    10 permit tcp/443 a to b
    20 permit icmp any to any
place l inbound on r.a
keep   permit tcp/443 a to b
expect deny tcp/22 a to b
"""


@pytest.fixture
def path(tmp_path: Path) -> Path:
    path = tmp_path / "p.gate"
    path.write_text(PLAN)
    return path


def proposed(path: Path, change: Change, anyway: bool = False, harmless: bool = False) -> Proposal:
    before = path.read_bytes()
    proposal = propose(read(path), change, NOW, anyway=anyway, harmless=harmless)
    assert path.read_bytes() == before
    return proposal


def adds(text: str, number: int) -> Change:
    return lambda draft: insert_entry(draft, draft.plan.lists["l"], text, edits.EntrySpot(number))


def test_a_proposal_tells_what_it_would_write_and_do(path: Path) -> None:
    proposal = proposed(path, adds("permit udp/53 a to b", 15))
    assert proposal.said == "l gets 15"
    assert (proposal.changes, proposal.refused, proposal.errors) == (True, "", ())
    assert proposal.old == {str(path): PLAN.encode()}
    assert proposal.new == {
        str(path): PLAN.replace("    20 ", "    15 permit udp/53 a to b\n    20 ").encode()
    }
    assert proposal.diff[:2] == (f"--- {path}", f"+++ {path}")
    assert [line for line in proposal.diff[2:] if line[0] in "+-"] == [
        "+    15 permit udp/53 a to b"
    ]
    assert proposal.impact is not None
    turned = {
        (each.was.verdict, each.now.verdict)
        for each in proposal.impact.differences
        if not each.stray
    }
    # A client in b that uses port 53 gets the answers now, too.
    assert turned == {(Verdict.DENIED, Verdict.PERMITTED), (Verdict.HALF_OPEN, Verdict.PERMITTED)}
    assert proposal.plan.lists["l"].entries[1].number == 15


def test_what_changes_nothing_is_nothing_to_write(path: Path) -> None:
    proposal = proposed(path, lambda draft: "as it was")
    assert (proposal.changes, proposal.impact, proposal.new, proposal.refused) == (
        False,
        None,
        {},
        "",
    )


def test_errors_are_told_and_refuse_even_anyway(path: Path) -> None:
    def change(draft: Draft) -> str:
        draft.replace(draft.plan.lists["l"].entries[0].place, "    10 permit tcp/443 nobody to b")
        return "spoilt"

    for anyway in (False, True):
        proposal = proposed(path, change, anyway=anyway)
        assert proposal.refused == "the plan would have errors"
        assert "no name nobody" in proposal.errors[0]
        assert proposal.impact is None
        assert proposal.plan.lists["l"].entries[0].text == "permit tcp/443 a to b"


@pytest.mark.parametrize(
    ("text", "number", "refused"),
    [
        ("deny tcp/443 a to b", 5, "it breaks 1 keep"),
        ("permit tcp/22 a to b", 5, "it breaks 1 expect"),
        ("permit tcp/22 a to b log", 25, "it breaks 1 expect"),
    ],
)
def test_what_breaks_an_expectation_is_refused_unless_anyway(
    path: Path, text: str, number: int, refused: str
) -> None:
    assert proposed(path, adds(text, number)).refused == refused
    assert proposed(path, adds(text, number), anyway=True).refused == ""


def test_a_harmless_change_may_not_change_traffic(path: Path) -> None:
    assert (
        "traffic would be treated otherwise"
        in proposed(path, adds("permit udp/53 a to b", 15), harmless=True, anyway=True).refused
    )
    assert proposed(path, edits.tidy_plan, harmless=True).refused == ""


def test_what_is_too_much_to_be_audited_is_told(
    path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    """Findings of entries that fall into too many pieces may be missing, and the proposal says
    so.
    """
    from crossgate.core import impact

    def audit(session: object, now: datetime, focus: object, **_: object) -> object:
        return Audited([], [], [effort.TooManyPieces("too much")])

    monkeypatch.setattr(impact, "audit", audit)
    proposal = proposed(path, adds("permit udp/53 a to b", 15))
    assert proposal.impact is not None
    assert [str(each) for each in proposal.impact.unaudited] == ["too much"]
    assert proposal.refused == ""


def test_a_diff_of_a_long_file_is_the_one_of_all_its_lines(tmp_path: Path) -> None:
    lines = [f"subnet s{number} 10.{number >> 8}.{number & 255}.0/24" for number in range(900)]
    path = tmp_path / "long.gate"
    path.write_text("\n".join(lines) + "\n")
    changed = [*lines[:400], "# here", *lines[400:410], lines[410] + "  # and here", *lines[411:]]

    def edit(draft: Draft) -> str:
        draft.put(str(path), ("\n".join(changed) + "\n").encode())
        return "two lines"

    proposal = propose(read(path), edit, NOW)
    expected = unified_diff(lines, changed, str(path), str(path), lineterm="")
    assert list(proposal.diff) == list(expected)
    assert proposal.diff[2].startswith("@@ -398,")
