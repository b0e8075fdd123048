"""A list in plain sentences: who may send what to whom, line by line, and what each line leaves to
the next.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from typing import Any, NamedTuple

from crossgate.core.lists.taken import Taken
from crossgate.core.model import iana
from crossgate.core.model.accesslist import AccessList, AnyList
from crossgate.core.model.address import Addresses, Family, everything
from crossgate.core.model.condition import Condition
from crossgate.core.model.conditions import During, Limit
from crossgate.core.model.entry import Action, AnyEntry, Entry, Kind
from crossgate.core.model.ethernet import ETHERTYPES, EthernetEntry, Stations
from crossgate.core.model.packet import ICMP, ICMPV6, MOST_PORT, TCP, icmp_of
from crossgate.core.model.plan import Plan
from crossgate.core.model.service import IP, WITH_PORTS, Ports, Service, ServiceTerm, protocol_name
from crossgate.core.model.service_words import split_service
from crossgate.core.model.window import of_window
from crossgate.core.sets.meaning import WordKind, meaning_of, words_of

_MOST = 6
"""Of more ports, messages or lines than these the first are told, and how many more there are."""


class Sentence(NamedTuple):
    """The meaning of a line of a list; `number` is the entry's, None for the otherwise line."""

    number: int | None
    text: str


def list_sentences(
    plan: Plan, access_list: AnyList[Any], taken: Mapping[int, Taken]
) -> Iterator[Sentence]:
    """Yield a list as sentences, one for each line, in reading order. `taken` is what the lines
    above take from entries, by the entries' numbers.
    """
    for entry in access_list.entries:
        text = _of_entry(plan, access_list, entry)
        above = taken.get(entry.number)
        if entry.off:
            text = f"Off, so nothing comes of it: {text}"
        elif above is not None and not above.left:
            takers = _several([str(each.taker.number) for each in above.parts])
            text = f"Nothing is left for it, since {takers} came first: {text}"
        elif above is not None and above.opposed:
            takers = _several([str(each.taker.number) for each in above.opposed])
            verb = "leaves" if len(above.opposed) == 1 else "leave"
            text = f"Of what {takers} {verb}, {text}"
        else:
            text = _begun(text)
        yield Sentence(entry.number, f"{text}.{' It is logged.' if entry.log else ''}")
    yield Sentence(None, _rest(access_list))


def _rest(access_list: AnyList[Any]) -> str:
    """Return what becomes of packets that no entry takes."""
    if any(_takes_all(each) for each in access_list.entries):
        return "Nothing is left for the otherwise line."
    what = "Everything" if not access_list.entries else "Everything else"
    does = {
        Action.PERMIT: "is let by",
        Action.DENY: "is dropped without a word",
        Action.REJECT: "is refused, and the sender is told",
    }[access_list.otherwise.action]
    end = "" if access_list.otherwise.written else ", as at the end of every list"
    return f"{what} {does}{end}."


def _takes_all(entry: AnyEntry) -> bool:
    """Whether an entry obviously takes everything that comes to it, at all times."""
    if entry.off or entry.conditions:
        return False
    if isinstance(entry, Entry):
        whole = all(
            each.text == "any" or everything(each.patterns[0].family) in each.patterns
            for each in (entry.source, entry.destination)
        )
        return whole and IP.terms[0] in entry.service.terms
    return (
        isinstance(entry, EthernetEntry)
        and entry.ethertype is None
        and entry.source.text == entry.destination.text == "any"
    )


def entry_sentence(plan: Plan, access_list: AnyList[Any], entry: AnyEntry) -> str:
    """Return an entry as a sentence by itself."""
    return f"{_begun(_of_entry(plan, access_list, entry))}.{' It is logged.' if entry.log else ''}"


def _of_entry(plan: Plan, access_list: AnyList[Any], entry: AnyEntry) -> str:
    """Return an entry as a sentence without capital letter and full stop."""
    if isinstance(access_list, AccessList) and isinstance(entry, Entry):
        subject = _senders(plan, entry.source)
        verb, what = _carried(plan, entry.service, access_list.family)
        if access_list.kind is Kind.STANDARD:
            verb, what, to = "send", "", ""
        else:
            to = _receivers(entry.destination)
    else:
        assert isinstance(entry, EthernetEntry)
        subject, verb = _stations(entry.source), "send"
        names = {number: name.upper() for name, number in ETHERTYPES.items()}
        carried = entry.ethertype
        what = "" if carried is None else f"{names.get(carried, f'0x{carried:04x}')} frames"
        to = "" if entry.destination.text == "any" else f"to {entry.destination.text}"
    text = _clause(entry.action, subject, verb, what, to)
    return (
        ", ".join([text, *(_condition(plan, each) for each in entry.conditions)])
        + {
            Action.PERMIT: "",
            Action.DENY: "; it is dropped without a word",
            Action.REJECT: "; it is refused, and the sender is told",
        }[entry.action]
    )


def _clause(action: Action, subject: str, verb: str, what: str, to: str) -> str:
    """Return who may or may not send what to whom; `subject` and `what` are "" for everybody and
    anything.
    """
    if what == "ping":
        verb, what, to = what, to.removeprefix("to ") or "anybody", ""
    if action is Action.PERMIT:
        words = [subject or "everybody", "may", verb, what or "anything", to]
    elif subject:
        words = [subject, "may", verb, "nothing", to] if not what else []
        words = words or [subject, "may not", verb, what, to]
    else:
        words = ["nobody", "may", verb, what or "anything", to]
    return " ".join(filter(None, words))


def _condition(plan: Plan, condition: Condition) -> str:
    text = condition.explained()
    if isinstance(condition, During):
        own = plan.windows.get(of_window(condition.window))
        return text if own is None else text.replace(" is open", f" is open ({own.text})", 1)
    if isinstance(condition, Limit):
        return f"{text} (what is beyond goes on to the next line)"
    return text


_OWN_WORDS = ("machines ", "addresses ", "everybody ", "nobody ", "the ", "stations ")
"""What a sentence may begin with that is not a name, and has a capital letter there."""


def _begun(text: str) -> str:
    """Return a sentence with a capital letter, unless it begins with a name."""
    return text[0].upper() + text[1:] if text.startswith(_OWN_WORDS) else text


# ---- Who and whom ----


def _senders(plan: Plan, addresses: Addresses) -> str:
    """Return the words for senders with some addresses; "" for everybody."""
    taken, left_out = words_of(addresses.text)
    if taken == ["any"]:
        return f"everybody but {_joined(left_out)}" if left_out else ""
    by_head: dict[str, list[str]] = {}
    for word in taken:
        by_head.setdefault(_head(plan, word), []).append(word)
    who = _joined([head + _joined(words) for head, words in by_head.items()])
    return f"{who} but not {_joined(left_out)}" if left_out else who


def _head(plan: Plan, word: str) -> str:
    """Return the words that come before a name for addresses where it is the sender."""
    meaning = meaning_of(plan, word)
    if meaning is not None and meaning.kind is WordKind.ADDRESS:
        if " wild " in word and len(meaning.patterns) == 1:
            return f"the {meaning.patterns[0].size:,} addresses of "
        return "" if meaning.named else "addresses of "
    several = (WordKind.SUBNET, WordKind.GROUP)
    return "machines of " if meaning is not None and meaning.kind in several else ""


def _receivers(addresses: Addresses) -> str:
    """Return the words for receivers, "" for anybody."""
    taken, left_out = words_of(addresses.text)
    if taken == ["any"] and not left_out:
        return ""
    whom = "anybody" if taken == ["any"] else _joined(taken)
    return f"to {whom} but {_joined(left_out)}" if left_out else f"to {whom}"


def _stations(stations: Stations) -> str:
    """Return the words for senders of frames; "" for everybody."""
    if stations.text == "any":
        return ""
    return f"stations of {stations.text}" if " wild " in stations.text else stations.text


# ---- What is sent ----


def _carried(plan: Plan, service: Service, family: Family) -> tuple[str, str]:
    """Return the verb for packets of a service, and the words for these packets; "" for
    anything.
    """
    if service.terms == IP.terms:
        return "send", ""
    opened = all(term.protocol == TCP and term.ports is not None for term in service.terms)
    parts = [_part(plan, text, family) for text in split_service(service.text)]
    return "open" if opened else "send", _joined(parts)


def _part(plan: Plan, text: str, family: Family) -> str:
    """Return one part of a service: its name, and what that means."""
    if text == "ping":
        return "ping"
    protocol, slash, rest = text.partition("/")
    told = _terms(plan.service(text, family).terms, family)
    if not slash and protocol not in (*iana.protocols(), "icmp", "ip") and not text.isdigit():
        return f"{text} ({told})"
    named = slash and protocol in WITH_PORTS and rest in iana.services()
    return f"{rest} ({told})" if named else told


def _terms(terms: Sequence[ServiceTerm], family: Family) -> str:
    """Return protocols with their ports or messages; protocols with the same ports stand
    together.
    """
    by_protocol: dict[int | None, list[str]] = {}
    for term in terms:
        own = by_protocol.setdefault(term.protocol, [])
        if term.ports is not None:
            own += _ports(term.ports)
        elif term.icmp_type is not None:
            own.append(_message(term, family))
    alike: dict[tuple[str, ...], list[str]] = {}
    for protocol, details in by_protocol.items():
        alike.setdefault(tuple(details), []).append(_protocol(protocol))
    return _joined(
        [f"{_joined(names)} {_several(details)}".strip() for details, names in alike.items()]
    )


def _protocol(number: int | None) -> str:
    """Return a protocol as people write it."""
    if number is None:
        return "anything"
    if number in (ICMP, ICMPV6):
        return "ICMP" if number == ICMP else "ICMPv6"
    name = protocol_name(number)
    return f"protocol {name}" if name.isdigit() else name.upper()


def _ports(ports: Ports) -> Iterator[str]:
    for first, last in ports:
        if first == last:
            yield str(first)
        elif last == MOST_PORT:
            yield f"{first} and above"
        else:
            yield f"{first} to {last}"


def _message(term: ServiceTerm, family: Family) -> str:
    """Return an ICMP message, by its name where it has one, with its code where a code is asked
    for.
    """
    assert term.icmp_type is not None
    protocol = icmp_of(family)
    names = iana.icmp_types(protocol)
    name = _name_of(term.icmp_type, names, f"type {term.icmp_type}")
    if term.icmp_code is None:
        return name
    codes = iana.icmp_codes(protocol).get(term.icmp_type, {})
    return f"{name} {_name_of(term.icmp_code, codes, f'code {term.icmp_code}')}"


def _name_of(number: int, names: Mapping[str, int], otherwise: str) -> str:
    """Return the first name for a number, or `otherwise` where it has none."""
    return next((name for name, known in names.items() if known == number), otherwise)


def _several(words: Sequence[str]) -> str:
    """Return words in one line: the first of many, and the number of the others."""
    more = len(words) - _MOST
    return _joined([*words[:_MOST], f"{more} more"] if more > 1 else words)


def _joined(words: Sequence[str]) -> str:
    """Return words with commas between them, and `and` before the last."""
    return " and ".join(filter(None, (", ".join(words[:-1]), words[-1]))) if words else ""
