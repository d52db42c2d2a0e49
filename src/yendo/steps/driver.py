"""Steps that add a folder of drivers."""

from __future__ import annotations

import re
from collections.abc import Iterator
from typing import TYPE_CHECKING

from yendo.errors import Usage
from yendo.platforms.windows.registry_keys import DRIVER_NAMES
from yendo.steps.base import Action, At, Kind, Result, Step, packaged
from yendo.terms.amounts import Text

if TYPE_CHECKING:
    from yendo.steps.host import Host


class DriverStep(Step, tag="driver", frozen=True, rename={"source": "from"}, kw_only=True):
    """Adds the drivers of a folder below ``extras/`` to the machine's store and installs them where their device is."""

    source: Text


class DriverKind(Kind[DriverStep]):
    step = DriverStep
    reversal = "by record"
    executed = ("API layer", "simulation", "stand-in")

    def resolve(self, step: DriverStep, at: At) -> Action:
        # Source: the driver program's exit codes. 259: nothing to do, it is there; 3010: a restart is needed.
        return Action(
            "driver",
            f"add drivers of {step.source}",
            f'pnputil.exe /add-driver "{packaged(step.source)}\\*.inf" /subdirs /install',
            codes={"0": "done", "259": "not needed", "3010": "restart"},
        )

    def mistakes(self, step: DriverStep, at: At) -> Iterator[tuple[str, str, str]]:
        try:
            files = {path.suffix.lower() for path in self.sources(step, at.base)}
        except Usage as error:
            yield "from", str(error), "put the driver's folder there"
            return
        if ".inf" not in files:
            yield "from", f"{step.source} holds no .inf", "name the folder with the driver's .inf"

    def perform(self, action: Action, host: Host) -> Result:
        kept = rf"{host.room}\drivers.txt"
        had = _names_before(host, kept)
        code, output = host.call(host.expand(action.command.replace("{package}", host.folder)), action.timeout)
        for name in dict.fromkeys(re.findall(r"(?i)\boem\d+\.inf\b", output)):  # under which the store keeps it
            if name.lower() not in had:  # another's, or an earlier run's, whose record has it
                host.remember("U", f"pnputil.exe /delete-driver {name} /uninstall")
        host.session.remove(kept)
        return Result(host.meaning(action.codes, code), code)


def _names_before(host: Host, kept: str) -> set[str]:
    """The names under which the store kept drivers before this step began, also where it is gone on with after a power
    cut: what was there before is another's, and stays.
    """
    lines = (host.session.read(kept) or b"").decode("utf-8", "replace").split()
    if not lines or lines[-1] != "end":
        lines = [key.rpartition("\\")[2] for key in host.session.keys_below("HKLM", "64", DRIVER_NAMES)] + ["end"]
        host.own_folders(host.room)
        host.session.write(kept, "".join(f"{line}\r\n" for line in lines).encode())
    return {line.lower() for line in lines}
