"""Findings as SARIF 2.1.0, which code review systems show. Source: the OASIS standard, 3.13 to 3.28."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import yendo
from yendo.check.table import RULES
from yendo.check.workspace import Finding

_LEVELS = {"error": "error", "warning": "warning", "note": "note"}


def document(findings: Sequence[Finding], where: str) -> dict[str, Any]:
    """One run; ``where`` is the plan's path as a relative URI."""
    rules = [
        {
            "id": rule.id,
            "shortDescription": {"text": rule.why},
            "defaultConfiguration": {"level": _LEVELS[rule.severity]},
        }
        for rule in RULES.values()
    ]
    order: dict[object, int] = {rule["id"]: at for at, rule in enumerate(rules)}
    results = [
        {
            "ruleId": finding.rule,
            "level": _LEVELS[finding.severity],
            **({"ruleIndex": order[finding.rule]} if finding.rule in order else {}),
            "message": {
                "text": f"{finding.message}. {finding.why[0].upper()}{finding.why[1:]}. To do: {finding.remedy}."
            },
            "locations": [
                {"physicalLocation": {"artifactLocation": {"uri": where}, "region": {"startLine": finding.line}}}
            ],
        }
        for finding in findings
    ]
    return {
        "$schema": "https://json.schemastore.org/sarif-2.1.0.json",
        "version": "2.1.0",
        "runs": [
            {"tool": {"driver": {"name": "yendo", "version": yendo.__version__, "rules": rules}}, "results": results}
        ],
    }
