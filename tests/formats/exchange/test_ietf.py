"""A network as documents, one a device, and as a picture of links: out, valid, and in again."""

from __future__ import annotations

import json
import re
from pathlib import Path

import pytest

from crossgate.language.reader import read_plan
from tests.conftest import Run
from tests.formats.exchange.yang import see_that_it_is_valid

DEVICES = ("breakwater", "lighthouse", "pier", "jetty")


@pytest.fixture
def documents(run: Run, demo: Path) -> list[str]:
    """Write the demo's devices and the picture of their links; return the files."""
    names = []
    for device in DEVICES:
        names.append(f"{device}.json")
        assert (
            run("export", "ietf", "--on", device, "--approximate", "--out", names[-1]).returncode
            == 0
        )
    assert run("export", "ietf", "--out", "links.json").returncode == 0
    return [*names, "links.json"]


def test_documents_are_valid(documents: list[str], demo: Path) -> None:
    for name in documents:
        see_that_it_is_valid((demo / name).read_text())


@pytest.mark.parametrize("xml", [False, True])
def test_documents_become_the_network_again(
    run: Run, demo: Path, documents: list[str], xml: bool
) -> None:
    if xml:
        for device in DEVICES:
            run("export", "ietf", "--on", device, "--approximate", "--out", f"{device}.xml")
        run("export", "ietf", "--out", "links.xml")
        documents = [name.replace(".json", ".xml") for name in documents]
    done = run("--plan", "again.gate", "import", "ietf", *documents)
    assert done.returncode == 0, done.stdout + done.stderr
    assert "internet is taken to be the outside" in done.stdout or "outside internet" in done.stdout
    old, new = read_plan(demo / "ternhaven.gate"), read_plan(demo / "again.gate")
    assert new.segments.keys() == old.segments.keys()
    assert [
        (each.name, each.prefixes, each.outside)
        for each in new.segments.values()
        if not each.outside
    ] == [
        (new.segments[each].name, old.segments[each].prefixes, False)
        for each in new.segments
        if not new.segments[each].outside
    ]
    for device in DEVICES:
        own, found = old.devices[device], new.devices[device]
        assert (found.switch, found.interfaces, found.ports, found.routes) == (
            own.switch,
            own.interfaces,
            own.ports,
            own.routes,
        )
    standing = {(each.access_list, each.direction, each.point) for each in new.placements}
    assert standing < {(each.access_list, each.direction, each.point) for each in old.placements}
    assert "tickets to" in (demo / "again.gate").read_text()


def test_the_picture_alone_is_the_network_without_routes(
    run: Run, demo: Path, documents: list[str]
) -> None:
    assert run("--plan", "again.gate", "import", "ietf", "links.json").returncode == 0
    old, new = read_plan(demo / "ternhaven.gate"), read_plan(demo / "again.gate")
    assert {name: each.interfaces for name, each in new.devices.items()} == {
        name: each.interfaces for name, each in old.devices.items()
    }
    assert {name: [*each.ports] for name, each in new.devices.items()} == {
        name: [*each.ports] for name, each in old.devices.items()
    }
    assert str(new.devices["lighthouse"].ports["1"].to) == "jetty.24"


def test_a_device_of_the_plan_is_only_replaced_where_that_is_said_and_keeps_what_documents_cannot_say(
    run: Run, demo: Path, documents: list[str]
) -> None:
    refused = run("import", "ietf", "breakwater.json")
    assert refused.returncode == 2
    assert "the plan has breakwater already; --replace" in refused.stderr
    document = json.loads((demo / "breakwater.json").read_text())
    document["ietf-interfaces:interfaces"]["interface"][1]["ietf-ip:ipv4"]["address"][0]["ip"] = (
        "192.0.2.13"
    )
    (demo / "changed.json").write_text(json.dumps(document))
    done = run("import", "ietf", "changed.json", "--replace", "--anyway", "--yes")
    assert done.returncode == 0, done.stderr
    text = (demo / "ternhaven.gate").read_text()
    assert "router breakwater stateful" in text
    assert "interface quay 192.0.2.13/28" in text


def test_an_unchanged_device_changes_nothing(run: Run, demo: Path, documents: list[str]) -> None:
    before = (demo / "ternhaven.gate").read_text()
    document = json.loads((demo / "lighthouse.json").read_text())
    del document["ietf-access-control-list:acls"]
    (demo / "bare.json").write_text(json.dumps(document))
    done = run("import", "ietf", "bare.json", "--replace", "--yes")
    assert "nothing is to be written" in done.stdout
    assert (demo / "ternhaven.gate").read_text() == before


def one(name: str, *interfaces: dict[str, object], **more: object) -> str:
    return json.dumps(
        {
            "ietf-system:system": {"hostname": name},
            "ietf-interfaces:interfaces": {"interface": list(interfaces)},
        }
        | more
    )


def port(name: str, address: str, length: int = 24, **more: object) -> dict[str, object]:
    return {
        "name": name,
        "type": "iana-if-type:ethernetCsmacd",
        "ietf-ip:ipv4": {"address": [{"ip": address, "prefix-length": length}]},
    } | more


def test_subnets_are_found_and_named(run: Run, tmp_path: Path) -> None:
    (tmp_path / "a.json").write_text(
        one(
            "a.example",
            port("ge-0/0/0", "10.0.0.1"),
            port("lo0", "10.9.9.9", 32, type="iana-if-type:softwareLoopback"),
        )
    )
    (tmp_path / "b.json").write_text(
        one(
            "b",
            port("eth 0", "10.0.0.2", description="uplink to a"),
            port("x", "10.0.1.1", description="hall"),
            port("off", "10.0.2.1", enabled=False),
        )
    )
    done = run("--plan", "new.gate", "import", "ietf", "a.json", "b.json")
    assert done.returncode == 0, done.stderr
    text = " ".join((tmp_path / "new.gate").read_text().split())
    assert "subnet net-10-0-0-0-24 10.0.0.0/24 subnet hall 10.0.1.0/24" in text
    assert "router a interface ge-0/0/0 10.0.0.1/24 on net-10-0-0-0-24" in text
    assert "interface eth-0 10.0.0.2/24 on net-10-0-0-0-24 interface x 10.0.1.1/24 on hall" in text
    assert "[lo0] is a loopback, and left out" in done.stdout
    assert "[off] is not enabled, and left out" in done.stdout


def test_lists_of_one_name_on_two_devices_are_one_or_two(run: Run, tmp_path: Path) -> None:
    def with_list(name: str, address: str, protocol: int) -> str:
        aces = [
            {
                "name": "10",
                "matches": {"ipv4": {"protocol": protocol}},
                "actions": {"forwarding": "accept"},
            },
            {"name": "z", "actions": {"forwarding": "drop"}},
        ]
        acls: dict[str, object] = {
            "acl": [{"name": "edge", "type": "ipv4-acl-type", "aces": {"ace": aces}}]
        }
        acls |= {
            "attachment-points": {
                "interface": [
                    {"interface-id": "e", "ingress": {"acl-sets": {"acl-set": [{"name": "edge"}]}}}
                ]
            }
        }
        return one(name, port("e", address), **{"ietf-access-control-list:acls": acls})

    for name, address, protocol in (
        ("a", "10.0.0.1", 6),
        ("b", "10.0.0.2", 6),
        ("c", "10.0.0.3", 17),
    ):
        (tmp_path / f"{name}.json").write_text(with_list(name, address, protocol))
    done = run("--plan", "new.gate", "import", "ietf", "a.json", "b.json", "c.json", "--anyway")
    assert done.returncode == 0, done.stderr
    places = [
        " ".join(line.split())
        for line in (tmp_path / "new.gate").read_text().splitlines()
        if line.startswith("place")
    ]
    assert places == [
        "place edge inbound on a.e",
        "place edge inbound on b.e",
        "place edge-c inbound on c.e",
    ]


@pytest.mark.parametrize(
    ("text", "problem"),
    [
        (
            "{}",
            (
                "has neither ietf-interfaces:interfaces (RFC 8343) nor ietf-network:networks (RFC "
                "8345)"
            ),
        ),
        (
            '{"ietf-interfaces:interfaces": {"interface": []}}',
            "does not tell what the device is called",
        ),
        (one("a", port("e", "10.0.0.999")), "10.0.0.999 is no IPv4 address"),
        (one("a", port("e", "10.0.0.1", 99)), "/99 is no IPv4 prefix length"),
        (one("a", port("e", "2001:db8::1")), "2001:db8::1 is no IPv4 address"),
        (
            one("a", port("e", "10.0.0.1"), port("e", "10.0.1.1")),
            "there are two interface with the name e",
        ),
        (
            (
                '{"ietf-network:networks": {"network": [{"network-id": "x", '
                '"ietf-network-topology:link": [{"link-id": "l"}]}]}}'
            ),
            "a link has a source and a destination",
        ),
    ],
)
def test_bad_documents_are_told_and_no_plan_is_begun(
    run: Run, tmp_path: Path, text: str, problem: str
) -> None:
    (tmp_path / "in.json").write_text(text)
    refused = run("--plan", "new.gate", "import", "ietf", "in.json")
    assert refused.returncode == 2
    assert problem in refused.stderr
    assert not (tmp_path / "new.gate").exists()


def test_link_local_addresses_join_no_links(run: Run, tmp_path: Path) -> None:
    for name, subnet in (("a", 1), ("b", 2)):
        own = (
            {"ip": f"2001:db8:{subnet}::1", "prefix-length": 64},
            {"ip": "fe80::1", "prefix-length": 64},
        )
        interface = {
            "name": "lan",
            "type": "iana-if-type:ethernetCsmacd",
            "ietf-ip:ipv6": {"address": own},
        }
        document = {
            "ietf-system:system": {"hostname": name},
            "ietf-interfaces:interfaces": {"interface": [interface]},
        }
        (tmp_path / f"{name}.json").write_text(json.dumps(document))
    done = run("--plan", "new.gate", "import", "ietf", "a.json", "b.json", "--yes")
    assert done.returncode == 0, done.stderr
    text = (tmp_path / "new.gate").read_text()
    assert text.count("subnet ") == 2
    assert "fe80" not in text
    assert "is left out: a link-local address belongs to its link" in " ".join(done.stdout.split())


def test_a_document_without_a_name_or_of_a_name_that_is_taken_gets_one_by_on(
    run: Run, tmp_path: Path
) -> None:
    (tmp_path / "one.json").write_text(one("core", port("e", "10.0.0.1")))
    (tmp_path / "two.json").write_text(one("core", port("e", "10.0.1.1")))
    (tmp_path / "none.json").write_text(
        json.dumps({"ietf-interfaces:interfaces": {"interface": [port("e", "10.0.2.1")]}})
    )
    assert run("--plan", "new.gate", "import", "ietf", "one.json", "--yes").returncode == 0
    for name, file in (("second", "two.json"), ("third", "none.json")):
        done = run("--plan", "new.gate", "import", "ietf", file, "--on", name, "--yes")
        assert done.returncode == 0, done.stderr
        assert f"router {name}" in (tmp_path / "new.gate").read_text()


def test_a_device_without_lists_goes_out(run: Run, tmp_path: Path) -> None:
    (tmp_path / "p.gate").write_text(
        "subnet a 10.0.0.0/24\nrouter bare\n    interface a 10.0.0.1/24 on a\n"
    )
    done = run("export", "ietf", "--on", "bare")
    assert done.returncode == 0, done.stderr
    assert json.loads(done.stdout)["ietf-system:system"]["hostname"] == "bare"
    assert "no list stands on bare" in run("export", "ietf-acl", "--on", "bare").stderr


WRAPPINGS = {
    "json": (
        '{{"ietf-restconf:data": {}}}',
        '{{"ietf-yang-instance-data:instance-data-set": {{"name": "x", "content-data": {}}}}}',
    ),
    "xml": (
        '<rpc-reply xmlns="{nc}" message-id="1"><data>{}</data></rpc-reply>',
        '<rpc xmlns="{nc}" message-id="1"><edit-config><target><candidate/></target>'
        "<default-operation>merge</default-operation><config>{}</config></edit-config></rpc>",
        '<edit-config xmlns="{nc}"><target><candidate/></target><config>{}</config></edit-config>',
        '<data xmlns="urn:ietf:params:xml:ns:yang:ietf-restconf">{}</data>',
        '<instance-data-set xmlns="urn:ietf:params:xml:ns:yang:ietf-yang-instance-data">'
        "<name>x</name><content-data>{}</content-data></instance-data-set>",
    ),
}


@pytest.mark.parametrize(
    ("kind", "wrapping"), [(kind, each) for kind, own in WRAPPINGS.items() for each in own]
)
def test_documents_are_read_as_protocols_and_files_wrap_them(
    demo: Path, run: Run, kind: str, wrapping: str
) -> None:
    xml = ("--xml",) if kind == "xml" else ()
    bare = run("export", "ietf", "--on", "jetty", *xml).stdout
    inner = re.sub(r"</?config[^>]*>", "", bare) if xml else bare
    nc = "urn:ietf:params:xml:ns:netconf:base:1.0"
    (demo / f"wrapped.{kind}").write_text(wrapping.format(inner, nc=nc))
    (demo / f"bare.{kind}").write_text(bare)
    told = [
        run("import", "ietf", f"{name}.{kind}", "--replace", "--dry-run")
        for name in ("bare", "wrapped")
    ]
    assert told[0].returncode == told[1].returncode
    assert told[0].stdout.replace("bare", "wrapped") == told[1].stdout
    assert "kiosk-port" in told[1].stdout


def test_a_document_is_held_against_the_plan_by_its_exit_status(run: Run, demo: Path) -> None:
    document = run("export", "ietf", "--on", "jetty").stdout
    (demo / "same.json").write_text(document)
    (demo / "other.json").write_text(document.replace("00:00:5e:00:53:66", "00:00:5e:00:53:99"))
    words = ("--replace", "--dry-run", "--drift")
    assert run("import", "ietf", "same.json", *words).returncode == 0
    other = run("import", "ietf", "other.json", *words)
    assert (other.returncode, "nothing is written" in other.stdout) == (1, True)
    alone = run("import", "ietf", "same.json", "--drift")
    assert (alone.returncode, "say --dry-run too" in alone.stderr) == (2, True)


WRITTEN = """subnet hall 10.64.8.0/24
subnet yard 10.64.20.0/24
router r
    # the hall's side
    interface a 10.64.8.1/24 on hall
    interface b 10.64.20.1/24 on yard
host desk 10.64.8.9 on hall
host store 10.64.20.9 on yard
service booking tcp/8443, tcp/9443

# What the hall may do.
list hall-in extended ipv4 for "desk team"
    note "agreed in spring"
    10 permit booking hall to store "tickets"
    # the one machine
    20 permit tcp/22 desk to store   # remember the keys
    30 deny ip hall to yard log
    otherwise permit
list yard-in standard ipv4
    10 permit store
place hall-in inbound on r.a
place yard-in inbound on r.b
"""


def test_what_is_replaced_keeps_what_it_says_already(run: Run, tmp_path: Path) -> None:
    plan = tmp_path / "site.gate"
    plan.write_text(WRITTEN)
    document = json.loads(run("export", "ietf", "--on", "r").stdout)
    coming = ("import", "ietf", "r.json", "--replace", "--yes", "--anyway")
    (tmp_path / "r.json").write_text(json.dumps(document))
    assert run(*coming).returncode == 0
    assert plan.read_text() == WRITTEN
    for acl in document["ietf-access-control-list:acls"]["acl"]:
        for ace in acl["aces"]["ace"]:
            if ace["name"].startswith("20"):
                tcp = ace["matches"]["tcp"]["destination-port"]
                assert (tcp["operator"], tcp["port"]) == ("eq", 22)
                tcp["port"] = 2222
    (tmp_path / "r.json").write_text(json.dumps(document))
    assert run(*coming).returncode == 0
    assert plan.read_text() == WRITTEN.replace(
        "tcp/22 desk to store   # remember", "tcp/2222 desk to store  # remember"
    )
