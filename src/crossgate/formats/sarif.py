"""Findings as SARIF 2.1.0 (OASIS Static Analysis Results Interchange Format), which code hosts and editors read."""

from __future__ import annotations

from typing import Any
from urllib.parse import quote

from crossgate import __version__
from crossgate.core.audit import Audited
from crossgate.core.model.finding import KINDS, Acceptance, Finding
from crossgate.formats.handed_on import handed_on

_SCHEMA = "https://docs.oasis-open.org/sarif/sarif/v2.1.0/errata01/os/schemas/sarif-schema-2.1.0.json"


def sarif_document(audited: Audited) -> dict[str, Any]:
    """Return the findings as one run; what the plan accepts is there too, as suppressed with its reason."""
    rules = [
        {
            "id": name,
            "shortDescription": {"text": kind.meaning},
            "help": {"text": f"{kind.mend}. For example: {kind.example}"},
            "defaultConfiguration": {"level": str(kind.severity)},
        }
        for name, kind in KINDS.items()
    ]
    driver = {"name": "Cross Gate", "semanticVersion": __version__, "rules": rules}
    results = [_result(finding) for finding in audited.findings]
    results += [_result(finding, acceptance) for finding, acceptance in audited.accepted]
    return {
        "$schema": _SCHEMA,
        "version": "2.1.0",
        "runs": [{"tool": {"driver": driver}, "columnKind": "unicodeCodePoints", "results": results}],
    }


def _result(finding: Finding, acceptance: Acceptance | None = None) -> dict[str, Any]:
    where = "" if finding.access_list is None else f"list {finding.access_list}" + ("" if finding.entry is None else f" {finding.entry}")
    location = {"artifactLocation": {"uri": quote(handed_on(finding.place.file))}, "region": {"startLine": finding.place.line}}
    result: dict[str, Any] = {
        "ruleId": finding.name,
        "ruleIndex": list(KINDS).index(finding.name),
        "level": str(finding.severity),
        "message": {"text": f"{where}: {finding.message}" if where else finding.message},
        "locations": [{"physicalLocation": location}],
    }
    if acceptance is not None:
        result["suppressions"] = [{"kind": "inSource", "justification": acceptance.reason}]
    return result
