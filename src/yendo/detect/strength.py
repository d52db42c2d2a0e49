"""How much of what may be broken a set of rules catches."""

from __future__ import annotations

from collections.abc import Mapping, Sequence

import msgspec

from yendo.detect.states import Case, Ground, broken, classes
from yendo.errors import NotCovered
from yendo.facts.surroundings import expand
from yendo.terms.rules import BaseRule, Rule, Sight
from yendo.terms.rules.file import FileRule
from yendo.terms.rules.file_list import FileListRule


class StrengthRow(msgspec.Struct, frozen=True):
    """A class of states: how many were judged rightly, and the names of the others."""

    sort: str
    right: int
    total: int
    wrong: tuple[str, ...]
    wanted: bool = False  # states that must count as installed


class Strength(msgspec.Struct, frozen=True):
    """``score`` is the mean over the classes of broken states, each weighted equally; 1.0 where none is left."""

    rules: int
    checks: int
    score: float
    caught: int
    broken: int
    rows: tuple[StrengthRow, ...]
    false_absent: tuple[str, ...]  # wanted states in which the rules do not hold
    undecided: int = 0  # rules that only a real machine can judge

    @property
    def survivors(self) -> tuple[str, ...]:
        """Names of the broken states that the rules do not catch."""
        return tuple(name for row in self.rows if not row.wanted for name in row.wrong)


def checks_of(rule: BaseRule) -> int:
    """How many things a person has to keep up to date with a rule."""
    return sum(
        len(getattr(inner, "files", ()) or getattr(inner, "values", ())) or (0 if inner.inner else 1)
        for inner in rule.flat()
    )


def verdicts(
    rules: Sequence[BaseRule], cases: Sequence[Case], environment: Mapping[str, str]
) -> tuple[list[list[bool]], int]:
    """For each rule whether it holds in each case.

    A rule that cannot be judged here counts as holding; the second is how many.
    """
    found, undecided = [], 0
    for rule in rules:
        try:
            if isinstance(rule, FileListRule):
                held = [_of_file(one, cases, environment) for one in rule.rules]
                found.append([all(column) for column in zip(*held, strict=True)] if held else [True] * len(cases))
            elif isinstance(rule, FileRule):
                found.append(_of_file(rule, cases, environment))
            else:
                found.append([rule.judge(Sight(case.state, environment, lambda name: True))[0] for case in cases])
        except NotCovered:
            undecided += 1
            found.append([True] * len(cases))
    return found, undecided


def _of_file(rule: FileRule, cases: Sequence[Case], environment: Mapping[str, str]) -> list[bool]:
    """Whether a rule on one file holds in each case: asked anew only where a case has another file there, and most have
    the same one.
    """
    path, found = expand(rule.path, environment), []
    known: dict[int, bool] = {}
    for case in cases:
        there = case.state.get("file", path)
        if id(there) not in known:
            known[id(there)] = rule.judge(Sight(case.state, environment, lambda name: True))[0]
        found.append(known[id(there)])
    return found


def measure(rules: Sequence[Rule], ground: Ground, environment: Mapping[str, str], seed: int = 1) -> Strength:
    """The strength of rules that must all hold."""
    cases = broken(ground, seed)
    held, undecided = verdicts(rules, cases, environment)
    return of_verdicts(rules, cases, held, undecided)


def of_verdicts(
    rules: Sequence[Rule], cases: Sequence[Case], held: Sequence[Sequence[bool]], undecided: int = 0
) -> Strength:
    """The same where the verdicts are at hand."""
    holds = [bool(held) and all(column) for column in zip(*held, strict=True)] if held else [False] * len(cases)
    by_case = {id(case): hold for case, hold in zip(cases, holds, strict=True)}
    rows = []
    for sort, some in classes(cases).items():
        for wanted in (False, True):
            chosen = [case for case in some if case.wanted == wanted]
            if chosen:
                wrong = tuple(case.name for case in chosen if by_case[id(case)] != wanted)
                rows.append(StrengthRow(sort, len(chosen) - len(wrong), len(chosen), wrong, wanted))
    bad = [row for row in rows if not row.wanted]
    return Strength(
        len(rules),
        sum(map(checks_of, rules)),
        sum(row.right / row.total for row in bad) / len(bad) if bad else 1.0,
        sum(row.right for row in bad),
        sum(row.total for row in bad),
        tuple(rows),
        tuple(name for row in rows if row.wanted for name in row.wrong),
        undecided,
    )
