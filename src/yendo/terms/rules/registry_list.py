"""Several values of one registry key."""

from __future__ import annotations

from typing import Annotated

from msgspec import Meta

from yendo.terms.amounts import Text
from yendo.terms.rules.base import BaseRule, Criteria, RuleView, Sight
from yendo.terms.rules.registry import RegistryRule, parts_of

MAX_VALUES = 500


class RegistryListRule(BaseRule, tag="registry-list", frozen=True, kw_only=True):
    """A registry key has all values of a list, each equal to a text or number, or with anything (``*``)."""

    key: Text
    values: Annotated[dict[str, str | int], Meta(min_length=1, max_length=MAX_VALUES)]
    view: RuleView = "64"

    def __post_init__(self) -> None:
        super().__post_init__()
        parts_of(self.key)

    @property
    def rules(self) -> tuple[RegistryRule, ...]:
        """The same as rules on single values."""
        return tuple(
            RegistryRule(key=self.key, name=name, equals=None if want == "*" else want, view=self.view)
            for name, want in self.values.items()
        )

    @property
    def title(self) -> str:
        return f"{len(self.values)} values of {self.key}"

    def judge(self, sight: Sight) -> tuple[bool, str]:
        for rule in self.rules:
            holds, fact = rule.judge(sight)
            if not holds:
                return False, f"{rule.name or '(unnamed)'}: {fact}"
        return True, f"all {len(self.values)} are there"

    def data(self) -> dict[str, object]:
        return {"values": [rule.data() for rule in self.rules]}

    def fulfil(self, sight: Sight) -> None:
        for rule in self.rules:
            rule.fulfil(sight)

    def oval(self) -> Criteria:
        return Criteria("AND", tuple(rule.oval() for rule in self.rules))
