"""What the demo's story is made of: chapters of steps, each of which is a command."""

from __future__ import annotations

from importlib.util import find_spec
from typing import NamedTuple


class DemoStep(NamedTuple):
    """One command of the demo: what it shows, its words, and its expected exit status; `needs` are
    extras of the package, separated by commas.

    The short story shows the lines of its answer that contain one of the words in `tells`; it
    leaves out a step without such words.
    """

    shows: str
    words: tuple[str, ...]
    status: int = 0
    needs: str = ""
    tells: tuple[str, ...] = ()

    @property
    def left_out(self) -> str:
        """Why the step cannot run here; "" where it can."""
        extras = self.needs.split(",")
        if any(find_spec(name) is None for each in extras for name in _PACKAGES[each]):
            return f"it needs pip install 'crossgate[{self.needs}]'"
        if "rehearse" in extras:
            from crossgate.rehearsal.session import refusal

            return refusal()
        return ""


class Chapter(NamedTuple):
    """A part of the story: its title and its steps; with `stand_ins`, stand-ins of the plan's
    devices run on this machine meanwhile.
    """

    title: str
    steps: tuple[DemoStep, ...]
    stand_ins: bool = False

    @property
    def told(self) -> list[DemoStep]:
        """The steps of the short story."""
        return [each for each in self.steps if each.tells]


_PACKAGES = {
    "": (),
    "traffic": ("pcapy", "pyarrow"),
    "rehearse": ("pyroute2", "dpkt"),
    "pictures": ("matplotlib", "networkx", "jinja2"),
    "live": ("ncclient", "asyncssh", "lxml"),
}
"""The packages of each extra that a step may need."""
