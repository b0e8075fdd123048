"""A sheet to draw on, in pixels, y going down, and how it becomes a file: SVG, PNG or PDF by its
ending, completely or not at all.
"""

from __future__ import annotations

import io
import re
import warnings
from pathlib import Path
from typing import Any

from crossgate.core.model.errors import PlanError
from crossgate.draw.style import FONT, TEXT, Theme

ENDINGS = (".svg", ".png", ".pdf")
_DPI = 100
EXTRA = "pip install 'crossgate[pictures]'"


class Canvas:
    """A sheet to draw on; letter sizes and positions are in pixels."""

    def __init__(
        self, width: float, height: float, theme: Theme, size: tuple[int, int] | None = None
    ) -> None:
        """Make it `width` by `height` pixels; with a `size`, the drawing is scaled to fit a sheet
        of that size, and centred. Raises `PlanError` without Matplotlib.
        """
        try:
            import matplotlib
            import networkx  # noqa: F401
            from matplotlib.figure import Figure
        except ImportError as error:
            raise PlanError(
                f"pictures need the package {error.name}, which is not installed: {EXTRA}"
            ) from None
        matplotlib.rcParams.update(
            {
                "svg.fonttype": "none",
                "svg.hashsalt": "crossgate",
                "font.family": FONT,
                "hatch.linewidth": 1.4,
                "pdf.fonttype": 42,
            }
        )
        self.width, self.height, self.theme = width, height, theme
        self.scale = scale = 1.0 if size is None else min(size[0] / width, size[1] / height)
        whole = (width, height) if size is None else (size[0] / scale, size[1] / scale)
        beside, above = (whole[0] - width) / 2, (whole[1] - height) / 2
        self.unknown = ""
        """The letters that the font has not, once the sheet has become a file."""
        self.figure: Any = Figure(
            figsize=(whole[0] * scale / _DPI, whole[1] * scale / _DPI),
            dpi=_DPI,
            facecolor=theme.paper,
        )
        self.axes: Any = self.figure.add_axes((0, 0, 1, 1))
        self.axes.set_xlim(-beside, width + beside)
        self.axes.set_ylim(height + above, -above)
        self.axes.axis("off")

    def points(self, pixels: float) -> float:
        """Return a size in pixels as points, the unit of letters and lines."""
        return pixels * self.scale * 72 / _DPI

    def text(
        self,
        text: str,
        x: float,
        y: float,
        size: float = TEXT,
        color: str = "",
        strong: bool = False,
        align: str = "left",
        gid: str = "",
    ) -> None:
        """Write a text with its baseline at a position; `align` is left, center or right."""
        found = self.axes.text(
            x,
            y,
            text.replace("$", r"\$"),
            fontsize=self.points(size),
            color=color or self.theme.ink,
            fontweight="bold" if strong else "normal",
            ha=align,
            va="baseline",
            zorder=5,
        )
        if gid:
            found.set_gid(part_id(gid))

    def line(
        self,
        corners: Any,
        color: str = "",
        width: float = 1.4,
        style: str | tuple[int, tuple[float, ...]] = "-",
        gid: str = "",
        cap: str = "butt",
        above: int = 1,
    ) -> None:
        """Draw a line from corner to corner."""
        xs, ys = [each[0] for each in corners], [each[1] for each in corners]
        (found,) = self.axes.plot(
            xs,
            ys,
            color=color or self.theme.ink,
            linewidth=self.points(width),
            linestyle=style,
            solid_capstyle=cap,
            solid_joinstyle="round",
            zorder=above,
        )
        if gid:
            found.set_gid(part_id(gid))

    def box(
        self,
        x: float,
        y: float,
        width: float,
        height: float,
        fill: str,
        edge: str = "none",
        rounded: float = 0,
        hatch: str = "",
        gid: str = "",
        above: int = 2,
    ) -> None:
        """Draw a box by its left, top, width and height."""
        from matplotlib.patches import FancyBboxPatch, Rectangle

        options: dict[str, Any] = {
            "facecolor": fill,
            "edgecolor": edge,
            "linewidth": self.points(1.2),
            "hatch": hatch or None,
            "zorder": above,
        }
        if rounded:
            patch: Any = FancyBboxPatch(
                (x + rounded, y + rounded),
                width - 2 * rounded,
                height - 2 * rounded,
                boxstyle=f"round,pad={rounded}",
                **options,
            )
        else:
            patch = Rectangle((x, y), width, height, **options)
        if gid:
            patch.set_gid(part_id(gid))
        self.axes.add_patch(patch)

    def shape(
        self, corners: Any, fill: str, edge: str = "none", gid: str = "", above: int = 4
    ) -> None:
        """Draw a filled shape from corner to corner."""
        from matplotlib.patches import Polygon

        patch = Polygon(
            list(corners),
            closed=True,
            facecolor=fill,
            edgecolor=edge,
            linewidth=self.points(1),
            zorder=above,
        )
        if gid:
            patch.set_gid(part_id(gid))
        self.axes.add_patch(patch)

    def dot(
        self,
        x: float,
        y: float,
        radius: float,
        fill: str,
        edge: str = "none",
        width: float = 1.2,
        above: int = 3,
    ) -> None:
        """Draw a filled circle."""
        from matplotlib.patches import Circle

        self.axes.add_patch(
            Circle(
                (x, y),
                radius,
                facecolor=fill,
                edgecolor=edge,
                linewidth=self.points(width),
                zorder=above,
            )
        )

    def bytes(self, kind: str) -> bytes:
        """Return it as `svg`, `png` or `pdf`."""
        data = io.BytesIO()
        metadata = {"svg": {"Date": None}, "pdf": {"CreationDate": None}}.get(kind, {})
        with warnings.catch_warnings(record=True) as told:
            warnings.simplefilter("always")
            self.figure.savefig(
                data, format=kind, dpi=_DPI, facecolor=self.theme.paper, metadata=metadata
            )
        self.unknown = "".join(
            dict.fromkeys(letter for each in told if (letter := _unknown_letter(str(each.message))))
        )
        return data.getvalue()

    def svg(self) -> str:
        """Return it as an SVG element for a page."""
        text = self.bytes("svg").decode()
        return re.sub(r"^.*?(?=<svg)", "", text, count=1, flags=re.DOTALL)


def _unknown_letter(warning: str) -> str:
    """Return the character that Matplotlib's font lacks, from its warning; "" for other
    warnings.
    """
    found = re.match(r"Glyph (\d+) ", warning)
    return chr(int(found[1])) if found else ""


def part_id(name: str) -> str:
    """Return the id of a named part in an SVG: a single word."""
    return "-".join(name.split())


def kind_of_file(path: Path) -> str:
    """Return the kind of a picture file from its ending. Raises `PlanError` for an unknown one."""
    if path.suffix.lower() not in ENDINGS:
        raise PlanError(
            f"{path}: the ending says what is drawn; name a file that ends in "
            f"{', '.join(ENDINGS[:-1])} or {ENDINGS[-1]}"
        )
    return path.suffix.lower()[1:]


def size_given(text: str) -> tuple[int, int]:
    """Read WIDTHxHEIGHT in pixels. Raises `PlanError`."""
    found = re.fullmatch(r"(\d{2,5})x(\d{2,5})", text)
    if found is None:
        raise PlanError(f"--size {text}: write width and height in pixels, as 1280x800")
    return int(found[1]), int(found[2])
