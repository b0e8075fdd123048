"""What help says: examples that run on the demo, and every word explained."""

from __future__ import annotations

import re
import shlex
from collections.abc import Iterator
from pathlib import Path

import pytest

from crossgate.commands import application
from crossgate.commands.table import COMMANDS
from crossgate.core.model.finding_kinds import KINDS
from crossgate.demo.chapters import CHAPTERS
from crossgate.language.device_lines import DEVICE_LINES
from crossgate.language.glossary import GROUPS, explained
from crossgate.language.syntax import STATEMENTS
from tests.conftest import Run

_LEFT_OUT = (
    "new office.gate --subnets",
    "demo",
    "watch",
    "compare --since",
    "since",
    "probe --as kiosk-1 --out",
    "cause kiosk-1.csv",
    "batch",
    "undo",
    "redo",
    "list drop spare",
    "fence berth-2 --undo",
    "entry on",
    "editor",
    "rehearse",
    "stand-in",
    "drift",
    "pull",
    "push",
    "--plan",
)
"""What needs a file, a repository, an earlier edit, an editor, devices or programs of the system,
or does not end.
"""


def told_examples() -> Iterator[str]:
    from typer.main import get_group

    group = get_group(application())
    for name, command in group.commands.items():
        for each in getattr(command, "commands", {name: command}).values():
            assert each.epilog, f"{name} {each.name} has no examples"
            yield from re.findall(r"crossgate (.+)", each.epilog)


_IN_THE_DEMO = {step.words for chapter in CHAPTERS for step in chapter.steps}
"""What `demo --all` runs, as a test of its own sees."""
EXAMPLES = [
    each
    for each in told_examples()
    if not each.startswith(_LEFT_OUT) and tuple(shlex.split(each)) not in _IN_THE_DEMO
]


@pytest.mark.parametrize("example", EXAMPLES)
def test_every_example_runs_on_the_demo(run: Run, traffic: Path, example: str) -> None:
    words = shlex.split(example)
    plan = () if words[0] == "new" else ("--plan", "ternhaven.gate")
    done = run(*plan, *words)
    assert done.returncode in (0, 1), done.stderr
    assert done.stdout


def test_help_lists_the_commands_by_the_step_of_the_work(run: Run) -> None:
    told = run("--help").stdout
    places = [
        told.index(f"\n{step}:\n")
        for step in dict.fromkeys(each.step for each in COMMANDS.values())
    ]
    assert places == sorted(places)
    assert told.index("\n  points ") < told.index("\n  place ") < told.index("\n  verify ")
    assert "<" not in told
    for name, listed in COMMANDS.items():
        start = told.index(f"\n{listed.step}:\n")
        assert f"\n  {name} " in told[start:].split("\n\n")[0]
    assert "crossgate trace kiosk-1 manifest tcp/8443" in run("trace", "--help").stdout


def test_every_word_of_the_plan_and_every_finding_is_explained(run: Run) -> None:
    known = explained()
    written = {*STATEMENTS, *(row.keyword for row in DEVICE_LINES)} - {"client"}
    assert written | KINDS.keys() <= known.keys()
    assert len(known) == len(KINDS) + sum(
        len(own) for own in GROUPS.values()
    )  # no word is explained twice
    for word, told in known.items():
        done = run("help", *word.split())
        assert (done.returncode, done.stdout.splitlines()[0]) == (0, word)
        assert f"as in: {told.example}" in done.stdout
    listed = run("help").stdout
    assert all(word in listed for word in known)


@pytest.mark.parametrize(
    ("words", "told"),
    [
        (("KEEP",), "An expect that protects"),
        (("trace",), "crossgate trace --help"),
        (("source", "port"), "these ports of the sender"),
        (("ACL",), "An access list: entries that are read from the top"),
        (("nat",), "gives packets another address at one of its interfaces"),
    ],
)
def test_a_word_in_any_case_of_a_command_of_two_or_another_for_it(
    run: Run, words: tuple[str, ...], told: str
) -> None:
    assert told in run("help", *words).stdout


def test_a_word_that_is_none_gets_the_nearest(run: Run) -> None:
    done = run("help", "nver-reached")
    assert (done.returncode, "no word nver-reached; there is never-reached" in done.stderr) == (
        2,
        True,
    )


def test_a_plan_in_the_place_of_a_command_is_told(run: Run, demo: Path) -> None:
    done = run("ternhaven.gate", "check")
    assert (
        done.returncode,
        "name what to do with it, as: crossgate check ternhaven.gate" in done.stderr,
    ) == (2, True)


def told_commands() -> list[tuple[str, ...]]:
    from typer.main import get_group

    return [
        (name, *filter(None, [each]))
        for name, command in get_group(application()).commands.items()
        for each in getattr(command, "commands", {"": command})
    ]


@pytest.mark.parametrize("words", told_commands())
def test_help_of_a_command_is_a_screen(words: tuple[str, ...]) -> None:
    from typer.testing import CliRunner

    told = CliRunner().invoke(application(), [*words, "--help"], terminal_width=80).stdout
    lines = told.splitlines()
    assert len(lines) <= 40
    assert max(map(len, lines)) <= 80
    assert not re.search("<(bool|str|list|int|Path|float)", told)
    assert f" {' '.join(words)} " in f"{lines[0]} "
    assert "crossgate " in told.partition("Examples:")[2]


@pytest.mark.parametrize(
    ("words", "usage"),
    [
        ("trace", "crossgate trace [OPTIONS] FROM TO [SERVICE...]"),
        ("entry add", "crossgate entry add [OPTIONS] LIST TEXT..."),
        ("undo", "crossgate undo [OPTIONS] [N]"),
        ("reach", "crossgate reach [OPTIONS] FROM TO [SERVICE]"),
        ("demo", "crossgate demo [OPTIONS] [CHAPTER] [FOLDER]"),
    ],
)
def test_the_usage_line_says_what_may_be_left_out(run: Run, words: str, usage: str) -> None:
    assert f"Usage: {usage}\n" in run(*words.split(), "--help").stdout


@pytest.mark.parametrize(
    ("words", "problem"),
    [
        ("trace", "Missing argument 'FROM'"),
        ("chekc", "No such command 'chekc'. Did you mean 'check'?"),
        ("check --bogus", "No such option: --bogus"),
        ("check --pieces x", "Invalid value for '--pieces'"),
    ],
)
def test_a_command_line_that_is_none_is_told_in_plain_text(
    run: Run, words: str, problem: str
) -> None:
    done = run(*words.split())
    assert done.returncode == 2
    assert problem in done.stderr
    assert "\u2500" not in done.stderr
