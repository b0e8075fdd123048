"""Which words of a command line name the plan: `--plan FILE` before or after the command, or a file
`*.gate` or `-` by itself.
"""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path
from typing import Any

import typer

from crossgate.core.model.errors import PlanError

TAKE_A_PLAN = ("check", "verify", "lists", "grid", "tidy", "watch")
"""The commands that take the plan as a word by itself: none of their own words can end in `.gate`
or be `-`.
"""


def take_plan(context: typer.Context, command: Any, words: Sequence[str]) -> list[str]:
    """Return a command's words without those that name the plan, which is stored for the program.
    Raises `PlanError` where two plans are named; while the shell completes, nothing is an error
    yet.
    """
    end = words.index("--") if "--" in words else len(words)
    named, left = _options(words[:end])
    if command is not None and command.name in TAKE_A_PLAN:
        files, left = _files(left, _valued(command))
        named += files
    before = context.params.get("plan")
    several = list(dict.fromkeys([*([] if before is None else [str(before)]), *named]))
    if not context.resilient_parsing:
        if "" in several:
            raise PlanError("--plan needs a file, as in: crossgate --plan office.gate check")
        if len(several) > 1:
            raise PlanError(f"the plan is named twice, as {' and as '.join(several)}; name one")
    if several:
        context.params["plan"] = Path(several[-1])
    return [*left, *words[end:]]


def _options(words: Sequence[str]) -> tuple[list[str], list[str]]:
    """Return the plans that `--plan` names, and the other words."""
    named, left = [], []
    rest = iter(words)
    for word in rest:
        value = (
            next(rest, "")
            if word == "--plan"
            else word.removeprefix("--plan=")
            if word.startswith("--plan=")
            else None
        )
        if value is not None:
            named.append(value)
        else:
            left.append(word)
    return named, left


def _files(words: Sequence[str], valued: set[str]) -> tuple[list[str], list[str]]:
    """Return the words that are plan files by themselves, and the others; a word after an option
    that takes a value is its value.
    """
    files: list[str] = []
    others: list[str] = []
    for before, word in zip(("", *words), words, strict=False):
        (files if _is_plan(word) and before not in valued else others).append(word)
    return files, others


def _is_plan(word: str) -> bool:
    return word == "-" or (word.endswith(".gate") and not word.startswith("-"))


def _valued(command: Any) -> set[str]:
    """Return the options of a command that take a value."""
    return {
        name
        for each in command.params
        if not getattr(each, "is_flag", True)
        for name in (*each.opts, *each.secondary_opts)
    }
