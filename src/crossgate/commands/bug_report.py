"""`crossgate bug-report`: what a person needs who looks for a fault in Cross Gate, without the
plan's names and addresses.
"""

from __future__ import annotations

import io
import os
import platform
import random
import shlex
import subprocess
import sys
import tempfile
import zipfile
from collections.abc import Iterator, Mapping, Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from crossgate.commands.common import plan_path, write_file
from crossgate.core.model.errors import PlanError, PlanErrors

if TYPE_CHECKING:
    from crossgate.language.disguise import Disguise

_ASKED_AGAIN = ("check", "lists", "trace", "points", "verify", "grid", "reach")
_WRITES = ("--out", "--sarif", "--junit", "--draw", "--tally")
"""What makes one of these commands write a file."""
_PATIENCE = 120
"""Seconds after which the answer is not waited for any longer."""


def bug_report(
    context: typer.Context,
    command: Annotated[
        list[str] | None,
        typer.Argument(
            metavar="COMMAND",
            help="The command line with the fault, without `crossgate`, behind --.",
        ),
    ] = None,
    out: Annotated[Path, typer.Option(metavar="FILE", help="The file to pack it into.")] = Path(
        "crossgate-bug.zip"
    ),
    key: Annotated[
        Path | None,
        typer.Option(metavar="FILE", help="Write which name became which, for yourself."),
    ] = None,
) -> None:
    """Pack what a report of a fault needs, with the plan's names, addresses and texts replaced.
    Nothing is sent.
    """
    from crossgate.language.disguise import Disguise

    named, words = _without_plan(command or [])
    path = named or plan_path(context)
    files = _texts(path)
    disguise = Disguise(files, random.SystemRandom())
    packed = {new: disguise.text(name) for name, new in disguise.files.items()}
    said = [disguise.word(word) for word in words if word != str(path)]
    packed["about.txt"] = "".join(f"{line}\n" for line in _about())
    told = []
    if said:
        packed["command.txt"] = f"crossgate --plan plan.gate {shlex.join(said)}\n"
        if said[0] in _ASKED_AGAIN and not any(word.startswith(_WRITES) for word in said):
            packed["answer.txt"], what = _answer(packed, said)
            told.append(f"{said[0]} was asked of the replaced plan: {what}")
    told += _changed(path, packed, disguise)
    write_file(out, _zip(packed), files)
    if key is not None:
        write_file(key, "".join(f"{new}\t{old}\n" for old, new in disguise.known.items()), files)
    typer.echo(f"{out}: {', '.join(sorted(packed))}")
    for line in told:
        typer.echo(line)
    typer.echo("nothing is sent; look through it before you hand it on")


def _without_plan(command: Sequence[str]) -> tuple[Path | None, list[str]]:
    """Return the plan that a command line names with --plan, None for none, and its other words
    without the program's name.
    """
    named, words = None, []
    rest = iter(command[1:] if command[:1] == ["crossgate"] else command)
    for word in rest:
        if word == "--plan":
            named = next(rest, None)
        elif word.startswith("--plan="):
            named = word.removeprefix("--plan=")
        else:
            words.append(word)
    return None if named is None else Path(named), words


def _texts(path: Path) -> dict[str, str]:
    """Return the text of a plan's files, and of its tables where these are named. Raises
    `PlanError` where not even the plan's own file can be read as text.
    """
    from crossgate.language.source import Source, decode

    source = Source(path)
    texts = {name: decode(Path(name), data) for name, data in source.data.items()}
    if not source.tables:
        return texts
    from crossgate.language.reader import attempt

    groups = attempt(path)[0].plan.groups.values()
    for each in (group for group in groups if group.text.startswith('from "')):
        lines = texts[each.place.file].split("\n")
        members = [str(one) for own in each.members.values() for one in own.patterns]
        lines[each.place.line - 1] = f"group {each.name} {', '.join(members)}"
        texts[each.place.file] = "\n".join(lines)
    return texts


def _changed(path: Path, packed: Mapping[str, str], disguise: Disguise) -> Iterator[str]:
    """Yield how the replaced plan differs from the original: errors at other lines, and addresses
    that could not be replaced.
    """
    from crossgate.core.model.address import Family

    own, other = _errors(path), None
    with tempfile.TemporaryDirectory(prefix="crossgate-") as folder:
        for name in disguise.files.values():
            Path(folder, name).write_text(packed[name], encoding="utf-8", newline="")
        other = _errors(Path(folder, "plan.gate"))
    if own != other:
        yield (
            f"the replaced plan has errors at other lines than yours ({len(other)}, and yours "
            f"{len(own)}): say so in the report"
        )
    for family in Family:
        if not disguise.masks[family]:
            yield (
                f"{family.label} addresses are as they were: a subnet or a range of the plan is "
                "too wide to replace them"
            )


def _errors(path: Path) -> list[int]:
    from crossgate.language.reader import read

    try:
        read(path)
    except PlanErrors as errors:
        return sorted(each.place.line if each.place else 0 for each in errors.errors)
    except PlanError:
        return [0]
    return []


def _about() -> Iterator[str]:
    """Yield the versions, and facts about the system and the terminal that may matter."""
    from importlib.metadata import PackageNotFoundError, requires, version

    from crossgate import __version__

    yield f"Cross Gate {__version__}"
    yield (
        f"Python {platform.python_version()} ({platform.python_implementation()}) on "
        f"{platform.system()} {platform.release()} {platform.machine()}"
    )
    yield (
        f"{os.cpu_count()} processors, encodings {sys.stdout.encoding} and "
        f"{sys.getfilesystemencoding()}, terminal {sys.stdout.isatty()}"
    )
    names = sorted(
        {
            requirement.split(";")[0].split("[")[0].split(">")[0].strip()
            for requirement in requires("crossgate") or ()
        }
    )
    for name in (each for each in names if each != "crossgate"):
        try:
            yield f"{name} {version(name)}"
        except PackageNotFoundError:
            yield f"{name} is not installed"
    for name in ("LANG", "LC_ALL", "TERM", "COLUMNS", "NO_COLOR", "TZ"):
        if name in os.environ:
            yield f"{name}={os.environ[name]}"


def _answer(packed: Mapping[str, str], words: Sequence[str]) -> tuple[str, str]:
    """Return what a command answers for the replaced plan, without this machine's folders; and how
    it ended, in a few words.
    """
    with tempfile.TemporaryDirectory(prefix="crossgate-") as folder:
        for name, text in packed.items():
            Path(folder, name).write_text(text, encoding="utf-8", newline="")
        command = [sys.executable, "-P", "-m", "crossgate", "--plan", "plan.gate", *words]
        environment = os.environ | {"CROSSGATE_TRACE": "1", "XDG_STATE_HOME": folder}
        try:
            done = subprocess.run(
                command,
                cwd=folder,
                env=environment,
                capture_output=True,
                check=False,
                timeout=_PATIENCE,
                stdin=subprocess.DEVNULL,
            )
        except subprocess.TimeoutExpired:
            return (
                f"no answer within {_PATIENCE} seconds\n",
                f"no answer within {_PATIENCE} seconds",
            )
        text = (done.stdout + done.stderr).decode(errors="replace")
        for own, shown in (
            (folder, "."),
            (str(Path(__file__).parents[1]), "crossgate"),
            (sys.prefix, "python"),
            (sys.base_prefix, "python"),
            (str(Path.home()), "~"),
        ):
            text = text.replace(own, shown) if len(own) > 1 else text
    fault = ", and the fault shows" if "this is a fault of Cross Gate" in text else ""
    return f"{text}exit status {done.returncode}\n", f"exit status {done.returncode}{fault}"


def _zip(packed: Mapping[str, str]) -> bytes:
    whole = io.BytesIO()
    with zipfile.ZipFile(whole, "w", zipfile.ZIP_DEFLATED) as archive:
        for name, text in sorted(packed.items()):
            archive.writestr(name, text)
    return whole.getvalue()
