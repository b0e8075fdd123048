"""The report: everything about a plan on one page, in one file that needs no other file and no
network.

`Report` is what the page shows, as text and numbers; the template only arranges it, and escapes all
of it.
"""

from __future__ import annotations

import re
from base64 import b64encode
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, fields
from hashlib import sha256
from typing import Any, NamedTuple

from crossgate.core.answers.alike import AlikeNames, example_of, names_alike
from crossgate.core.answers.verify import Verified
from crossgate.core.conversation.verdict import Verdict
from crossgate.core.model.accesslist import AnyList, DeciderKey, line_name
from crossgate.core.model.dated import dated
from crossgate.core.model.entry import AnyEntry
from crossgate.core.model.finding import Acceptance, Finding
from crossgate.core.model.finding_kinds import Severity
from crossgate.core.model.plan import Plan
from crossgate.draw.canvas import part_id
from crossgate.draw.style import DARK, LIGHT, MARKS, Theme
from crossgate.formats.handed_on import handed_on

EXTRA = "pip install 'crossgate[pictures]'"


class PageLine(NamedTuple):
    """A line of a list: its number, whether it is off, its words, how often it decided, and the
    findings about it.
    """

    number: str
    off: bool
    action: str
    text: str
    comment: str
    hits: int
    findings: tuple[Finding, ...]


class ListPart(NamedTuple):
    """A list with its places, its notes and its lines."""

    name: str
    what: str
    places: tuple[str, ...]
    devices: tuple[str, ...]
    notes: tuple[str, ...]
    lines: tuple[PageLine, ...]
    findings: tuple[Finding, ...]


_Marks = tuple[tuple[str, str], ...]


class GridPart(NamedTuple):
    """Who reaches whom by one service: a row for each sender, a cell for each receiver with the
    marks for its verdicts.
    """

    service: str
    columns: tuple[AlikeNames, ...]
    rows: tuple[tuple[AlikeNames, tuple[_Marks, ...]], ...]


@dataclass(frozen=True)
class Report:
    """What the page shows."""

    plan: Plan
    made: str
    version: str
    digest: str
    findings: Sequence[Finding]
    accepted: Sequence[Acceptance]
    verified: Sequence[Verified]
    lists: Sequence[ListPart]
    grids: Sequence[GridPart]
    left_out: Sequence[str]
    """What the grids do not show, in sentences."""
    network: str
    week: str
    since: str
    changes: Sequence[str]
    """What changed since then, line by line."""
    unanswered: Sequence[str]

    @property
    def failed(self) -> list[Verified]:
        """Return the expectations that do not hold."""
        return [each for each in self.verified if not each.held]

    @property
    def counts(self) -> dict[Severity, int]:
        """Return the number of findings of each severity that occurs."""
        found = {
            severity: sum(each.severity is severity for each in self.findings)
            for severity in Severity
        }
        return {severity: number for severity, number in found.items() if number}

    @property
    def standing(self) -> str:
        """Describe the state of the plan in a sentence."""
        held = len(self.verified) - len(self.failed)
        told = (
            [f"{held} of {len(self.verified)} expectations hold"]
            if self.verified
            else ["nothing is expected yet"]
        )
        told += [
            f"{number} {severity}{'s' * (number != 1)}" for severity, number in self.counts.items()
        ] or ["no findings"]
        return ", ".join(told)

    @property
    def good(self) -> bool:
        """Whether all expectations hold, and no finding is an error."""
        return not self.failed and Severity.ERROR not in self.counts


def list_parts(
    plan: Plan, findings: Sequence[Finding], hits: Mapping[DeciderKey, int]
) -> list[ListPart]:
    """Return a part for each list."""
    return [
        _list_part(plan, each, [one for one in findings if one.access_list == each.name], hits)
        for each in plan.every_list.values()
    ]


def _list_part(
    plan: Plan,
    access_list: AnyList[Any],
    findings: Sequence[Finding],
    hits: Mapping[DeciderKey, int],
) -> ListPart:
    places = [each for each in plan.every_placement if each.access_list == access_list.name]
    lines = []
    for entry in (*access_list.entries, None):
        number = None if entry is None else entry.number
        own = tuple(each for each in findings if each.entry == number and number is not None)
        action = access_list.otherwise.action if entry is None else entry.action
        text = "" if entry is None else entry.text.partition(" ")[2]
        lines.append(
            PageLine(
                "otherwise" if number is None else str(number),
                entry is not None and entry.off,
                str(action),
                text,
                "" if entry is None else _told(entry),
                hits.get(DeciderKey(access_list.name, number), 0),
                own,
            )
        )
    return ListPart(
        access_list.name,
        f"{access_list.kind} {access_list.label}",
        tuple(each.where for each in places),
        tuple(dict.fromkeys(each.point.owner for each in places)),
        tuple(note.text for note in access_list.notes),
        tuple(lines),
        tuple(each for each in findings if each.entry is None),
    )


def _told(entry: AnyEntry) -> str:
    """Return the owner of an entry, and its comment."""
    return "; ".join(filter(None, [f"for {entry.owner}" if entry.owner else "", entry.comment]))


def grid_part(
    service: str,
    names: Sequence[str],
    verdicts: Mapping[tuple[str, str], Mapping[str, Verdict]],
) -> GridPart:
    """Return a grid of names with each other; `verdicts` are those of each pair by family."""

    def marks(one: str, other: str) -> _Marks:
        own = verdicts.get((one, other), {})
        return tuple((MARKS[verdict], f"{family}: {verdict}") for family, verdict in own.items())

    alike = names_alike(names, names, marks)[0]
    return GridPart(
        service,
        tuple(alike),
        tuple((one, tuple(marks(*example_of(one, other)) for other in alike)) for one in alike),
    )


def themed(svg: str, titles: Mapping[str, str]) -> str:
    """Return a picture in light colours for the page: its colours become the page's, and its named
    parts can be reached by keyboard. `titles` are the descriptions of parts, by their names in the
    picture.
    """
    from html import escape

    for each in fields(Theme):
        svg = svg.replace(getattr(LIGHT, each.name), f"var(--{each.name.replace('_', '-')})")
    for name, title in titles.items():
        name = part_id(name)
        tag = f'<g id="{escape(name)}">'
        svg = svg.replace(
            tag,
            (
                f'<g id="{escape(name)}" class="part" tabindex="0" role="img" '
                f'aria-label="{escape(title)}"><title>{escape(title)}</title>'
            ),
        )
    svg = re.sub(
        r"<style[^>]*>.*?</style>", "", svg, flags=re.DOTALL
    )  # the page's own style has it
    return re.sub(
        r'(<svg[^>]*?) width="[\d.]+pt"([^>]*?)>',
        r"\1\2>",
        re.sub(r' height="[\d.]+pt"', "", svg, count=1),
        count=1,
    )


def page(report: Report) -> str:
    """Return the page. Raises `PlanError` without Jinja2."""
    from crossgate.core.model.errors import PlanError

    try:
        from jinja2 import Environment, PackageLoader, StrictUndefined
    except ImportError:
        raise PlanError(
            f"the report needs the package jinja2, which is not installed: {EXTRA}"
        ) from None
    environment = Environment(
        loader=PackageLoader("crossgate.report", ""),
        autoescape=True,
        undefined=StrictUndefined,
        trim_blocks=True,
        lstrip_blocks=True,
    )
    colours = {
        theme: {each.name.replace("_", "-"): getattr(own, each.name) for each in fields(Theme)}
        for theme, own in (("light", LIGHT), ("dark", DARK))
    }
    style = environment.get_template("page.css").render(colours=colours)
    script = environment.get_template("page.js").render()
    policy = (
        f"default-src 'none'; style-src-elem {_hash(style)}; style-src-attr 'unsafe-inline'; "
        f"script-src {_hash(script)}; img-src data:"
    )
    return environment.get_template("page.html").render(
        report=report,
        plan=report.plan,
        files=[*map(handed_on, report.plan.files)],
        handed_on=handed_on,
        line_name=line_name,
        dated=dated(report.plan),
        style=style,
        script=script,
        policy=f"{policy}; base-uri 'none'; form-action 'none'",
    )


def _hash(text: str) -> str:
    """Return the name of an element in a Content-Security-Policy: the SHA-256 of its contents (W3C
    CSP Level 3, section 2.3.1).
    """
    return f"'sha256-{b64encode(sha256(text.encode()).digest()).decode()}'"
