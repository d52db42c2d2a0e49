"""The table of rules. Each has a stable id, a severity, why it matters and what to do; adding one is one function."""

from __future__ import annotations

import difflib
from collections.abc import Callable, Iterator

import msgspec

from yendo.check import own
from yendo.check.workspace import Finding, Workspace
from yendo.plan import house
from yendo.terms.severity import Severity

Report = Iterator[tuple[int, str, str]]  # line, message, remedy


class Rule(msgspec.Struct, frozen=True):
    id: str
    severity: Severity
    why: str
    find: Callable[[Workspace], Report]


RULES: dict[str, Rule] = {}


def rule(
    identifier: str, severity: Severity, why: str
) -> Callable[[Callable[[Workspace], Report]], Callable[[Workspace], Report]]:
    def keep(find: Callable[[Workspace], Report]) -> Callable[[Workspace], Report]:
        RULES[identifier] = Rule(identifier, severity, why, find)
        return find

    return keep


def unknown_rules(workspace: Workspace) -> list[Finding]:
    """Severities of the house for rules that there are not: a misspelt one would switch nothing off."""
    furnished = workspace.plan.furnished
    if furnished is None:
        return []
    known = {*RULES, *(one.id for one in furnished.house.rule)}
    _, lines = house.read(furnished.file)
    found = []
    for name in sorted(set(furnished.house.severity) - known):
        near = difflib.get_close_matches(name, known, 1)
        line = house.HouseLine(lines.get(("severity", name), 1), furnished.file.name)
        remedy = f"did you mean {near[0]}?" if near else "yendo check --rules lists them"
        found.append(
            Finding("unknown-rule", "warning", line, f"no rule is called {name}", "its severity says nothing", remedy)
        )
    return found


def placed(finding: Finding) -> Finding:
    """A finding with the file that its line is in."""
    return (
        msgspec.structs.replace(finding, line=int(finding.line), file=finding.line.file)
        if isinstance(finding.line, house.HouseLine)
        else finding
    )


def check(workspace: Workspace) -> list[Finding]:
    """Every finding, those of the office's own rules too, in the order of the plan."""
    found = [
        Finding(entry.id, entry.severity, line, message, entry.why, remedy)
        for entry in RULES.values()
        for line, message, remedy in entry.find(workspace)
    ]
    found = [
        placed(finding) for finding in own.graded([*found, *own.find(workspace), *unknown_rules(workspace)], workspace)
    ]
    return sorted(found, key=lambda finding: (finding.line, finding.rule, finding.message))
