"""Steps that add a folder of drivers."""

from __future__ import annotations

import re
from collections.abc import Iterator
from typing import TYPE_CHECKING

from yendo.errors import Usage
from yendo.steps.base import Action, At, Kind, Result, Step, packaged
from yendo.terms.amounts import Text

if TYPE_CHECKING:
    from yendo.steps.host import Host


class DriverStep(Step, tag="driver", frozen=True, rename={"source": "from"}, kw_only=True):
    """Adds the drivers of a folder below ``extras/`` to the machine's store and installs them where their device is."""

    source: Text


class DriverKind(Kind):
    step = DriverStep
    reversal = "by record"
    executed = ("simulation", "stand-in")

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
        code, output = host.call(host.expand(action.command.replace("{package}", host.folder)), action.timeout)
        for name in dict.fromkeys(re.findall(r"(?i)\boem\d+\.inf\b", output)):  # under which the store keeps it
            host.remember("U", f"pnputil.exe /delete-driver {name} /uninstall")
        return Result(host.meaning(action.codes, code), code)
