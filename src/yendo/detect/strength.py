"""How much of what may be broken a set of rules catches."""

from __future__ import annotations

import itertools
import operator
from collections.abc import Iterable, Iterator, Mapping, Sequence

import msgspec

from yendo.detect.states import Case, Ground, broken, classes
from yendo.errors import NotCovered
from yendo.platforms.windows.surroundings import expand
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


def _on_files(rule: BaseRule) -> Sequence[FileRule]:
    """The single files that a rule asks for and no more; nothing where only a real machine can answer."""
    if isinstance(rule, FileListRule):
        return rule.rules
    return (rule,) if isinstance(rule, FileRule) and not rule.changed else ()


class Tried:
    """States in which rules are judged. What was found of a rule on a file is kept: the same ones are asked again."""

    def __init__(self, cases: Sequence[Case], environment: Mapping[str, str]) -> None:
        self.cases, self.environment = cases, environment
        self._whole = next((case for case in cases if case.wanted), cases[0])
        self._known: dict[FileRule, list[bool]] = {}

    def verdicts(self, rules: Sequence[BaseRule]) -> tuple[list[list[bool]], int]:
        """For each rule whether it holds in each case.

        A rule that cannot be judged here counts as holding; the second is how many.
        """
        on_files = [_on_files(rule) for rule in rules]
        self._look({one: None for inner in on_files for one in inner}.keys())
        others, undecided = self._judged([rule for rule, inner in zip(rules, on_files, strict=True) if not inner])
        found: list[list[bool]] = []
        for inner in on_files:
            held = [self._known[one] for one in inner]
            found.append([all(column) for column in zip(*held, strict=True)] if held else others.pop(0))
        return found, undecided

    def _judged(self, rules: Sequence[BaseRule]) -> tuple[list[list[bool]], int]:
        """The same of rules that ask for other things than files."""
        found = [[True] * len(self.cases) for _ in rules]
        undecided: set[int] = set()
        for number, case in enumerate(self.cases if rules else ()):
            sight = self._sight(case)
            for at, rule in enumerate(rules):
                try:
                    found[at][number] = rule.judge(sight)[0]
                except NotCovered:
                    undecided.add(at)
        for at in undecided:
            found[at] = [True] * len(self.cases)
        return found, len(undecided)

    def strength(self, rules: Sequence[Rule]) -> Strength:
        """The strength of rules that must all hold."""
        held, undecided = self.verdicts(rules)
        return of_verdicts(rules, self.cases, held, undecided)

    def _sight(self, case: Case) -> Sight:
        return Sight(case.state, self.environment, lambda name: True)

    def _look(self, asked: Iterable[FileRule]) -> None:
        """For each rule on one file whether it holds in each case.

        Nearly all cases have nearly all files as the whole installation has them, so a rule is judged there, and again
        only where a case has another file in that place. So ten thousand rules in two hundred cases take a second.
        """
        rules = [rule for rule in asked if rule not in self._known]
        if not rules:
            return
        keys = [("file", expand(rule.path, self.environment).lower()) for rule in rules]
        whole = self._sight(self._whole)
        usual = list(map(whole.state.items().get, keys))
        for rule in rules:
            self._known[rule] = [rule.judge(whole)[0]] * len(self.cases)
        for number, case in enumerate(self.cases):
            sight = self._sight(case)
            there = list(map(sight.state.items().get, keys))
            for at in itertools.compress(range(len(keys)), map(operator.is_not, there, usual)):
                self._known[rules[at]][number] = there[at] is not None and rules[at].judge(sight)[0]


def measure(rules: Sequence[Rule], ground: Ground, environment: Mapping[str, str], seed: int = 1) -> Strength:
    """The strength of rules that must all hold."""
    return Tried(broken(ground, seed), environment).strength(rules)


def _by_class(cases: Sequence[Case], by_case: Mapping[int, bool]) -> Iterator[StrengthRow]:
    """A row for the broken and one for the good states of each class; ``by_case`` says by identity what held."""
    for sort, some in classes(cases).items():
        for wanted in (False, True):
            chosen = [case for case in some if case.wanted == wanted]
            if chosen:
                wrong = tuple(case.name for case in chosen if by_case[id(case)] != wanted)
                yield StrengthRow(sort, len(chosen) - len(wrong), len(chosen), wrong, wanted)


def of_verdicts(
    rules: Sequence[Rule], cases: Sequence[Case], held: Sequence[Sequence[bool]], undecided: int = 0
) -> Strength:
    """The same where the verdicts are at hand."""
    holds = [bool(held) and all(column) for column in zip(*held, strict=True)] if held else [False] * len(cases)
    by_case = {id(case): hold for case, hold in zip(cases, holds, strict=True)}
    rows = list(_by_class(cases, by_case))
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
