"""Devices as they answer over NETCONF: where one is reached, its known identity, and what runs on
it.
"""

from __future__ import annotations

import getpass
import logging
import socket
from collections.abc import Iterator, Sequence
from concurrent.futures import ThreadPoolExecutor
from contextlib import contextmanager, suppress
from pathlib import Path
from typing import Any, NamedTuple

from crossgate.core.model.errors import PlanError
from crossgate.core.model.network import Device
from crossgate.core.model.plan import Plan
from crossgate.language.managing import NETCONF_PORT
from crossgate.live.documents import ACL, lists_of, with_lists

for _name in ("ncclient", "paramiko"):
    # What they have to say of a failure is told in our words; theirs are for who listens.
    logging.getLogger(_name).addHandler(logging.NullHandler())
REHEARSED = "CROSSGATE_REHEARSAL"
"""Tells commands that they run in a rehearsal: devices are those that are played there."""
_LOOKS_EVERY = 0.01
"""The seconds after which a session looks whether there is something to send; of itself it would
wait ten times as long, with each question.
"""
_MOST_AT_ONCE = 32
"""So many devices are asked at once."""


class Secret(str):
    """A text that does not show when the object that has it is printed."""

    __slots__ = ()

    def __repr__(self) -> str:
        """Return a text that hides the secret."""
        return "'...'"


class DeviceAccess(NamedTuple):
    """How a device is reached: an address or a name, a port and a user; the files with a key and
    with known host keys, None for the usual ones, or its `host_key` in base64; and a password, for
    the user or for the key's file.
    """

    device: str
    host: str
    port: int
    user: str
    key: Path | None = None
    known: Path | None = None
    host_key: str | None = None
    password: Secret | None = None


class RunningConfiguration(NamedTuple):
    """The configuration running on a device, as XML, or why it could not be read."""

    device: str
    document: bytes
    why: str = ""


def reached(plan: Plan, name: str, key: Path | None = None) -> DeviceAccess:
    """Return how a device of a plan is reached. Raises `PlanError` where the plan does not say that
    it is managed.
    """
    device = plan.devices[name]
    if not device.management:
        raise PlanError(
            f"{name} is not managed; say how in its block, as: manage netconf 192.0.2.1 user ops"
        )
    host, port = where_managed(plan, device)
    return DeviceAccess(name, host, port, device.management[0].user or getpass.getuser(), key)


def where_managed(plan: Plan, device: Device) -> tuple[str, int]:
    """Return the address and the port at which a device is managed: its first address and the usual
    port where the plan does not say.
    """
    at, port = None, None
    if device.management:
        at, port = device.management[0].at, device.management[0].port
    if isinstance(at, str):
        at = plan.hosts[at].addresses[0]
    if at is None:
        addresses = device.addresses()
        if not addresses:
            raise PlanError(f"{device.name} has no address; name one in its line manage netconf")
        at = addresses[0]
    return str(at), port or NETCONF_PORT


@contextmanager
def session(at: DeviceAccess, within: float, accept_new: bool = False) -> Iterator[Any]:
    """Provide a NETCONF session with a device.

    Keys come from the SSH agent, a file, or the user's own; the device must be known
    (`known_hosts`), unless a new one is to be accepted. Raises `PlanError`.
    """
    from lxml.etree import LxmlError
    from ncclient import NCClientError, manager
    from ncclient.operations.rpc import RPCError
    from ncclient.transport import session as sessions
    from ncclient.transport.errors import AuthenticationError

    sessions.TICK = _LOOKS_EVERY
    options: dict[str, Any] = {"key_filename": str(at.key)} if at.key is not None else {}
    try:
        connected = manager.connect(
            host=at.host,
            port=at.port,
            username=at.user,
            password=at.password,
            hostkey_b64=_known_key(at, within, accept_new),
            allow_agent=at.key is None,
            look_for_keys=at.key is None,
            timeout=within,
            device_params={"name": "default"},
            **options,
        )
    except AuthenticationError:
        offered = "no key that is offered" if at.password is None else "neither key nor password"
        raise PlanError(f"{at.device} lets {at.user} in with {offered}") from None
    except (NCClientError, OSError, EOFError) as error:
        raise PlanError(f"{at.device} ({at.host} port {at.port}): {_reason(error)}") from None
    try:
        connected.timeout = within
        yield connected
        with suppress(Exception):  # all that was asked has been answered
            connected.close_session()
    except RPCError as error:
        raise PlanError(f"{at.device} says no: {error.message or error.tag}") from None
    except (NCClientError, OSError, EOFError) as error:
        raise PlanError(f"{at.device}: {_reason(error)}") from None
    except LxmlError as error:
        raise PlanError(f"{at.device} answers what is no XML: {_reason(error)}") from None
    finally:
        connected._session.close()


def _reason(error: BaseException) -> str:
    """Return why a device could not be asked, in the user's words."""
    text = str(error).splitlines()[0] if str(error) else type(error).__name__
    text = text.removesuffix(" (<string>, line 1)")
    if "timed out" in text:
        return "it does not answer in time"
    return "nobody answers there" if "Could not open socket" in text else text


def _known_key(at: DeviceAccess, within: float, accept_new: bool) -> str:
    """Return the only host key to accept from a device; that of a new one is written down where
    that is allowed. Raises `PlanError`.
    """
    if at.host_key is not None:
        return at.host_key
    import paramiko

    path = at.known or Path("~/.ssh/known_hosts").expanduser()
    keys = paramiko.HostKeys()
    if path.exists():
        try:
            keys.load(str(path))
        except OSError as error:
            raise PlanError(f"{path} cannot be read: {error.strerror}") from None
    name = at.host if at.port == 22 else f"[{at.host}]:{at.port}"
    known = keys.lookup(name)
    try:
        with socket.create_connection((at.host, at.port), timeout=within) as line:
            transport = paramiko.Transport(line)
            if known:
                options = transport.get_security_options()
                mine = [each for each in options.key_types if each in known]
                options.key_types = mine or options.key_types
            transport.start_client(timeout=within)
            offered = transport.get_remote_server_key()
            transport.close()
    except (OSError, EOFError, paramiko.SSHException) as error:
        raise PlanError(f"{at.device} ({at.host} port {at.port}): {_reason(error)}") from None
    if known is not None:
        if known.get(offered.get_name()) != offered:
            raise PlanError(
                f"{at.device} ({name}) has another host key than {path} knows: whoever answers may "
                "not be the device; nothing was sent. Where it has a new key, take the old line out"
            )
        return str(offered.get_base64())
    if not accept_new:
        raise PlanError(
            f"{at.device} ({name}) is not known in {path}: its key has the fingerprint "
            f"{offered.fingerprint}; --accept-new writes it down"
        )
    path.parent.mkdir(mode=0o700, parents=True, exist_ok=True)
    with path.open("a") as file:
        file.write(f"{name} {offered.get_name()} {offered.get_base64()}\n")
    return str(offered.get_base64())


def running(
    at: DeviceAccess, within: float, accept_new: bool = False, counters: bool = False
) -> RunningConfiguration:
    """Ask a device for its running configuration, with its counters where these are wanted and
    available.
    """
    from ncclient.operations.rpc import RPCError

    try:
        with session(at, within, accept_new) as device:
            document = device.get_config("running").data_xml.encode()
            if counters:
                with suppress(RPCError):  # a device need not tell how it is, only what it runs
                    told = device.get(filter=("subtree", f'<acls xmlns="{ACL}"/>')).data_xml
                    lists = lists_of(told.encode(), at.device)
                    document = with_lists(document, lists, at.device)
            return RunningConfiguration(at.device, document)
    except PlanError as error:
        return RunningConfiguration(at.device, b"", error.message)


def answers(at: DeviceAccess, within: float) -> bool:
    """Whether a device can be reached: it accepts a connection and sends something first, as SSH
    does.
    """
    try:
        with socket.create_connection((at.host, at.port), timeout=within) as line:
            return bool(line.recv(1))
    except OSError:
        return False


def unreached(several: Sequence[DeviceAccess], within: float) -> list[str]:
    """Return which of several devices cannot be reached, trying all at once (`answers`)."""
    with ThreadPoolExecutor(_MOST_AT_ONCE) as pool:
        found = pool.map(lambda at: answers(at, within), several)
        return [at.device for at, there in zip(several, found, strict=True) if not there]


def all_running(
    several: Sequence[DeviceAccess],
    within: float,
    accept_new: bool = False,
    counters: bool = False,
) -> list[RunningConfiguration]:
    """Ask several devices at once for their running configurations, each within a number of
    seconds; return them in the same order.
    """
    with ThreadPoolExecutor(_MOST_AT_ONCE) as pool:
        return list(pool.map(lambda at: running(at, within, accept_new, counters), several))
