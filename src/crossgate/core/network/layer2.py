"""Layer 2: the switch ports that a frame passes between two machines of one subnet.

Switches are joined port to port and never in a ring, so there is one way between any two of them. A
machine is at a port, inside a switch (an interface of a switch with ports), or hangs on the subnet
itself, where no port is known. Switches that no cable joins pass no frames to each other, not even
on one subnet.
"""

from __future__ import annotations

from crossgate.core.model.network import Direction, Interface, Point
from crossgate.core.model.plan import Plan

Ports = list[tuple[Point, Direction]]


class Wire:
    """The cables between the switches of one plan."""

    def __init__(self, plan: Plan) -> None:
        self.plan = plan
        self._down = plan.down
        self._cables: dict[str, list[tuple[Point, Point]]] = {}
        for device in plan.devices.values():
            for port in device.ports.values():
                if port.to is not None:
                    if self._is_down(port.point) or self._is_down(port.to):
                        continue
                    for near, far in ((port.point, port.to), (port.to, port.point)):
                        if (near, far) not in self._cables.setdefault(near.owner, []):
                            self._cables[near.owner].append((near, far))

    def between(
        self, start: Interface | Point | None, end: Interface | Point | None
    ) -> Ports | None:
        """Return the ports crossed from one machine to another, or None when both are at a switch
        and no cable joins the two switches.

        A port or switch that is down joins nothing. A machine is given by its port, by its
        interface, or by None when it is attached to the subnet itself.
        """
        (first, start_port), (last, end_port) = self._attachment(start), self._attachment(end)
        if any(port is not None and self._is_down(port) for port in (start_port, end_port)):
            return None
        if start_port is not None and start_port == end_port:
            return []
        entering: Ports = [(start_port, Direction.INBOUND)] if start_port else []
        leaving: Ports = [(end_port, Direction.OUTBOUND)] if end_port else []
        if first is None or last is None or first == last:
            return entering + leaving
        between = self.way(first, last)
        return None if between is None else entering + between + leaving

    def _is_down(self, port: Point) -> bool:
        """Whether a port or its switch is down."""
        return bool(self._down) and (
            port in self._down or self.plan.devices[port.owner].itself in self._down
        )

    def switch_of(self, machine: Interface | Point | None) -> str | None:
        """Return the switch that a machine is at or in; None for one attached to the subnet
        itself.
        """
        return self._attachment(machine)[0]

    def _attachment(self, machine: Interface | Point | None) -> tuple[str | None, Point | None]:
        """Return the switch that a machine is at or in, and its port there."""
        port = machine.at if isinstance(machine, Interface) else machine
        if port is not None:
            return port.owner, port
        if isinstance(machine, Interface) and self.plan.devices[machine.device].ports:
            return machine.device, None
        return None, None

    def way(self, first: str, last: str) -> Ports | None:
        """Return the ports between two switches, or None when no cables join them."""
        ways: dict[str, Ports] = {first: []}
        front = [first]
        while front:
            switch = front.pop()
            if switch == last:
                return ways[switch]
            for near, far in self._cables.get(switch, []):
                if far.owner not in ways:
                    ways[far.owner] = [
                        *ways[switch],
                        (near, Direction.OUTBOUND),
                        (far, Direction.INBOUND),
                    ]
                    front.append(far.owner)
        return None
