"""Machines of a network on this machine: each is a network namespace, in a user namespace that
needs no rights here, with a TAP device whose other end this process has. Nothing in there can be
reached from outside, nor the outside from there: no device of this machine is in a namespace. All
of it ends with the process that made it.

Source: Linux namespaces(7), user_namespaces(7), pid_namespaces(7) and tun(4).
"""

from __future__ import annotations

import contextlib
import ctypes
import fcntl
import os
import struct
from collections.abc import Iterable
from pathlib import Path
from typing import NamedTuple

from pyroute2 import IPRoute

from crossgate.core.model.address import Address, Family
from crossgate.core.model.errors import PlanError
from crossgate.core.model.ethernet import format_mac

_NEW_MOUNT, _NEW_USER, _NEW_PID, _NEW_NET = 0x00020000, 0x10000000, 0x20000000, 0x40000000
_BIND, _RECURSIVE, _PRIVATE = 0x1000, 0x4000, 0x40000
_DIE_WITH_PARENT, _KILL = 1, 9
_SET_TAP, _KEEP_TAP, _TAP, _NO_PACKET_INFO = 0x400454CA, 0x400454CB, 0x0002, 0x1000
_NO_DUPLICATE_CHECK = 0x02
"""The flag by which an IPv6 address is used at once (RFC 4862 section 5.4 is left out)."""
LINK = "eth0"
_LIBC = ctypes.CDLL(None, use_errno=True)
_LIBC.mount.argtypes = [ctypes.c_char_p] * 3 + [ctypes.c_ulong, ctypes.c_char_p]


class NoNamespaces(PlanError):
    """Namespaces cannot be made on this machine."""


def _called(result: int) -> None:
    if result:
        number = ctypes.get_errno()
        raise OSError(number, os.strerror(number))


def enter() -> None:
    """Move this process into namespaces of its own, where it has all rights and reaches nothing;
    the next child is the first process there, and all others end with it. Raises `NoNamespaces`.
    """
    user, group = os.getuid(), os.getgid()
    others = _NEW_MOUNT | _NEW_PID | _NEW_NET
    try:
        _called(_LIBC.unshare(_NEW_USER | others))
        Path("/proc/self/setgroups").write_text("deny")
        Path("/proc/self/uid_map").write_text(f"0 {user} 1")
        Path("/proc/self/gid_map").write_text(f"0 {group} 1")
    except OSError as error:
        try:
            if os.geteuid():
                raise error
            _called(_LIBC.unshare(others))
        except OSError:
            raise NoNamespaces(
                f"this system makes no namespaces for you ({error.strerror}): ask whoever runs it "
                "to allow unprivileged user namespaces, or run it as root"
            ) from None
    try:
        _called(_LIBC.mount(b"none", b"/", None, _RECURSIVE | _PRIVATE, None))
    except OSError as error:
        raise NoNamespaces(f"nothing can be mounted in a namespace: {error.strerror}") from None


def end_with_parent() -> None:
    """Have this process killed when its parent ends."""
    _called(_LIBC.prctl(_DIE_WITH_PARENT, _KILL, 0, 0, 0))


def own_processes() -> None:
    """Make /proc show only the processes of this namespace, where that is possible."""
    _LIBC.mount(b"proc", b"/proc", b"proc", 0, None)


class MachineRoute(NamedTuple):
    """Where a machine sends packets for a prefix: to a gateway, or over its link; from a given
    source where there is one. Without a prefix it is the default route.
    """

    family: Family
    prefix: str | None
    gateway: Address | None = None
    source: Address | None = None


class Settings(NamedTuple):
    """How a machine is set up: its hardware address, its addresses with prefix lengths, its routes,
    and the first and last port that its clients use.
    """

    mac: int
    addresses: tuple[tuple[Address, int], ...]
    routes: tuple[MachineRoute, ...]
    client_ports: tuple[int, int]


class Namespace(NamedTuple):
    """A machine's network: the namespace, and the TAP device for its frames, as open files."""

    network: int
    link: int


class Namespaces:
    """Makes machines, in the namespace that `enter` has moved this process into."""

    def __init__(self) -> None:
        self._home = os.open("/proc/self/ns/net", os.O_RDONLY)

    def make(self, settings: Settings) -> Namespace:
        """Make a machine. Raises `NoNamespaces`."""
        try:
            _called(_LIBC.unshare(_NEW_NET))
            network = os.open("/proc/self/ns/net", os.O_RDONLY)
            link = os.open("/dev/net/tun", os.O_RDWR | os.O_NONBLOCK)
            asked = struct.pack("16sH22x", LINK.encode(), _TAP | _NO_PACKET_INFO)
            fcntl.ioctl(link, _SET_TAP, asked)
            # It goes with its namespace, of which the system ends many at once; by itself each
            # takes the system a while.
            fcntl.ioctl(link, _KEEP_TAP, 1)
        except OSError as error:
            raise NoNamespaces(
                f"no TAP device can be made ({error}): the system needs /dev/net/tun, which users "
                "may open"
            ) from None
        try:
            self._tell_system(settings)
            self._set_up(settings)
        finally:
            _called(_LIBC.setns(self._home, _NEW_NET))
        return Namespace(network, link)

    @staticmethod
    def _tell_system(settings: Settings) -> None:
        """Make the system choose ports as the plan says, and send nothing on its own."""
        first, last = settings.client_ports
        own = f"ipv6/conf/{LINK}"
        for name, value in (
            ("ipv4/ip_local_port_range", f"{first} {last}"),
            (f"{own}/addr_gen_mode", "1"),
            (f"{own}/accept_ra", "0"),
            (f"{own}/accept_dad", "0"),
        ):
            # Where it may not be set the system says a little more.
            with contextlib.suppress(OSError):
                Path("/proc/sys/net", name).write_text(value)

    @staticmethod
    def _set_up(settings: Settings) -> None:
        with IPRoute() as system:
            loopback, link = (system.link_lookup(ifname=each)[0] for each in ("lo", LINK))
            system.link("set", index=loopback, state="up")
            system.link("set", index=link, address=format_mac(settings.mac), state="up")
            for address, length in settings.addresses:
                flags = _NO_DUPLICATE_CHECK if address.family is Family.IPV6 else 0
                system.addr("add", index=link, address=str(address), prefixlen=length, flags=flags)
            for route in settings.routes:
                wanted = {
                    "dst": route.prefix or "default",
                    "oif": link,
                    "family": 2 if route.family is Family.IPV4 else 10,
                }
                if route.gateway is not None:
                    wanted["gateway"] = str(route.gateway)
                if route.source is not None:
                    wanted["prefsrc"] = str(route.source)
                system.route("add", **wanted)

    def inside(self, machine: Namespace) -> Inside:
        """Return a context manager that puts this process into a machine's network."""
        return Inside(self._home, machine)


class Inside:
    """Puts this process into a machine's network for a while: sockets made there stay there."""

    def __init__(self, home: int, machine: Namespace) -> None:
        self._home, self._machine = home, machine

    def __enter__(self) -> None:
        _called(_LIBC.setns(self._machine.network, _NEW_NET))

    def __exit__(self, *_: object) -> None:
        _called(_LIBC.setns(self._home, _NEW_NET))


def become(machine: Namespace, hosts: Path) -> None:
    """Put this process on a machine for good, with the names of a hosts file; for a child that is
    about to run another program.
    """
    _called(_LIBC.setns(machine.network, _NEW_NET))
    _called(_LIBC.unshare(_NEW_MOUNT))
    _LIBC.mount(bytes(hosts), b"/etc/hosts", None, _BIND, None)


def hosts_text(names: Iterable[tuple[Address, str]]) -> str:
    """Return a hosts file (hosts(5)) with the addresses of names."""
    loopback = "127.0.0.1 localhost\n::1 localhost\n"
    return loopback + "".join(f"{address} {name}\n" for address, name in names)
