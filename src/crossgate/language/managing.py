"""The line in a device's block that says how it is managed."""

from __future__ import annotations

import re

from crossgate.core.model.address import Address, AddressError, looks_like_address, parse_address
from crossgate.core.model.network import Device, Management
from crossgate.core.model.packet import MOST_PORT
from crossgate.language.names import Names
from crossgate.language.words import Words

NETCONF_PORT = 830
"""The port of NETCONF over SSH (RFC 6242 section 3)."""
_USER = re.compile(r"[A-Za-z0-9_][A-Za-z0-9_.@-]*\Z")


def manage(words: Words, names: Names, owner: Device) -> None:
    """Read a `manage` line."""
    words.keyword("manage")
    protocol = words.choice(("netconf",))
    if owner.management:
        words.index -= 1
        raise words.error(f"{owner.name} is managed already; a device has one line of this")
    at: Address | str | None = None
    if words.peek() not in ("port", "user", ""):
        word = words.take("an address or a host")
        if looks_like_address(word):
            try:
                at = parse_address(word)
            except AddressError as error:
                raise words.error(str(error)) from None
        else:
            at = word
            names.pending_hosts.append((words, words.index - 1, word))
    port = NETCONF_PORT
    if words.accept("port"):
        port = words.number(f"a port from 1 to {MOST_PORT}", MOST_PORT)
        if port == 0:
            raise words.error("0 is no port to connect to")
    user = ""
    if words.accept("user"):
        user = words.take("the user's name")
        if not _USER.match(user):
            raise words.error(f"{user} is no user's name: letters, digits, _, . and -")
    words.end()
    owner.management.append(Management(protocol, at, port, user, words.place))


def management_text(management: Management) -> str:
    """Return the line that says how a device is managed."""
    at = "" if management.at is None else f" {management.at}"
    port = "" if management.port == NETCONF_PORT else f" port {management.port}"
    user = f" user {management.user}" if management.user else ""
    return f"manage {management.protocol}{at}{port}{user}"


def managing_hosts(names: Names) -> None:
    """Check that the machines exist by which devices are managed."""
    for words, index, name in names.pending_hosts:
        with names.gathering():
            if name not in names.plan.hosts:
                words.index = index + 1
                raise words.unknown("host", name, list(names.plan.hosts))
