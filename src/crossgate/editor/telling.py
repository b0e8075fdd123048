"""What is shown for a word in a plan: what a name stands for and where it is used, what an entry
does, whether an expectation holds.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from typing import Any

from crossgate.core.model.accesslist import AccessList, AnyList
from crossgate.core.model.address import (
    Family,
    Pattern,
    everything,
    format_address,
    parse_addresses,
)
from crossgate.core.model.entry import AnyEntry, Entry
from crossgate.core.model.errors import Place, PlanError
from crossgate.core.model.finding_kinds import KINDS
from crossgate.core.model.named import NameSpace
from crossgate.core.model.plan import Plan
from crossgate.core.sets import spans
from crossgate.core.sets.addresses import AddressSet
from crossgate.core.sets.meaning import meaning_of
from crossgate.core.sets.wildcard import slips
from crossgate.core.wording.list_sentences import entry_sentence
from crossgate.editor.plans import OpenPlan
from crossgate.language.address_words import read_pattern
from crossgate.language.glossary import explained
from crossgate.language.lines import Line
from crossgate.language.texts import Mention, Text
from crossgate.language.words import Words
from crossgate.show.console import count

_MOST = 12
"""Of more addresses, services and the like than these only the first are told."""


def told_at(opened: OpenPlan, text: Text, number: int, column: int) -> tuple[str, int, int] | None:
    """Return what is shown for the word at a place, as Markdown, and the columns of that word; None
    where there is nothing.
    """
    if number >= len(text.lines) or opened.reading is None:
        return None
    written = text.written(number)
    index = written.at(column)
    if index is None or written.roles[index] == "remark":
        return None
    token, role, plan = written.words[index], written.roles[index], opened.reading.plan
    mention = text.mention_at(number, column)
    place = Place(text.file, number + 1)
    lines: list[str] = []
    start, end = token.start, token.end
    if mention is not None:
        start, end = mention.start, mention.end
        lines = list(_named(opened, plan, mention))
    elif role in ("PATTERN", "ADDRESS", "PREFIX", "WILDCARD"):
        lines = list(
            _addresses(
                text.line(number),
                token.start if role != "WILDCARD" else written.words[max(index - 2, 0)].start,
            )
        )
    elif written.is_entry and (
        role == "NUMBER" or token.text in ("permit", "deny", "reject", "off")
    ):
        lines = list(_entry(opened, plan, place))
    elif written.keyword in ("expect", "keep") and index <= 1:
        lines = list(_claim(opened, place))
    if not lines or role == "word":
        lines += _word(token.text)
    return ("\n\n".join(lines), start, end) if lines else None


def _word(word: str) -> list[str]:
    """Return what a word of the language means."""
    known = explained()
    found = known.get(word) or next(
        (told for phrase, told in known.items() if word in phrase.split()), None
    )
    return [] if found is None else [found.meaning, f"as in: `{found.example}`"]


def _named(opened: OpenPlan, plan: Plan, mention: Mention) -> Iterator[str]:
    name = mention.name
    if mention.space is NameSpace.FINDING:
        if name in KINDS:
            kind = KINDS[name]
            yield f"**{name}** ({kind.severity}): {kind.meaning}. To mend it: {kind.mend}."
        return
    if mention.space is NameSpace.SERVICE:
        yield from _service(plan, name)
    elif mention.space is NameSpace.WINDOW and name in plan.windows:
        yield f"window **{name}**: {plan.windows[name].text}"
    elif mention.space is NameSpace.LIST and name in plan.every_list:
        yield from _list(plan, plan.every_list[name])
    elif mention.space in (NameSpace.NAME, NameSpace.POINT):
        yield from _name(plan, name)
    uses = sum(not each.declares for _, _, each in opened.mentioning(mention.space, name))
    where = opened.declaration(mention.space, name)
    if where is not None:
        text, number, _ = where
        yield f"{count(uses, 'use')}; given in line {number + 1}" + (
            "" if text.file == next(iter(opened.texts)) else f" of {text.file}"
        )


def _name(plan: Plan, name: str) -> Iterator[str]:
    try:
        meaning = meaning_of(plan, name)
    except PlanError:
        return
    if meaning is None:
        return
    yield (
        f"{meaning.kind} **{name}**: "
        f"{_several(list(map(str, meaning.patterns))) or 'no addresses of its own'}"
    )
    from crossgate.core.answers.about import about
    from crossgate.core.answers.about.met import RECEIVED, SENT, THERE
    from crossgate.core.network.ways import Network

    (told, *_) = about(Network(plan), name, plan.now())
    for heading, lead in (
        (SENT, "asked about what it sends"),
        (RECEIVED, "asked about what it gets"),
        (THERE, "lists here"),
    ):
        met = [
            f"`{each.access_list.name}` {each.where}"
            for each in told.met
            if each.heading == heading
        ]
        if met:
            yield f"{lead}: {_several(list(dict.fromkeys(met)))}"


def _service(plan: Plan, name: str) -> Iterator[str]:
    own = plan.services.get(name)
    if own is not None:
        yield f"service **{name}**: {_several(list(own.tokens))}"
        return
    if "/" not in name:
        from crossgate.core.model import iana

        found = iana.services().get(name)
        if found is not None:
            (first, last), transports = found
            ports = str(first) if first == last else f"{first}-{last}"
            yield (
                f"**{name}**, by IANA: "
                f"{_several([f'{transport}/{ports}' for transport in transports])}"
            )
        elif name in iana.protocols():
            yield f"**{name}**, by IANA: protocol {iana.protocols()[name]}"


def _list(plan: Plan, access_list: AnyList[Any]) -> Iterator[str]:
    stands = [each.where for each in plan.every_placement if each.access_list == access_list.name]
    yield (
        f"{access_list.kind} {access_list.label} list **{access_list.name}**: "
        f"{count(len(access_list.entries), 'entry', 'entries')}, otherwise "
        f"{access_list.otherwise.action}"
    )
    yield f"placed {_several(stands)}" if stands else "placed nowhere, so no packet meets it"


def _addresses(line: str, start: int) -> Iterator[str]:
    """Describe the addresses written from a column on: how many, which, and the bits of a
    wildcard.
    """
    words = line[start:].split()
    pattern_words = words[:3] if words[1:2] in (["wild"], ["mask"]) else words[:1]
    try:
        patterns = (
            read_pattern(Words(Line("", 1, " ".join(pattern_words))))
            if len(pattern_words) == 3
            else parse_addresses(words[0].rstrip(","))
        )
    except (PlanError, ValueError):
        return
    yield (
        f"**{' '.join(pattern_words)}**: "
        f"{count(sum(each.size for each in patterns), 'address', 'addresses')}"
    )
    (first, *others) = patterns
    if not others and first.wildcard and not first.is_prefix:
        yield f"```\n{_bits(first)}\n```"
    elif others or first.wildcard:
        ends = min(each.first for each in patterns), max(each.last for each in patterns)
        yield f"{format_address(first.family, ends[0])} to {format_address(first.family, ends[1])}"
    if not others:
        yield from slips(first)


def _bits(pattern: Pattern) -> str:
    """Write a pattern in bits, an x for each that does not matter."""
    bits, group = pattern.family.bits, 8 if pattern.family is Family.IPV4 else 16
    written = "".join(
        "x" if pattern.wildcard >> bit & 1 else str(pattern.value >> bit & 1)
        for bit in range(bits - 1, -1, -1)
    )
    return " ".join(written[start : start + group] for start in range(0, bits, group))


def entry_at(plan: Plan, place: Place) -> tuple[AnyList[Any], AnyEntry] | None:
    """Return the entry in a line, with its list."""
    for access_list in plan.every_list.values():
        if access_list.place.file == place.file and access_list.place.line < place.line:
            found = next((each for each in access_list.entries if each.place == place), None)
            if found is not None:
                return access_list, found
    return None


def _entry(opened: OpenPlan, plan: Plan, place: Place) -> Iterator[str]:
    found = entry_at(plan, place)
    if found is None:
        return
    access_list, entry = found
    yield f"entry **{entry.number}** of {access_list.name}" + (
        ", which is off" if entry.off else ""
    )
    yield entry_sentence(plan, access_list, entry)
    if not isinstance(access_list, AccessList) or not isinstance(entry, Entry) or entry.off:
        return
    ends = [_many(each.patterns, access_list.family) for each in (entry.source, entry.destination)]
    yield ", ".join(
        (
            f"it takes **{entry.service.text}** from {ends[0]} to {ends[1]}",
            *(each.explained() for each in entry.conditions),
        )
    )
    settled = opened.settled
    told = [] if settled is None else [each for each in settled.findings if each.place == place]
    yield from (f"{each.severity} **{each.name}**: {each.message}" for each in told)
    if settled is not None and not any(each.name == "never-reached" for each in told):
        yield "some packet gets as far as this entry"
    from crossgate.formats.tally import Tally

    try:
        hits = Tally(opened.path).hits(access_list).get(entry.number, 0)
    except PlanError:
        return
    if hits:
        yield f"it decided {count(hits, 'packet')} of those in the tally"


def _many(patterns: Iterable[Pattern], family: Family) -> str:
    """Say how many addresses some patterns have; an address in several wildcards counts in each."""
    own = AddressSet.of(family, patterns)
    number = sum(each.size for each in patterns) if own.spans is None else spans.size(own.spans)
    return "any" if number == everything(family).size else count(number, "address", "addresses")


def _claim(opened: OpenPlan, place: Place) -> Iterator[str]:
    settled = opened.settled
    proved = None if settled is None else settled.proved.get(place)
    if proved is None:
        yield "not proved yet"
    elif proved.held:
        yield "**held**: proved for every packet that it speaks of"
    else:
        yield f"**{'failed' if proved.answered else 'not answered'}**: {proved.why}"
        yield f"needed: `{proved.needed}`"


def _several(texts: list[str]) -> str:
    return ", ".join(texts[:_MOST]) + (
        f" and {len(texts) - _MOST} more" if len(texts) > _MOST else ""
    )
