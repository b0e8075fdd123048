"""The demo's files."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager
from importlib.resources import files
from importlib.util import find_spec
from pathlib import Path

from crossgate.core.model.errors import PlanError
from crossgate.demo.traffic import Day, write_captures, write_flows
from crossgate.formats.disk import put_file

PLAN = "ternhaven.gate"
PROPOSAL = f"proposal/{PLAN}"
ISOLATED = f"isolated/{PLAN}"
"""The plan as it would be if no guest could reach another one."""
DEVICE = "gangway.json"
"""The configuration of a new router, as it hands it out itself."""
ANNEX = "annex/annex.gate"
"""The plan that is to be made of tables."""
_TABLES = ("annex/subnets.csv", "annex/hosts.csv")
_SLIP = (
    b"    20 deny   ip     any    to terminal\n    30 permit ip     guests to any\n",
    b"    15 permit ip     guests to any\n    20 deny   ip     any    to terminal\n",
)
"""What the proposal does otherwise: the broad permit was moved up by one line, above the denial
that it must stand below.
"""

_KEPT_APART = (b"vlan 400  #", b"vlan 400 isolated  #")


def write(folder: Path) -> None:
    """Write the demo's plans into a folder, which is made if necessary. Raises `PlanError` rather
    than overwrite one.
    """
    with _told(folder):
        folder.mkdir(parents=True, exist_ok=True)
        written = {
            name: files(__package__).joinpath("files", name).read_bytes()
            for name in (PLAN, DEVICE, *_TABLES)
        }
        written[PROPOSAL] = written[PLAN].replace(*_SLIP)
        written[ISOLATED] = written[PLAN].replace(*_KEPT_APART)
        for name, data in written.items():
            (folder / name).parent.mkdir(exist_ok=True)
            put_file(folder / name, data, fresh=True)


def write_traffic(folder: Path) -> None:
    """Write the demo's captures and its table of flows into a folder. Raises `PlanError` rather
    than overwrite one.
    """
    with _told(folder):
        day = Day()
        write_captures(folder, day)
        if find_spec("pyarrow") is not None:
            write_flows(folder, day)


@contextmanager
def _told(folder: Path) -> Iterator[None]:
    try:
        yield
    except OSError as error:
        raise PlanError(f"the demo cannot be written into {folder}: {error.strerror}") from None
