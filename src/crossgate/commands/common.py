"""What the commands share: finding and reading the plan, times, standard output, and completion of
the plan's names.
"""

from __future__ import annotations

import os
import sys
import time
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from contextlib import contextmanager
from datetime import datetime, timedelta
from pathlib import Path
from typing import TYPE_CHECKING, TypeVar

import typer

from crossgate.core.model.errors import PlanError

if TYPE_CHECKING:
    from crossgate.core.model.address import Family
    from crossgate.core.model.conditions import When
    from crossgate.core.model.plan import Plan
    from crossgate.language.reader import Reading

Item = TypeVar("Item")


STANDARD_INPUT = Path("-")
"""The plan's name where it is read from standard input."""


def examples(*lines: str) -> str:
    """Return the lines that end a command's help: examples that run on the demo."""
    # A letter for backspace keeps the lines of a paragraph apart.
    return "\n".join(["\b", "Examples:", *(f"  crossgate {line}" for line in lines)])


def circumstances(
    plan: Plan,
    at: str | None,
    flood: bool = False,
    tls: str | None = None,
    cipher: str | None = None,
) -> When:
    """Return which time and which conversations a question is about, from its options. Raises
    `PlanError`.
    """
    from crossgate.core.model.conditions import When
    from crossgate.core.model.tls import TlsError, asked_hello

    try:
        return When(moment(at, plan), flood, asked_hello(tls, cipher))
    except TlsError as error:
        raise PlanError(str(error)) from None


def tell_missed(missed: Sequence[PlanError]) -> None:
    """Tell on standard error which questions were not answered, and exit with status 2 when there
    are any.
    """
    from crossgate.show.console import count, warn

    for error in missed[:_MOST_MISSED]:
        warn(f"not answered: {error.message}")
    if len(missed) > _MOST_MISSED:
        warn(f"not answered: {count(len(missed) - _MOST_MISSED, 'more question')} of this kind")
    if missed:
        raise typer.Exit(2)


def tell_mistaken(services: Iterable[str]) -> None:
    """Warn on standard error of services that name a protocol where most people mean something
    else, such as 22.
    """
    from crossgate.core.model.iana import mistaken_text
    from crossgate.core.model.service_words import split_service
    from crossgate.show.console import warn

    for token in dict.fromkeys(token for each in services for token in split_service(each)):
        found = mistaken_text(token)
        if found is not None:
            warn("; ".join(found))


_MOST_MISSED = 5


def plan_path(context: typer.Context) -> Path:
    """Return the plan file: --plan, or else CROSSGATE_PLAN, or else the only *.gate file here that
    no other one includes. Raises `PlanError`.
    """
    named = context.find_root().params.get("plan")
    if named is not None:
        return Path(named)
    from_environment = os.environ.get("CROSSGATE_PLAN")
    if from_environment:
        return Path(from_environment)
    found = sorted(Path().glob("*.gate"))
    if len(found) > 1:
        from crossgate.language.source import not_included

        found = not_included(found) or found
    if len(found) == 1:
        return found[0]
    choose = "choose one with --plan FILE, or set CROSSGATE_PLAN"
    if found:
        raise PlanError(
            f"there are {len(found)} plans here ({', '.join(map(str, found))}); {choose}"
        )
    raise PlanError(
        f"there is no plan (*.gate) in this folder; {choose}, or begin one with: crossgate new "
        "FILE.gate, or see a full example: crossgate demo FOLDER"
    )


def load(context: typer.Context) -> Plan:
    """Read the command's plan. Raises `PlanError`."""
    return read_file(plan_path(context))


def load_or_tell(
    context: typer.Context, out: Path | None, text: Callable[[Path, Sequence[PlanError]], str]
) -> Plan:
    """Read the command's plan; where it has errors, `out` gets the `text` made from them. Raises
    `PlanError`.
    """
    from crossgate.core.model.errors import PlanErrors

    try:
        return load(context)
    except PlanErrors as errors:
        if out is not None:
            path = plan_path(context)
            write_file(out, text(path, errors.errors), map(str, plan_files(path)))
        raise


def read_file(path: Path) -> Plan:
    """Read a plan; `-` is standard input. Raises `PlanError`."""
    return reading_of(path).plan


def reading_of(path: Path) -> Reading:
    """Read a plan for a question or an edit. An edit that was left half done is reported, and
    nothing is written because of it. Raises `PlanError`.
    """
    from crossgate.formats.replacing import read_settled
    from crossgate.language.reader import read

    if path == STANDARD_INPUT:
        return read(path, {str(path): sys.stdin.buffer.read()})
    _tell_strange_journals(path)
    try:
        found = read_settled(lambda: read(path))
    except PlanError:
        _tell_half_done(plan_files(path))
        raise
    if len(found.data) > 1:
        _tell_half_done(map(Path, found.data))
    return found


def plan_files(path: Path) -> list[Path]:
    """Return the plan's file and the files that it includes, as far as they can be read."""
    from crossgate.language.source import Source

    try:
        return [Path(name) for name in Source(path).files]
    except PlanError:
        return [path]


def _tell_strange_journals(path: Path) -> None:
    """Report files beside a plan that look like a half-done edit and were not written by this user
    on this machine.
    """
    from crossgate.formats.edit_records import strange_journals
    from crossgate.show.console import warn

    for journal in strange_journals(path):
        warn(strange_journal(journal, path))


def strange_journal(journal: Path, plan: Path) -> str:
    """Return the sentence that a journal beside a plan is not trusted."""
    return (
        f"{journal} was not written by you on this machine, so it is left alone; if nobody "
        f"else edits {plan}, remove it"
    )


def _tell_half_done(files: Iterable[Path]) -> None:
    from crossgate.formats.edit_records import half_done
    from crossgate.show.console import warn

    for edit in half_done(files):
        warn(
            f"{edit.text()}; crossgate --plan {edit.plan} recover shows what it would do, and "
            "finishes it after asking"
        )


def plan_file(context: typer.Context, purpose: str) -> Path:
    """Return the plan file for a purpose that needs a file. Raises `PlanError` where the plan comes
    from standard input.
    """
    path = plan_path(context)
    if path == STANDARD_INPUT:
        raise PlanError(
            f"the plan comes from standard input, so there is no file to {purpose}; name a file"
        )
    return path


def moment(text: str | None, plan: Plan, option: str = "--at") -> datetime:
    """Return the time that `--at` or another option gives, the present one without it: a bare time
    is today's, a weekday the coming one. Raises `PlanError`.
    """
    from crossgate.core.model.window import DAY_MINUTES, DAYS, WEEK_MINUTES, minute_of_week
    from crossgate.language import times
    from crossgate.language.lines import Line
    from crossgate.language.words import Words

    now = plan.now().replace(microsecond=0)
    if text is None or text.strip().lower() == "now":
        return now
    bare = ":" in text and "-" not in text and len(text.split()) == 1
    words = Words(Line("", 0, f"{DAYS[now.weekday()]} {text}" if bare else text))
    try:
        found = times.moment(words)
        words.end()
    except PlanError as error:
        raise PlanError(f"{option} {text}: {error.message}") from None
    if found.date is not None:
        return found.date
    assert found.minute is not None
    if bare:
        return now.replace(
            hour=found.minute % DAY_MINUTES // 60, minute=found.minute % 60, second=0
        )
    ahead = (found.minute - minute_of_week(now)) % WEEK_MINUTES
    return now.replace(second=0) + timedelta(minutes=ahead)


def print_json_line(document: Mapping[str, object]) -> None:
    """Print a JSON document on one line, so that each line is one event."""
    import json

    typer.echo(json.dumps(document, ensure_ascii=False))
    sys.stdout.flush()


def print_json(document: Mapping[str, object]) -> None:
    """Print one JSON document."""
    from crossgate.formats.json.parts import json_text
    from crossgate.show.console import silence

    try:
        sys.stdout.write(json_text(document))
        sys.stdout.flush()
    except BrokenPipeError:
        silence()


def write_file(path: Path, text: str | bytes, inputs: Iterable[str]) -> None:
    """Write a file completely or not at all. Raises `PlanError` when that is not possible, or when
    it is one of the files that were read.
    """
    from crossgate.formats.disk import put_file

    for name in inputs:
        if path.exists() and Path(name).exists() and path.samefile(name):
            raise PlanError(
                f"{path} is part of the plan that this is about; name another file to write to"
            )
    put_file(path, text if isinstance(text, bytes) else text.encode())


@contextmanager
def _status() -> Iterator[Callable[[Callable[[float], str]], None]]:
    """Return a function that shows a line, made from the seconds spent, on standard error: on a
    terminal, after the first second, and at most ten times a second.
    """
    start, shown = time.monotonic(), 0.0

    def show(text: Callable[[float], str]) -> None:
        nonlocal shown
        spent = time.monotonic() - start
        if spent > max(1, shown + 0.1) and sys.stderr.isatty():
            shown = spent
            sys.stderr.write(f"\r{text(spent)}\x1b[K")
            sys.stderr.flush()

    try:
        yield show
    finally:
        if shown:
            sys.stderr.write("\r\x1b[K")


@contextmanager
def meter(label: str) -> Iterator[Callable[[int, int], None]]:
    """Provide a function to be told (done, of how many); when the work takes over a second,
    standard error shows it on a terminal.
    """
    with _status() as show:
        yield lambda done, total: show(
            lambda _: f"{label}: {done:,}" + (f" of {total:,}" if total else "")
        )


@contextmanager
def gauge(label: str, total: int) -> Iterator[Callable[[int, int], None]]:
    """Provide a function to be told (rows, octets so far); after a second, standard error shows
    rate and time left on a terminal.
    """

    def text(rows: int, octets: int, spent: float) -> str:
        told = f"{label}: {rows:,} rows, {rows / spent:,.0f} a second"
        if not (total and octets):
            return told
        part = min(octets / total, 1)
        return f"{told}, {part:.0%}, {spent / part - spent:.0f} s left"

    with _status() as show:
        yield lambda rows, octets: show(lambda spent: text(rows, octets, spent))


def progress(items: Iterable[Item], total: int, label: str) -> Iterator[Item]:
    """Yield the items; when that takes over a second, standard error shows the progress."""
    with meter(label) as show:
        for number, item in enumerate(items, 1):
            yield item
            show(number, total)


def family_of(only_ipv4: bool, only_ipv6: bool) -> Family | None:
    """Return the only family that -4 or -6 asks for, or None. Raises `PlanError` when both are
    given.
    """
    from crossgate.core.model.address import Family

    if only_ipv4 and only_ipv6:
        raise PlanError("-4 and -6 exclude each other; leave both out to trace both families")
    return Family.IPV4 if only_ipv4 else Family.IPV6 if only_ipv6 else None
