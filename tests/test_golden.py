"""Every answer on the demo and on a plan of long names is the one that a person has read, and fits
the screen.
"""

from __future__ import annotations

from pathlib import Path

import pytest

from tests.conftest import Run
from tests.goldens import GOLDEN, WIDTHS, Golden, kept, prepare, words_of


@pytest.mark.parametrize("columns", WIDTHS)
@pytest.mark.parametrize("golden", GOLDEN, ids=lambda each: f"{each.plan}-{each.name}")
def test_it_prints_what_was_read(
    run: Run,
    tmp_path: Path,
    day: Path,
    monkeypatch: pytest.MonkeyPatch,
    golden: Golden,
    columns: int,
) -> None:
    prepare(tmp_path, day)
    monkeypatch.setenv("COLUMNS", str(columns))
    done = run(*words_of(golden))
    told = done.stdout + done.stderr
    assert told == kept(golden, columns).read_text(encoding="utf-8"), (
        "read the difference; where it is right: make golden"
    )
    assert max(map(len, told.split("\n"))) <= columns


def test_nothing_is_kept_that_no_command_prints() -> None:
    files = {path for columns in WIDTHS for path in kept(GOLDEN[0], columns).parent.glob("*.txt")}
    assert files == {kept(golden, columns) for golden in GOLDEN for columns in WIDTHS}
