"""Steps that provide a modern app package to everybody."""

from __future__ import annotations

from typing import TYPE_CHECKING

from yendo.formats import app_package
from yendo.steps.base import Action, At, Kind, Result, Step, below, packaged
from yendo.steps.exe import run_or_assume
from yendo.terms.amounts import Text

if TYPE_CHECKING:
    from yendo.steps.host import Host


class MsixStep(Step, tag="msix", frozen=True, kw_only=True):
    """Provides a modern app package to every user of the machine, those to come too.

    ``needs`` are packages that it depends on.
    """

    media: Text
    needs: tuple[Text, ...] = ()


class MsixKind(Kind):
    step = MsixStep
    reversal = "by record"
    executed = ("simulation", "stand-in")

    def resolve(self, step: MsixStep, at: At) -> Action:
        needs = "".join(f' /dependencypackagepath:"{packaged("media/" + name)}"' for name in step.needs)
        name = app_package.identity(below(at.base, f"media/{step.media}", "media")).full_name
        return Action(
            "msix",
            f"provide {step.media}",
            "dism.exe /online /quiet /norestart /add-provisionedappxpackage "
            f'/packagepath:"{packaged("media/" + step.media)}"{needs} /skiplicense',
            codes={"0": "done", "3010": "restart"},
            reverse=f"dism.exe /online /quiet /norestart /remove-provisionedappxpackage /packagename:{name}",
        )

    def perform(self, action: Action, host: Host) -> Result:
        return run_or_assume(action, host)
