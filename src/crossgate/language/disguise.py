"""A plan whose names, addresses and texts are replaced consistently, to be shown to somebody who
should see only its shape.

1. A name becomes what it stands for with a number: `host3`, `list2`. Numbers of lists, ports, VLANs
and services stay, and so do names that belong to the language.

2. In an address, the bits between its first octet (IPv4) or first 16 bits (IPv6) and its host part
are changed by one random mask. So prefixes stay prefixes, wildcard masks take the same machines,
and ranges stay ranges, since no bit that varies within one is changed. Addresses with a meaning of
their own in RFC 6890 or RFC 4291 (loopback, multicast, link-local, ...) stay. Hardware addresses
are treated likewise.

3. Texts become `text 1` and remarks `# remark`; every line keeps its place.

Whoever knows one address of the plan can work out the others: this hides them from a stranger, not
from people who work there.
"""

from __future__ import annotations

import os
import random
import re
from collections.abc import Iterable, Iterator, Mapping, Sequence
from pathlib import Path

from crossgate.core.model.address import (
    AddressError,
    Family,
    format_address,
    looks_like_address,
    parse_address,
)
from crossgate.core.model.bundles import BUNDLES
from crossgate.core.model.ethernet import MacError, format_mac, is_group_mac, parse_mac
from crossgate.core.model.finding_kinds import KINDS as FINDINGS
from crossgate.core.model.plaintext import numeral
from crossgate.core.model.plan import Plan
from crossgate.core.model.service import ServiceError
from crossgate.core.model.service_words import split_service
from crossgate.core.sets.meaning import PRIVATE, PRIVATE_BLOCKS
from crossgate.language.forms import ENTRIES, PARTS
from crossgate.language.syntax import EVERY_ROW
from crossgate.language.texts import Text

_LEAST_HOST = {Family.IPV4: 8, Family.IPV6: 64}
_TOP = {Family.IPV4: 8, Family.IPV6: 16}
"""So many bits stay, and at least so many at the other end."""
_ODD = re.compile(r"[^\w-]")
_LENGTH = re.compile(r"/(\d{1,3})$")
_WORDS = frozenset(
    re.findall(
        r"(?<![\w-])[a-z][a-z-]*(?![\w-])",
        " ".join(
            [
                *(f"{row.keyword} {row.form}" for row in EVERY_ROW),
                *ENTRIES.values(),
                *PARTS.values(),
            ]
        ),
    )
)
_NAMING = frozenset(
    (
        "NEW",
        "NAME",
        "ENDPOINT",
        "MACHINE",
        "SUBNET",
        "HOST",
        "USER",
        "GROUP",
        "DEVICE",
        "POINT",
        "PORT",
        "LIST",
        "WINDOW",
    )
)
_ADDRESSES = frozenset(("PREFIX", "ADDRESS", "PATTERN"))


def _has_own_meaning(family: Family, value: int) -> bool:
    """Whether an address has a fixed meaning in every network, so that its first bits may not
    change.
    """
    top = value >> family.bits - _TOP[family]
    if family is Family.IPV4:
        return top in (0, 127, 169) or top >= 224
    return top == 0 or top >> 6 == 0x3FA or top >> 8 == 0xFF


class Disguise:
    """Replaces the names, addresses and texts in a plan's files, and in words that refer to
    them.
    """

    def __init__(self, files: Mapping[str, str], chance: random.Random) -> None:
        """Take the text of each file, by its path, the plan's own first; `chance` draws the
        masks.
        """
        self._texts = {name: Text(name, text) for name, text in files.items()}
        self.files = {
            name: f"part-{number}.gate" if number else "plan.gate"
            for number, name in enumerate(files)
        }
        """What each file is called."""
        self.known: dict[str, str] = {}
        """What stands for each name, address and text that was met."""
        self._numbers: dict[str, int] = {}
        self._stems = dict(self._declared())
        self.masks = {family: _mask(family, self._host_bits(family), chance) for family in Family}
        """Which bits of addresses are turned, by family; 0 where none can be, since subnets or
        ranges are too wide.
        """
        self._mac_mask = chance.getrandbits(40)

    def text(self, name: str) -> str:
        """Return the text of a file with its names, addresses and texts replaced."""
        text = self._texts[name]
        return "\n".join(self._line(text, number) for number in range(len(text.lines)))

    def word(self, word: str) -> str:
        """Return the replacement of a word of a command line: a name, a point, an address, or
        several words of the language in one.
        """
        if " " in word:
            return " ".join(map(self.word, word.split()))
        if "," in word:
            return ",".join(map(self.word, word.split(",")))
        if word in self._stems or word in self.known:
            return self._name(word)
        head, dot, part = word.partition(".")
        if dot and head in self._stems:
            return f"{self._name(head)}.{self._part(part)}"
        return (
            self._address(word) if word.count(".") == 3 or word.count(":") > 1 else word
        )  # 12:00 is a time

    # Lines

    def _line(self, text: Text, number: int) -> str:
        """Return a line with all its words replaced."""
        line, written = text.line(number), text.written(number)
        found, at, before = "", 0, ""
        texts = [each.text for each in written.words]
        for index, (token, role) in enumerate(zip(written.words, written.roles, strict=True)):
            if role in _ADDRESSES:
                word = self._address(token.text, _under(texts[index + 1 : index + 3]))
            else:
                word = self._replaced(text, token.text, role, before, written.keyword)
            found += line[at : token.start] + word
            at, before = token.end, token.text
        ending = "\r" if text.lines[number].endswith("\r") else ""
        return found + line[at:] + ending

    def _replaced(self, text: Text, word: str, role: str, before: str, keyword: str) -> str:
        if role == "remark":
            return "# remark"
        if word[0] == '"':
            closed = '"' if len(word) > 1 and word[-1] == '"' else ""
            return (
                self._included(text.file, word)
                if keyword == "include" and closed
                else self._put(word, "text", f'"text {{}}{closed}')
            )
        if role == "SERVICE":
            return ",".join(map(self._service, split_service(word)))
        if role == "PART":
            return self._part(word)
        if role == "MAC" and before != "wild":
            return self._mac(word)
        if word == PRIVATE and word not in self._stems:
            # What it stands for is turned as all addresses are, so that what lay in it still does;
            # a list's family says which of it is meant.
            return (
                ", ".join(self._address(str(block)) for block in PRIVATE_BLOCKS)
                if keyword == "outside"
                else word
            )
        if role in _NAMING or (role == "FINDING" and word not in FINDINGS) or not role:
            return self._named(word)
        return word

    def _named(self, word: str) -> str:
        """Return the replacement of a name or a point; a word that does not belong in its line
        counts as a name, unless the language has it.
        """
        if (word in _WORDS and word not in self._stems) or not any(map(str.isalnum, word)):
            return word
        if "," in word:
            return ",".join(map(self._named, word.split(",")))
        if word not in self._stems and looks_like_address(word):
            return word if word.isdecimal() else self._address(word)
        head, dot, part = word.partition(".")
        return f"{self._name(head)}.{self._part(part)}" if dot else self._name(word)

    def _service(self, word: str) -> str:
        if word not in self._stems:
            if word in BUNDLES:
                return word
            for family in Family:
                try:
                    Plan().service(word, family)
                except ServiceError:
                    continue
                return word
        return self._name(word)

    def _included(self, file: str, word: str) -> str:
        """Return the replacement of a file name in an `include`: that of a known file, or of one
        that was not read.
        """
        target = os.path.normpath(Path(file).parent / word.strip('"'))
        new = next(
            (new for name, new in self.files.items() if os.path.normpath(name) == target), None
        )
        return f'"{new}"' if new else self._put(word, "missing", '"missing-{}.gate"')

    # Names

    def _declared(self) -> Iterator[tuple[str, str]]:
        """Yield the names that statements declare, each with the statement's keyword."""
        for text in self._texts.values():
            for number in range(len(text.lines)):
                for mention in text.mentions(number):
                    if (
                        mention.declares
                        and "." not in mention.name
                        and not mention.name.isdecimal()
                    ):
                        yield mention.name, text.written(number).keyword

    def _name(self, name: str) -> str:
        """Return the replacement of a name; characters that no name may have stay, since they may
        be the fault.
        """
        stem, odd = self._stems.get(name, "name"), _ODD.search(name)
        return (
            name
            if name.isdecimal()
            else self._put(name, stem, f"{stem}{{}}{odd[0] if odd and odd[0] not in '{}' else ''}")
        )

    def _part(self, name: str) -> str:
        """Return the replacement of an interface or port name; numbers stay."""
        return name if not any(map(str.isalpha, name)) else self._put(f".{name}", "part", "e{}")

    def _put(self, word: str, kind: str, shape: str) -> str:
        if word not in self.known:
            self._numbers[kind] = self._numbers.get(kind, 0) + 1
            self.known[word] = shape.format(self._numbers[kind])
        return self.known[word]

    # Addresses

    def _host_bits(self, family: Family) -> int:
        """Return how many bits from the right are never changed: those of the widest subnet, and
        those that vary within a range.
        """
        most = _LEAST_HOST[family]
        for text in self._texts.values():
            for number in range(len(text.lines)):
                written = text.written(number)
                for token, role in zip(written.words, written.roles, strict=True):
                    if role in _ADDRESSES:
                        most = max(
                            [
                                most,
                                *_bits_within(
                                    token.text, family, written.keyword in ("subnet", "interface")
                                ),
                            ]
                        )
        return most

    def _address(self, word: str, under: int = 0) -> str:
        """Return the replacement of an address, a prefix or a range; bits `under` a wildcard mask,
        and those after a prefix, stay.
        """
        first, sign, rest = next(
            ((*word.partition(sign),) for sign in "/-" if sign in word), (word, "", "")
        )
        length = numeral(rest) if sign == "/" else None
        found = (
            self._moved(first, under, length)
            + sign
            + (self._moved(rest) if sign == "-" and not rest.isdecimal() else rest)
        )
        self.known.setdefault(word, found)
        return found

    def _moved(self, text: str, under: int = 0, length: int | None = None) -> str:
        try:
            family, value = parse_address(text)
        except AddressError:
            return "1:2:3" if ":" in text else "10.0.0.999"
        if _has_own_meaning(family, value):
            return format_address(family, value)
        behind = 0 if length is None else (1 << max(family.bits - length, 0)) - 1
        return format_address(family, value ^ self.masks[family] & ~(under | behind))

    def _mac(self, word: str) -> str:
        try:
            value = parse_mac(word)
        except MacError:
            return "00:00:5e:00:53:999"
        found = format_mac(value if is_group_mac(value) else value ^ self._mac_mask)
        self.known.setdefault(word, found)
        return found


def _under(words: Sequence[str]) -> int:
    """Return the bits that the words after an address leave open, as a number: `wild` and a
    wildcard mask, or `mask` and a netmask.
    """
    try:
        if words[:1] == ["wild"]:
            return parse_address(words[1]).value
        if words[:1] == ["mask"]:
            return ~parse_address(words[1]).value
    except (AddressError, IndexError):
        pass
    return 0


def _mask(family: Family, host: int, chance: random.Random) -> int:
    """Return the bits to change between the first ones and the host part; at least one is set where
    there is room.
    """
    room = max(family.bits - _TOP[family] - host, 0)
    return (chance.randrange(1, 1 << room) if room else 0) << host


def _bits_within(word: str, family: Family, subnet: bool) -> Iterable[int]:
    """Yield how many bits from the right vary within a subnet or a range."""
    first, dash, last = word.partition("-")
    length = _LENGTH.search(word)
    try:
        if dash:
            one, other = parse_address(first), parse_address(last)
            if one.family is other.family is family:
                yield (one.value ^ other.value).bit_length()
        elif subnet and length and parse_address(word[: length.start()]).family is family:
            yield family.bits - int(length[1])
    except AddressError:
        return
