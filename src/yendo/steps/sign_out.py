"""Steps that sign the person out."""

from __future__ import annotations

from typing import TYPE_CHECKING

from yendo.steps.base import DONE, NOT_NEEDED, Action, At, Kind, Result, Step
from yendo.terms import events

if TYPE_CHECKING:
    from yendo.steps.host import Host


class SignOutStep(Step, tag="sign-out", frozen=True, kw_only=True):
    """Signs out everybody who is logged on, so that what is read at logon is read anew."""


class SignOutKind(Kind[SignOutStep]):
    step = SignOutStep
    reversal = "nothing to undo"
    executed = ("simulation", "stand-in")
    needs = ("person",)

    def resolve(self, step: SignOutStep, at: At) -> Action:
        return Action("sign-out", "sign everybody out")

    def perform(self, action: Action, host: Host) -> Result:
        if not host.session.facts.people:
            host.tell(events.NobodyLoggedOn())
            return NOT_NEEDED
        code, _ = host.call("logoff.exe 1")
        return Result("failed", code) if code else DONE
