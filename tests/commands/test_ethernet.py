"""Ethernet lists: frames with their hardware addresses, hop by hop, in every answer."""

from __future__ import annotations

import csv
import io
from pathlib import Path

import pytest

from crossgate.core.model.address import Family, parse_address
from crossgate.core.model.ethernet import MacError, format_mac, group_mac, parse_mac
from crossgate.core.network.endpoints import at_address
from crossgate.core.network.ways import Network
from crossgate.draw.layout import laid_out
from tests.conftest import Ask, Read, Run
from tests.formats.exchange.yang import see_that_it_is_valid

NET = """\
subnet berth 10.64.32.0/24 2001:db8:32::/64
subnet hall 10.64.8.0/24 2001:db8:8::/64
subnet mid 10.64.9.0/24 2001:db8:9::/64
router pier
    interface b 10.64.32.1/24 2001:db8:32::1/64 on berth at jetty.24 mac 00:00:5e:00:53:01
    interface m 10.64.9.1/24 2001:db8:9::1/64 on mid at mole.1 mac 00:00:5e:00:53:02
router far
    interface m 10.64.9.2/24 2001:db8:9::2/64 on mid at mole.2 mac 00:00:5e:00:53:03
    interface h 10.64.8.1/24 2001:db8:8::1/64 on hall
switch jetty
    port 1
    port 2
    port 3 to mast.1
    port 24
switch mast
    port 1
switch mole
    port 1
    port 2
host camera 10.64.32.71 on berth at jetty.1 mac 00:00:5e:00:53:71
host laptop 10.64.32.99 2001:db8:32::99 on berth at jetty.2 mac 00-00-5E-00-53-99
host gate 10.64.32.10 on berth
host duty 10.64.8.40 2001:db8:8::40 on hall
window night daily 22:00-06:00
"""
BANNED = """\
list banned extended ethernet
    note "a laptop that nobody knows"
    10 deny any laptop to any "found on 12 May"
    otherwise permit
place banned inbound on jetty.2
"""


def verdict(answer: Ask, *words: str) -> list[str]:
    return [each["verdict"] for each in answer("trace", *words)["conversations"]]


@pytest.mark.parametrize("text", ["00:00:5e:00:53:21", "00-00-5E-00-53-21"])
def test_hardware_addresses_are_read_and_written(text: str) -> None:
    assert format_mac(parse_mac(text)) == "00:00:5e:00:53:21"


@pytest.mark.parametrize(
    "text",
    ["00:00:5e:00:53", "00:00:5e:00:53:zz", "00:00:5e:00-53-21", "0:0:5e:0:53:21", "00005e005321"],
)
def test_what_is_no_hardware_address_is_told(text: str) -> None:
    with pytest.raises(MacError, match="write six octets"):
        parse_mac(text)


def test_group_addresses_have_their_own() -> None:
    found = {
        text: group_mac(parse_address(text))
        for text in (
            "224.0.0.18",
            "239.129.2.3",
            "ff02::1:ff00:71",
            "255.255.255.255",
            "10.64.32.255",
        )
    }
    assert [format_mac(each or 0) for each in found.values()] == [
        "01:00:5e:00:00:12",
        "01:00:5e:01:02:03",
        "33:33:ff:00:00:71",
        "ff:ff:ff:ff:ff:ff",
        "ff:ff:ff:ff:ff:ff",
    ]
    assert group_mac(parse_address("169.254.1.1")) is None
    assert group_mac(parse_address("fe80::1")) is None


PIER, FAR, CAMERA, LAPTOP = 0x5E005301, 0x5E005303, 0x5E005371, 0x5E005399


@pytest.mark.parametrize(
    ("source", "destination", "frames"),
    [
        (
            "10.64.32.71",
            "10.64.8.40",
            {
                "jetty.1": (CAMERA, PIER),
                "jetty.24": (CAMERA, PIER),
                "mole.1": (0x5E005302, FAR),
                "mole.2": (0x5E005302, FAR),
            },
        ),
        (
            "10.64.8.40",
            "10.64.32.71",
            {"mole.1": (FAR, 0x5E005302), "jetty.24": (PIER, CAMERA), "jetty.1": (PIER, CAMERA)},
        ),
        ("10.64.32.71", "10.64.32.99", {"jetty.1": (CAMERA, LAPTOP), "jetty.2": (CAMERA, LAPTOP)}),
        ("10.64.32.10", "10.64.32.71", {"jetty.1": (None, CAMERA)}),
        ("10.64.32.71", "10.64.32.1", {"jetty.1": (CAMERA, PIER), "jetty.24": (CAMERA, PIER)}),
        ("10.64.9.1", "10.64.8.40", {"mole.1": (0x5E005302, FAR)}),
        ("10.64.32.71", "10.64.32.255", {"jetty.1": (CAMERA, (1 << 48) - 1)}),
    ],
)
def test_the_frame_of_each_hop_has_the_addresses_of_its_ends(
    plan_of: Read, source: str, destination: str, frames: dict[str, tuple[int | None, int | None]]
) -> None:
    """A list that has an entry for each pair of stations, those that say least last, tells which
    one crossed.
    """
    known = [PIER, 0x5E005302, FAR, CAMERA, LAPTOP, (1 << 48) - 1, None]
    pairs = sorted(
        ((one, other) for one in known for other in known), key=lambda pair: pair.count(None)
    )
    ends = [tuple("any" if each is None else format_mac(each) for each in pair) for pair in pairs]
    entries = "\n".join(
        f"    {number} permit ipv4 {one} to {other}" for number, (one, other) in enumerate(ends, 1)
    )
    placed = "\n".join(
        f"place all {way} on {point}" for point in frames for way in ("inbound", "outbound")
    )
    plan = plan_of(f"{NET}list all extended ethernet\n{entries}\n{placed}\n")
    network = Network(plan)
    path = network.path(at_address(network, parse_address(source)), parse_address(destination))
    crossed = {
        str(each.point): each.rulings[0].entry
        for each in path.crossings
        if each.rulings is not None
    }
    assert crossed == {point: pairs.index(pair) + 1 for point, pair in frames.items()}


def test_a_virtual_router_has_its_own_address(plan_of: Read) -> None:
    shared = (
        "router spare\n    interface b 10.64.32.2/24 2001:db8:32::2/64 on berth\ngateway "
        "10.64.32.254 2001:db8:32::fe on berth by pier.b, spare.b vrid 7\n"
    )
    lists = (
        "list v extended ethernet\n    10 deny any any to 00:00:5e:00:01:07\n    20 deny any "
        "any to 00:00:5e:00:02:07\n    otherwise permit\n"
    )
    network = Network(plan_of(NET + shared + lists + "place v inbound on jetty.2\n"))
    for source, destination, number in (
        ("10.64.32.99", "10.64.8.40", 10),
        ("2001:db8:32::99", "2001:db8:8::40", 20),
        ("10.64.32.99", "10.64.32.254", 10),
    ):
        path = network.path(at_address(network, parse_address(source)), parse_address(destination))
        (crossing,) = [each for each in path.crossings if each.rulings is not None]
        assert crossing.rulings is not None
        assert crossing.rulings[0].entry == number


def test_a_banned_machine_gets_nowhere_and_the_claim_says_by_which_line(
    run: Run, answer: Ask, tmp_path: Path
) -> None:
    claims = (
        "expect deny ip laptop to duty\nexpect deny ping laptop to camera by banned "
        "10\nexpect permit ping camera to gate\n"
    )
    (tmp_path / "a.gate").write_text(NET + BANNED + claims)
    assert all(each["held"] for each in answer("verify")["expectations"])
    assert verdict(answer, "laptop", "duty", "ping") == ["denied", "denied"]
    assert verdict(answer, "camera", "laptop", "ping") == ["half-open"]
    crossings = answer("trace", "laptop", "duty", "ping", "-4")["conversations"][0]["legs"][0][
        "crossings"
    ]
    assert [(each["point"], each["list"], each["entry"]) for each in crossings] == [
        ("jetty.2", "banned", 10)
    ]
    cells = {
        (each["from"], each["to"]): each["verdict"]
        for each in answer("grid", "ping")["cells"]
        if each["family"] == 4
    }
    assert (cells["laptop", "gate"], cells["gate", "laptop"], cells["camera", "gate"]) == (
        "denied",
        "half-open",
        "permitted",
    )
    parts = answer("reach", "berth", "hall")["answers"][0]["parts"]
    assert {(part["verdict"], part["decided"] and part["decided"]["list"]) for part in parts} == {
        ("permitted", None),
        ("denied", "banned"),
    }
    told = run("verify", "--full").stdout
    assert "needed" not in told


def test_what_a_frame_carries_and_when_decide(run: Run, answer: Ask, tmp_path: Path) -> None:
    lists = (
        "list six extended ethernet\n    10 deny ipv6 any to any during night\n    otherwise "
        "permit\nplace six inbound on host laptop\n"
    )
    (tmp_path / "a.gate").write_text(
        NET
        + lists
        + "expect permit ping laptop to duty at mon 12:00\nexpect permit ping laptop to duty\n"
    )
    assert verdict(answer, "laptop", "duty", "ping", "--at", "mon 12:00") == [
        "permitted",
        "permitted",
    ]
    assert verdict(answer, "laptop", "duty", "ping", "--at", "mon 23:00") == ["permitted", "denied"]
    assert [each["held"] for each in answer("verify", status=1)["expectations"]] == [True, False]
    assert "shut" in run("lists", "six", "--at", "mon 12:00").stdout


def test_an_edit_of_it_is_shown_with_what_it_does(run: Run, answer: Ask, tmp_path: Path) -> None:
    path = tmp_path / "a.gate"
    path.write_text(NET + BANNED + "keep deny ip laptop to duty\n")
    refused = run("entry", "off", "banned", "10", "--yes")
    assert refused.returncode == 1
    assert "breaks" in refused.stdout
    path.write_text(NET + BANNED)
    told = run("entry", "add", "banned", "deny any camera to any", "--yes")
    assert told.returncode == 0
    assert "banned gets 20, at the end" in told.stdout
    told = run(
        "entry", "add", "banned", "permit any laptop to 00:00:5e:00:53:01", "--yes", "--dry-run"
    )
    assert "10 (deny any laptop to any) takes all of it" in told.stdout
    told = run(
        "entry", "add", "banned", "permit any laptop to 00:00:5e:00:53:01", "--yes", "--effective"
    )
    assert "banned gets 5, placed first, before 10" in told.stdout
    assert "is  permitted" in told.stdout
    for words in (
        ["entry", "move", "banned", "20", "--before", "5"],
        ["entry", "drop", "banned", "10"],
        ["list", "renumber", "banned"],
    ):
        assert run(*words, "--yes").returncode == 0, words
    assert run("list", "new", "others", "standard", "ethernet", "--yes").returncode == 0
    assert run("entry", "add", "others", "permit camera", "--yes").returncode == 0
    assert run("place", "others", "inbound", "jetty.1", "--yes").returncode == 0
    assert run("place", "others", "outbound", "host", "camera", "--yes").returncode == 0
    assert run("lift", "banned", "--yes").returncode == 0
    assert run("list", "drop", "banned", "--yes").returncode == 0
    assert path.read_text().endswith(
        "list others standard ethernet\n    10 permit camera\nplace others inbound on "
        "jetty.1\nplace others outbound on host camera\n"
    )
    assert answer("compare", "a.gate", "a.gate")["differences"] == []


def test_compare_sees_frames(answer: Ask, tmp_path: Path) -> None:
    (tmp_path / "a.gate").write_text(NET + BANNED)
    for text in (
        BANNED.replace("10 deny any laptop", "10 permit any laptop"),
        BANNED.replace("laptop to", "camera to"),
        BANNED.replace("on jetty.2", "on jetty.1"),
    ):
        (tmp_path / "b.gate").write_text(NET + text)
        found = answer("compare", "a.gate", "b.gate", status=1)["differences"]
        assert ("denied", "permitted") in {
            (each["was"]["verdict"], each["is"]["verdict"]) for each in found
        }
    (tmp_path / "b.gate").write_text(
        NET.replace("mac 00-00-5E-00-53-99", "mac 00:00:5e:00:53:98") + BANNED
    )
    assert (
        answer("compare", "a.gate", "b.gate")["differences"] == []
    )  # it is still the laptop, by name
    named = BANNED.replace("laptop to", "00:00:5e:00:53:99 to")
    (tmp_path / "a.gate").write_text(NET + named)
    (tmp_path / "b.gate").write_text(
        NET.replace("mac 00-00-5E-00-53-99", "mac 00:00:5e:00:53:98") + named
    )
    assert answer("compare", "a.gate", "b.gate", status=1)["differences"]


@pytest.mark.parametrize(
    ("line", "problem"),
    [
        (
            "list x extended ethernet\n    10 deny any gate to any\n",
            "the plan does not say gate's hardware address; write mac",
        ),
        (
            "list x extended ethernet\n    10 deny ip laptop to any\n",
            "expected any, ipv4, ipv6, arp or a number as 0x88cc, not ip",
        ),
        (
            "list x extended ethernet\n    10 deny 0x1ffff laptop to any\n",
            "expected any, ipv4, ipv6, arp or a number",
        ),
        (
            "list x extended ethernet\n    10 reject any laptop to any\n",
            "a frame is dropped in silence",
        ),
        ("list x extended ethernet\n    10 deny any laptop any\n", "expected to, not any"),
        (
            "list x extended ethernet\n    10 deny any 00:00:5e:00:53 to any\n",
            "is no hardware address: write six octets",
        ),
        ("list x extended ethernet\n    10 deny any lapdog to any\n", "there is laptop"),
        (
            "list x standard ethernet\n    10 deny laptop to any\n",
            "a standard list asks for sources only",
        ),
        (
            "list x standard ethernet\n    10 deny laptop established\n",
            "expected during, until, log, for, a comment",
        ),
        (
            "list x standard ethernet\n    10 deny laptop\nplace x inbound on pier.b\n",
            "frames are asked about at switch ports and hosts; pier.b is neither",
        ),
        (
            (
                "list x standard ethernet\n    10 deny laptop\nplace x inbound on jetty.1\nplace x "
                "inbound on jetty.1\n"
            ),
            "has the ethernet list x",
        ),
        ("host two 10.64.32.98 on berth mac 00:00:5e:00:53:99\n", "laptop and two (line"),
        (
            "host two 10.64.32.98 on berth mac 01:00:5e:00:53:99\n",
            "is no address of one machine: it is a group's",
        ),
        (
            "host two 10.64.32.98 on berth mac 00:00:5e:00:53:98 mac 00:00:5e:00:53:97\n",
            "mac is written twice",
        ),
    ],
)
def test_a_wrong_line_is_told_with_its_mend(
    run: Run, tmp_path: Path, line: str, problem: str
) -> None:
    (tmp_path / "a.gate").write_text(NET + line)
    told = run("check")
    assert told.returncode == 2, told.stdout
    assert problem in told.stderr, told.stderr


def test_findings_of_frames(answer: Ask, tmp_path: Path) -> None:
    path = tmp_path / "a.gate"

    def found(text: str) -> set[tuple[str, int | None]]:
        path.write_text(NET + text)
        document = answer("check", status=1 if "# error" in text else 0)
        return {(each["finding"], each["entry"]) for each in document["findings"]}

    head = "list x extended ethernet\n"
    assert found(
        head
        + (
            "    10 deny any any to any\n    20 permit any laptop to any\nplace x inbound on "
            "jetty.2\n# error\n"
        )
    ) == {("never-reached", 20)}
    assert (
        found(
            head
            + (
                "    10 deny any laptop to any during night\n    20 permit any laptop to any\n    "
                "30 permit arp any to any\nplace x inbound on jetty.2\n"
            )
        )
        == set()
    )
    assert found(head + "    10 permit any any to any\n") == {("unplaced", None)}
    assert found(head + "    10 permit ipv4 laptop to any\nplace x inbound on jetty.2\n") == {
        ("arp-blocked", None)
    }
    assert found(
        head
        + (
            "    10 deny arp any to broadcast\n    otherwise permit\nplace x outbound on host "
            "laptop\n"
        )
    ) == {("arp-blocked", 10)}
    assert (
        found(
            head
            + (
                "    10 deny ipv4 any to any\n    20 deny arp any to any\n    otherwise "
                "permit\nplace x inbound on jetty.2\n"
            )
        )
        == set()
    )
    # The laptop's own frames come in at its port; the camera is elsewhere.
    assert found(
        head + "    10 deny any laptop to any\n    otherwise permit\nplace x outbound on jetty.2\n"
    ) == {("wrong-side", 10)}
    assert found(
        head + "    10 deny any any to laptop\n    otherwise permit\nplace x inbound on jetty.2\n"
    ) == {("wrong-side", 10)}
    assert found(
        head + "    10 permit any camera to any\n    otherwise permit\nplace x inbound on jetty.2\n"
    ) == {("wrong-side", 10)}
    assert (
        found(
            head
            + "    10 deny any camera to any\n    otherwise permit\nplace x inbound on jetty.2\n"
        )
        == set()
    )
    assert (
        found(
            head
            + "    10 deny any camera to any\n    otherwise permit\nplace x inbound on jetty.3\n"
        )
        == set()
    )
    assert found(
        head
        + (
            "    20 deny any laptop to any\n    10 deny any camera to any\n    otherwise "
            "permit\nplace x inbound on jetty.2\n"
        )
    ) == {("out-of-order", 10)}


def test_formats_carry_it(run: Run, answer: Ask, tmp_path: Path) -> None:
    path = tmp_path / "a.gate"
    lists = BANNED + (
        "list ports standard ethernet\n    10 permit 00:00:5e:00:53:70 wild 00:00:00:00:00:0f "
        "log\nplace ports inbound on jetty.1\n"
    )
    path.write_text(NET + lists)
    entries = [
        [each[key] for key in ("source", "destination", "service", "action")]
        for own in answer("lists")["lists"]
        for each in own["entries"]
    ]
    table = run("export", "csv").stdout
    assert {row["family"] for row in csv.DictReader(io.StringIO(table)) if row["family"]} == {
        "ethernet"
    }
    document = run("export", "ietf-acl").stdout
    see_that_it_is_valid(document)
    assert '"source-mac-address-mask": "ff:ff:ff:ff:ff:f0"' in document
    assert "Extended Ethernet list, inbound on jetty.2." in run("export", "markdown").stdout
    refused = run("export", "nas-filter-rule", "banned", "--direction", "inbound")
    assert refused.returncode == 1
    assert "nas-filter-rule has no ethernet lists" in refused.stderr
    for name, text, form in (("l.csv", table, "csv"), ("l.json", document, "ietf-acl")):
        (tmp_path / name).write_text(text)
        path.write_text(NET)
        told = run("import", form, name, "--yes")
        assert told.returncode == 0, told.stderr
        again = [
            [each[key] for key in ("source", "destination", "service", "action")]
            for own in answer("lists")["lists"]
            for each in own["entries"]
        ]
        assert again == entries
        assert "deny any laptop to any" in path.read_text()


def test_tidy_and_drawings_know_it(run: Run, plan_of: Read, tmp_path: Path) -> None:
    plan = plan_of(NET + BANNED)
    (tmp_path / "test.gate").unlink()
    assert [(gate.list, gate.family, str(gate.point)) for gate in laid_out(plan).gates] == [
        ("banned", None, "jetty.2")
    ]
    path = tmp_path / "a.gate"
    path.write_text(
        NET + BANNED.replace("laptop to any", "00-00-5E-00-53-9F wild 00-00-00-00-00-0F to any")
    )
    assert run("tidy", "--yes").returncode == 0
    assert "deny any 00:00:5e:00:53:90 wild 00:00:00:00:00:0f to any" in path.read_text()
    assert "mac 00:00:5e:00:53:99\n" in path.read_text()


def test_replayed_traffic_meets_it(answer: Ask, tmp_path: Path) -> None:
    (tmp_path / "a.gate").write_text(NET + BANNED)
    rows = ["time,source,destination,protocol,source_port,destination_port,packets"]
    rows += [
        f"1796119200.{number},{source},10.64.8.40,17,5000{number},53,2"
        for number, source in enumerate(("10.64.32.99", "10.64.32.71"))
    ]
    (tmp_path / "flows.csv").write_text("\n".join(rows) + "\n")
    document = answer("replay", "flows.csv", "--zone", "UTC")
    assert [document["verdicts"][each]["conversations"] for each in ("permitted", "denied")] == [
        1,
        1,
    ]
    (sort,) = document["not_permitted"]
    assert (sort["list"], sort["entry"], sort["point"]) == ("banned", 10, "jetty.2")


def test_both_families_are_asked_of_one_list(plan_of: Read) -> None:
    plan = plan_of(NET + BANNED)
    network = Network(plan)
    for family, address in ((Family.IPV4, "10.64.32.99"), (Family.IPV6, "2001:db8:32::99")):
        (found,) = [
            each
            for each in network.path(
                at_address(network, parse_address(address)),
                plan.hosts["duty"].in_family(family) or parse_address("::"),
            ).crossings
            if each.rulings
        ]
        own = network.list_at(found, family)
        assert own is not None
        assert own.family is family


def test_a_change_of_frames_at_some_hours_is_told(answer: Ask, tmp_path: Path) -> None:
    text = (
        "subnet a 10.0.0.0/29\nsubnet b 10.0.1.0/29\nrouter r\n    interface a 10.0.0.1/29 on a "
        "at hub.2\n    interface b 10.0.1.1/29 on b\n"
        "switch hub\n    port 1\n    port 2\nhost pinned 10.0.0.2 on a at hub.1\nhost far "
        "10.0.1.2 on b\nwindow open mon 08:00-18:00\n"
        "list frames extended ethernet\n    permit ipv4 any to any during open\n    otherwise "
        "permit\nplace frames inbound on hub.1\n"
    )
    (tmp_path / "a.gate").write_text(text)
    (tmp_path / "new").mkdir()
    (tmp_path / "new" / "b.gate").write_text(text.replace("    permit ipv4", "    deny ipv4"))
    found = answer("--plan", "a.gate", "compare", "new/b.gate", status=1)["differences"]
    machines = [each for each in found if each["opens"] and not each["devices"]]
    told = {(each["was"]["verdict"], each["is"]["verdict"], each["at"][11:16]) for each in machines}
    assert told == {("permitted", "denied", "08:00"), ("permitted", "half-open", "08:00")}
