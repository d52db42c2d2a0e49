"""A shortcut."""

from __future__ import annotations

from yendo.effects import Shortcut
from yendo.effects.things import parent
from yendo.errors import NotCovered
from yendo.terms.amounts import Text
from yendo.terms.rules.base import BaseRule, Criteria, Field, OvalTest, Sight


class ShortcutRule(BaseRule, tag="shortcut", frozen=True, kw_only=True):
    """A shortcut (``.lnk``) exists, and points to a target."""

    path: Text
    target: Text | None = None

    @property
    def title(self) -> str:
        return f"shortcut {self.path} " + (f"to {self.target}" if self.target else "exists")

    def judge(self, sight: Sight) -> tuple[bool, str]:
        path = sight.expand(self.path)
        found = sight.state.get("shortcut", path)
        if not isinstance(found, Shortcut):
            return False, f"{path} does not exist"
        if self.target and (found.target or "").lower() != sight.expand(self.target).lower():
            return False, f"it points to {found.target}"
        return True, f"{path} is there"

    def data(self) -> dict[str, object]:
        return {"path": self.path, "target": self.target or ""}

    def fulfil(self, sight: Sight) -> None:
        path = sight.expand(self.path)
        sight.state.add_folders(parent(path))
        sight.state.add(Shortcut(path, sight.expand(self.target) if self.target else None))

    def oval(self) -> Criteria | OvalTest:
        if self.target:
            raise NotCovered(f"OVAL 5.11 cannot ask where a shortcut points: “{self.title}”")
        return OvalTest("file", (Field("filepath", self.path, "case insensitive equals"),), view="64_bit")
