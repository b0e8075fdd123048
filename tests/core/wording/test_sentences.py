"""Sentences about windows and last days."""

from __future__ import annotations

from datetime import date

import pytest

from crossgate.core.model.window import until_name
from crossgate.core.wording.sentences import while_open

MARCH, MAY = (until_name(date(2027, month, 31)) for month in (3, 5))
IN_MARCH = until_name(date(2027, 3, 31), "night")


@pytest.mark.parametrize(
    ("opened", "shut", "told"),
    [
        ((), (), "while no window is open"),
        (("night",), (), "while night is open"),
        (("night", "day"), (), "while night, day are open"),
        ((), ("night",), "while no window is open"),
        ((MARCH, MAY), (), "until 2027-03-31"),
        ((), (MARCH, MAY), "after 2027-05-31"),
        ((MAY,), (MARCH,), "after 2027-03-31, until 2027-05-31"),
        ((MAY,), ("night",), "while no window is open, until 2027-05-31"),
        ((), (MARCH, "night"), "while no window is open, after 2027-03-31"),
        ((IN_MARCH,), (), "while night is open, until 2027-03-31"),
    ],
)
def test_when_it_is_so(opened: tuple[str, ...], shut: tuple[str, ...], told: str) -> None:
    assert while_open(opened, shut) == told
