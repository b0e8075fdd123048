"""The document of `about`."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from typing import Literal, TypedDict

from crossgate.core.answers.about.values import About
from crossgate.core.model.plan import Plan
from crossgate.formats.json.parts import (
    ListNameDocument,
    PlanLineDocument,
)
from crossgate.language.uses import Use


class FactDocument(TypedDict):
    """Something that is so about a word."""

    what: str
    values: list[str]


class MetDocument(ListNameDocument):
    """A list that packets of something meet, and where."""

    packets: str
    family: int | None
    where: str


class HeldDocument(ListNameDocument):
    """The entries of a list that have something in a part of theirs, by the word that stands
    there.
    """

    entries: list[int]
    part: str
    word: str


class UseDocument(PlanLineDocument, ListNameDocument):
    """A line of the plan that uses a name."""


class ThingDocument(TypedDict):
    """One meaning of a word: what it is, the lists that it meets, the entries that have it, and the
    lines that use it.
    """

    kind: str
    name: str
    file: str | None
    line: int | None
    facts: list[FactDocument]
    lists: list[MetDocument]
    entries: list[HeldDocument]
    uses: list[UseDocument]


class AboutDocument(TypedDict):
    """What a word means in a plan."""

    schema: Literal["crossgate/about/1"]
    plan: str
    things: list[ThingDocument]


def about_document(plan: Plan, found: Iterable[tuple[About, Sequence[Use]]]) -> AboutDocument:
    """Return `crossgate/about/1`: each meaning of a word, with where it is used."""
    return {
        "schema": "crossgate/about/1",
        "plan": plan.files[0],
        "things": [_thing(about, uses) for about, uses in found],
    }


def _thing(about: About, uses: Sequence[Use]) -> ThingDocument:
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
