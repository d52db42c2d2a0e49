"""Steps that wait."""

from __future__ import annotations

from typing import TYPE_CHECKING

import msgspec

from yendo.steps.base import DONE, Action, At, Kind, Result, Step
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


class WaitKind(Kind):
    step = WaitStep
    reversal = "nothing to undo"
    executed = ("API layer", "simulation")

    def resolve(self, step: WaitStep, at: At) -> Action:
        if step.time_:
            return Action("wait", f"wait {step.time_}", data={"time": seconds(step.time_)})
        return Action(
            "wait", "wait until a condition holds", timeout=600, data={"time": 0, "until": list(resolve(step.until))}
        )

    def perform(self, action: Action, host: Host) -> Result:
        if "until" not in action.data:
            host.sleep(action.data["time"])
            host.tell(events.Waited(action.data["time"]))
            return DONE
        nodes = tuple(msgspec.convert(node, Node) for node in action.data["until"])
        waited = 0.0
        while not (found := host.condition(nodes)).holds:
            if waited >= action.timeout:
                host.tell(events.ConditionUnmet(action.timeout, "; ".join(found.reasons)))
                return Result("failed", STEP_FAILED)
            host.sleep(2)
            waited += 2
        host.tell(events.ConditionMet("; ".join(found.reasons)))
        return DONE
