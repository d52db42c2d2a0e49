"""Steps that write facts down."""

from __future__ import annotations

import json
from typing import TYPE_CHECKING, Literal

import msgspec

from yendo.steps import home as layout
from yendo.steps.base import DONE, Action, ActionData, At, Kind, Result, Step
from yendo.terms import events
from yendo.terms.rules import Rule
from yendo.terms.when import in_words, value_of

if TYPE_CHECKING:
    from yendo.steps.host import Host


class RecordStep(Step, tag="record", frozen=True, kw_only=True):
    """Evaluates facts and rules and writes them into the log and, as JSON, into the runner's folder: how the machine
    was at that moment.
    """

    facts: tuple[
        Literal[
            "windows",
            "edition",
            "architecture",
            "language",
            "memory",
            "power",
            "network",
            "domain",
            "people",
            "shell",
            "dotnet",
        ],
        ...,
    ] = ()
    rules: tuple[Rule, ...] = ()

    def __post_init__(self) -> None:
        super().__post_init__()
        if not self.facts and not self.rules:
            raise ValueError("a record step names facts or rules")


class TitledRule(msgspec.Struct, frozen=True):
    title: str
    rule: Rule


class RecordData(ActionData, frozen=True):
    facts: tuple[str, ...]
    rules: tuple[TitledRule, ...]
    file: str


class RecordKind(Kind[RecordStep]):
    step = RecordStep
    reversal = "nothing to undo"
    executed = ("API layer", "simulation")

    def resolve(self, step: RecordStep, at: At) -> Action:
        rules = tuple(TitledRule(rule.title, rule) for rule in step.rules)
        data = RecordData(step.facts, rules, f"{at.verb}-{at.number}.json")
        return Action("record", "write facts down", data=data.plain())

    def perform(self, action: Action, host: Host) -> Result:
        found: dict[str, str] = {}
        own = RecordData.of(action)
        for name in own.facts:
            value = value_of(name, host.session.facts)
            found[name] = "not known" if value is None else in_words(value)
        for item in own.rules:
            holds, fact = host.rule(item.rule)
            found[item.title] = f"{in_words(holds)}, {fact}"
        for name, text in found.items():
            host.tell(events.FactRecorded(name, text))
        folder = rf"{host.room}\{layout.FACTS}"
        host.own_folders(folder)
        host.session.write(rf"{folder}\{own.file}", json.dumps(found, ensure_ascii=False, indent=1).encode())
        return DONE
