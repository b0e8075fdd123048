"""Lines that begin with another word than a statement's: what is told they mean."""

from __future__ import annotations

from pathlib import Path

import pytest

from crossgate.core.model.errors import PlanErrors
from crossgate.language import other_words
from crossgate.language.glossary import explained
from crossgate.language.reader import read
from crossgate.language.syntax import STATEMENTS

_ALL = f"there are {', '.join(STATEMENTS)}"


@pytest.mark.parametrize(
    ("line", "told", "instead"),
    [
        ("vlan 80 tickets", "no statement vlan; there is subnet, as: subnet tickets", "subnet"),
        ("Server web 10.0.0.9", "no statement Server; there is host, as: host kiosk-1", "host"),
        ("firewall edge", "no statement firewall; there is router, as: router pier", None),
        ("acl 101", "list, as: list kiosk-fence extended ipv4, and its entries indented", None),
        ("ip access-list extended x", "no statement access-list; there is list, as:", None),
        ("Permit ip any any", "Permit stands indented below the line that names its list", None),
        ("NAT 10.0.0.0/8", "translate stands indented below its router or switch", None),
        ("deny ip any any", "deny stands indented below the line that names its list", None),
        ("remark none", "remark stands indented below the line that names its list", None),
        ("port 22", "port stands indented below its router or switch, as: port 1 to", None),
        ("ip route default", "route stands indented below its router or switch", None),
        ("nat 10.0.0.0/8", "translate stands indented below its router or switch", None),
        ("subnets a 10.0.0.0/24", "no statement subnets; there is subnet", "subnet"),
        ("ip", f"no statement ip; {_ALL}", None),
        ("motto x", f"no statement motto; {_ALL}", None),
    ],
)
def test_a_line_under_another_word_is_told_what_it_means(
    tmp_path: Path, line: str, told: str, instead: str | None
) -> None:
    path = tmp_path / "plan.gate"
    path.write_text(f"{line}\n")
    with pytest.raises(PlanErrors) as raised:
        read(path)
    (error,) = raised.value.errors
    assert told in error.message
    assert (error.instead and error.instead.text) == instead


def test_every_word_stands_for_a_statement_that_is_explained() -> None:
    meant = set(other_words.STATEMENTS_MEANT.values())
    assert meant <= set(STATEMENTS)
    assert all(explained()[each].example.startswith(each) for each in meant)
    assert not set(other_words.STATEMENTS_MEANT) & set(STATEMENTS)
