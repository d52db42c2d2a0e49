"""Groups of rules, and the table of all kinds: a group holds any of them, so it stands beside them."""

from __future__ import annotations

from typing import Annotated

from msgspec import Meta

from yendo.terms.rules.base import BaseRule, Criteria, OvalTest, Sight
from yendo.terms.rules.certificate import CertificateRule
from yendo.terms.rules.device import DeviceRule
from yendo.terms.rules.environment import EnvironmentRule
from yendo.terms.rules.file import FileRule
from yendo.terms.rules.file_list import FileListRule
from yendo.terms.rules.folder import FolderRule
from yendo.terms.rules.msi_product import MsiProductRule
from yendo.terms.rules.parts import AppRule, CapabilityRule, DriverRule, FeatureRule, SystemPackageRule, TaskRule
from yendo.terms.rules.process import ProcessRule
from yendo.terms.rules.registry import RegistryKeyRule, RegistryRule
from yendo.terms.rules.registry_list import RegistryListRule
from yendo.terms.rules.script import ScriptRule
from yendo.terms.rules.service import ServiceRule
from yendo.terms.rules.shortcut import ShortcutRule
from yendo.terms.rules.tag import TagRule
from yendo.terms.rules.uninstall_entry import UninstallEntryRule

MAX_DEPTH = 8


class Group(BaseRule, frozen=True, kw_only=True):
    """Rules that are judged together."""

    of: Annotated[tuple[AnyRule, ...], Meta(min_length=1)]

    def __post_init__(self) -> None:
        super().__post_init__()
        if _depth(self) > MAX_DEPTH:
            raise ValueError(f"groups within groups, more than {MAX_DEPTH} deep")

    @property
    def inner(self) -> tuple[BaseRule, ...]:
        return self.of

    def data(self) -> dict[str, object]:
        return {"least": self.least, "most": self.most}

    @property
    def least(self) -> int:
        raise NotImplementedError

    @property
    def most(self) -> int:
        return len(self.of)

    @property
    def word(self) -> str:
        raise NotImplementedError

    @property
    def title(self) -> str:
        return f"{self.word} of: {'; '.join(rule.title for rule in self.of)}"

    def judge(self, sight: Sight) -> tuple[bool, str]:
        found = [rule.judge(sight) for rule in self.of]
        count = sum(holds for holds, _ in found)
        return self.least <= count <= self.most, f"{count} of {len(found)} hold: " + "; ".join(
            fact for _, fact in found
        )


def _depth(rule: BaseRule) -> int:
    return 1 + max((_depth(inner) for inner in rule.inner), default=0)


class AllRule(Group, tag="all", frozen=True, kw_only=True):
    """Every rule of the group holds."""

    word = "all"

    @property
    def least(self) -> int:
        return len(self.of)

    def fulfil(self, sight: Sight) -> None:
        for rule in self.of:
            rule.fulfil(sight)

    def oval(self) -> Criteria:
        return Criteria("AND", tuple(rule.oval() for rule in self.of))


class AnyOfRule(Group, tag="any", frozen=True, kw_only=True):
    """At least one rule of the group holds."""

    word = "any"

    @property
    def least(self) -> int:
        return 1

    def fulfil(self, sight: Sight) -> None:
        self.of[0].fulfil(sight)

    def oval(self) -> Criteria:
        return Criteria("OR", tuple(rule.oval() for rule in self.of))


class NoneRule(Group, tag="none", frozen=True, kw_only=True):
    """No rule of the group holds."""

    word = "none"

    @property
    def least(self) -> int:
        return 0

    @property
    def most(self) -> int:
        return 0

    def fulfil(self, sight: Sight) -> None:
        """Nothing: what makes it hold is that nothing is there."""

    def oval(self) -> Criteria:
        return Criteria("OR", tuple(rule.oval() for rule in self.of), negate=True)


class AtLeastRule(Group, tag="at-least", frozen=True, kw_only=True):
    """At least ``count`` rules of the group hold."""

    count: Annotated[int, Meta(ge=1)]

    def __post_init__(self) -> None:
        super().__post_init__()
        if self.count > len(self.of):
            raise ValueError(f"at least {self.count} of {len(self.of)} rules can never hold")

    @property
    def word(self) -> str:
        return f"at least {self.count}"

    @property
    def least(self) -> int:
        return self.count

    def fulfil(self, sight: Sight) -> None:
        for rule in self.of[: self.count]:
            rule.fulfil(sight)

    def oval(self) -> Criteria:
        return at_least(tuple(rule.oval() for rule in self.of), self.count)


def at_least(parts: tuple[Criteria | OvalTest, ...], count: int) -> Criteria:
    """OVAL has no such operator: the first holds and one less of the rest, or that many of the rest."""
    if count == 1:
        return Criteria("OR", parts)
    if count == len(parts):
        return Criteria("AND", parts)
    return Criteria("OR", (Criteria("AND", (parts[0], at_least(parts[1:], count - 1))), at_least(parts[1:], count)))


# All kinds by their words in a plan, in their order. A new kind is a module, its line above, and one here.
AnyRule = (
    AllRule
    | AnyOfRule
    | AppRule
    | AtLeastRule
    | CapabilityRule
    | CertificateRule
    | DeviceRule
    | DriverRule
    | EnvironmentRule
    | FeatureRule
    | FileRule
    | FileListRule
    | FolderRule
    | TagRule
    | MsiProductRule
    | NoneRule
    | ProcessRule
    | RegistryRule
    | RegistryKeyRule
    | RegistryListRule
    | ScriptRule
    | ServiceRule
    | ShortcutRule
    | SystemPackageRule
    | TaskRule
    | UninstallEntryRule
)
