"""The line `leases`, and its addresses as a name."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

import pytest

from crossgate.core.model.address import Family
from crossgate.core.model.errors import PlanErrors
from crossgate.core.model.plan import Plan
from crossgate.language.forms import statement_form
from crossgate.language.syntax import STATEMENTS
from tests.conftest import Run

Read = Callable[[str], Plan]

NET = """\
subnet hall 10.64.8.0/24 2001:db8:64:8::/64
subnet office 10.64.20.0/24
outside sea
router gate
    interface hall   10.64.8.1/24 2001:db8:64:8::1/64 on hall
    interface office 10.64.20.1/24 on office
router lone
    interface office 10.64.20.2/24 on office
router edge
    interface sea 203.0.113.2/30 on sea
    interface office 10.64.20.3/24 on office
host kiosk 10.64.8.60 2001:db8:64:8::60 on hall
host server 10.64.20.10 on office
subnet island 10.64.30.0/24
gateway 10.64.20.9 on office by gate.office, lone.office
"""


def test_ranges_of_both_families_are_leases_of_each(plan_of: Read) -> None:
    plan = plan_of(
        NET + "leases 10.64.8.50-10.64.8.99, 10.64.8.128/26 ,2001:db8:64:8::100-2001:db8:64:8::1ff "
        "on hall by gate names server,198.51.100.53 time gate\n"
    )
    four, six = plan.leases
    assert (four.family, six.family) == (Family.IPV4, Family.IPV6)
    assert four[1:5] == ("hall", "gate", ("server", "198.51.100.53"), ("gate",)) == six[1:5]
    assert sum(each.size for each in four.addresses) == 50 + 64
    assert [str(each) for each in six.addresses] == ["2001:db8:64:8::100/120"]


@pytest.mark.parametrize(
    ("line", "error"),
    [
        ("leases", "expected a range of addresses"),
        ("leases hall on hall by gate", "expected a range of addresses"),
        ("leases 10.64.8.50-10.64.8.99 on hall", "expected by here"),
        ("leases 10.64.8.50-10.64.8.99 on hal by gate", "there is hall"),
        ("leases 10.64.8.50-10.64.8.99 on sea by gate", "sea is an outside"),
        ("leases 10.64.9.50-10.64.9.99 on hall by gate", "not in hall, which is 10.64.8.0/24"),
        ("leases 2001:db8:9::/64 on office by gate", "office has no IPv6 prefix"),
        ("leases 10.64.8.0-10.64.8.9 on hall by gate", "10.64.8.1 is gate.hall's own"),
        ("leases 10.64.8.200-10.64.8.255 on hall by gate", "10.64.8.255 is the broadcast address"),
        ("leases 10.64.20.8-10.64.20.9 on office by gate", "10.64.20.9 is a shared gateway's"),
        ("leases 10.64.8.50-10.64.8.99 on hall by lone", "lone has no IPv4 address on hall"),
        ("leases 10.64.8.50-10.64.8.99 on hall by serve", "there is server"),
        ("leases 2001:db8:64:8::/64 on hall by gate", "2001:db8:64:8::1 is gate.hall's own"),
        ("leases 2001:db8:64:8:1::/80 on hall by server", "server has no IPv6 address"),
        ("leases 10.64.30.50-10.64.30.99 on island by server", "server is not on island"),
        ("leases 10.64.8.50-10.64.8.99 on hall by gate names serve", "there is server"),
        ("leases 10.64.8.50-10.64.8.99 on hall by gate time 10.64", "10.64"),
        ("leases 10.64.8.50-10.64.8.99 on hall by gate time server names server", "nothing more"),
        ("group g leases of hall", "no leases line is for hall; write: leases RANGE on hall by"),
        ("group g leases of hal", "there is hall"),
    ],
)
def test_what_is_wrong_is_told_with_its_mend(plan_of: Read, line: str, error: str) -> None:
    with pytest.raises(PlanErrors) as raised:
        plan_of(f"{NET}{line}\n")
    (told,) = raised.value.errors
    assert error in told.message
    assert told.place is not None
    assert told.place.line == NET.count("\n") + 1


def test_a_leases_line_in_error_is_the_only_error(plan_of: Read) -> None:
    with pytest.raises(PlanErrors) as raised:
        plan_of(
            NET + "leases 10.64.8.50-10.64.8.99 on hall by nobody\n"
            "leases 10.64.20.50-10.64.20.99 on office by gate\ngroup g leases of hall\n"
        )
    assert len(raised.value.errors) == 1


def test_the_addresses_of_leases_stand_wherever_addresses_do(run: Run, tmp_path: Path) -> None:
    plan = tmp_path / "p.gate"
    plan.write_text(
        NET
        + """\
leases 10.64.8.56-10.64.8.63 on hall by gate
group lent leases of hall, server
list fence extended ipv4
    10 permit udp/67 0.0.0.0 to any
    20 permit tcp/22 leases of hall but kiosk to server
    30 permit tcp/23 server, leases of hall to any
place fence inbound on gate.hall
expect permit tcp/22 leases of hall but kiosk to server
expect deny tcp/22 kiosk to server
"""
    )
    verified = run("verify")
    assert verified.returncode == 0, verified.stdout
    shown = run("lists", "fence").stdout
    assert "leases of hall but kiosk" in shown
    assert "10.64.8.56/30, 10.64.8.61, 10.64.8.62/31" in shown
    assert "tcp/22-23" in run("reach", "leases of hall but kiosk", "server").stdout
    assert run("tidy").returncode == 0
    tidied = plan.read_text()
    assert "20 permit tcp/22 leases of hall but kiosk to server" in tidied
    assert run("tidy", "--check").returncode == 0
    assert run("rename", "subnet", "hall", "lobby", "--yes").returncode == 0
    assert "on lobby by gate" in plan.read_text()
    assert "leases of lobby but kiosk" in plan.read_text()
    assert "hall" not in plan.read_text().replace("gate.hall", "").replace("interface hall", "")


def test_the_form_has_the_whole_line() -> None:
    form = statement_form(STATEMENTS["leases"])
    whole = "leases 10.0.0.8/29 , 10.0.0.99 on hall by gate names server , 10.0.0.9 time gate"
    assert form.accepts(whole.split())
    assert not form.accepts(["leases", "10.0.0.8/29", "by", "gate"])
