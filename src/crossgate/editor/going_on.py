"""How a line of a plan may continue at a place: the words of its form, and the plan's names where
one may stand.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from typing import NamedTuple

from crossgate.core.model.finding_kinds import KINDS
from crossgate.core.model.named import UnknownName
from crossgate.core.model.plan import Plan
from crossgate.core.sets.meaning import meaning_of
from crossgate.language.forms import FormStep
from crossgate.language.glossary import explained
from crossgate.language.lines import form_tokens
from crossgate.language.texts import Text, line_form, list_form, rows_below


class Offer(NamedTuple):
    """A word that may stand there: its kind (`forms.KINDS`, or "word"), and its meaning in a few
    words.
    """

    word: str
    kind: str
    detail: str


class Offers(NamedTuple):
    """The words that may replace what has been typed of a word so far, from one column to
    another.
    """

    start: int
    end: int
    offers: list[Offer]


def offers_at(text: Text, plan: Plan | None, number: int, column: int) -> Offers:
    """Return the words that may stand at a place."""
    line = text.line(number)[:column]
    head = (
        text.line(text.heads[number])
        if number < len(text.lines) and text.heads[number] >= 0
        else ""
    )
    if not line[:1].isspace():
        head = ""
    words = list(form_tokens(line))
    if words and words[-1].text[0] in ("#", '"'):
        return Offers(column, column, [])
    form = line_form(words[0].text, head) if words else list_form(head)
    if form is not None:
        words = [token for token, _ in form.roles(words)]
    typed = words.pop() if words and words[-1].end == column and words[-1].text != "," else None
    start = column if typed is None else typed.start
    steps = [] if form is None else form.after(each.text for each in words)
    if not words:
        steps = [FormStep(keyword, "", 0) for keyword in rows_below(head)] + steps
    found = [
        offer
        for step in steps
        for offer in _offers(step, plan, "" if typed is None else typed.text)
    ]
    if typed is not None and "," in typed.text and any(step.kind == "SERVICE" for step in steps):
        start = (
            typed.start + typed.text.rindex(",") + 1
        )  # a service token may be several, with commas
    begun = line[start:]
    unique = {
        offer.word: offer for offer in found if offer.word.startswith(begun) and offer.word != begun
    }
    return Offers(start, column, list(unique.values()))


def _offers(step: FormStep, plan: Plan | None, typed: str) -> Iterator[Offer]:
    if step.word:
        told = explained().get(step.word)
        yield Offer(step.word, "word", "" if told is None else told.meaning)
        return
    if plan is not None:
        for word, detail in _names(step.kind, plan, typed):
            yield Offer(word, step.kind, detail)


def _names(kind: str, plan: Plan, typed: str) -> Iterator[tuple[str, str]]:
    """Yield the words of a kind that a plan has, each with its meaning."""
    if kind in ("NAME", "ENDPOINT", "MACHINE"):
        devices = [name for name, device in plan.devices.items() if device.interfaces]
        outsides = kind == "ENDPOINT"
        sets = (
            []
            if kind == "MACHINE"
            else [
                *(name for name, each in plan.segments.items() if outsides or not each.outside),
                *plan.groups,
            ]
        )
        points = (
            [f"{device}.{part}" for device in devices for part in plan.devices[device].interfaces]
            if "." in typed
            else []
        )
        yield from _told(plan, [*plan.hosts, *sets, *devices, *points])
    elif kind in ("SUBNET", "HOST", "GROUP", "DEVICE"):
        known: dict[str, Iterable[str]] = {
            "SUBNET": [name for name, each in plan.segments.items() if not each.outside],
            "HOST": plan.hosts,
            "GROUP": plan.groups,
            "DEVICE": plan.devices,
        }
        yield from _told(plan, known[kind])
    elif kind in ("POINT", "PORT"):
        for device in plan.devices.values():
            parts = device.ports if kind == "PORT" else {**device.interfaces, **device.ports}
            yield from (
                (
                    f"{device.name}.{part}",
                    "a switch port" if part in device.ports else "an interface",
                )
                for part in parts
            )
    elif kind == "SERVICE":
        from crossgate.core.model import iana

        yield from ((name, ", ".join(each.tokens)) for name, each in plan.services.items())
        yield from ((name, "") for name in ("ip", "ping", *iana.protocols()))
        yield from (
            (name, ", ".join(transports)) for name, (_, transports) in iana.services().items()
        )
    elif kind == "WINDOW":
        yield from ((name, each.text) for name, each in plan.windows.items())
    elif kind == "LIST":
        yield from (
            (name, f"{each.kind} {each.label}, {len(each.entries)} entries")
            for name, each in plan.every_list.items()
        )
    elif kind == "FINDING":
        yield from ((name, each.meaning) for name, each in KINDS.items())
    elif kind == "VERSIONS":
        yield from ((word, "") for word in ("1.2-", "1.3", "1.2", "1.1", "1.0", "-1.1"))
    elif kind == "SUITES":
        from crossgate.core.model.tls import suite_names

        yield from ((name, f"0x{number:04X}") for number, name in suite_names().items())
    elif kind == "DAYS":
        yield from (
            (word, "")
            for word in (
                "daily",
                "weekdays",
                "weekends",
                "mon",
                "tue",
                "wed",
                "thu",
                "fri",
                "sat",
                "sun",
            )
        )


def _told(plan: Plan, names: Iterable[str]) -> Iterator[tuple[str, str]]:
    for name in names:
        try:
            meaning = meaning_of(plan, name)
        except UnknownName:
            continue
        yield name, "" if meaning is None else str(meaning.kind)
