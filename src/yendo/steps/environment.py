"""Steps that change environment variables."""

from __future__ import annotations

from collections.abc import Iterator
from typing import TYPE_CHECKING, Literal

from yendo.steps import ledger
from yendo.steps.base import DONE, Action, ActionData, At, Kind, Result, Step
from yendo.terms import events
from yendo.terms.amounts import Text

if TYPE_CHECKING:
    from yendo.steps.host import Host

PLACES = {
    "machine": ("HKLM", r"System\CurrentControlSet\Control\Session Manager\Environment"),
    "user": ("HKCU", "Environment"),
}


class EnvironmentStep(Step, tag="environment", frozen=True, kw_only=True):
    """Sets a variable, adds an entry to a list such as Path or takes it out, or deletes the variable.

    The variable keeps its type; a new one is expandable where its value holds a ``%``.
    """

    name: Text
    value: str = ""
    change: Literal["set", "append", "prepend", "remove", "delete"] = "set"
    scope: Literal["machine", "user"] = "machine"

    def __post_init__(self) -> None:
        super().__post_init__()
        if bool(self.value) == (self.change == "delete"):
            raise ValueError("a value is given exactly where the variable is not deleted")


class EnvironmentData(ActionData, frozen=True):
    hive: str
    key: str
    name: str
    value: str
    change: str


class EnvironmentKind(Kind[EnvironmentStep]):
    step = EnvironmentStep
    reversal = "by record"
    executed = ("API layer", "simulation")

    def resolve(self, step: EnvironmentStep, at: At) -> Action:
        hive, key = PLACES[step.scope]
        data = EnvironmentData(hive, key, step.name, step.value, step.change)
        return Action("environment", f"{step.change} variable {step.name}", data=data.plain())

    def perform(self, action: Action, host: Host) -> Result:
        own = EnvironmentData.of(action)
        hive, key, name, value, change = own.hive, own.key, own.name, own.value, own.change
        before = host.session.get_value(hive, "64", key, name)
        if change == "delete":
            host.set_value(hive, "64", key, name, None)
        else:
            kind = before[0] if before else "expand" if "%" in value else "sz"
            text = value if change == "set" else ledger.changed_list(change, str(before[1]) if before else "", value)
            if change in ("append", "prepend"):
                host.add_entry(value, hive, "64", key, name, (kind, text))
            elif text or before:
                host.set_value(hive, "64", key, name, (kind, text))
        host.tell(events.VariableChanged(name, change))
        return DONE

    def mistakes(self, step: EnvironmentStep, at: At) -> Iterator[tuple[str, str, str]]:
        if step.name.lower() == "path" and step.change == "set":
            yield "change", "it replaces the whole search path", 'write change = "append"'
