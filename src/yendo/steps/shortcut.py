"""Steps that make a shortcut."""

from __future__ import annotations

from collections.abc import Iterator
from typing import TYPE_CHECKING

from yendo.effects.things import Shortcut
from yendo.steps.base import DONE, Action, At, Kind, Result, Step
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


class ShortcutKind(Kind):
    step = ShortcutStep
    reversal = "by record"
    executed = ("API layer", "simulation")

    def resolve(self, step: ShortcutStep, at: At) -> Action:
        path = step.path if step.path[1:2] == ":" or step.path.startswith("%") else rf"{MENU}\{step.path}"
        path = path if path.lower().endswith(".lnk") else path + ".lnk"
        data = {"path": path, "target": step.target, "arguments": step.arguments, "start_in": step.start_in}
        return Action(
            "shortcut", f"make shortcut {step.path}", data={**data, "description": step.description, "icon": step.icon}
        )

    def perform(self, action: Action, host: Host) -> Result:
        path, target, arguments, start_in = (
            host.expand(action.data[field]) for field in ("path", "target", "arguments", "start_in")
        )
        link = Shortcut(path, target, arguments, start_in, action.data["description"])
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
