"""Lists in open formats."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import TYPE_CHECKING

from crossgate.core.model.plaintext import listed
from crossgate.core.model.plan import Plan
from crossgate.formats.exchange.registry import MOST_PREFIXES, format_named

if TYPE_CHECKING:
    from crossgate.core.model.accesslist import DeciderKey
    from crossgate.core.model.network import Direction
    from crossgate.formats.exchange.asked import ExportedDocument


def export(
    plan: Plan,
    format_name: str,
    lists: str | Sequence[str] = (),
    *,
    on: str | None = None,
    unplaced: bool = False,
    limit: int = MOST_PREFIXES,
    xml: bool = False,
    direction: Direction | None = None,
    as_bytes: bool = False,
    raw: bool = False,
    hits: Mapping[DeciderKey, int] | None = None,
) -> ExportedDocument:
    """Return lists in an open format (`docs/formats`), and what that cannot express exactly:
    `text`, `unsaid` and what else is `told`.

    The lists are all of the plan's, those placed `on` a device, or the ones named; with their
    places unless they are `unplaced`. Raises `PlanError` for an unknown format, name or option.
    """
    from crossgate.formats.exchange.asked import ExportWanted, chosen

    found = format_named(format_name, writing=True)
    found.see_options(
        xml=xml,
        tally=hits is not None,
        limit=limit != MOST_PREFIXES,
        direction=direction,
        bytes=as_bytes,
        raw=raw,
    )
    every, places = chosen(plan, listed(lists), on, bare=format_name == "ietf")
    standing = () if unplaced else places
    return found.write(
        ExportWanted(plan, every, standing, on, hits, direction, limit, xml, as_bytes, raw)
    )
