"""Steps that make a shortcut."""

from __future__ import annotations

from collections.abc import Iterator
from typing import TYPE_CHECKING

from yendo.effects.things import Shortcut
from yendo.steps.base import DONE, Action, ActionData, At, Kind, Result, Step
from yendo.terms import events
from yendo.terms.amounts import Text

if TYPE_CHECKING:
    from yendo.steps.host import Host

MENU = r"%ProgramData%\Microsoft\Windows\Start Menu\Programs"


class ShortcutStep(Step, tag="shortcut", frozen=True, kw_only=True):
    """Makes a shortcut. ``path`` is its whole path, or a name below everybody's start menu: ``Tidewell\\Lantern``."""

    path: Text
    target: Text
    arguments: str = ""
    start_in: str = ""
    description: str = ""
    icon: str = ""


class ShortcutData(ActionData, frozen=True):
    path: str
    target: str
    arguments: str = ""
    start_in: str = ""
    description: str = ""
    icon: str = ""


class ShortcutKind(Kind[ShortcutStep]):
    step = ShortcutStep
    reversal = "by record"
    executed = ("API layer", "simulation")

    def resolve(self, step: ShortcutStep, at: At) -> Action:
        path = step.path if step.path[1:2] == ":" or step.path.startswith("%") else rf"{MENU}\{step.path}"
        path = path if path.lower().endswith(".lnk") else path + ".lnk"
        data = ShortcutData(path, step.target, step.arguments, step.start_in, step.description, step.icon)
        return Action("shortcut", f"make shortcut {step.path}", data=data.plain())

    def perform(self, action: Action, host: Host) -> Result:
        own = ShortcutData.of(action)
        path, target, arguments, start_in = map(host.expand, (own.path, own.target, own.arguments, own.start_in))
        link = Shortcut(path, target, arguments, start_in, own.description)
        host.put_shortcut(link)
        host.tell(events.Changed("made", link.path))
        return DONE

    def mistakes(self, step: ShortcutStep, at: At) -> Iterator[tuple[str, str, str]]:
        if "%userprofile%" in step.path.lower() or "%appdata%" in step.path.lower():
            yield (
                "path",
                "it is made for the account that runs the package, which is the system account",
                "name it below everybody's start menu",
            )
