"""What `docs/pipelines.md` and the hooks say, as a pipeline runs it."""

from __future__ import annotations

import os
import re
import shlex
import subprocess
import sys
from pathlib import Path

import pytest
import yaml

from tests.conftest import Run

ROOT = Path(__file__).parents[2]
BROAD = ("    20 deny   ip     any    to terminal", "    20 deny   ip     any    to harbour")


def change(plan: Path) -> None:
    text = plan.read_text()
    assert BROAD[0] in text
    plan.write_text(text.replace(*BROAD))


@pytest.mark.parametrize(
    "hook",
    yaml.safe_load((ROOT / ".pre-commit-hooks.yaml").read_text()),
    ids=lambda hook: str(hook["id"]),
)
def test_each_hook_runs_on_the_plan_of_its_folder(
    run: Run, demo: Path, hook: dict[str, object]
) -> None:
    words = shlex.split(str(hook["entry"]))
    assert words[0] == "crossgate"
    assert hook["pass_filenames"] is False
    assert re.search(str(hook["files"]), "ternhaven.gate")
    before = (demo / "ternhaven.gate").read_bytes()
    assert run(*words[1:]).returncode == 0
    assert (demo / "ternhaven.gate").read_bytes() == before
    bad = (demo / "ternhaven.gate").read_text() + (
        "expect permit ssh kiosk-1 to   manifest\nlist x extended ipv4\n  10 deny ip any to any\n "
        " 20 permit ip any to any\n"
    )
    (demo / "ternhaven.gate").write_text(bad)
    done = run(*words[1:])
    assert done.returncode == 1 or (demo / "ternhaven.gate").read_text() != bad, done.stdout


def test_a_change_as_a_comment(run: Run, demo: Path) -> None:
    (demo / "old.gate").write_bytes((demo / "ternhaven.gate").read_bytes())
    alike = run("compare", "old.gate", "ternhaven.gate", "--markdown")
    assert (alike.returncode, alike.stdout) == (
        0,
        "## Traffic: old.gate against ternhaven.gate\n\nEvery packet fares alike.\n",
    )
    change(demo / "ternhaven.gate")
    done = run("compare", "old.gate", "ternhaven.gate", "--markdown")
    assert done.returncode == 1
    title, _, head, rule, *rows = done.stdout.splitlines()
    assert title == "## Traffic: old.gate against ternhaven.gate"
    assert head.count("|") == rule.count("|") == 6
    table = rows[: rows.index("")]
    assert len(table) > 3
    assert all(len(re.split(r"(?<!\\)\|", row)) == 7 for row in table)
    assert any(
        "**denied** by guest-fence 20, outbound on subnet guests | **permitted** by guest-fence 30"
        in row
        for row in table
    )
    assert rows[-1].startswith("Left out: ")
    for option in (["--json"], ["--list", "12"]):
        refused = run("compare", "old.gate", "ternhaven.gate", "--markdown", *option)
        assert refused.returncode == 2
        assert "leave" in refused.stderr


def test_git_diff_shows_traffic(demo: Path) -> None:
    """With the driver of the page, which is taken from there."""
    page = (ROOT / "docs" / "pipelines.md").read_text()
    (configured,) = re.findall(r"^git config diff.crossgate.command .*$", page, re.MULTILINE)
    (attributes,) = re.findall(r"^\*\.gate diff=crossgate$", page, re.MULTILINE)
    folder = demo / "repository"
    folder.mkdir()
    path = os.pathsep.join((str(Path(sys.executable).parent), os.environ["PATH"]))
    quiet = os.environ | {
        "GIT_CONFIG_GLOBAL": os.devnull,
        "GIT_CONFIG_SYSTEM": os.devnull,
        "LANG": "C.UTF-8",
        "PATH": path,
    }

    def git(words: str) -> str:
        done = subprocess.run(
            ["sh", "-c", words], cwd=folder, env=quiet, capture_output=True, text=True, check=True
        )
        return done.stdout

    git("git init -q . && git config user.email a@example.com && git config user.name a")
    (folder / ".gitattributes").write_text(attributes + "\n")
    (folder / "site.gate").write_bytes((demo / "ternhaven.gate").read_bytes())
    git("git add . && git commit -qm one")
    git(configured)
    change(folder / "site.gate")
    (folder / "new.gate").write_text("subnet a 10.0.0.0/24\n")
    git("git add -N new.gate")
    told = git("git --no-pager diff")
    assert "is  permitted by guest-fence 30, outbound on subnet guests" in told
    assert "-    20 deny" in git("git --no-pager diff --no-ext-diff")
