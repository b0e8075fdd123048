"""Adding a statement, a finding, a command, a condition, a format or a leg takes what CONTRIBUTING
says and nothing else.

The last three are added to a copy of the program: a growth is what somebody would write, new files
and lines put before others, in no more than a dozen files; and every question answers by it at
once.
"""

from __future__ import annotations

import json
import os
import shutil
import subprocess
import sys
from collections.abc import Iterator
from pathlib import Path
from types import ModuleType
from typing import NamedTuple

import pytest
import typer

import crossgate
from crossgate.commands.table import COMMANDS, Listed
from crossgate.core.audit.context import Case
from crossgate.core.audit.registry import AUDITS, finds
from crossgate.core.model.finding import Fault, Finding
from crossgate.core.model.finding_kinds import KINDS, FindingKind, Severity
from crossgate.language.cells import named_cells
from crossgate.language.names import Names
from crossgate.language.row import Row
from crossgate.language.syntax import STATEMENTS
from crossgate.language.texts import Text
from crossgate.language.words import Words
from tests.conftest import Ask, Run


def motto(words: Words, names: Names) -> None:
    """Read a `motto` statement."""
    words.keyword("motto")
    words.name("a motto")
    names.plan.title = words.text("the motto, in double quotes")
    words.end()


def test_a_new_statement_is_a_row_and_a_reading_function(
    monkeypatch: pytest.MonkeyPatch, run: Run, tmp_path: Path
) -> None:
    plan = tmp_path / "p.gate"
    plan.write_text('motto  a   "first"\nmotto long "second"\nlist l standard ipv4\n')
    assert "no statement motto" in run("lists").stderr
    monkeypatch.setitem(STATEMENTS, "motto", Row("motto", "NEW TEXT", motto, named_cells))
    assert run("lists").stdout.startswith("second")
    assert run("tidy").returncode == 0
    assert plan.read_text().startswith('motto a    "first"\nmotto long "second"\n')
    assert Text("p.gate", plan.read_text()).written(1).roles == ("word", "NEW", "TEXT")
    plan.write_text("mottto a\n")
    assert "there is motto" in run("lists").stderr
    plan.write_text("motto a\n")
    assert "expected the motto, in double quotes here" in run("lists").stderr


def test_a_new_finding_is_a_row_and_a_marked_function(
    monkeypatch: pytest.MonkeyPatch, answer: Ask, run: Run, tmp_path: Path
) -> None:
    monkeypatch.setitem(
        KINDS,
        "nameless",
        FindingKind(Severity.ERROR, "a plan without a title", "write one", 'title "x"'),
    )
    monkeypatch.setitem(AUDITS, "nameless", AUDITS["unplaced"])

    @finds("nameless")
    def nameless(case: Case) -> Iterator[Finding]:
        for each in case.plan.lists.values():
            yield Finding(
                "nameless", each.place, each.name, None, Fault("it has no title", "write one")
            )

    plan = tmp_path / "p.gate"
    plan.write_text("subnet a 10.0.0.0/24\nlist l standard ipv4\n    permit a\n")
    found = {each["finding"]: each for each in answer("check", status=1)["findings"]}
    assert (found["nameless"]["message"], found["nameless"]["severity"]) == (
        "it has no title; write one",
        "error",
    )
    plan.write_text(plan.read_text() + 'accept nameless in l "we know"\n')
    assert [each["finding"] for each in answer("check")["accepted"]] == ["nameless"]
    assert run("check", "--sarif", "out.sarif").returncode == 0
    assert '"id": "nameless"' in (tmp_path / "out.sarif").read_text()


def test_a_new_command_is_a_module_and_its_name(monkeypatch: pytest.MonkeyPatch, run: Run) -> None:
    module = ModuleType("crossgate.commands.greet")

    def greet(name: str) -> None:
        """Greet."""
        typer.echo(f"ahoy, {name}")

    module.greet = greet  # type: ignore[attr-defined]
    monkeypatch.setitem(sys.modules, "crossgate.commands.greet", module)
    monkeypatch.setitem(COMMANDS, "greet", Listed("greet", "greet", "Ask", ("greet",)))
    assert run("greet", "Ternhaven").stdout == "ahoy, Ternhaven\n"
    assert "greet" in run("--help").stdout


PROGRAM = Path(crossgate.__file__).parent
MOST_FILES = 12

PLAN = """subnet tickets 10.64.8.0/24
subnet servers 10.64.20.0/24
router gate
    interface tickets 10.64.8.1/24
    interface servers 10.64.20.1/24
host kiosk 10.64.8.21
host manifest 10.64.20.10
list fence extended ipv4
    10 {entry}
    20 {then}
place fence inbound on gate.tickets
expect {claim}
"""


class Growth(NamedTuple):
    """Files to be written, and for files that there are: the line that something is put before, and
    what.
    """

    new: dict[str, str]
    before: dict[str, list[tuple[str, str]]]


CONDITION = Growth(
    {},
    {
        "core/model/conditions.py": [
            (
                "@dataclass(frozen=True, slots=True)\nclass Fragments",
                '''@dataclass(frozen=True, slots=True)
class Privileged(Condition):
    """`privileged`: the packet comes from a port below 1024."""

    keyword = "privileged"

    def __str__(self) -> str:
        return self.keyword

    @property
    def qualifiers(self) -> Qualifiers:
        return Qualifiers(source_ports=((0, 1023),))


''',
            )
        ],
        "language/conditions.py": [
            ("    SourcePorts,\n", "    Privileged,\n"),
            (
                "def _dscp(",
                (
                    "def _privileged(words, head):\n    words.keyword('privileged')\n    return "
                    "Privileged()\n\n\n"
                ),
            ),
            (
                "    Fragments: ConditionForm(",
                '    Privileged: ConditionForm(("privileged",), "privileged", _privileged, loose=True),\n',
            ),
        ],
        "language/glossary_lists.py": [
            (
                '    "fragments": Word(',
                (
                    '    "privileged": Word("From a port below 1024.", "10 permit tcp/22 any to '
                    "any "
                    'privileged"),\n'
                ),
            )
        ],
    },
)
FORMAT = Growth(
    {
        "formats/exchange/lines.py": '''"""A line of JSON for each entry."""

import json

from crossgate.formats.exchange.asked import ExportWanted, ExportedDocument


def write(wanted: ExportWanted) -> ExportedDocument:
    rows = ({"list": each.name, "entry": entry.number, "says": entry.text} for each in wanted.every_list for entry in each.entries)
    return ExportedDocument("".join(json.dumps(row) + "\\n" for row in rows))
'''
    },
    {
        "formats/exchange/registry.py": [
            (
                '    "markdown": Format(',
                '    "lines": Format("a line of JSON for each entry", "", "lines.write"),\n',
            )
        ]
    },
)
LEG = Growth(
    {},
    {
        "core/conversation/rules.py": [
            ("    REQUEST = ", '    FIN = "FIN"\n'),
            ("    Leg.REQUEST: Shape()", "    Leg.FIN: Shape(flags=ACK | 1),\n"),
            ("ANSWERED = (Leg.REQUEST", "HANDSHAKE = (*HANDSHAKE, Leg.FIN)\n"),
        ]
    },
)


@pytest.fixture
def grown(tmp_path: Path) -> Path:
    """A copy of the program that may grow."""
    copy = tmp_path / "program" / "crossgate"
    shutil.copytree(PROGRAM, copy, ignore=shutil.ignore_patterns("__pycache__"))
    return copy


def put_before(file: Path, line: str, text: str) -> None:
    old = file.read_text(encoding="utf-8")
    assert old.count(line) == 1, f"{line!r} stands {old.count(line)} times in {file.name}"
    file.write_text(old.replace(line, text + line), encoding="utf-8")


def grow(copy: Path, growth: Growth) -> None:
    assert len(growth.new) + len(growth.before) <= MOST_FILES
    for name, text in growth.new.items():
        (copy / name).write_text(text, encoding="utf-8")
    for name, several in growth.before.items():
        for line, text in several:
            put_before(copy / name, line, text)


def ask(copy: Path, plan: str, *words: str) -> subprocess.CompletedProcess[str]:
    """Run the copy on a plan."""
    path = copy.parent / "p.gate"
    path.write_text(plan, encoding="utf-8")
    environment = {
        key: value for key, value in os.environ.items() if not key.startswith("COVERAGE")
    }
    environment |= {
        "PYTHONPATH": str(copy.parent),
        "CROSSGATE_PLAN": str(path),
        "COLUMNS": "200",
        "NO_COLOR": "1",
    }
    return subprocess.run(
        [sys.executable, "-m", "crossgate", *words],
        env=environment,
        cwd=copy.parent,
        capture_output=True,
        text=True,
        check=False,
        timeout=120,
    )


def test_a_condition_is_asked_everywhere_once_it_is_written(grown: Path) -> None:
    grow(grown, CONDITION)
    plan = PLAN.format(
        entry="permit tcp/22 tickets to servers privileged",
        then="permit udp tickets to servers",
        claim="permit tcp/22 kiosk to manifest source port 1000",
    )
    assert ask(grown, plan, "verify").returncode == 0
    assert "denied" in ask(grown, plan, "trace", "kiosk", "manifest", "tcp/22").stdout
    assert (
        "permitted"
        in ask(grown, plan, "trace", "kiosk", "manifest", "tcp/22", "--source-port", "1023").stdout
    )
    reached = ask(grown, "client ports 1000-60000\n" + plan, "reach", "kiosk", "manifest").stdout
    assert "tcp/22 source port 1000-1023" in reached
    (told,) = json.loads(ask(grown, plan, "lists", "fence", "--json").stdout)["lists"]
    assert told["entries"][0]["conditions"] == ["privileged"]
    assert "cannot ask for privileged" in ask(grown, plan, "export", "ietf-acl", "fence").stderr
    assert (
        ask(grown, plan.replace("privileged", "privileged privileged"), "verify").stderr.count(
            "privileged stands twice"
        )
        == 1
    )
    assert "below 1024" in ask(grown, plan, "help", "privileged").stdout


def test_a_format_is_a_row_and_a_module(grown: Path) -> None:
    grow(grown, FORMAT)
    plan = PLAN.format(
        entry="permit tcp/22 tickets to servers",
        then="permit udp tickets to servers",
        claim="permit tcp/22 kiosk to manifest",
    )
    told = ask(grown, plan, "export", "lines").stdout.splitlines()
    assert [json.loads(each)["entry"] for each in told] == [10, 20]
    assert "lines" in ask(grown, plan, "export", "--help").stdout


def test_a_leg_is_followed_by_every_question_once_its_rule_is_written(grown: Path) -> None:
    plan = PLAN.format(
        entry="deny tcp any to any flags FIN",
        then="permit ip any to any",
        claim="half-open tcp/22 kiosk to manifest",
    )
    assert ask(grown, plan, "verify").returncode == 1
    grow(grown, LEG)
    assert ask(grown, plan, "verify").returncode == 0
    traced = ask(grown, plan, "trace", "kiosk", "manifest", "tcp/22").stdout
    assert "half-open" in traced
    assert "FIN" in traced
    assert (
        "half-open"
        in ask(grown, plan, "grid", "tcp/22", "--from", "kiosk", "--to", "manifest").stdout
    )
    assert "half-open" in ask(grown, plan, "reach", "kiosk", "manifest").stdout
    assert "replies-blocked" not in ask(grown, plan, "check").stderr
