"""A plan as it was at a revision of its git repository: its files come from that revision's tree
and nowhere else.
"""

from __future__ import annotations

import os
import subprocess
from collections.abc import Iterator, Mapping
from pathlib import Path

from crossgate.core.model.errors import PlanError


class Revision(Mapping[str, bytes]):
    """The files of a revision, by their paths as a plan and its includes name them.

    A path that the revision does not have, or that lies outside the repository, raises `PlanError`
    when it is asked for.
    """

    def __init__(self, plan: Path, revision: str) -> None:
        """Find the repository that a plan lies in, and the revision. Raises `PlanError`."""
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
        """Whether a file is to be taken from here: all are."""
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
        """Return what git answers. Raises `PlanError`, saying `otherwise`, where it has no
        answer.
        """
        try:
            done = subprocess.run(
                ["git", "-C", self._folder, *words], capture_output=True, check=False
            )
        except FileNotFoundError:
            raise PlanError(
                "git is not installed, or not on the PATH; compare two files instead: crossgate "
                "compare OLD NEW"
            ) from None
        if done.returncode:
            raise PlanError(otherwise)
        return done.stdout
