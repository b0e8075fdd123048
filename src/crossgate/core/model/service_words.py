"""Services, ports, flags and DSCP values as people write them."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping

from crossgate.core.model import iana
from crossgate.core.model.address import Family
from crossgate.core.model.bundles import BUNDLES
from crossgate.core.model.errors import nearest
from crossgate.core.model.packet import ECHO, ICMP, MOST_PORT, icmp_of
from crossgate.core.model.plaintext import numeral
from crossgate.core.model.service import (
    WITH_PORTS,
    FlagTest,
    Ports,
    Service,
    ServiceError,
    ServiceTerm,
    join_ports,
)


def parse_service(
    text: str, family: Family, named: Callable[[str], tuple[ServiceTerm, ...] | None]
) -> Service:
    """Read one service token for lists of `family`.

    SERVICE = TERM *("," TERM), where TERM is `ip`, `ping`, PROTOCOL, PROTOCOL/PORTS,
    icmp/TYPE[/CODE], an IANA service name, or a name of the plan, for which `named` returns the
    terms that it stands for (None: unknown). A bare port after a comma continues the ports before
    it.

    Raises `ServiceError`.
    """
    terms: dict[ServiceTerm, None] = {}
    start = 0
    for part in split_service(text):
        try:
            terms.update(dict.fromkeys(_parse_term(part, family, named)))
        except ServiceError as error:
            end = start + (error.end or len(part))
            raise ServiceError(str(error), start + error.start, end, error.near) from None
        start += len(part) + 1
    return Service(text, tuple(terms))


def split_service(text: str) -> list[str]:
    """Split a token at the commas between services, not at those between ports."""
    parts: list[str] = []
    for piece in text.split(","):
        with_ports = parts and "/" in parts[-1] and not parts[-1].startswith("icmp")
        if with_ports and "/" not in piece and _reads_as_port(piece):
            parts[-1] += "," + piece
        else:
            parts.append(piece)
    return parts


def in_order(services: Iterable[str]) -> str:
    """Return services as one token, in their order, except that a bare port is not put after the
    ports of another service.
    """
    told = list(services)
    return ",".join(sorted(told, key=lambda each: "/" in each or not _reads_as_port(each)))


def _reads_as_port(piece: str) -> bool:
    return not piece or piece[0].isdigit() or piece[0] == "-" or piece in iana.services()


def _parse_term(
    text: str, family: Family, named: Callable[[str], tuple[ServiceTerm, ...] | None]
) -> tuple[ServiceTerm, ...]:
    name, slash, rest = text.partition("/")
    if slash:
        return (_parse_part(name, rest, family),)
    if name == "ip":
        return (ServiceTerm(),)
    icmp = icmp_of(family)
    if name == "ping":
        return (ServiceTerm(icmp, icmp_type=ECHO[family], icmp_code=0),)
    if name == "icmp":
        return (ServiceTerm(icmp),)
    if name in iana.protocols():
        return (ServiceTerm(iana.protocols()[name]),)
    if name.isascii() and name.isdigit():
        number = numeral(name)
        if number is None or number > 255:
            raise _no_number(name, number)
        return (ServiceTerm(number),)
    terms = named(name)
    if terms is not None:
        return terms
    if name in iana.services():
        ports, transports = iana.services()[name]
        return tuple(ServiceTerm(iana.protocols()[transport], (ports,)) for transport in transports)
    raise _no_service(name)


def _parse_part(name: str, rest: str, family: Family) -> ServiceTerm:
    """Read what follows the slash of a protocol: ports, or an ICMP message."""
    if name == "icmp":
        return _parse_icmp(rest, family, len(name) + 1)
    if name in WITH_PORTS:
        return ServiceTerm(iana.protocols()[name], parse_ports(rest, len(name) + 1))
    if rest in WITH_PORTS:
        turned = f"{rest}/{name}"
        raise ServiceError(
            f"{name}/{rest} is the other way round: write {turned}", 0, len(turned), turned
        )
    if name in iana.services():
        raise ServiceError(
            f"{name} has its ports by itself: write {name}, or tcp/{rest}",
            0,
            len(name) + 1 + len(rest),
            name,
        )
    if name in iana.protocols():
        raise ServiceError(f"{name} has no ports; {', '.join(WITH_PORTS)} have", 0, len(name))
    raise _no_service(name)


def _no_number(text: str, number: int | None) -> ServiceError:
    """Return the error for a number that is no protocol's and most likely meant as a port."""
    names = iana.names_of_port(number) if number is not None and number <= MOST_PORT else []
    known = f"; port {text} is {' or '.join(names)}" if names else ""
    near = names[0] if len(names) == 1 else ""
    return ServiceError(
        f"{text} is no protocol number: 0 to 255; a port is written tcp/{text} or udp/{text}{known}",
        0,
        len(text),
        near,
    )


def _no_service(name: str) -> ServiceError:
    if not name:
        return ServiceError("a service is missing here; there is no blank behind a comma", 0, 0)
    said = iana.SAID.get(name.lower(), "")
    ready = f"bring in the trade's: use services {name}" if name in BUNDLES else ""
    if said or ready:
        mend = (
            f" by that name; write {said}{f', or {ready}' if ready else ''}"
            if said
            else f"; {ready}"
        )
        return ServiceError(f"no service {name}{mend}", 0, len(name), said)
    if name.replace("-", "").isdigit():
        port = f"tcp/{name}"
        return ServiceError(
            f"{name} are ports of no protocol: write {port} or udp/{name}", 0, len(name), port
        )
    near = nearest(name, ["ip", "ping", *iana.protocols(), *iana.services()])
    mend = (
        f"; there is {near}"
        if near
        else "; write a protocol, tcp/PORT, udp/PORT, icmp/TYPE or a service name"
    )
    return ServiceError(f"no service {name}{mend}", 0, len(name), near)


def parse_ports(text: str, offset: int = 0) -> Ports:
    """Read PORTS: ports, IANA service names and ranges with commas, `1024-` for all up to the end
    and `-1023` for all from 0. Raises `ServiceError`; `offset` is where the text begins in its
    token.
    """
    intervals = []
    for piece in text.split(","):
        try:
            intervals.append(_parse_port_range(piece))
        except ServiceError as error:
            raise ServiceError(
                str(error),
                offset,
                offset + max(len(piece), 1),
                error.near if error.end == len(piece) else "",
            ) from None
        offset += len(piece) + 1
    return join_ports(intervals)


def _parse_port_range(piece: str) -> tuple[int, int]:
    if piece in iana.services():
        return iana.services()[piece][0]
    first_text, dash, last_text = piece.partition("-")
    if not dash:
        port = _parse_port(piece)
        return (port, port)
    first = _parse_port(first_text) if first_text else 0
    last = _parse_port(last_text) if last_text else MOST_PORT
    if not (first_text or last_text):
        raise ServiceError("a range needs a port on one side of its hyphen at least")
    if first > last:
        raise ServiceError(
            f"{piece} is upside down: write {last}-{first}", 0, len(piece), f"{last}-{first}"
        )
    return (first, last)


def _parse_port(text: str) -> int:
    if text.isascii() and text.isdigit():
        number = numeral(text)
        if number is None or number > MOST_PORT:
            raise ServiceError(f"{text} is no port: 0 to {MOST_PORT}")
        return number
    near = nearest(text, list(iana.services()))
    raise ServiceError(
        (f"{text} is no port" if text else "a port is missing here")
        + ": a number or an IANA service name"
        + (f"; there is {near}" if near else ""),
        0,
        len(text),
        near,
    )


def _parse_icmp(text: str, family: Family, offset: int) -> ServiceTerm:
    protocol = icmp_of(family)
    type_text, slash, code_text = text.partition("/")
    label = "ICMP" if protocol == ICMP else "ICMPv6"
    number = _icmp_number(type_text, iana.icmp_types(protocol), f"{label} type", offset)
    if not slash:
        return ServiceTerm(protocol, icmp_type=number)
    names = iana.icmp_codes(protocol).get(number, {})
    code = _icmp_number(
        code_text, names, f"code of {label} type {type_text}", offset + len(type_text) + 1
    )
    return ServiceTerm(protocol, icmp_type=number, icmp_code=code)


def _icmp_number(text: str, names: Mapping[str, int], what: str, offset: int) -> int:
    number = numeral(text)
    if number is not None and number <= 255:
        return number
    if text in names:
        return names[text]
    near = nearest(text, list(names))
    mend = (
        f"; there is {near}"
        if near
        else ": 0 to 255 or a name" + (f", as {next(iter(names))}" if names else "")
    )
    raise ServiceError(
        f"{text or 'nothing'} is no {what}{mend}", offset, offset + max(len(text), 1), near
    )


def parse_flags(text: str) -> FlagTest:
    """Read FLAGS: names of TCP flags with commas, with `!` before one that must not be set. Raises
    `ServiceError`.
    """
    value = care = offset = 0
    for piece in text.split(","):
        name = piece.removeprefix("!").upper()
        bit = iana.FLAGS.get(name)
        end = offset + max(len(piece), 1)
        if bit is None:
            raise ServiceError(
                f"{piece or 'nothing'} is no TCP flag: {', '.join(iana.FLAGS)}", offset, end
            )
        if care & bit and bool(value & bit) == piece.startswith("!"):
            raise ServiceError(f"{name} cannot be set and not set at once", offset, end)
        care |= bit
        value |= 0 if piece.startswith("!") else bit
        offset = end + 1
    return FlagTest(value, care)


def parse_dscp(text: str) -> int:
    """Read a DSCP value: a number from 0 to 63 or a codepoint name (RFC 2474 and after). Raises
    `ServiceError`.
    """
    number = numeral(text)
    if number is not None and number <= 63:
        return number
    value = iana.dscp_names().get(text.lower())
    if value is None:
        raise ServiceError(
            f"{text} is no DSCP value: 0 to 63 or a name as "
            f"{', '.join(list(iana.dscp_names())[8:11])}, ef"
        )
    return value
