"""The YANG modules that documents must be valid under, from the pyang package."""

from __future__ import annotations

import json
import re
import sys
from functools import cache
from pathlib import Path
from typing import Any

from yangson import DataModel
from yangson.enumerations import ContentType

MODULES = Path(sys.prefix) / "share" / "yang" / "modules"
PATHS = tuple(str(MODULES / each) for each in ("ietf", "iana"))
IMPLEMENTED = (
    "ietf-access-control-list",
    "ietf-packet-fields",
    "ietf-interfaces",
    "iana-if-type",
    "ietf-ip",
    "ietf-routing",
    "ietf-ipv4-unicast-routing",
    "ietf-ipv6-unicast-routing",
    "ietf-system",
    "ietf-network",
    "ietf-network-topology",
    "ietf-l3-unicast-topology",
    "ietf-nat",
)
IMPORTED = (
    "ietf-inet-types",
    "ietf-yang-types",
    "ietf-ethertypes",
    "ietf-routing-types",
    "iana-crypt-hash",
    "ietf-netconf-acm",
)
SUBMODULES = {"ietf-ipv6-unicast-routing": ("ietf-ipv6-router-advertisements",)}
FEATURES = {
    "ietf-access-control-list": (
        "match-on-eth",
        "match-on-ipv4",
        "match-on-ipv6",
        "match-on-tcp",
        "match-on-udp",
        "match-on-icmp",
        "eth",
        "ipv4",
        "ipv6",
        "mixed-eth-ipv4",
        "mixed-eth-ipv6",
        "mixed-eth-ipv4-ipv6",
        "interface-stats",
        "acl-aggregate-stats",
        "interface-attachment",
    ),
    "ietf-nat": ("basic-nat44", "napt44", "dst-nat", "nptv6"),
}


def _text(name: str) -> str:
    return next(path for folder in PATHS for path in Path(folder).glob(f"{name}.yang")).read_text(
        encoding="utf-8"
    )


def _revision(name: str) -> str:
    found = re.search(r"revision\s+\"?([\d-]+)", _text(name))
    assert found
    return found.group(1)


def _module(name: str) -> dict[str, Any]:
    namespace = re.search(r'namespace\s+"([^"]+)"', _text(name))
    assert namespace
    return {
        "name": name,
        "revision": _revision(name),
        "namespace": namespace.group(1),
        "feature": list(FEATURES.get(name, ())),
        "conformance-type": "implement" if name in IMPLEMENTED else "import",
        "submodule": [
            {"name": each, "revision": _revision(each)} for each in SUBMODULES.get(name, ())
        ],
    }


@cache
def model() -> DataModel:
    names = [*IMPLEMENTED, *IMPORTED]
    library = {
        "ietf-yang-library:modules-state": {
            "module-set-id": "",
            "module": [_module(each) for each in names],
        }
    }
    return DataModel(json.dumps(library), PATHS)


def see_that_it_is_valid(text: str, operational: bool = False) -> None:
    """Raise an error of yangson's where a JSON document is not valid."""
    instance = model().from_raw(json.loads(text))
    instance.validate(ctype=ContentType.all if operational else ContentType.config)
