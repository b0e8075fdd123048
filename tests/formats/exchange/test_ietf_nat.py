"""What a device translates, as RFC 8512 has it: out, valid, and in again with the same meaning."""

from __future__ import annotations

import json
from pathlib import Path
from typing import Any

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from crossgate.core.model.address import Address, parse_address
from crossgate.core.model.network import TranslationKind
from crossgate.core.model.packet import Packet
from crossgate.core.model.plan import Plan
from crossgate.formats.exchange.asked import ExportWanted, Given
from crossgate.formats.exchange.registry import FORMATS
from crossgate.language.draft import Draft
from crossgate.language.importing import take_in
from crossgate.language.reader import read
from tests.conftest import Run
from tests.formats.exchange.yang import see_that_it_is_valid

NETWORK = """\
outside world
subnet hall 10.64.8.0/24 2001:db8:64:8::/64
router edge stateful
    interface wan 203.0.113.2/30 2001:db8:ffff::2/64 on world
    interface lan 10.64.8.1/24 2001:db8:64:8::1/64 on hall
    route default via 203.0.113.1
host kiosk 10.64.8.21 on hall
"""
SAYABLE = (
    "hall leaving wan as itself",
    "10.64.8.16/28 leaving wan as 198.51.100.0/30, 198.51.100.9",
    "10.64.8.16-10.64.8.40 but kiosk leaving wan as 198.51.100.77",
    "any leaving wan as 198.51.100.16-198.51.100.20",
    "kiosk leaving wan unchanged",
    "10.64.8.128/25 leaving wan unchanged",
    "kiosk, 10.64.8.22 both ways wan as 198.51.100.33, 198.51.100.35",
    "10.64.8.64/27 both ways wan as 198.51.100.64/27",
    "2001:db8:64:8::/64 both ways wan as 2001:db8:9::/64",
    "198.51.100.90 tcp/8443 entering wan to kiosk",
    "203.0.113.2 tcp/80,8000-8010 entering wan to 10.64.8.30",
    "itself udp/5353 entering wan to kiosk port 53",
)
SENDERS = [
    *map(parse_address, ("10.64.8.16", "10.64.8.20", "10.64.8.21", "10.64.8.22", "10.64.8.31")),
    *map(parse_address, ("10.64.8.32", "10.64.8.40", "10.64.8.41", "10.64.8.64", "10.64.8.95")),
    *map(parse_address, ("10.64.8.127", "10.64.8.128", "10.64.8.255", "2001:db8:64:8::77")),
]
SERVICES = [(6, 22), (6, 80), (6, 8000), (6, 8005), (6, 8010), (6, 8011), (6, 8443), (17, 5353)]


def meaning(plan: Plan) -> dict[object, object]:
    """Return what becomes of each sender, and of each address and service outside, by the first
    rule that fits.
    """
    found: dict[object, object] = {}
    rules = plan.devices["edge"].translations
    public = {Address(each.family, each.first) for rule in rules for each in rule.public}
    for sender in SENDERS:
        for each in rules:
            if each.kind is not TranslationKind.ENTERING and any(
                one.family is sender.family and one.contains(sender.value) for one in each.inside
            ):
                pairs = [
                    (
                        theirs.first + sender.value - own.first,
                        theirs.first + sender.value - own.first,
                    )
                    for own, theirs in each.pairs()
                    if own.contains(sender.value)
                ]
                pool = sorted((one.first, one.last) for one in each.public)
                found[sender] = (bool(pairs), pairs or pool)
                break
    for address in public:
        for protocol, port in SERVICES:
            asked = Packet(
                address.family, 0, address.value, protocol, 50_000, destination_port=port
            )
            for each in rules:
                if (
                    each.kind is TranslationKind.ENTERING
                    and each.is_public(address)
                    and (each.services is None or any(one.matches(asked) for one in each.services))
                ):
                    found[address, protocol, port] = (each.inside, each.port or port)
                    break
    return {key: each for key, each in found.items() if each != (False, [])}


def out_and_in(folder: Path, rules: list[str], xml: bool = False) -> tuple[Plan, Plan, Any, Any]:
    path, document = folder / "plan.gate", folder / "edge.doc"
    path.write_text(
        NETWORK.replace(
            "host kiosk", "".join(f"    translate {each}\n" for each in rules) + "host kiosk"
        )
    )
    reading = read(path)
    written = FORMATS["ietf"].write(ExportWanted(reading.plan, [], device="edge", xml=xml))
    data = str(written.text).encode()
    document.write_bytes(data)
    coming = FORMATS["ietf"].read(Given(document, data, reading.plan))
    draft = Draft(reading)
    take_in(draft, [coming], replace=True)
    return reading.plan, read(path, {**reading.data, **draft.result()}).plan, written, coming


@settings(max_examples=60)
@given(rules=st.lists(st.sampled_from(SAYABLE), max_size=5, unique=True), xml=st.booleans())
def test_what_rfc_8512_can_say_comes_back_and_is_valid(
    tmp_path: Path, rules: list[str], xml: bool
) -> None:
    old, new, written, _ = out_and_in(tmp_path, rules, xml)
    if not xml:
        see_that_it_is_valid(written.text)
    if not written.unsaid:
        assert meaning(new) == meaning(old)


def test_a_rule_goes_out_with_the_senders_that_those_above_leave(tmp_path: Path) -> None:
    rules = ["kiosk leaving wan unchanged", "hall leaving wan as itself"]
    _, new, written, _ = out_and_in(tmp_path, rules)
    assert written.unsaid == []
    (rule,) = new.devices["edge"].translations
    assert sum(each.size for each in rule.inside) == 255
    assert not any(each.contains(parse_address("10.64.8.21").value) for each in rule.inside)
    assert rule.text.endswith("leaving wan as itself")


@pytest.mark.parametrize(
    ("rules", "why"),
    [
        (["hall tcp/22 leaving wan as itself"], "asks for protocols, and not for ports"),
        (["hall ping leaving wan as itself"], "asks for protocols, and not for ports"),
        (["198.51.100.9 entering wan to kiosk"], "is of what the machine opens as well"),
        (["198.51.100.9 tcp entering wan to kiosk"], "is of what the machine opens as well"),
        (["198.51.100.9 tcp/1-9 entering wan to kiosk port 9"], "each port to one of its own"),
        (
            ["2001:db8:9::9 tcp/22 entering wan to 2001:db8:64:8::77"],
            "maps no single IPv6 address",
        ),
        (
            ["hall tcp leaving wan as 198.51.100.9", "hall leaving wan as itself"],
            "the module has no order",
        ),
        (
            ["hall leaving wan as itself", "kiosk both ways wan as 198.51.100.9"],
            "the module has no order",
        ),
    ],
)
def test_what_it_cannot_say_is_named_with_its_line(
    tmp_path: Path, rules: list[str], why: str
) -> None:
    _, _, written, _ = out_and_in(tmp_path, rules)
    (said,) = written.unsaid
    assert said.startswith(f"{tmp_path / 'plan.gate'}:{6 + len(rules)}: translate {rules[-1]}")
    assert said.endswith(why)
    see_that_it_is_valid(written.text)


def document(instance: dict[str, Any]) -> bytes:
    wan = {
        "name": "wan",
        "type": "iana-if-type:ethernetCsmacd",
        "ietf-ip:ipv4": {"address": [{"ip": "203.0.113.2", "prefix-length": 30}]},
    }
    bare = {"name": "bare", "type": "iana-if-type:ethernetCsmacd"}
    return json.dumps(
        {
            "ietf-system:system": {"hostname": "edge"},
            "ietf-interfaces:interfaces": {"interface": [wan, bare]},
            "ietf-nat:nat": {"instances": {"instance": [{"id": 1} | instance]}},
        }
    ).encode()


WAN = {"external-realm": {"external-interface": "wan"}}
POLICY = {"id": 1} | WAN
POOL = {"external-ip-address-pool": [{"pool-id": 1, "external-ip-pool": "203.0.113.2/32"}]}


def mapping(**leaves: Any) -> dict[str, Any]:
    own = {each.replace("_", "-"): value for each, value in leaves.items()}
    own = {
        "internal-src-address": "10.64.8.21/32",
        "external-src-address": "198.51.100.9/32",
    } | own
    return {"policy": [POLICY], "mapping-table": {"mapping-entry": [{"index": 1} | own]}}


PORT = {"start-port-number": 443}


@pytest.mark.parametrize(
    ("instance", "lines", "told"),
    [
        ({"enable": False, "policy": [POLICY | POOL]}, [], "is not enabled, and left out"),
        ({"policy": [POLICY | POOL]}, ["any leaving wan as itself"], ""),
        (
            {"policy": [POLICY | POOL | {"filtering-type": "eif"}]},
            ["any leaving wan as itself"],
            "lets anybody in to a port",
        ),
        (
            {"policy": [POLICY | POOL | {"transport-protocols": [{"protocol-id": 17}]}]},
            ["any udp leaving wan as itself"],
            "",
        ),
        ({"policy": [{"id": 1} | POOL]}, [], "no external interface is told"),
        (
            {"policy": [{"id": 1, "external-realm": {"external-interface": "bare"}} | POOL]},
            [],
            "bare has no address",
        ),
        (
            {
                "policy": [
                    POLICY
                    | {
                        "external-ip-address-pool": [
                            {"pool-id": 1, "external-ip-pool": "198.18.0.0/15"}
                        ]
                    }
                ]
            },
            [],
            "its pool is 131,072 addresses",
        ),
        (
            {
                "policy": [
                    POLICY
                    | POOL
                    | {"subscriber-match": [{"match-id": 1, "subnet": "2001:db8::/32"}]}
                ]
            },
            [],
            "IPv6 senders are hidden behind no IPv4 address",
        ),
        (
            {"policy": [POLICY], "nat-pass-through": [{"id": 1, "prefix": "192.0.2.0/24"}]},
            [],
            "no rule here asks for where a packet goes",
        ),
        (mapping(), ["10.64.8.21 both ways wan as 198.51.100.9"], ""),
        (
            mapping(transport_protocol=6, external_src_port=PORT, internal_src_port=PORT),
            ["198.51.100.9 tcp/443 entering wan to 10.64.8.21"],
            "what 10.64.8.21 opens itself",
        ),
        (
            mapping(external_src_port=PORT, internal_src_port={"start-port-number": 8443}),
            [
                "198.51.100.9 tcp/443 entering wan to 10.64.8.21 port 8443",
                "198.51.100.9 udp/443 entering wan to 10.64.8.21 port 8443",
            ],
            "",
        ),
        (mapping(type="dynamic-implicit"), [], "it was made by a packet"),
        (mapping(transport_protocol=1, external_src_port=PORT), [], "protocol 1 has no ports"),
        (mapping(external_src_address="198.51.100.0/24"), [], "are not of one size"),
        (
            mapping(external_src_address="2001:db8::1/128"),
            [],
            "no address becomes one of the other family",
        ),
        (
            mapping(
                transport_protocol=6,
                external_src_port={"start-port-number": 1, "end-port-number": 9},
                internal_src_port=PORT,
            ),
            [],
            "only one port is led to another",
        ),
        (mapping() | {"policy": []}, [], "has not one external interface, but none"),
        (
            {"policy": [POLICY | {"nat64-prefixes": [{"nat64-prefix": "64:ff9b::/96"}]}]},
            [],
            "nat64-prefixes has no meaning here",
        ),
    ],
)
def test_documents_of_others_are_read_or_it_is_told(
    tmp_path: Path, instance: dict[str, Any], lines: list[str], told: str
) -> None:
    path = tmp_path / "plan.gate"
    path.write_text("")
    reading = read(path)
    coming = FORMATS["ietf"].read(Given(path, document(instance), reading.plan))
    draft = Draft(reading)
    take_in(draft, [coming], replace=False)
    device = read(path, {**reading.data, **draft.result()}).plan.devices["edge"]
    assert [each.text for each in device.translations] == lines
    assert device.stateful is bool(lines)
    assert told in "\n".join(coming.told)


@pytest.mark.parametrize(
    ("instance", "message"),
    [
        (
            mapping(external_src_port={"start-port-number": 70_000}),
            "start-port-number is 70000; it is a number from 0 to 65535",
        ),
        (mapping(external_src_port={"end-port-number": 9}), "start-port-number is missing"),
        (mapping(internal_src_address="10.64.8/24"), "internal-src-address"),
        (
            {"policy": [POLICY, POLICY]},
            "there are two policy with the id 1",
        ),
    ],
)
def test_what_the_module_does_not_allow_is_an_error_with_its_place(
    run: Run, tmp_path: Path, instance: dict[str, Any], message: str
) -> None:
    (tmp_path / "edge.json").write_bytes(document(instance))
    done = run("--plan", "new.gate", "import", "ietf", "edge.json")
    assert done.returncode == 2
    assert message in done.stderr
    assert "edge.json: /ietf-nat:nat/instances/instance[1]" in done.stderr


def test_a_device_keeps_its_rules_where_a_document_tells_none(run: Run, demo: Path) -> None:
    run("export", "ietf", "--on", "breakwater", "--approximate", "--out", "edge.json")
    told = json.loads((demo / "edge.json").read_text())
    del told["ietf-access-control-list:acls"], told["ietf-nat:nat"]
    routing = told["ietf-routing:routing"]["control-plane-protocols"]["control-plane-protocol"]
    del routing[0]["static-routes"]["ietf-ipv6-unicast-routing:ipv6"]
    (demo / "edge.json").write_text(json.dumps(told))
    before = (demo / "ternhaven.gate").read_text()
    kept = [each for each in before.splitlines() if each.startswith("    translate ")]
    done = run("import", "ietf", "edge.json", "--replace", "--anyway", "--yes")
    assert done.returncode == 0, done.stderr
    after = (demo / "ternhaven.gate").read_text().splitlines()
    assert [each for each in after if each.startswith("    translate ")] == kept
    assert len(after) == len(before.splitlines()) - 1
