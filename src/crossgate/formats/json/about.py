"""The document of `about`."""

from __future__ import annotations

from collections.abc import Iterable, Sequence

from crossgate.core.answers.about.values import About
from crossgate.core.model.plan import Plan
from crossgate.formats.json.parts import Document
from crossgate.language.uses import Use


def about_document(plan: Plan, found: Iterable[tuple[About, Sequence[Use]]]) -> Document:
    """Return `crossgate/about/1`: each meaning of a word, with where it is used."""
    return {
        "schema": "crossgate/about/1",
        "plan": plan.files[0],
        "things": [_thing(about, uses) for about, uses in found],
    }


def _thing(about: About, uses: Sequence[Use]) -> Document:
    return {
        "kind": about.kind,
        "name": about.name,
        "file": None if about.place is None else about.place.file,
        "line": None if about.place is None else about.place.line,
        "facts": [{"what": each.what, "values": list(each.values)} for each in about.facts],
        "lists": [
            {
                "packets": each.heading,
                "family": None if each.family is None else int(each.family),
                "list": each.access_list.name,
                "where": each.where,
            }
            for each in about.met
        ],
        "entries": [
            {
                "list": each.access_list.name,
                "entries": list(each.numbers),
                "part": each.part,
                "word": each.word,
            }
            for each in about.held
        ],
        "uses": [
            {
                "file": each.file,
                "line": each.line,
                "text": each.text,
                "list": each.access_list or None,
            }
            for each in uses
        ],
    }
