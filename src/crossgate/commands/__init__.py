"""The command line: one module a command, each a few lines that read, ask the core and show.

A run needs one command, so only that one is imported and built; all of them are for help,
completion and a word that is no command.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from contextlib import suppress
from importlib import import_module
from pathlib import Path
from typing import Annotated, NamedTuple

import typer

from crossgate import __version__
from crossgate.commands.common import examples
from crossgate.commands.completing import put, typed
from crossgate.core.model.errors import PlanError


class Listed(NamedTuple):
    """A command as help lists it: the module and the function or group in it, the step of the work,
    and examples on the demo.
    """

    module: str
    function: str
    step: str
    examples: tuple[str, ...]


_START, _ASK, _WRITE, _SHOW, _OPEN, _NUMBERS = (
    "Start",
    "Ask",
    "Write",
    "Show",
    "Open formats",
    "Numbers and words",
)

COMMANDS = {
    "new": Listed(
        "new",
        "new",
        _START,
        ("new office.gate", "new office.gate --subnets subnets.csv --hosts hosts.xlsx"),
    ),
    "demo": Listed("demo", "demo", _START, ("demo", "demo ternhaven")),
    "check": Listed(
        "check", "check", _ASK, ("check", "check --strict", "check --sarif findings.sarif")
    ),
    "lists": Listed(
        "lists",
        "lists",
        _ASK,
        ("lists kiosk-fence 12", "lists --short --on lighthouse", "lists 12 --at 'mon 23:00'"),
    ),
    "trace": Listed(
        "trace",
        "trace",
        _ASK,
        (
            "trace kiosk-1 manifest tcp/8443",
            "trace tickets servers booking domain ping",
            "trace visitor manifest https --as duty",
        ),
    ),
    "points": Listed("points", "points", _ASK, ("points guest-1 crane-2",)),
    "replay": Listed(
        "replay",
        "replay",
        _ASK,
        (
            "replay day.pcap --zone UTC",
            "replay sea.pcap --from breakwater.sea --zone UTC",
            "replay flows.parquet --against proposal/ternhaven.gate --zone UTC",
        ),
    ),
    "verify": Listed(
        "verify", "verify", _ASK, ("verify", "verify --without pier", "verify --any-one-down")
    ),
    "grid": Listed(
        "grid",
        "grid",
        _ASK,
        (
            "grid ping booking",
            "grid ping --from tickets --to harbour",
            "grid ping --against proposal/ternhaven.gate",
        ),
    ),
    "reach": Listed(
        "reach",
        "reach",
        _ASK,
        ("reach tickets harbour", "reach internet any https", "reach guests harbour --strays"),
    ),
    "compare": Listed(
        "compare",
        "compare",
        _ASK,
        (
            "compare proposal/ternhaven.gate",
            "compare ternhaven.gate proposal/ternhaven.gate --list guest-fence",
            "compare --since HEAD~1",
        ),
    ),
    "entry": Listed("entry", "entry", _WRITE, ()),
    "list": Listed("listing", "listing", _WRITE, ()),
    "place": Listed(
        "placement",
        "place",
        _WRITE,
        (
            "place guest-fence inbound lighthouse.v400 --move",
            "place sea6 inbound 'subnet quay' --dry-run",
        ),
    ),
    "lift": Listed(
        "placement", "lift", _WRITE, ("lift kiosk-port", "lift 12 outbound lighthouse.v160")
    ),
    "fence": Listed(
        "fence",
        "fence",
        _WRITE,
        ("fence berth-2", "fence berth-2 --except manifest --one-way", "fence berth-2 --undo"),
    ),
    "distil": Listed(
        "distil",
        "distil",
        _WRITE,
        (
            "distil day.pcap --into berths-need --place inbound pier.up --dry-run",
            "distil flows.parquet --into hall -4 --widen 50 --dry-run",
        ),
    ),
    "twin": Listed(
        "twin",
        "twin",
        _WRITE,
        ("twin kiosk-fence kiosks-in-ipv6 --dry-run", "twin kiosk-port socket6 --place --dry-run"),
    ),
    "mend": Listed("mending", "mend", _WRITE, ("mend", "mend icmp6-needed guest-fence6 --take a")),
    "tidy": Listed("tidy", "tidy", _WRITE, ("tidy", "tidy --check")),
    "recover": Listed("recover", "recover", _WRITE, ("recover", "recover --dry-run")),
    "watch": Listed("watch", "watch", _WRITE, ("watch", "watch --once")),
    "editor": Listed("editor", "editor", _WRITE, ("editor", "--plan ternhaven.gate editor")),
    "draw": Listed("drawing", "draw", _SHOW, ()),
    "report": Listed(
        "reporting", "report", _SHOW, ("report", "report --out ternhaven.html --at 'mon 12:00'")
    ),
    "import": Listed(
        "importing",
        "import_",
        _OPEN,
        ("import ietf gangway.json --dry-run", "import ietf-acl gangway.json --on pier --dry-run"),
    ),
    "export": Listed(
        "exporting",
        "export",
        _OPEN,
        (
            "export ietf-acl kiosk-fence6",
            "export markdown kiosk-fence",
            "export ietf --on pier --approximate",
        ),
    ),
    "wild": Listed(
        "wild",
        "wild",
        _NUMBERS,
        (
            "wild 10.64.8.0/22",
            "wild 10.64.32.10 wild 0.0.3.0 has 10.64.34.10",
            "wild cover 10.64.32.10 10.64.33.10",
        ),
    ),
    "tally": Listed("tally", "tally", _NUMBERS, ("tally", "tally clear")),
    "bug-report": Listed(
        "bug_report",
        "bug_report",
        _NUMBERS,
        (
            "bug-report -- trace kiosk-1 manifest tcp/8443",
            "bug-report --out fault.zip --key names.txt -- check",
        ),
    ),
    "help": Listed("help", "explain", _NUMBERS, ("help", "help half-open", "help never-reached")),
}
"""The commands, in the order in which help shows them."""


def run(words: Sequence[str]) -> None:
    """Run a command line, or answer the shell that asks how the one that is being typed could go
    on.
    """
    before = typed()
    told = words if before is None else before
    app, command = application(told, before is not None), _command(told)
    if command.endswith(".gate") and before is None:
        raise PlanError(
            f"{command} is a plan and no command; name what to do with it, as: crossgate check "
            f"{command}"
        )
    if any("--plan" in word or word == "-" or word.endswith(".gate") for word in told):
        from crossgate.commands.naming import plan_first

        if before is None:
            words = plan_first(words, command, app)
        elif told[-1] != "--plan":
            with suppress(PlanError):  # two plans are named: told when the line is run
                put(plan_first(told, command, app))
    app(words)


def application(words: Sequence[str], completes: bool = False) -> typer.Typer:
    """Return the program for a command line, or for one that the shell completes: with the one
    command that it names, or with all.
    """
    app = typer.Typer(
        name="crossgate",
        help="Write, place, trace and prove access lists, offline, from one plain-text plan.",
        invoke_without_command=True,
        pretty_exceptions_enable=False,
        context_settings={"help_option_names": ["-h", "--help"]},
    )
    app.callback()(options)
    named = _command(words)
    helps = any(word in ("-h", "--help") for word in words)
    alone = not named and not helps and not completes
    for name in () if alone else [named] if named in COMMANDS else COMMANDS:
        listed = COMMANDS[name]
        command = getattr(import_module(f"crossgate.commands.{listed.module}"), listed.function)
        if completes and not named:
            app.command(name, rich_help_panel=listed.step)(_only_named(command))
        elif isinstance(command, typer.Typer):
            app.add_typer(command, rich_help_panel=listed.step)
        else:
            app.command(name, rich_help_panel=listed.step, epilog=examples(*listed.examples))(
                command
            )
    return app


def _only_named(command: Callable[..., object] | typer.Typer) -> Callable[[], None]:
    """Return what stands for a command while its name is completed: to build all of them with their
    options takes far longer.
    """

    def named() -> None:
        pass

    named.__doc__ = command.info.help if isinstance(command, typer.Typer) else command.__doc__
    return named


def _command(words: Sequence[str]) -> str:
    """Return the first word that is neither an option nor the plan's name."""
    left = iter(words)
    for word in left:
        if word in ("--plan", "--pieces", "--include-from"):
            next(left, None)
        elif not word.startswith("-"):
            return word
    return ""


def _version(wanted: bool) -> None:
    if wanted:
        typer.echo(f"crossgate {__version__}")
        raise typer.Exit


def options(
    context: typer.Context,
    plan: Annotated[
        Path | None,
        typer.Option(
            help="The plan file. Default: CROSSGATE_PLAN, else the only *.gate file here.",
            metavar="FILE",
        ),
    ] = None,
    pieces: Annotated[
        int | None,
        typer.Option(help="Allow each exact question N pieces (1,000,000).", metavar="N", min=1),
    ] = None,
    include_from: Annotated[
        list[Path] | None,
        typer.Option(
            help=(
                "Trust the files of this folder as includes. Default: those of the plan's folder "
                "or repository."
            ),
            metavar="DIR",
        ),
    ] = None,
    version: Annotated[
        bool, typer.Option("--version", callback=_version, is_eager=True, help="Print the version.")
    ] = False,
) -> None:
    """Write, place, trace and prove access lists, offline, from one plain-text plan."""
    if pieces is not None:
        from crossgate.core.sets.effort import allow

        allow(pieces)
    if include_from:
        from crossgate.language.source import allow_includes

        allow_includes(include_from)
    if context.invoked_subcommand is None:
        from crossgate.commands.standing import standing

        standing(context)
