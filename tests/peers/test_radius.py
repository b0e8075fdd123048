"""A real RADIUS server hands our filter rules to a client, and what arrives is the list that went
out.
"""

from __future__ import annotations

import io
import socket
import subprocess
import time
from collections.abc import Iterator
from pathlib import Path

import pytest
from pyrad.client import Client, Timeout
from pyrad.dictionary import Dictionary

from crossgate.language.reader import read_plan
from tests.conftest import Run
from tests.formats.exchange.drawn import differ
from tests.peers import program

CONFIGURATION = """\
prefix = /usr
libdir = /usr/lib/freeradius
raddbdir = {folder}
confdir = {folder}
logdir = {folder}
run_dir = {folder}
name = freeradius
log {{
    destination = stdout
}}
security {{
    allow_vulnerable_openssl = yes
}}
client here {{
    ipaddr = 127.0.0.1
    secret = tern
}}
modules {{
    files {{
        filename = {folder}/users
    }}
    pap {{
    }}
}}
server default {{
    listen {{
        type = auth
        ipaddr = 127.0.0.1
        port = {port}
    }}
    authorize {{
        files
        pap
    }}
    authenticate {{
        Auth-Type PAP {{
            pap
        }}
    }}
}}
"""
PLAN = """\
subnet hall 10.64.8.0/24 2001:db8:64:8::/64
host kiosk 10.64.8.21 2001:db8:64:8::21 on hall
list 110 extended ipv4
    10 permit tcp/80,443,8000-8099 kiosk to any
    20 permit udp/53 kiosk to 10.64.20.53
    30 permit icmp/8 kiosk to any
    40 permit tcp kiosk to 10.64.32.10 wild 0.0.3.0 established
    50 deny tcp any to any flags SYN,!ACK
list six extended ipv6
    10 permit tcp/443 kiosk to any
    otherwise permit
place 110 outbound on subnet hall
place six outbound on subnet hall
"""


def attributes(data: bytes) -> list[bytes]:
    """Return the values of RADIUS attributes."""
    found = []
    while data:
        found.append(data[2 : data[1]])
        data = data[data[1] :]
    return found


@pytest.fixture
def server(tmp_path: Path, exported: Path) -> Iterator[tuple[int, Path]]:
    """Start a server that has our rules for one terminal, and give its port and its log."""
    found = program("freeradius")
    folder = tmp_path / "raddb"
    folder.mkdir(mode=0o750)
    with socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as free:
        free.bind(("127.0.0.1", 0))
        port = free.getsockname()[1]
    (folder / "dictionary").write_text("$INCLUDE /usr/share/freeradius/dictionary\n")
    (folder / "radiusd.conf").write_text(CONFIGURATION.format(folder=folder, port=port))
    lines = ",\n".join(
        f'\tNAS-Filter-Rule += "{each}"'
        for each in (tmp_path / "rules.txt").read_text().splitlines()
    )
    (folder / "users").write_text(f'kiosk Cleartext-Password := "gull"\n{lines}\n')
    for each in folder.iterdir():
        each.chmod(0o640)
    with (tmp_path / "server.log").open("wb") as log:
        running = subprocess.Popen(
            [found, "-f", "-x", "-l", "stdout", "-d", str(folder)], stdout=log, stderr=log
        )
    try:
        yield port, tmp_path / "server.log"
    finally:
        running.kill()
        running.wait()


@pytest.fixture
def exported(run: Run, tmp_path: Path) -> Path:
    """Write the rules of the plan's two lists as attributes."""
    program("freeradius")
    (tmp_path / "plan.gate").write_text(PLAN)
    assert run("export", "nas-filter-rule", "--out", "rules.txt").returncode == 0
    assert run("export", "nas-filter-rule", "--bytes", "--out", "rules.bin").returncode == 0
    return tmp_path


@pytest.mark.process
def test_what_a_server_hands_out_is_the_list(
    run: Run, exported: Path, server: tuple[int, Path]
) -> None:
    port, log = server
    words = (
        "ATTRIBUTE User-Name 1 string\nATTRIBUTE User-Password 2 string encrypt=1\nATTRIBUTE "
        "NAS-Filter-Rule 92 octets\n"
    )
    client = Client(
        server="127.0.0.1", authport=port, secret=b"tern", dict=Dictionary(io.StringIO(words))
    )
    client.timeout, client.retries = 1, 1
    deadline = time.monotonic() + 30
    while True:
        request = client.CreateAuthPacket(code=1, User_Name="kiosk")
        request["User-Password"] = request.PwCrypt("gull")
        try:
            answer = client.SendPacket(request)
            break
        except Timeout:
            assert time.monotonic() < deadline, log.read_text()
    values = answer["NAS-Filter-Rule"]
    assert len(values) > 1
    # The server puts the rules together itself, as RFC 4849 has it.
    assert values == attributes((exported / "rules.bin").read_bytes())
    (exported / "back.bin").write_bytes(
        b"".join(bytes([92, len(each) + 2]) + each for each in values)
    )
    assert (
        run(
            "--plan",
            "plan.gate",
            "import",
            "nas-filter-rule",
            "back.bin",
            "--as",
            "back",
            "--yes",
            "--anyway",
        ).returncode
        == 0
    )
    plan = read_plan(exported / "plan.gate")
    assert differ(plan.lists["110"], plan.lists["back"]) == []
    assert differ(plan.lists["six"], plan.lists["back-6"]) == []
