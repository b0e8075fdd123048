"""Documents are valid under yanglint, of libyang, as they are under yangson."""

from __future__ import annotations

import json
import subprocess
from pathlib import Path
from typing import Any

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from crossgate.core.model.address import Family
from tests.conftest import Run
from tests.formats.exchange.drawn import RFC8519, lists, out_and_in
from tests.formats.exchange.yang import MODULES
from tests.peers import program

IMPLEMENTED = (
    "ietf-access-control-list",
    "ietf-ip",
    "ietf-ipv4-unicast-routing",
    "ietf-ipv6-unicast-routing",
    "ietf-system",
    "ietf-l3-unicast-topology",
    "iana-if-type",
    "ietf-nat",
)


def lint(data: Path, kind: str = "config") -> None:
    """Raise an error where a document is not valid."""
    schemas = [str(next(MODULES.glob(f"i*/{name}.yang"))) for name in IMPLEMENTED]
    command = [
        program("yanglint"),
        "-p",
        str(MODULES / "ietf"),
        "-p",
        str(MODULES / "iana"),
        "-t",
        kind,
        "-F",
        "ietf-access-control-list:*",
        "-F",
        "ietf-nat:*",
    ]
    done = subprocess.run(
        [*command, *schemas, str(data)], capture_output=True, text=True, check=False
    )
    assert (done.returncode, done.stderr) == (0, ""), done.stderr


@pytest.mark.process
def test_the_demo_is_valid(run: Run, demo: Path) -> None:
    program("yanglint")
    for device in ("breakwater", "lighthouse", "pier", "jetty"):
        run("export", "ietf", "--on", device, "--approximate", "--out", "out.json")
        lint(demo / "out.json")
    run("export", "ietf", "--out", "out.json")
    lint(demo / "out.json")
    run("export", "ietf-acl", "--approximate", "--tally", "--out", "out.json")
    lint(demo / "out.json", "get")
    lint(demo / "gangway.json")
    run("export", "ietf-acl", "--approximate", "--out", "out.xml")
    inner = (demo / "out.xml").read_text().split("\n", 1)[1].rpartition("</config>")[0]
    (demo / "inner.xml").write_text(inner)
    lint(demo / "inner.xml")


@pytest.mark.process
def test_a_hundred_drawn_lists_are_valid(tmp_path: Path) -> None:
    program("yanglint")
    acls: list[dict[str, Any]] = []

    @settings(max_examples=100, database=None)
    @given(data=st.data(), family=st.sampled_from(Family))
    def collect(data: st.DataObject, family: Family) -> None:
        _, _, text = out_and_in(tmp_path, data.draw(lists(family, RFC8519)), "ietf-acl")
        (own,) = json.loads(text)["ietf-access-control-list:acls"]["acl"]
        acls.append(own | {"name": f"drawn-{len(acls)}"})

    collect()
    assert len(acls) >= 100
    (tmp_path / "all.json").write_text(json.dumps({"ietf-access-control-list:acls": {"acl": acls}}))
    lint(tmp_path / "all.json")
