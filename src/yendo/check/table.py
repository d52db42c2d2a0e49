"""The table of rules. Each has a stable id, a severity, why it matters and what to do; adding one is one function."""

from __future__ import annotations

from collections.abc import Callable, Iterator

import msgspec

from yendo.check.workspace import Finding, Severity, Workspace

Report = Iterator[tuple[int, str, str]]  # line, message, remedy


class Rule(msgspec.Struct, frozen=True):
    id: str
    severity: Severity
    why: str
    find: Callable[[Workspace], Report]


RULES: dict[str, Rule] = {}


def rule(identifier: str, severity: Severity, why: str) -> Callable[[Callable[[Workspace], Report]], Callable[[Workspace], Report]]:
    def keep(find: Callable[[Workspace], Report]) -> Callable[[Workspace], Report]:
        RULES[identifier] = Rule(identifier, severity, why, find)
        return find

    return keep


def check(workspace: Workspace) -> list[Finding]:
    """Every finding, in the order of the plan."""
    found = [
        Finding(entry.id, entry.severity, line, message, entry.why, remedy)
        for entry in RULES.values()
        for line, message, remedy in entry.find(workspace)
    ]
    return sorted(found, key=lambda finding: (finding.line, finding.rule, finding.message))
