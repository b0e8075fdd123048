"""Entries, placements and claims in other notations, and what they say in this language.

Such a notation is never accepted. A faulty line is translated into this language as far as its
meaning is plain, and the translation is shown only if it reads without an error, so that it can be
copied as it stands.
"""

from __future__ import annotations

from collections.abc import Callable

from crossgate.core.model.address import Address, AddressError, Family, parse_address
from crossgate.core.model.claim import Claim
from crossgate.core.model.entry import Action, Kind
from crossgate.core.model.errors import Instead, PlanError
from crossgate.core.model.packet import MOST_PORT
from crossgate.core.model.plaintext import numeral
from crossgate.core.sets.wildcard import looks_like_mask, meanings
from crossgate.language.conditions import MAKE_EXTENDED
from crossgate.language.lines import Line
from crossgate.language.words import Words

_ACTIONS = {
    "allow": "permit",
    "accept": "permit",
    "pass": "permit",
    "drop": "deny",
    "block": "deny",
    "discard": "deny",
    "refuse": "reject",
}
DIRECTIONS = {
    **dict.fromkeys(("in", "inbound", "incoming", "ingress"), "inbound"),
    **dict.fromkeys(("out", "outbound", "outgoing", "egress"), "outbound"),
}
"""The direction that each of these words means."""
_AT = ("on", "at", "to", "interface")
_ENDINGS = {"logging": "log", "logged": "log", "est": "established", "fragment": "fragments"}
_PORTED = ("tcp", "udp", "sctp", "dccp")
_ORDERED = {"gt": ">", ">": ">", "lt": "<", "<": "<", "neq": "!", "!=": "!"}
_PORT_TESTS = ("eq", "=", "==", "port", "range", *_ORDERED)
_MESSAGES = ("icmp", "icmpv6")
"""Protocols whose messages may stand behind the ends in other notations."""
_LAST_WORDS = (
    "log",
    "established",
    "fragments",
    "flags",
    "source",
    "dscp",
    "tls",
    "during",
    "at",
    "until",
    "for",
)
"""The words with which what follows the ends of an entry can begin."""

Reads = Callable[[Line], object]
"""Reads a line as an entry, and raises `PlanError` where it is none."""


def mended(error: PlanError, line: Line, kind: Kind, family: Family, reads: Reads) -> PlanError:
    """Return the error of an entry's line, extended by what the line says in this language where
    that is plain.
    """
    try:
        words = Words(line).words
    except PlanError:
        return error
    if words[0] == "remark" and len(words) > 1:
        text = line.text.strip().removeprefix("remark").strip().replace('"', "'")
        return _told(error, line, f'note "{text}"', "")
    for rewritten, doubt in _readings(words, kind, family):
        if rewritten != " ".join(words):
            try:
                reads(line._replace(text=rewritten))
            except PlanError:
                continue
            return _told(error, line, rewritten, doubt)
    return error


def mended_placement(error: PlanError, line: Line) -> PlanError:
    """Return the error of a placement's line, extended by what the line says in this language where
    it has a list, a direction in whatever words, and a single place.
    """
    _, access_list, *rest = Words(line).words
    directions = [DIRECTIONS[each.lower()] for each in rest if each.lower() in DIRECTIONS]
    places = [each for each in rest if each.lower() not in (*DIRECTIONS, *_AT)]
    if len(directions) != 1 or len(places) != 1:
        return error
    return _told(error, line, f"place {access_list} {directions[0]} on {places[0]}", "")


def mended_claim(error: PlanError, line: Line, is_service: Callable[[str], bool]) -> PlanError:
    """Return the error of a claim's line, extended by what the line says in this language where its
    service stands behind its ends, where `to` is missing, or where it does not say whether it is
    permitted.
    """
    keyword, *rest = Words(line).words
    claim = [rest.pop(0)] if rest and rest[0] in tuple(Claim) else []
    said = [each for each in rest if each != "from"]
    if len(said) < 3:
        return error
    ordered = _claim_in_order(said, is_service)
    form = " ".join([keyword, *(claim or [Claim.PERMIT]), *ordered])
    if claim:
        return error if ordered == rest else _told(error, line, form, "")
    if is_service(ordered[0]) and "to" in ordered:
        return _extended(error, f"write: {form}, or the same with {Claim.DENY}")
    return error


def _claim_in_order(words: list[str], is_service: Callable[[str], bool]) -> list[str]:
    """Return the words of a claim as SERVICE FROM to TO, as far as that is plain."""
    first, second, third, *more = words
    if second == "to" and more and is_service(more[0]) and not is_service(first):
        return [more[0], first, "to", third, *more[1:]]
    if "to" not in words and is_service(first):
        return [first, second, "to", third, *more]
    return words


def _told(error: PlanError, line: Line, form: str, doubt: str) -> PlanError:
    or_else = "or " * error.message.endswith(MAKE_EXTENDED)
    told = _extended(error, f"{doubt}{'; ' * bool(doubt)}{or_else}write: {form}")
    words = line.words()
    told.instead = Instead(words[0].start, words[-1].end, form)
    return told


def _extended(error: PlanError, more: str) -> PlanError:
    """Return an error whose message says more, and no longer asks whether one word was meant."""
    message = f"{error.message.partition('; did you mean ')[0]}; {more}"
    return PlanError(
        message, place=error.place, source=error.source, column=error.column, width=error.width
    )


def _readings(words: list[str], kind: Kind, family: Family) -> list[tuple[str, str]]:
    """Return what the words may say in this language, the likeliest first, each with a note about a
    mask in it.
    """
    left = _without_gaps(words)
    if left[0].lower() in ("access-list", "acl") and len(left) > 2:
        left = left[2:]  # the list is named in the line above
    head: list[str] = []
    while left and (left[0].isdecimal() or left[0] == "off"):
        head.append(left.pop(0))
    comment = [left.pop()] if left and left[-1].startswith('"') else []
    if not left:
        return []
    head.append(_ACTIONS.get(left[0].lower(), left[0].lower()))
    left.pop(0)
    if head[-1] not in tuple(Action):
        return []
    found = []
    for said in [left] if kind is Kind.STANDARD else [left, ["ip", *left]]:
        reader = _Reader(list(said), family)
        body = reader.standard() if kind is Kind.STANDARD else reader.extended()
        if body is not None:
            found.append((" ".join([*head, *body, *comment]), reader.doubt))
    return found


def _without_gaps(words: list[str]) -> list[str]:
    """Return the words, joining those that a blank after a comma, or before the length of a
    prefix, has separated.
    """
    found: list[str] = []
    for word in words:
        listed = bool(found) and found[-1].endswith(",") and len(found[-1]) > 1
        if listed or (found and word[:1] == "/" and word[1:].isdecimal()):
            found[-1] += word
        else:
            found.append(word)
    return found


class _Reader:
    """Reads the words of an entry after its action leniently, and returns them in this language;
    None where their meaning is not plain.
    """

    def __init__(self, words: list[str], family: Family) -> None:
        self.words = words
        self.family = family
        self.doubt = ""

    def standard(self) -> list[str] | None:
        self._accept("ip")
        source = self._end()
        self._accept("to", "->")
        self._accept("any")
        return None if source is None else [*source, *self._endings()]

    def extended(self) -> list[str] | None:
        if len(self.words) == 2 and self.words[0] == "any" != self.words[1]:
            return None  # every service from there, or every sender to there
        service = self._service()
        source = self._end()
        from_ports = self._ports()
        self._accept("to", "->")
        destination = self._end() if self.words else ["any"]
        to_ports = self._ports()
        if service is None or source is None or destination is None:
            return None
        if to_ports:
            if service not in _PORTED:
                return None
            service = f"{service}/{to_ports}"
        clients = ["source", "port", from_ports] if from_ports else []
        if service in _MESSAGES and self.words and self.words[0] not in (*_LAST_WORDS, *_ENDINGS):
            service = f"{service}/{self.words.pop(0)}"
        return [service, *source, "to", *destination, *clients, *self._endings()]

    def _service(self) -> str | None:
        if not self.words:
            return None
        word = self.words.pop(0)
        if word in ("any", "all"):
            return "ip"
        if word.lower() in _PORTED and self.words and _is_port(self.words[0]):
            return f"{word.lower()}/{self.words.pop(0)}"
        if word.lower() == "ipv6" and self.family is Family.IPV6:
            return "ip"
        return word.lower() if word.lower() in (*_PORTED, "ip", "icmp") else word

    def _end(self) -> list[str] | None:
        """Take a source or a destination from the front, with what it excepts."""
        own = self._addresses()
        if own is None or self.words[:1] != ["but"]:
            return own
        self.words.pop(0)
        less = self._addresses()
        return None if less is None else [*own, "but", *less]

    def _addresses(self) -> list[str] | None:
        if not self.words:
            return None
        word = self.words.pop(0)
        if word == "host" and self.words:
            return [self.words.pop(0)]
        if word in ("all", "0.0.0.0/0", "::/0"):
            return ["any"]
        if word == "leases" and self.words[:1] == ["of"] and len(self.words) > 1:
            return [word, self.words.pop(0), self.words.pop(0)]
        if self.words[:1] in (["wild"], ["mask"]) and len(self.words) > 1:
            return [word, self.words.pop(0), self.words.pop(0)]
        address = _address(word)
        mask = _address(self.words[0]) if address is not None and self.words else None
        if (
            address is None
            or mask is None
            or address.family is not mask.family
            or not looks_like_mask(mask)
        ):
            return [word]
        return self._masked(address, str(mask), mask)

    def _masked(self, address: Address, text: str, mask: Address) -> list[str]:
        """Return an address with a mask beside it, where nothing says whether it is a wildcard or a
        netmask.
        """
        self.words.pop(0)
        likely, told = meanings(address, mask)
        self.doubt = f"{text} looks like a {'netmask' if likely == 'mask' else 'wildcard'}: {told}"
        return [str(address), likely, text]

    def _ports(self) -> str:
        """Take a test of ports from the front, and return it as this language writes ports; ""
        where there is none.
        """
        if not self.words or self.words[0] not in _PORT_TESTS:
            return ""
        test = self.words.pop(0)
        number = numeral(self.words[0]) if self.words else None
        if test == "range" and len(self.words) > 1:
            return f"{self.words.pop(0)}-{self.words.pop(0)}"
        if not self.words:
            return ""
        word = self.words.pop(0)
        if test not in _ORDERED:
            return word
        below = f"-{number - 1}" if number else ""
        above = f"{number + 1}-" if number is not None and number < MOST_PORT else ""
        either = ",".join(filter(None, (below, above)))
        # No port has the name that is left where the meaning is not plain.
        return {">": above, "<": below, "!": either}[_ORDERED[test]] or f"{test}-{word}"

    def _endings(self) -> list[str]:
        left = [_ENDINGS.get(word, word) for word in self.words]
        self.words = []
        return left

    def _accept(self, *words: str) -> None:
        if self.words and self.words[0] in words:
            self.words.pop(0)


def _is_port(word: str) -> bool:
    return all(
        numeral(piece) is not None for part in word.split(",") for piece in part.split("-") if piece
    )


def _address(word: str) -> Address | None:
    try:
        return parse_address(word)
    except AddressError:
        return None
