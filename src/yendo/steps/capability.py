"""Steps that add or remove a capability of the system."""

from __future__ import annotations

from collections.abc import Iterator
from typing import TYPE_CHECKING, Annotated, Literal

from msgspec import Meta

from yendo.steps.base import UNSEEN, Action, At, Kind, Meaning, Result, Step, in_extras, packaged
from yendo.steps.exe import run_or_assume
from yendo.terms.rules import CapabilityRule, NoneRule

if TYPE_CHECKING:
    from yendo.steps.host import Host


class CapabilityStep(Step, tag="capability", frozen=True, kw_only=True):
    """Adds or removes a capability by its name (``NAME~~~LANGUAGE~VERSION``).

    ``source`` is a folder with its files, where machines are offline; then nothing is fetched, and no policy that names
    an update server is asked. One below ``extras/`` comes along, whole; else it is a place that every machine reaches.
    """

    name: Annotated[str, Meta(pattern=r"^[A-Za-z0-9._-]+~[^~\"\s]*~[^~\"\s]*~[^~\"\s]*~[0-9.]+$")]
    change: Literal["on", "off"] = "on"
    source: str = ""


class CapabilityKind(Kind[CapabilityStep]):
    step = CapabilityStep
    reversal = "by record"
    executed = ("simulation", "stand-in")
    unseen = UNSEEN

    def resolve(self, step: CapabilityStep, at: At) -> Action:
        codes: dict[str, Meaning] = {"0": "done", "3010": "restart"}
        source = packaged(step.source) if in_extras(step.source) else step.source
        limit = f' /source:"{source}" /limitaccess' if source else ""
        # Source: the documentation of the servicing program.
        line = f"dism.exe /online /quiet /norestart /{{}}-capability /capabilityname:{step.name}"
        there = CapabilityRule(name=step.name)
        on, off = line.format("add") + limit, line.format("remove")
        return Action(
            "capability",
            f"capability {step.name} {step.change}",
            on if step.change == "on" else off,
            codes=codes,
            reverse=off if step.change == "on" else on,
            unless=(there if step.change == "on" else NoneRule(of=(there,)),),  # what was so is not taken back
        )

    def mistakes(self, step: CapabilityStep, at: At) -> Iterator[tuple[str, str, str]]:
        if step.change == "on" and not step.source:
            yield (
                "name",
                f"{step.name} is fetched over the network; where a policy names an update server, from there alone",
                "say with source where its files are",
            )

    def perform(self, action: Action, host: Host) -> Result:
        return run_or_assume(action, host)
