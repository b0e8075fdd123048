"""`crossgate cause`: which single fault explains what was observed on the running network."""

from __future__ import annotations

from typing import TYPE_CHECKING, Annotated

import typer

from crossgate.commands.common import circumstances, family_of, load, meter, plan_file, print_json
from crossgate.commands.shared_options import AtOption, JsonOption
from crossgate.commands.tallying import tallied
from crossgate.core.model.errors import PlanError

if TYPE_CHECKING:
    from crossgate.core.model.accesslist import AccessList
    from crossgate.core.model.plan import Plan


def cause(
    context: typer.Context,
    seen: Annotated[
        list[str],
        typer.Argument(
            metavar="FILE | OBSERVATION...",
            help="A filled-in sheet; or what was seen, as 'kiosk-1 to manifest tcp/8443 silent'.",
        ),
    ],
    since: Annotated[
        str | None,
        typer.Option(
            "--since",
            metavar="REV",
            help="Try lists as they were at this git revision, too: a device may run that.",
        ),
    ] = None,
    tally: Annotated[
        bool,
        typer.Option("--tally", help="Take the tally for what each line counted meanwhile."),
    ] = False,
    only_ipv4: Annotated[bool, typer.Option("-4", help="It was seen over IPv4.")] = False,
    only_ipv6: Annotated[bool, typer.Option("-6", help="It was seen over IPv6.")] = False,
    at: AtOption = None,
    every: Annotated[
        bool,
        typer.Option("--every", help="Show every cause that explains at least one observation."),
    ] = False,
    as_json: JsonOption = False,
) -> None:
    """Find the single fault, or the two, that explain what was seen on site and is not as the plan
    says; and the next test that tells the best two apart. Exit status 1 where something was seen
    that the plan does not say.
    """
    from crossgate import library

    plan = load(context)
    when, family = circumstances(plan, at), family_of(only_ipv4, only_ipv6)
    counted = tallied(context, plan.lists.values()) if tally else None
    older = None if since is None else _older(context, plan, since)
    with meter("trying faults") as tell:
        found = library.cause(
            plan, *seen, family=family, counted=counted, older=older, of=when, tell=tell
        )
    if as_json:
        from crossgate.formats.json.cause import cause_document

        print_json(cause_document(plan, when, found))
    else:
        from crossgate.show.cause import lines
        from crossgate.show.console import write

        write(lines(found, every))
    if found.wrong:
        raise typer.Exit(1)


def _older(context: typer.Context, plan: Plan, revision: str) -> dict[str, AccessList]:
    """Return the lists that were different at a git revision. Raises `PlanError`."""
    from crossgate.formats.git import Revision
    from crossgate.language.reader import read

    path = plan_file(context, "look up in git")
    was = read(path, Revision(path, revision)).plan
    found = {
        name: own
        for name, own in was.lists.items()
        if name in plan.lists and own.says != plan.lists[name].says
    }
    if not found:
        raise PlanError(f"--since {revision}: every list says now what it said then")
    return found
