"""A variable of the machine."""

from __future__ import annotations

from yendo.effects import Environment
from yendo.terms.amounts import Text
from yendo.terms.rules.base import BaseRule, Criteria, Field, OvalTest, Sight

_KEY = r"SYSTEM\CurrentControlSet\Control\Session Manager\Environment"


class EnvironmentRule(BaseRule, tag="environment", frozen=True, kw_only=True):
    """A variable of the machine is set, and equals a text."""

    name: Text
    equals: str | None = None

    @property
    def title(self) -> str:
        return f"variable {self.name} " + ("is set" if self.equals is None else f"= {self.equals}")

    def judge(self, sight: Sight) -> tuple[bool, str]:
        variable = sight.state.get("environment", f"machine:{self.name}")
        if not isinstance(variable, Environment):
            return False, f"{self.name} is not set"
        return self.equals is None or self.equals == variable.value, f"{self.name} is {variable.value}"

    def data(self) -> dict[str, object]:
        return {"name": self.name, "compare": self.equals is not None, "equals": self.equals or ""}

    def fulfil(self, sight: Sight) -> None:
        sight.state.add(Environment(self.name, self.equals or "1"))

    def oval(self) -> Criteria | OvalTest:
        where = (
            Field("hive", "HKEY_LOCAL_MACHINE"),
            Field("key", _KEY, "case insensitive equals"),
            Field("name", self.name, "case insensitive equals"),
        )
        return OvalTest(
            "registry", where, ((Field("value", self.equals),),) if self.equals is not None else (), view="64_bit"
        )
