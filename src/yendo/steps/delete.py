"""Steps that delete a file or a folder."""

from __future__ import annotations

from collections.abc import Iterator
from typing import TYPE_CHECKING

from yendo.effects.things import parent
from yendo.steps.base import DONE, NOT_NEEDED, Action, ActionData, At, Kind, Result, Step
from yendo.terms import events
from yendo.terms.amounts import Text

if TYPE_CHECKING:
    from yendo.steps.host import Host


# Folders of the system below which a program has its own.
_PARENTS = ("%programdata%\\", "%programfiles%\\", "%programfiles(x86)%\\")


class DeleteStep(Step, tag="delete", frozen=True, kw_only=True):
    """Deletes a file, or a folder with all that is in it; with ``only_empty`` a folder only where nothing is in it.

    With ``keep`` the files are kept aside, and put back by the uninstall. With ``empty_parents`` the folders above go
    too, as far as they are empty then and no folder of the system's or of a person's.
    """

    path: Text
    keep: bool = True
    only_empty: bool = False
    empty_parents: bool = False


class DeleteData(ActionData, frozen=True):
    path: str
    keep: bool = False
    only_empty: bool = False
    empty_parents: bool = False


class DeleteKind(Kind[DeleteStep]):
    step = DeleteStep
    reversal = "by record"
    executed = ("API layer", "simulation")

    def resolve(self, step: DeleteStep, at: At) -> Action:
        path = step.path.rstrip("\\/").replace("/", "\\")
        data = DeleteData(path, step.keep, step.only_empty, step.empty_parents)
        return Action("delete", f"delete {step.path}", data=data.plain())

    def perform(self, action: Action, host: Host) -> Result:
        own = DeleteData.of(action)
        path = host.expand(own.path)
        if own.only_empty:
            result = self._emptied(path, host)
        else:
            result = self._deleted(path, own.keep, host)
        if own.empty_parents:
            self._parents(path, host)
        return result

    def _parents(self, path: str, host: Host) -> None:
        standing = {value.lower().rstrip("\\") for value in host.environment.values()}
        above = parent(path)
        while above.count("\\") > 1 and above.lower() not in standing and host.session.remove_folder(above):
            host.tell(events.Changed("removed", above))
            above = parent(above)

    def _emptied(self, path: str, host: Host) -> Result:
        if not host.session.has_folder(path):
            host.tell(events.Changed("not there", path))
            return NOT_NEEDED
        if not host.session.remove_folder(path):
            host.tell(events.Left("it is not empty", path))
            return NOT_NEEDED
        host.tell(events.Changed("removed", path))
        return DONE

    def _deleted(self, path: str, keep: bool, host: Host) -> Result:
        if host.drop(path, keep=keep):
            host.tell(events.Changed("deleted", path))
            return DONE
        if not host.session.has_folder(path):
            host.tell(events.Changed("not there", path))
            return NOT_NEEDED
        for inner in host.session.files_below(path):
            host.drop(inner, keep=keep)
        for folder in sorted(host.session.folders_below(path), key=len, reverse=True):
            host.session.remove_folder(folder)
        host.session.remove_folder(path)
        host.tell(events.Changed("deleted", path))
        return DONE

    def mistakes(self, step: DeleteStep, at: At) -> Iterator[tuple[str, str, str]]:
        if any(mark in step.path for mark in "*?"):
            yield "path", "a pattern is not expanded", "name the file, or its folder"
        elif step.path.rstrip("\\").count("\\") < (1 if step.only_empty else 2) and not step.path.lower().startswith(
            _PARENTS
        ):
            yield "path", f"{step.path} is a folder of the system's", "name a folder of the program's own"
