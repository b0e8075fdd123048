"""The formats in which lists and networks are read and written: `import` and `export` know nothing
of any single one.
"""

from __future__ import annotations

from collections.abc import Callable, Collection
from dataclasses import dataclass
from importlib import import_module
from typing import TYPE_CHECKING, Any

from crossgate.core.model.errors import PlanError, unknown

if TYPE_CHECKING:
    from crossgate.formats.exchange.asked import ExportedDocument, ExportWanted, Given
    from crossgate.language.coming import Coming

MOST_PREFIXES = 256
"""A wildcard goes out as so many prefixes at most, where nothing else is said."""
_HERE = "crossgate.formats.exchange"


@dataclass(frozen=True)
class Format:
    """A format: its description, the functions that read and write it (`module.function`, "" for
    none), and the options that it takes.
    """

    summary: str
    reading: str
    writing: str
    takes: Collection[str] = ()

    def see_options(self, **given: object) -> None:
        """Check that the format takes all options that are given. Raises `PlanError`."""
        for option, value in given.items():
            if value and option not in self.takes:
                name = next(name for name, each in FORMATS.items() if each is self)
                raise PlanError(f"--{option} has no meaning for {name}")

    def read(self, given: Given) -> Coming:
        """Read a file. Raises `PlanError`."""
        found: Callable[[Given], Coming] = _function(self.reading)
        return found(given)

    def write(self, wanted: ExportWanted) -> ExportedDocument:
        """Write lists. Raises `PlanError`."""
        found: Callable[[ExportWanted], ExportedDocument] = _function(self.writing)
        return found(wanted)


FORMATS = {
    "ietf-acl": Format(
        "lists and the interfaces they are attached to, JSON or XML (RFC 8519)",
        "ietf_acl_in.read",
        "ietf_acl.write",
        ("xml", "limit", "tally", "on", "otherwise", "approximate"),
    ),
    "ietf": Format(
        (
            "a device with its interfaces, routes, translations and lists; without --on the "
            "picture of links (RFC 8343, 8344, 8349, 8512, 8345)"
        ),
        "ietf.read",
        "ietf.write",
        ("xml", "limit", "on", "otherwise", "approximate"),
    ),
    "nas-filter-rule": Format(
        "what a RADIUS server sends for one terminal (RFC 4849, rules of RFC 6733)",
        "nas_filter_rule_in.read",
        "nas_filter_rule.write",
        ("limit", "direction", "bytes", "as", "approximate"),
    ),
    "csv": Format(
        "a row for each line of each list",
        "entry_table.read_csv",
        "entry_table.write_csv",
        ("raw",),
    ),
    "markdown": Format("tables for people to read", "", "entry_table.write_markdown"),
}


def format_named(name: str, writing: bool) -> Format:
    """Return a format by its name. Raises `PlanError` for an unknown one, and for one that cannot
    be written, or read.
    """
    if name not in FORMATS:
        raise PlanError(unknown("format", name, [*FORMATS]))
    found = FORMATS[name]
    if not (found.writing if writing else found.reading):
        raise PlanError(
            f"{name} goes out only; what comes in is "
            f"{', '.join(each for each, one in FORMATS.items() if one.reading)}"
        )
    return found


def _function(name: str) -> Callable[..., Any]:
    module, _, function = name.partition(".")
    found: Callable[..., Any] = getattr(import_module(f"{_HERE}.{module}"), function)
    return found
