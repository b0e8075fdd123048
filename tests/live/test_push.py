"""Devices made to run what the plan says: in which order, and what is left where one fails."""

from __future__ import annotations

import itertools
import os
import re
import signal
import time
from collections.abc import Callable, Sequence
from datetime import datetime
from multiprocessing import get_context
from pathlib import Path

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from crossgate import library
from crossgate.core.answers.verify import Verifier
from crossgate.core.model.address import Family
from crossgate.core.model.entry import Action
from crossgate.core.model.errors import PlanError
from crossgate.core.model.network import Direction
from crossgate.core.model.packet import Packet
from crossgate.core.traffic.session import Session
from crossgate.language.coming import Coming
from crossgate.language.reader import Reading, read
from crossgate.live.devices import RunningConfiguration, running
from crossgate.live.documents import lists_of, with_lists
from crossgate.live.drift import coming_from
from crossgate.live.halves import first_half
from crossgate.live.order import Move, Runs, as_it_runs, between, order
from crossgate.live.played import reached_as_played
from crossgate.live.proposal import proposed
from crossgate.live.pushing import Journal, PushStep, Stage, push, push_step, undo
from tests import small
from tests.conftest import Run
from tests.documents import checked
from tests.live.conftest import Play, free_ports

NOW = datetime(2026, 11, 30, 12)
NETWORK = """
subnet hall 10.0.0.0/24
subnet mid  10.0.1.0/30
subnet yard 10.0.2.0/24
router a
    interface hall 10.0.0.1/24 on hall
    interface mid 10.0.1.1/30 on mid
router b
    interface mid 10.0.1.2/30 on mid
    interface yard 10.0.2.1/24 on yard
router c
    interface yard 10.0.2.2/24 on yard
host h 10.0.0.9 on hall
host s 10.0.2.9 on yard
"""


def lists(a: str, b: str, c: str = "") -> str:
    """Return a list a device that denies what is named, at its interface to the hall's side."""
    found = ""
    for device, denied, point in (("a", a, "a.hall"), ("b", b, "b.mid"), ("c", c, "c.yard")):
        entries = "".join(f"    deny {each} any to any\n" for each in denied.split())
        found += (
            f"list on-{device} extended ipv4\n{entries}    otherwise permit\n"
            f"place on-{device} inbound on {point}\n"
        )
    return found


@pytest.fixture
def reading_of(tmp_path: Path) -> Callable[[str], Reading]:
    def make(text: str) -> Reading:
        path = tmp_path / "plan.gate"
        path.write_text(text)
        return read(path)

    return make


def run_by(reading: Reading, text: str, folder: Path) -> dict[str, Coming]:
    """Return what devices run that run what another plan says."""
    path = folder / "other.gate"
    path.write_text(text)
    other = read(path).plan
    return {
        name: coming_from(
            reading.plan,
            RunningConfiguration(
                name, str(library.export(other, "ietf", on=name, xml=True).text).encode()
            ),
        )
        for name in ("a", "b")
    }


def test_the_order_is_one_in_which_nothing_breaks(
    reading_of: Callable[[str], Reading], tmp_path: Path
) -> None:
    claims = "keep deny tcp/23 h to s\nexpect permit tcp/22 h to s\n"
    before, after = (
        NETWORK + lists("tcp/23", "") + claims,
        NETWORK + lists("", "tcp/23") + claims,
    )
    reading = reading_of(after)
    runs, will = run_by(reading, before, tmp_path), run_by(reading, after, tmp_path)
    plans = [as_it_runs(reading, each, NOW) for each in (runs, will)]
    found = order(plans[0], plans[1], ("a", "b"))
    assert (found.moves, found.claims, found.broken) == ((Move("b"), Move("a")), 2, ())
    # The other way round telnet would get through in between, and it is proved that it does not.
    for done, held in (((), True), (("a",), False), (("b",), True), (("a", "b"), True)):
        network = between(
            {Runs.BEFORE: plans[0], Runs.AFTER: plans[1]}, dict.fromkeys(done, Runs.AFTER)
        )
        assert Verifier(Session(network)).verify(network.expectations[0]).held is held
    assert order(plans[1], plans[0], ("a", "b")).moves == (Move("a"), Move("b"))


def test_where_there_is_no_order_the_claims_in_the_way_are_told(
    reading_of: Callable[[str], Reading], tmp_path: Path
) -> None:
    claims = "expect deny tcp/23 h to s\nexpect deny udp/9 h to s\nexpect permit tcp/22 h to s\n"
    before, after = (
        NETWORK + lists("tcp/23", "udp/9") + claims,
        NETWORK + lists("udp/9", "tcp/23") + claims,
    )
    reading = reading_of(after)
    runs, will = run_by(reading, before, tmp_path), run_by(reading, after, tmp_path)
    found = order(as_it_runs(reading, runs, NOW), as_it_runs(reading, will, NOW), ("a", "b"))
    assert found.moves == ()
    assert [(name, each.expectation.text) for name, each in found.broken] == [
        ("a", "expect deny tcp/23 h to s"),
        ("b", "expect deny udp/9 h to s"),
    ]


@pytest.mark.process
def test_where_no_whole_step_can_be_next_one_goes_in_two_halves(
    run: Run, demo: Path, play: Play
) -> None:
    claims = "keep deny tcp/23 h to s\nkeep deny udp/9 h to s\nkeep permit tcp/22 h to s\n"
    path = demo / "site.gate"
    path.write_text(NETWORK + lists("tcp/23", "udp/9") + claims)
    port = play()
    before = runs(demo, port)
    path.write_text(NETWORK + lists("udp/9", "tcp/23") + claims)
    asked = ("--stand-ins", str(port), *WAIT)
    dry = run("push", *asked, "--dry-run")
    assert re.findall(r"^\d  .*", dry.stdout, re.M) == [
        "1  a, first half: it denies also what it is to deny then",
        "2  b",
        "3  a",
    ]
    done = run("push", *asked, "--json", "--yes")
    steps = checked(done.stdout)["steps"]
    assert [(each["device"], each["half"]) for each in steps] == [
        ("a", True),
        ("b", False),
        ("a", False),
    ]
    assert {each["stage"] for each in steps} == {"confirmed"}
    assert run("drift", *asked[:2]).returncode == 0
    # A device that fails in the middle leaves none behind in its first half.
    path.write_text(NETWORK + lists("tcp/23", "udp/9") + claims)
    port = play("--fail", "b=refuse")
    halved = runs(demo, port)
    assert halved["a"] != before["a"]
    failed = run("push", "--stand-ins", str(port), *WAIT, "--yes")
    assert (failed.returncode, runs(demo, port)) == (2, halved)
    assert "a  denies also what it is to deny then\n" in failed.stdout


RULES = ("permit tcp/22", "deny tcp/20-30", "permit udp", "deny icmp/8", "permit ip", "deny ip")
ENDS = ("any to any", "10.0.0.1 to any", "any to 198.51.100.1", "10.0.0.0/31 to 10.0.0.2/31")
PLACES = ("", "place on-a inbound on a.hall\n", "place on-a outbound on a.mid\n")


@settings(max_examples=30)
@given(st.data())
def test_between_two_halves_just_what_both_permit_is_permitted(
    reading_of: Callable[[str], Reading], data: st.DataObject
) -> None:
    entry = st.builds("    {} {}\n".format, st.sampled_from(RULES), st.sampled_from(ENDS))

    def drawn(places: str) -> Reading:
        entries = "".join(data.draw(st.lists(entry, max_size=4)))
        rest = data.draw(st.sampled_from(("permit", "deny", "reject")))
        text = f"list on-a extended ipv4\n{entries}    otherwise {rest}\n"
        return reading_of(NETWORK + text + places)

    places = [
        data.draw(st.sampled_from(PLACES)) + data.draw(st.sampled_from(PLACES[:1])),
        PLACES[1] + data.draw(st.sampled_from(["", PLACES[2]])),
    ]
    before, after = (drawn(each) for each in data.draw(st.permutations(places)))

    def runs_there(reading: Reading) -> Coming:
        told = library.export(reading.plan, "ietf", on="a", xml=True).text
        return coming_from(after.plan, RunningConfiguration("a", str(told).encode()))

    coming = [runs_there(each) for each in (before, after)]
    plans = [as_it_runs(after, {"a": each}, NOW) for each in coming]
    plans.append(as_it_runs(after, {"a": first_half(coming[0], coming[1], closed=False)}, NOW))
    interfaces = after.plan.devices["a"].interfaces
    for place in (
        (interfaces["hall"].point, Direction.INBOUND, Family.IPV4),
        (interfaces["mid"].point, Direction.OUTBOUND, Family.IPV4),
    ):
        lists_there = [each.asked.get(place) for each in plans]
        for packet in small.packets(Family.IPV4):
            was, will, between_them = (
                each is None or each.decide(packet).action is Action.PERMIT for each in lists_there
            )
            if not packet.fragment:  # the models do not tell them apart
                assert between_them is (was and will), (packet, place)


@settings(max_examples=25)
@given(st.data())
def test_denials_that_hold_before_and_after_hold_after_each_step(
    reading_of: Callable[[str], Reading], data: st.DataObject
) -> None:
    ports = (23, 24, 25)
    denied = st.lists(st.sampled_from([f"tcp/{each}" for each in ports]), max_size=3)
    texts = [
        lists(" ".join(data.draw(denied)), " ".join(data.draw(denied))) for _ in ("before", "after")
    ]
    claims = "".join(f"expect deny tcp/{each} h to s\n" for each in ports)
    before, after = (reading_of(NETWORK + each + claims) for each in texts)
    there = {
        name: str(library.export(before.plan, "ietf", on=name, xml=True).text).encode()
        for name in ("a", "b")
    }
    found = proposed(after, [RunningConfiguration(name, each) for name, each in there.items()], NOW)
    assert found.order.broken == ()
    own = {name: lists_of(each, name) for name, each in there.items()}

    def denies(port: int) -> bool:
        packet = Packet(Family.IPV4, 0x0A000009, 0x0A000209, 6, 40_000, port, flags=2)
        runs_there = [
            coming_from(after.plan, RunningConfiguration(name, with_lists(there[name], each, name)))
            for name, each in own.items()
        ]
        plan = as_it_runs(after, dict(zip(own, runs_there, strict=True)), NOW)
        return any(each.decide(packet).action is Action.DENY for each in plan.asked.values())

    always = {each for each in ports if all(denied_by(text, each) for text in texts)}
    for step in found.steps:
        assert own[step.device] == step.old
        own[step.device] = step.new
        assert all(denies(each) for each in always)
    for port in ports:
        assert denies(port) is denied_by(texts[1], port)


def denied_by(text: str, port: int) -> bool:
    """Whether one of the lists of some text denies a port."""
    return f"deny tcp/{port} " in text


def test_what_will_not_hold_is_told(reading_of: Callable[[str], Reading], tmp_path: Path) -> None:
    claims = "keep permit tcp/22 h to s\nexpect permit tcp/25 h to s\n"
    before, after = NETWORK + lists("", "") + claims, NETWORK + lists("tcp/22 tcp/25", "") + claims
    reading = reading_of(after)
    runs, will = run_by(reading, before, tmp_path), run_by(reading, after, tmp_path)
    found = order(as_it_runs(reading, runs, NOW), as_it_runs(reading, will, NOW), ("a", "b"))
    assert [each.expectation.text for each in found.failing] == ["keep permit tcp/22 h to s"]
    assert [each.expectation.text for each in found.lost] == ["expect permit tcp/25 h to s"]


def test_a_journal_is_read_as_it_was_written(tmp_path: Path) -> None:
    journal = Journal(tmp_path / "plan.gate")
    assert journal.read() == []
    steps = [
        PushStep("a", "<acls/>", "<acls>1</acls>"),
        PushStep("b", "", "", stage=Stage.CONFIRMED),
    ]
    journal.write(steps)
    assert journal.read() == steps
    journal.path.write_text('{"schema": "other"}')
    with pytest.raises(Exception, match="is no journal of a push"):
        journal.read()
    journal.end()
    assert not journal.path.exists()


CLAIMS = "keep deny tcp/23 h to s\nexpect permit tcp/22 h to s\n"


@pytest.fixture
def demo(tmp_path: Path) -> Path:
    """Three devices in a row, in the place of the demo."""
    (tmp_path / "site.gate").write_text(NETWORK + lists("tcp/23", "", "") + CLAIMS)
    return tmp_path


def changed(folder: Path) -> None:
    """Write a plan by which all three devices get other lists."""
    (folder / "site.gate").write_text(NETWORK + lists("udp/9", "tcp/23", "udp/7") + CLAIMS)


def runs(folder: Path, port: int) -> dict[str, str]:
    plan = read(folder / "site.gate").plan
    return {
        name: lists_of(running(reached_as_played(plan, name, port), 20).document, name)
        for name in ("a", "b", "c")
    }


WAIT = ("--within", "10", "--confirm-within", "5")


@pytest.mark.process
def test_a_push_shows_first_what_it_does_to_traffic(run: Run, demo: Path, play: Play) -> None:
    port = str(play("a"))
    assert demo.name
    assert run("entry", "add", "on-a", "deny tcp/4444 h to any", "--yes").returncode == 0
    shown = run("push", "a", "--stand-ins", port, "--dry-run").stdout
    assert "denied by on-a" in shown
    assert "tcp/4444  h to" in shown


@pytest.mark.process
def test_a_step_behind_which_another_device_is_lost_is_taken_back(demo: Path, play: Play) -> None:
    port = play()
    plan = read(demo / "site.gate").plan
    at = [reached_as_played(plan, name, port) for name in ("a", "b")]
    before = runs(demo, port)
    step = PushStep("a", before["a"], before["c"])
    nobody = at[1]._replace(port=free_ports(1))
    for others in ([at[1]], [at[1], nobody]):
        stages = list[Stage]()
        if nobody not in others:
            push_step(step, at[0], 10, 5, stages.append, others=others)
            assert stages == [Stage.COMMITTING, Stage.CONFIRMED]
            continue
        with pytest.raises(PlanError, match="behind a nobody reaches b any more"):
            push_step(
                PushStep("a", before["c"], before["a"]), at[0], 10, 5, stages.append, others=others
            )
        assert stages == [Stage.COMMITTING]


@pytest.mark.process
def test_devices_run_what_the_plan_says(run: Run, demo: Path, play: Play) -> None:
    port = play()
    before = runs(demo, port)
    changed(demo)
    asked = ("--stand-ins", str(port), *WAIT)
    dry = run("push", *asked, "--dry-run")
    assert (dry.returncode, runs(demo, port)) == (0, before)
    assert dry.stdout.index("1  b\n") < dry.stdout.index("a\n")
    assert "2 claims that hold now and in the end hold after each step, proved" in dry.stdout
    unasked = run("push", *asked)
    assert (unasked.returncode, runs(demo, port)) == (2, before)
    assert "nobody is there to be asked; --yes" in unasked.stderr
    done = run("push", *asked, "--json", "--yes")
    said = checked(done.stdout)
    assert (done.returncode, [each["stage"] for each in said["steps"]]) == (0, ["confirmed"] * 3)
    assert run("drift", "--stand-ins", str(port)).returncode == 0
    assert "every device that was asked runs what the plan says" in run("push", *asked).stdout
    path = demo / "site.gate"
    path.write_text(path.read_text().replace("udp/7", "udp/8"))
    told = run("push", *asked, "--events", "--yes")
    *events, last = map(checked, told.stdout.splitlines())
    assert [(each["schema"], each["device"], each["stage"]) for each in events] == [
        ("crossgate/push-event/1", "c", "committing"),
        ("crossgate/push-event/1", "c", "confirmed"),
    ]
    assert (last["schema"], last["steps"][0]["stage"]) == ("crossgate/push/1", "confirmed")
    assert not Journal(demo / "site.gate").path.exists()


@pytest.mark.process
@pytest.mark.parametrize(
    ("how", "device"), [("refuse", "a"), ("refuse", "c"), ("drop-after-commit", "b"), ("die", "a")]
)
def test_where_one_fails_all_run_what_they_ran(
    launch: Run,
    demo: Path,
    play: Play,
    how: str,
    device: str,
) -> None:
    port = play("--fail", f"{device}={how}")
    before = runs(demo, port)
    changed(demo)
    wait = ("--within", "2", "--confirm-within", "5")  # for an answer that never comes
    done = launch("push", "--stand-ins", str(port), "--yes", *wait)
    if how == "drop-after-commit":  # only that session was lost: it is put back, or done
        assert done.returncode in (0, 2)
        if done.returncode == 0:
            return
    assert done.returncode == 2
    deadline = time.monotonic() + 10  # what was not confirmed goes back by itself
    while how != "die" and runs(demo, port) != before:
        assert time.monotonic() < deadline
        time.sleep(0.2)
    if how != "die":
        return
    # Nobody reaches it any more, so the journal is kept, and all others run what they ran.
    found = runs_but(demo, port, device)
    assert found == {name: own for name, own in before.items() if name != device}
    again = launch("push", "--stand-ins", str(port), "--yes", *WAIT)
    assert (again.returncode, "a push did not end" in again.stderr) == (2, True)


def runs_but(folder: Path, port: int, device: str) -> dict[str, str]:
    plan = read(folder / "site.gate").plan
    return {
        name: lists_of(running(reached_as_played(plan, name, port), 20).document, name)
        for name in ("a", "b", "c")
        if name != device
    }


@pytest.mark.process
def test_what_is_done_may_stay(run: Run, demo: Path, play: Play) -> None:
    port = play("--fail", "c=refuse")
    before = runs(demo, port)
    changed(demo)
    done = run("push", "--stand-ins", str(port), "--yes", "--keep-done", *WAIT)
    assert (done.returncode, "stays as it is now" in done.stderr) == (2, True)
    after = runs(demo, port)
    assert after["c"] == before["c"]
    assert after["b"] != before["b"]


def push_until_killed(
    plan: Path, steps: list[PushStep], port: int, number: int, written: bool
) -> None:
    """Push, and be killed at the journal's line of a number, before it is written or when it has
    been.
    """
    real, lines = Journal.write, itertools.count()

    def write(self: Journal, steps: Sequence[PushStep]) -> None:
        here = next(lines) == number
        if here and not written:
            os.kill(os.getpid(), signal.SIGKILL)
        real(self, steps)
        if here:
            os.kill(os.getpid(), signal.SIGKILL)

    Journal.write = write  # type: ignore[method-assign]
    known = read(plan).plan
    reached = {each.device: reached_as_played(known, each.device, port) for each in steps}
    push(Journal(plan), steps, reached, 10, 60, False, lambda *_: "", lambda *_: None)


@pytest.mark.long
@pytest.mark.process
def test_wherever_a_push_is_killed_all_run_what_they_ran_once_it_is_undone(
    run: Run, demo: Path, play: Play
) -> None:
    port, plan = play(), read(demo / "site.gate").plan
    reached = {each: reached_as_played(plan, each, port) for each in ("b", "a", "c")}
    before = runs(demo, port)
    changed(demo)
    will = read(demo / "site.gate").plan
    new = {
        each: lists_of(str(library.export(will, "ietf", on=each, xml=True).text).encode(), each)
        for each in reached
    }
    journal = Journal(demo / "site.gate")

    steps = [PushStep(each, before[each], new[each]) for each in reached]
    # A copy of this process would have only one of its threads, and what the others had locked.
    clean = get_context("forkserver")
    clean.set_forkserver_preload([__name__])
    # Killed before a line, what it tells has been done on the device already; killed behind one
    # that says committing, nothing has.
    for number, written in [*((each, False) for each in range(7)), (1, True)]:
        pushing = clean.Process(
            target=push_until_killed, args=(demo / "site.gate", steps, port, number, written)
        )
        pushing.start()
        pushing.join()
        assert pushing.exitcode == -signal.SIGKILL
        left = journal.read()
        assert bool(left) is ((number, written) != (0, False))
        there = runs(demo, port)
        for each in left:  # what the journal says is never behind what was done
            assert each.stage is not Stage.WAITING or there[each.device] == before[each.device]
        assert undo(journal, left, reached, 10, 60, False, lambda *_: None) == (
            "all devices run what they ran before"
        )
        assert (runs(demo, port), journal.read()) == (before, [])
    words = ("push", "--stand-ins", str(port), "--yes", *WAIT)
    journal.write([PushStep(each, before[each], new[each]) for each in reached])
    refused = run(*words)
    assert (refused.returncode, "a push did not end" in refused.stderr) == (2, True)
    assert run("push", "--undo", "--stand-ins", str(port), *WAIT).returncode == 0
    assert run(*words).returncode == 0
    assert run("drift", "--stand-ins", str(port)).returncode == 0


@pytest.mark.process
def test_a_killed_push_is_gone_on_with(run: Run, demo: Path, play: Play) -> None:
    port = play()
    changed(demo)
    journal = Journal(demo / "site.gate")
    was = runs(demo, port)
    journal.write([PushStep(name, was[name], "<acls/>") for name in ("b", "a", "c")])
    asked = ("--stand-ins", str(port), "--yes", *WAIT)
    assert run("push", *asked).returncode == 2
    assert run("push", *asked, "--resume").returncode == 0
    assert journal.read() == []
    assert run("drift", "--stand-ins", str(port)).returncode == 0
    assert run("push", *asked, "--undo").stdout == "no push is left to be undone\n"
    journal.write([PushStep("b", was["b"], was["b"], stage=Stage.CONFIRMED)])
    undone = checked(run("push", *asked, "--undo", "--json").stdout)
    assert [(each["device"], each["stage"]) for each in undone["steps"]] == [("b", "undone")]
