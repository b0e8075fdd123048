"""The forms of lines, and the grammar for colours that is made of them."""

from __future__ import annotations

import json
import random
import re
import runpy
from pathlib import Path

import pytest

from crossgate.core.model.entry import Kind
from crossgate.core.model.named import NameSpace
from crossgate.language.forms import ENTRIES, KINDS, PARTS, entry_form, statement_form
from crossgate.language.lines import form_tokens
from crossgate.language.reader import attempt
from crossgate.language.syntax import EVERY_ROW, STATEMENTS
from crossgate.language.texts import Text

ROOT = Path(__file__).parents[2]
DEMO = (ROOT / "src/crossgate/demo/files/ternhaven.gate").read_text()
GRAMMAR = ROOT / "editors" / "crossgate.tmLanguage.json"


def test_forms_name_kinds_of_words_and_parts_that_there_are() -> None:
    for form in (*(row.form for row in EVERY_ROW), *ENTRIES.values(), *PARTS.values()):
        assert {*re.findall(r"[A-Z][A-Z_]+", form)} <= {*KINDS, *PARTS}, form
        assert form.count("(") == form.count(")")
        assert form.count("[") == form.count("]")


def test_every_word_of_the_demo_has_a_place_in_its_form() -> None:
    text = Text("demo", DEMO)
    for number, line in enumerate(text.lines):
        written = text.written(number)
        assert all(written.roles), line
        words = [
            token.text
            for token, role in zip(written.words, written.roles, strict=True)
            if role != "remark"
        ]
        assert not words or (written.form is not None and written.form.accepts(words)), line


@pytest.mark.parametrize(
    "line",
    [
        "gateway 10.0.0.1 2001:db8::1 on hall by a.x, b.x vrid 7",
        "window w daily 22:00-05:30, sat 10:00-12:00",
        "routing static",
        "window w 2026-12-01 06:00 to 2026-12-05 18:00",
        "numbering standard 1-99, 1300-1999 extended 100-199",
        "client ports 1024-65535",
        (
            "expect permit tcp/443 a to b source port 50000 at mon 23:00 flooding tls 1.2 cipher "
            "0xC02F over ipv4 by 110 otherwise"
        ),
        "keep only tcp/443 and udp/53 a to elsewhere at 2026-12-01 23:00 no tls over ipv6",
        "expect only nothing a to b",
        "zone Europe/Lisbon",
        'accept no-effect in 12 30 "as agreed"',
        "place l inbound on r itself",
        "place l outbound on group cameras",
        "outside sea",
    ],
)
def test_forms_take_what_the_language_has(line: str) -> None:
    form = statement_form(STATEMENTS[line.split()[0]])
    assert form.accepts(token.text for token, _ in form.roles(form_tokens(line)))
    assert not form.accepts([*line.split(), "surplus"])


def test_entries_have_their_conditions_in_order() -> None:
    words = [
        "10",
        "off",
        "permit",
        "tcp/443",
        "any",
        "to",
        "10.0.0.0",
        "wild",
        "0.0.0.3",
        "source",
        "port",
        "1024-",
        "flags",
        "SYN",
        "during",
        "w",
        "at",
        "most",
        "5",
        "a",
        "second",
        "from",
        "each",
        "source",
        "tls",
        "1.2-",
        "cipher",
        "0x1301",
        "log",
    ]
    assert entry_form(Kind.EXTENDED, False).accepts(words)
    swapped = [*words[:-5], "log", "tls", "1.2-"]
    assert not entry_form(Kind.EXTENDED, False).accepts(swapped)
    assert not entry_form(Kind.STANDARD, False).accepts(words)
    assert entry_form(Kind.EXTENDED, True).accepts(
        [
            "permit",
            "0x88cc",
            "00:00:5e:00:53:01",
            "wild",
            "00:00:00:00:00:ff",
            "to",
            "broadcast",
            "log",
        ]
    )


@pytest.mark.parametrize(
    ("line", "names"),
    [
        ("group some h,k", "some h k"),
        ("service web tcp/80,443,udp/53", "web tcp/80,443 udp/53"),
        ("expect permit web,tcp/22 h,k to b, g but k,10.0.0.1", "web tcp/22 h k b g k"),
        ("    permit web h,k but k to b at most 5 a second", "web h k k b"),
        ("leases 10.0.0.8,10.0.0.9 on a by h names h,k", "a h h k"),
    ],
)
def test_names_with_commas_between_are_names_with_blanks_or_without(line: str, names: str) -> None:
    head = "list l extended ipv4\n" if line[0] == " " else ""
    text = Text("x", head + line)
    number = len(text.lines) - 1
    mentions = text.mentions(number)
    assert [each.name for each in mentions] == names.split()
    assert [line[each.start : each.end] for each in mentions] == names.split()
    assert "" not in text.written(number).roles


def test_mentions_know_their_space_and_their_place() -> None:
    text = Text(
        "x",
        (
            "service web tcp/80\nlist web extended ipv4\n    10 permit web,tcp/22 any to "
            "r.lan\nplace "
            "web inbound on r.lan\n"
        ),
    )
    assert [(each.space, each.name, each.start) for each in text.mentions(2)] == [
        (NameSpace.SERVICE, "web", 14),
        (NameSpace.SERVICE, "tcp/22", 18),
        (NameSpace.NAME, "r", 32),
        (NameSpace.POINT, "r.lan", 34),
    ]
    assert [line for line, _ in text.mentioning(NameSpace.LIST, "web")] == [1, 3]
    assert [line for line, _ in text.mentioning(NameSpace.SERVICE, "web")] == [0, 2]


def test_the_grammar_is_the_one_that_is_written() -> None:
    assert runpy.run_path(str(ROOT / "editors" / "grammar.py"))["grammar"]() == json.loads(
        GRAMMAR.read_text()
    )


def test_the_grammar_colours_lines_as_their_words_are() -> None:
    patterns = json.loads(GRAMMAR.read_text())["patterns"]

    def colour(line: str, word: str) -> str:
        """Return how a word is coloured: by the pattern that matches first, from left to right, as
        editors do.
        """
        at = 0
        while at < len(line):
            found = [
                (match.start(), order, match, each)
                for order, each in enumerate(patterns)
                if (match := _search(each["match"], line, at))
            ]
            if not found:
                break
            _, _, match, each = min(found, key=lambda each: each[:2])
            for group, told in each.get("captures", {"0": each}).items():
                if match.group(int(group)) == word:
                    return str(told["name"])
            at = max(match.end(), at + 1)
        return ""

    entry = "    30 reject tcp/23 any to 10.64.32.10 wild 0.0.3.0 log # old kiosks"
    assert colour(entry, "30") == "constant.numeric.crossgate"
    assert colour(entry, "reject") == "keyword.operator.crossgate"
    assert colour(entry, "tcp/23").startswith("support.function")
    assert (
        colour(entry, "10.64.32.10")
        == colour(entry, "0.0.3.0")
        == "constant.numeric.address.crossgate"
    )
    assert colour(entry, "wild") == colour(entry, "log") == "keyword.other.crossgate"
    assert colour(entry, "# old kiosks").startswith("comment")
    assert colour("host printer 10.0.0.9 on hall", "printer") == "entity.name.type.crossgate"
    assert colour("expect half-open https a to b", "half-open") == "keyword.operator.crossgate"
    assert colour("expect half-open https a to b", "expect") == "keyword.control.crossgate"


def _search(pattern: str, line: str, at: int) -> re.Match[str] | None:
    # Editors' engines take a lookbehind of several widths; here it is told in parts.
    plain = pattern.replace("(?<=^|[\\s,])", "(?:^|(?<=[\\s,]))").replace(
        "(?<=\\s|,)", "(?<=[\\s,])"
    )
    return re.compile(plain).search(line, at)


SITE = """
subnet hall 10.0.0.0/24
subnet yard 10.0.1.0/24
outside net
router gate stateful
    interface a 10.0.0.1/24 on hall mac 00:00:5e:00:53:01
    interface b 10.0.1.1/24 on yard
    interface sea 203.0.113.2/30 on net
switch hub
    port 1
host kiosk 10.0.0.5 on hall mac 00:00:5e:00:53:05
group some kiosk
window night daily 22:00-06:00
list base extended ipv4
    7 permit ip any to any
"""
EXAMPLES = {
    "TEXT": '"x"',
    "NUMBER": "7",
    "RANGE": "3-9",
    "ZONE": "Europe/Lisbon",
    "NEW": "fresh",
    "USER": "ops",
    "PART": "z",
    "PREFIX": "10.0.2.0/24",
    "ADDRESS": "10.0.0.9",
    "PATTERN": "10.0.0.9",
    "WILDCARD": "255.255.255.255",
    "MAC": "00:00:5e:00:53:21",
    "NAME": "some",
    "ENDPOINT": "kiosk",
    "MACHINE": "kiosk",
    "SUBNET": "hall",
    "HOST": "kiosk",
    "GROUP": "some",
    "DEVICE": "gate",
    "POINT": "gate.a",
    "PORT": "hub.1",
    "SERVICE": "tcp/443,8443",
    "LIST": "base",
    "WINDOW": "night",
    "FINDING": "no-effect",
    "PORTS": "53,1024-",
    "FLAGS": "SYN,!ACK",
    "DSCP": "ef",
    "VERSIONS": "1.2",
    "SUITES": "0xC02F",
    "DAYS": "mon-fri",
    "HOURS": "10:00-11:00",
    "DATE": "2027-03-31",
    "CLOCK": "06:00",
    "TIME": "mon",
}
LINES = {
    **{each: ("{}", statement_form(row)) for each, row in STATEMENTS.items() if not row.block},
    **{
        row.keyword: ("switch own stateful\n    {}", statement_form(row))
        for row in STATEMENTS["switch"].block
    },
    **{
        f"{kind} {frames}": (
            f"list l {kind} {'ethernet' if frames else 'ipv4'}\n    {{}}",
            entry_form(kind, frames),
        )
        for kind, frames in ENTRIES
    },
}
del LINES["include"]


@pytest.mark.parametrize("name", LINES)
def test_what_a_form_allows_is_read_or_told_for_what_it_says(tmp_path: Path, name: str) -> None:
    frame, form = LINES[name]
    chance = random.Random(name)
    for _ in range(30):
        state, words = 0, list[str]()
        while form.states[state] and not (state in form.ends and chance.random() < 0.3):
            step = chance.choice(form.states[state])
            words.append(step.word or EXAMPLES[step.kind])
            state = step.after
        path = tmp_path / "p.gate"
        path.write_text(f"{SITE}{frame.format(' '.join(words))}\n")
        for error in attempt(path)[1]:
            # A day alone is no time, and no subnet has a new prefix.
            shape = error.message.replace("expected on SUBNET", "").replace("expected a time", "")
            assert not re.search("expected|nothing more belongs", shape), (words, error.message)
