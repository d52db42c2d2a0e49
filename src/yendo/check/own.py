"""The office's own rules and severities, from its house file."""

from __future__ import annotations

import re
from collections.abc import Iterator
from typing import Any

import msgspec

from yendo.check.workspace import Finding, Workspace
from yendo.plan.house import Must, OwnRule
from yendo.plan.places import Path as Place
from yendo.terms import amounts


def values(data: Any, parts: list[str], path: Place = ()) -> Iterator[tuple[Place, Any]]:
    """Everything at a place, ``*`` standing for every entry; None for what its table does not have."""
    if not parts:
        yield path, data
        return
    head, rest = parts[0], parts[1:]
    if head == "*" and isinstance(data, list | tuple):
        for at, item in enumerate(data):
            yield from values(item, rest, (*path, at))
    elif head == "*" and isinstance(data, dict):
        for key, item in data.items():
            yield from values(item, rest, (*path, key))
    elif isinstance(data, dict):
        if head in data:
            yield from values(data[head], rest, (*path, head))
        else:
            yield (*path, head), None


def amount(value: Any) -> float:
    """A number, a length of time in seconds, or an amount of disk in bytes. Raises ValueError."""
    if isinstance(value, int | float):
        return float(value)
    for reader in (amounts.seconds, amounts.size, float):
        try:
            return float(reader(str(value)))
        except ValueError:
            continue
    raise ValueError(f"{value!r} is no number, time or amount of disk")


def holds(must: Must, data: Any) -> Iterator[tuple[Place, bool]]:
    """Whether it holds, place by place; of a group, the places of its parts."""
    if must.of is not None:
        for path, value in values(data, must.of.split(".")):
            yield path, _value_holds(must, value)
    for inner in must.all:
        yield from holds(inner, data)
    if must.any:
        found = [list(holds(inner, data)) for inner in must.any]
        yield (found[0][0][0] if found[0] else ()), any(all(good for _, good in one) for one in found)
    if must.not_ is not None:
        inner_found = list(holds(must.not_, data))
        yield (inner_found[0][0] if inner_found else ()), not all(good for _, good in inner_found)


def _value_holds(must: Must, value: Any) -> bool:
    if must.present is not None and (value not in (None, "", [], {})) != must.present:
        return False
    if value is None:
        return True
    if must.matches is not None and not re.fullmatch(must.matches, str(value)):
        return False
    if must.one_of and value not in must.one_of:
        return False
    try:
        if must.at_least is not None and amount(value) < amount(must.at_least):
            return False
        return must.at_most is None or amount(value) <= amount(must.at_most)
    except ValueError:
        return False


def find(workspace: Workspace) -> Iterator[Finding]:
    """What the office's own rules find; a place is reported once a rule."""
    furnished = workspace.plan.furnished
    rules: tuple[OwnRule, ...] = furnished.house.rule if furnished else ()
    data = msgspec.to_builtins(msgspec.structs.replace(workspace.plan, furnished=None)) if rules else {}
    for rule in rules:
        if rule.only is not None and not all(good for _, good in holds(rule.only, data)):
            continue
        for place in dict.fromkeys(path for path, good in holds(rule.must, data) if not good):
            where = ".".join(str(part + 1) if isinstance(part, int) else part for part in place)
            yield Finding(
                rule.id,
                rule.severity,
                workspace.line(*place),
                f"{rule.message} ({where or 'the plan'})",
                rule.why,
                rule.do,
            )


def graded(findings: list[Finding], workspace: Workspace) -> list[Finding]:
    """The findings as grave as the office takes them; those it has switched off are left out."""
    furnished = workspace.plan.furnished
    severity = furnished.house.severity if furnished else {}
    grades = [(finding, severity.get(finding.rule, finding.severity)) for finding in findings]
    return [msgspec.structs.replace(finding, severity=grade) for finding, grade in grades if grade != "off"]
