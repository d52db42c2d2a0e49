"""The plan: one readable file that says what a package is."""

from yendo.plan import places
from yendo.plan.mistakes import PlanProblem
from yendo.plan.model import InTheWay, Log, Media, Need, Package, Plan, Way
from yendo.plan.reading import PlanError, read, read_once, read_text
from yendo.steps import Step
from yendo.steps.copy import CopyStep
from yendo.steps.exe import ExeStep
from yendo.steps.msi import MsiStep
from yendo.steps.take_back import TakeBackStep
from yendo.terms.changes import PlannedChange
from yendo.terms.rules import FileRule, MsiProductRule, RegistryRule, Rule, UninstallEntryRule
from yendo.terms.when import Condition

__all__ = [
    "Condition",
    "CopyStep",
    "ExeStep",
    "FileRule",
    "InTheWay",
    "Log",
    "Media",
    "MsiProductRule",
    "MsiStep",
    "Need",
    "Package",
    "Plan",
    "PlanError",
    "PlanProblem",
    "PlannedChange",
    "RegistryRule",
    "Rule",
    "Step",
    "TakeBackStep",
    "UninstallEntryRule",
    "Way",
    "places",
    "read",
    "read_once",
    "read_text",
]
