"""Stand-ins of the demo's devices, asked what runs there: pulled, and held against the plan."""

from __future__ import annotations

import asyncio
import re
import socket
import threading
import time
import xml.etree.ElementTree as ElementTree
from collections.abc import Callable
from pathlib import Path
from typing import Any

import asyncssh
import pytest
from lxml import etree

from crossgate.core.model.errors import PlanError
from crossgate.language.reader import read_plan
from crossgate.live.datastore import Datastore
from crossgate.live.devices import DeviceAccess, Secret, reached, running, session
from crossgate.live.documents import DeviceError, parsed
from crossgate.live.played import reached_as_played
from crossgate.live.stand_in import DEFAULTS, StandIn, answered
from crossgate.live.state import LIBRARY, with_state
from tests.conftest import Run
from tests.documents import checked
from tests.formats.exchange.yang import MODULES
from tests.live.conftest import Play, free_ports

NC = "urn:ietf:params:xml:ns:netconf:base:1.0"
ACL = "urn:ietf:params:xml:ns:yang:ietf-access-control-list"


def edit(at: DeviceAccess, config: str) -> None:
    text = f'<config xmlns="{NC}" xmlns:nc="{NC}"><acls xmlns="{ACL}">{config}</acls></config>'
    with session(at, 20) as device, device.locked("candidate"):
        device.edit_config(target="candidate", config=text)
        device.validate("candidate")
        device.commit()


def without_ace(list_name: str, ace: str) -> str:
    return (
        f'<acl><name>{list_name}</name><aces><ace nc:operation="delete"><name>{ace}</name></ace>'
        "</aces></acl>"
    )


@pytest.mark.process
def test_what_runs_is_held_against_the_plan(run: Run, demo: Path, play: Play) -> None:
    port = str(play("--at", "mon 12:00"))
    asked = ("--stand-ins", port, "--at", "mon 12:00")
    same = run("drift", "lighthouse", "jetty", *asked)
    assert (same.returncode, same.stderr) == (0, "")
    assert "2 of 2 devices as the plan says for Mon" in same.stdout
    # What the models cannot say does not run there.
    pier = run("drift", "pier", *asked, "--json")
    (found,) = checked(pier.stdout)["devices"]
    assert (pier.returncode, found["differs"], found["asked"]) == (1, True, True)
    at = reached_as_played(read_plan(demo / "ternhaven.gate"), "lighthouse", int(port))
    edit(at, without_ace("kiosk-fence", "10.1/2"))
    differs = run("drift", "lighthouse", *asked, "--junit", "drift.xml")
    assert differs.returncode == 1
    assert "was permitted by kiosk-fence 10, inbound on lighthouse.v80" in differs.stdout
    assert "0 of 1 device as the plan says" in differs.stdout
    (case,) = ElementTree.parse(demo / "drift.xml").iter("testcase")
    failure = case.find("failure")
    assert failure is not None
    assert "tcp/8443  tickets but laptop to manifest" in (failure.text or "")


@pytest.mark.process
def test_lists_that_are_gone_or_stand_elsewhere_are_seen(run: Run, demo: Path, play: Play) -> None:
    port = str(play())
    at = reached_as_played(read_plan(demo / "ternhaven.gate"), "lighthouse", int(port))
    edit(
        at,
        '<attachment-points><interface nc:operation="delete"><interface-id>v80</interface-id>'
        "</interface></attachment-points>",
    )
    gone = run("drift", "lighthouse", "--stand-ins", port)
    assert gone.returncode == 1
    assert "was denied by kiosk-fence otherwise, inbound on lighthouse.v80" in gone.stdout


@pytest.mark.process
def test_what_runs_is_pulled_and_what_is_the_same_keeps_its_words(
    run: Run, demo: Path, play: Play
) -> None:
    port = str(play())
    plan = demo / "ternhaven.gate"
    before = plan.read_text()
    nothing = run("pull", "lighthouse", "groyne", "jetty", "--stand-ins", port, "--yes")
    assert (nothing.returncode, plan.read_text()) == (0, before)
    at = reached_as_played(read_plan(plan), "lighthouse", int(port))
    edit(at, without_ace("kiosk-fence6", "60.1/2"))
    refused = run("pull", "lighthouse", "--stand-ins", port, "--yes")
    assert (refused.returncode, plan.read_text()) == (1, before)
    assert "breaks" in refused.stdout
    done = run("pull", "lighthouse", "--stand-ins", port, "--yes", "--anyway")
    assert done.returncode == 0
    after = plan.read_text()
    assert "Kiosks sell tickets and resolve names, nothing else" in after  # another list's note
    assert re.sub(r"list kiosk-fence6 .*?\n\n", "", after, flags=re.S) == re.sub(
        r"list kiosk-fence6 .*?\n\n", "", before, flags=re.S
    )
    assert run("drift", "lighthouse", "--stand-ins", port).returncode == 0
    # Of the list that differs, just the line that does is another one.
    gone, new = (
        [line for line in one.splitlines() if line not in other.splitlines()]
        for one, other in ((before, after), (after, before))
    )
    assert [line.split()[0] for line in gone] == ["60"]
    assert len(new) == 1


@pytest.mark.process
def test_a_stand_in_runs_the_entries_whose_windows_are_open(
    run: Run, demo: Path, play: Play
) -> None:
    port = str(play("lighthouse", "--at", "mon 23:00"))
    asked = ("drift", "lighthouse", "--stand-ins", port)
    assert run(*asked, "--at", "mon 23:00").returncode == 0
    by_day = run(*asked, "--at", "mon 12:00")
    assert by_day.returncode == 1
    assert "ip  duty to cargo" in by_day.stdout


@pytest.mark.process
def test_a_stand_in_keeps_what_it_ran_and_begins_anew(run: Run, demo: Path, play: Play) -> None:
    plan = read_plan(demo / "ternhaven.gate")
    first = play()
    edit(reached_as_played(plan, "lighthouse", first), without_ace("kiosk-fence", "10.1/2"))
    kept = running(reached_as_played(plan, "lighthouse", first), 20).document
    again = play()
    assert running(reached_as_played(plan, "lighthouse", again), 20).document == kept
    fresh = running(reached_as_played(plan, "lighthouse", play("--fresh")), 20).document
    assert b"10.1/2" in fresh
    assert fresh.replace(b" ", b"") != kept.replace(b" ", b"")


@pytest.mark.process
def test_devices_that_cannot_be_asked_are_named_and_the_rest_answered(
    run: Run, demo: Path, play: Play
) -> None:
    port = play("jetty", "groyne", "--fail", "groyne=slow")
    done = run("drift", "jetty", "groyne", "pier", "--stand-ins", str(port), "--within", "1.5")
    assert done.returncode == 2
    assert "not asked  groyne: it does not answer in time" in done.stdout
    assert re.search(r"not asked  pier \(127.0.0.1 port \d+\): nobody answers there", done.stdout)
    assert "1 of 3 devices as the plan says" in done.stdout
    nothing = run("pull", "jetty", "pier", "--stand-ins", str(port), "--yes")
    assert (nothing.returncode, "nothing is changed" in nothing.stderr) == (2, True)


@pytest.mark.process
def test_who_a_device_is_and_who_asks_is_seen_first(run: Run, demo: Path, play: Play) -> None:
    port = play("jetty")
    plan = read_plan(demo / "ternhaven.gate")
    at = reached_as_played(plan, "jetty", port)
    known = demo / "known_hosts"
    unknown = at._replace(known=known, host_key=None)
    assert "is not known in" in running(unknown, 20).why
    assert not known.exists()
    assert not running(unknown, 20, accept_new=True).why
    assert not running(unknown, 20).why
    stranger = asyncssh.generate_private_key("ssh-ed25519")
    (demo / "stranger").write_bytes(stranger.export_private_key())
    (demo / "stranger").chmod(0o600)
    public = stranger.export_public_key().decode().split()
    known.write_text(f"{known.read_text().split()[0]} {public[0]} {public[1]}\n")
    changed = running(unknown, 20).why
    assert "has another host key" in changed
    assert "nothing was sent" in changed
    another = at._replace(host_key=public[1])
    assert running(another, 20).why  # nor is a session begun with it
    refused = running(at._replace(key=demo / "stranger"), 20).why
    assert refused == "jetty lets crossgate in with no key that is offered"


def test_where_a_device_is_managed(run: Run, demo: Path) -> None:
    none = run("drift")
    assert (none.returncode, "manage netconf 192.0.2.1 user ops" in none.stderr) == (2, True)
    path = demo / "ternhaven.gate"
    text = path.read_text()
    path.write_text(
        text.replace(
            "switch lighthouse\n", "switch lighthouse\n    manage netconf duty port 8300 user ops\n"
        ).replace("router pier\n", "router pier\n    manage netconf\n")
    )
    plan = read_plan(path)
    assert reached(plan, "lighthouse")[1:4] == ("10.64.20.40", 8300, "ops")
    assert reached(plan, "pier")[1:3] == ("10.64.255.3", 830)
    with pytest.raises(PlanError, match="jetty is not managed"):
        reached(plan, "jetty")
    wrong = run("stand-in", "--fail", "pier=sleepy")
    assert (wrong.returncode, "one of refuse, slow" in wrong.stderr) == (2, True)
    assert "there is pier" in run("drift", "pierr").stderr


@pytest.mark.process
def test_what_is_no_netconf_ends_the_session_and_nothing_else(demo: Path, play: Play) -> None:
    port = play("jetty")
    at = reached_as_played(read_plan(demo / "ternhaven.gate"), "jetty", port)
    begun = time.monotonic()
    with socket.create_connection(("127.0.0.1", at.port)) as line:
        line.sendall(b"GET / HTTP/1.0\r\n\r\n")
        line.settimeout(5)
        line.recv(100)
    assert not running(at, 20).why
    assert time.monotonic() - begun < 30


@pytest.mark.process
def test_a_stand_in_says_what_modules_it_has_and_what_its_lines_have_decided(
    demo: Path, play: Play
) -> None:
    at = reached_as_played(read_plan(demo / "ternhaven.gate"), "jetty", play("jetty"))
    spaces = {"l": LIBRARY, "a": ACL}
    with session(at, 20) as device:
        capabilities = list(device.server_capabilities)
        config = etree.fromstring(device.get_config("running").data_xml.encode())
        state = etree.fromstring(device.get().data_xml.encode())
        only = etree.fromstring(
            device.get(filter=("subtree", f'<acls xmlns="{ACL}"/>')).data_xml.encode()
        )
        explicit = device.get_config("running", with_defaults="explicit").data_xml
    assert etree.tostring(etree.fromstring(explicit.encode())) == etree.tostring(config)
    (library,) = state.iterfind("l:yang-library", spaces)
    content = library.findtext("l:content-id", namespaces=spaces)
    assert any(each.endswith(f"&content-id={content}") for each in capabilities)
    for module in library.iterfind("l:module-set/l:module", spaces):
        name, revision = (
            module.findtext(f"l:{each}", namespaces=spaces) for each in ("name", "revision")
        )
        (path,) = [
            each for kind in ("ietf", "iana") for each in (MODULES / kind).glob(f"{name}.yang")
        ]
        text = path.read_text(encoding="utf-8")
        assert re.search(rf'revision "?{revision}"?', text), name
        for feature in module.iterfind("l:feature", spaces):
            assert re.search(rf"feature {feature.text} ", text), feature.text
    aces = state.findall(".//a:ace", spaces)
    assert aces
    assert {
        each.findtext("a:statistics/a:matched-packets", namespaces=spaces) for each in aces
    } == {"0"}
    assert config.find(".//a:statistics", spaces) is None
    assert [each.tag for each in only] == [f"{{{ACL}}}acls"]


def test_defaults_are_told_as_they_are_set_and_not_otherwise() -> None:
    device = StandIn("jetty", Datastore(parsed(b"<data/>", "x"), lambda *_: None, lambda _: None))  # type: ignore[arg-type]
    for word, fine in (("explicit", True), ("trim", False), ("report-all", False)):
        asked = f'<get-config xmlns="{NC}"><with-defaults xmlns="{DEFAULTS}">{word}</with-defaults>'
        operation = parsed(f"{asked}</get-config>".encode(), "x")
        if fine:
            assert device.answer(operation, 1) is not None
        else:
            with pytest.raises(DeviceError, match="is not what is told of defaults here"):
                device.answer(operation, 1)


def test_the_first_ace_of_an_entry_has_its_count() -> None:
    aces = "".join(
        f"<ace><name>{each}</name></ace>"
        for each in ("10.1/2", "10.2/2 x", "20", "other", "otherwise")
    )
    acls = f'<acls xmlns="{ACL}"><acl><name>l</name><aces>{aces}</aces></acl></acls>'
    found = with_state(
        parsed(f"<data>{acls}</data>".encode(), "x"), lambda: {"l": {10: 3, None: 2}}
    )
    spaces = {"a": ACL}
    assert [
        each.findtext("a:statistics/a:matched-packets", namespaces=spaces)
        for each in found.findall(".//a:ace", spaces)
    ] == ["3", "0", "0", "0", "2"]


class Guarded(asyncssh.SSHServer):
    """Lets in who knows the password."""

    def begin_auth(self, username: str) -> bool:
        return True

    def password_auth_supported(self) -> bool:
        return True

    def validate_password(self, username: str, password: str) -> bool:
        return password == "low tide"


def served(answers: Callable[[Any], Any]) -> DeviceAccess:
    """Have somebody answer sessions over SSH on loopback, behind a password."""
    port, ready = free_ports(1), threading.Event()
    key = asyncssh.generate_private_key("ssh-ed25519")

    async def serve() -> None:
        await asyncssh.create_server(
            Guarded,
            "127.0.0.1",
            port,
            server_host_keys=[key],
            encoding=None,
            process_factory=answers,
        )
        ready.set()
        await asyncio.Event().wait()

    threading.Thread(target=lambda: asyncio.run(serve()), daemon=True).start()
    assert ready.wait(20)
    public = key.export_public_key().decode().split()[1]
    secret = Secret("low tide")
    return DeviceAccess("jetty", "127.0.0.1", port, "ops", host_key=public, password=secret)


def test_a_password_lets_in_and_is_never_shown(run: Run, demo: Path) -> None:
    store = Datastore(parsed(b"<data/>", "x"), lambda *_: None, lambda _: None)  # type: ignore[arg-type]
    device = StandIn("jetty", store)
    at = served(lambda process: answered(device, process))
    assert running(at, 20).why == ""
    assert "low tide" not in repr(at)
    wrong = running(at._replace(password=Secret("high tide")), 20).why
    assert wrong == "jetty lets ops in with neither key nor password"
    asked = run("drift", "jetty", "--ask-password")
    assert (asked.returncode, "asked for on a terminal" in asked.stderr) == (2, True)


def rpc_reply(number: bytes, inside: bytes, head: bytes = b"") -> bytes:
    return b'%b<rpc-reply xmlns="%b" message-id="%b"><data>%b</data></rpc-reply>' % (
        head,
        NC.encode(),
        number,
        inside,
    )


LAUGHS = b"".join(
    b'<!ENTITY a%d "%b">' % (each, b"&a%d;" % (each - 1) * 10) for each in range(1, 10)
)
HOSTILE = {
    "a file": (b'<!DOCTYPE r [<!ENTITY e SYSTEM "file:///etc/hostname">]>', b"<x>&e;</x>"),
    "laughs": (b'<!DOCTYPE r [<!ENTITY a0 "ha">%b]>' % LAUGHS, b"<x>&a9;</x>"),
    "depth": (b"", b"<x>" * 9_999 + b"</x>" * 9_999),
    "no end": (b"", b"<x>"),
}


@pytest.mark.parametrize("kind", HOSTILE)
def test_what_a_device_says_is_not_believed(kind: str) -> None:
    head, inside = HOSTILE[kind]

    async def answers(process: Any) -> None:
        """Answer each question with the same, in the framing of NETCONF 1.0."""
        hello = b'<hello xmlns="%b"><capabilities><capability>urn:ietf:params:netconf:base:1.0'
        process.stdout.write(
            (hello % NC.encode()) + b"</capability></capabilities>"
            b"<session-id>1</session-id></hello>]]>]]>"
        )
        heard = b""
        while octets := await process.stdin.read(1 << 16):
            heard += octets
            for number in re.findall(rb'<nc:rpc[^>]* message-id="([^"]*)"', heard):
                process.stdout.write(rpc_reply(number, inside, head) + b"]]>]]>")
                heard = b""
        process.exit(0)

    found = running(served(answers), 3)
    assert (found.document, "jetty answers what is no XML" in found.why) == (b"", True), found.why
