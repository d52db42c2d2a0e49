"""A package's own mark on a machine: the last thing that an install writes, the first that a removal takes away.

What a vendor's installer leaves says that the product is there; the mark says that this package put it there, in which
revision. With ``mark = true`` in a plan its steps and its rule come by themselves.
"""

from __future__ import annotations

import hashlib
from typing import TYPE_CHECKING

import msgspec

from yendo.platforms.windows import paths
from yendo.platforms.windows.registry_keys import MACHINE
from yendo.steps import Step
from yendo.steps.registry import RegistryStep
from yendo.terms.rules.registry import RegistryRule

if TYPE_CHECKING:
    from yendo.plan.model import Plan

_ABOVE = paths.join(MACHINE, "Software", "Yendo")
KEY = paths.join(_ABOVE, "Installed")
_LIMIT = "1 min"


def value(plan: Plan) -> str:
    """Version, revision, and a hash of the steps and the vendor's files: ``6.2.1 r1 0f3c9a7be412``."""
    parts = msgspec.to_builtins((plan.install, plan.uninstall, plan.repair, plan.media))
    content = hashlib.sha256(msgspec.json.encode(parts, order="deterministic")).hexdigest()[:12]
    return f"{plan.package.version} r{plan.package.revision} {content}"


def rule(plan: Plan) -> RegistryRule:
    return RegistryRule(key=KEY, name=plan.package.id, equals=value(plan))


def steps(plan: Plan, verb: str) -> tuple[tuple[Step, ...], tuple[Step, ...]]:
    """The steps before and after all others of a verb; none without the mark."""
    if not plan.mark:
        return (), ()
    if verb == "uninstall":
        gone = RegistryStep(key=KEY, delete=(plan.package.id,), empty_key=True, timeout=_LIMIT)
        return (gone, RegistryStep(key=_ABOVE, empty_key=True, timeout=_LIMIT)), ()
    return (), (RegistryStep(key=KEY, values={plan.package.id: value(plan)}, timeout=_LIMIT),)
