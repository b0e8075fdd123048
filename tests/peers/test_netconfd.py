"""A NETCONF server that is not ours: what a device runs is looked at, made what the plan says, and
taken back, as with our own stand-ins.

Two things about `netconfd` 2.13, which the tests go by. Its YANG 1.0 knows no expressions behind
`if-feature`, and it misreads the `when` statements of RFC 8519, so that both are taken out of the
module that it loads. And a candidate that it was asked to `validate` is forgotten: the commit
behind it changes nothing, with a lock or without one. An edit that is tested as it is made is not.
"""

from __future__ import annotations

import asyncio
import io
import optparse
import shutil
import subprocess
import tempfile
import threading
import time
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import asyncssh
import pytest
from pyang.context import Context
from pyang.repository import FileRepository
from pyang.statements import Statement
from pyang.translators.yang import emit_yang

from crossgate import library
from crossgate.core.model.errors import PlanError
from crossgate.language.reader import read_plan
from crossgate.live.devices import DeviceAccess, running, session
from crossgate.live.documents import ACL, NETCONF, lists_of, name_of, parsed, written
from crossgate.live.pushing import PushStep, Stage, push_step, take_back
from tests.conftest import Run
from tests.formats.exchange.yang import MODULES
from tests.live.conftest import free_ports
from tests.live.test_push import CLAIMS, NETWORK, lists
from tests.peers import program

USER = "root"


def plain(module: Path) -> str:
    """Return a module without what the server does not know."""
    context: Any = Context(FileRepository(str(module.parent)))
    context.opts = optparse.Values(
        {
            "yang_canonical": False,
            "yang_remove_unused_imports": False,
            "yang_remove_comments": True,
            "yang_line_length": None,
        }
    )

    def less(statement: Statement) -> None:
        statement.substmts = [
            each for each in statement.substmts if each.keyword not in ("if-feature", "when")
        ]
        for each in statement.substmts:
            less(each)

    found = context.add_module(module.name, module.read_text(encoding="utf-8"))
    less(found)
    text = io.StringIO()
    emit_yang(context, found, text)
    return text.getvalue()


class Front(asyncssh.SSHServer):
    """Lets in who has a key, as an SSH server does before the subsystem."""

    def begin_auth(self, username: str) -> bool:
        return True

    def public_key_auth_supported(self) -> bool:
        return True

    def validate_public_key(self, username: str, key: asyncssh.SSHKey) -> bool:
        return True


async def serve(port: int, inside: Path, ready: threading.Event) -> None:
    """Hand sessions at a port to the server's own subsystem."""

    async def subsystem(process: Any) -> None:
        assert process.subsystem == "netconf"
        own = await asyncio.create_subprocess_exec(
            program("netconf-subsystem"),
            f"--ncxserver-sockname=830@{inside}",
            stdin=asyncio.subprocess.PIPE,
            stdout=asyncio.subprocess.PIPE,
            env={"SSH_CONNECTION": "127.0.0.1 40000 127.0.0.1 830", "USER": USER},
        )
        assert own.stdin is not None
        assert own.stdout is not None

        async def hand_on(source: Any, target: Any) -> None:
            while octets := await source.read(1 << 16):
                target.write(octets)
            target.close()

        await asyncio.gather(hand_on(process.stdin, own.stdin), hand_on(own.stdout, process.stdout))
        process.exit(await own.wait())

    await asyncssh.create_server(
        Front,
        "127.0.0.1",
        port,
        server_host_keys=[asyncssh.generate_private_key("ssh-ed25519")],
        process_factory=subsystem,
        encoding=None,
    )
    ready.set()
    await asyncio.Event().wait()


@pytest.fixture
def device(monkeypatch: pytest.MonkeyPatch) -> Iterator[DeviceAccess]:
    """Start the server with the modules that our documents have; give where it is reached."""
    command = program("netconfd")
    folder = Path(tempfile.mkdtemp(prefix="gate-"))  # the path of a socket may not be long
    for name in ("ietf-access-control-list", "ietf-packet-fields", "ietf-ethertypes"):
        (folder / f"{name}.yang").write_text(plain(MODULES / "ietf" / f"{name}.yang"))
    monkeypatch.setenv("HOME", str(folder))
    key = folder / "key"
    key.write_bytes(asyncssh.generate_private_key("ssh-ed25519").export_private_key())
    key.chmod(0o600)
    inside, port = folder / "ncx.sock", free_ports(1)
    modules = ("iana-if-type", "ietf-interfaces", "ietf-ip", "ietf-access-control-list")
    server = subprocess.Popen(
        [
            command,
            "--no-startup",
            f"--superuser={USER}",
            "--target=candidate",
            f"--ncxserver-sockname={inside}",
            f"--modpath={folder}:/usr/share/yuma/modules",
            f"--log={folder / 'log'}",
            *(f"--module={each}" for each in modules),
        ],
        cwd=folder,
        stdout=subprocess.DEVNULL,
        stderr=subprocess.DEVNULL,
    )
    ready = threading.Event()
    threading.Thread(
        target=lambda: asyncio.run(serve(port, inside, ready)), name="front", daemon=True
    ).start()
    deadline = time.monotonic() + 30
    while not (ready.is_set() and inside.exists()):
        assert server.poll() is None, (folder / "log").read_text()
        assert time.monotonic() < deadline
        time.sleep(0.05)
    yield DeviceAccess("a", "127.0.0.1", port, USER, key)
    server.kill()
    server.wait()
    shutil.rmtree(folder)


def plan_at(folder: Path, port: int, own: str) -> Path:
    """Write a plan whose first device is the server."""
    managed = f"router a\n    manage netconf 127.0.0.1 port {port} user {USER}\n"
    path = folder / "site.gate"
    path.write_text(NETWORK.replace("router a\n", managed) + own + CLAIMS)
    return path


def set_up(at: DeviceAccess, plan: Path) -> None:
    """Let the server run what a plan says of the device."""
    document = library.export(read_plan(plan), "ietf", on="a", xml=True).text
    assert isinstance(document, str)
    with session(at, 20, accept_new=True) as own:
        for each in parsed(document.encode(), "a document"):
            if name_of(each) in ("interfaces", "acls"):
                config = f'<config xmlns="{NETCONF}">{written(each).decode()}</config>'
                own.edit_config(target="candidate", config=config)
        own.commit()


@pytest.mark.process
def test_a_server_is_pushed_to_and_pulled_from(
    run: Run, tmp_path: Path, device: DeviceAccess
) -> None:
    plan = plan_at(tmp_path, device.port, lists("tcp/23", "", ""))
    before = plan.read_text()
    set_up(device, plan)
    assert device.key is not None
    asked = ("a", "--key", str(device.key))
    assert run("drift", *asked).returncode == 0
    assert (run("pull", *asked, "--yes").returncode, plan.read_text()) == (0, before)
    after = plan_at(tmp_path, device.port, lists("udp/9 tcp/23", "", "")).read_text()
    differs = run("drift", *asked)
    assert (differs.returncode, "is  permitted by on-a otherwise" in differs.stdout) == (1, True)
    pushed = run("push", *asked, "--yes", "--confirm-within", "20")
    assert (pushed.returncode, "a  runs what the plan says" in pushed.stdout) == (0, True), pushed
    assert run("drift", *asked).returncode == 0
    plan.write_text(before)
    assert run("pull", *asked, "--yes").returncode == 0
    assert [line.split("deny ")[1] for line in plan.read_text().splitlines() if "deny u" in line]
    plan.write_text(after)
    assert run("drift", *asked).returncode == 0


@pytest.mark.process
def test_what_a_server_is_not_confirmed_it_takes_back(tmp_path: Path, device: DeviceAccess) -> None:
    set_up(device, plan_at(tmp_path, device.port, lists("tcp/23", "", "")))
    old = lists_of(running(device, 60).document, "a")
    other = plan_at(tmp_path, device.port, lists("udp/9", "", ""))
    document = library.export(read_plan(other), "ietf", on="a", xml=True).text
    assert isinstance(document, str)
    stages = list[Stage]()
    step = PushStep("a", old, lists_of(document.encode(), "a"))
    with pytest.raises(PlanError, match="does not run what was sent: of no use"):
        push_step(step, device, 20, 5, stages.append, lambda _: "of no use")
    assert stages == [Stage.COMMITTING]
    assert lists_of(running(device, 60).document, "a") != old
    time.sleep(6)
    assert lists_of(running(device, 60).document, "a") == old
    # Or as soon as it is told to.
    with pytest.raises(PlanError):
        push_step(step, device, 20, 600, stages.append, lambda _: "of no use")
    step.stage = Stage.COMMITTING
    assert take_back(step, device, 20, 600) == ""
    assert lists_of(running(device, 60).document, "a") == old


@pytest.mark.process
def test_what_a_server_validates_it_forgets(tmp_path: Path, device: DeviceAccess) -> None:
    set_up(device, plan_at(tmp_path, device.port, lists("tcp/23", "", "")))
    before = running(device, 60).document
    acl = "<acl><name>another</name><type>ipv4-acl-type</type></acl>"
    config = f'<config xmlns="{NETCONF}"><acls xmlns="{ACL}">{acl}</acls></config>'
    with session(device, 60) as own:
        own.edit_config(target="candidate", config=config)
        own.validate("candidate")
        own.commit()
    assert running(device, 60).document == before
    with session(device, 60) as own:
        own.edit_config(target="candidate", config=config, test_option="test-then-set")
        own.commit()
    assert b"<name>another</name>" in running(device, 60).document
