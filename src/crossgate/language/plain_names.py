"""Names that a plan may have, made of those that other formats allow."""

from __future__ import annotations

import re

from crossgate.core.model.accesslist import MOST_NUMBER
from crossgate.core.model.plaintext import numeral


def plain_name(name: str, lead: str) -> str:
    """Return a name that something in a plan may have, near another one; one that does not begin
    with a letter gets a `lead`.
    """
    own = re.sub(r"[^A-Za-z0-9_-]+", "-", name).strip("-")
    return own if own[:1].isalpha() else f"{lead}-{own}".rstrip("-")


def device_name(name: str) -> str:
    """Return a name that a device of a plan may have, near another one."""
    return plain_name(name, "device")


def part_name(name: str) -> str:
    """Return a name that an interface or port may have, near another one."""
    own = re.sub(r"[^A-Za-z0-9_/:.-]+", "-", name).strip("-.:/")
    return own or "unnamed"


def list_name(name: str) -> str:
    """Return a name that a list of a plan may have, near another one."""
    number = numeral(name)
    if number is not None and number <= MOST_NUMBER:
        return str(number)
    return plain_name(name, "list")
