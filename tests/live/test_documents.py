"""Configurations edited by operations, and parts of them chosen, as RFC 6241 says."""

from __future__ import annotations

import re

import pytest

from crossgate.core.model.errors import PlanError
from crossgate.live.documents import (
    DeviceError,
    chosen,
    lists_of,
    merge,
    parsed,
    with_lists,
    written,
)

NC = "urn:ietf:params:xml:ns:netconf:base:1.0"
ACL = "urn:ietf:params:xml:ns:yang:ietf-access-control-list"
DATA = (
    f'<data xmlns="{NC}"><acls xmlns="{ACL}">'
    "<acl><name>a</name><type>ipv4-acl-type</type><aces>"
    "<ace><name>1</name><actions><forwarding>accept</forwarding></actions></ace>"
    "<ace><name>2</name><actions><forwarding>drop</forwarding></actions></ace></aces></acl>"
    "<acl><name>b</name><type>ipv6-acl-type</type></acl></acls>"
    '<system xmlns="urn:ietf:params:xml:ns:yang:ietf-system"><hostname>h</hostname></system></data>'
)


def bare(octets: bytes) -> str:
    """Return XML without namespaces and the wrapping."""
    text = re.sub(r' xmlns(:\w+)?="[^"]*"', "", octets.decode())
    return text.removeprefix("<data>").removesuffix("</data>").replace("<data/>", "")


def edited(edit: str, default: str = "merge") -> str:
    data = parsed(DATA.encode(), "data")
    for each in parsed(f'<config xmlns="{NC}" xmlns:nc="{NC}">{edit}</config>'.encode(), "edit"):
        merge(data, each, default)
    return bare(written(data))


def acls(inner: str, operation: str = "") -> str:
    told = f' nc:operation="{operation}"' if operation else ""
    return f'<acls xmlns="{ACL}"{told}>{inner}</acls>'


def test_what_is_merged_keeps_what_is_there() -> None:
    after = edited(
        acls(
            "<acl><name>a</name><aces><ace><name>1</name><actions><forwarding>reject"
            "</forwarding></actions></ace></aces></acl>"
        )
    )
    assert after == bare(DATA.encode()).replace("accept", "reject")
    new = edited(acls("<acl><name>c</name></acl>"))
    assert "<acl><name>c</name></acl></acls>" in new


@pytest.mark.parametrize(
    ("edit", "there", "gone"),
    [
        ('<acl nc:operation="delete"><name>b</name></acl>', "<name>a</name>", "<name>b</name>"),
        ('<acl nc:operation="remove"><name>z</name></acl>', "<name>b</name>", "<name>z</name>"),
        ('<acl nc:operation="replace"><name>a</name></acl>', "<acl><name>a</name></acl>", "ace"),
        ('<acl nc:operation="create"><name>c</name></acl>', "<name>c</name>", "zzz"),
        (
            '<acl><name>a</name><aces><ace nc:operation="delete"><name>1</name></ace></aces></acl>',
            "<name>2</name>",
            "<name>1</name>",
        ),
    ],
)
def test_operations(edit: str, there: str, gone: str) -> None:
    after = edited(acls(edit))
    assert there in after
    assert gone not in after
    assert "operation" not in after


@pytest.mark.parametrize(
    ("edit", "tag"),
    [
        ('<acl nc:operation="delete"><name>z</name></acl>', "data-missing"),
        ('<acl nc:operation="create"><name>a</name></acl>', "data-exists"),
        ('<acl nc:operation="burn"><name>a</name></acl>', "bad-attribute"),
        ('<acl><name>n</name><aces><ace nc:operation="delete"/></aces></acl>', "data-missing"),
    ],
)
def test_operations_that_cannot_be(edit: str, tag: str) -> None:
    with pytest.raises(DeviceError) as found:
        edited(acls(edit))
    assert found.value.tag == tag


def test_replacing_all() -> None:
    assert edited(acls("", "replace")) == "<acls/><system><hostname>h</hostname></system>"


@pytest.mark.parametrize(
    ("wanted", "found"),
    [
        (acls(""), DATA.split("<system")[0].removeprefix(f'<data xmlns="{NC}">')),
        (
            acls("<acl><name>b</name></acl>"),
            "<acls><acl><name>b</name><type>ipv6-acl-type</type></acl></acls>",
        ),
        (
            acls("<acl><name>b</name><type/></acl>"),
            "<acls><acl><name>b</name><type>ipv6-acl-type</type></acl></acls>",
        ),
        (
            acls("<acl><name/></acl>"),
            "<acls><acl><name>a</name></acl><acl><name>b</name></acl></acls>",
        ),
        (acls("<acl><name>z</name></acl>"), ""),
        (
            acls("<acl><name>a</name><aces><ace><name>2</name></ace></aces></acl>"),
            "<acls><acl><name>a</name><aces><ace><name>2</name><actions><forwarding>drop"
            "</forwarding></actions></ace></aces></acl></acls>",
        ),
        (
            acls("<acl><aces><ace><name/></ace></aces></acl>"),
            "<acls><acl><name>a</name><aces><ace><name>1</name></ace><ace><name>2</name></ace>"
            "</aces></acl></acls>",
        ),
        ('<hosts xmlns="urn:none"/>', ""),
        ('<acls xmlns="urn:none"/>', ""),
        ("", ""),
    ],
)
def test_a_filter_chooses(wanted: str, found: str) -> None:
    data = parsed(DATA.encode(), "data")
    own = parsed(f'<filter xmlns="{NC}">{wanted}</filter>'.encode(), "filter")
    assert bare(written(chosen(data, own))) == bare(found.encode())
    assert bare(written(chosen(data, None))) == bare(DATA.encode())
    assert bare(written(data)) == bare(DATA.encode())


def test_what_would_draw_in_more_is_refused() -> None:
    with pytest.raises(PlanError, match="document type"):
        parsed(b'<!DOCTYPE a [<!ENTITY e SYSTEM "file:///etc/passwd">]><a>&e;</a>', "it")
    with pytest.raises(PlanError, match="is no XML"):
        parsed(b"<a><b></a>", "it")


def test_an_identity_is_what_it_is_under_any_prefix_and_wherever_it_is_put() -> None:
    kind = "<acl><name>c</name><type>{}</type></acl>"
    ways = (
        (f'<acls xmlns="{ACL}">', kind.format("ipv4-acl-type")),
        (f'<acls xmlns="{ACL}" xmlns:x="{ACL}">', kind.format("x:ipv4-acl-type")),
    )
    around = f'<config xmlns="{NC}" xmlns:x="{ACL}">'
    for head, inside in (*ways, (f'<acls xmlns="{ACL}">', kind.format("x:ipv4-acl-type"))):
        data = parsed(DATA.encode(), "data")
        for each in parsed(f"{around}{head}{inside}</acls></config>".encode(), "edit"):
            merge(data, each)
        assert kind.format("ipv4-acl-type") in bare(written(data))
        moved = with_lists(
            f'<data xmlns="{NC}" xmlns:y="{ACL}"/>'.encode(), lists_of(written(data), "x"), "x"
        )
        assert kind.format("ipv4-acl-type") in bare(moved)
    other = "urn:ietf:params:xml:ns:yang:iana-if-type"
    read = parsed(
        f'<data xmlns="{NC}" xmlns:i="{other}"><interfaces xmlns="urn:ietf:params:xml:ns:yang:'
        'ietf-interfaces"><interface><name>i:x</name><type>i:l3ipvlan</type></interface>'
        "</interfaces></data>".encode(),
        "data",
    )
    text = written(read[0]).decode()
    assert f'xmlns:iana-if-type="{other}"' in text
    assert "<name>i:x</name><type>iana-if-type:l3ipvlan</type>" in text
