"""Steps that wait."""

from __future__ import annotations

from typing import TYPE_CHECKING

import msgspec

from yendo.steps.base import DONE, Action, ActionData, At, Kind, Result, Step
from yendo.steps.host import STEP_FAILED
from yendo.terms import events
from yendo.terms.amounts import seconds
from yendo.terms.when import Condition, Node, resolve

if TYPE_CHECKING:
    from yendo.steps.host import Host


class WaitStep(Step, tag="wait", frozen=True, rename={"time_": "time"}, kw_only=True):
    """Waits for a time, or until a condition holds: at most as long as the step may take (10 min), else
    it has failed.
    """

    time_: str | None = None
    until: Condition | None = None

    def __post_init__(self) -> None:
        super().__post_init__()
        if bool(self.time_) == bool(self.until):
            raise ValueError("a wait step has exactly one of time and until")
        if self.time_:
            seconds(self.time_)


class WaitData(ActionData, frozen=True):
    """``time`` in seconds; ``until`` a condition, for which a time has no meaning."""

    time: float
    until: tuple[Node, ...] | msgspec.UnsetType = msgspec.UNSET


class WaitKind(Kind[WaitStep]):
    step = WaitStep
    reversal = "nothing to undo"
    executed = ("API layer", "simulation")

    def resolve(self, step: WaitStep, at: At) -> Action:
        if step.time_:
            return Action("wait", f"wait {step.time_}", data=WaitData(seconds(step.time_)).plain())
        data = WaitData(0, resolve(step.until)).plain()
        return Action("wait", "wait until a condition holds", timeout=600, data=data)

    def perform(self, action: Action, host: Host) -> Result:
        own = WaitData.of(action)
        if own.until is msgspec.UNSET:
            host.sleep(own.time)
            host.tell(events.Waited(own.time))
            return DONE
        waited = 0.0
        while not (found := host.condition(own.until)).holds:
            if waited >= action.timeout:
                host.tell(events.ConditionUnmet(action.timeout, "; ".join(found.reasons)))
                return Result("failed", STEP_FAILED)
            host.sleep(2)
            waited += 2
        host.tell(events.ConditionMet("; ".join(found.reasons)))
        return DONE
