"""A service."""

from __future__ import annotations

from typing import Literal

from yendo.effects import Service
from yendo.terms.amounts import Text
from yendo.terms.rules.base import BaseRule, Criteria, Field, OvalTest, Sight

_OVAL = {"auto": "SERVICE_AUTO_START", "demand": "SERVICE_DEMAND_START", "disabled": "SERVICE_DISABLED"}


class ServiceRule(BaseRule, tag="service", frozen=True, kw_only=True):
    """A service exists, and starts or runs as said."""

    name: Text
    start: Literal["auto", "demand", "disabled"] | None = None
    running: bool | None = None

    @property
    def title(self) -> str:
        parts = [
            f"starts {self.start}" if self.start else "",
            {True: "runs", False: "does not run", None: ""}[self.running],
        ]
        return f"service {self.name} " + (" and ".join(part for part in parts if part) or "exists")

    def judge(self, sight: Sight) -> tuple[bool, str]:
        found = sight.state.get("service", self.name)
        if not isinstance(found, Service):
            return False, f"there is no service {self.name}"
        if self.start and found.start != self.start:
            return False, f"it starts {found.start or 'in another way'}"
        if self.running is not None and found.running is not None and found.running != self.running:
            return False, "it runs" if found.running else "it does not run"
        return True, f"service {self.name} is there"

    def data(self) -> dict[str, object]:
        return {
            "name": self.name,
            "start": self.start or "",
            "running": {True: "yes", False: "no", None: ""}[self.running],
        }

    def fulfil(self, sight: Sight) -> None:
        sight.state.add(Service(self.name, self.name, None, self.start or "demand", None, None, bool(self.running)))

    def oval(self) -> Criteria | OvalTest:
        states: tuple[tuple[Field, ...], ...] = ()
        if self.start:
            states += ((Field("start_type", _OVAL[self.start]),),)
        if self.running is True:
            states += ((Field("current_state", "SERVICE_RUNNING"),),)
        if self.running is False:
            states += ((Field("current_state", "SERVICE_RUNNING", "not equal"),),)
        return OvalTest("service", (Field("service_name", self.name, "case insensitive equals"),), states)
