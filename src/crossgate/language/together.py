"""Several edits as one: each is made on the plan as the one before leaves it, and together they are
one change, with one preview, made completely or not at all.
"""

from __future__ import annotations

from collections.abc import Sequence
from typing import NamedTuple

from crossgate.core.model.errors import PlanError, PlanErrors
from crossgate.language.change import Change
from crossgate.language.draft import Draft


class AskedChange(NamedTuple):
    """A change, and where it was asked for: a line of a file, shown in errors."""

    where: str
    change: Change


def together(asked: Sequence[AskedChange]) -> Change:
    """Return some changes as one.

    The next change may undo what one of them does, so a `keep` need not hold in between; but the
    plan must have no errors in between, since the next change is read against it. Raises
    `PlanError`, with the place of the change that cannot be made.
    """

    def change(draft: Draft) -> str:
        reading, said = draft.reading, list[str]()
        for each in asked:
            step = Draft(reading)
            try:
                said.append(each.change(step))
                new = step.result()
                reading = reading.changed(new) if new else reading
            except PlanErrors as errors:
                raise PlanError(
                    f"{each.where}: the plan would have errors after this edit: "
                    f"{errors.errors[0].message}"
                ) from None
            except PlanError as error:
                raise PlanError(f"{each.where}: {error.message}") from None
            draft.remarks += step.remarks
        for file, data in reading.data.items():
            if data != draft.data[file]:
                draft.put(file, data)
        return "; ".join(said)

    return change
