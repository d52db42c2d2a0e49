"""Steps that make a scheduled task."""

from __future__ import annotations

from typing import TYPE_CHECKING, Annotated, Literal
from xml.sax.saxutils import escape

from msgspec import Meta

from yendo.steps.base import Action, At, Kind, Result, Step, packaged, quoted
from yendo.steps.exe import run_or_assume
from yendo.terms.amounts import Text

if TYPE_CHECKING:
    from yendo.steps.host import Host


class TaskStep(Step, tag="task", frozen=True, kw_only=True):
    """Makes a scheduled task, or deletes one.

    ``begins``: at every start of the machine, when somebody logs on, or at a time of day (``daily 03:30``). It runs as
    the system account, or with ``as_person`` as whoever is logged on.
    """

    name: Text
    change: Literal["create", "delete"] = "create"
    program: str = ""
    arguments: str = ""
    begins: Annotated[str, Meta(pattern=r"^(start|logon|daily ([01]\d|2[0-3]):[0-5]\d)$")] = "start"
    as_person: bool = False

    def __post_init__(self) -> None:
        super().__post_init__()
        if bool(self.program) == (self.change == "delete"):
            raise ValueError("program is given exactly where a task is made")


_EVERY_DAY = "<ScheduleByDay><DaysInterval>1</DaysInterval></ScheduleByDay>"


def task_xml(step: TaskStep) -> bytes:
    """The task as the scheduler takes it. Source: the Task Scheduler's schema, version 1.2."""
    daily = step.begins.partition(" ")[2]
    trigger = {"start": "<BootTrigger/>", "logon": "<LogonTrigger/>"}.get(
        step.begins,
        f"<CalendarTrigger><StartBoundary>2026-01-01T{daily}:00</StartBoundary>{_EVERY_DAY}</CalendarTrigger>",
    )
    person = (
        "<GroupId>S-1-5-32-545</GroupId><RunLevel>LeastPrivilege</RunLevel>"
        if step.as_person
        else "<UserId>S-1-5-18</UserId><RunLevel>HighestAvailable</RunLevel>"
    )
    arguments = f"<Arguments>{escape(step.arguments)}</Arguments>" if step.arguments else ""
    text = (
        '<?xml version="1.0" encoding="UTF-16"?>\r\n<Task version="1.2" '
        'xmlns="http://schemas.microsoft.com/windows/2004/02/mit/task">'
        f'<Triggers>{trigger}</Triggers><Principals><Principal id="who">{person}</Principal></Principals>'
        "<Settings><DisallowStartIfOnBatteries>false</DisallowStartIfOnBatteries><StopIfGoingOnBatteries>false</StopIfGoingOnBatteries></Settings>"
        f'<Actions Context="who"><Exec><Command>{escape(step.program)}</Command>{arguments}</Exec></Actions></Task>\r\n'
    )
    return b"\xff\xfe" + text.encode("utf-16-le")


class TaskKind(Kind[TaskStep]):
    step = TaskStep
    reversal = "by record"
    executed = ("simulation", "stand-in")

    def resolve(self, step: TaskStep, at: At) -> Action:
        name = quoted(step.name)
        if step.change == "delete":
            return Action(
                "task",
                f"delete task {step.name}",
                f"schtasks.exe /delete /tn {name} /f",
                codes={"0": "done", "1": "not needed"},
            )
        file = packaged(f"made/{at.verb}-{at.number}-task.xml")
        return Action(
            "task",
            f"make task {step.name}",
            f'schtasks.exe /create /tn {name} /xml "{file}" /f',
            reverse=f"schtasks.exe /delete /tn {name} /f",
        )

    def made(self, step: TaskStep, at: At) -> dict[str, bytes]:
        return {f"made/{at.verb}-{at.number}-task.xml": task_xml(step)} if step.program else {}

    def perform(self, action: Action, host: Host) -> Result:
        return run_or_assume(action, host)
