"""Lists of 10,000 entries out and in, in each format: process time, and how often that is the time
of reading the plan itself.

In is to the plan's new text, without what an edit then looks at (traffic, findings). Nothing here
is a wildcard or a group, so an entry is a rule.
"""

from __future__ import annotations

import sys
import tempfile
import time
from collections.abc import Callable
from functools import partial
from pathlib import Path

sys.path.insert(0, str(Path(__file__).parent))
from crossgate.core.model.network import Direction
from crossgate.formats.exchange.asked import ExportWanted, Given
from crossgate.formats.exchange.registry import FORMATS, Format
from crossgate.language.draft import Draft
from crossgate.language.importing import take_in
from crossgate.language.reader import Reading, read
from synthetic import entries

NETWORK = "subnet a 10.0.0.0/24\nrouter r\n    interface x 10.0.0.1/24 on a\n"


def timed(ask: Callable[[], object]) -> float:
    """Return the process time of a call, the least of three."""
    found = []
    for _ in range(3):
        start = time.process_time()
        ask()
        found.append(time.process_time() - start)
    return min(found)


def _bring(each: Format, there: Reading, path: Path) -> None:
    given = Given(path, path.read_bytes(), there.plan, name="big")
    take_in(Draft(there), [each.read(given)], False)


def main() -> None:
    """Print a line for each format, and how it grows from 1,000 entries."""
    with tempfile.TemporaryDirectory() as temporary:
        folder = Path(temporary)
        for count in (1_000, 10_000):
            own = [
                each
                for each in entries(2 * count, 1)
                if "wild" not in each and "established" not in each
            ][:count]
            path = folder / f"{count}.gate"
            path.write_text(NETWORK + "list big extended ipv4\n" + "\n".join(own) + "\n")
            empty = folder / "empty.gate"
            empty.write_text(NETWORK)
            reading = timed(lambda path=path: read(path))  # type: ignore[misc]
            plan, there = read(path).plan, read(empty)
            print(f"{count:,} entries; reading the plan {reading:.2f} s")
            for name, each in FORMATS.items():
                if name == "ietf":
                    continue
                for xml in (False, True) if "xml" in each.takes else (False,):
                    wanted = ExportWanted(
                        plan, [plan.lists["big"]], direction=Direction.INBOUND, xml=xml
                    )
                    out = timed(lambda each=each, wanted=wanted: each.write(wanted))  # type: ignore[misc]
                    text = each.write(wanted).text
                    label = (
                        f"  {name}{' in XML' if xml else ''}: out {out:.2f} s ({out / reading:.1f})"
                    )
                    if each.reading:
                        (folder / "in").write_bytes(
                            text if isinstance(text, bytes) else text.encode()
                        )

                        into = timed(partial(_bring, each, there, folder / "in"))
                        label += f", in {into:.2f} s ({into / reading:.1f})"
                    print(label)


if __name__ == "__main__":
    main()
