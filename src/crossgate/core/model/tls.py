"""The TLS version and cipher suite that a conversation settles on in its first two messages, and
tests of these.

The client offers versions and suites in its hello, and the server's hello chooses among them (RFC
8446 section 4.1.3, RFC 5246 section 7.4.1.3). Names and numbers of suites are those of the IANA
registry "TLS Cipher Suites"; this module has the ones in use.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from dataclasses import dataclass
from functools import cache, lru_cache
from typing import NamedTuple

from crossgate.core.model.condition import Abilities, Condition, State

VERSIONS = {
    0x0300: "SSL 3.0",
    0x0301: "TLS 1.0",
    0x0302: "TLS 1.1",
    0x0303: "TLS 1.2",
    0x0304: "TLS 1.3",
}
"""The versions by their numbers in a hello."""
_NUMBERS = {
    name.removeprefix("TLS "): number for number, name in VERSIONS.items() if name.startswith("TLS")
}
_OLDEST, _LAST_OLD, _NEWEST = 0x0300, 0x0303, 0x0304
MOST_SUITE = (1 << 16) - 1


class TlsError(ValueError):
    """A text that is no TLS version or cipher suite."""


class Hello(NamedTuple):
    """The version and the cipher suite that a server chose, as numbers."""

    version: int
    suite: int

    def __str__(self) -> str:
        return (
            f"{VERSIONS.get(self.version, f'version {self.version:#06x}')} with "
            f"{suite_name(self.suite)}"
        )


UNSETTLED = Hello(-1, -1)
"""What conversations settle on of which nothing tells it: no entry that asks for TLS takes them,
and none judges them.
"""


def hello_of(state: State) -> Hello | None:
    """Return what conversations settle on in a state, None where they use no TLS."""
    return next((each for each in state if isinstance(each, Hello)), None)


def settled(state: State, hello: Hello | None) -> State:
    """Return a state for conversations that settle on another hello, None for no TLS."""
    rest: State = frozenset(each for each in state if not isinstance(each, Hello))
    return rest if hello is None else rest | {hello}


@dataclass(frozen=True, slots=True)
class TlsTest(Condition):
    """`tls VERSIONS cipher SUITES`: the conversation settles on one of each, as numbers; None for
    any. A conversation without TLS never passes.
    """

    keyword = "tls"
    versions: frozenset[int] | None
    suites: frozenset[int] | None

    def __str__(self) -> str:
        versions = None if self.versions is None else ",".join(_names(self.versions))
        suites = (
            None
            if self.suites is None
            else ",".join(suite_name(each) for each in sorted(self.suites))
        )
        return " ".join(
            f"{word} {each}"
            for word, each in (("tls", versions), ("cipher", suites))
            if each is not None
        )

    def takes(self, hello: Hello | None) -> bool:
        """Whether a conversation that settled on this, None for no TLS, passes the test."""
        return hello is not None and all(
            wanted is None or own in wanted
            for wanted, own in ((self.versions, hello.version), (self.suites, hello.suite))
        )

    @property
    def needs_state(self) -> bool:
        """True: it depends on what conversations settle on."""
        return True

    def applies(self, state: State) -> bool:
        """Whether conversations settle on what it asks for in a state."""
        return self.takes(hello_of(state))

    def refusal(self, able: Abilities) -> str:
        """Return why a format cannot ask for it."""
        return (
            ""
            if self.keyword in able.conditions
            else f"{able.name} has no TLS versions and cipher suites"
        )

    def explained(self) -> str:
        """Return in words which TLS a conversation must use."""
        return f"speaking {self}".replace("tls", "TLS", 1)


class Spoken(NamedTuple):
    """Which conversations a question or a claim is about: those that pass a test, or with None
    those without TLS.
    """

    test: TlsTest | None

    def takes(self, hello: Hello | None) -> bool:
        """Whether it is about a conversation that settled on this, None for no TLS."""
        return hello is None if self.test is None else self.test.takes(hello)


def parse_versions(text: str) -> frozenset[int]:
    """Read versions, such as `1.2`, `1.2,1.3`, `-1.1` (that one and all before it, SSL 3.0
    included) or `1.2-`. Raises `TlsError`.
    """
    found: set[int] = set()
    for part in text.split(","):
        first, dash, last = part.partition("-")
        low = _OLDEST if dash and not first else _version(first)
        high = low if not dash else _NEWEST if not last else _version(last)
        if low > high:
            raise TlsError(f"{part} is no range of versions: the first one is the later one")
        found.update(range(low, high + 1))
    return frozenset(found)


def _names(versions: frozenset[int]) -> list[str]:
    """Return versions in the form that `parse_versions` reads; versions from SSL 3.0 on are written
    as all up to the last one.
    """
    if _OLDEST not in versions:
        return [VERSIONS[each].removeprefix("TLS ") for each in sorted(versions)]
    last = next(each for each in range(_OLDEST, _NEWEST + 1) if each + 1 not in versions)
    up_to = [f"-{VERSIONS[last].removeprefix('TLS ')}"] if last > _OLDEST else []
    return [*up_to, *_names(frozenset(each for each in versions if each > last))]


def _version(text: str) -> int:
    if text not in _NUMBERS:
        raise TlsError(f"{text or 'nothing'} is no version of TLS; there are {', '.join(_NUMBERS)}")
    return _NUMBERS[text]


def parse_suites(text: str) -> frozenset[int]:
    """Read cipher suites by name or number, with commas: `TLS_AES_128_GCM_SHA256,0xC02F`. Raises
    `TlsError`.
    """
    return frozenset(map(_suite, text.split(",")))


def _suite(text: str) -> int:
    numbers = {name: number for number, name in suite_names().items()}
    if text in numbers:
        return numbers[text]
    if text[:1].isdigit():
        try:
            number = int(text, 0)
        except ValueError:
            number = -1
        if 0 <= number <= MOST_SUITE:
            return number
        raise TlsError(f"{text} is no number of a cipher suite; they go from 0x0000 to 0xFFFF")
    from difflib import get_close_matches

    near = get_close_matches(text.upper(), numbers, 1, 0.6)
    raise TlsError(
        f"no cipher suite {text or 'without a name'} is known here"
        + (f"; did you mean {near[0]}? " if near else "; ")
        + "Every suite can be written by its number, as 0xC02F"
    )


def suite_name(number: int) -> str:
    """Return a suite's name in the registry, or else its number."""
    return suite_names().get(number) or f"0x{number:04x}"


def versions_of(suite: int) -> range:
    """Return the versions that can settle on a suite: TLS 1.3 has suites of its own (RFC 8446
    appendix B.4).

    Suites that came with TLS 1.2 are not for earlier versions (RFC 5246 appendix A.5, RFC 5288
    section 4, RFC 5289 section 5).
    """
    if suite >> 8 == _SUITES_OF_13:
        return range(_NEWEST, _NEWEST + 1)
    old = suite not in suite_names() or suite_names()[suite].endswith(("_SHA", "_MD5"))
    return range(_OLDEST if old else _LAST_OLD, _LAST_OLD + 1)


_SUITES_OF_13 = 0x13


def chosen_hello(test: TlsTest) -> Hello | None:
    """Return a hello that passes a test: the newest version with a common suite; None where none
    can.
    """
    return next((each for each in _every(frozenset((test,))) if test.takes(each)), None)


def asked_hello(tls: str | None, cipher: str | None) -> Hello | None:
    """Return the hello that versions, suites or both ask for; None where neither is given. Raises
    `TlsError`.
    """
    if tls is None and cipher is None:
        return None
    hello = chosen_hello(
        TlsTest(
            None if tls is None else parse_versions(tls),
            None if cipher is None else parse_suites(cipher),
        )
    )
    if hello is None:
        raise TlsError(f"no conversation settles on {cipher} in TLS {tls}")
    return hello


@lru_cache(1 << 10)
def classes(tests: frozenset[TlsTest]) -> tuple[Hello, ...]:
    """Return one hello for each sort of TLS conversation that some tests treat differently, the
    newest version first.
    """
    found: dict[tuple[bool, ...], Hello] = {}
    for hello in _every(tests):
        found.setdefault(tuple(test.takes(hello) for test in tests), hello)
    return tuple(found.values())


def spoken_sorts(
    tests: Iterable[TlsTest], spoken: Spoken | None = None
) -> tuple[Hello | None, ...]:
    """Return one hello for each sort of conversation that some tests treat differently, None for no
    TLS; empty without tests. With `spoken`, only conversations that it is about.
    """
    every = frozenset(tests)
    if not every:
        return ()
    asked = every if spoken is None or spoken.test is None else every | {spoken.test}
    return tuple(each for each in (None, *classes(asked)) if spoken is None or spoken.takes(each))


def _every(tests: Iterable[TlsTest]) -> Iterator[Hello]:
    """Yield the hellos that conversations can settle on; of the suites that no test names, one for
    each version.
    """
    named = {suite for test in tests for suite in test.suites or ()}
    known = [*_USUAL, *(number for number in suite_names() if number not in _USUAL)]
    unnamed = (
        [number for number in (*known, *range(MOST_SUITE + 1)) if number not in named]
        if named
        else known
    )
    for version in range(_NEWEST, _OLDEST - 1, -1):
        other = next((suite for suite in unnamed if version in versions_of(suite)), None)
        yield from (
            Hello(version, suite)
            for suite in (*([] if other is None else [other]), *sorted(named))
            if version in versions_of(suite)
        )


_USUAL = (0x1301, 0xC02F, 0xC013)
"""Suites that are much used, for each version the first that it has."""
_SUITES = """
0001 RSA_WITH_NULL_MD5; 0002 RSA_WITH_NULL_SHA; 0004 RSA_WITH_RC4_128_MD5; 0005
RSA_WITH_RC4_128_SHA; 0009 RSA_WITH_DES_CBC_SHA; 000A RSA_WITH_3DES_EDE_CBC_SHA; 0016
DHE_RSA_WITH_3DES_EDE_CBC_SHA; 002F RSA_WITH_AES_128_CBC_SHA; 0032 DHE_DSS_WITH_AES_128_CBC_SHA;
0033 DHE_RSA_WITH_AES_128_CBC_SHA; 0035 RSA_WITH_AES_256_CBC_SHA; 0038 DHE_DSS_WITH_AES_256_CBC_SHA;
0039 DHE_RSA_WITH_AES_256_CBC_SHA; 003B RSA_WITH_NULL_SHA256; 003C RSA_WITH_AES_128_CBC_SHA256; 003D
RSA_WITH_AES_256_CBC_SHA256; 0041 RSA_WITH_CAMELLIA_128_CBC_SHA; 0045
DHE_RSA_WITH_CAMELLIA_128_CBC_SHA; 0067 DHE_RSA_WITH_AES_128_CBC_SHA256; 006B
DHE_RSA_WITH_AES_256_CBC_SHA256; 0084 RSA_WITH_CAMELLIA_256_CBC_SHA; 0088
DHE_RSA_WITH_CAMELLIA_256_CBC_SHA; 008C PSK_WITH_AES_128_CBC_SHA; 008D PSK_WITH_AES_256_CBC_SHA;
009C RSA_WITH_AES_128_GCM_SHA256; 009D RSA_WITH_AES_256_GCM_SHA384; 009E
DHE_RSA_WITH_AES_128_GCM_SHA256; 009F DHE_RSA_WITH_AES_256_GCM_SHA384; 00A2
DHE_DSS_WITH_AES_128_GCM_SHA256; 00A3 DHE_DSS_WITH_AES_256_GCM_SHA384; 00A8
PSK_WITH_AES_128_GCM_SHA256; 00A9 PSK_WITH_AES_256_GCM_SHA384; 1301 AES_128_GCM_SHA256; 1302
AES_256_GCM_SHA384; 1303 CHACHA20_POLY1305_SHA256; 1304 AES_128_CCM_SHA256; 1305
AES_128_CCM_8_SHA256; C007 ECDHE_ECDSA_WITH_RC4_128_SHA; C008 ECDHE_ECDSA_WITH_3DES_EDE_CBC_SHA;
C009 ECDHE_ECDSA_WITH_AES_128_CBC_SHA; C00A ECDHE_ECDSA_WITH_AES_256_CBC_SHA; C011
ECDHE_RSA_WITH_RC4_128_SHA; C012 ECDHE_RSA_WITH_3DES_EDE_CBC_SHA; C013
ECDHE_RSA_WITH_AES_128_CBC_SHA; C014 ECDHE_RSA_WITH_AES_256_CBC_SHA; C023
ECDHE_ECDSA_WITH_AES_128_CBC_SHA256; C024 ECDHE_ECDSA_WITH_AES_256_CBC_SHA384; C027
ECDHE_RSA_WITH_AES_128_CBC_SHA256; C028 ECDHE_RSA_WITH_AES_256_CBC_SHA384; C02B
ECDHE_ECDSA_WITH_AES_128_GCM_SHA256; C02C ECDHE_ECDSA_WITH_AES_256_GCM_SHA384; C02F
ECDHE_RSA_WITH_AES_128_GCM_SHA256; C030 ECDHE_RSA_WITH_AES_256_GCM_SHA384; C09C
RSA_WITH_AES_128_CCM; C09D RSA_WITH_AES_256_CCM; C09E DHE_RSA_WITH_AES_128_CCM; C09F
DHE_RSA_WITH_AES_256_CCM; C0A0 RSA_WITH_AES_128_CCM_8; C0A4 PSK_WITH_AES_128_CCM; C0A8
PSK_WITH_AES_128_CCM_8; C0AC ECDHE_ECDSA_WITH_AES_128_CCM; C0AD ECDHE_ECDSA_WITH_AES_256_CCM; C0AE
ECDHE_ECDSA_WITH_AES_128_CCM_8; C0AF ECDHE_ECDSA_WITH_AES_256_CCM_8; CCA8
ECDHE_RSA_WITH_CHACHA20_POLY1305_SHA256; CCA9 ECDHE_ECDSA_WITH_CHACHA20_POLY1305_SHA256; CCAA
DHE_RSA_WITH_CHACHA20_POLY1305_SHA256; CCAB PSK_WITH_CHACHA20_POLY1305_SHA256; CCAC
ECDHE_PSK_WITH_CHACHA20_POLY1305_SHA256; D001 ECDHE_PSK_WITH_AES_128_GCM_SHA256; D002
ECDHE_PSK_WITH_AES_256_GCM_SHA384
"""


@cache
def suite_names() -> dict[int, str]:
    """Return the names of cipher suites by their numbers."""
    rows = (row.split() for row in _SUITES.split(";"))
    return {int(number, 16): f"TLS_{name}" for number, name in rows}
