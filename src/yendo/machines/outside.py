"""What a real machine does not let others do from outside: there the package's own runner does it."""

from __future__ import annotations

from typing import NoReturn

from yendo.errors import NotCovered
from yendo.facts.machine import Facts
from yendo.machines.protocol import Ran
from yendo.platforms.windows.surroundings import Surroundings

OPENED_WITHIN = 30.0


def opening(name: str) -> str:
    """The line that puts a program of the system under another name, and starts it."""
    return f'cmd /c copy C:\\windows\\notepad.exe "C:\\{name}.exe" & start "" "C:\\{name}.exe"'


class RunnerOnly:
    """Mixed into a session: everything here is refused, and the facts are those that can be seen from outside."""

    surroundings: Surroundings
    staging = None

    def run(self, command: str, *, timeout: float, folder: str | None = None, patient: bool = False) -> Ran:
        """What every real machine has of its own."""
        raise NotImplementedError

    def open_program(self, name: str) -> None:
        self.run(opening(name), timeout=OPENED_WITHIN)

    @property
    def facts(self) -> Facts:
        return Facts(
            windows=self.surroundings.windows,
            architecture=self.surroundings.architecture,
            computer=self.surroundings.computer,
        )

    def _refuse(self, *_: object) -> NoReturn:
        raise NotCovered(
            "this step needs the package's own runner, and this machine has no PowerShell; `yendo doctor` says how "
            "to add one"
        )

    folders_below = get_value = set_value = has_key = make_key = drop_key = keys_below = values_of = _refuse
    user_hives = service_state = related = put_shortcut = show = answer = make_hold = _refuse
