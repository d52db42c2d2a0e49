"""The plan: one readable file that says what a package is."""

from yendo.plan.model import (
    Change,
    CopyStep,
    FileRule,
    InTheWay,
    Log,
    Media,
    MsiProductRule,
    MsiStep,
    Package,
    Plan,
    RegistryRule,
    Rule,
    Step,
    TakeBackStep,
    UninstallEntryRule,
    When,
)
from yendo.plan.reading import PlanError, Problem, read, read_text

__all__ = [
    "Change",
    "CopyStep",
    "FileRule",
    "InTheWay",
    "Log",
    "Media",
    "MsiProductRule",
    "MsiStep",
    "Package",
    "Plan",
    "PlanError",
    "Problem",
    "RegistryRule",
    "Rule",
    "Step",
    "TakeBackStep",
    "UninstallEntryRule",
    "When",
    "read",
    "read_text",
]
