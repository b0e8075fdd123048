"""The network's picture before it is drawn: what stands where, and that no two texts meet."""

from __future__ import annotations

import sys
from itertools import combinations, pairwise
from pathlib import Path

import pytest

from crossgate.core.conversation.opening import conversations
from crossgate.core.conversation.packets import Tracer
from crossgate.core.model.address import Family
from crossgate.core.model.network import Direction, Point, PointKind
from crossgate.core.model.plan import Plan
from crossgate.core.network.endpoints import pairs
from crossgate.core.network.ways import Network
from crossgate.draw.contents import MOST_HOSTS
from crossgate.draw.layout import laid_out
from crossgate.draw.network import lanes_of
from crossgate.draw.picture import Picture
from crossgate.draw.style import DARK, LIGHT, MARKS, Theme, text_width
from crossgate.language.reader import read_plan
from tests.conftest import Read, Run

sys.path.insert(0, str(Path(__file__).parents[2] / "benchmarks"))
from sites import SHAPES, Size, site


def overlapping(picture: Picture) -> list[tuple[str, str]]:
    """Return the texts whose boxes meet."""
    found = []
    boxes = sorted((label.box, label.text) for label in picture.labels)
    for (one, text), (other, other_text) in combinations(boxes, 2):
        if other[0] >= one[2]:
            continue
        if one[1] < other[3] and other[1] < one[3]:
            found.append((text, other_text))
    return found


def see_that_it_is_whole(plan: Plan, picture: Picture) -> None:
    assert picture.blocks.keys() == plan.devices.keys()
    assert sorted((each.list, each.direction, each.point) for each in picture.gates) == sorted(
        (name, direction, point)
        for name, each in plan.every_list.items()
        for point, direction in plan.places_of(each)
    )
    assert {each.text for each in picture.labels} >= {
        *plan.devices,
        *(each.access_list for each in plan.every_placement),
    }
    for label in picture.labels:
        left, top, right, bottom = label.box
        assert left >= 0
        assert top >= 0
        assert right <= picture.width
        assert bottom <= picture.height


def test_the_demo_is_whole_and_no_two_texts_meet(demo: Path) -> None:
    plan = read_plan(demo / "ternhaven.gate")
    picture = laid_out(plan)
    see_that_it_is_whole(plan, picture)
    assert overlapping(picture) == []
    assert picture.bars.keys() == {*plan.segments, "cable jetty.24 to lighthouse.1"}
    assert picture.hosts.keys() == plan.hosts.keys()
    assert (
        picture.bars["internet"].y
        < picture.blocks["breakwater"].y
        < picture.bars["spine"].y
        < picture.blocks["pier"].y
    )


@pytest.mark.parametrize("shape", SHAPES)
@pytest.mark.parametrize("family", Family)
def test_a_site_of_fifteen_devices_is_whole_and_no_two_texts_meet(
    plan_of: Read, shape: str, family: Family
) -> None:
    plan = plan_of(site(Size(15, 40, 12, 50, 5, 3, 5), shape, family))
    picture = laid_out(plan)
    see_that_it_is_whole(plan, picture)
    assert overlapping(picture) == []
    assert picture.folded == "50 machines are only counted"


def test_a_large_site_folds_and_says_so(plan_of: Read) -> None:
    plan = plan_of(site(Size(80, 200, 40, 100, 5, 3, 5), "tree"))
    picture = laid_out(plan)
    assert picture.folded == (
        "80 devices: subnets of one device, and lists there, are only counted; 100 machines "
        "are only counted"
    )
    assert overlapping(picture) == []
    counted = [label.text for label in picture.labels if " subnet" in label.text]
    inner = [
        point
        for point in plan.placed
        if point[0].kind is PointKind.INTERFACE and one_device(plan, point[0])
    ]
    told = sum(int(text.partition("lists at ")[2].partition(" ")[0] or 0) for text in counted)
    assert told == len({point.owner + point.part for point, _, _ in inner})
    for name in {each.name for each in plan.placed.values()}:
        alone = laid_out(plan, name)
        assert {(each.point, each.direction, each.family) for each in alone.gates} == {
            at for at, each in plan.placed.items() if each.name == name
        }
        assert overlapping(alone) == []


def one_device(plan: Plan, point: Point) -> bool:
    on = plan.devices[point.owner].interfaces[point.part].on
    return (
        not plan.segments[on].outside
        and len(
            {
                each.name
                for each in plan.devices.values()
                for own in each.interfaces.values()
                if own.on == on
            }
        )
        == 1
    )


def test_a_machine_that_lists_follow_is_always_drawn(plan_of: Read) -> None:
    hosts = "".join(
        f"host h{number} 10.0.0.{number + 10} on a\n" for number in range(MOST_HOSTS + 1)
    )
    follow = (
        "place one inbound on host h2\nplace two inbound on host h9\nplace two outbound on "
        "host h9\n"
    )
    for many in (hosts, "".join(hosts.splitlines(keepends=True)[:12])):
        plan = plan_of(PLACES + many + follow)
        picture = laid_out(plan)
        see_that_it_is_whole(plan, picture)
        assert {"h2", "h9"} <= picture.hosts.keys()
        assert len([each for each in picture.gates if each.point.kind is PointKind.HOST]) == 3
        left = len(plan.hosts) - len(picture.hosts)
        assert f"and {left} more" in [label.text for label in picture.labels]
        assert overlapping(picture) == []


PLACES = """\
subnet a 10.0.0.0/24
subnet b 10.0.1.0/24
router r
    interface a 10.0.0.1/24 on a
    interface b 10.0.1.1/24 on b
router s
    interface b 10.0.1.2/24 on b
list one extended ipv4
    10 permit ip any to any
list two extended ipv4
    10 permit ip any to any
place one inbound on r.a
place two outbound on r.a
place one inbound on subnet a
place two inbound on r.b
place one outbound on r.b
"""


def test_arrows_show_the_way_of_the_packets(plan_of: Read) -> None:
    picture = laid_out(plan_of(PLACES))
    block, ways = (
        picture.blocks["r"],
        {(str(each.point), each.direction): each for each in picture.gates},
    )
    row = picture.bars["a"]
    inbound, outbound = ways["r.a", Direction.INBOUND], ways["r.a", Direction.OUTBOUND]
    assert (inbound.way, outbound.way) == (
        (-1, 0),
        (1, 0),
    )  # the subnet is to the right of the trunk
    assert ways["subnet a", Direction.INBOUND].way == (1, 0)
    assert max(inbound.at.x, outbound.at.x) < ways["subnet a", Direction.INBOUND].at.x < row.x
    below = picture.bars["b"].y > block.y
    assert ways["r.b", Direction.INBOUND].way == (0, -1 if below else 1)
    assert ways["r.b", Direction.OUTBOUND].way == (0, 1 if below else -1)


def test_one_list_and_one_device_alone(demo: Path) -> None:
    plan = read_plan(demo / "ternhaven.gate")
    assert {each.list for each in laid_out(plan, only_list="guest-fence").gates} == {"guest-fence"}
    assert laid_out(plan, around="jetty").blocks.keys() == {"jetty", "lighthouse"}


def test_an_empty_network_is_an_empty_picture(plan_of: Read) -> None:
    assert laid_out(plan_of('title "nothing"\n')).blocks == {}


# ---- The look


def luminance(color: str) -> float:
    """Return the relative luminance of a colour (WCAG 2.2)."""
    parts = [int(color[at : at + 2], 16) / 255 for at in (1, 3, 5)]
    red, green, blue = (
        each / 12.92 if each <= 0.04045 else ((each + 0.055) / 1.055) ** 2.4 for each in parts
    )
    return 0.2126 * red + 0.7152 * green + 0.0722 * blue


def contrast(one: str, other: str) -> float:
    low, high = sorted((luminance(one), luminance(other)))
    return (high + 0.05) / (low + 0.05)


@pytest.mark.parametrize("theme", [LIGHT, DARK])
def test_contrast_is_that_of_level_aa(theme: Theme) -> None:
    for paper in (theme.paper, theme.block, theme.faint):
        for text in (
            theme.ink,
            theme.quiet,
            theme.permit,
            theme.deny,
            theme.half_open,
            theme.varies,
        ):
            assert contrast(text, paper) >= 4.5, (text, paper)
    assert contrast(theme.quay, theme.paper) >= 3


def test_marks_are_different() -> None:
    assert len({*MARKS.values()}) == len(MARKS)


def test_letters_are_as_wide_as_the_font_has_them() -> None:
    from matplotlib.font_manager import FontProperties
    from matplotlib.textpath import TextPath

    for text in ("lighthouse.v160", "10.64.255.2", "WWW mmm iii", "2001:db8:64::/48"):
        for strong in (False, True):
            path = TextPath(
                (0, 0),
                text,
                size=100,
                prop=FontProperties(family="DejaVu Sans", weight="bold" if strong else "normal"),
            )
            drawn = path.get_extents().width
            assert drawn <= text_width(text, 100, strong) + 1
            assert text_width(text, 100, strong) <= drawn * 1.15 + 20


def test_a_subnet_without_a_device_is_drawn_with_its_machines(plan_of: Read) -> None:
    picture = laid_out(
        plan_of(PLACES + "subnet alone 10.9.0.0/24\nhost hermit 10.9.0.2 on alone\n")
    )
    assert {"alone", "a", "b"} <= picture.bars.keys()
    assert "hermit" in picture.hosts
    assert overlapping(picture) == []
    alone = laid_out(plan_of("subnet alone 10.9.0.0/24\nhost hermit 10.9.0.2 on alone\n"))
    assert alone.bars.keys() == {"alone"}


def test_every_prefix_and_the_first_addresses_are_told(plan_of: Read) -> None:
    plan = plan_of(
        "outside isp 192.0.2.0/24 198.51.100.0/24 2001:db8:ffff::/48\nsubnet a 10.0.0.0/24 "
        "10.0.5.0/24 2001:db8::/64\nrouter r\n    interface a 10.0.0.1/24 2001:db8::1/64 on a\n"
        "    interface up 192.0.2.1/24 on isp\n"
        "host h 10.0.0.5 10.0.5.5 2001:db8::5 2001:db8::6 on a\n"
    )
    told = {each.text for each in laid_out(plan).labels}
    assert {
        "isp  192.0.2.0/24",
        "198.51.100.0/24  2001:db8:ffff::/48",
        "10.0.5.0/24  2001:db8::/64",
        "10.0.0.1",
        "2001:db8::1",
        "h  10.0.0.5  10.0.5.5  2001:db8::5  and 1 more",
    } <= told


def test_a_conversation_through_a_block_keeps_clear_of_what_is_written_there(demo: Path) -> None:
    plan = read_plan(demo / "ternhaven.gate")
    picture = laid_out(plan)
    network = Network(plan)
    for source, destination in (("duty", "camera-3"), ("kiosk-1", "manifest"), ("visitor", "duty")):
        start, end = pairs(network, source, destination)[0]
        service = plan.service("tcp/443", start.address.family)
        (told,) = conversations(service, start, end)
        trace = Tracer(network, frozenset()).trace(told)
        names = [each for each in picture.labels if each.text in plan.devices]
        for lane in lanes_of(plan, picture, trace, []):
            for one, other in pairwise(lane.corners):
                left, right = sorted((one.x, other.x))
                top, bottom = sorted((one.y, other.y))
                for each in names:
                    x, y, end_x, end_y = each.box
                    meets = left < end_x and x < right + 1 and top < end_y and y < bottom + 1
                    assert not meets, (source, destination, each.text)


def test_the_legend_tells_what_is_there_and_no_more(run: Run, tmp_path: Path) -> None:
    (tmp_path / "p.gate").write_text(
        "subnet a 10.0.0.0/24\nrouter r\n    interface a 10.0.0.1/24 on a\n"
        "list l6 extended ipv6\n    permit ip any to any\nplace l6 inbound on r.a\n"
    )
    assert run("draw", "network").returncode == 0
    picture = (tmp_path / "network.svg").read_text()
    assert "an IPv6 list, for packets the way the arrow points" in picture
    assert "a router" in picture
    for text in ("an IPv4 list", "an ethernet list", "an outside", "a switch"):
        assert text not in picture
