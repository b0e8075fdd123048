"""Whatever a document holds, it comes in or is told; never is it a fault of the program, and what
comes in can be read.
"""

from __future__ import annotations

import json
import os
import random
import time
from pathlib import Path
from typing import Any

from crossgate.core.model.entry import Action
from crossgate.core.model.errors import PlanError
from crossgate.formats.exchange.asked import ExportWanted, Given
from crossgate.formats.exchange.registry import FORMATS
from crossgate.language.draft import Draft
from crossgate.language.importing import take_in
from crossgate.language.reader import read
from tests.formats.readers.test_hostile import mutated

RULES = """\
permit in 6 from 10.64.8.21 1024-2047 to 10.0.0.0/8 80,443 setup
deny in 1 from 10.64.8.21 to 0.0.0.0/0 icmptypes 3,8-9
permit out ip from !192.0.0.0/2 to assigned frag tcpflags syn,!ack
"""
WORDS: tuple[Any, ...] = (
    "",
    None,
    -1,
    1 << 70,
    "any",
    "::",
    "0.0.0.0/0",
    "10.0.0.0/33",
    True,
    [],
    {},
    [None],
    [[]],
    {"name": "x"},
    'a"b',
    "\n",
    "é",
)


def changed(tree: Any, chance: random.Random) -> Any:
    """Change one value somewhere in a document, or take it out, or put it somewhere else."""
    places = []

    def walk(node: Any) -> None:
        for key in (
            node if isinstance(node, dict) else range(len(node)) if isinstance(node, list) else ()
        ):
            places.append((node, key))
            walk(node[key])

    walk(tree)
    node, key = chance.choice(places)
    kind = chance.random()
    if kind < 0.5:
        node[key] = json.loads(json.dumps(chance.choice(WORDS)))
    elif kind < 0.7:
        del node[key]
    else:
        other, where = chance.choice(places)
        node[key] = json.loads(
            json.dumps(other[where] if isinstance(other, dict) and where in other else "moved")
        )
    return tree


def test_mutated_documents_come_in_or_are_told(demo: Path) -> None:
    """Seeded mutations of documents; CROSSGATE_FUZZ says for how many seconds, else there are a few
    hundred.
    """
    reading = read(demo / "ternhaven.gate")
    plan = reading.plan
    whole = ExportWanted(plan, [*plan.lists.values()], plan.placements)
    acl, table = FORMATS["ietf-acl"].write(whole).text, FORMATS["csv"].write(whole).text
    xml = FORMATS["ietf-acl"].write(ExportWanted(plan, [plan.lists["110"]], xml=True)).text
    device = (demo / "gangway.json").read_text()
    links = FORMATS["ietf"].write(ExportWanted(plan, [])).text
    edge = FORMATS["ietf"].write(ExportWanted(plan, [], device="breakwater")).text
    assert isinstance(acl, str)
    assert isinstance(table, str)
    assert isinstance(xml, str)
    assert isinstance(links, str)
    assert isinstance(edge, str)
    originals = [
        ("ietf-acl", acl),
        ("ietf-acl", xml),
        ("ietf", device),
        ("ietf", links),
        ("ietf", edge),
        ("csv", table),
        ("nas-filter-rule", RULES),
    ]
    seconds = float(os.environ.get("CROSSGATE_FUZZ", "0"))
    chance, start, count = random.Random(15 if not seconds else time.time_ns()), time.monotonic(), 0
    came_in = 0
    while count < 300 or time.monotonic() - start < seconds:
        count += 1
        name, text = chance.choice(originals)
        if text.startswith("{") and chance.random() < 0.8:
            data = json.dumps(changed(json.loads(text), chance)).encode()
        else:
            data = mutated(text.encode(), chance)
        path = demo / "in.csv"
        path.write_bytes(data)
        draft = Draft(reading)
        try:
            coming = FORMATS[name].read(Given(path, data, plan, None, Action.DENY, "new"))
            take_in(draft, [coming], replace=True)
            result = draft.result()
            read(demo / "ternhaven.gate", {**reading.data, **result})
            came_in += 1
        except PlanError:
            continue
    assert came_in > count // 10
