"""What each operation of a compiled script does to a machine: one function an operation, found by its number.

Every function gets the run and the six operands; it returns the number of the next instruction, or
None for the one that follows.
"""

from __future__ import annotations

from collections.abc import Callable

from yendo.installers.script_exe import run as core
from yendo.installers.script_exe.run import ScriptRun

DOES = ScriptRun.operations
_NOTHING = (6, 7, 8, 9, 10, 36, 37, 39, 58, 65, 66, 67)


def does(*numbers: int) -> Callable[[core.Handler], core.Handler]:
    def note(handler: core.Handler) -> core.Handler:
        for number in numbers:
            DOES[number] = handler
        return handler

    return note


@does(*_NOTHING)
def _nothing(run: ScriptRun, *_: int) -> None:
    """Shows, waits or colours something; a machine keeps nothing of it."""


def assign(run: ScriptRun, variable: int, text: str) -> None:
    if variable >= 0:
        run.variables[variable] = run.clean(text) if variable == core.INSTDIR else text[: core.MAX_TEXT]
