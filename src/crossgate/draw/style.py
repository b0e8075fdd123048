"""The look of everything that is drawn, and of the report: colours, sizes and the widths of
letters.

Colours differ in brightness as well as in hue, and never carry a meaning alone: a verdict has a
mark and a word, a family a shape. Every colour of text has a contrast of at least 4.5 to 1 on its
paper (WCAG 2.2, level AA), and every line with a meaning of 3 to 1.
"""

from __future__ import annotations

from dataclasses import dataclass

from crossgate.core.conversation.verdict import Verdict


@dataclass(frozen=True)
class Theme:
    """Colours for one paper. `quay` is a subnet's bar, `block` the body of a device, `quiet` is for
    secondary text.
    """

    paper: str
    ink: str
    quiet: str
    permit: str
    deny: str
    half_open: str
    varies: str
    quay: str
    block: str
    faint: str

    def of(self, verdict: Verdict | None) -> str:
        """Return the colour of a verdict, None for none."""
        return {
            Verdict.PERMITTED: self.permit,
            Verdict.DENIED: self.deny,
            Verdict.HALF_OPEN: self.half_open,
            Verdict.UNROUTABLE: self.quiet,
            Verdict.VARIES: self.varies,
            Verdict.SOME: self.varies,
            None: self.quiet,
        }[verdict]


LIGHT = Theme(
    "#fbfaf6",
    "#1d2733",
    "#566270",
    "#0a5c8c",
    "#a83a00",
    "#6a4196",
    "#7a5c00",
    "#858d94",
    "#dfe6ea",
    "#e6e4dc",
)
DARK = Theme(
    "#12171c",
    "#e8eaed",
    "#a4adb6",
    "#6cc0f0",
    "#ff9a5a",
    "#c9a8ee",
    "#e2c24f",
    "#77828c",
    "#26313a",
    "#242c33",
)

MARKS = {
    Verdict.PERMITTED: "+",
    Verdict.DENIED: "-",
    Verdict.HALF_OPEN: "/",
    Verdict.UNROUTABLE: "o",
    Verdict.VARIES: "v",
    Verdict.SOME: "~",
}
"""The mark of a verdict, as in the grid in text."""

FONT = "DejaVu Sans"
"""Matplotlib brings it along; a reader of SVG that has it not takes its own, narrower one."""
TEXT, SMALL = 11.0, 9.0
LEGIBLE = 5.5
"""The least size at which letters are read, in pixels."""
"""Sizes of letters in pixels."""

_WIDTHS = (
    318,
    401,
    460,
    838,
    636,
    950,
    780,
    275,
    390,
    390,
    500,
    838,
    318,
    361,
    318,
    337,
    636,
    636,
    636,
    636,
    636,
    636,
    636,
    636,
    636,
    636,
    337,
    337,
    838,
    838,
    838,
    531,
    1000,
    684,
    686,
    698,
    770,
    632,
    575,
    775,
    752,
    295,
    295,
    656,
    557,
    863,
    748,
    787,
    603,
    787,
    695,
    635,
    611,
    732,
    684,
    989,
    685,
    611,
    685,
    390,
    337,
    390,
    838,
    500,
    500,
    613,
    635,
    550,
    635,
    615,
    352,
    635,
    634,
    278,
    278,
    579,
    278,
    974,
    634,
    612,
    635,
    635,
    411,
    521,
    392,
    634,
    592,
    818,
    592,
    592,
    525,
    636,
    337,
    636,
    838,
)
"""The advance of each printable ASCII character in DejaVu Sans, in thousandths of the size, from
space on.
"""
_WIDEST = 1000


_STRONG = 1.16
"""How much wider a text is in bold letters, at most."""


def text_width(text: str, size: float, strong: bool = False) -> float:
    """Return the width of a text in pixels at a size in pixels; letters beyond ASCII count as the
    widest.
    """
    width = (
        sum(_WIDTHS[ord(each) - 32] if " " <= each <= "~" else _WIDEST for each in text)
        * size
        / 1000
    )
    return width * _STRONG if strong else width
