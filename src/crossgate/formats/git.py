"""A plan as it was at a revision of its git repository: its files come from that revision's tree
and nowhere else.
"""

from __future__ import annotations

import os
import subprocess
from collections.abc import Iterable, Iterator, Mapping
from datetime import datetime
from pathlib import Path
from typing import NamedTuple

from crossgate.core.model.errors import PlanError


class Commit(NamedTuple):
    """A commit: its id, when it was made, by whom, and the first line of its message."""

    id: str
    made: datetime
    author: str
    subject: str


def history(plan: Path, files: Iterable[str]) -> list[Commit]:
    """Return the commits that changed a plan, newest first: those that changed one of its files, or
    any other file of the repository whose name ends in `.gate`; for a merge, what it brought.
    Raises `PlanError` where the plan is in no repository, or was never committed.
    """
    paths = [os.path.relpath(each, plan.parent) for each in files]
    own = _git(
        plan.parent,
        "log",
        "-1",
        "--format=%H",
        "--",
        plan.name,
        otherwise=f"{plan} does not lie in a git repository with commits, so it has no history",
    )
    if not own:
        raise PlanError(f"{plan} was never committed, so it has no history")
    told = _git(
        plan.parent,
        "log",
        "--first-parent",
        "-m",
        "-z",
        "--format=%H%x1f%at%x1f%an%x1f%s",
        "--no-patch",
        "--",
        *paths,
        ":(top,glob)**/*.gate",
        otherwise=f"git tells nothing of the history of {plan}",
    ).decode("utf-8", "replace")
    rows = [row.strip("\n").split("\x1f", 3) for row in told.split("\0") if row.strip("\n")]
    return [
        Commit(each, datetime.fromtimestamp(int(made)), author, subject)
        for each, made, author, subject in rows
    ]


class Revision(Mapping[str, bytes]):
    """The files of a revision, by their paths as a plan and its includes name them.

    Asking for a path that the revision does not have, or that is outside the repository, raises
    `PlanError`.
    """

    def __init__(self, plan: Path, revision: str) -> None:
        """Find the repository of a plan, and the revision. Raises `PlanError`."""
        self._folder = plan.parent
        self.revision = revision
        top = self._git(
            "rev-parse",
            "--show-toplevel",
            otherwise=(
                f"{plan} does not lie in a git repository, so there is nothing to compare it with"
            ),
        )
        self._top = Path(os.path.realpath(top.decode().removesuffix("\n")))
        commit = self._git(
            "rev-parse",
            "--verify",
            "--quiet",
            f"{revision}^{{commit}}",
            otherwise=f"git knows no revision {revision} here",
        )
        self._commit = commit.decode().strip()

    def __getitem__(self, name: str) -> bytes:
        """Return a file's bytes at the revision."""
        real = Path(os.path.realpath(Path(name).parent)) / Path(name).name
        if not real.is_relative_to(self._top):
            raise PlanError(
                f"{name} lies outside the git repository {self._top}, so there is no version of "
                f"it at {self.revision}"
            )
        inside = real.relative_to(self._top).as_posix()
        return self._git(
            "cat-file",
            "blob",
            f"{self._commit}:{inside}",
            otherwise=f"there is no file {inside} at {self.revision}",
        )

    def __contains__(self, name: object) -> bool:
        """Whether a file is to be taken from here: every file is."""
        return True

    def __iter__(self) -> Iterator[str]:
        names = self._git(
            "ls-tree",
            "-r",
            "-z",
            "--full-tree",
            "--name-only",
            self._commit,
            otherwise=f"{self.revision} cannot be read",
        )
        return iter(str(self._top / each) for each in names.decode().split("\0") if each)

    def __len__(self) -> int:
        return sum(1 for _ in self)

    def _git(self, *words: str, otherwise: str) -> bytes:
        return _git(self._folder, *words, otherwise=otherwise)


def _git(folder: Path, *words: str, otherwise: str) -> bytes:
    """Return the output of git in a folder. Raises `PlanError` with the text `otherwise` where git
    fails.
    """
    try:
        done = subprocess.run(["git", "-C", folder, *words], capture_output=True, check=False)
    except FileNotFoundError:
        raise PlanError(
            "git is not installed, or not on the PATH; compare two files instead: crossgate "
            "compare OLD NEW"
        ) from None
    if done.returncode:
        raise PlanError(otherwise)
    return done.stdout
