"""Questions to an inventory, in the plan's own language: conditions and rules, each with yes, no or unknown for every
machine. A fact is judged once for each of its values, a rule once for each program that it could mean.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from typing import TYPE_CHECKING

import msgspec
import numpy as np

from yendo.effects import RegistryValue, State, UninstallEntry
from yendo.effects.things import Part, Product, View
from yendo.errors import Usage
from yendo.facts.machine import Facts
from yendo.fleet.columns import NO, TEXTS, UNKNOWN, YES, Columns, ListedProgram
from yendo.plan.reading import PlanError, read_as
from yendo.platforms.windows import paths, systems
from yendo.platforms.windows.registry_keys import MACHINE
from yendo.terms import when
from yendo.terms.rules import (
    AppRule,
    DeviceRule,
    MsiProductRule,
    RegistryRule,
    Rule,
    Sight,
    UninstallEntryRule,
    device,
)  # fmt: skip
from yendo.terms.rules.base import pattern
from yendo.terms.rules.groups import Group
from yendo.terms.when import Node

if TYPE_CHECKING:
    from yendo.fleet.columns import Truth

_FIELDS = {"in a domain": "domain", "multi-session": "multi_session"}  # a fact's column, where it is called otherwise
# Values of the registry that facts tell as well: the fact, and which part of it (0 for all of it).
_SYSTEM = paths.join(MACHINE, systems.CURRENT_KEY)
_OF_SYSTEM = {"currentbuild": ("windows", 2), "currentbuildnumber": ("windows", 2), "editionid": ("edition", 0)}
_NOWHERE = Facts(windows="", architecture="")


class FleetAnswer(msgspec.Struct):
    """The answer to a condition: for each machine, and for each of its questions by its words."""

    whole: Truth
    questions: dict[str, Truth]


def asked(
    nodes: tuple[Node, ...], columns: Columns, *, inventories: Mapping[str, str] = {}, now: str = ""
) -> FleetAnswer:
    """All questions together. What can change by itself (power, a time of day) refuses nobody, it only comes later.

    ``inventories`` are the texts of files that put computers into groups.
    """
    judge = _Judge(columns, inventories, now)
    questions = {node.in_words: judge.node(node) for node in nodes if not node.passing}
    return FleetAnswer(both(list(questions.values()), len(columns)), questions)


def holding(rule: Rule, columns: Columns) -> Truth:
    """For which machines a rule holds."""
    return each_holding([rule], columns)[0]


def each_holding(rules: Iterable[Rule], columns: Columns) -> list[Truth]:
    """The same for several rules, each by itself."""
    judge = _Judge(columns, {}, "")
    return [judge.rule(rule) for rule in rules]


def question(text: str) -> tuple[Node, ...]:
    """A run condition as text, as questions to an inventory. Raises Usage."""
    try:
        nodes = when.resolve(read_as(text, "question", when.Condition)[0])
    except PlanError as error:
        raise Usage(f"the question is no run condition: {error}; docs/steps.md has their keys") from error
    if passing := [node.in_words for node in nodes if node.passing]:
        raise Usage(f"no inventory tells what changes within a day: {passing[0]}")
    return nodes


class _Judge:
    def __init__(self, columns: Columns, inventories: Mapping[str, str], now: str) -> None:
        self.columns, self.inventories = columns, inventories
        self.here = msgspec.structs.replace(_NOWHERE, now=now) if now else _NOWHERE
        self.by_name: dict[str, list[int]] = {}
        for number, program in enumerate(columns.programs):
            self.by_name.setdefault(program.name, []).append(number)

    def node(self, node: Node) -> Truth:
        if node.test in ("all", "any", "not"):
            inner = [self.node(one) for one in node.nodes if not one.passing]
            if node.test == "any":
                return _any(inner, len(self.columns))
            held = both(inner, len(self.columns))
            return held if node.test == "all" else opposite(held)
        if node.test == "rule" and node.rule is not None:
            return self.rule(node.rule)
        if node.test == "group":
            return self._group(node)
        if node.test in ("before", "after"):
            return self._same(bool(self._holds(node, self.here)))
        return self._fact(node)

    def _fact(self, node: Node) -> Truth:
        fact = node.fact
        if fact in self.columns.numbers:
            column = self.columns.numbers[fact]
            return np.where(column < 0, UNKNOWN, column >= node.amount).astype(np.int8)
        field = _FIELDS.get(fact, fact)
        found = self.columns.texts.get(field)
        if found is None or field not in TEXTS or node.test in ("setting", "script"):
            return self._same(None)
        values = [None if text == "-" and field == "domain" else text for text in found.values]
        return found.truth([self._holds(node, _with(field, text)) for text in values])

    def _holds(self, node: Node, facts: Facts) -> bool:
        return when.judge((node,), facts, lambda rule: (False, "")).holds

    def _group(self, node: Node) -> Truth:
        text = self.inventories.get(node.fact)
        if text is None:
            return self._same(None)
        lines, group = when.memberships(text), str(node.want).lower()
        there = [(name.lower(), group) in lines for name in self.columns.computers]
        return np.where(there, YES, NO).astype(np.int8)

    def rule(self, rule: Rule) -> Truth:
        if isinstance(rule, Group):
            inner = np.array([self.rule(one) for one in rule.of])
            yes, unknown = (inner == YES).sum(0), (inner == UNKNOWN).sum(0)
            sure = (rule.least <= yes) & (yes + unknown <= rule.most)
            never = (yes + unknown < rule.least) | (yes > rule.most)
            return np.where(sure, YES, np.where(never, NO, UNKNOWN)).astype(np.int8)
        if isinstance(rule, DeviceRule):
            return self._device(rule)
        if isinstance(rule, RegistryRule) and rule.key.lower() == _SYSTEM.lower() and rule.name.lower() in _OF_SYSTEM:
            return self._system(rule)
        candidates = self._candidates(rule)
        if candidates is None:
            return self._same(None)
        found = np.where(self.columns.listed, NO, UNKNOWN).astype(np.int8)
        there = np.zeros(len(self.columns), np.bool_)
        for number in candidates:
            program = self.columns.programs[number]
            if _judged(rule, program):
                there[self.columns.having(number)] = True
            elif _says_too_little(rule, program):
                found[self.columns.having(number)] = UNKNOWN
        found[there] = YES
        return found

    def _system(self, rule: RegistryRule) -> Truth:
        """A value of the registry that a fact tells as well: the build, the edition."""
        field, part = _OF_SYSTEM[rule.name.lower()]
        column = self.columns.texts.get(field)
        if column is None:
            return self._same(None)
        hive, key = rule.parts
        texts = [(text.split(".") + ["", "", ""])[part] if part else text for text in column.values]
        return column.truth([
            bool(rule.judge(Sight(State([RegistryValue(hive, key, rule.name, "sz", text, rule.view)]), {}))[0])
            for text in texts
        ])  # fmt: skip

    def _device(self, rule: DeviceRule) -> Truth:
        """Of several devices of a machine one that holds is enough, as of the machine itself."""
        fitted = self.columns.fitted
        found = np.where(fitted.listed, YES if rule.missing else NO, UNKNOWN).astype(np.int8)
        answers: dict[int, list[int]] = {NO: [], UNKNOWN: [], YES: []}  # the later, the stronger
        for number, listed in enumerate(self.columns.devices):
            if rule.device.lower() not in (one.lower() for one in (*listed.hardware, *listed.compatible)):
                continue
            state, used = State(), listed.used
            key = device.add(state, rule.device)
            if used.inf or used.version or used.provider:
                device.use(state, key, used.provider, used.version)
            silent = bool(used.inf) and any(
                getattr(rule, name) and not getattr(used, name) for name in ("provider", "version")
            )
            holds = rule.judge(Sight(state, {}))[0]
            answers[YES if holds else UNKNOWN if silent else NO].append(number)
        for answer, numbers in answers.items():
            for number in numbers:
                found[fitted.having(number)] = answer
        return found

    def _candidates(self, rule: Rule) -> list[int] | None:
        """The programs that a rule could mean, by their names; None where no list of programs answers it."""
        if isinstance(rule, UninstallEntryRule):
            if rule.name is not None:
                return self.by_name.get(rule.name, [])
            like = pattern(rule.pattern or "")
            return [number for name, some in self.by_name.items() if like.fullmatch(name) for number in some]
        sort = (
            "product" if isinstance(rule, MsiProductRule) and rule.code else "app" if isinstance(rule, AppRule) else ""
        )
        # an inventory without any product's code says nothing about products
        return [number for number, program in enumerate(self.columns.programs) if sort and program.sort == sort] or None

    def _same(self, answer: bool | None) -> Truth:
        return np.full(len(self.columns), UNKNOWN if answer is None else YES if answer else NO, np.int8)


def _with(field: str, text: str | None) -> Facts:
    """Facts of which this one is known."""
    value: object = "" if field == "domain" and text is None else text
    if field == "multi_session":
        value = text == "true"
    return msgspec.structs.replace(_NOWHERE, **{field: value})


def _judged(rule: Rule, program: ListedProgram) -> bool:
    """Whether a rule holds where this program is there: judged by the rule itself."""
    view = rule.view if isinstance(rule, UninstallEntryRule) else None
    return bool(rule.judge(Sight(State(_things(program, view or "64")), {}))[0])


def _says_too_little(rule: Rule, program: ListedProgram) -> bool:
    """Whether the rule would hold if only the inventory told the version or the publisher that it asks for."""
    asks = {name for name in ("version", "publisher") if getattr(rule, name, None)}
    silent = {name for name in asks if not getattr(program, name)}
    loose = msgspec.structs.replace(rule, **dict.fromkeys(silent))
    return bool(silent) and _judged(loose, program)


def _things(program: ListedProgram, view: View) -> list[UninstallEntry | Product | Part]:
    """The program as the things that rules look at; which half of the registry lists it is not told."""
    if program.sort == "app":
        return [Part("app", program.name, program.version or None)]
    entry = UninstallEntry(
        program.code or program.name, view=view, name=program.name, version=program.version or None,
        publisher=program.publisher or None,
    )  # fmt: skip
    if program.sort == "product":
        return [entry, Product(program.code, version=program.version or None)]
    return [entry] if program.sort == "entry" else []


def _ranked(answer: Truth) -> Truth:
    """No, unknown, yes as 0, 1, 2."""
    return np.where(answer == UNKNOWN, 1, answer * 2).astype(np.int8)


def both(answers: list[Truth], count: int) -> Truth:
    """No where one is no, unknown where one is unknown."""
    return _unranked(np.minimum.reduce([np.full(count, 2, np.int8), *map(_ranked, answers)]))


def _any(answers: list[Truth], count: int) -> Truth:
    """Yes where one is yes, unknown where one is unknown."""
    return _unranked(np.maximum.reduce([np.zeros(count, np.int8), *map(_ranked, answers)]))


def _unranked(ranks: Truth) -> Truth:
    return np.where(ranks == 1, UNKNOWN, ranks // 2).astype(np.int8)


def opposite(answer: Truth) -> Truth:
    """Yes for no, no for yes."""
    return np.where(answer == UNKNOWN, UNKNOWN, 1 - answer).astype(np.int8)
