"""Services where a plan has names of its own for some."""

from __future__ import annotations

from collections.abc import Callable

import pytest

from crossgate.core.model.address import Family
from crossgate.core.model.plan import Plan
from crossgate.core.model.service import ServiceError

PLAN = "service booking tcp/8443\nservice web tcp/80\n"


@pytest.mark.parametrize(
    ("text", "told", "near"),
    [
        ("bokking", "no service bokking; there is booking", "booking"),
        ("tcp,bokking", "no service bokking; there is booking", "booking"),
        ("htps", "no service htps; there is https", "https"),
        ("nothing-like-it", "no service nothing-like-it; there are booking, web", ""),
    ],
)
def test_an_unknown_service_is_told_with_what_there_is(
    plan_of: Callable[[str], Plan], text: str, told: str, near: str
) -> None:
    with pytest.raises(ServiceError) as error:
        plan_of(PLAN).service(text, Family.IPV4)
    assert (str(error.value), error.value.near) == (told, near)


def test_without_names_of_its_own_the_forms_are_told(plan_of: Callable[[str], Plan]) -> None:
    with pytest.raises(ServiceError) as error:
        plan_of("").service("nothing-like-it", Family.IPV4)
    assert str(error.value).startswith("no service nothing-like-it; write a protocol, tcp/PORT")
