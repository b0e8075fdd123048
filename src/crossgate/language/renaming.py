"""A name changed everywhere: in each line of every file that mentions it, and nowhere else.
Comments, remarks and quoted texts stay as they are.
"""

from __future__ import annotations

from codecs import BOM_UTF8
from collections.abc import Mapping
from enum import StrEnum
from pathlib import Path

from crossgate.core.answers.names_alone import Renamed
from crossgate.core.model.errors import Place, PlanError, unknown
from crossgate.core.model.named import NameSpace
from crossgate.core.model.plan import Plan
from crossgate.language.draft import Draft
from crossgate.language.lines import Line
from crossgate.language.source import decode
from crossgate.language.texts import Mention, Text
from crossgate.language.words import Words


class NameKind(StrEnum):
    """What kind of thing a name is for."""

    HOST = "host"
    SUBNET = "subnet"
    OUTSIDE = "outside"
    DEVICE = "device"
    POINT = "point"
    GROUP = "group"
    SERVICE = "service"
    WINDOW = "window"
    LIST = "list"


_SPACES = {
    NameKind.POINT: NameSpace.POINT,
    NameKind.SERVICE: NameSpace.SERVICE,
    NameKind.WINDOW: NameSpace.WINDOW,
    NameKind.LIST: NameSpace.LIST,
}


def rename(draft: Draft, kind: NameKind, name: str, new: str) -> str:
    """Change a name, and say in how many lines. Raises `PlanError` for a name that the plan does
    not have for that kind, and for a new one that is invalid or taken.
    """
    known = _known(draft.plan, kind)
    if name not in known:
        other = next((each for each in NameKind if name in _known(draft.plan, each)), None)
        raise PlanError(
            unknown(kind, name, known)
            if other is None
            else f"{name} is of another kind; write: rename {other} {name} {new}"
        )
    space = _SPACES.get(kind, NameSpace.NAME)
    owner, dot, part = new.rpartition(".")
    if space is NameSpace.POINT and dot:
        if owner != name.partition(".")[0]:
            raise PlanError(f"a point stays at its device: write {name.partition('.')[0]}.{part}")
        new = part
    _see_that_it_is_a_name(space, new)
    taken = f"{name.partition('.')[0]}.{new}" if space is NameSpace.POINT else new
    if taken == name:
        raise PlanError(f"it is called {name} already")
    _see_that_it_is_free(draft.plan, space, taken)
    lines = write_anew(draft, space, {name: taken})
    device = name.partition(".")[0] if space is NameSpace.POINT else ""
    draft.renamed = Renamed(
        space, name.removeprefix(f"{device}."), taken.removeprefix(f"{device}."), device
    )
    return f"{kind} {name} is called {taken} in {lines} line{'s' if lines != 1 else ''}"


def write_anew(draft: Draft, space: NameSpace, names: Mapping[str, str]) -> int:
    """Replace names in all lines that mention them, which must be as they were read; return the
    number of lines. Names may be exchanged.
    """
    lines = 0
    for file, data in draft.data.items():
        text = Text(file, decode(Path(file), data.removeprefix(BOM_UTF8)))
        by_line: dict[int, list[tuple[Mention, str]]] = {}
        for name, new in names.items():
            part = new.rpartition(".")[2] if space is NameSpace.POINT else new
            for number, mention in text.mentioning(space, name):
                by_line.setdefault(number, []).append((mention, part))
        for number, mentions in by_line.items():
            place = Place(file, number + 1)
            line = draft.line(place).text
            for each, part in sorted(mentions, key=lambda one: -one[0].start):
                line = line[: each.start] + part + line[each.end :]
            draft.replace(place, line)
        lines += len(by_line)
    return lines


def _known(plan: Plan, kind: NameKind) -> list[str]:
    """Return the names that a plan has for things of a kind."""
    if kind is NameKind.POINT:
        return [
            f"{device.name}.{each}"
            for device in plan.devices.values()
            for each in (*device.interfaces, *device.ports)
        ]
    outside = kind is NameKind.OUTSIDE
    return {
        NameKind.HOST: list(plan.hosts),
        NameKind.DEVICE: list(plan.devices),
        NameKind.GROUP: list(plan.groups),
        NameKind.SERVICE: list(plan.services),
        NameKind.WINDOW: list(plan.windows),
        NameKind.LIST: list(plan.every_list),
    }.get(kind) or [name for name, each in plan.segments.items() if each.outside is outside]


def _see_that_it_is_a_name(space: NameSpace, new: str) -> None:
    words = Words(Line("the new name", 1, new))
    if space is NameSpace.LIST and new.isdecimal():
        words.take("a number")
    elif space is NameSpace.POINT:
        words.part("a point")
    else:
        words.name(f"a {space}")
    words.end()


def _see_that_it_is_free(plan: Plan, space: NameSpace, new: str) -> None:
    spaces = {
        NameSpace.NAME: (
            NameKind.HOST,
            NameKind.SUBNET,
            NameKind.OUTSIDE,
            NameKind.DEVICE,
            NameKind.GROUP,
        ),
        NameSpace.POINT: (NameKind.POINT,),
        NameSpace.SERVICE: (NameKind.SERVICE,),
        NameSpace.WINDOW: (NameKind.WINDOW,),
        NameSpace.LIST: (NameKind.LIST,),
    }[space]
    for kind in spaces:
        if new in _known(plan, kind):
            raise PlanError(f"{new} stands for a {kind} already")
