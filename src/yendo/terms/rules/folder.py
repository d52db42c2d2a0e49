"""A folder."""

from __future__ import annotations

from yendo.terms.amounts import Text
from yendo.terms.rules.base import BaseRule, Criteria, Field, OvalTest, Sight


class FolderRule(BaseRule, tag="folder", frozen=True, kw_only=True):
    """A folder exists."""

    path: Text

    @property
    def title(self) -> str:
        return f"folder {self.path} exists"

    def judge(self, sight: Sight) -> tuple[bool, str]:
        path = sight.expand(self.path)
        there = sight.state.get("folder", path) is not None
        return there, f"{path} {'is there' if there else 'does not exist'}"

    def data(self) -> dict[str, object]:
        return {"path": self.path}

    def fulfil(self, sight: Sight) -> None:
        sight.state.add_folders(sight.expand(self.path))

    def oval(self) -> Criteria | OvalTest:
        return OvalTest(
            "file", (Field("path", self.path, "case insensitive equals"), Field("filename", None)), view="64_bit"
        )
