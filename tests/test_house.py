"""The house: imports only go down, and no modules import each other in a circle."""

from __future__ import annotations

import ast
import re
import subprocess
import sys
import tomllib
from collections import Counter
from collections.abc import Iterator
from graphlib import TopologicalSorter
from importlib.metadata import packages_distributions
from pathlib import Path

import pytest

from crossgate.demo import PLAN, write

SOURCE = Path(__file__).parents[1] / "src"
FLOORS = (
    "crossgate.core.model",
    "crossgate.core.sets",
    "crossgate.core.lists",
    "crossgate.core.network",
    "crossgate.core.conversation",
    "crossgate.core.traffic",
    "crossgate.core.wording",
    "crossgate.core.answers",
    "crossgate.core.audit",
    "crossgate.core.impact",
    "crossgate.language",
    "crossgate.formats",
    "crossgate.live",
    "crossgate.rehearsal",
    "crossgate.spread",
    "crossgate.draw",
    "crossgate.report",
    "crossgate.show",
    "crossgate.demo",
    "crossgate.editor",
    "crossgate.changes",
    "crossgate.library",
    "crossgate.commands",
    "crossgate.__main__",
)
"""From the ground up; what stands on a floor may import from it and from those below."""
INTERFACE = ("typer", "rich", "click", "matplotlib")
"""What draws or asks; the core and the language know nothing of it."""


def modules() -> Iterator[tuple[str, Path]]:
    for path in sorted(SOURCE.rglob("*.py")):
        yield (
            ".".join(path.relative_to(SOURCE).with_suffix("").parts).removesuffix(".__init__"),
            path,
        )


NAMES = dict(modules())


def imported(name: str) -> set[str]:
    """Return what a module imports, wherever in it; a name that is itself a module counts as that
    module.
    """
    found: set[str] = set()
    for node in ast.walk(ast.parse(NAMES[name].read_text(encoding="utf-8"))):
        if isinstance(node, ast.Import):
            found.update(each.name for each in node.names)
        elif isinstance(node, ast.ImportFrom):
            assert node.level == 0, f"{name} has a relative import"
            inner = [f"{node.module}.{each.name}" for each in node.names]
            found.update(each for each in inner if each in NAMES)
            if not all(each in NAMES for each in inner):
                found.add(node.module or "")
    return found


def floor(name: str) -> int:
    return next(
        (index for index, each in enumerate(FLOORS) if name == each or name.startswith(each + ".")),
        -1,
    )


def test_every_module_stands_on_a_floor() -> None:
    assert [name for name in NAMES if floor(name) < 0] == ["crossgate", "crossgate.core"]


def test_imports_only_go_down() -> None:
    # The package itself only says for type checkers what it has; it is made when it is asked for.
    upward = [
        (name, each)
        for name in NAMES
        for each in imported(name)
        if each in NAMES and floor(each) > floor(name) and name != "crossgate"
    ]
    assert upward == []


def test_no_modules_import_each_other_in_a_circle() -> None:
    graph = {
        name: {each for each in imported(name) if each in NAMES and each != name}
        for name in NAMES
        if name != "crossgate"
    }
    graph["crossgate"] = set()
    assert len(list(TopologicalSorter(graph).static_order())) == len(NAMES)


def test_the_core_and_the_language_know_no_interface() -> None:
    below = [name for name in NAMES if name.startswith(("crossgate.core", "crossgate.language"))]
    assert [
        (name, each) for name in below for each in imported(name) if each.split(".")[0] in INTERFACE
    ] == []


def test_nothing_private_is_imported() -> None:
    private = [
        (name, each.name)
        for name, path in NAMES.items()
        for node in ast.walk(ast.parse(path.read_text(encoding="utf-8")))
        if isinstance(node, ast.ImportFrom) and (node.module or "").startswith("crossgate")
        for each in node.names
        if each.name.startswith("_") and each.name != "__version__"
    ]
    assert private == []


def test_each_public_class_has_a_name_of_its_own() -> None:
    every = Counter(
        node.name
        for path in NAMES.values()
        for node in ast.parse(path.read_text(encoding="utf-8")).body
        if isinstance(node, ast.ClassDef) and not node.name.startswith("_")
    )
    assert [name for name, count in every.items() if count > 1] == []


def test_what_is_imported_is_asked_for_by_name() -> None:
    # What another library happens to bring is gone when that library no longer needs it.
    project = tomllib.loads((SOURCE.parent / "pyproject.toml").read_text(encoding="utf-8"))
    extras = project["project"]["optional-dependencies"]
    named = [each for extra in extras if extra != "dev" for each in extras[extra]]
    named += project["project"]["dependencies"]
    asked = {re.split(r"[^A-Za-z0-9_.-]", each)[0].lower().replace("_", "-") for each in named}
    packages = packages_distributions()
    missing = {
        (top, name)
        for name in NAMES
        for top in {each.split(".")[0] for each in imported(name)} - sys.stdlib_module_names
        if top not in ("crossgate", "")
        and asked.isdisjoint(each.lower().replace("_", "-") for each in packages.get(top, [top]))
    }
    assert missing == set()


@pytest.mark.process
def test_what_people_wait_for_most_imports_nothing_heavy(tmp_path: Path) -> None:
    write(tmp_path)
    run = (
        "import sys\nfrom crossgate.__main__ import main\ntry:\n    main()\nexcept SystemExit:\n"
        "    print([each for each in ('numpy', 'logging', 'openpyxl') if each in sys.modules])"
    )
    for words in ("trace", "kiosk-1", "manifest", "tcp/8443"), ("lists", "kiosk-fence"):
        done = subprocess.run(
            [sys.executable, "-c", run, "--plan", PLAN, *words],
            cwd=tmp_path,
            capture_output=True,
            text=True,
            check=True,
        )
        assert done.stdout.splitlines()[-1] == "[]", words
