"""An effect: one thing a step does to a machine."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterable
from typing import Literal

import msgspec

from yendo.effects.things import Thing, kind_of, label
from yendo.evidence import Evidence

# What a person calls things of a kind, where the kind's own word does not do.
NOUNS = {
    "registry": "registry value",
    "environment": "environment variable",
    "uninstall-entry": "line in the list of programs",
    "product": "product registration",
    "ini": "ini value",
    "registry-key": "empty registry key",
    "part": "part of the system",
    "access-rights": "right",
}
Change = Literal["add", "change", "remove"]
Origin = Literal["predicted", "observed", "authored"]


class Effect(msgspec.Struct, frozen=True, omit_defaults=True, gc=False):
    """``thing`` as it is afterwards (as it was, where it is removed), how it changed, and why we say so."""

    change: Change
    thing: Thing
    origin: Origin = "predicted"
    evidence: Evidence | None = None

    @property
    def kind(self) -> str:
        return kind_of(self.thing)

    @property
    def left(self) -> str:
        """What stays after a removal, in words, as a plan accepts it: that it is there says enough of what was
        added.
        """
        return f"{self.kind} {label(self.thing)}" + ("" if self.change == "add" else f", {self.change}d")

    def __str__(self) -> str:
        return f"{self.change} {self.kind} {label(self.thing)}"


def counts(effects: Iterable[Effect]) -> dict[str, int]:
    """How many effects of each kind, most first; removals counted apart as ``kind removed``."""
    found = Counter(effect.kind + (" removed" if effect.change == "remove" else "") for effect in effects)
    return dict(found.most_common())
