"""Findings as SARIF 2.1.0 (OASIS Static Analysis Results Interchange Format), which code hosts and
editors read.
"""

from __future__ import annotations

from collections.abc import Iterable
from typing import Any
from urllib.parse import quote

from crossgate import __version__
from crossgate.core.audit import Audited
from crossgate.core.model.errors import PlanError
from crossgate.core.model.finding import Acceptance, Finding
from crossgate.core.model.finding_kinds import KINDS
from crossgate.formats.handed_on import handed_on

_SCHEMA = (
    "https://docs.oasis-open.org/sarif/sarif/v2.1.0/errata01/os/schemas/sarif-schema-2.1.0.json"
)


PLAN_ERROR = "plan-error"
"""The rule of what keeps a plan from being read."""


def sarif_of_errors(errors: Iterable[PlanError]) -> dict[str, Any]:
    """Return the errors of a plan that cannot be read, as one run."""
    rule = {
        "id": PLAN_ERROR,
        "shortDescription": {"text": "A line of the plan cannot be read"},
        "fullDescription": {
            "text": "A line of the plan cannot be read, so nothing else is known of the plan."
        },
        "help": {
            "text": (
                "The message says what was expected there. For example: tcp/telnt is no "
                "service; there is telnet"
            )
        },
        "defaultConfiguration": {"level": "error"},
    }
    return _document([rule], [_error_result(each) for each in errors])


def _error_result(error: PlanError) -> dict[str, Any]:
    result: dict[str, Any] = {
        "ruleId": PLAN_ERROR,
        "ruleIndex": 0,
        "level": "error",
        "message": {"text": error.message},
    }
    if error.place is not None:
        region: dict[str, int] = {"startLine": error.place.line}
        if error.column:
            region |= {"startColumn": error.column, "endColumn": error.column + max(error.width, 1)}
        where = {"artifactLocation": {"uri": quote(handed_on(error.place.file))}, "region": region}
        result["locations"] = [{"physicalLocation": where}]
    return result


def sarif_document(audited: Audited) -> dict[str, Any]:
    """Return the findings as one run; accepted ones are included, as suppressed with their
    reason.
    """
    rules: list[dict[str, Any]] = [
        {
            "id": name,
            "shortDescription": {"text": kind.meaning},
            "fullDescription": {"text": f"{kind.meaning}. {kind.mend}."},
            "help": {"text": f"{kind.mend}. For example: {kind.example}"},
            "defaultConfiguration": {"level": str(kind.severity)},
        }
        for name, kind in KINDS.items()
    ]
    results = [_result(finding) for finding in audited.findings]
    return _document(
        rules, results + [_result(finding, acceptance) for finding, acceptance in audited.accepted]
    )


def _document(rules: list[dict[str, Any]], results: list[dict[str, Any]]) -> dict[str, Any]:
    driver = {"name": "Cross Gate", "semanticVersion": __version__, "rules": rules}
    return {
        "$schema": _SCHEMA,
        "version": "2.1.0",
        "runs": [
            {"tool": {"driver": driver}, "columnKind": "unicodeCodePoints", "results": results}
        ],
    }


def _result(finding: Finding, acceptance: Acceptance | None = None) -> dict[str, Any]:
    where = (
        ""
        if finding.access_list is None
        else f"list {finding.access_list}" + ("" if finding.entry is None else f" {finding.entry}")
    )
    location = {
        "artifactLocation": {"uri": quote(handed_on(finding.place.file))},
        "region": {"startLine": finding.place.line},
    }
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
