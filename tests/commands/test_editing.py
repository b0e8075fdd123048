"""The commands that write: what they show first, what they refuse, and that a file is the old or
the new one, whole.
"""

from __future__ import annotations

import re
import stat
import sys
from collections.abc import Callable
from pathlib import Path
from typing import Any

import pytest

from crossgate.core.conversation.opening import conversations
from crossgate.core.conversation.packets import Tracer
from crossgate.core.network.endpoints import pairs
from crossgate.core.network.ways import Network
from crossgate.language.reader import read_plan
from tests.conftest import Run

Ask = Callable[..., Any]


@pytest.fixture
def plan(demo: Path) -> Path:
    return demo / "ternhaven.gate"


def test_an_entry_goes_where_it_has_an_effect_and_the_rest_stays(run: Run, plan: Path) -> None:
    before = plan.read_text()
    done = run("entry", "add", "guest-fence", "permit ntp guests to manifest", "--effective")
    assert done.returncode == 0, done.stdout + done.stderr
    assert (
        "guest-fence gets 15, placed after 10, before 20 (deny ip any to terminal), which takes "
        "all of it"
    ) in done.stdout
    assert "is  permitted by guest-fence 15" in done.stdout
    assert done.stdout.rstrip().endswith("written")
    line = "    10 permit domain guests to resolver\n"
    at = before.index(line, before.index("list guest-fence extended")) + len(line)
    assert (
        plan.read_text() == before[:at] + "    15 permit ntp    guests to manifest\n" + before[at:]
    )


SIMPLE = (
    "subnet one 10.1.0.0/24\nsubnet two 10.2.0.0/24\nrouter r\n    interface a 10.1.0.1/24\n    "
    "interface b 10.2.0.1/24\nhost h 10.1.0.5\n"
    "window night daily 22:00-06:00\nlist l {} ipv4\n{}place l inbound on r.a\n"
)


@pytest.mark.parametrize(
    ("kind", "entries", "text", "told"),
    [
        ("extended", ["permit udp one to two"], "deny tcp/22 one to two", []),
        (
            "extended",
            ["deny tcp any to any"],
            "permit tcp/80 one to two",
            [
                "10 (deny tcp any to any) takes all of it",
                "nothing is left for it; to have all of it: --before 10",
            ],
        ),
        (
            "extended",
            ["permit tcp/1-1023 any to any"],
            "permit tcp/80 one to two",
            ["it changes nothing: 10 permits all of it already"],
        ),
        (
            "extended",
            ["permit tcp/80 any to any", "permit tcp/81 any to any"],
            "permit tcp/80-81 one to two",
            ["it changes nothing: 10 and 20 permit all of it already"],
        ),
        (
            "extended",
            ["deny udp h to any", "permit tcp/80 h to two"],
            "deny tcp/80-81 one to two",
            ["20 (permit tcp/80 h to two) takes http h to two", "to have all of it: --before 20"],
        ),
        (
            "extended",
            ["permit tcp/80 h to two during night"],
            "deny tcp/80 h to two",
            [
                "10 (permit tcp/80 h to two during night) takes http h to two",
                "to have all of it: --before 10",
            ],
        ),
        ("extended", ["off deny tcp any to any"], "permit tcp/80 one to two", []),
        (
            "standard",
            ["permit h"],
            "deny one",
            ["10 (permit h) takes h", "to have all of it: --before 10"],
        ),
    ],
)
def test_an_entry_goes_to_the_end_and_what_it_does_not_get_is_told(
    answer: Ask, tmp_path: Path, kind: str, entries: list[str], text: str, told: list[str]
) -> None:
    (tmp_path / "p.gate").write_text(
        SIMPLE.format(kind, "".join(f"    {each}\n" for each in entries))
    )
    document = answer(
        "entry",
        "add",
        "l",
        text,
        "--dry-run",
        status=1
        if "nothing is left" in " ".join(told) or "changes nothing" in " ".join(told)
        else 0,
    )
    assert document["change"] == f"l gets {len(entries) + 1}0, at the end"
    assert document["remarks"] == told


def test_an_edit_that_breaks_a_keep_is_refused_and_can_be_forced(
    run: Run, answer: Ask, plan: Path
) -> None:
    before = plan.read_bytes()
    words = ("entry", "add", "duty-only", "deny harbour", "--number", "5")
    done = run(*words)
    assert done.returncode == 1
    assert "breaks" in done.stdout
    assert "refused: it breaks 1 keep; nothing is written" in done.stdout
    document = answer(*words, status=1)
    assert (document["schema"], document["written"], document["refused"]) == (
        "crossgate/edit/1",
        False,
        "it breaks 1 keep",
    )
    assert [(each["kind"], each["held"], each["holds"]) for each in document["expectations"]] == [
        ("keep", True, False)
    ]
    assert document["differences"][0]["was"]["verdict"] == "permitted"
    assert [finding["finding"] for finding in document["findings"]] == ["never-reached"]
    assert plan.read_bytes() == before
    assert run(*words, "--anyway").returncode == 0
    assert "    5  deny   harbour\n" in plan.read_text()
    assert run("verify").returncode == 1


def test_a_dry_run_writes_nothing(run: Run, plan: Path) -> None:
    before = plan.read_bytes()
    done = run("entry", "drop", "kiosk-fence", "20", "--dry-run", "--anyway")
    assert (done.returncode, plan.read_bytes() == before) == (0, True)
    assert "this was a dry run" in done.stdout


@pytest.mark.usefixtures("plan")
@pytest.mark.parametrize(
    "entry",
    ["permit ip any to any", "deny udp any to any", "permit tcp/22 any to any source port 20-"],
)
def test_a_preview_names_no_option_that_its_command_lacks(run: Run, entry: str) -> None:
    told = run("entry", "add", "kiosk-fence", entry, "--number", "1", "--dry-run").stdout
    named = set(re.findall(r"--[a-z][a-z-]+", told))
    assert named
    assert named <= set(re.findall(r"--[a-z][a-z-]+", run("entry", "add", "--help").stdout))


@pytest.mark.usefixtures("plan")
@pytest.mark.parametrize(
    "words",
    [
        ("entry", "add", "kiosk-fence", "permit ip any to any", "--number", "1"),
        ("fence", "berth-3"),
        ("undo",),
    ],
)
def test_what_a_preview_leaves_out_is_shown_by_the_option_that_it_names(
    run: Run, words: tuple[str, ...]
) -> None:
    if words == ("undo",):
        run("entry", "add", "kiosk-fence", "permit ip any to any", "--number", "1", "--anyway")
    told = run(*words, "--dry-run").stdout
    assert "--all shows all" in told
    more = run(*words, "--dry-run", "--all").stdout
    assert "left out" not in more
    assert "more; --" not in more
    assert len(more.splitlines()) > len(told.splitlines())


@pytest.mark.usefixtures("plan")
def test_what_differs_from_other_source_ports_is_shown_when_asked(run: Run) -> None:
    words = ("entry", "drop", "kiosk-fence", "10", "--dry-run")
    told = run(*words).stdout
    assert "(--source-ports)" in told
    assert "source port 8443,9443" not in told
    assert "source port 8443,9443" in run(*words, "--source-ports").stdout


def test_an_expectation_that_comes_to_hold_is_told(run: Run, plan: Path) -> None:
    plan.write_text(plan.read_text() + "expect permit ntp guest-1 to manifest over ipv4\n")
    assert run("verify").returncode == 1
    assert (
        "holds now"
        in run("entry", "add", "guest-fence", "permit ntp guests to manifest", "--effective").stdout
    )
    assert run("verify").returncode == 0


def test_entries_are_moved_changed_and_switched(run: Run, plan: Path) -> None:
    assert run("entry", "move", "guest-fence", "30", "--before", "20", "--anyway").returncode == 0
    assert [entry.number for entry in read_plan(plan).lists["guest-fence"].entries] == [10, 15, 20]
    assert run("entry", "move", "guest-fence", "15", "--after", "20").returncode == 0
    assert (
        run("entry", "change", "guest-fence", "10", "permit dns guests to resolver").returncode == 0
    )
    assert run("entry", "off", "guest-fence", "10").returncode == 0
    assert "    10 off permit dns guests to resolver\n" in plan.read_text()
    assert "nothing is to be written" in run("entry", "off", "guest-fence", "10").stdout
    assert run("entry", "on", "guest-fence", "10").returncode == 0
    assert run("entry", "drop", "guest-fence", "10").returncode == 0
    assert [entry.text for entry in read_plan(plan).lists["guest-fence"].entries] == [
        "deny ip any to terminal",
        "permit ip guests to any",
    ]


def test_lists_are_made_numbered_placed_lifted_and_dropped(run: Run, plan: Path) -> None:
    before = plan.read_text()
    assert run("list", "new", "extra", "extended", "ipv4").returncode == 0
    assert run("entry", "add", "extra", "permit ip any to any").returncode == 0
    assert run("entry", "add", "extra", "deny tcp/23 any to any", "--effective").returncode == 0
    assert [entry.number for entry in read_plan(plan).lists["extra"].entries] == [5, 10]
    assert run("list", "renumber", "extra", "--start", "100", "--step", "100").returncode == 0
    assert [entry.number for entry in read_plan(plan).lists["extra"].entries] == [100, 200]
    placed = run("place", "extra", "inbound", "subnet", "cargo")
    assert (placed.returncode, "extra is placed inbound on subnet cargo" in placed.stdout) == (
        0,
        True,
    )
    refused = run("list", "drop", "extra")
    assert (refused.returncode, "crossgate lift extra" in refused.stderr) == (2, True)
    assert run("lift", "extra", "inbound", "subnet", "cargo").returncode == 0
    assert run("list", "drop", "extra").returncode == 0
    assert plan.read_text().replace("\n\n\n", "\n\n") == before


@pytest.mark.parametrize(
    ("words", "says"),
    [
        (
            ("entry", "add", "kiosk-fence", "permit tcp/99999 any to any"),
            "the text given:1:12: 99999 is no port",
        ),
        (
            ("entry", "add", "kiosk-fence", "permit ip any to any", "--number", "30"),
            "has an entry 30 in line",
        ),
        (("place", "kiosk-fence", "in", "lighthouse.v80"), "write inbound, not in"),
        (("lift", "kiosk-fence", "Out", "lighthouse.v80"), "write outbound, not Out"),
        (
            ("place", "kiosk-fence", "lighthouse.v80", "inbound"),
            "not lighthouse.v80; the direction stands before the place",
        ),
        (
            (
                "entry",
                "add",
                "kiosk-fence",
                "permit ip any to any",
                "--before",
                "10",
                "--after",
                "20",
            ),
            "exclude each other",
        ),
        (("entry", "add", "kiosk-fense", "permit ip any to any"), "there is kiosk-fence"),
        (("entry", "drop", "kiosk-fence", "33"), "no entry in list kiosk-fence with number 33"),
        (("entry", "move", "kiosk-fence", "10"), "say where to"),
        (("entry", "move", "kiosk-fence", "10", "--before", "10"), "cannot be moved beside itself"),
        (
            ("entry", "change", "kiosk-fence", "10", "20 permit ip any to any"),
            "leave the number out",
        ),
        (("list", "new", "12", "standard", "ipv4"), "there is a list 12 already"),
        (("list", "new", "x", "standard", "ipv5"), "there are ipv4, ipv6, ethernet"),
        (("list", "new", "9x", "standard", "ipv4"), "cannot name a list"),
        (("place", "12", "inbound", "lighthouse.v99"), "no interface or port lighthouse.v99"),
        (
            ("place", "guest-fence", "inbound", "lighthouse.v80"),
            "kiosk-fence stands inbound on lighthouse.v80 already",
        ),
        (("lift", "12", "inbound"), "it stands outbound on lighthouse.v160"),
        (("fence", "nowhere"), "no subnet nowhere"),
        (("fence", "berth-2", "--except", "berth-2"), "berth-2 is the subnet to be fenced off"),
        (("fence", "berth-2", "--undo"), "there is no fence around berth-2"),
        (("fence", "berth-2", "--except", "nobody"), "no host, subnet, group or device nobody"),
        (("fence", "berth-2", "--allow", "nonsense"), "--allow nonsense"),
    ],
)
def test_what_cannot_be_edited_is_told_and_nothing_is_lost(
    run: Run, plan: Path, words: tuple[str, ...], says: str
) -> None:
    before = plan.read_bytes()
    done = run(*words)
    assert done.returncode == 2
    assert says in done.stderr
    assert plan.read_bytes() == before


def test_an_edit_that_leaves_errors_is_refused(run: Run, answer: Ask, plan: Path) -> None:
    before = plan.read_bytes()
    done = run("entry", "drop", "kiosk-fence", "30", "--anyway")
    assert done.returncode == 1
    assert "refused: the plan would have errors; nothing is written" in done.stdout
    assert "no entry in list kiosk-fence with number 30" in done.stdout
    assert answer("entry", "drop", "kiosk-fence", "30", status=1)["errors"]
    assert plan.read_bytes() == before


def test_line_endings_tabs_and_a_missing_last_newline_stay(run: Run, tmp_path: Path) -> None:
    path = tmp_path / "win.gate"
    path.write_bytes(
        b"list l extended ipv4\r\n\t10\tpermit tcp any to any   # keep\r\n\r\n\t# odd\r\n\t20 deny ip any to any"
    )
    assert (
        run("entry", "add", "l", "deny udp any to any", "--after", "20", "--anyway").returncode == 0
    )
    assert run("entry", "add", "l", "permit gre any to any", "--number", "15").returncode == 0
    assert path.read_bytes() == (
        b"list l extended ipv4\r\n\t10\tpermit tcp any to any   # keep\r\n\t15 permit gre any to any\r\n\r\n\t# odd\r\n"
        b"\t20 deny ip any to any\r\n\t30 deny udp any to any"
    )


def test_an_only_line_guards_edits(run: Run, plan: Path) -> None:
    opens = run("entry", "add", "berth-1-in", "permit ping gate-1 to manifest")
    assert (
        opens.returncode,
        "breaks  214  expect only nothing gate-1 to elsewhere" in opens.stdout,
    ) == (1, True), opens.stdout
    closes = run("entry", "drop", "berth-1-in", "10")
    assert "breaks  211  expect only crane-bus gate-1 to cranes" in closes.stdout
    # What other `only` lines permit counts: without this one, what it permitted is denied by the
    # other.
    plan.write_text(
        plan.read_text().replace(
            "expect only      crane-bus gate-1", "#xpect only      crane-bus gate-1"
        )
    )
    assert run("verify").returncode == 1


def test_a_new_error_refuses_the_edit(run: Run, answer: Ask, plan: Path) -> None:
    before = plan.read_bytes()
    words = ("entry", "add", "guest-fence", "permit ip guests to visitor", "--after", "30")
    done = run(*words)
    assert (done.returncode, plan.read_bytes()) == (1, before)
    assert (
        "refused: it brings a new error: never-reached; nothing is written, --anyway writes it"
        in done.stdout
    )
    assert answer(*words, status=1)["refused"] == "it brings a new error: never-reached"
    assert run(*words, "--anyway").returncode == 0
    # A new warning is told, and no reason to refuse.
    told = run("lift", "kiosk-port")
    assert (told.returncode, "warning unplaced" in told.stdout) == (0, True)


def test_a_tidy_plan_stays_tidy_and_another_as_it_is(run: Run, plan: Path) -> None:
    assert (
        run(
            "entry",
            "add",
            "guest-fence",
            "permit udp/33434-33534 guests to manifest",
            "--effective",
        ).returncode
        == 0
    )
    assert (
        "    15 permit udp/33434-33534 guests to manifest\n    20 deny   ip              any    "
        "to terminal\n"
    ) in plan.read_text()
    assert run("tidy", "--check").returncode == 0
    plan.write_text(plan.read_text().replace("place sea6         inbound", "place sea6 inbound"))
    assert run("entry", "drop", "guest-fence", "15").returncode == 0
    assert "    20 deny   ip              any    to terminal\n" in plan.read_text()


def test_a_list_is_moved_in_one_step(run: Run, answer: Ask, plan: Path) -> None:
    text = plan.read_text().replace(
        "place 12           outbound on lighthouse.v160",
        "place 12           outbound on lighthouse.v160  # cranes",
    )
    plan.write_text(text)
    document = answer("place", "12", "inbound", "lighthouse.up", "--move", "--anyway")
    assert (
        document["change"]
        == "12 is moved from outbound on lighthouse.v160 to inbound on lighthouse.up"
    )
    assert plan.read_text() == text.replace(
        "outbound on lighthouse.v160  # cranes", "inbound  on lighthouse.up  # cranes"
    )
    assert [each["point"] for each in answer("lists", "12")["lists"][0]["placed"]] == [
        "lighthouse.up"
    ]
    assert (
        "duty-only6 stands inbound on lighthouse itself already"
        in run("place", "sea6", "inbound", "lighthouse itself", "--move").stderr
    )
    assert run("place", "12", "outbound", "lighthouse.v160", "--anyway").returncode == 0
    assert (
        "12 stands inbound on lighthouse.up and outbound on lighthouse.v160; first"
        in run("place", "12", "inbound", "pier.up", "--move").stderr
    )
    assert run("lift", "12", "--anyway").returncode == 0
    assert (
        "12 stands nowhere; leave --move out"
        in run("place", "12", "inbound", "pier.up", "--move").stderr
    )


ONE = "list l standard ipv4\n    10 permit any\n\nplace l inbound on r.a\n"
TOP = "router r\n    interface a 10.0.0.1/24 on n\n\nsubnet n 10.0.0.0/24\n\n"


@pytest.mark.parametrize(
    "text",
    [
        TOP + ONE,
        TOP + ONE.removesuffix("\n"),
        TOP + ONE.replace("\n", "\r\n"),
        ONE
        + "\n"
        + TOP.removesuffix("\n")
        + "\nlist m standard ipv4\n    10 permit any\n\nplace m outbound on r.a\n",
    ],
)
def test_a_lift_then_a_place_leaves_the_file_as_it_was(run: Run, tmp_path: Path, text: str) -> None:
    plan = tmp_path / "net.gate"
    plan.write_bytes(text.encode())
    assert run("lift", "l", "--anyway").returncode == 0
    lifted = plan.read_text()
    assert ("\n\n\n" in lifted, lifted.endswith("\n\n"), "place l" in lifted) == (
        False,
        False,
        False,
    )
    assert run("place", "l", "inbound", "r.a").returncode == 0
    if "place m" not in text:
        assert plan.read_bytes() == text.encode()
    assert run("list", "new", "other", "standard", "ipv4").returncode == 0
    assert run("list", "drop", "other").returncode == 0
    assert "\n\n\n" not in plan.read_text()


def test_a_fence_is_written_placed_and_proved(run: Run, answer: Ask, plan: Path) -> None:
    done = run("fence", "berth-2", "--except", "manifest")
    assert done.returncode == 0, done.stdout + done.stderr
    read = read_plan(plan)
    assert {"fence-berth-2-out", "fence-berth-2-in"} <= read.lists.keys()
    assert run("verify").returncode == 0
    assert "permit ip berth-2 to manifest" in [
        entry.text for entry in read.lists["fence-berth-2-out"].entries
    ]
    told = [" ".join(each.text.split()) for each in read.expectations]
    assert "expect only dns and dhcp and ping berth-2 to pier.b2 over ipv4" in told
    assert (
        "not to be proved, and left out: expect deny ip berth-2 to harbour over ipv4" in done.stdout
    )
    (only,) = [
        each for each in answer("reach", "berth-2", "cargo")["answers"] if not each["devices"]
    ]
    assert {part["verdict"] for part in only["parts"]} == {"denied"}
    (out,) = [
        each
        for each in answer("reach", "berth-2", "internet")["answers"]
        if each["family"] == 4 and not each["devices"]
    ]
    assert "permitted" in {part["verdict"] for part in out["parts"]}


def test_a_fence_one_way_lets_answers_out(run: Run, answer: Ask, tmp_path: Path) -> None:
    (tmp_path / "net.gate").write_text(
        "subnet a 10.0.1.0/24 2001:db8:1::/64\nsubnet b 10.0.2.0/24 2001:db8:2::/64\n"
        "router r\n    interface a 10.0.1.1/24 2001:db8:1::1/64 on a\n    interface b 10.0.2.1/24 "
        "2001:db8:2::1/64 on b\n"
        "host one 10.0.1.9 2001:db8:1::9 on a\nhost two 10.0.2.9 2001:db8:2::9 on b\n"
    )
    assert run("fence", "a", "--one-way").returncode == 0
    for service in ("https", "udp/53", "ping"):
        assert run("trace", "two", "one", service, "--expect", "permit").returncode == 0
        assert run("trace", "one", "two", service, "--expect", "deny").returncode == 0
    assert run("trace", "one", "r.a", "dns", "--expect", "permit").returncode == 0
    assert run("trace", "one", "r.a", "ssh", "--expect", "deny").returncode == 0
    assert answer("verify")["failed"] == 0


def test_a_fence_at_a_closed_place_leaves_the_outside_closed(run: Run, tmp_path: Path) -> None:
    text = (
        "outside sea\nsubnet a 10.0.1.0/24\nsubnet b 10.0.2.0/24\nrouter r closed\n"
        "    interface a 10.0.1.1/24\n    interface b 10.0.2.1/24\n"
        "    interface out 203.0.113.1/30 on sea\nhost one 10.0.1.9\n"
    )
    for kind, told, wanted in (
        ("", "open: the outside, dns,", "permit"),
        (" closed", "open: dns, dhcp, ping at its gateway\nr.a is closed: ", "deny"),
    ):
        (tmp_path / "net.gate").write_text(text.replace(" closed", kind))
        assert told in run("fence", "a").stdout
        sent = run("trace", "one", "198.51.100.1", "udp/53", "--expect", wanted)
        assert "inbound" in sent.stdout
        denied = "denied: fence-a-out" in sent.stdout
        assert denied is (wanted == "deny")


def verdict(plan: Path, source: str, destination: str, service: str) -> str:
    """Trace in this process, over the first family that both have."""
    network = Network(read_plan(plan))
    start, end = pairs(network, source, destination)[0]
    wanted = conversations(network.plan.service(service, start.address.family), start, end)
    return str(Tracer(network).trace(wanted[0]).verdict)


FENCED = """
subnet guest 10.0.1.0/24 2001:db8:1::/64
subnet b     10.0.2.0/24 2001:db8:2::/64
subnet c     10.0.3.0/24
outside world
router r
    interface g 10.0.1.1/24    2001:db8:1::1/64 on guest
    interface b 10.0.2.1/24    2001:db8:2::1/64 on b
    interface o 203.0.113.2/30 2001:db8:f::2/64 on world
router q
    interface g 10.0.1.2/24 on guest
    interface c 10.0.3.1/24 on c
host one 10.0.1.9 2001:db8:1::9 on guest
"""


@pytest.mark.parametrize(
    ("options", "ending"),
    [
        (("--allow", ""), "\n"),
        ((), ""),
        (("--one-way",), "\n"),
        (("--allow", "ssh", "--except", "c,q"), "\n\n"),
    ],
)
def test_a_fence_closes_its_gateways_is_tidy_adds_no_finding_and_is_undone_to_the_byte(
    run: Run, answer: Ask, tmp_path: Path, options: tuple[str, ...], ending: str
) -> None:
    plan = tmp_path / "net.gate"
    plan.write_text(FENCED.strip() + ending)
    assert run("tidy").returncode == 0
    before = plan.read_bytes()
    document = answer("fence", "guest", *options)
    assert (document["written"], document["findings"]) == (True, [])
    verified = answer("verify")
    assert any(" to r.g over" in each["text"] for each in verified["expectations"])
    for gateway in ("r.g", "r.b", "r.o", "q.g"):
        for service in ("ssh", "https", "udp/161", "domain", "ping"):
            open_here = (
                service in {"domain": "domain", "ping": "ping"}
                and "--allow" not in options
                and gateway.endswith(".g")
            )
            open_here = (
                open_here
                or (service == "ssh" and "ssh" in options and gateway.endswith(".g"))
                or ("c,q" in options and gateway[0] == "q")
            )
            assert verdict(plan, "one", gateway, service) == (
                "permitted" if open_here else "denied"
            ), (gateway, service)
    assert verdict(plan, "one", "fe80::1", "ssh") == ("permitted" if "ssh" in options else "denied")
    assert verdict(plan, "one", "2001:db8:1::1", "icmp/135") == "permitted"
    assert verdict(plan, "one", "198.51.100.1", "https") == "permitted"
    assert run("tidy", "--check").returncode == 0
    assert run("fence", "guest", "--undo", "--anyway").returncode == 0
    assert plan.read_bytes() == (before if ending != "\n\n" else before[:-1])


def test_tidy_sets_a_plan_in_one_layout(run: Run, tmp_path: Path) -> None:
    path = tmp_path / "untidy.gate"
    path.write_text(
        "list l extended ipv4\n    20 deny ip any to any log\n    10 permit tcp/80   10.0.0.9/24 "
        "to any # web\n"
    )
    check = run("tidy", "--check")
    assert (check.returncode, "untidy.gate is tidied" in check.stdout) == (1, True)
    assert "20 deny ip" in path.read_text().split("\n")[1]
    done = run("tidy")
    assert (
        done.returncode,
        "no packet with a true source address is treated otherwise" in done.stdout,
    ) == (0, True)
    assert path.read_text() == (
        "list l extended ipv4\n    10 permit tcp/80 10.0.0.0/24 to any  # web\n    20 deny   ip   "
        "  any         to any log\n"
    )
    assert run("tidy", "--check").returncode == 0


def test_a_plan_of_ten_thousand_entries_is_edited(run: Run, tmp_path: Path) -> None:
    sys.path.insert(0, str(Path(__file__).parents[2] / "benchmarks"))
    import synthetic

    path = tmp_path / "big.gate"
    path.write_text(synthetic.plan(10_000))
    done = run("entry", "add", "big", "permit tcp/443 10.1.2.0/24 to 10.3.4.0/24", "--number", "5")
    assert done.returncode == 0, done.stderr
    assert path.read_text().split("\n")[1] == "    5 permit tcp/443 10.1.2.0/24 to 10.3.4.0/24"


# ---- safe on disk
# -----


def test_permissions_and_links_stay(run: Run, plan: Path) -> None:
    real = plan.with_name("real.plan")
    plan.rename(real)
    plan.symlink_to(real.name)
    real.chmod(0o640)
    assert (
        run(
            "entry", "add", "guest-fence", "permit ntp guests to manifest", "--effective"
        ).returncode
        == 0
    )
    assert plan.is_symlink()
    assert stat.S_IMODE(real.stat().st_mode) == 0o640
    assert "ntp" in real.read_text()
    assert {path.name for path in plan.parent.iterdir() if ".new" in path.name} == set()


def test_a_place_where_nothing_is_asked_for_ends_in_a_question(run: Run, tmp_path: Path) -> None:
    text = (
        "subnet one 10.1.0.0/24\nsubnet two 10.2.0.0/24\nrouter r\n    interface a 10.1.0.1/24\n  "
        "  interface b 10.2.0.1/24\n"
        "list L extended ipv4\n    10 deny https one to two\n    20 deny udp two to one\n    30 "
        "off permit ip any to any\n    otherwise permit\n"
    )
    (tmp_path / "p.gate").write_text(text.replace("    20 deny udp two to one\n", ""))
    asked = (
        "is it meant there? no packet that comes by inbound on r.b is asked for by L; those "
        "of outbound on r.b are"
    )
    assert run("place", "L", "inbound", "r.b", "--dry-run").stdout.splitlines()[-2] == asked
    assert "is it meant" not in run("place", "L", "outbound", "r.b", "--dry-run").stdout
    (tmp_path / "p.gate").write_text(text)
    assert "is it meant" not in run("place", "L", "inbound", "r.b", "--dry-run").stdout


OCCUPIED = """subnet guest 10.9.0.0/24
subnet srv   10.2.0.0/24
subnet lab   10.3.0.0/24
outside net
router r
    interface g 10.9.0.1/24 on guest
    interface s 10.2.0.1/24 on srv
    interface l 10.3.0.1/24 on lab

router edge
    interface s 10.2.0.2/24    on srv
    interface w 203.0.113.1/30 on net

host one 10.9.0.9 on guest
host two 10.2.0.9 on srv

list own {kind} ipv4
    note "theirs"
    {first} {entry}
    otherwise permit

place own inbound on r.g
"""


def test_a_fence_goes_to_the_head_of_a_list_that_stands_already_and_is_undone(
    run: Run, tmp_path: Path
) -> None:
    plan = tmp_path / "net.gate"
    plan.write_text(OCCUPIED.format(kind="extended", first=20, entry="deny udp/5000 any to any"))
    assert run("tidy", "--check").returncode == 0
    before = plan.read_text()
    done = run("fence", "guest")
    assert done.returncode == 0, done.stdout + done.stderr
    text = plan.read_text()
    head = text[text.index("list own") : text.index("    20 deny")]
    assert head.count('"fence around guest"') == len(head.splitlines()) - 2
    assert re.search(r"place fence-guest-in +inbound on subnet guest", text)
    assert "fence-guest-out" not in text
    wanted = (
        ("two", "ssh", "denied"),
        ("r.g", "ssh", "denied"),
        ("r.s", "ping", "denied"),
        ("r.g", "ping", "permitted"),
        ("edge.w", "ssh", "denied"),
    )
    for end, service, told in wanted:
        assert verdict(plan, "one", end, service) == told, (end, service)
    assert run("verify").returncode == 0
    assert run("tidy", "--check").returncode == 0
    assert run("fence", "guest", "--undo", "--anyway").returncode == 0
    assert plan.read_text() == before
    assert "there is no fence around guest" in run("fence", "guest", "--undo").stderr


@pytest.mark.parametrize(
    ("kind", "first", "entry", "more", "told"),
    [
        (
            "standard",
            20,
            "deny one",
            "",
            "a standard list sees no destination; first: crossgate lift own inbound r.g",
        ),
        (
            "extended",
            20,
            "deny udp any to any",
            "place own outbound on r.s\n",
            "it stands outbound on r.s too",
        ),
        (
            "extended",
            3,
            "deny udp any to any",
            "",
            "numbers free before 3; first: crossgate list renumber own --start ",
        ),
    ],
)
def test_a_list_that_cannot_take_a_fence_is_told(
    run: Run, tmp_path: Path, kind: str, first: int, entry: str, more: str, told: str
) -> None:
    (tmp_path / "net.gate").write_text(OCCUPIED.format(kind=kind, first=first, entry=entry) + more)
    done = run("fence", "guest")
    assert (done.returncode, told in done.stderr) == (2, True), done.stderr


@pytest.mark.parametrize(
    ("words", "line"),
    [
        ("service add s tcp/22", "service s tcp/80,443, udp/53, tcp/22"),
        (
            "service add s tcp/22,23, udp/7 ,ping",
            "service s tcp/80,443, udp/53, tcp/22,23, udp/7, ping",
        ),
        ("service take s tcp/80,443", "service s udp/53"),
        ("group take g h", "group g k"),
        (
            "group add g 10.0.1.9,10.0.1.16 wild 0.0.0.3",
            "group g h, k, 10.0.1.9, 10.0.1.16 wild 0.0.0.3",
        ),
        ("group add g 10.0.1.9 10.0.1.7, a", "group g h, k, 10.0.1.9, 10.0.1.7, a"),
        ("group add g 10.0.1.9 but h", "but leaves something out of all members"),
        ("group add g 10.0.1.9,", "missing beside a comma"),
        ("service add s ,", "no service is named"),
    ],
)
def test_members_are_given_as_in_their_line(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch, run: Run, words: str, line: str
) -> None:
    monkeypatch.chdir(tmp_path)
    plan = tmp_path / "p.gate"
    plan.write_text(
        "subnet a 10.0.1.0/24\nhost h 10.0.1.5\nhost k 10.0.1.6\n"
        "service s tcp/80,443, udp/53\ngroup g h,k\n"
    )
    done = run("--plan", str(plan), *words.split())
    assert line in (done.stderr if done.returncode else plan.read_text())
