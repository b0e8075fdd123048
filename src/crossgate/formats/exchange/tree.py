"""Documents described by YANG modules, as JSON (RFC 7951) and as XML (RFC 7950), read and written
without loading the modules.

A tree is what `json` makes of the JSON form: a dict for a container, a list of dicts for a list,
and names with their module wherever that changes (`ietf-interfaces:interfaces`). Reading XML gives
the same, with all values as text and every name as a list, since only a module says what may occur
just once; `Node` reads both.
"""

from __future__ import annotations

import json
from collections import Counter
from collections.abc import Iterator, Mapping, Sequence
from pathlib import Path
from typing import Any, NamedTuple, TypeAlias

from crossgate.core.model.errors import PlanError
from crossgate.formats.bounds import MOST_DEPTH, see_depth

Tree: TypeAlias = "Mapping[str, Any]"

NAMESPACES = {
    "iana-if-type": "urn:ietf:params:xml:ns:yang:iana-if-type",
    "ietf-access-control-list": "urn:ietf:params:xml:ns:yang:ietf-access-control-list",
    "ietf-interfaces": "urn:ietf:params:xml:ns:yang:ietf-interfaces",
    "ietf-ip": "urn:ietf:params:xml:ns:yang:ietf-ip",
    "ietf-ipv4-unicast-routing": "urn:ietf:params:xml:ns:yang:ietf-ipv4-unicast-routing",
    "ietf-ipv6-unicast-routing": "urn:ietf:params:xml:ns:yang:ietf-ipv6-unicast-routing",
    "ietf-l3-unicast-topology": "urn:ietf:params:xml:ns:yang:ietf-l3-unicast-topology",
    "ietf-nat": "urn:ietf:params:xml:ns:yang:ietf-nat",
    "ietf-network": "urn:ietf:params:xml:ns:yang:ietf-network",
    "ietf-network-topology": "urn:ietf:params:xml:ns:yang:ietf-network-topology",
    "ietf-routing": "urn:ietf:params:xml:ns:yang:ietf-routing",
    "ietf-system": "urn:ietf:params:xml:ns:yang:ietf-system",
}
"""The XML namespace of each module, as the IANA registry "YANG Module Names" has them."""
MODULES = {space: module for module, space in NAMESPACES.items()}
"""The module of each XML namespace."""
_WRAPPING = "urn:ietf:params:xml:ns:netconf:base:1.0"
"""NETCONF's own namespace (RFC 6241): a `config`, `data` or `rpc-reply` around what modules
describe.
"""
_WRAPPING_JSON = (
    "ietf-restconf:data",
    "ietf-yang-instance-data:instance-data-set",
    "content-data",
)
"""Members around what modules describe: the data resource of RESTCONF (RFC 8040 section 3.3), and
instance data in a file (RFC 9195).
"""
_INSTANCE = "urn:ietf:params:xml:ns:yang:ietf-yang-instance-data"
_MOST_DIGITS = 20
"""No number of a module has more."""


class Identity(NamedTuple):
    """A value that is the name of an identity in a module."""

    module: str
    name: str

    def __str__(self) -> str:
        return f"{self.module}:{self.name}"


def json_of(tree: Tree) -> str:
    """Write a tree as RFC 7951 JSON."""
    return json.dumps(_plain(tree), indent=2, ensure_ascii=False) + "\n"


def _plain(value: Any) -> Any:
    if isinstance(value, Identity):
        return str(value)
    if isinstance(value, Mapping):
        return {name: _plain(each) for name, each in value.items()}
    return [_plain(each) for each in value] if isinstance(value, list) else value


def xml_of(tree: Tree) -> str:
    """Write a tree as RFC 7950 XML, in NETCONF's `config` element (RFC 6241)."""
    etree = _etree()
    root = etree.Element(f"{{{_WRAPPING}}}config", nsmap={None: _WRAPPING})
    _write(root, tree, "")
    text: str = etree.tostring(root, encoding="unicode", pretty_print=True)
    return text


def _etree() -> Any:
    """Return lxml's module. Raises `PlanError` where it is not installed."""
    try:
        from lxml import etree
    except ImportError:
        raise PlanError(
            "XML needs the package lxml, which is not installed: pip install 'crossgate[formats]'"
        ) from None
    return etree


def _write(parent: Any, tree: Tree, module: str) -> None:
    etree = _etree()
    for name, value in tree.items():
        own, _, local = name.rpartition(":")
        own = own or module
        for each in value if isinstance(value, list) and value != [None] else [value]:
            spaces: dict[str | None, str] = {} if own == module else {None: NAMESPACES[own]}
            if isinstance(each, Identity) and each.module != own:
                spaces[each.module] = NAMESPACES[each.module]
            element = etree.SubElement(parent, f"{{{NAMESPACES[own]}}}{local}", nsmap=spaces)
            if isinstance(each, Mapping):
                _write(element, each, own)
            elif each != [None]:
                bare = isinstance(each, Identity) and each.module == own
                element.text = (
                    str(each).lower()
                    if isinstance(each, bool)
                    else each.name
                    if bare
                    else str(each)
                )


def read_tree(path: Path, data: bytes) -> Node:
    """Read a document, JSON or XML by its first character. Raises `PlanError`."""
    start = data.removeprefix(b"\xef\xbb\xbf").lstrip()[:1]
    if start == b"<":
        return Node(str(path), "", _read_xml(path, data))
    if start == b"{":
        return Node(str(path), "", _read_json(path, data))
    raise PlanError(
        f"{path} is neither JSON (RFC 7951), which begins with a brace, nor XML, which begins "
        "with <"
    )


def _read_json(path: Path, data: bytes) -> Tree:
    def member(pairs: list[tuple[str, Any]]) -> dict[str, Any]:
        found = dict(pairs)
        operations = [
            each.get("ietf-netconf:operation")
            for name, each in pairs
            if name.startswith("@") and isinstance(each, dict)
        ]
        if any(each not in (None, "merge", "create", "replace") for each in operations):
            raise PlanError(
                f"{path} has an ietf-netconf:operation (RFC 7952); a document is read as what is "
                "there, so take out what is not"
            )
        if len(found) < len(pairs):
            twice = next(
                name for name, times in Counter(name for name, _ in pairs).items() if times > 1
            )
            raise PlanError(
                f"{path} has {twice} twice in one object; which of the two holds is not told"
            )
        return found

    try:
        found = json.loads(data.decode("utf-8-sig"), object_pairs_hook=member)
    except UnicodeDecodeError as error:
        raise PlanError(f"{path} is not UTF-8, at octet {error.start}") from None
    except json.JSONDecodeError as error:
        raise PlanError(
            f"{path}, line {error.lineno}, column {error.colno}: this is no JSON: {error.msg}"
        ) from None
    except RecursionError:
        raise PlanError(f"{path} is nested deeper than {MOST_DEPTH} levels") from None
    except ValueError as error:  # a number of thousands of digits
        raise PlanError(f"{path}: {error}") from None
    assert isinstance(found, dict)
    see_depth(found, str(path))
    for wrapping in _WRAPPING_JSON:
        inner = found.get(wrapping)
        if isinstance(inner, dict):
            found = inner
    return found


def xml_root(data: bytes, what: str) -> Any:
    """Read XML from elsewhere: without entities, document types or other files. Raises
    `PlanError`.
    """
    etree = _etree()
    parser = etree.XMLParser(
        resolve_entities=False,
        no_network=True,
        load_dtd=False,
        remove_comments=True,
        remove_pis=True,
        remove_blank_text=True,
        huge_tree=False,
    )
    try:
        root = etree.fromstring(data, parser)
    except etree.XMLSyntaxError as error:
        raise PlanError(f"{what}: this is no XML: {error.msg}") from None
    if root.getroottree().docinfo.doctype:
        raise PlanError(
            f"{what} has a document type, which may draw in other files; take the <!DOCTYPE ...> "
            "out"
        )
    return root


def _read_xml(path: Path, data: bytes) -> Tree:
    etree, root = _etree(), xml_root(data, str(path))
    while (
        etree.QName(root).namespace == _WRAPPING
        and len(root) == 1
        and etree.QName(root[0]).namespace == _WRAPPING
    ):
        root = root[0]
    if etree.QName(root) == etree.QName(_WRAPPING, "edit-config"):
        root = next((each for each in root if etree.QName(each).localname == "config"), root)
    if etree.QName(root) == etree.QName(_INSTANCE, "instance-data-set"):
        root = next((each for each in root if etree.QName(each).localname == "content-data"), root)
    parts = (
        root
        if etree.QName(root).namespace == _WRAPPING
        or etree.QName(root).localname in ("config", "data", "content-data")
        else [root]
    )
    return _of_elements(path, parts, "", 0)


def _of_elements(path: Path, elements: Any, module: str, depth: int) -> dict[str, Any]:
    etree = _etree()
    if depth > MOST_DEPTH:
        raise PlanError(f"{path} is nested deeper than {MOST_DEPTH} levels")
    found: dict[str, list[Any]] = {}
    for element in elements:
        name = etree.QName(element)
        if element.get(f"{{{_WRAPPING}}}operation") not in (None, "merge", "create", "replace"):
            raise PlanError(
                f"{path}: {name.localname} has an nc:operation (RFC 6241); a document is read as "
                "what is there, so take out what is not"
            )
        own = MODULES.get(name.namespace or "", name.namespace or "")
        value = (
            _of_elements(path, element, own, depth + 1)
            if len(element)
            else (element.text or "").strip()
        )
        if isinstance(value, str) and ":" in value and value.partition(":")[0] in element.nsmap:
            prefix, _, rest = value.partition(":")
            space = element.nsmap[prefix]
            value = f"{MODULES.get(space, space)}:{rest}"
        found.setdefault(name.localname if own == module else f"{own}:{name.localname}", []).append(
            value
        )
    return found


class Node:
    """A place in a document: reads what is below it, knows its path, and keeps what was never asked
    for.
    """

    __slots__ = ("_asked", "_value", "file", "path")

    def __init__(self, file: str, path: str, value: Any) -> None:
        self.file, self.path, self._value = file, path, value
        self._asked: set[str] = set()

    def error(self, message: str) -> PlanError:
        """Return an error with the path of this place."""
        return PlanError(f"{self.file}: {self.path or '/'}: {message}")

    @property
    def _members(self) -> dict[str, Any]:
        if isinstance(self._value, dict):
            return self._value
        if self._value in ("", None, [None]):
            return {}
        raise self.error(
            f"{_short(self._value)} stands where something with names below it belongs"
        )

    def __contains__(self, name: str) -> bool:
        return name in self._members

    def _once(self, name: str) -> Any:
        """Return what may occur here once, None where it does not. Raises `PlanError` where it
        occurs several times.
        """
        self._asked.add(name)
        value = self._members.get(name)
        if isinstance(value, list) and value != [None]:
            if len(value) != 1:
                raise self.error(
                    f"{name} stands here {len(value)} times; once is what its module has"
                )
            return value[0]
        return "" if value is None and name in self._members else value

    def get(self, name: str) -> Node | None:
        """Return the node that may occur here once, None where it does not. Raises `PlanError`
        where it occurs several times.
        """
        value = self._once(name)
        # A container without anything below it says nothing (RFC 7950 section 7.5.1).
        return (
            None
            if value in (None, "", {}, [None])
            else Node(self.file, f"{self.path}/{name}", value)
        )

    def list(self, name: str, key: str) -> Sequence[Node]:
        """Return the nodes of a list, each identified by its leaf `key`. Raises `PlanError` where
        two have the same key.
        """
        self._asked.add(name)
        value = self._members.get(name)
        if value is None:
            return ()
        if not isinstance(value, list):
            raise self.error(f"{name} is a list in its module: an array in JSON")
        nodes: dict[str, Node] = {}
        for each in value:
            node = Node(self.file, f"{self.path}/{name}", each)
            own = node.text(key)
            if own in nodes:
                raise self.error(f"there are two {name} with the {key} {own}")
            node.path += f"[{own}]"
            nodes[own] = node
        return [*nodes.values()]

    def values(self, name: str) -> Sequence[str]:
        """Return the values of a leaf that may occur several times."""
        self._asked.add(name)
        value = self._members.get(name)
        many = value if isinstance(value, list) else [] if value is None else [value]
        return [Node(self.file, self.path, {name: each}).text(name) for each in many]

    def text(self, name: str, default: str | None = None) -> str:
        """Return a leaf as text. Raises `PlanError` where it is missing and has no default."""
        value = self._once(name)
        if isinstance(value, str):
            return value
        if value is None:
            if default is None:
                raise self.error(f"{name} is missing")
            return default
        if isinstance(value, bool):
            return str(value).lower()
        if isinstance(value, int):
            return str(value)
        if value == [None]:
            return ""
        raise self.error(f"{name} is {_short(value)}, where one value belongs")

    def number(self, name: str, most: int, least: int = 0) -> int | None:
        """Return a leaf as a number, None where it is missing. Raises `PlanError` where it is no
        number, or not from `least` to `most`.
        """
        if name not in self._members:
            self._asked.add(name)
            return None
        text = self.text(name)
        if not (
            text.isascii()
            and text.isdecimal()
            and len(text) <= _MOST_DIGITS
            and least <= int(text) <= most
        ):
            raise self.error(
                f"{name} is {_short(text) or 'empty'}; it is a number from {least} to {most}"
            )
        return int(text)

    def identity(self, name: str, module: str, default: str | None = None) -> str:
        """Return a leaf that names an identity: without its module where that is the expected one,
        or else with it.
        """
        text = self.text(name, default)
        return text.removeprefix(f"{module}:")

    def left(self) -> Iterator[str]:
        """Yield the paths and values below this place that were never asked for."""
        for name, value in self._members.items():
            if name in self._asked or name.startswith("@") or value == {}:
                continue
            for each in value if isinstance(value, list) else [value]:
                yield f"{self.path}/{name}" + (
                    ""
                    if isinstance(each, (dict, list)) or each in ("", None)
                    else f" = {_short(each)}"
                )


def _short(value: Any) -> str:
    text = str(value)
    return text if len(text) <= 40 else text[:39] + "…"
