"""Steps that restart the machine."""

from __future__ import annotations

from typing import TYPE_CHECKING, Literal

from yendo.platforms.windows import exit_codes
from yendo.steps.base import NOT_NEEDED, Action, ActionData, At, Kind, Result, Step
from yendo.terms import events
from yendo.terms.amounts import seconds

if TYPE_CHECKING:
    from yendo.steps.host import Host


class RestartStep(Step, tag="restart", frozen=True, kw_only=True):
    """Restarts the machine; the steps behind it go on after the start.

    What starts the runner again is a task at the machine's start, as the system account; it takes itself away.
    ``where``: always, or only where a step before it asked for a restart. ``notice`` is how long a person has to save,
    with ``text``.
    """

    where: Literal["always", "asked"] = "asked"
    notice: str = "5 min"
    text: str = ""

    def __post_init__(self) -> None:
        super().__post_init__()
        seconds(self.notice)


class RestartData(ActionData, frozen=True):
    """``notice`` in seconds."""

    where: str
    notice: int = 0
    text: str = ""


class RestartKind(Kind[RestartStep]):
    step = RestartStep
    reversal = "nothing to undo"
    executed = ("API layer", "simulation", "stand-in")
    needs = ("restart",)

    def resolve(self, step: RestartStep, at: At) -> Action:
        data = RestartData(step.where, int(seconds(step.notice)), step.text).plain()
        return Action(
            "restart",
            "restart the machine" + (" where a step asked for it" if step.where == "asked" else ""),
            data=data,
        )

    def perform(self, action: Action, host: Host) -> Result:
        if RestartData.of(action).where == "asked" and not host.restart_asked:
            host.tell(events.RestartNotAsked())
            return NOT_NEEDED
        return Result("restart now", exit_codes.RESTARTING)
