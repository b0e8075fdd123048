"""Options that several commands have, and what completes them."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Annotated

import typer

FloodOption = Annotated[
    bool, typer.Option("--flood", help="Ask about traffic beyond every `at most` of the lists.")
]
AtOption = Annotated[
    str | None,
    typer.Option(
        "--at",
        metavar="TIME",
        help="When, as 21:30, 'mon 23:00' or '2026-12-01 23:00' (now).",
    ),
]


def complete_tls(incomplete: str) -> Iterator[str]:
    """Offer the versions of TLS, newest first."""
    return (version for version in ("1.3", "1.2", "1.1", "1.0") if version.startswith(incomplete))


def complete_cipher(incomplete: str) -> Iterator[str]:
    """Offer the names of cipher suites."""
    from crossgate.core.model.tls import suite_names

    return (name for name in suite_names().values() if name.startswith(incomplete.upper()))


TlsOption = Annotated[
    str | None,
    typer.Option(
        "--tls",
        metavar="VERSION",
        autocompletion=complete_tls,
        help="Ask about conversations that settle on this TLS, as 1.2. Default: no TLS.",
    ),
]
CipherOption = Annotated[
    str | None,
    typer.Option(
        "--cipher",
        metavar="SUITE",
        autocompletion=complete_cipher,
        help="The cipher suite they settle on, by IANA name or number.",
    ),
]
TallyOption = Annotated[
    bool, typer.Option("--tally", help="Add the entries that decided to the tally beside the plan.")
]
SourcePortsOption = Annotated[
    bool,
    typer.Option(
        "--source-ports", help="Show what only other source ports than clients choose do, too."
    ),
]
JsonOption = Annotated[
    bool, typer.Option("--json", help="Print one JSON document and nothing else.")
]


def _allow(pieces: int | None) -> int | None:
    if pieces is not None:
        from crossgate.core.sets.effort import allow

        allow(pieces)
    return pieces


PiecesOption = Annotated[
    int | None,
    typer.Option(
        "--pieces",
        metavar="N",
        min=1,
        callback=_allow,
        help="Allow each exact question N pieces (1,000,000).",
    ),
]


def _allow_unpacked(gigabytes: float | None) -> float | None:
    if gigabytes is not None:
        from crossgate.formats.bounds import allow_unpacked

        allow_unpacked(int(gigabytes * (1 << 30)))
    return gigabytes


IdleOption = Annotated[
    int,
    typer.Option(
        min=1,
        metavar="SECONDS",
        show_default=False,
        help="Silence that ends a conversation (300).",
    ),
]
UnpackedOption = Annotated[
    float | None,
    typer.Option(
        "--unpacked",
        metavar="GB",
        min=0,
        callback=_allow_unpacked,
        help="How much a packed file may unpack to (4).",
    ),
]
