"""A plan with its names, addresses and texts replaced, each by the same everywhere, for somebody
who is to see only its shape.

1. A name becomes what it names and a number: `host3`, `list2`. Numbers of lists, ports, VLANs and
   services stay, and so do the names that the language itself has.
2. An address has the bits between its first octet (IPv4) or 16 bits (IPv6) and its host's part
   turned round by one mask, drawn by chance. So prefixes stay prefixes and wildcard masks take the
   same machines, and ranges stay whole, since no bit within one is turned. What RFC 6890 and RFC
   4291 give a meaning of its own (loopback, multicast, link-local, ...) stays. Hardware addresses
   are treated likewise.
3. Texts become `text 1` and remarks `# remark`; every line stays on its line.

Who knows one address of the plan can work out the others: it hides them from a stranger, not from
whoever works there.
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
from crossgate.core.model.finding import KINDS as FINDINGS
from crossgate.core.model.plaintext import numeral
from crossgate.core.model.plan import Plan
from crossgate.core.model.service import ServiceError, split_service
from crossgate.core.sets.meaning import PRIVATE, PRIVATE_BLOCKS
from crossgate.language.forms import ENTRIES, FORMS
from crossgate.language.syntax import BLOCK_LINES, STATEMENTS
from crossgate.language.texts import Text

_LEAST_HOST = {Family.IPV4: 8, Family.IPV6: 64}
_TOP = {Family.IPV4: 8, Family.IPV6: 16}
"""So many bits stay, and at least so many at the other end."""
_ODD = re.compile(r"[^\w-]")
_LENGTH = re.compile(r"/(\d{1,3})$")
_WORDS = frozenset(
    re.findall(r"(?<![\w-])[a-z][a-z-]*(?![\w-])", " ".join([*FORMS.values(), *ENTRIES.values()]))
) | {
    *STATEMENTS,
    *BLOCK_LINES,
}
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
    """Whether an address is not a machine's own in any network: of its first bits nothing may
    change.
    """
    top = value >> family.bits - _TOP[family]
    if family is Family.IPV4:
        return top in (0, 127, 169) or top >= 224
    return top == 0 or top >> 6 == 0x3FA or top >> 8 == 0xFF


class Disguise:
    """Replaces the names, addresses and texts of a plan's files, and of words that speak of
    them.
    """

    def __init__(self, files: Mapping[str, str], chance: random.Random) -> None:
        """Take the text of each file, the plan's own first, by its path; `chance` draws the
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
        """Return a word of a command line: a name, a point, an address, or words of the plan's
        language in one.
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
        """Return a line with every word in its place."""
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
        """Return a name, or a point; a word that has no place in its line is one too, unless the
        language has it.
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
        """Return the file that an `include` names: another of the files, or one that was not
        read.
        """
        target = os.path.normpath(Path(file).parent / word.strip('"'))
        new = next(
            (new for name, new in self.files.items() if os.path.normpath(name) == target), None
        )
        return f'"{new}"' if new else self._put(word, "missing", '"missing-{}.gate"')

    # Names

    def _declared(self) -> Iterator[tuple[str, str]]:
        """Yield the names that some statement gives, each with that statement's keyword."""
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
        """Return what stands for a name; what no name may have stays in it, since that may be the
        fault.
        """
        stem, odd = self._stems.get(name, "name"), _ODD.search(name)
        return (
            name
            if name.isdecimal()
            else self._put(name, stem, f"{stem}{{}}{odd[0] if odd and odd[0] not in '{}' else ''}")
        )

    def _part(self, name: str) -> str:
        """Return the name of an interface or port; numbers stay."""
        return name if not any(map(str.isalpha, name)) else self._put(f".{name}", "part", "e{}")

    def _put(self, word: str, kind: str, shape: str) -> str:
        if word not in self.known:
            self._numbers[kind] = self._numbers.get(kind, 0) + 1
            self.known[word] = shape.format(self._numbers[kind])
        return self.known[word]

    # Addresses

    def _host_bits(self, family: Family) -> int:
        """Return how many bits from the right are never turned: those of the widest subnet, and
        those that differ within a range.
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
        """Return an address, a prefix or a range; no bit `under` a wildcard mask is turned, nor
        behind a prefix.
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
    """Return the bits that the words behind an address do not ask for, as a number: `wild` and a
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
    """Return bits to turn between the first ones and the host's part, some of them 1 where there is
    room.
    """
    room = max(family.bits - _TOP[family] - host, 0)
    return (chance.randrange(1, 1 << room) if room else 0) << host


def _bits_within(word: str, family: Family, subnet: bool) -> Iterable[int]:
    """Yield how many bits from the right differ within a subnet or a range."""
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
