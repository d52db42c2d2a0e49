"""The standard actions that change a machine, one function each, found by name in ``STANDARD``.

An action with nothing to do here is in ``WITHOUT_EFFECT``; tables whose actions are not carried out
yet are in ``NOT_INTERPRETED`` and become blind spots. Source: the Windows Installer's documentation
of the action and of its table.
"""

from yendo.installers.msi.actions import classes, files, product, registry, search, shell, system
from yendo.installers.msi.actions.table import NOT_INTERPRETED, STANDARD, WITHOUT_EFFECT

__all__ = [
    "NOT_INTERPRETED",
    "STANDARD",
    "WITHOUT_EFFECT",
    "classes",
    "files",
    "product",
    "registry",
    "search",
    "shell",
    "system",
]
