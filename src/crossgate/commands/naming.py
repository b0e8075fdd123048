"""Which words of a command line name the plan: `--plan FILE` before or after the command, or a file
`*.gate` or `-` by itself.
"""

from __future__ import annotations

from collections.abc import Sequence

import typer

from crossgate.core.model.errors import PlanError

TAKE_A_PLAN = ("check", "verify", "lists", "grid", "tidy", "watch")
"""The commands that take the plan as a word by itself: none of their own words can end in `.gate`
or be `-`.
"""


def plan_first(words: Sequence[str], command: str, app: typer.Typer) -> list[str]:
    """Return a command line with its plan named before the command. Raises `PlanError` where two
    plans are named.
    """
    end = words.index("--") if "--" in words else len(words)
    named, left = _options(words[:end])
    if command in TAKE_A_PLAN and any(_is_plan(word) for word in left):
        start = left.index(command) + 1
        files, others = _files(left[start:], _valued(app, command))
        named += files
        left = [*left[:start], *others]
    several = list(dict.fromkeys(named))
    if len(several) > 1:
        raise PlanError(f"the plan is named twice, as {' and as '.join(several)}; name one")
    return [*(("--plan", several[0]) if several else ()), *left, *words[end:]]


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
        if value == "":
            raise PlanError("--plan needs a file, as in: crossgate --plan office.gate check")
        if value is not None:
            named.append(value)
        else:
            left.append(word)
    return named, left


def _files(words: Sequence[str], valued: set[str]) -> tuple[list[str], list[str]]:
    """Return the words that are plans by themselves, and the others; those after an option that
    takes a value are its value.
    """
    files: list[str] = []
    others: list[str] = []
    for before, word in zip(("", *words), words, strict=False):
        (files if _is_plan(word) and before not in valued else others).append(word)
    return files, others


def _is_plan(word: str) -> bool:
    return word == "-" or (word.endswith(".gate") and not word.startswith("-"))


def _valued(app: typer.Typer, command: str) -> set[str]:
    """Return the options of a command that take a value."""
    params = typer.main.get_group(app).commands[command].params
    return {
        name
        for each in params
        if not getattr(each, "is_flag", True)
        for name in (*each.opts, *each.secondary_opts)
    }
