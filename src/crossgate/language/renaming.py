"""A name changed everywhere: in each line of every file that mentions it, and nowhere else.
Comments, remarks and quoted texts stay as they are.
"""

from __future__ import annotations

from codecs import BOM_UTF8
from collections.abc import Mapping
from enum import StrEnum
from pathlib import Path

from crossgate.core.answers.names_alone import NameSpace, Renamed
from crossgate.core.model.errors import Place, PlanError, unknown
from crossgate.core.model.plan import Plan
from crossgate.language.draft import Draft
from crossgate.language.lines import Line
from crossgate.language.source import decode
from crossgate.language.texts import Mention, Named, Text
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


_NAMED = {
    NameKind.POINT: Named.POINT,
    NameKind.SERVICE: Named.SERVICE,
    NameKind.WINDOW: Named.WINDOW,
    NameKind.LIST: Named.LIST,
}


_SPACES = {
    Named.NAME: NameSpace.THING,
    Named.POINT: NameSpace.PART,
    Named.SERVICE: NameSpace.SERVICE,
    Named.WINDOW: NameSpace.WINDOW,
    Named.LIST: NameSpace.LIST,
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
    named = _NAMED.get(kind, Named.NAME)
    owner, dot, part = new.rpartition(".")
    if named is Named.POINT and dot:
        if owner != name.partition(".")[0]:
            raise PlanError(f"a point stays at its device: write {name.partition('.')[0]}.{part}")
        new = part
    _see_that_it_is_a_name(named, new)
    taken = f"{name.partition('.')[0]}.{new}" if named is Named.POINT else new
    if taken == name:
        raise PlanError(f"it is called {name} already")
    _see_that_it_is_free(draft.plan, named, taken)
    lines = write_anew(draft, named, {name: taken})
    device = name.partition(".")[0] if named is Named.POINT else ""
    draft.renamed = Renamed(
        _SPACES[named], name.removeprefix(f"{device}."), taken.removeprefix(f"{device}."), device
    )
    return f"{kind} {name} is called {taken} in {lines} line{'s' if lines != 1 else ''}"


def write_anew(draft: Draft, named: Named, names: Mapping[str, str]) -> int:
    """Replace names in all lines that mention them, which must be as they were read; return the
    number of lines. Names may be exchanged.
    """
    lines = 0
    for file, data in draft.data.items():
        text = Text(file, decode(Path(file), data.removeprefix(BOM_UTF8)))
        by_line: dict[int, list[tuple[Mention, str]]] = {}
        for name, new in names.items():
            part = new.rpartition(".")[2] if named is Named.POINT else new
            for number, mention in text.mentioning(named, name):
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


def _see_that_it_is_a_name(named: Named, new: str) -> None:
    words = Words(Line("the new name", 1, new))
    if named is Named.LIST and new.isdecimal():
        words.take("a number")
    elif named is Named.POINT:
        words.part("a point")
    else:
        words.name(f"a {named}")
    words.end()


def _see_that_it_is_free(plan: Plan, named: Named, new: str) -> None:
    spaces = {
        Named.NAME: (
            NameKind.HOST,
            NameKind.SUBNET,
            NameKind.OUTSIDE,
            NameKind.DEVICE,
            NameKind.GROUP,
        ),
        Named.POINT: (NameKind.POINT,),
        Named.SERVICE: (NameKind.SERVICE,),
        Named.WINDOW: (NameKind.WINDOW,),
        Named.LIST: (NameKind.LIST,),
    }[named]
    for kind in spaces:
        if new in _known(plan, kind):
            raise PlanError(f"{new} stands for a {kind} already")
