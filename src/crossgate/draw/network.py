"""The network drawn as a harbour: subnets are quays, devices the blocks between them, lists the
gates across what joins them.

A gate is a barrier with an arrow through it for the direction; an IPv4 gate has square posts, an
IPv6 gate round ones, an ethernet gate pointed ones. A traced conversation runs over it in lanes,
one for each leg, and ends in a ring at the gate that stopped it.
"""

from __future__ import annotations

from collections.abc import Sequence
from itertools import pairwise
from typing import Any, NamedTuple

from crossgate.core.conversation.story import Trace
from crossgate.core.conversation.verdict import Verdict
from crossgate.core.model.address import Family
from crossgate.core.model.network import Direction, Point, PointKind, stands_at
from crossgate.core.model.plan import Plan
from crossgate.draw.canvas import Canvas
from crossgate.draw.columns import LINE
from crossgate.draw.layout import laid_out
from crossgate.draw.picture import Gate, Picture, Spot
from crossgate.draw.style import SMALL, TEXT, Theme, text_width
from crossgate.formats.handed_on import handed_on

_HEAD = 46.0
_FOOT = 40.0
_LANE = 3.5


class DrawnLeg(NamedTuple):
    """One leg of a traced conversation: its corners, whether it arrived, and a sentence about
    it.
    """

    corners: tuple[Spot, ...]
    verdict: Verdict
    told: str


def network_sheet(
    plan: Plan,
    theme: Theme,
    *,
    trace: Trace | None = None,
    told: Sequence[str] = (),
    only_list: str | None = None,
    around: str | None = None,
    size: tuple[int, int] | None = None,
    marked: frozenset[Point] = frozenset(),
) -> Canvas:
    """Draw a plan's network; `told` are sentences about the legs of a trace, `marked` are places
    whose gates stand out.
    """
    picture = laid_out(plan, only_list, around)
    lanes = [] if trace is None else lanes_of(plan, picture, trace, told)
    head = _HEAD + LINE * 1.3 * len(lanes)
    title = plan.title or handed_on(plan.files[0])
    width = max(
        picture.width,
        30 + sum(_SIGN + text_width(text, SMALL) for _, text in _signs(picture)),
        text_width(title, 17) + 60,
        *(text_width(each.told, TEXT) + 80 for each in lanes),
        0,
    )
    height = picture.height + head + _FOOT
    sheet = Canvas(width, height, theme, size)
    sheet.text(title, 24, 30, 17, strong=True, gid="title")
    if picture.folded:
        sheet.text(picture.folded, 24 + text_width(title, 19) + 20, 30, TEXT, theme.quiet)
    for index, lane in enumerate(lanes):
        y = 52 + index * LINE * 1.3
        sheet.line([(24, y - 4), (52, y - 4)], theme.of(lane.verdict), 2.6, _dashed(index))
        sheet.text(lane.told, 60, y, TEXT, theme.of(lane.verdict))
    _draw(sheet, picture, head - 16, marked)
    for index, lane in enumerate(lanes):
        _draw_lane(sheet, lane, index, head - 16)
    _legend(sheet, height - 16, picture)
    return sheet


def _draw(sheet: Canvas, picture: Picture, top: float, marked: frozenset[Point]) -> None:
    theme = sheet.theme
    for stub in picture.stubs:
        sheet.line([(each.x, each.y + top) for each in stub.corners], theme.quiet, 1.3)
    for bar in picture.bars.values():
        if bar.kind == "cable":
            sheet.line([(bar.x, bar.y + top), (bar.end, bar.y + top)], theme.quiet, 1.3, "--")
            continue
        hatch = "////" if bar.kind == "outside" else ""
        fill = theme.paper if hatch else theme.quay
        thick = bar.end if bar.leader is None else bar.leader
        sheet.line([(thick, bar.y + top), (bar.end, bar.y + top)], theme.quay, 1)
        sheet.box(
            bar.x,
            bar.y + top - 3.5,
            thick - bar.x,
            7,
            fill,
            theme.quay,
            hatch=hatch,
            gid=f"bar {bar.name}",
        )
    for stub in picture.stubs:
        end = stub.corners[-1]
        sheet.dot(end.x, end.y + top, 3.4, theme.paper, theme.ink)
    for block in picture.blocks.values():
        sheet.box(
            block.x,
            block.y + top,
            block.width,
            block.height,
            theme.block,
            theme.ink,
            0 if block.switch else 9,
            gid=f"device {block.device}",
        )
        if block.switch:
            sheet.line(
                [(block.x, block.y + top + 3.5), (block.x + block.width, block.y + top + 3.5)],
                theme.ink,
                1,
            )
    for number, label in enumerate(picture.labels):
        tone = theme.quiet if label.tone == "quiet" else theme.ink
        sheet.text(
            label.text,
            label.x,
            label.y + top,
            label.size,
            tone,
            label.tone == "strong",
            gid=f"label {number}",
        )
    for gate in picture.gates:
        if gate.point in marked:
            sheet.dot(gate.at.x, gate.at.y + top, 11, theme.faint, theme.varies, 2, above=3)
        draw_gate(sheet, gate, top, theme.ink)


def draw_gate(sheet: Canvas, gate: Gate, top: float, color: str) -> None:
    """Draw a barrier across the stub with its posts, and an arrow through it, or one in each
    direction.
    """
    x, y = gate.at.x, gate.at.y + top
    across = gate.way[0] == 0  # the stub is upright, so the barrier lies across it
    reach = 6.0
    ends = [(x - reach, y), (x + reach, y)] if across else [(x, y - reach), (x, y + reach)]
    name = (
        f"gate {gate.list} {stands_at(gate.direction, gate.point)}" if gate.list else ""
    )  # the legend's have none
    sheet.line(ends, color, 2.4, gid=name, above=5)
    for end_x, end_y in ends:
        if gate.family is None:
            sheet.shape(
                [
                    (end_x, end_y - 3.4),
                    (end_x + 3.4, end_y),
                    (end_x, end_y + 3.4),
                    (end_x - 3.4, end_y),
                ],
                color,
                color,
                above=6,
            )
        elif gate.family is Family.IPV4:
            sheet.box(end_x - 2.2, end_y - 2.2, 4.4, 4.4, color, above=6)
        else:
            sheet.dot(end_x, end_y, 2.4, sheet.theme.paper, color, 1.4, above=6)
    ways = [gate.way]
    if gate.direction is Direction.WITHIN:
        ways.append((-gate.way[0], -gate.way[1]))
    for dx, dy in ways:
        tip, base = (x + dx * 6.5, y + dy * 6.5), (x + dx * 0.5, y + dy * 0.5)
        side = (dy * 3.4, dx * 3.4)
        sheet.shape(
            [tip, (base[0] + side[0], base[1] + side[1]), (base[0] - side[0], base[1] - side[1])],
            color,
            sheet.theme.paper,
            above=7,
        )


_SIGN = 56.0
"""The room that a sign of the legend takes beside its text."""


def _signs(picture: Picture) -> list[tuple[str, str]]:
    """Return the signs in a picture that the legend explains, each with its text."""
    families = {each.family for each in picture.gates}
    kinds = {each.kind for each in picture.bars.values()}
    switches = {each.switch for each in picture.blocks.values()}
    every = [
        (Family.IPV4 in families, "ipv4", "an IPv4 list"),
        (Family.IPV6 in families, "ipv6", "an IPv6 list"),
        (None in families, "ethernet", "an ethernet list"),
        ("subnet" in kinds, "subnet", "a subnet"),
        ("outside" in kinds, "outside", "an outside"),
        (False in switches, "router", "a router"),
        (True in switches, "switch", "a switch"),
    ]
    found = [(sign, text) for there, sign, text in every if there]
    if found and found[0][0] in _LISTS:
        found[0] = found[0][0], f"{found[0][1]}, for packets the way the arrow points"
    return found


_LISTS = {"ipv4": Family.IPV4, "ipv6": Family.IPV6, "ethernet": None}


def _legend(sheet: Canvas, y: float, picture: Picture) -> None:
    """Draw the meaning of a picture's signs."""
    theme, x = sheet.theme, 30.0
    point = Point(PointKind.INTERFACE, "", "")
    for sign, text in _signs(picture):
        if sign in _LISTS:
            sheet.line([(x - 8, y - 4), (x + 14, y - 4)], theme.quiet, 1.3)
            gate = Gate("", _LISTS[sign], point, Direction.INBOUND, Spot(x, y - 4), (1, 0))
            draw_gate(sheet, gate, 0, theme.ink)
        elif sign in ("subnet", "outside"):
            fill, hatch = (theme.quay, "") if sign == "subnet" else (theme.paper, "////")
            sheet.box(x - 8, y - 7, 26, 7, fill, theme.quay, hatch=hatch)
        else:
            sheet.box(x - 8, y - 11, 26, 14, theme.block, theme.ink, 5 if sign == "router" else 0)
            if sign == "switch":
                sheet.line([(x - 8, y - 8.5), (x + 18, y - 8.5)], theme.ink, 1, above=3)
        sheet.text(text, x + 24, y, SMALL, theme.quiet)
        x += _SIGN + text_width(text, SMALL)


# ---- A traced conversation


def lanes_of(plan: Plan, picture: Picture, trace: Trace, told: Sequence[str]) -> list[DrawnLeg]:
    """Return the legs of a traced conversation as lanes over the picture."""
    import networkx

    graph, places = _lines(picture)
    lanes = []
    for index, leg in enumerate(trace.legs):
        start, end = (trace.conversation.source, trace.conversation.destination)[
            :: -1 if leg.leg.returns else 1
        ]
        wanted = [_end_of(picture, plan, places, start.name, start.segment, start.device)]
        for asked in leg.asked:
            # From the bar to the device where packets come in, the other way where they leave.
            ends = places.get(asked.crossing.point, ())
            wanted += ends if asked.crossing.direction is Direction.INBOUND else ends[::-1]
        stopped = leg.asked[-1] if leg.asked and not leg.asked[-1].permits else None
        gate = next(
            (
                each
                for each in picture.gates
                if stopped
                and (each.point, each.direction) == stopped.crossing.place
                and stopped.access_list
                and each.list == stopped.access_list.name
            ),
            None,
        )
        if stopped is None and leg.path.arrived:
            wanted.append(_end_of(picture, plan, places, end.name, end.segment, end.device))
        corners: list[Spot] = []
        known = [each for each in wanted if each is not None and each in graph]
        for one, other in pairwise(known):
            if networkx.has_path(graph, one, other):
                corners += networkx.shortest_path(graph, one, other, weight="weight")[
                    1 if corners else 0 :
                ]
        if gate is not None and gate.direction is Direction.WITHIN:
            bar = picture.bars[gate.point.owner]
            corners = [*corners, Spot(gate.at.x, bar.y), gate.at]
        elif gate is not None:
            corners = (
                [*corners, gate.at]
                if gate.point.kind is PointKind.HOST
                else _until(corners, gate.at)
            )
        verdict = (
            Verdict.PERMITTED
            if stopped is None and leg.path.arrived
            else Verdict.DENIED
            if index == 0
            else Verdict.HALF_OPEN
        )
        lanes.append(DrawnLeg(tuple(corners), verdict, told[index] if index < len(told) else ""))
    return lanes


def _until(corners: list[Spot], at: Spot) -> list[Spot]:
    """Return a line up to a spot on it."""
    for index, (one, other) in enumerate(pairwise(corners)):
        on_x = min(one.x, other.x) - 1 <= at.x <= max(one.x, other.x) + 1
        on_y = min(one.y, other.y) - 1 <= at.y <= max(one.y, other.y) + 1
        if on_x and on_y:
            return [*corners[: index + 1], at]
    return corners


_Places = dict[Point, tuple[Spot, ...]]
"""The spots of each place: of an interface or port its end at the bar and its end at the device, of
a host where its line begins.
"""


def _lines(picture: Picture) -> tuple[Any, _Places]:
    """Return all lines of a picture as a graph of spots, and the spots of each place."""
    import networkx

    graph = networkx.Graph()

    def joined(one: Spot, other: Spot) -> None:
        graph.add_edge(one, other, weight=abs(one.x - other.x) + abs(one.y - other.y))

    places: _Places = {}
    inside: dict[str, list[Spot]] = {}
    on_bar: dict[str, list[Spot]] = {}
    for block in picture.blocks.values():
        middle = Spot(block.x + block.width / 2, block.y + block.height - 7)
        places[Point(PointKind.ITSELF, block.device)] = (middle,)
        inside[block.device] = [middle]
    for stub in picture.stubs:
        for one, other in pairwise(stub.corners):
            joined(one, other)
        first, last = stub.corners[0], stub.corners[-1]
        if stub.point.owner in inside:
            entered = Spot(first.x, inside[stub.point.owner][0].y)
            joined(first, entered)
            inside[stub.point.owner].append(entered)
        places[stub.point] = (last, first)
        for bar in picture.bars.values():
            if abs(bar.y - last.y) < 1 and bar.x - 1 <= last.x <= bar.end + 1:
                on_bar.setdefault(bar.name, []).append(last)
    for name, spot in picture.hosts.items():
        places[Point(PointKind.HOST, name)] = (spot,)
        on = picture.hangs[name]
        if on in picture.bars:
            foot = Spot(spot.x, picture.bars[on].y)
            on_bar.setdefault(on, []).append(foot)
            if foot != spot:
                joined(foot, spot)
        else:  # at a port: it hangs at the end of the port's stub
            end = next(stub.corners[-1] for stub in picture.stubs if f"port {stub.point}" == on)
            joined(end, spot)
    for name, spots in on_bar.items():
        for one, other in pairwise(sorted(dict.fromkeys(spots))):
            joined(one, other)
        places.setdefault(Point(PointKind.SUBNET, name), (min(spots),))
    for spots in inside.values():
        for one, other in pairwise(sorted(dict.fromkeys(spots))):
            joined(one, other)
    return graph, places


def _end_of(
    picture: Picture, plan: Plan, places: _Places, name: str, segment: str, device: str | None
) -> Spot | None:
    """Return the spot where a conversation begins or ends."""
    if device is not None:
        return places.get(Point(PointKind.ITSELF, device), (None,))[0]
    return picture.hosts.get(name) or places.get(Point(PointKind.SUBNET, segment), (None,))[0]


def _dashed(index: int) -> str | tuple[int, tuple[float, ...]]:
    """Return the style of a lane's line: solid for the first, dashed for the others."""
    return "-" if index == 0 else (0, (4, 1.5))


def _draw_lane(sheet: Canvas, lane: DrawnLeg, index: int, top: float) -> None:
    if not lane.corners:
        return
    shift = (index - 1) * _LANE
    color = sheet.theme.of(lane.verdict)
    corners = [(each.x + shift, each.y + top + shift) for each in lane.corners]
    sheet.line(corners, color, 2.6, _dashed(index), gid=f"leg {index + 1}", above=4)
    x, y = corners[-1]
    if lane.verdict is Verdict.PERMITTED:
        (before_x, before_y) = next(
            ((one, other) for one, other in reversed(corners) if (one, other) != (x, y)), (x, y)
        )
        length = max(abs(x - before_x) + abs(y - before_y), 1e-6)
        dx, dy = (x - before_x) / length, (y - before_y) / length
        sheet.shape(
            [(x + dx * 7, y + dy * 7), (x - dy * 4.5, y + dx * 4.5), (x + dy * 4.5, y - dx * 4.5)],
            color,
            above=4,
        )
    else:
        from matplotlib.patches import Circle

        sheet.axes.add_patch(
            Circle((x, y), 10, fill=False, edgecolor=color, linewidth=sheet.points(2.6), zorder=9)
        )
