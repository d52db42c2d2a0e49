"""A program that runs."""

from __future__ import annotations

import re

from yendo.errors import NotCovered
from yendo.terms.amounts import Text
from yendo.terms.rules.base import BaseRule, Criteria, Field, OvalTest, Sight


class ProcessRule(BaseRule, tag="process", frozen=True, kw_only=True):
    """A program runs, by its name with or without ``.exe``."""

    name: Text

    @property
    def bare(self) -> str:
        return re.sub(r"(?i)\.exe$", "", self.name)

    @property
    def title(self) -> str:
        return f"program {self.bare} runs"

    def judge(self, sight: Sight) -> tuple[bool, str]:
        if sight.running is None:
            raise NotCovered(f"whether {self.bare} runs is not known from outside")
        runs = sight.running(self.bare)
        return runs, f"{self.bare} {'runs' if runs else 'does not run'}"

    def data(self) -> dict[str, object]:
        return {"name": self.bare}

    def oval(self) -> Criteria | OvalTest:
        name = re.escape(self.bare)
        return OvalTest(
            "process58",
            (
                Field("command_line", rf'(?i)^"?([^"]*\\)?{name}(\.exe)?("|\s|$)', "pattern match"),
                Field("pid", "0", "greater than", "int"),
            ),
        )
