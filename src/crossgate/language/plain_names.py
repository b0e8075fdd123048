"""Names that a plan can have, made from names in other formats."""

from __future__ import annotations

import re

from crossgate.core.model.entry import MOST_NUMBER
from crossgate.core.model.plaintext import numeral


def plain_name(name: str, lead: str) -> str:
    """Return a name for something in a plan, similar to a given one; one that does not begin with a
    letter gets a `lead`.
    """
    own = re.sub(r"[^A-Za-z0-9_-]+", "-", name).strip("-")
    return own if own[:1].isalpha() else f"{lead}-{own}".rstrip("-")


def device_name(name: str) -> str:
    """Return a name for a device of a plan, similar to a given one."""
    return plain_name(name, "device")


def part_name(name: str) -> str:
    """Return a name for an interface or port, similar to a given one."""
    own = re.sub(r"[^A-Za-z0-9_/:.-]+", "-", name).strip("-.:/")
    return own or "unnamed"


def list_name(name: str) -> str:
    """Return a name for a list of a plan, similar to a given one."""
    number = numeral(name)
    if number is not None and number <= MOST_NUMBER:
        return str(number)
    return plain_name(name, "list")
