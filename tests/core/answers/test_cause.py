"""Causes: a fault that is put into a network is found from what is seen there."""

from __future__ import annotations

import random
import re
import subprocess
from collections.abc import Callable, Iterator
from datetime import datetime
from pathlib import Path
from typing import Any, NamedTuple

import pytest
from hypothesis import Phase, find, settings

from crossgate.core.answers.cause import Cause, cause, with_counters
from crossgate.core.answers.cause.observed import Count, Observation, Observed
from crossgate.core.answers.sheet.tests import SeenInTest
from crossgate.core.conversation.opening import Conversation, conversations
from crossgate.core.conversation.packets import Tracer
from crossgate.core.conversation.story import Outcome
from crossgate.core.conversation.verdict import Verdict
from crossgate.core.model.accesslist import DeciderKey
from crossgate.core.model.conditions import When
from crossgate.core.model.errors import PlanErrors
from crossgate.core.model.plan import Plan
from crossgate.core.network.endpoints import pairs
from crossgate.core.network.ways import Network
from crossgate.formats.observations import observed
from tests.net import plans

Read = Callable[[str], Plan]
NOON = datetime(2026, 11, 30, 12)
SUNDAY = datetime(2026, 11, 29, 12)
HOSTS = ("pinned", "plain", "server", "far")
SERVICES = ("ping", "tcp/22", "tcp/443", "tcp/50", "udp/53")


class Broken(NamedTuple):
    """A network with a fault: its text, the time of its windows, and how the fault is told."""

    text: str
    at: datetime
    told: str


def breakings(text: str) -> Iterator[Broken]:
    """Yield a plan's text with one fault each, as a person could make it by hand."""
    for line in re.findall(r"^place l\d .*$", text, re.MULTILINE):
        name, direction, _, where = line.split(" ", 4)[1:]
        yield Broken(text.replace(line + "\n", ""), NOON, f"{name} is not applied {direction} on")
        turned = "outbound" if direction == "inbound" else "inbound"
        other = line.replace(direction, turned)
        if other not in text:
            yield Broken(text.replace(line, other), NOON, f"{name} is applied {turned} on {where}")
    for name, block in re.findall(r"^list (l\d) [^\n]*\n((?: +[^\n]*\n)+)", text, re.MULTILINE):
        entries = [each for each in block.splitlines() if "otherwise" not in each]
        for number in range(len(entries)):
            numbered = "".join(
                f"    {(n + 1) * 10} {'off ' if n == number else ''}{each.strip()}\n"
                for n, each in enumerate(entries)
            )
            rest = block[sum(len(each) + 1 for each in entries) :]
            yield Broken(
                text.replace(block, numbered + rest, 1),
                NOON,
                f"{name} {(number + 1) * 10} is missing or off",
            )
    for device in ("left", "right"):
        own = re.search(rf"^router {device}( stateful)?$", text, re.MULTILINE)
        assert own is not None
        turned = f"router {device}" if own[1] else f"router {device} stateful"
        does = "does not remember" if own[1] else "remembers"
        yield Broken(text.replace(own[0], turned, 1), NOON, f"{device} {does}")
    if "during open" in text:
        yield Broken(text, SUNDAY, "windows are judged as at")


def seen(plan: Plan, at: datetime, told: Conversation) -> tuple[SeenInTest, set[DeciderKey]]:
    trace = Tracer(Network(plan), plan.state_at(When(at))).trace(told)
    lines = {each.key for each in trace.deciders()}
    if trace.verdict is Verdict.PERMITTED or trace.legs[-1].leg.settles:
        return SeenInTest.ANSWERED, lines
    rejected = trace.legs[-1].outcome is Outcome.REJECTED and not trace.legs[-1].leg.returns
    return (SeenInTest.REFUSED if rejected else SeenInTest.SILENCE), lines


def observations(meant: Plan, runs: Plan, at: datetime, random_: random.Random) -> Observed:
    """Return what is seen of a network that runs another plan than is meant."""
    found = []
    network = Network(meant)
    for one in HOSTS:
        for other in HOSTS:
            for service in SERVICES if one != other else ():
                for start, end in pairs(network, one, other):
                    own = conversations(meant.service(service, start.address.family), start, end)
                    for each in own:
                        found.append(Observation("", each, seen(runs, at, each)[0]))
    chosen = random_.sample(found, 40)
    lines: set[DeciderKey] = set()
    for observation in chosen:
        lines |= seen(runs, at, observation.conversation)[1]
    every = [
        DeciderKey(own.name, number)
        for own in meant.lists.values()
        for number in (*(e.number for e in own.entries), None)
    ]
    return Observed(tuple(chosen), tuple(Count("", each, each in lines) for each in every))


def drawn(number: int) -> str:
    """Return a plan with lists, the same every time."""
    return find(
        plans(),
        lambda text: text.count("place l") >= 2 and "permit" in text and "flags" not in text,
        settings=settings(max_examples=200, database=None, deadline=None, phases=[Phase.generate]),
        random=random.Random(number),
    )


def rank_of(found: Cause, told: str) -> int | None:
    """Return the place of a fault among the causes; those that explain as much, and are as small,
    have one.
    """
    ranks: dict[tuple[int, ...], int] = {}
    for each in found.ranked:
        key = len(each.not_explained), *(fault.size for fault in each.faults)
        ranks.setdefault(key, len(ranks))
        if any(fault.text.startswith(told) for fault in each.faults):
            return ranks[key]
    return None


def tries(plan_of: Read, number: int) -> Iterator[bool]:
    """Yield whether each of some faults of a random plan is found first."""
    random_ = random.Random(number)
    text = drawn(number)
    meant = plan_of(text)
    every = list(breakings(text))
    random_.shuffle(every)
    for broken in every[:3]:
        try:
            runs = plan_of(broken.text)
        except PlanErrors:  # another list stands there already
            continue
        told = observations(meant, runs, broken.at, random_)
        found = cause(Network(meant), When(NOON), told)
        if not found.wrong:
            continue
        assert found.ranked
        assert not found.ranked[0].not_explained
        places = [each for each in found.ranked if not each.not_explained]
        texts = [fault.text for each in places for fault in each.faults]
        yield rank_of(found, broken.told) == 0 or any(t.startswith(broken.told) for t in texts[:3])


@pytest.mark.parametrize("number", range(8))
def test_a_fault_that_is_put_in_explains_what_is_seen_and_is_first(
    plan_of: Read, number: int
) -> None:
    assert all(tries(plan_of, number))


NET = (
    "subnet a 10.0.0.0/24\nsubnet b 10.0.1.0/24\nrouter r\n    interface a 10.0.0.1/24 on a\n"
    "    interface b 10.0.1.1/24 on b\nhost h 10.0.0.2 on a\nhost i 10.0.0.3 on a\n"
    "host k 10.0.1.2 on b\nlist l extended ipv4\n    permit tcp/22 h to k\n"
    "    permit domain a to k\n    deny ip any to any\nplace l inbound on r.a\n"
)


def causes(plan: Plan, *given: str) -> Cause:
    network = Network(plan)
    return cause(network, When(NOON), observed(network, given, None))


def texts(found: Cause) -> list[str]:
    return [" AND ".join(fault.text for fault in each.faults) for each in found.ranked]


def test_who_does_not_listen_is_told_from_silence(plan_of: Read) -> None:
    plan = plan_of(NET)
    refused = texts(causes(plan, "h to k tcp/22 refused", "h to k udp/53 answered"))
    assert refused[0] == "nobody listens at k tcp/22"
    assert not causes(plan, "h to k tcp/22 nobody listens").wrong  # it got there
    silent = texts(causes(plan, "h to k tcp/22 silent", "h to k udp/53 answered"))
    assert "nobody listens at k tcp/22" not in silent
    assert silent[0] == "l 10 is missing or off: permit tcp/22 h to k"
    assert "nobody listens at k udp/53" in texts(causes(plan, "h to k udp/53 silent"))


def test_machines_and_devices(plan_of: Read) -> None:
    told = texts(causes(plan_of(NET), "h to k tcp/22 silent", "h to k udp/53 silent"))
    assert {"r is down", "h is down", "k is down"} <= set(told)
    assert "h has a wrong gateway or mask: nothing of it leaves its subnet" in told
    told = texts(
        causes(
            plan_of(NET), "h to k tcp/22 silent", "h to k udp/53 answered", "i to k udp/53 answered"
        )
    )
    assert "h has another address than 10.0.0.2" in told
    assert "h is down" not in told


def test_a_counter_parts_what_looks_the_same(plan_of: Read) -> None:
    plan = plan_of(NET.replace("place l", "    otherwise permit\nplace l"))
    seen = "i to k tcp/22 answered", "h to k udp/53 answered"
    assert "l is not applied inbound on r.a" in texts(causes(plan, *seen))
    counted = texts(causes(plan, *seen, "l 20 counted"))
    assert counted[0] == "l 30 is missing or off: deny ip any to any"
    assert "l is not applied inbound on r.a" not in counted


def test_what_counted_tells_whether_a_silent_machine_sent_anything(plan_of: Read) -> None:
    text = NET.replace("host h 10.0.0.2 on a", "host h 10.0.0.2 on a at s.1")
    text = text.replace("subnet b", "switch s\n    port 1\nsubnet b")
    plan = plan_of(f"{text}list p extended ipv4\n    otherwise permit\nplace p inbound on s.1\n")
    silent = "h to k tcp/22 silent", "h to k udp/53 silent"
    stays = "h has a wrong gateway or mask: nothing of it leaves its subnet"
    nothing = texts(causes(plan, *silent, "p otherwise did not count", "l 10 did not count"))
    assert "h is down" in nothing
    assert stays not in nothing
    port = texts(causes(plan, *silent, "p otherwise counted", "l 10 did not count"))
    assert stays in port
    assert "h is down" not in port
    assert "k is down" not in port
    there = texts(causes(plan, *silent, "p otherwise counted", "l 10 counted"))
    assert "k is down" in there
    assert not {"h is down", stays} & set(there)


def test_counters_that_were_read_are_seen_as_far_as_they_say_something(plan_of: Read) -> None:
    network = Network(plan_of(NET))
    seen = observed(network, ("h to k tcp/22 silent", "l 20 counted"), None)
    hits = {
        DeciderKey("l", 10): 0,
        DeciderKey("l", 20): 0,  # somebody told otherwise
        DeciderKey("l", 30): 9,  # no test is to reach it: others did
        DeciderKey("l", None): 0,
    }
    found = with_counters(network, When(NOON), seen, hits)
    assert [str(each) for each in found.counts] == [
        "l 20 counted",
        "l 10 did not count",
        "l otherwise did not count",
    ]
    (first,) = with_counters(network, When(NOON), seen, {DeciderKey("l", 10): 1}).counts[1:]
    assert first.counted
    unread = dict.fromkeys(hits, 0)
    assert with_counters(network, When(NOON), seen, unread).counts == seen.counts


def test_two_faults_where_one_is_not_enough(plan_of: Read) -> None:
    plan = plan_of(
        NET.replace("router r", "router r stateful")
        + "list m extended ipv4\n    deny tcp/80 k to h\n    permit ip any to any\n"
        "place m inbound on r.b\n"
    )
    found = causes(
        plan,
        "h to k tcp/22 silent",
        "h to k udp/53 answered",
        "i to k udp/53 answered",
        "k to h tcp/80 answered",
    )
    assert len(found.ranked[0].faults) == 2
    assert not found.ranked[0].not_explained
    assert {each.text.split()[0] for each in found.ranked[0].faults} == {"l", "m"}


@pytest.mark.parametrize(
    ("given", "message"),
    [
        (("h to k",), "tells nothing that was seen"),
        (("h to k tcp/22 maybe",), "maybe says nothing; write answered"),
        (("h to nobody tcp/22 silent",), "nobody"),
        (("l 15 did not count",), "no entry of l 15"),
        (("x 10 counted",), "no list x"),
        (("h to k tcp/22 silent", "h to k tcp/22 answered"), "contradicts"),
        (("l 10 counted", "l 10 did not count"), "contradicts"),
    ],
)
def test_what_says_nothing_is_told(plan_of: Read, given: tuple[str, ...], message: str) -> None:
    with pytest.raises(Exception, match=message):
        causes(plan_of(NET), *given)


def test_the_command_names_the_next_test(demo: Path, run: Any, answer: Any) -> None:
    given = (
        "kiosk-1 to manifest tcp/8443 silent",
        "kiosk-1 to manifest telnet silent",
        "kiosk-1 to crane-2 ping silent",
    )
    at = ("-4", "--at", "2026-11-30 12:00")
    done = run("cause", *given, *at)
    assert done.returncode == 1
    assert "2 of 3 observations not as the plan says" in done.stdout
    assert "3 of 3  kiosk-fence is applied outbound on lighthouse.v80 and not" in done.stdout
    assert "to tell more, on kiosk-1" in done.stdout
    told = answer("cause", *given, *at, status=1)
    assert told["next"]["first"] != told["next"]["other"]
    fine = run("cause", "kiosk-1 to manifest tcp/8443 answered", *at)
    assert (fine.returncode, fine.stdout) == (0, "all 1 observation are as the plan says\n")


def test_an_older_list_and_a_filled_in_sheet(demo: Path, run: Any) -> None:
    def git(*words: str) -> None:
        subprocess.run(
            ["git", "-c", "user.name=x", "-c", "user.email=x@example.org", *words],
            cwd=demo,
            check=True,
            capture_output=True,
        )

    plan = demo / "ternhaven.gate"
    now = plan.read_text()
    git("init", "-q")
    plan.write_text(now.replace("    10 permit booking    tickets to manifest\n", ""))
    git("add", "-A")
    git("commit", "-qm", "before")
    plan.write_text(now)
    (demo / "seen.csv").write_text(
        "machine,command,seen\n"
        "kiosk-1,curl --connect-timeout 3 telnet://10.64.20.10:8443,silence\n"
        "kiosk-1,curl --connect-timeout 3 telnet://10.64.20.10:23,refused\n"
        "kiosk-1,dig +time=3 +tries=1 @10.64.20.53 example.com,an answer\n"
    )
    done = run("cause", "seen.csv", "--since", "HEAD", "--every", "--at", "2026-11-30 12:00")
    assert done.returncode == 1, done.stderr
    assert "3 of 3  kiosk-fence runs as it was in the older version" in done.stdout


def test_the_tally_is_what_lines_counted_meanwhile(demo: Path, run: Any, answer: Any) -> None:
    tests = "kiosk-1 to manifest booking silent", "kiosk-1 to crane-2 ping silent"
    words = ("-4", "--at", "2026-11-30 12:00", "--every")
    every = answer("cause", *tests, *words, status=1)
    run("trace", "kiosk-2", "resolver", "domain", "-4", "--tally", *words[1:3])
    read = answer("cause", *tests, *words, "--tally", status=1)
    assert read["observations"] > every["observations"]
    assert "kiosk-fence 10 did not count" in read["wrong"]
    best = [each["faults"] for each in read["causes"] if not each["not_explained"]]
    assert ["kiosk-1 is down"] in best
    assert ["manifest is down"] not in best  # the fence would have counted
    assert ["manifest is down"] in [each["faults"] for each in every["causes"]]
