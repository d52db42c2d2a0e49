"""Judging detection rules on the state of a machine. The generated script means the same."""

from __future__ import annotations

from collections.abc import Iterable, Mapping

import msgspec

from yendo.effects import State
from yendo.machines.protocol import Session
from yendo.terms.rules import Rule, Sight


class RuleVerdict(msgspec.Struct, frozen=True):
    """Whether a rule holds, and the fact that made it so."""

    rule: Rule
    holds: bool
    fact: str


def sight_of(session: Session, state: State | None = None) -> Sight:
    """A machine at hand as rules see it; with ``state`` where that is known already."""
    return Sight(
        session.state() if state is None else state,
        session.surroundings.environment,
        session.is_running,
        getattr(session, "script", None),
        session.read,
    )


def judge(rule: Rule, sight: Sight) -> RuleVerdict:
    """One rule. Raises NotCovered where this sight cannot tell."""
    return RuleVerdict(rule, *rule.judge(sight))


def seen(state: State, environment: Mapping[str, str]) -> Sight:
    """A state alone, with no machine at hand."""
    return Sight(state, environment)


def detected(rules: Iterable[Rule], sight: Sight) -> tuple[bool, list[RuleVerdict]]:
    """All rules together; no rule at all detects nothing. Raises NotCovered."""
    verdicts = [judge(rule, sight) for rule in rules]
    return bool(verdicts) and all(verdict.holds for verdict in verdicts), verdicts
