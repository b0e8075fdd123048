"""What the shell is offered, through the variables by which each shell asks."""

from __future__ import annotations

import os
import subprocess
import sys
from collections.abc import Callable
from pathlib import Path

import pytest

from crossgate.core.model.entry import Entry
from crossgate.language import entries
from crossgate.language.words import Words
from tests.conftest import Run

Offer = Callable[..., set[str]]


@pytest.fixture
def offer(run: Run, monkeypatch: pytest.MonkeyPatch) -> Offer:
    """Return what is offered for a line that is being typed."""

    def offered(line: str, shell: str = "bash") -> set[str]:
        monkeypatch.setenv("_CROSSGATE_COMPLETE", f"complete_{shell}")
        line = f"crossgate {line}"
        monkeypatch.setenv("COMP_WORDS", line)
        monkeypatch.setenv("COMP_CWORD", str(line.count(" ")))
        monkeypatch.setenv("_TYPER_COMPLETE_ARGS", line)
        monkeypatch.setenv("_TYPER_COMPLETE_FISH_ACTION", "get-args")
        done = run()
        assert done.stderr == ""
        return {each for each in done.stdout.split("\n") if each}

    return offered


NAMES = [
    ("tra", {"trace"}),
    ("en", {"entry"}),
    ("entry dr", {"drop"}),
    ("trace kiosk", {"kiosk-1", "kiosk-2"}),
    ("trace kiosk-1,kio", {"kiosk-1,kiosk-2"}),
    ("trace serv", {"servers"}),
    ("trace kiosk-1 manifest book", {"booking"}),
    ("trace kiosk-1 manifest https --as man", {"manifest"}),
    ("lists kiosk-f", {"kiosk-fence", "kiosk-fence6"}),
    ("lists --on pier.b", {"pier.b1", "pier.b2", "pier.b3"}),
    ("entry drop kiosk-fence 3", {"30"}),
    ("entry drop 12 ", {"10", "20", "30"}),
    ("fence berth", {"berth-1", "berth-2", "berth-3"}),
    ("fence berth-1 --except mani", {"manifest"}),
    (
        "place 12 inbound lighthouse.v",
        {"lighthouse.v80", "lighthouse.v160", "lighthouse.v200", "lighthouse.v400"},
    ),
    ("place 12 in", {"inbound"}),
    ("lift kiosk-p", {"kiosk-port"}),
    ("reach guest", {"guests", "guest-1"}),
    ("grid --from guest", {"guests", "guest-1"}),
    ("grid ping --to cra", {"crane-1", "crane-2", "cranes"}),
    ("verify --without pi", {"pier", "pier.up", "pier.b1", "pier.b2", "pier.b3"}),
    ("compare --list guest-fence", {"guest-fence", "guest-fence6"}),
    ("tally guest-fence", {"guest-fence", "guest-fence6"}),
    ("tally cl", {"clear"}),
    ("wild cover 10.64.16.", {"10.64.16.11", "10.64.16.12"}),
    ("points guest-1 crane", {"crane-1", "crane-2"}),
    ("trace guests leas", {"lease"}),
    ("help half", {"half-open"}),
    ("check --str", {"--strict"}),
]


@pytest.mark.parametrize(("line", "offers"), NAMES)
def test_the_plans_own_names_are_offered(
    offer: Offer, demo: Path, line: str, offers: set[str]
) -> None:
    assert offer(line) == offers


@pytest.mark.parametrize("shell", ["zsh", "fish"])
def test_every_shell_is_answered(offer: Offer, demo: Path, shell: str) -> None:
    told = " ".join(offer("trace kiosk-1 mani", shell))
    assert ("manifest" in told, "kiosk" in told) == (True, False)
    assert "crane-1" in " ".join(offer("trace kiosk-1 ", shell))


@pytest.mark.parametrize(
    "line",
    [
        "--plan other.gate trace o",
        "trace --plan other.gate o",
        "--plan=other.gate trace o",
        "trace --plan=other.gate o",
    ],
)
def test_the_plan_is_the_one_that_the_line_names(offer: Offer, demo: Path, line: str) -> None:
    (demo / "other.gate").write_text("subnet n 10.0.0.0/24\nhost one 10.0.0.1 on n\n")
    assert offer(line) == {"one"}


def test_a_plan_as_a_word_counts_too(offer: Offer, demo: Path) -> None:
    (demo / "other.gate").write_text("list only-here standard ipv4\n")
    assert offer("lists other.gate on") == {"only-here"}
    assert offer("lists only") == set()  # two plans, and none is named
    assert offer("--plan ternhaven.gate lists other.gate on") == {"only-here"}  # the line is wrong


def test_a_plan_with_errors_offers_what_is_right_in_it(offer: Offer, demo: Path) -> None:
    plan = demo / "ternhaven.gate"
    plan.write_text(
        plan.read_text()
        + "host half 10.64.8.\nsubnte x\nlist more standard ipv4\n    10 permit\n    20 deny any\n"
    )
    assert offer("trace kiosk") == {"kiosk-1", "kiosk-2"}
    assert offer("lists mor") == {"more"}
    assert offer("entry drop more ") == {"20"}
    plan.write_bytes(b"\xff\xfe\0")
    assert offer("trace kiosk") == set()


LARGE = (
    "subnet n 10.0.0.0/24\nhost one 10.0.0.1 on n\nlist big extended ipv4\n"
    + "    permit tcp/443 10.0.0.0/24 to 192.0.2.1\n" * 10_000
    + "list small standard ipv4\n    10 deny any\n"
)


def test_a_completion_reads_no_entries_that_are_not_asked_for(
    offer: Offer, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    read: list[str] = []
    real = entries._EntryReader.entry

    def counted(reader: entries._EntryReader, words: Words, next_number: int) -> Entry:
        read.append(words.line.text)
        return real(reader, words, next_number)

    monkeypatch.setattr(entries._EntryReader, "entry", counted)
    (tmp_path / "large.gate").write_text(LARGE)
    assert offer("trace o") == {"one"}
    assert offer("entry drop small ") == {"10"}
    assert len(read) == 1
    assert len(offer("entry drop big 999")) == 11
    assert len(read) == 10_001


@pytest.mark.process
def test_a_completion_loads_one_commands_module(demo: Path) -> None:
    program = (
        "import sys, atexit; sys.argv = ['crossgate']; from crossgate.__main__ import main\n"
        "atexit.register(lambda: print(*(n for n in sys.modules if "
        "n.startswith('crossgate.commands.')), file=sys.stderr)); main()"
    )
    asks = {
        "_CROSSGATE_COMPLETE": "complete_bash",
        "COMP_WORDS": "crossgate trace kiosk",
        "COMP_CWORD": "2",
    }
    done = subprocess.run(
        [sys.executable, "-c", program],
        cwd=demo,
        env=os.environ | asks,
        capture_output=True,
        text=True,
        check=False,
    )
    assert set(done.stdout.split()) == {"kiosk-1", "kiosk-2"}
    loaded = {each.rpartition(".")[2] for each in done.stderr.split()}
    assert ("trace" in loaded, loaded & {"grid", "entry", "verify"}) == (True, set())
