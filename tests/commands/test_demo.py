"""`crossgate demo`: the story in short, a chapter whole, all of it."""

from __future__ import annotations

from pathlib import Path

import pytest

from crossgate.demo.chapters import CHAPTERS
from tests.conftest import Run


def test_the_short_story_is_short_and_tells_of_every_chapter(launch: Run) -> None:
    done = launch("demo")
    assert done.returncode == 0, done.stdout + done.stderr
    lines = done.stdout.splitlines()
    assert len(lines) <= 120
    for number, chapter in enumerate(CHAPTERS, 1):
        assert any(line.startswith(f"{number}  {chapter.title}") for line in lines)
        assert f"crossgate demo {number}" in done.stdout
    assert "refused: it breaks 1 keep" in done.stdout


@pytest.mark.long
@pytest.mark.process
def test_all_chapters_whole_leave_the_plan_as_it_was(
    launch: Run, run: Run, tmp_path: Path, demo: Path
) -> None:
    done = launch("demo", "--all", "there")
    assert done.returncode == 0, done.stdout + done.stderr
    told = "left out, as "
    commands = sum(len(chapter.steps) for chapter in CHAPTERS)
    assert done.stdout.count("$ crossgate ") + done.stdout.count(told) == commands
    assert (tmp_path / "there" / "proposal" / "ternhaven.gate").is_file()
    before = (demo / "ternhaven.gate").read_text()
    assert (tmp_path / "there" / "ternhaven.gate").read_text() == before
    again = run("demo", "there")
    assert (again.returncode, "nothing is overwritten" in again.stderr) == (2, True)


def test_every_step_of_the_story_tells_something(launch: Run) -> None:
    done = launch("demo", "7")
    assert done.returncode == 0, done.stdout + done.stderr
    assert "7  Addresses that are lent" in done.stdout
    assert "1  A plan" not in done.stdout
    for step in CHAPTERS[6].steps:
        assert step.shows in done.stdout
        for word in step.tells:
            assert word in done.stdout


@pytest.mark.parametrize(
    ("words", "told"),
    [
        (("99",), "there is no chapter 99; the demo has chapters 1 to"),
        (("0",), "there is no chapter 0"),
        (("3", "--all"), "leave 3 or --all out"),
        (("3", "there", "more"), "more is too much"),
    ],
)
def test_what_no_demo_is(run: Run, words: tuple[str, ...], told: str) -> None:
    done = run("demo", *words)
    assert (done.returncode, told in done.stderr) == (2, True), done.stderr
