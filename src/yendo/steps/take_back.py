"""Steps that take back what this package has done and written down."""

from __future__ import annotations

from typing import TYPE_CHECKING

from yendo.steps.base import DONE, NOT_NEEDED, Action, At, Kind, Result, Step
from yendo.terms import events

if TYPE_CHECKING:
    from yendo.steps.host import Host


class TakeBackStep(Step, tag="take-back", frozen=True, kw_only=True):
    """Takes back, from the last to the first, every recorded change that nobody has changed since.

    That is what steps placed, deleted, set or edited, the folders and keys they made, and what the commands of
    services, tasks, firewall rules and the like did.
    """


class TakeBackKind(Kind[TakeBackStep]):
    step = TakeBackStep
    reversal = "nothing to undo"
    executed = ("API layer", "simulation")

    def resolve(self, step: TakeBackStep, at: At) -> Action:
        return Action("take-back", "take back what was placed and set")

    def perform(self, action: Action, host: Host) -> Result:
        lines = host.recorded()
        if not [line for line in lines if line[0] not in "BR"]:
            host.tell(events.NothingRecorded())
            return NOT_NEEDED
        host.take_back(lines, run_only=False)
        host.forget(0)
        return DONE
