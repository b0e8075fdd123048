"""The program as a group of commands, each imported and built when it is asked for.

A run needs one command. Only help builds them all; completing or suggesting a command's name needs
only the names.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from functools import partial
from importlib import import_module
from typing import Any

import typer
from typer.core import TyperGroup

from crossgate.commands.common import examples
from crossgate.commands.table import COMMANDS, Listed
from crossgate.core.model.errors import PlanError

_SENTENCE = 1_000
"""How many characters of a command's first sentence are shown: all."""


class Program(TyperGroup):
    """The group of all commands; it also takes a plan that is named after a command."""

    def __init__(self, **attributes: Any) -> None:
        super().__init__(**attributes)
        self._built = _Commands(COMMANDS)
        self.commands: Any = self._built

    def format_help(self, ctx: Any, formatter: Any) -> None:
        """Write the program's help as plain text, like that of each command."""
        super(TyperGroup, self).format_help(ctx, formatter)

    def format_commands(self, ctx: Any, formatter: Any) -> None:
        """Write the commands under the steps of the work, each with the first sentence of its
        help.
        """
        widest = max(map(len, COMMANDS))
        for step in dict.fromkeys(each.step for each in COMMANDS.values()):
            with formatter.section(step):
                formatter.write_dl(
                    [
                        (name.ljust(widest), self._built[name].get_short_help_str(_SENTENCE))
                        for name, listed in COMMANDS.items()
                        if listed.step == step
                    ]
                )

    def list_commands(self, ctx: Any) -> list[str]:
        """Return the names of the commands, in the order in which help shows them."""
        return list(self._built)

    def shell_complete(self, ctx: Any, incomplete: str) -> list[Any]:
        """Return the commands and options that continue what was typed; no command is built for
        that.
        """
        self._built.only_named = True
        try:
            return super().shell_complete(ctx, incomplete)
        finally:
            self._built.only_named = False

    def resolve_command(self, ctx: Any, args: list[str]) -> tuple[str | None, Any, list[str]]:
        """Return the command that is named, and its words without those that name the plan. Raises
        `PlanError` for a plan where a command should be, and where two plans are named.
        """
        if args[0].endswith(".gate") and not ctx.resilient_parsing:
            raise PlanError(
                f"{args[0]} is a plan and no command; name what to do with it, as: crossgate check "
                f"{args[0]}"
            )
        name, command, words = super().resolve_command(ctx, args)
        if any("--plan" in word or word == "-" or word.endswith(".gate") for word in words):
            from crossgate.commands.naming import take_plan

            words = take_plan(ctx, command, words)
        return name, command, words


class _Commands(Mapping[str, Any]):
    """The commands by name, each built when it is first looked up."""

    def __init__(self, listed: Mapping[str, Listed]) -> None:
        self._listed = listed
        self._built: dict[str, Any] = {}
        self.only_named = False
        """Whether what is looked up has no more than its name and help."""

    def __getitem__(self, name: str) -> Any:
        if self.only_named:
            return _build(name, self._listed[name], only_named=True)
        if name not in self._built:
            self._built[name] = _build(name, self._listed[name])
        return self._built[name]

    def __iter__(self) -> Iterator[str]:
        return iter(self._listed)

    def __len__(self) -> int:
        return len(self._listed)


def _build(name: str, listed: Listed, only_named: bool = False) -> Any:
    """Import a command and build it; `only_named` leaves out its options."""
    own = getattr(import_module(f"crossgate.commands.{listed.module}"), listed.function)
    holder = typer.Typer(add_completion=False, rich_markup_mode=None)
    holder.callback()(_nothing)
    if only_named:
        told = own.info.help if isinstance(own, typer.Typer) else _told(own)
        holder.command(name, help=told)(_nothing)
    elif isinstance(own, typer.Typer):
        holder.add_typer(own, name=name, rich_help_panel=listed.step)
    else:
        ending = examples(*listed.examples)
        holder.command(name, help=_told(own), rich_help_panel=listed.step, epilog=ending)(own)
    built = typer.main.get_group(holder).commands[name]
    inner = list(getattr(built, "commands", {}).values())
    for command in inner:
        command.short_help = command.get_short_help_str(_SENTENCE)
    for command in (built, *inner):
        for each in command.params:
            if each.param_type_name == "argument":
                each.display_type_rich = _untyped
                each.get_usage_pieces = partial(_in_usage, each)
    return built


def _in_usage(argument: Any, ctx: Any) -> list[str]:
    """Return an argument as the usage line shows it: FROM, or [SERVICE...] for an optional one."""
    name = argument.metavar or (argument.name or "").upper()
    if name.startswith("["):
        return [name]
    if argument.nargs == -1 and "..." not in name:
        name += "..."
    return [name if argument.required else f"[{name}]"]


def _told(own: Any) -> str:
    """Return a command's help, each paragraph on one line, to be wrapped where it is shown."""
    return "\n\n".join(" ".join(each.split()) for each in (own.__doc__ or "").split("\n\n"))


def _untyped(ctx: Any) -> str:
    """Return nothing in the place of an argument's type: its help says what it is."""
    return ""


def _nothing() -> None:
    pass
