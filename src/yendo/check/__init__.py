"""Rules that find mistakes in a plan, one rule a function."""

from yendo.check import detection, drivers, overlays, rules, sequences, settings, setups
from yendo.check.table import RULES, check
from yendo.check.workspace import Finding, Workspace

__all__ = [
    "RULES",
    "Finding",
    "Workspace",
    "check",
    "detection",
    "drivers",
    "overlays",
    "rules",
    "sequences",
    "settings",
    "setups",
]
