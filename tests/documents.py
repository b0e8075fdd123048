"""Documents that commands print, checked by their JSON Schemas."""

from __future__ import annotations

import json
from functools import cache
from pathlib import Path
from typing import Any

from jsonschema import Draft202012Validator

SCHEMAS = Path(__file__).parents[1] / "docs" / "schemas"


def checked(text: str) -> Any:
    """Return a document, or several that stand in an array, none of which has a field that its
    schema does not have.
    """
    found = json.loads(text)
    for each in found if isinstance(found, list) else [found]:
        _validator(each["schema"]).validate(each)
    return found


@cache
def _validator(name: str) -> Draft202012Validator:
    schema = json.loads((SCHEMAS / f"{name.split('/')[1]}-1.json").read_text())
    Draft202012Validator.check_schema(schema)
    for each in schema["$defs"].values():
        each["additionalProperties"] = False  # others may meet fields that come later
    return Draft202012Validator(schema)
