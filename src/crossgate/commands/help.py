"""`crossgate help`: the words of the plan and of the answers, each in two sentences."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Annotated

import typer

from crossgate.core.model.errors import PlanError, unknown


def complete_word(incomplete: str) -> Iterator[str]:
    """Offer the words that can be explained."""
    from crossgate.language.glossary import explained

    return (word for word in explained() if word.startswith(incomplete))


def explain(
    words: Annotated[
        list[str] | None,
        typer.Argument(
            metavar="[WORD]...",
            autocompletion=complete_word,
            help="A word, such as keep, wild or never-reached.",
        ),
    ] = None,
) -> None:
    """Explain a word of the plan, of an answer or of `check`; without one, list them all. --help
    tells of a command.
    """
    from crossgate.commands.table import COMMANDS
    from crossgate.language.glossary import GROUPS, explained
    from crossgate.language.other_words import meant_by
    from crossgate.show.console import folded, name, quiet, strong, write

    known = explained()
    if not words:
        rows = [[strong(group), ", ".join(own)] for group, own in GROUPS.items()]
        rows.append(
            [
                strong("findings"),
                ", ".join(
                    word for word in known if not any(word in own for own in GROUPS.values())
                ),
            ]
        )
        for head, listed in rows:
            write([head, *folded(listed, 2)])
        write([quiet("crossgate help WORD explains one")])
        return
    word = " ".join(words)
    told = known.get(word) or known.get(word.lower())
    if told is None and (meant := meant_by(word)):
        word, told = meant, known[meant]
    if told is None and word in COMMANDS:
        write([f"{name(word)} is a command: crossgate {word} --help"])
        return
    if told is None:
        raise PlanError(f"{unknown('word', word, [*known, *COMMANDS])}; crossgate help lists them")
    write([strong(word), *folded(told.meaning, 2), quiet(f"  as in: {told.example}")])
