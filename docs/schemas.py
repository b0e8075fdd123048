"""Write a JSON Schema of each document that a command prints with --json: `make docs`; with
--check, only look.
"""

from __future__ import annotations

import json
import sys
from importlib import import_module
from pathlib import Path
from pkgutil import iter_modules
from typing import get_args, get_type_hints, is_typeddict

import msgspec

from crossgate.formats import json as documents

FOLDER = Path(__file__).with_name("schemas")


def kinds() -> dict[str, list[type]]:
    """Return the types of the documents of each schema, by its name."""
    found: dict[str, list[type]] = {}
    for module in iter_modules(documents.__path__):
        own = import_module(f"{documents.__name__}.{module.name}")
        for each in vars(own).values():
            if is_typeddict(each) and each.__module__ == own.__name__:
                for name in get_args(get_type_hints(each).get("schema")):
                    found.setdefault(name, []).append(each)
    return dict(sorted(found.items()))


def schema(name: str, several: list[type]) -> str:
    """Return the JSON Schema (draft 2020-12) of the documents of a name as text."""
    roots, parts = msgspec.json.schema_components(several, ref_template="#/$defs/{name}")
    for each in parts.values():
        if "description" in each:
            each["description"] = " ".join(each["description"].split())
    found = {
        "$schema": "https://json-schema.org/draft/2020-12/schema",
        "title": name,
        **(roots[0] if len(roots) == 1 else {"anyOf": list(roots)}),
        "$defs": parts,
    }
    return json.dumps(found, indent=1).replace('Document"', '"') + "\n"


def written() -> dict[Path, str]:
    """Return the files of all schemas, and what each is to have."""
    return {
        FOLDER / f"{name.split('/')[1]}-1.json": schema(name, own) for name, own in kinds().items()
    }


def main() -> None:
    """Write the schemas, or exit with status 1 where one is not what it is to be."""
    files = written()
    old = [path for path, text in files.items() if not path.is_file() or path.read_text() != text]
    old += [path for path in FOLDER.glob("*") if path not in files]
    if sys.argv[1:] == ["--check"] and old:
        sys.exit(f"make docs: {', '.join(each.name for each in old)}")
    FOLDER.mkdir(exist_ok=True)
    for path in old:
        if path in files:
            path.write_text(files[path])
        else:
            path.unlink()


if __name__ == "__main__":
    main()
