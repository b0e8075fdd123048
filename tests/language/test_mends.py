"""Entries in another way of writing: the mend that is told reads, and says the same."""

from __future__ import annotations

from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from crossgate.core.model.address import Family, parse_address
from crossgate.core.model.entry import Kind
from crossgate.core.model.errors import PlanError, PlanErrors
from crossgate.core.sets.wildcard import meanings
from crossgate.language.entries import one_entry
from crossgate.language.lines import Line
from crossgate.language.names import Names
from crossgate.language.reader import read
from tests.conftest import Run
from tests.small import entry_words

NET = (
    "subnet a 10.0.0.0/24\nsubnet b 10.1.0.0/24\nhost one 10.0.0.9 on a\nwindow night daily "
    "22:00-05:00\n"
)


def names(folder: Path) -> Names:
    path = folder / "net.gate"
    path.write_text(NET)
    return read(path).names


EXTENDED = {
    "permit tcp 80 a to b": "permit tcp/80 a to b",
    "permit tcp a b eq 443": "permit tcp/443 a to b",
    "permit tcp a to b eq https log": "permit tcp/https a to b log",
    "10 permit udp any eq 53 any": "10 permit udp any to any source port 53",
    "permit tcp host 10.0.0.9 gt 1023 host 10.1.0.9 range 80 90": "permit tcp/80-90 10.0.0.9 to 10.1.0.9 source port 1024-",
    "permit tcp a lt 1024 b": "permit tcp a to b source port -1023",
    "permit any a to b": "permit ip a to b",
    "permit ip all to b": "permit ip any to b",
    "permit tcp/80, tcp/443 a to b": "permit tcp/80,tcp/443 a to b",
    "permit tcp/80, tcp/443 a but 10.0.0.9 to b": "permit tcp/80,tcp/443 a but 10.0.0.9 to b",
    "permit tcp 80 any but a, b any": "permit tcp/80 any but a,b to any",
    "Allow https a to b": "permit https a to b",
    'drop https a to b during night logging "why"': 'deny https a to b during night log "why"',
    "off block https a to b": "off deny https a to b",
    "permit ip 10.0.0.0 0.0.0.255 any": "permit ip 10.0.0.0 wild 0.0.0.255 to any",
    "permit ip 10.0.0.0 255.255.255.0 to 10.1.0.0 0.0.0.3": "permit ip 10.0.0.0 mask 255.255.255.0 to 10.1.0.0 wild 0.0.0.3",
    "remark nobody else": 'note "nobody else"',
    "access-list 101 permit ip a b": "permit ip a to b",
    "permit icmp a b echo-reply": "permit icmp/echo-reply a to b",
    "permit icmp a b log": "permit icmp a to b log",
    "permit icmp a b logging": "permit icmp a to b log",
    "permit tcp a b neq 23": "permit tcp/-22,24- a to b",
    "permit ip 10.0.0.0 /24 any": "permit ip 10.0.0.0/24 to any",
    "permit any": "permit ip any to any",
    "20 deny a": "20 deny ip a to any",
    "deny a, one to any log": "deny ip a,one to any log",
    "permit any to one": "permit ip any to one",
    "permit 10.0.0.0 0.0.0.255 any": "permit ip 10.0.0.0 wild 0.0.0.255 to any",
}
STANDARD = {
    "permit host 10.0.0.9": "permit 10.0.0.9",
    "20 discard 10.0.0.0 0.0.1.255": "20 deny 10.0.0.0 wild 0.0.1.255",
    "permit 10.0.0.0 255.255.255.0 logging": "permit 10.0.0.0 mask 255.255.255.0 log",
    "permit ip any to any": "permit any",
    "deny ip a any log": "deny a log",
    "20 permit one to any": "20 permit one",
}


@pytest.mark.parametrize(
    ("kind", "line", "form"),
    [
        *((Kind.EXTENDED, *each) for each in EXTENDED.items()),
        *((Kind.STANDARD, *each) for each in STANDARD.items()),
    ],
)
def test_another_way_of_writing_gets_its_mend(
    tmp_path: Path, kind: Kind, line: str, form: str
) -> None:
    plan = names(tmp_path)
    with pytest.raises(PlanError) as told:
        one_entry(Line("x", 1, line), plan, kind, Family.IPV4, 10)
    assert told.value.message.endswith(f"write: {form}")
    if not form.startswith("note"):
        one_entry(Line("x", 1, form), plan, kind, Family.IPV4, 10)
    # In a plan the same is told, at the line, and the line is in no list.
    path = tmp_path / "net.gate"
    path.write_text(NET + f"list l {kind} ipv4\n    {line}\n")
    with pytest.raises(PlanErrors) as errors:
        read(path)
    assert [f"write: {form}" in each.message for each in errors.value.errors] == [True]
    path.write_text(
        NET
        + f"list l {kind} ipv4\n    {put(errors.value.errors[0])}  # said why\n".replace(
            "      ", "    "
        )
    )
    assert read(path).plan.lists["l"].entries or form.startswith("note")


def put(error: PlanError) -> str:
    """Return the line of an error with what it says was meant put in."""
    assert error.instead is not None
    return (
        error.source[: error.instead.start] + error.instead.text + error.source[error.instead.end :]
    )


@pytest.mark.parametrize(
    ("line", "meant"),
    [
        ("subnat c 10.2.0.0/24", "subnet c 10.2.0.0/24"),
        (
            "host two 10.0.0.8 on A gateway 10.0.0.1  # why",
            "host two 10.0.0.8 on a gateway 10.0.0.1  # why",
        ),
        ("place 12x inbound on r.i", "place l2x inbound on r.i"),
        ("place l2x inbound on rr.i", "place l2x inbound on r.i"),
        ("place l2x inbound on r.ii", "place l2x inbound on r.i"),
        ("place l2x inbund on r.i", "place l2x inbound on r.i"),
        ("zone Europe/Lisbom", "zone Europe/Lisbon"),
        ("expect permit tcp/80,htps one to b", "expect permit tcp/80,https one to b"),
        ("expect permit tcp/90-80 one to b", "expect permit tcp/80-90 one to b"),
        ("expect permit icmp/ecko one to b", "expect permit icmp/echo one to b"),
        ("expect permit tcpp/80 one to b", "expect permit tcp/80 one to b"),
        ("expect permit webb,ping one to b", "expect permit web,ping one to b"),
        ("expect permit web onne to b", "expect permit web one to b"),
        ("subnet c 10.3.0.0 255.255.255.0", "subnet c 10.3.0.0/24"),
        ("subnet c 10.3.0.0 255.255.255.252 vlan 7", "subnet c 10.3.0.0/30 vlan 7"),
        ("subnet c 2001:db8:: ffff:ffff::", "subnet c 2001:db8::/32"),
        ("host two 10.0.0.7 in a", "host two 10.0.0.7 on a"),
        ("group some one b", "group some one , b"),
        ("window w 08:00-17:00", "window w daily 08:00-17:00"),
        ("expect deny one to b web", "expect deny web one to b"),
        ('keep deny one to b web over ipv4 "x"', 'keep deny web one to b over ipv4 "x"'),
        ("expect permit web one b", "expect permit web one to b"),
        ("expect deny web from one to b", "expect deny web one to b"),
        ("window w daily 08:00 - 17:00", "window w daily 08:00-17:00"),
        ("window w daily 8:00 to 17:00", "window w daily 8:00-17:00"),
        ("window w daily 23-5", "window w daily 23:00-05:00"),
        ("window w daily 8:30-17", "window w daily 08:30-17:00"),
        ("window w Monday 08:00-17:00", "window w mon 08:00-17:00"),
        ("window w monday-friday 08:00-17:00", "window w mon-fri 08:00-17:00"),
        ("group some one 10.1.0.9", "group some one , 10.1.0.9"),
        ("host two 10.0.0.7 a", "host two 10.0.0.7 on a"),
        ("host two 10.0.0.7/24 on a", "host two 10.0.0.7 on a"),
    ],
)
def test_what_was_likely_meant_can_be_put_in(tmp_path: Path, line: str, meant: str) -> None:
    path = tmp_path / "net.gate"
    text = NET + (
        "router r\n    interface i 10.0.0.1/24 on a\nservice web tcp/8080\nlist l2x extended "
        "ipv4\n    permit web a to b during night\n"
    )
    path.write_text(text + line + "\n")
    with pytest.raises(PlanErrors) as errors:
        read(path)
    (error,) = errors.value.errors
    assert put(error) == meant
    path.write_text(text + meant + "\n")
    read(path)


def test_a_claim_that_does_not_say_what_is_expected_is_told_both(tmp_path: Path) -> None:
    path = tmp_path / "net.gate"
    path.write_text(f"{NET}expect https one to b\n")
    with pytest.raises(PlanErrors) as errors:
        read(path)
    (error,) = errors.value.errors
    assert "write: expect permit https one to b, or the same with deny" in error.message
    assert error.instead is None


@pytest.mark.parametrize(
    ("line", "meant"),
    [
        ("interface j 10.1.0.1 255.255.255.0 on b", "interface j 10.1.0.1/24 on b"),
        ("interface j 10.1.0.1/24 b", "interface j 10.1.0.1/24 on b"),
        ("route 10.9.0.0 255.255.0.0 via 10.0.0.2", "route 10.9.0.0/16 via 10.0.0.2"),
        ("route 0.0.0.0 0.0.0.0 via 10.0.0.2", "route 0.0.0.0/0 via 10.0.0.2"),
        ("route 0.0.0.0/0 10.0.0.2", "route 0.0.0.0/0 via 10.0.0.2"),
        ("route default 10.0.0.2", "route default via 10.0.0.2"),
    ],
)
def test_what_was_likely_meant_in_a_block_can_be_put_in(
    tmp_path: Path, line: str, meant: str
) -> None:
    path = tmp_path / "net.gate"
    text = f"{NET}router r\n    interface i 10.0.0.1/24 on a\n    "
    path.write_text(f"{text}{line}\n")
    with pytest.raises(PlanErrors) as errors:
        read(path)
    (error,) = errors.value.errors
    assert put(error).strip() == meant
    path.write_text(f"{text}{meant}\n")
    read(path)


@pytest.mark.parametrize(
    "line",
    [
        "subnet c 10.3.0.0 255.0.255.0",
        "subnet c 10.3.0.0 0.0.0.255",
        "subnet c 10.3.0.0 0.0.0.0",
        "subnet c 10.3.0.0",
        "expect permit tcp/htps-90 one to b",
        "expect permit web one to qqqq",
        "expect one to b",
        "expect deny one to b qqqq",
        "expect permit web one",
        "window w daily 23-25",
        "window w daily 8am-17",
    ],
)
def test_where_it_is_not_plain_what_was_meant_nothing_is_put_in(tmp_path: Path, line: str) -> None:
    path = tmp_path / "net.gate"
    path.write_text(NET + f"service web tcp/8080\n{line}\n")
    with pytest.raises(PlanErrors) as errors:
        read(path)
    assert errors.value.errors[0].instead is None


@pytest.mark.parametrize(
    "line",
    [
        "frobnicate a to b",
        "permit nothing a to b",
        "permit https a to nowhere",
        "deny",
        "permit tcp a b neq https",
        "permit tcp a b gt https",
        "permit tcp a b lt 0",
        '"x"',
    ],
)
def test_what_is_not_plain_gets_none(tmp_path: Path, line: str) -> None:
    with pytest.raises(PlanError) as told:
        one_entry(Line("x", 1, line), names(tmp_path), Kind.EXTENDED, Family.IPV4, 10)
    assert "write:" not in told.value.message


@pytest.mark.parametrize(
    ("kind", "line", "told"),
    [
        (
            Kind.STANDARD,
            "permit https a",
            "a standard list asks for sources only, so https does not belong here; make the list extended",
        ),
        (
            Kind.STANDARD,
            "permit ip a to b",
            "a standard list asks for sources only, so ip does not belong here; make the list extended",
        ),
        (Kind.STANDARD, "permit nobody", "no name nobody; there are one, a, b"),
        (
            Kind.EXTENDED,
            "permit one",
            "one stands where a service belongs: ip for all of them, else as tcp/443; write: permit ip one to any",
        ),
        (
            Kind.EXTENDED,
            "permit nobody",
            "no service nobody; write a protocol, tcp/PORT, udp/PORT, icmp/TYPE or a service name",
        ),
    ],
)
def test_an_entry_of_the_other_kind_of_list_is_told_as_such(
    tmp_path: Path, kind: Kind, line: str, told: str
) -> None:
    with pytest.raises(PlanError) as error:
        one_entry(Line("x", 1, line), names(tmp_path), kind, Family.IPV4, 10)
    assert error.value.message == told


@given(st.data())
def test_an_entry_that_lost_its_to_is_mended_to_itself(tmp_path: Path, data: st.DataObject) -> None:
    plan = names(tmp_path)
    line = data.draw(entry_words(Family.IPV4))
    whole = one_entry(Line("x", 1, line), plan, Kind.EXTENDED, Family.IPV4, 10)
    with pytest.raises(PlanError) as told:
        one_entry(Line("x", 1, line.replace(" to ", " ", 1)), plan, Kind.EXTENDED, Family.IPV4, 10)
    _, _, form = told.value.message.partition("write: ")
    if form:
        mended = one_entry(Line("x", 1, form), plan, Kind.EXTENDED, Family.IPV4, 10)
        assert (mended.action, mended.service.terms) == (whole.action, whole.service.terms)
        assert mended.qualifiers == whole.qualifiers
        # Addresses may come in another order.
        assert {*mended.source.patterns} == {*whole.source.patterns}
        assert {*mended.destination.patterns} == {*whole.destination.patterns}


def test_a_mask_of_either_kind_is_told_as_both() -> None:
    address = parse_address("10.64.8.0")
    assert meanings(address, parse_address("255.255.252.0"))[0] == "mask"
    assert meanings(address, parse_address("0.0.3.255")) == (
        "wild",
        (
            "as a wildcard it means 10.64.8.0/22, as a netmask it means 4,194,304 addresses from "
            "0.0.0.0 on, scattered"
        ),
    )
    assert [
        meanings(address, parse_address(mask))[0]
        for mask in ("0.0.3.0", "255.255.255.255", "0.0.0.0")
    ] == ["wild", "mask", "wild"]


def test_on_may_be_left_out_where_one_subnet_has_the_address(tmp_path: Path, run: Run) -> None:
    path = tmp_path / "net.gate"
    text = (
        "subnet a 10.0.0.0/24 2001:db8:1::/64\nsubnet b 10.1.0.0/24\nswitch s\n    interface v "
        "10.0.0.1/24\n    interface w 10.1.0.1/24 at s.1\n    port 1\n"
        "host one 10.0.0.9 2001:db8:1::9 at s.1 gateway 10.0.0.1\n"
    )
    path.write_text(text)
    plan = read(path).plan
    assert (
        plan.hosts["one"].on,
        plan.devices["s"].interfaces["w"].on,
        str(plan.hosts["one"].at),
    ) == ("a", "b", "s.1")
    assert [str(each) for each in plan.hosts["one"].gateways] == ["10.0.0.1"]
    assert run("tidy").returncode == 0
    assert read(path).plan == plan
    for line, told in (
        ("host two 10.2.0.9\n", "expected on SUBNET (no subnet has 10.2.0.9) here"),
        ("subnet c 10.1.0.0/25\nhost two 10.1.0.9\n", "c"),
        ("host two 10.0.0.7 frobs\n", "frobs"),
    ):
        path.write_text(text + line)
        with pytest.raises(PlanErrors) as errors:
            read(path)
        assert told in str(errors.value)


@pytest.mark.parametrize(
    ("faulty", "entries"),
    [
        ("host ssh 10.0.0.300 on a", "list 1 standard ipv4\n    permit ssh"),
        ("service one tcp/htpss", "list l extended ipv4\n    permit one a to b"),
    ],
)
def test_what_follows_from_a_faulty_line_is_not_told_again(
    tmp_path: Path, faulty: str, entries: str
) -> None:
    path = tmp_path / "net.gate"
    path.write_text(f"{NET}{faulty}\n{entries}\n")
    with pytest.raises(PlanErrors) as errors:
        read(path)
    assert [each.place.line for each in errors.value.errors if each.place] == [5]
