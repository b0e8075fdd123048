"""The library's face: the page that tells of it, run as it stands; and its names."""

from __future__ import annotations

import doctest
import subprocess
import sys
from collections.abc import Callable
from datetime import datetime
from pathlib import Path

import pytest

import crossgate
from crossgate import changes, library
from crossgate.core.audit import Audited
from crossgate.core.sets.effort import TooManyPieces
from tests.conftest import Run

PAGE = Path(__file__).parents[1] / "docs" / "library.md"


def test_the_page_says_what_happens(traffic: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.chdir(traffic)
    failed, tried = doctest.testfile(
        str(PAGE), module_relative=False, optionflags=doctest.NORMALIZE_WHITESPACE
    )
    assert (failed, tried > 15) == (0, True)


def test_the_package_has_the_names_of_the_library_and_no_others() -> None:
    own = {"__version__", "changes"}
    assert {*crossgate.__all__} == {*library.__all__, *own} == {*dir(crossgate)}
    assert all(getattr(crossgate, name) is getattr(library, name) for name in library.__all__)
    with pytest.raises(AttributeError, match="has no attribute 'missing'"):
        crossgate.missing  # noqa: B018


@pytest.mark.process
def test_to_import_it_costs_nothing_heavy() -> None:
    heavy = (
        "import sys, crossgate; print([each for each in ('numpy', 'typer', 'pyarrow') if each "
        "in sys.modules])"
    )
    assert (
        subprocess.run(
            [sys.executable, "-c", heavy], capture_output=True, text=True, check=True
        ).stdout
        == "[]\n"
    )


def test_what_is_asked_wrongly_is_told(tmp_path: Path) -> None:
    plan = crossgate.parse("subnet a 10.0.0.0/24\nhost x 10.0.0.9 on a\n")
    with pytest.raises(crossgate.PlanError, match=r"1\.4 is no version of TLS"):
        crossgate.when(plan, tls="1.4")
    with pytest.raises(crossgate.PlanError, match="no conversation settles on"):
        crossgate.when(plan, tls="1.3", cipher="0xC02F")
    with pytest.raises(crossgate.PlanError, match="nobody"):
        crossgate.trace(plan, "nobody", "x", "ping")
    assert (
        crossgate.replay(
            plan, {name: [] for name in ("srcaddr", "dstaddr", "srcport", "dstport", "protocol")}
        ).num_rows
        == 0
    )


def test_what_a_window_is_now_is_told_on_the_plans_clock() -> None:
    ahead, behind = (
        crossgate.parse(f"zone Etc/GMT{offset}\nwindow half daily 00:00-12:00\n")
        for offset in ("-6", "+6")
    )
    told = [
        fact.values[0].split()[0]
        for plan in (ahead, behind)
        for fact in crossgate.about(plan, "half")[0].facts
        if fact.what == "now"
    ]
    assert sorted(told) == ["open", "shut"]


PLAN = """\
zone Etc/GMT-6
subnet a 10.0.0.0/24
subnet b 10.0.1.0/24
router r
    interface a 10.0.0.1/24 on a
    interface b 10.0.1.1/24 on b
host one 10.0.0.2 on a
host two 10.0.1.2 on b
group servers two
service web tcp/80
window night daily 22:00-06:00
list gate extended ipv4
    10 permit web a to two
    20 deny ip any to any
list spare standard ipv4
    10 permit a
place gate inbound on r.a
expect permit web one to two
"""

MADE = {
    changes.add_entry(
        "gate", "permit tcp/443 a to two", before=20
    ): "+    15 permit tcp/443 a to two",
    changes.add_entry("gate", "permit ssh one to two", number=5): "+    5 permit ssh one to two",
    changes.move_entry("gate", 10, after=20): "it breaks 1 expect",
    changes.change_entry("gate", 20, "deny ip a to any"): "-    20 deny ip any to any",
    changes.drop_entry("gate", 20): "-    20 deny ip any to any",
    changes.switch_entry("gate", 20, off=True): "+    20 off deny ip any to any",
    changes.new_list("fresh", "extended", "ipv6"): "+list fresh extended ipv6",
    changes.drop_list("spare"): "-list spare standard ipv4",
    changes.renumber_list("gate", 100, 5): "+    105 deny ip any to any",
    changes.place_list("spare", "outbound", "r.b"): "+place spare outbound on r.b",
    changes.place_list("spare", "inbound", "r.a", replace=True): "-place gate inbound on r.a",
    changes.place_list("gate", "outbound", "r.b", move=True): "+place gate outbound on r.b",
    changes.lift_list("gate"): "-place gate inbound on r.a",
    changes.rename("host", "two", "web-server"): "+host web-server 10.0.1.2 on b",
    changes.fence("b", exceptions=["one"]): "+list fence-b-out extended ipv4",
    changes.twin("gate", "gate6"): "+list gate6 extended ipv6",
    changes.add_members("group", "servers", ["one"]): "+group servers two, one",
    changes.set_window("night", "daily 21:00-06:00"): "+window night daily 21:00-06:00",
    changes.add_host("three", "10.0.1.3 on b"): "+host three 10.0.1.3 on b",
    changes.drop_host("two"): "the plan would have errors",
    changes.add_subnet("c", "10.0.2.0/24"): "+subnet c 10.0.2.0/24",
    changes.drop_subnet("b"): "the plan would have errors",
    changes.add_route("r", "default via 10.0.1.9"): "+    route default via 10.0.1.9",
    changes.add_claim("expect deny ssh one to two"): "+expect deny ssh one to two",
    changes.drop_claim("18"): "-expect permit web one to two",
}
"""Changes, each with what its diff has, or why it is refused."""
CANNOT_BE = {
    changes.move_entry("spare", 10, after=20): "with number 20; there is 10",
    changes.change_entry("gate", 20, "30 deny ip a to any"): "the text is numbered 30",
    changes.drop_list("gate"): "list gate stands in the network",
    changes.open_fence("b"): "no fence",
    changes.take_members("service", "web", ["tcp/80"]): "service web would have no member",
    changes.drop_route("r", "default"): "no route of r to default",
}
"""Changes that cannot be made, each with why not."""


@pytest.mark.parametrize(("change", "told"), MADE.items(), ids=range(len(MADE)))
def test_a_change_does_what_its_command_does(change: changes.Change, told: str) -> None:
    proposal = crossgate.propose("p.gate", change, unsaved={"p.gate": PLAN.encode()})
    lines = [" ".join(each.split()) for each in (*proposal.diff, proposal.refused)]
    assert " ".join(told.split()) in lines


@pytest.mark.parametrize(("change", "told"), CANNOT_BE.items(), ids=range(len(CANNOT_BE)))
def test_a_change_that_cannot_be_made_says_why(change: changes.Change, told: str) -> None:
    with pytest.raises(crossgate.PlanError, match=told):
        crossgate.propose("p.gate", change, unsaved={"p.gate": PLAN.encode()})


@pytest.mark.parametrize(
    ("make", "told"),
    [
        (lambda: changes.new_list("x", "extended", "ipx"), "ipx is no family; there are ipv4"),
        (lambda: changes.new_list("x", "wide", "ipv4"), "wide is no kind; there are standard"),
        (lambda: changes.place_list("gate", "in", "r.a"), "expected inbound, outbound, within"),
        (lambda: changes.rename("person", "a", "b"), "person is no kind; there are host"),
        (lambda: changes.add_members("list", "gate", ["x"]), "list has no members"),
        (
            lambda: changes.place_list("gate", "inbound", "r.a", move=True, replace=True),
            "lift the other first",
        ),
    ],
)
def test_a_change_of_nothing_there_is_is_told_at_once(
    make: Callable[[], object], told: str
) -> None:
    with pytest.raises(crossgate.PlanError, match=told):
        make()


def test_a_proposal_is_written_whole_or_not_and_taken_back(tmp_path: Path, run: Run) -> None:
    path = tmp_path / "p.gate"
    path.write_text(PLAN)
    both = crossgate.propose(
        path,
        changes.add_entry("gate", "permit ntp a to two", before=20),
        changes.move_entry("gate", 15, before=10),
    )
    assert both.said == "gate gets 15; gate 15 becomes 5"
    assert repr(both) == f"<Proposal {both.said}: files=1>"
    assert both.impact is not None
    assert {each.now.verdict for each in both.impact.differences} == {crossgate.Verdict.PERMITTED}
    assert path.read_text() == PLAN
    crossgate.write(both)
    assert "    5 permit ntp a to two\n" in path.read_text()
    with pytest.raises(crossgate.PlanError, match="changed by somebody else meanwhile"):
        crossgate.write(both)
    assert "crossgate.write, gate gets 15" in run("--plan", str(path), "undo", "--list").stdout
    assert run("--plan", str(path), "undo", "--yes").returncode == 0
    assert path.read_text() == PLAN
    breaks = crossgate.propose(path, changes.drop_entry("gate", 10))
    with pytest.raises(crossgate.PlanError, match="it is not written: it breaks 1 expect"):
        crossgate.write(breaks)
    assert path.read_text() == PLAN
    with pytest.raises(crossgate.PlanError, match=r"change 2: .*no list nothing"):
        crossgate.propose(path, changes.drop_entry("gate", 20), changes.drop_list("nothing"))
    crossgate.write(crossgate.propose(path, changes.switch_entry("gate", 10, off=False)))
    nothing = crossgate.propose(path)
    assert repr(nothing) == "<Proposal : files=0>"
    crossgate.write(nothing)


def test_what_fails_is_mended_as_the_command_mends_it(tmp_path: Path) -> None:
    path = tmp_path / "p.gate"
    path.write_text(PLAN + "expect permit tcp/443 one to two\n")
    every = crossgate.mend(path)
    (one,) = crossgate.mend(path, "19")
    assert one.what in {each.what for each in every}
    crossgate.write(crossgate.propose(path, one.mends[0].change))
    assert all(each.held for each in crossgate.verify(crossgate.read(path)))
    with pytest.raises(crossgate.PlanError, match="line 19 holds"):
        crossgate.mend(path, "19")
    with pytest.raises(crossgate.PlanError, match=r"no finding spoofabl; .*spoofable"):
        crossgate.mend(path, "spoofabl")


def test_a_table_and_a_file_of_it_are_replayed_alike_on_the_plans_clock(tmp_path: Path) -> None:
    plan = crossgate.parse(
        PLAN.replace("10 permit web a to two", "10 permit web a to two during night")
    )
    # 18:00 UTC is midnight on the plan's clock.
    rows = [f"10.0.0.2,10.0.1.2,40000,80,6,2026-12-01T{hour}:00:00Z" for hour in ("06", "18")]
    file = tmp_path / "flows.csv"
    names = "srcaddr,dstaddr,srcport,dstport,protocol,start"
    file.write_text("\n".join([names, *rows]) + "\n")
    columns = zip(*(row.split(",") for row in rows), strict=True)
    table = dict(zip(names.split(","), map(list, columns), strict=True))
    for flows in (file, [str(file)], table):
        assert crossgate.replay(plan, flows)["verdict"].to_pylist() == ["denied", "permitted"]
    broken = tmp_path / "cut.pcap"
    broken.write_bytes(b"\xd4\xc3\xb2\xa1" + bytes(8))
    with pytest.raises(crossgate.PlanError, match=r"cut\.pcap"):
        crossgate.replay(plan, [broken])


def test_a_single_word_may_stand_by_itself() -> None:
    plan = crossgate.parse(PLAN)
    assert repr(crossgate.grid(plan, "ssh", "one", "two")) == repr(
        crossgate.grid(plan, ["ssh"], ["one"], ["two"])
    )
    assert crossgate.export(plan, "ietf-acl", "gate").text == (
        crossgate.export(plan, "ietf-acl", ["gate"]).text
    )
    for one, other in (
        (
            changes.add_members("group", "servers", "one"),
            changes.add_members("group", "servers", ["one"]),
        ),
        (changes.fence("b", allow="ping"), changes.fence("b", allow=["ping"])),
        (changes.fence("b", exceptions="one"), changes.fence("b", exceptions=["one"])),
    ):
        told = [
            crossgate.propose("p.gate", each, unsaved={"p.gate": PLAN.encode()})
            for each in (one, other)
        ]
        assert told[0].diff == told[1].diff != ()


def test_the_page_names_every_change() -> None:
    page = PAGE.read_text()
    assert [each for each in changes.__all__ if each != "Change" and f"`{each}`" not in page] == []


def test_edits_and_mends_trust_the_folders_that_reading_trusts(tmp_path: Path) -> None:
    path, trusted = tmp_path / "plan" / "p.gate", tmp_path / "names"
    path.parent.mkdir()
    trusted.mkdir()
    (trusted / "names.gate").write_text("group those one\n")
    path.write_text(f'include "{trusted}/names.gate"\n' + PLAN + "expect permit ssh one to two\n")
    edit = changes.add_entry("gate", "permit ssh those to two", before=20)
    assert crossgate.propose(path, edit, include_from=[trusted]).refused == ""
    (found,) = crossgate.mend(path, 20, include_from=[trusted])
    assert found.mends
    with pytest.raises(crossgate.PlanErrors, match="outside the plan's folder"):
        crossgate.propose(path, edit)


OF_NOON = crossgate.When(datetime(2026, 12, 1, 12))


def test_the_verdict_changes_as_the_window_opens() -> None:
    plan = crossgate.parse(
        PLAN.replace("10 permit web a to two", "10 permit web a to two during night")
    )
    (found,) = crossgate.hours(plan, "one", "two", "web", of=OF_NOON)
    told = [(f"{each.start:%d %H:%M}", str(each.fares)) for each in found.stretches[:3]]
    assert told == [("01 12:00", "denied"), ("01 22:00", "permitted"), ("02 06:00", "denied")]
    until = datetime(2026, 12, 1, 22)
    (short,) = crossgate.hours(plan, "one", "two", "web", of=OF_NOON, until=until)
    assert len(short.stretches) == 1
    assert short.next is not None
    assert short.next.start == until
    with pytest.raises(crossgate.PlanError, match="is not after 2026-12-01 12:00"):
        crossgate.hours(plan, "one", "two", "web", of=OF_NOON, until=OF_NOON.at)


def test_a_list_tells_why_by_itself() -> None:
    plan = crossgate.parse(PLAN)
    (found,) = crossgate.why(plan, "gate", "ssh one to two", of=OF_NOON)
    assert (found.decider.name, [(each.entry.number, each.field) for each in found.passed]) == (
        "gate 20",
        [(10, "port")],
    )
    with pytest.raises(crossgate.PlanError, match="no list nowhere"):
        crossgate.why(plan, "nowhere", "ssh one to two")


def test_what_is_down_is_left_out_and_what_a_failure_breaks_is_told() -> None:
    plan = crossgate.parse(PLAN)
    assert [each.held for each in crossgate.verify(plan)] == [True]
    assert [each.held for each in crossgate.verify(plan, without="r.b")] == [False]
    assert [each.held for each in crossgate.verify(plan, without=["r.a", "r.b"])] == [False]
    assert {each.part.name: len(each.broken) for each in crossgate.outages(plan)} == {"r": 1}
    with pytest.raises(crossgate.PlanError, match="no device q"):
        crossgate.verify(plan, without="q")


def test_claims_whose_last_day_is_over_are_left_out() -> None:
    over = crossgate.parse(f"{PLAN}expect permit ssh one to two until 2020-01-31\n")
    assert [each.held for each in crossgate.verify(over)] == [True]


def test_too_much_work_is_no_clean_bill(monkeypatch: pytest.MonkeyPatch) -> None:
    missed = TooManyPieces("whether the plan is well")
    monkeypatch.setattr("crossgate.core.audit.audit", lambda *_: Audited([], [], [missed]))
    with pytest.raises(TooManyPieces, match="whether the plan is well"):
        crossgate.check(crossgate.parse(PLAN))


def test_tests_and_what_explains_their_results() -> None:
    plan = crossgate.parse(PLAN)
    found = crossgate.sheet(plan, "gate", "one", of=OF_NOON)
    assert {each.tried.conversation.source.name for each in found.rows} == {"one"}
    alone = crossgate.sheet(plan, "gate", can="ping", of=OF_NOON)
    assert {str(each.tried.can) for each in alone.rows} == {"ping"}
    found_cause = crossgate.cause(plan, "one to two tcp/80 silent", of=OF_NOON)
    causes = [fault.text for each in found_cause.ranked for fault in each.faults]
    assert "gate 10 is missing or off: permit web a to two" in causes
    assert crossgate.cause(plan, "one to two tcp/80 answered", of=OF_NOON).ranked == ()
    for wrong, told in (
        (lambda: crossgate.sheet(plan, machines="nobody"), "no host nobody"),
        (lambda: crossgate.sheet(plan, can="shout"), "no test shout"),
        (lambda: crossgate.sheet(plan, "nowhere"), "no list nowhere"),
        (lambda: crossgate.cause(plan), "nothing was seen"),
        (lambda: crossgate.cause(plan, "one saw nothing"), "write FROM to TO SERVICE"),
    ):
        with pytest.raises(crossgate.PlanError, match=told):
            wrong()


def test_the_commit_that_changed_an_answer_is_found(tmp_path: Path) -> None:
    def git(*words: str) -> None:
        subprocess.run(
            ["git", "-c", "user.name=Ada", "-c", "user.email=ada@example.net", *words],
            cwd=tmp_path,
            check=True,
            capture_output=True,
        )

    path = tmp_path / "p.gate"
    git("init", "-q")
    for action in ("permit", "deny", "deny"):
        path.write_text(PLAN.replace("10 permit web", f"10 {action} web"))
        git("add", ".")
        git("commit", "-q", "--allow-empty", "-m", f"web: {action}")
    (found,) = crossgate.since(path, "one", "two", "web")
    (change,) = found.changes
    assert (found.today.verdict, change.before.verdict) == ("denied", "permitted")
    assert change.now.verdict == "denied"
    assert change.version.commit is not None
    assert change.version.commit.subject == "web: deny"
    line = PLAN.splitlines().index("expect permit web one to two") + 1
    (claim,) = crossgate.claim_since(path, line)
    assert (claim.today.verdict, len(claim.changes)) == ("fails", 1)
    with pytest.raises(crossgate.PlanError, match="no expect or keep line stands in 1"):
        crossgate.claim_since(path, 1)
