"""Steps that create, set, start, stop and delete services."""

from __future__ import annotations

from collections.abc import Iterator
from typing import TYPE_CHECKING, Literal

from yendo.steps.base import DONE, NOT_NEEDED, Action, ActionData, At, Kind, Result, Step, quoted
from yendo.steps.host import STEP_FAILED
from yendo.terms import events
from yendo.terms.amounts import Text

if TYPE_CHECKING:
    from yendo.steps.host import Host

# Source: the Win32 error codes that the service control program leaves with.
EXISTS, RUNNING, NOT_STARTED, UNKNOWN = 1073, 1056, 1062, 1060
STARTS = {"auto": 2, "demand": 3, "disabled": 4}


class ServiceStep(Step, tag="service", frozen=True, kw_only=True):
    """Creates a service, sets how it starts, starts it, stops it, or deletes it.

    ``program`` is its whole command line. ``start`` waits until the service runs, for as long as the step may take.
    """

    name: Text
    change: Literal["create", "set", "start", "stop", "delete"]
    program: str = ""
    display_name: str = ""
    start: Literal["auto", "demand", "disabled"] | None = None
    account: str = ""

    def __post_init__(self) -> None:
        super().__post_init__()
        if (self.change == "create") != bool(self.program):
            raise ValueError("program is given exactly where a service is created")
        if self.change == "set" and not self.start:
            raise ValueError("set says how the service starts")


class ServiceData(ActionData, frozen=True):
    """``start`` is the number that Windows keeps."""

    name: str
    change: str
    start: int = 0


class ServiceKind(Kind[ServiceStep]):
    step = ServiceStep
    reversal = "by record"
    executed = ("API layer", "simulation")

    def resolve(self, step: ServiceStep, at: At) -> Action:
        words = [quoted(step.name)]
        if step.change == "create":
            words += ["binPath=", quoted(step.program), "start=", step.start or "demand"]
            words += ["DisplayName=", quoted(step.display_name)] if step.display_name else []
            words += ["obj=", quoted(step.account)] if step.account else []
        verb = "config" if step.change == "set" else step.change
        words += ["start=", step.start or ""] if step.change == "set" else []
        reverse = {"create": "delete", "start": "stop", "stop": "start"}.get(step.change)
        return Action(
            "service",
            f"{step.change} service {step.name}",
            f"sc.exe {verb} {' '.join(words)}",
            timeout=120,
            data=ServiceData(step.name, step.change, STARTS.get(step.start or "", 0)).plain(),
            reverse=f"sc.exe {reverse} {quoted(step.name)}" if reverse else "",
        )

    def perform(self, action: Action, host: Host) -> Result:
        own = ServiceData.of(action)
        name, change = own.name, own.change
        there = host.session.service_state(name)
        if (change == "create" and there) or (change in ("stop", "delete") and not there):
            host.tell(events.ServiceChanged(name, "there already" if there else "not there"))
            return NOT_NEEDED
        if change == "set":
            host.set_value("HKLM", "64", rf"System\CurrentControlSet\Services\{name}", "Start", ("dword", own.start))
        elif change == "create" or (change, there) in (("start", "stopped"), ("stop", "running")):
            host.remember("U", action.reverse)
        elif change == "delete":
            host.call(f"sc.exe stop {quoted(name)}")
        code, _ = host.call(host.expand(action.command), action.timeout)
        if change == "set" or (change, code) in (("start", RUNNING), ("stop", NOT_STARTED)):
            code = 0
        if code:
            host.tell(events.CommandEnded(code, "failed"))
            return Result("failed", code)
        wanted = {"start": "running", "stop": "stopped"}.get(change)
        waited = 0.0
        while wanted and host.session.service_state(name) != wanted:
            if waited >= action.timeout:
                host.tell(events.ServiceLate(name, wanted, action.timeout))
                return Result("failed", STEP_FAILED)
            host.sleep(1)
            waited += 1
        host.tell(events.ServiceChanged(name, change))
        return DONE

    def mistakes(self, step: ServiceStep, at: At) -> Iterator[tuple[str, str, str]]:
        if step.program and " " in step.program.split(".exe")[0] and not step.program.startswith('"'):
            yield (
                "program",
                "a space before .exe is not inside quotes",
                "the service would start another program than is meant",
            )
