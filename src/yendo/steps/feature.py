"""Steps that switch a part of the operating system on or off."""

from __future__ import annotations

from collections.abc import Iterator
from typing import TYPE_CHECKING, Literal

from yendo.steps.base import UNSEEN, Action, At, Kind, Meaning, Result, Step, in_extras, packaged
from yendo.steps.exe import run_or_assume
from yendo.terms.rules import FeatureRule, NoneRule

if TYPE_CHECKING:
    from yendo.steps.host import Host


class FeatureStep(Step, tag="feature", frozen=True, kw_only=True):
    """Switches a part of the operating system on or off by its name, or adds it from a cabinet below ``extras/``.

    ``source`` is a folder with the system's files, where the machine does not have them; then none are fetched. One
    below ``extras/`` comes along, whole; else it is a place that every machine reaches.
    """

    name: str = ""
    cabinet: str = ""
    change: Literal["on", "off"] = "on"
    source: str = ""

    def __post_init__(self) -> None:
        super().__post_init__()
        if bool(self.name) == bool(self.cabinet):
            raise ValueError("a feature step has exactly one of name and cabinet")


class FeatureKind(Kind[FeatureStep]):
    step = FeatureStep
    reversal = "by record"
    executed = ("simulation", "stand-in")
    unseen = UNSEEN

    def resolve(self, step: FeatureStep, at: At) -> Action:
        codes: dict[str, Meaning] = {"0": "done", "3010": "restart"}
        if step.cabinet:
            return Action(
                "feature",
                f"add {step.cabinet}",
                f'dism.exe /online /quiet /norestart /add-package /packagepath:"{packaged(step.cabinet)}"',
                codes=codes,
            )
        source = packaged(step.source) if in_extras(step.source) else step.source
        limit = f' /source:"{source}" /limitaccess' if source else ""
        line = "dism.exe /online /quiet /norestart /{0}-feature /featurename:" + step.name
        is_on = FeatureRule(name=step.name)
        on, off = line.format("enable") + " /all" + limit, line.format("disable")
        return Action(
            "feature",
            f"feature {step.name} {step.change}",
            on if step.change == "on" else off,
            codes=codes,
            reverse=off if step.change == "on" else on,
            unless=(is_on if step.change == "on" else NoneRule(of=(is_on,)),),  # what was so is not taken back
        )

    def mistakes(self, step: FeatureStep, at: At) -> Iterator[tuple[str, str, str]]:
        if step.change == "on" and step.name and not step.source:
            yield (
                "name",
                f"{step.name} may be fetched over the network",
                "say with source where its files are, if machines are offline",
            )

    def perform(self, action: Action, host: Host) -> Result:
        return run_or_assume(action, host)
