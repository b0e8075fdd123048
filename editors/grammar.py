"""Write `crossgate.tmLanguage.json`, the colours of a plan in the TextMate form, from the forms of
the language; with --check, only look.

It knows lines and words, and no names: an editor with the language server (`crossgate editor`) is
told more.
"""

from __future__ import annotations

import json
import re
import sys
from collections.abc import Iterable
from pathlib import Path
from typing import Any

from crossgate.language.forms import ENTRIES, entry_form, statement_form
from crossgate.language.syntax import EVERY_ROW, STATEMENTS

GRAMMAR = Path(__file__).with_name("crossgate.tmLanguage.json")
_ACTIONS = ("permit", "deny", "reject")


def grammar() -> dict[str, Any]:
    """Return the grammar."""
    forms = [*map(statement_form, EVERY_ROW), *(entry_form(*each) for each in ENTRIES)]
    words = {
        step.word
        for form in forms
        for state in form.states
        for step in state
        if re.match(r"\w", step.word)
    }
    names = [row.keyword for row in EVERY_ROW if row.form.split()[0] in ("NEW", "PART")]
    return {
        "name": "Cross Gate plan",
        "scopeName": "source.crossgate",
        "fileTypes": ["gate"],
        "patterns": [
            {"name": "comment.line.number-sign.crossgate", "match": "#.*$"},
            {"name": "string.quoted.double.crossgate", "match": '"[^"]*"?'},
            {
                "match": f"^\\s*({_any(names)})\\s+(\\S+)",
                "captures": {
                    "1": {"name": "keyword.control.crossgate"},
                    "2": {"name": "entity.name.type.crossgate"},
                },
            },
            {
                "name": "keyword.control.crossgate",
                "match": f"^\\s*({_any(row.keyword for row in EVERY_ROW)})(?=\\s|$)",
            },
            {
                "match": f"^\\s+(\\d+)?\\s*(off)?\\s*({_any(_ACTIONS)})(?=\\s|$)",
                "captures": {
                    "1": {"name": "constant.numeric.crossgate"},
                    "2": {"name": "keyword.other.crossgate"},
                    "3": {"name": "keyword.operator.crossgate"},
                },
            },
            {
                "name": "constant.numeric.address.crossgate",
                "match": "(?<=^|[\\s,])(\\d{1,3}(\\.\\d{1,3}){3}|[0-9a-fA-F]*:[0-9a-fA-F:.]*)([/-][0-9a-fA-F:.]+)?(?=$|[\\s,])",
            },
            {
                "name": "keyword.operator.crossgate",
                "match": f"(?<=\\s)({_any(_ACTIONS)}|half-open)(?=\\s|$)",
            },
            {
                "name": "keyword.other.crossgate",
                "match": f"(?<=\\s)({_any(words - {*STATEMENTS})})(?=\\s|$)",
            },
            {
                "name": "support.function.service.crossgate",
                "match": "(?<=\\s|,)(tcp|udp|sctp|dccp|icmp)/[^\\s,]+",
            },
            {"name": "constant.numeric.crossgate", "match": "(?<=\\s)[\\d:,-]+(?=\\s|$)"},
        ],
    }


def _any(words: Iterable[str]) -> str:
    return "|".join(sorted(map(re.escape, words), key=lambda word: (-len(word), word))).replace(
        "\\-", "-"
    )


def main() -> None:
    """Write the grammar, or see that it is as it would be written."""
    text = json.dumps(grammar(), indent=2) + "\n"
    if "--check" in sys.argv[1:]:
        raise SystemExit(
            0
            if GRAMMAR.read_text(encoding="utf-8") == text
            else f"{GRAMMAR.name} is not what {Path(__file__).name} writes"
        )
    GRAMMAR.write_text(text, encoding="utf-8")


if __name__ == "__main__":
    main()
