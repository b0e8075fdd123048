"""Lists as CSV and Markdown: what is written, and tables that cannot be read."""

from __future__ import annotations

from pathlib import Path

import pytest

from tests.conftest import Run

HEADER = "list,kind,family,line,off,action,service,source,destination,conditions,during,log,comment,direction,where\n"


def test_markdown_is_a_table_a_list_with_what_stands_in_it(run: Run, demo: Path) -> None:
    text = run("export", "markdown", "12", "kiosk-fence").stdout
    assert text.startswith("## 12\n\nStandard IPv4 list, outbound on lighthouse.v160.\n")
    assert "| 30        | reject | tcp/telnet | any     | any         | log             |" in text
    widths = {
        line.count("|")
        for line in text.split("## kiosk-fence")[1].splitlines()
        if line.startswith("|")
    }
    assert widths == {8}


def test_marks_of_markdown_are_escaped(run: Run, tmp_path: Path) -> None:
    (tmp_path / "p.gate").write_text(
        'list a extended ipv4\n    10 permit ip any to any "a | b <c> *d*"\n'
    )
    assert r"a \| b \<c\> \*d\*" in run("export", "markdown").stdout


def test_columns_may_stand_in_any_order_and_others_are_told(run: Run, demo: Path) -> None:
    (demo / "in.csv").write_text(
        "Action;line;list;owner;source;family;kind\npermit;10;new;me;kiosk-1;ipv4;standard\n"
    )
    done = run("import", "csv", "in.csv", "--yes", "--anyway")
    assert done.returncode == 0, done.stderr
    assert "the column owner has no meaning here" in done.stdout
    assert (
        "list new standard ipv4\n    10 permit kiosk-1\n" in (demo / "ternhaven.gate").read_text()
    )


def test_a_place_that_the_plan_has_not_is_a_note(run: Run, demo: Path) -> None:
    rows = "new,extended,ipv4,10,,permit,ip,any,any,,,,,,\nnew,,,place,,,,,,,,,,inbound,moon.1\n"
    (demo / "in.csv").write_text(HEADER + rows)
    assert run("import", "csv", "in.csv", "--yes", "--anyway").returncode == 0
    assert (
        'note "stood inbound on moon.1, which the plan has not"'
        in (demo / "ternhaven.gate").read_text()
    )


@pytest.mark.parametrize(
    ("rows", "problem"),
    [
        ("x,extended,ipv4,10,,permit,,any,any,,,,,,", "row 2: service is empty"),
        (
            "x,extended,ipv9,10,,permit,ip,any,any,,,,,,",
            "row 2: family is ipv9, which is none of ipv4, ipv6",
        ),
        (
            "x,extended,ipv4,ten,,permit,ip,any,any,,,,,,",
            "row 2: line is ten; it is an entry's number, note, otherwise or place",
        ),
        ("x,extended,ipv4,10,,allow,ip,any,any,,,,,,", "row 2: action is allow"),
        (
            "x,extended,ipv4,10,,permit,ip,any,any,,,,,,\nx,,,10,,deny,ip,any,any,,,,,,",
            "row 3: list x has an entry 10 in a row above",
        ),
        (
            "y,,,place,,,,,,,,,,inbound,pier.b1",
            "row 2: list y is placed, and the table has no line of it",
        ),
        ("x,extended,ipv4,10,,permit,ip,moon,any,,,,,,", "moon"),
        (
            "x,extended,ipv4,10,,permit,ip,any,any log,,,,,,",
            "destination is any log, where names or addresses belong, with commas between several",
        ),
        ('x,extended,ipv4,10,,permit,ip,any,"any, ",,,,,,', "destination is any,, where names"),
        ("x,extended,ipv4,10,,permit,ip,any,any but,,,,,,", "destination is any but, where names"),
        (
            "kiosk-port,standard,ipv4,10,,permit,,any,,,,,,,",
            "the plan has a list kiosk-port already; --replace",
        ),
    ],
)
def test_rows_that_cannot_be_used_are_told(run: Run, demo: Path, rows: str, problem: str) -> None:
    before = (demo / "ternhaven.gate").read_text()
    (demo / "in.csv").write_text(HEADER + rows + "\n")
    refused = run("import", "csv", "in.csv")
    assert refused.returncode in (1, 2)
    assert problem in refused.stdout + refused.stderr
    assert (demo / "ternhaven.gate").read_text() == before


@pytest.mark.parametrize(
    ("words", "problem"),
    [
        (("export", "csw"), "csv"),
        (("export", "csv", "--xml"), "--xml has no meaning for csv"),
        (("export", "ietf-acl", "--bytes"), "--bytes has no meaning for ietf-acl"),
        (("export", "csv", "nobody"), "no list nobody"),
        (("export", "csv", "--on", "moon"), "no device moon"),
        (("export", "csv", "--out", "ternhaven.gate"), "part of the plan"),
        (("import", "markdown", "x"), "markdown goes out only"),
        (("import", "csv", "missing.csv"), "missing.csv cannot be read"),
        (("import", "csv", "missing.csv", "--tally"), "--tally has no meaning for csv"),
        (("import", "nas-filter-rule", "missing.csv"), "give one with --as NAME"),
    ],
)
def test_what_cannot_be_asked_is_told(
    run: Run, demo: Path, words: tuple[str, ...], problem: str
) -> None:
    refused = run(*words)
    assert refused.returncode == 2
    assert problem in refused.stderr
