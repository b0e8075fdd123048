"""Words with which people begin a line, and the statements that they mean."""

from __future__ import annotations

from collections.abc import Mapping

from crossgate.core.model.entry import Action
from crossgate.core.model.errors import PlanError, nearest
from crossgate.language.glossary import explained
from crossgate.language.row import Row
from crossgate.language.words import Words

_MEANT = {
    "subnet": ("vlan", "network", "net", "lan", "segment", "prefix"),
    "host": ("server", "computer", "machine", "pc", "laptop", "printer", "camera"),
    "router": ("firewall", "device", "node"),
    "switch": ("hub", "bridge"),
    "outside": ("internet", "wan", "external", "cloud"),
    "list": ("access-list", "access list", "acl", "rule", "rules", "filter", "policy"),
    "place": ("apply", "bind", "attach"),
    "expect": ("test", "assert", "claim", "ensure", "require", "verify"),
    "group": ("object", "alias", "set", "addresses"),
    "window": ("schedule", "hours", "times"),
    "leases": ("dhcp", "pool"),
    "zone": ("timezone",),
    "include": ("import",),
}
STATEMENTS_MEANT = {word: statement for statement, words in _MEANT.items() for word in words}
"""The statement that each of these words likely means."""
_IN_BLOCKS = {"nat": "translate", "iface": "interface", "remark": "note"}
_SAYS_THE_SAME = {"subnet", "host", "group", "include", "zone"}
"""Statements that go on as people do who begin them with another word."""
_ENTRIES = {*Action, "allow", "block", "drop"}


def meant_by(word: str) -> str:
    """Return the statement, or the line of a block, that another word likely means; "" for none."""
    return STATEMENTS_MEANT.get(word.lower(), "") or _IN_BLOCKS.get(word.lower(), "")


def unknown_statement(words: Words, keyword: str, statements: Mapping[str, Row]) -> PlanError:
    """Return the error for a line that begins with no statement: what it is likely meant to be,
    with an example, or all that there are.
    """
    if keyword.lower() in ("ip", "ipv6") and words.peek():
        keyword = words.take("a word")
    word = keyword.lower()
    inside = _IN_BLOCKS.get(word, word)
    around = [
        statement.keyword
        for statement in statements.values()
        if inside in {each.keyword for each in statement.block}
    ]
    if word in _ENTRIES or "list" in around:
        return words.error(
            f"{keyword} stands indented below the line that names its list, as: "
            f"{explained()['list'].example}"
        )
    if around:
        return words.error(
            f"{inside} stands indented below its {' or '.join(around)}, as: "
            f"{explained()[inside].example}"
        )
    meant = STATEMENTS_MEANT.get(word)
    if meant is not None:
        near = meant if meant in _SAYS_THE_SAME else ""
        entries = ", and its entries indented below that" if meant == "list" else ""
        example = f"{meant}, as: {explained()[meant].example}{entries}"
        return words.error(f"no statement {keyword}; there is {example}", near=near)
    near = nearest(keyword, list(statements))
    there = f"there is {near}" if near else f"there are {', '.join(statements)}"
    return words.error(f"no statement {keyword}; {there}", near=near)
