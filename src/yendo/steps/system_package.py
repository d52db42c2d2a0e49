"""Steps that add a package of the system: an update, a language, a part of Windows as a file."""

from __future__ import annotations

import re
from collections.abc import Iterator
from typing import TYPE_CHECKING

from yendo.errors import YendoError
from yendo.servicing import reading
from yendo.servicing.reading import SystemPackage
from yendo.steps.base import UNSEEN, Action, At, Kind, Meaning, Result, Reversal, Step, below, packaged
from yendo.steps.exe import run_or_assume
from yendo.terms.amounts import Text
from yendo.terms.rules import SystemPackageRule

if TYPE_CHECKING:
    from yendo.steps.host import Host

_IDENTITY = re.compile(r"[^~\"\s]+~[^~\"\s]*~[^~\"\s]*~[^~\"\s]*~\d+(\.\d+){3}")
# Source: the update program's codes: a restart is needed; it is there already.
_RESTART, _THERE = "2359301", "2359302"


class SystemPackageStep(Step, tag="system-package", frozen=True, rename={"source": "from"}, kw_only=True):
    """Adds a package of the system out of a file below ``extras/``: ``.cab`` or ``.msu``.

    ``package`` is its identity, by which it is taken out again: ``NAME~TOKEN~PROCESSOR~LANGUAGE~VERSION``. Without it
    the package stays; say why under ``[package]``, with ``permanent``.
    """

    source: Text
    package: str = ""

    def __post_init__(self) -> None:
        super().__post_init__()
        if not self.source.lower().endswith((".cab", ".msu")):
            raise ValueError("from is a .cab or a .msu")
        if self.package and not _IDENTITY.fullmatch(self.package):
            raise ValueError("package is NAME~TOKEN~PROCESSOR~LANGUAGE~VERSION, as yendo read shows it")


class SystemPackageKind(Kind[SystemPackageStep]):
    step = SystemPackageStep
    executed = ("API layer", "simulation", "stand-in")
    unseen = UNSEEN

    def resolve(self, step: SystemPackageStep, at: At) -> Action:
        file = packaged(step.source)
        # Source: the documentation of the servicing program and of the update program.
        line, codes = f'dism.exe /online /quiet /norestart /add-package /packagepath:"{file}"', _codes()
        if step.source.lower().endswith(".msu"):
            line, codes = f'wusa.exe "{file}" /quiet /norestart', _codes() | {_RESTART: "restart", _THERE: "not needed"}
        title = f"add {step.source.rpartition('/')[2]}"
        if not step.package:
            return Action("system-package", title, line, codes=codes)
        name, version = step.package.partition("~")[0], step.package.rpartition("~")[2]
        there = SystemPackageRule(name=name, version=f">={version}")
        back = f'dism.exe /online /quiet /norestart /remove-package /packagename:"{step.package}"'
        return Action("system-package", title, line, codes=codes, reverse=back, unless=(there,))

    def reversal_of(self, step: SystemPackageStep) -> Reversal:
        return "by record" if step.package else "cannot"

    def mistakes(self, step: SystemPackageStep, at: At) -> Iterator[tuple[str, str, str]]:
        try:
            found = reading.read(below(at.base, step.source, "extras"))
        except YendoError as error:
            yield "from", str(error), "put the vendor's file there"
            return
        if not isinstance(found, SystemPackage):
            yield "from", f"{step.source} is no package of the system", "name an update or a cabinet with update.mum"
            return
        if step.package and any(one.permanent for one in found.manifests):
            yield (
                "package",
                f"{step.source} says that it cannot be removed",
                'leave it out, and say permanent = "..." under [package]',
            )
        known = {one.identity.whole for one in found.manifests}
        if step.package and known and step.package not in known:
            yield "package", f"{step.source} is not {step.package}", f"it is {', '.join(sorted(known))}"

    def perform(self, action: Action, host: Host) -> Result:
        return run_or_assume(action, host)


def _codes() -> dict[str, Meaning]:
    return {"0": "done", "3010": "restart"}
