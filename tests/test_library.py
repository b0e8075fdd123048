"""The library's face: the page that tells of it, run as it stands; and its names."""

from __future__ import annotations

import doctest
import subprocess
import sys
from pathlib import Path

import pytest

import crossgate
from crossgate import library
from crossgate.demo import write

PAGE = Path(__file__).parents[1] / "docs" / "library.md"


def test_the_page_says_what_happens(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    write(tmp_path)
    monkeypatch.chdir(tmp_path)
    failed, tried = doctest.testfile(
        str(PAGE), module_relative=False, optionflags=doctest.NORMALIZE_WHITESPACE
    )
    assert (failed, tried > 15) == (0, True)


def test_the_package_has_the_names_of_the_library_and_no_others() -> None:
    assert {*crossgate.__all__} == {*library.__all__, "__version__"} == {*dir(crossgate)}
    assert all(getattr(crossgate, name) is getattr(library, name) for name in library.__all__)
    with pytest.raises(AttributeError, match="has no attribute 'missing'"):
        crossgate.missing  # noqa: B018


@pytest.mark.process
def test_to_import_it_costs_nothing_heavy() -> None:
    heavy = (
        "import sys, crossgate; print([each for each in ('numpy', 'typer', 'pyarrow') if each "
        "in sys.modules])"
    )
    assert (
        subprocess.run(
            [sys.executable, "-c", heavy], capture_output=True, text=True, check=True
        ).stdout
        == "[]\n"
    )


def test_what_is_asked_wrongly_is_told(tmp_path: Path) -> None:
    plan = crossgate.parse("subnet a 10.0.0.0/24\nhost x 10.0.0.9 on a\n")
    with pytest.raises(crossgate.PlanError, match=r"1\.4 is no version of TLS"):
        crossgate.when(plan, tls="1.4")
    with pytest.raises(crossgate.PlanError, match="no conversation settles on"):
        crossgate.when(plan, tls="1.3", cipher="0xC02F")
    with pytest.raises(crossgate.PlanError, match="nobody"):
        crossgate.trace(plan, "nobody", "x", "ping")
    assert (
        crossgate.replay(
            plan, {name: [] for name in ("srcaddr", "dstaddr", "srcport", "dstport", "protocol")}
        ).num_rows
        == 0
    )


def test_what_a_window_is_now_is_told_on_the_plans_clock() -> None:
    ahead, behind = (
        crossgate.parse(f"zone Etc/GMT{offset}\nwindow half daily 00:00-12:00\n")
        for offset in ("-6", "+6")
    )
    told = [
        fact.values[0].split()[0]
        for plan in (ahead, behind)
        for fact in crossgate.about(plan, "half")[0].facts
        if fact.what == "now"
    ]
    assert sorted(told) == ["open", "shut"]
