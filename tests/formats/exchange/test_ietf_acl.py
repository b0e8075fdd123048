"""Documents of RFC 8519 as others write them, what the module cannot say, and documents that are
none.
"""

from __future__ import annotations

import json
from pathlib import Path
from typing import Any

import pytest

from tests.conftest import Run
from tests.documents import checked
from tests.formats.exchange.yang import see_that_it_is_valid

PLAN = """\
subnet hall 10.64.8.0/24
router lighthouse
    interface v80 10.64.8.1/24 on hall
router pier
    interface v80 10.64.8.2/24 on hall
host kiosk 10.64.8.21 on hall
"""
ACL = "ietf-access-control-list"


def ace(
    name: str, matches: dict[str, Any] | None = None, forwarding: str = "accept", **more: Any
) -> dict[str, Any]:
    return (
        {"name": name}
        | ({} if matches is None else {"matches": matches})
        | {"actions": {"forwarding": f"{ACL}:{forwarding}"}}
        | more
    )


def acl(*aces: dict[str, Any], name: str = "web", kind: str = "ipv4-acl-type") -> dict[str, Any]:
    return {"name": name, "type": f"{ACL}:{kind}", "aces": {"ace": list(aces)}}


def document(*acls: dict[str, Any], **more: Any) -> str:
    return json.dumps({f"{ACL}:acls": {"acl": list(acls)} | more})


REST = ace("rest", forwarding="drop")


@pytest.fixture
def brought(tmp_path: Path, run: Run) -> Any:
    """Bring a document in, and return what the edit says and the plan's text."""

    def bring(text: str, *options: str, plan: str = PLAN, status: int = 0) -> tuple[str, str]:
        (tmp_path / "plan.gate").write_text(plan)
        (tmp_path / "in.json").write_text(text)
        done = run("import", "ietf-acl", "in.json", "--yes", "--anyway", *options)
        assert done.returncode == status, done.stdout + done.stderr
        return done.stdout + done.stderr, (tmp_path / "plan.gate").read_text()

    return bring


def entries(text: str) -> list[str]:
    lines = text.splitlines()
    at = next(number for number, line in enumerate(lines) if line.startswith("list "))
    found: list[str] = []
    for line in lines[at:]:
        if found and not line.startswith(" "):
            break
        found.append(" ".join(line.split()))
    return found


def test_operators_ranges_and_flags_are_read_exactly(brought: Any) -> None:
    ports = {
        "destination-port": {"operator": "neq", "port": 80},
        "source-port": {"lower-port": 1024, "upper-port": 2048},
    }
    text = document(
        acl(
            ace("http", {"ipv4": {"destination-ipv4-network": "10.64.8.0/24"}, "tcp": ports}),
            ace(
                "low",
                {
                    "udp": {
                        "source-port": {"operator": "lte", "port": 53},
                        "destination-port": {"operator": "gte", "port": 1024},
                    }
                },
            ),
            ace("syn", {"tcp": {"flags": "syn"}}, "reject"),
            ace("ping", {"icmp": {"type": 8}, "ipv4": {"protocol": 1, "dscp": 46}}),
            REST,
        )
    )
    _, plan = brought(text)
    assert entries(plan) == [
        "list web extended ipv4",
        '10 permit tcp/-79,81- any to hall source port 1024-2048 "http"',
        '20 permit udp/1024- any to any source port -53 "low"',
        '30 reject tcp any to any flags !FIN,SYN,!RST,!PSH,!ACK,!URG,!ECE,!CWR "syn"',
        '40 permit icmp/8 any to any dscp 46 "ping"',
        "otherwise deny",
    ]


def test_what_has_no_word_is_kept_as_a_note_and_its_entry_is_off(brought: Any) -> None:
    own = ace("ttl", {"ipv4": {"ttl": 64, "protocol": 6}}, note="ours")
    told, plan = brought(document(acl(own, ace("in", {"ingress-interface": "v80"}), REST)))
    assert entries(plan)[:-1] == [
        "list web extended ipv4",
        (
            'note "an entry is off for this: '
            "/ietf-access-control-list:acls/acl[web]/aces/ace[ttl]/matches/ipv4/ttl = 64 has no "
            "word "
            'here"'
        ),
        'note "/ietf-access-control-list:acls/acl[web]/aces/ace[ttl]/note = ours has no word here"',
        (
            'note "an entry is off for this: '
            "/ietf-access-control-list:acls/acl[web]/aces/ace[in]/matches/ingress-interface = v80 "
            "has "
            'no word here"'
        ),
        '10 off permit tcp any to any "ttl"',
        '20 off permit ip any to any "in"',
    ]
    assert "ttl = 64 has no word here" in told


def test_lists_stand_where_they_are_attached(brought: Any) -> None:
    attached = {
        "interface": [
            {
                "interface-id": "lighthouse.v80",
                "ingress": {"acl-sets": {"acl-set": [{"name": "web"}]}},
            },
            {"interface-id": "ge-0", "egress": {"acl-sets": {"acl-set": [{"name": "web"}]}}},
        ]
    }
    text = document(acl(REST), **{"attachment-points": attached})
    _, plan = brought(text)
    assert "place web inbound on lighthouse.v80" in plan
    assert 'note "was attached egress to ge-0, which the plan has not"' in plan
    plain = text.replace("lighthouse.v80", "v80")
    assert "place web inbound on pier.v80" in brought(plain, "--on", "pier")[1]
    assert "place" not in brought(plain)[1]


def test_two_lists_at_one_place_must_ask_the_same(brought: Any) -> None:
    sets = {"acl-sets": {"acl-set": [{"name": "web"}, {"name": "net"}]}}
    attached = {
        "attachment-points": {"interface": [{"interface-id": "lighthouse.v80", "ingress": sets}]}
    }
    alike = document(
        acl(ace("a", {"ipv4": {"protocol": 6}}), REST),
        acl(ace("b", {"ipv4": {"protocol": 6}}), REST, name="net"),
        **attached,
    )
    assert brought(alike)[1].count("place ") == 1
    other = document(
        acl(ace("a", {"ipv4": {"protocol": 6}}), REST),
        acl(ace("b", {"ipv4": {"protocol": 17}}), REST, name="net"),
        **attached,
    )
    told, _ = brought(other, status=2)
    assert "web and net are both attached there" in told


def test_families_are_told_apart(brought: Any) -> None:
    aces = [
        ace("four", {"ipv4": {"source-ipv4-network": "10.0.0.0/8"}}),
        ace("six", {"ipv6": {"source-ipv6-network": "2001:db8::/32"}}),
        REST,
    ]
    _, plan = brought(document(acl(*aces, kind="mixed-eth-ipv4-ipv6-acl-type")))
    assert entries(plan)[:2] == ["list web extended ipv4", '10 permit ip 10.0.0.0/8 to any "four"']
    assert "list web-6 extended ipv6" in plan
    untyped = json.loads(document(acl(aces[1], REST)))
    del untyped[f"{ACL}:acls"]["acl"][0]["type"]
    _, plan = brought(json.dumps(untyped))
    assert "list web extended ipv6" in plan
    assert "ipv4" not in plan


def test_names_are_mapped_and_both_are_told(brought: Any) -> None:
    told, plan = brought(
        document(
            acl(REST, name="from the sea"), acl(REST, name="from-the-sea"), acl(REST, name="1 + 1")
        )
    )
    assert "the list named from the sea becomes from-the-sea" in told
    assert "the list named from-the-sea becomes from-the-sea-2" in told
    assert "list list-1-1 extended" in plan


def test_counters_go_into_the_tally_and_out_of_it(brought: Any, run: Run) -> None:
    text = document(
        acl(
            ace("10", {"ipv4": {"protocol": 6}}, statistics={"matched-packets": "12345678901"}),
            ace("rest", None, "drop", statistics={"matched-packets": "7"}),
        )
    )
    brought(text, "--tally")
    document_out = run("export", "ietf-acl", "--tally").stdout
    see_that_it_is_valid(document_out, operational=True)
    counters = [
        each["statistics"]["matched-packets"]
        for each in json.loads(document_out)[f"{ACL}:acls"]["acl"][0]["aces"]["ace"]
    ]
    assert counters == ["12345678901", "7"]


def test_a_list_without_an_end_asks_for_one(brought: Any) -> None:
    text = document(acl(ace("tcp", {"ipv4": {"protocol": 6}})))
    told, _ = brought(text, status=2)
    assert "no ace takes what is left" in told
    assert "otherwise permit" in brought(text, "--otherwise", "permit")[1]


def test_nothing_is_replaced_unless_it_is_said(brought: Any) -> None:
    plan = PLAN + "list web extended ipv4\n    10 permit ip any to any\n"
    told, after = brought(document(acl(REST)), plan=plan, status=2)
    assert "the plan has a list web already; --replace" in told
    assert after == plan
    assert "10 permit" not in brought(document(acl(REST)), "--replace", plan=plan)[1]


@pytest.mark.parametrize(
    ("entry", "problem"),
    [
        ("10 permit tcp any to any established", "cannot ask for established"),
        (
            "10 permit tcp any to any flags SYN",
            "cannot ask for some TCP flags whatever the others are",
        ),
        ("10 permit ip any to any fragments", "cannot ask for fragments"),
        ("10 permit sctp/80 any to any", "cannot ask for ports of sctp"),
        ("10 permit ip any to any during night", "has no time windows"),
        ("10 permit ip 10.0.0.1 wild 255.0.255.0 to any", "is 65,536 prefixes, and --limit is 256"),
    ],
)
def test_what_the_module_cannot_say_is_refused(
    run: Run, tmp_path: Path, entry: str, problem: str
) -> None:
    plan = PLAN + (
        f"window night daily 22:00-05:30\nlist web extended ipv4\n    {entry}\n    20 off "
        "permit ip any to any\nplace web inbound on subnet hall\n"
    )
    (tmp_path / "plan.gate").write_text(plan)
    refused = run("export", "ietf-acl")
    assert refused.returncode == 1
    assert refused.stdout == ""
    assert f"list web 10: {'' if 'prefixes' in problem else 'ietf-acl '}" in refused.stderr
    assert problem in refused.stderr
    assert (
        "list web inbound on subnet hall: ietf-acl attaches lists to interfaces only"
        in refused.stderr
    )
    done = run("export", "ietf-acl", "--approximate")
    assert [
        each["name"] for each in json.loads(done.stdout)[f"{ACL}:acls"]["acl"][0]["aces"]["ace"]
    ] == ["otherwise"]
    assert "list web: 1 entry is left out, since it is off" in done.stderr


XML = (
    "<acls "
    'xmlns="urn:ietf:params:xml:ns:yang:ietf-access-control-list"><acl><name>x</name>{}</acl></acls>'
)


@pytest.mark.parametrize(
    ("text", "problem"),
    [
        ("", "neither JSON (RFC 7951)"),
        ("permit ip any any", "neither JSON (RFC 7951)"),
        ("{", "line 1, column 2: this is no JSON"),
        ('{"a": 1, "a": 2}', "a twice in one object"),
        ("{" * 5 + '"a":' * 3, "this is no JSON"),
        ('{"a":' * 100_000, "nested deeper than 200 levels"),
        ("{}", "has no ietf-access-control-list:acls (RFC 8519); it has nothing"),
        ('{"ietf-interfaces:interfaces": {}, "x:y": 3}', "it has x:y"),
        (
            '{"ietf-access-control-list:acls": {"acl": {"name": "x"}}}',
            "acl is a list in its module: an array in JSON",
        ),
        (
            '{"ietf-access-control-list:acls": {"acl": [3]}}',
            "3 stands where something with names below it belongs",
        ),
        (document(acl(), acl()), "there are two acl with the name web"),
        (document(acl(REST, REST)), "there are two ace with the name rest"),
        (document(acl(REST, kind="zebra")), "the type zebra is no type of RFC 8519"),
        (document(acl({"name": "x"})), "ace[x]: actions is missing"),
        (document(acl(ace("x", forwarding="allow"))), "is none of accept, drop, reject"),
        (
            document(acl(ace("x", {"ipv4": {"source-ipv4-network": "2001:db8::/32"}}))),
            "which is no IPv4 prefix",
        ),
        (
            document(acl(ace("x", {"ipv4": {"source-ipv4-network": "10.0.0.0/40"}}))),
            "/40 is no IPv4 prefix length",
        ),
        (
            document(acl(ace("x", {"ipv4": {"protocol": 300}}))),
            "protocol is 300; it is a number from 0 to 255",
        ),
        (document(acl(ace("x", {"ipv4": {"protocol": [6, 17]}}))), "protocol stands here 2 times"),
        (
            document(acl(ace("x", {"ipv4": {"protocol": 17}, "tcp": {"window-size": 1}}))),
            "the ace asks for protocol 17 too",
        ),
        (
            document(
                acl(
                    ace(
                        "x",
                        {
                            "tcp": {
                                "source-port": {
                                    "lower-port": 1,
                                    "upper-port": 2,
                                    "operator": "eq",
                                    "port": 9,
                                }
                            }
                        },
                    )
                )
            ),
            "a range stands beside an operator",
        ),
        (
            document(acl(ace("x") | {"actions": {"forwarding": "other-mod:drop"}}, REST)),
            "the action other-mod:drop is none of accept, drop, reject",
        ),
        (
            document(acl(ace("x", {"ipv6": {"protocol": 6}}), REST)),
            "has an ace with ipv6 matches, which takes no packet of it",
        ),
        (
            XML.format(
                '<aces xmlns:nc="urn:ietf:params:xml:ns:netconf:base:1.0"><ace '
                'nc:operation="delete"><name>1</name></ace></aces>'
            ),
            "has an nc:operation",
        ),
        (
            '{"ietf-access-control-list:acls": {"@": {"ietf-netconf:operation": "delete"}}}',
            "has an ietf-netconf:operation",
        ),
        (
            document(acl(ace("x", {"tcp": {"source-port": {"lower-port": 9, "upper-port": 7}}}))),
            "an upper-port that is no less",
        ),
        (
            document(acl(ace("x", {"tcp": {"source-port": {"port": 9, "operator": "near"}}}))),
            "the operator near is none of",
        ),
        (document(acl(ace("x", {"tcp": {"flags": "syn nak"}}))), "flags has nak"),
        (XML.format("<aces>"), "this is no XML"),
        (
            "<!DOCTYPE a [<!ENTITY b SYSTEM 'file:///etc/hostname'>]><acls>&b;</acls>",
            "document type",
        ),
        (XML.format(""), "no ace takes what is left"),
        (
            document(
                acl(REST),
                **{
                    "attachment-points": {
                        "interface": [
                            {
                                "interface-id": "v80",
                                "ingress": {"acl-sets": {"acl-set": [{"name": "no"}]}},
                            }
                        ]
                    }
                },
            ),
            "there is no acl no in the document",
        ),
    ],
)
def test_bad_documents_are_told_with_their_place(brought: Any, text: str, problem: str) -> None:
    told, plan = brought(text, status=2)
    assert problem in told
    assert plan == PLAN


def test_a_huge_file_is_refused_before_it_is_read(run: Run, tmp_path: Path) -> None:
    (tmp_path / "plan.gate").write_text(PLAN)
    with (tmp_path / "huge.json").open("wb") as file:
        file.write(b"{")
        file.truncate(300_000_000)
    refused = run("import", "ietf-acl", "huge.json")
    assert refused.returncode == 2
    assert "has more than 256 MB; no more is read" in refused.stderr


@pytest.mark.parametrize(("leaf", "value"), [("ttl", 5), ("length", 100), ("ecn", 1)])
def test_an_ace_that_loses_a_condition_is_never_the_closing_one(
    brought: Any, leaf: str, value: int
) -> None:
    web = ace("10", {"ipv4": {"protocol": 6}})
    permit, deny = (
        ace("20", {"ipv4": {leaf: value}}, forwarding=each) for each in ("accept", "drop")
    )
    told, text = brought(document(acl(web, permit)), status=2)
    assert "no ace takes what is left" in told
    _, text = brought(document(acl(web, permit)), "--otherwise", "deny")
    assert entries(text)[2:] == [
        "10 permit tcp any to any",
        "20 off permit ip any to any",
        "otherwise deny",
    ]
    told, text = brought(document(acl(web, deny, ace("rest"))), status=2)
    assert (
        f"/ipv4/{leaf} = {value} has no word here, and list web would let by more without this deny"
        in told
    )
    _, text = brought(document(acl(web, deny, ace("rest"))), "--approximate")
    assert entries(text)[2:] == [
        "10 permit tcp any to any",
        "20 deny ip any to any",
        "otherwise permit",
    ]


def test_what_follows_an_ace_that_takes_all_changes_nothing(brought: Any) -> None:
    every = ace("20", forwarding="drop")
    _, text = brought(
        document(
            acl(ace("10", {"ipv4": {"protocol": 6}}), every, ace("30", {"ipv4": {"protocol": 17}}))
        )
    )
    assert entries(text)[1:] == [
        "10 permit tcp any to any",
        "20 deny ip any to any",
        "30 permit udp any to any",
        "otherwise deny",
    ]


def test_a_prefix_with_bits_beyond_its_length_is_canonical_and_said(brought: Any) -> None:
    _, text = brought(
        document(acl(ace("10", {"ipv4": {"source-ipv4-network": "10.1.0.7/24"}}), REST))
    )
    assert "10 permit ip 10.1.0.0/24 to any" in entries(text)
    assert "= 10.1.0.7/24 is the prefix 10.1.0.0/24" in text


def test_another_way_of_logging_is_no_log_and_an_empty_container_says_nothing(brought: Any) -> None:
    first = ace("10", {"ipv4": {"protocol": 6}, "ipv6": {}, "tcp": {}})
    first["actions"]["logging"] = f"{ACL}:log-flash"
    second = ace("20", {"ipv4": {"protocol": 17}})
    second["actions"]["logging"] = "log-syslog"
    _, text = brought(document(acl(first, second, REST)))
    assert [each for each in entries(text) if not each.startswith("note")][1:] == [
        "10 permit tcp any to any",
        "20 permit udp any to any log",
        "otherwise deny",
    ]
    assert "logging = log-flash has no word here" in text


def test_counts_of_places_are_not_added_to_the_lists_own(brought: Any, run: Run) -> None:
    own = ace("10", {"ipv4": {"protocol": 6}}, statistics={"matched-packets": "42"})
    other = ace("20", {"ipv4": {"protocol": 17}})
    rest = ace("rest", forwarding="drop", statistics={"matched-packets": str((1 << 64) - 1)})
    there = [{"name": each, "matched-packets": "7"} for each in ("10", "20")]
    attached = {
        "interface": [
            {
                "interface-id": "lighthouse.v80",
                "ingress": {"acl-sets": {"acl-set": [{"name": "web", "ace-statistics": there}]}},
            }
        ]
    }
    brought(document(acl(own, other, rest), **{"attachment-points": attached}), "--tally")
    hits = {
        row["entry"]: row["hits"]
        for row in checked(run("tally", "--json").stdout)["lists"][0]["hits"]
    }
    assert (hits[10], hits[20], hits[None]) == (42, 7, (1 << 63) - 1)


def test_ethernet_lists_keep_their_numbers(run: Run, tmp_path: Path) -> None:
    plan = PLAN + (
        "switch gw\n    port 1\nlist eb extended ethernet\n    5 permit arp any to any\n    15 "
        "deny any any to broadcast log\n    30 permit lldp any to any\n    otherwise "
        "permit\nplace eb inbound on gw.1\n"
    )
    (tmp_path / "plan.gate").write_text(plan.replace("lldp", "0x88cc"))
    assert run("export", "ietf-acl", "eb", "--out", "eb.json").returncode == 0
    assert '"ethertype": "lldp"' in (tmp_path / "eb.json").read_text()
    assert run("import", "ietf-acl", "eb.json", "--replace", "--yes").returncode == 0
    assert [
        line.split()[0]
        for line in (tmp_path / "plan.gate").read_text().split("list eb")[1].splitlines()[1:5]
    ] == [
        "5",
        "15",
        "30",
        "otherwise",
    ]


def test_names_are_cut_to_64_octets(run: Run, tmp_path: Path) -> None:
    (tmp_path / "plan.gate").write_text(
        f'{PLAN}list l extended ipv4\n    10 permit ip any to any "{"é" * 60}"\n'
    )
    text = run("export", "ietf-acl", "l").stdout
    names = [each["name"] for each in json.loads(text)[f"{ACL}:acls"]["acl"][0]["aces"]["ace"]]
    assert 60 < len(names[0].encode()) <= 64
    see_that_it_is_valid(text)
