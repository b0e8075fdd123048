"""Observations made on site, as people write them: a filled-in sheet, or sentences.

OBSERVATION = FROM "to" TO SERVICE SEEN | LIST (NUMBER | "otherwise") ("counted" | "did not count"),
where SEEN is as in a filled-in sheet: answered, refused, silent and the like.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence
from pathlib import Path

from crossgate.core.answers.cause.observed import Count, Observation, Observed
from crossgate.core.answers.sheet.results import Result, conversation_of
from crossgate.core.conversation.opening import Conversation, conversations
from crossgate.core.model.accesslist import DeciderKey
from crossgate.core.model.errors import PlanError, unknown
from crossgate.core.network.endpoints import pairs
from crossgate.core.network.ways import Network
from crossgate.formats.sheet import read_results, seen_word, together

_COUNTED, _NOT_COUNTED = "counted", "did not count"
_FORM = (
    "write FROM to TO SERVICE and what was seen, as kiosk-1 to manifest tcp/8443 answered, or "
    "LIST NUMBER did not count"
)


def observed(network: Network, given: Sequence[str], family: int | None) -> Observed:
    """Return all observations: each of the words given is a file, or one observation; `family` is
    that of conversations between machines that have both.

    Raises `PlanError` with every observation that cannot be understood, and with any two that
    contradict each other.
    """
    found: list[Observation | Count] = []
    wrong: list[str] = []
    for each in given:
        try:
            if Path(each).is_file():
                found += _of_results(network, read_results(Path(each)), wrong)
            else:
                found += _of_text(network, each, family)
        except PlanError as error:
            wrong.append(error.message)
    wrong += _contradictions(found)
    if wrong:
        raise together(wrong)
    if not found:
        raise PlanError(f"nothing was seen; {_FORM}")
    return Observed(
        tuple(each for each in found if isinstance(each, Observation)),
        tuple(each for each in found if isinstance(each, Count)),
    )


def _of_results(
    network: Network, results: Iterable[Result], wrong: list[str]
) -> Iterator[Observation]:
    for each in results:
        if each.seen is None:
            continue
        told = conversation_of(network, each)
        if told is None:
            wrong.append(
                f"{each.where}: {each.command!r} on {each.machine} is no test of this plan"
            )
        else:
            yield Observation(each.where, told, each.seen)


def _of_text(network: Network, text: str, family: int | None) -> list[Observation | Count]:
    """Read one observation. Raises `PlanError`."""
    words = text.split()
    for ending, counted in ((_NOT_COUNTED, False), (_COUNTED, True)):
        if text.strip().endswith(f" {ending}"):
            named = text.strip().removesuffix(ending).split()
            return [Count(text, _line(network, named, text), counted)]
    if len(words) < 5 or words[1] != "to":
        raise PlanError(f"{text!r} tells nothing that was seen; {_FORM}")
    seen = seen_word(" ".join(words[4:]))
    if seen is None:
        raise PlanError(
            f"{text!r}: {' '.join(words[4:])} says nothing; write answered, refused or silent"
        )
    return [
        Observation(text, each, seen)
        for each in _conversations(network, words[0], words[2], words[3], family)
    ]


def _conversations(
    network: Network, source: str, destination: str, service: str, family: int | None
) -> list[Conversation]:
    ends = [
        (start, end)
        for start, end in pairs(network, source, destination)
        if family in (None, int(start.address.family))
    ]
    if not ends:
        raise PlanError(f"{source} and {destination} do not both have IPv{family} addresses")
    start, end = ends[0]  # who says nothing of a family has seen the first
    return conversations(network.plan.service(service, start.address.family), start, end)


def _line(network: Network, words: Sequence[str], text: str) -> DeciderKey:
    """Read LIST NUMBER, or `list NUMBER entry NUMBER`. Raises `PlanError`."""
    named = [each for each in words if each not in ("list", "entry")]
    if len(named) != 2:
        raise PlanError(f"{text!r} names no line; write LIST NUMBER, or LIST otherwise")
    own = network.plan.any_list(named[0])
    if named[1] == "otherwise":
        return DeciderKey(own.name, None)
    entry = own.entry(int(named[1])) if named[1].isdecimal() else None
    if entry is None:
        numbers = [str(each.number) for each in own.entries]
        raise PlanError(f"{text!r}: {unknown(f'entry of {own.name}', named[1], numbers)}")
    return DeciderKey(own.name, entry.number)


def _contradictions(found: Iterable[Observation | Count]) -> Iterator[str]:
    """Yield what was observed in two different ways."""
    seen: dict[object, tuple[object, str]] = {}
    for each in found:
        key: object = each.conversation if isinstance(each, Observation) else each.line
        what: object = each.seen if isinstance(each, Observation) else each.counted
        before = seen.setdefault(key, (what, each.where))
        if before[0] != what:
            yield f"{each.where!r} contradicts {before[1]!r}; try it again"
