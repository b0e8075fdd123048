"""Edits that belong together, edits taken back, and names given anew."""

from __future__ import annotations

import random
import shlex
from pathlib import Path
from typing import Any

import pytest

from crossgate.core.answers.compare import differences
from crossgate.core.traffic.session import Session
from crossgate.language.reader import read_plan
from tests.conftest import Run

NET = (
    "subnet a 10.0.0.0/24\nsubnet b 10.0.1.0/24\nrouter r\n    interface a 10.0.0.1/24 on a\n"
    "    interface b 10.0.1.1/24 on b\nhost h 10.0.0.2 on a   # a remark about h\nhost k 10.0.1.2 on b\n"
    "group some h, k\nservice shop tcp/8443\nwindow night daily 22:00-05:30\n"
    "list old extended ipv4\n    10 permit shop h to k\n    20 deny ip any to any\n"
    "list new extended ipv4\n    10 permit shop some to k during night\n    20 permit ping a to k\n"
    "place old inbound on r.a\n"
)
EDITS = (
    "entry add old 'permit ping h to k' --before 20",
    "entry add old 'permit udp/53 a to k'",
    "entry drop old 10",
    "entry off new 20",
    "entry move new 20 --before 10",
    "entry change new 10 'permit shop h to k'",
    "list renumber new",
    "list new third standard ipv4",
    "lift old",
    "place new inbound r.b",
    "place new inbound r.a --replace",
    "rename host h hall",
    "rename list old older",
    "rename point r.a hall",
)


@pytest.fixture
def plan(tmp_path: Path) -> Path:
    path = tmp_path / "test.gate"
    path.write_text(NET)
    return path


def made(run: Run, edit: str) -> bool:
    return run(*shlex.split(edit), "--yes", "--anyway").returncode == 0


@pytest.mark.parametrize("seed", range(6))
def test_a_batch_is_the_same_edits_one_by_one(plan: Path, run: Run, seed: int) -> None:
    chosen = random.Random(seed).sample(EDITS, 4)
    done = [each for each in chosen if made(run, each)]
    one_by_one = plan.read_text()
    plan.write_text(NET)
    (plan.parent / "all.txt").write_text("# together\n\n" + "\n".join(done) + "\n")
    told = run("batch", "all.txt", "--yes", "--anyway")
    assert told.returncode == 0 or not done, told.stderr
    assert plan.read_text() == one_by_one


@pytest.mark.parametrize("seed", range(6))
def test_edits_are_taken_back_to_the_octet_and_made_again(plan: Path, run: Run, seed: int) -> None:
    chance = random.Random(seed)
    texts = [plan.read_bytes()]
    for each in chance.sample(EDITS, 6):
        if made(run, each) and plan.read_bytes() != texts[-1]:
            texts.append(plan.read_bytes())
    here = len(texts) - 1
    for _ in range(8):
        back = chance.randint(0, here)
        again = chance.randint(0, len(texts) - 1 - here)
        if back:
            assert run("undo", str(back), "--yes", "--anyway").returncode == 0
            here -= back
        elif again:
            assert run("redo", str(again), "--yes", "--anyway").returncode == 0
            here += again
        assert plan.read_bytes() == texts[here]


def test_a_swap_that_one_edit_cannot_do(plan: Path, run: Run, answer: Any) -> None:
    plan.write_text(NET + "keep permit shop h to k\n")
    refused = run("lift", "old")
    assert refused.returncode == 0  # nothing stands there then, so that all is permitted
    plan.write_text(
        NET.replace("during night", "") + "keep deny tcp/23 h to k\nkeep permit shop h to k\n"
    )
    before = plan.read_bytes()
    assert run("lift", "old").returncode == 1
    assert plan.read_bytes() == before
    (plan.parent / "swap.txt").write_text("lift old inbound r.a\nplace new inbound r.a\n")
    done = run("batch", "swap.txt", "--dry-run")
    assert done.returncode == 0, done.stdout
    assert plan.read_bytes() == before
    told = answer("batch", "swap.txt")
    assert told["written"]
    assert "place new inbound on r.a" in plan.read_text()
    assert "place old" not in plan.read_text()
    assert run("place", "old", "inbound", "r.a", "--replace", "--yes").returncode == 0
    assert "place old inbound on r.a" in plan.read_text()
    assert "place new" not in plan.read_text()


@pytest.mark.parametrize(
    ("lines", "message"),
    [
        ("entry drop old 15\n", "all.txt:1: no entry in list old with number 15"),
        ("entry drop old 10\ntrace h k ping\n", "all.txt:2: no edit trace"),
        ("\nentry drop\n", "all.txt:2: Missing argument"),
        ("entry drop old ten\n", "all.txt:1: "),
        (
            "entry drop old 10 --yes\n",
            "all.txt:1: --anyway, --yes, --dry-run, --all, --source-ports and --json stand",
        ),
        ("entry add old 'permit\n", "all.txt:1: no closing quotation"),
        ("entry drop --help\n", "all.txt:1: this asks for help"),
        ("rename group some so\nlist drop old\n", "all.txt:2: "),
        ("# nothing\n", "has no edits"),
        ("mend --all --write\n", "all.txt:1: no edit mend"),
        ("batch other.txt\n", "all.txt:1: no edit batch"),
    ],
)
def test_what_cannot_be_in_a_batch(plan: Path, run: Run, lines: str, message: str) -> None:
    (plan.parent / "all.txt").write_text(lines)
    before = plan.read_bytes()
    done = run("batch", "all.txt", "--yes", "--anyway")
    assert (done.returncode, message in done.stderr) == (2, True), done.stderr
    assert plan.read_bytes() == before


@pytest.mark.parametrize(
    ("words", "message"),
    [
        (("place", "new", "inbound", "r.b", "--replace"), "leave --replace out"),
        (("place", "old", "inbound", "r.a", "--replace"), "old stands inbound on r.a already"),
        (("place", "new", "inbound", "r.a", "--replace", "--move"), "exclude each other"),
        (("undo",), "has written no edit of this plan yet"),
        (("redo",), "has written no edit of this plan yet"),
        (("rename", "host", "q", "b"), "no host q"),
        (("rename", "host", "r.a", "b"), "r.a is of another kind; write: rename point r.a b"),
        (("rename", "host", "h", "k"), "k stands for a host already"),
        (("rename", "host", "h", "some"), "some stands for a group already"),
        (("rename", "host", "h", "h"), "it is called h already"),
        (("rename", "host", "h", "two words"), "nothing more belongs here"),
        (("rename", "point", "r.a", "q.a"), "a point stays at its device: write r.a"),
        (("rename", "point", "r.a", "b"), "r.b stands for a point already"),
    ],
)
def test_what_cannot_be_done(plan: Path, run: Run, words: tuple[str, ...], message: str) -> None:
    done = run(*words)
    assert (done.returncode, message in done.stderr) == (2, True), done.stderr


def test_what_was_changed_by_hand_is_not_taken_back(plan: Path, run: Run, answer: Any) -> None:
    assert made(run, "entry drop old 10")
    plan.write_text(plan.read_text() + "# by hand\n")
    done = run("undo", "--yes")
    assert done.returncode == 2
    assert "+# by hand" in done.stderr
    assert "test.gate was changed since then, as shown" in done.stderr
    assert made(run, "entry off new 20")
    done = run("undo", "2", "--yes")
    assert "was changed by hand after" in done.stderr
    assert run("undo", "--yes", "--anyway").returncode == 0
    assert plan.read_text().endswith("# by hand\n")
    listed = answer("undo", "--list")["edits"]
    assert [each["undone"] for each in listed] == [False, True]
    assert listed[1]["command"].startswith("entry off new 20")
    assert made(run, "entry drop new 20")  # what was taken back is forgotten
    assert "no edit is left that could be made again" in run("redo").stderr


def test_a_history_that_is_not_ours_is_left_alone(plan: Path, run: Run, own_state: Path) -> None:
    assert made(run, "entry drop old 10")
    (history,) = own_state.rglob("edits/*.json")
    (kept, *_) = own_state.rglob("edits/*.kept")
    before = plan.read_bytes()
    kept.write_bytes(b"something else")
    other = run("undo", "--yes", "--anyway")
    assert "is not kept any more" in other.stderr or other.returncode == 0
    if other.returncode:
        assert plan.read_bytes() == before
    history.write_text("{}")
    done = run("undo", "--yes")
    assert "is no history of edits; look what it is" in done.stderr


@pytest.mark.parametrize(
    ("kind", "name", "new"),
    [
        ("host", "kiosk-1", "kiosk-a"),
        ("subnet", "tickets", "hall"),
        ("outside", "internet", "world"),
        ("device", "lighthouse", "tower"),
        ("point", "lighthouse.v80", "hall"),
        ("point", "jetty.3", "7"),
        ("group", "servers", "machines"),
        ("service", "booking", "shop"),
        ("window", "night", "dark"),
        ("list", "12", "cranes-door"),
        ("list", "12", "13"),
        ("list", "kiosk-fence", "hall-fence"),
    ],
)
def test_a_name_is_given_anew_everywhere_and_nothing_else(
    demo: Path, run: Run, kind: str, name: str, new: str
) -> None:
    path = demo / "ternhaven.gate"
    before, old = read_plan(path), path.read_text()
    comments = [line.partition("#")[2] for line in old.splitlines() if "#" in line]
    done = run("rename", kind, name, new, "--yes")
    assert done.returncode == 0, done.stderr + done.stdout
    assert "holds now" not in done.stdout
    assert "no packet with a true source address is treated otherwise" in done.stdout
    after = read_plan(path)
    assert differences(Session(before), Session(after)) == []
    told = path.read_text()
    assert [line.partition("#")[2] for line in told.splitlines() if "#" in line] == comments
    assert run("undo", "--yes").returncode == 0
    assert path.read_text() == old


@pytest.mark.parametrize(
    ("words", "gone", "there"),
    [
        ("group add servers duty", "servers  manifest, resolver\n", "manifest, resolver, duty\n"),
        ("group take servers resolver", "manifest, resolver\n", "group servers  manifest\n"),
        ("group add servers duty, laptop", "", "group servers  manifest, resolver, duty, laptop\n"),
        ("service add booking tcp/9444", "", "tcp/8443, tcp/9443, tcp/9444\n"),
        ("service take booking tcp/9443", "tcp/8443, tcp/9443\n", "service booking   tcp/8443\n"),
        ("window change night daily 23:00-05:00", "22:00-05:30", "daily 23:00-05:00\n"),
        ("host new kiosk-3 10.64.9.23 on tickets", "", "host kiosk-3 10.64.9.23 on tickets\n"),
        ("host drop gate-3 --anyway", "", ""),
        ("subnet new berth-4 10.64.35.0/24", "", "subnet berth-4 10.64.35.0/24"),
        ("route add groyne default via 192.0.2.1", "", "    route default via 192.0.2.1\n"),
        ("expect add deny telnet guests to harbour", "", "telnet    guests    to harbour\n"),
        ("expect add --keep deny telnet guests to harbour", "", "keep   deny      telnet"),
        ("expect drop 196", "berth 3 still drops", ""),
    ],
)
def test_the_rest_of_the_plan_is_edited_too(
    demo: Path, run: Run, words: str, gone: str, there: str
) -> None:
    path = demo / "ternhaven.gate"
    old = path.read_text()
    assert gone in old
    assert not there or there not in old
    done = run(*shlex.split(words), "--yes")
    if "host drop" in words:  # lists and claims name it
        assert done.returncode == 1
        assert "the plan would have errors" in done.stdout
        return
    assert done.returncode == 0, done.stderr + done.stdout
    new = path.read_text()
    assert not gone or gone not in new
    assert there in new
    assert run("undo", "--yes", "--anyway").returncode == 0
    assert path.read_text() == old


def test_an_entry_without_quotes_is_one(demo: Path, run: Run) -> None:
    words = ("permit", "ntp", "guests", "to", "manifest", "so it is meant", "--before", "20")
    assert run("entry", "add", "guest-fence", *words, "--yes", "--anyway").returncode == 0
    text = (demo / "ternhaven.gate").read_text()
    assert '15 permit ntp    guests to manifest "so it is meant"' in text
    changed = run("entry", "change", "guest-fence", "15", *words[:5], "--yes", "--anyway")
    assert changed.returncode == 0


@pytest.mark.parametrize(
    ("where", "message"),
    [
        ("v200", "v200 is at lighthouse.v200; write that"),
        ("quay", "quay is a subnet; write subnet quay"),
        ("24", "24 is at jetty.24; write that"),
        ("land", "land is at breakwater.land, groyne.land; write that"),
        ("v201", "no device v201"),
    ],
)
def test_where_a_list_may_have_been_meant(demo: Path, run: Run, where: str, message: str) -> None:
    done = run("place", "110", "inbound", where)
    assert (done.returncode, message in done.stderr) == (2, True), done.stderr


def test_routes_by_their_prefix(tmp_path: Path, run: Run) -> None:
    path = tmp_path / "plan.gate"
    text = NET.replace(
        "host h", "    route 10.9.0.0/16 via 10.0.1.2\n    route default via 10.0.1.2\nhost h", 1
    )
    path.write_text(text)
    assert run("route", "drop", "r", "default", "--yes").returncode == 0
    assert "route default" not in path.read_text()
    assert run("route", "drop", "r", "10.9.0.0/16", "--yes").returncode == 0
    assert "route" not in path.read_text().replace("router", "")


@pytest.mark.parametrize(
    ("words", "message"),
    [
        ("group add nobody duty", "no group nobody"),
        ("group add servers manifest", "group servers has manifest already"),
        ("group take servers duty", "no member of group servers called duty"),
        ("group take servers manifest resolver", "would have no member"),
        ("host drop nobody", "no host nobody"),
        ("subnet drop internet", "no subnet internet"),
        ("window change day daily 08:00-09:00", "no window day"),
        ("route add nobody default via 10.0.0.1", "no device nobody"),
        ("route drop breakwater 10.0.0.0/8", "no route of breakwater to 10.0.0.0/8"),
        ("expect drop 7", "no expect or keep line stands in 7"),
    ],
)
def test_what_is_not_there_cannot_be_edited(demo: Path, run: Run, words: str, message: str) -> None:
    done = run(*shlex.split(words), "--yes")
    assert (done.returncode, message in done.stderr) == (2, True), done.stderr


def test_names_with_commas_and_no_blanks_between_are_renamed(tmp_path: Path, run: Run) -> None:
    text = NET.replace("list old", "group both h,k\nexpect deny tcp/9 h,k to k,h\nlist old")
    text = text.replace("permit ping a to k", "permit tcp/80,443 h,k to k,h")
    (tmp_path / "plan.gate").write_text(text)
    done = run("rename", "host", "h", "hall", "--yes")
    assert done.returncode == 0, done.stderr
    new = (tmp_path / "plan.gate").read_text()
    for line in ("both hall,k", "tcp/9 hall,k to k,hall", "permit tcp/80,443 hall,k to k,hall"):
        assert line in " ".join(new.split()), new


def test_includes_are_renamed_too(tmp_path: Path, run: Run) -> None:
    net, _, lists = NET.partition("list old")
    (tmp_path / "lists.gate").write_text(f"list old{lists}")
    (tmp_path / "plan.gate").write_text(f'include "lists.gate"\n{net}')
    done = run("--plan", "plan.gate", "rename", "host", "h", "hall", "--yes")
    assert done.returncode == 0, done.stderr
    assert "permit shop hall to k" in (tmp_path / "lists.gate").read_text()
    assert "host hall 10.0.0.2 on a   # a remark about h" in (
        tmp_path / "plan.gate"
    ).read_text().replace("host hall  ", "host hall ")
    assert run("--plan", "plan.gate", "undo", "--yes").returncode == 0
    assert (tmp_path / "lists.gate").read_text() == f"list old{lists}"
