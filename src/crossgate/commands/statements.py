"""`crossgate group`, `service`, `window`, `host`, `subnet`, `route` and `expect`: the rest of the
plan, edited as entries are.
"""

from __future__ import annotations

from typing import Annotated

import typer

from crossgate.commands.common import examples
from crossgate.commands.completing import complete_device, complete_name
from crossgate.commands.editing import Change, edit_command

NameArgument = Annotated[str, typer.Argument(metavar="NAME", help="Its name.")]
MembersArgument = Annotated[
    list[str],
    typer.Argument(metavar="MEMBER...", autocompletion=complete_name, help="One or several."),
]
WordsArgument = Annotated[
    list[str],
    typer.Argument(metavar="WORDS...", help="The rest of the line, as the plan would have it."),
]
DeviceArgument = Annotated[
    str, typer.Argument(metavar="DEVICE", autocompletion=complete_device, help="The device.")
]


def _group_of(name: str, told: str) -> typer.Typer:
    return typer.Typer(name=name, help=told, no_args_is_help=True)


group = _group_of("group", "Add members to a group, or remove them.")
service = _group_of("service", "Add parts to a service, or remove them.")
window = _group_of("window", "Change the hours of a window.")
host = _group_of("host", "Add a host, or remove one.")
subnet = _group_of("subnet", "Add a subnet, or remove one.")
route = _group_of("route", "Add a route to a device, or remove one.")
expect = _group_of("expect", "Add what must hold, or remove it.")


@group.command("add", epilog=examples("group add servers duty"))
@edit_command
def group_add(name: NameArgument, members: MembersArgument) -> Change:
    """Add members to a group, after those it has."""
    from crossgate import changes

    return changes.add_members("group", name, members)


@group.command("take", epilog=examples("group take servers resolver"))
@edit_command
def group_take(name: NameArgument, members: MembersArgument) -> Change:
    """Remove members from a group."""
    from crossgate import changes

    return changes.take_members("group", name, members)


@service.command("add", epilog=examples("service add booking tcp/9444"))
@edit_command
def service_add(name: NameArgument, members: MembersArgument) -> Change:
    """Add parts to a service, after those it has."""
    from crossgate import changes

    return changes.add_members("service", name, members)


@service.command("take", epilog=examples("service take booking tcp/9443"))
@edit_command
def service_take(name: NameArgument, members: MembersArgument) -> Change:
    """Remove parts from a service."""
    from crossgate import changes

    return changes.take_members("service", name, members)


@window.command("change", epilog=examples("window change night daily 23:00-05:00"))
@edit_command
def window_change(name: NameArgument, words: WordsArgument) -> Change:
    """Change the hours of a window, written as in its line."""
    from crossgate import changes

    return changes.set_window(name, " ".join(words))


@host.command("new", epilog=examples("host new kiosk-3 10.64.9.23 on tickets"))
@edit_command
def host_new(name: NameArgument, words: WordsArgument) -> Change:
    """Add a host, after the others."""
    from crossgate import changes

    return changes.add_host(name, " ".join(words))


@host.command("drop", epilog=examples("host drop kiosk-2"))
@edit_command
def host_drop(name: NameArgument) -> Change:
    """Remove a host; refused where lists, groups or claims name it."""
    from crossgate import changes

    return changes.drop_host(name)


@subnet.command("new", epilog=examples("subnet new berth-4 10.64.35.0/24"))
@edit_command
def subnet_new(name: NameArgument, words: WordsArgument) -> Change:
    """Add a subnet, after the others."""
    from crossgate import changes

    return changes.add_subnet(name, " ".join(words))


@subnet.command("drop", epilog=examples("subnet drop berth-2"))
@edit_command
def subnet_drop(name: NameArgument) -> Change:
    """Remove a subnet; refused where something is on it or names it."""
    from crossgate import changes

    return changes.drop_subnet(name)


@route.command("add", epilog=examples("route add groyne default via 192.0.2.1"))
@edit_command
def route_add(device: DeviceArgument, words: WordsArgument) -> Change:
    """Add a route to a device, after those it has."""
    from crossgate import changes

    return changes.add_route(device, " ".join(words))


@route.command("drop", epilog=examples("route drop breakwater default"))
@edit_command
def route_drop(
    device: DeviceArgument,
    destination: Annotated[
        str, typer.Argument(metavar="PREFIX", help="Where it leads, or default.")
    ],
) -> Change:
    """Remove the routes of a device to a prefix."""
    from crossgate import changes

    return changes.drop_route(device, destination)


@expect.command("add", epilog=examples("expect add deny telnet guests to harbour"))
@edit_command
def expect_add(
    words: Annotated[
        list[str],
        typer.Argument(metavar="CLAIM...", help="What must hold, as: permit https a to b"),
    ],
    keep: Annotated[
        bool, typer.Option("--keep", help="As a keep line, which no edit may break.")
    ] = False,
) -> Change:
    """Add a claim, after the others; the preview says whether it holds."""
    from crossgate import changes

    text = " ".join(words)
    return changes.add_claim(
        text if text.startswith(("expect ", "keep ")) else f"{'keep' if keep else 'expect'} {text}"
    )


@expect.command("drop", epilog=examples("expect drop 193"))
@edit_command
def expect_drop(
    where: Annotated[str, typer.Argument(metavar="LINE", help="Its line, or FILE:LINE.")],
) -> Change:
    """Remove the claim in a line."""
    from crossgate import changes

    return changes.drop_claim(where)
