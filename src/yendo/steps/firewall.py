"""Steps that open the firewall for a program or a port."""

from __future__ import annotations

from collections.abc import Iterator
from typing import TYPE_CHECKING, Annotated, Literal

from msgspec import Meta

from yendo.steps.base import Action, At, Kind, Result, Step, quoted
from yendo.steps.exe import run_or_assume
from yendo.terms.amounts import Text

if TYPE_CHECKING:
    from yendo.steps.host import Host


class FirewallStep(Step, tag="firewall", frozen=True, kw_only=True):
    """Makes a rule of the firewall: for a program, or for a protocol and its ports."""

    name: Text
    direction: Literal["in", "out"] = "in"
    decision: Literal["allow", "block"] = "allow"
    program: str = ""
    protocol: Literal["tcp", "udp", "any"] = "any"
    ports: Annotated[str, Meta(pattern=r"^(\d{1,5}(-\d{1,5})?(,\d{1,5}(-\d{1,5})?)*)?$")] = ""

    def __post_init__(self) -> None:
        super().__post_init__()
        if not self.program and not self.ports:
            raise ValueError("a rule names a program or ports")
        if self.ports and self.protocol == "any":
            raise ValueError("ports belong to tcp or udp")


class FirewallKind(Kind[FirewallStep]):
    step = FirewallStep
    reversal = "by record"
    executed = ("simulation", "stand-in")

    def resolve(self, step: FirewallStep, at: At) -> Action:
        words = [f"name={quoted(step.name)}", f"dir={step.direction}", f"action={step.decision}"]
        words += [f"program={quoted(step.program)}"] if step.program else []
        words += (
            [f"protocol={step.protocol}", f"{'localport' if step.direction == 'in' else 'remoteport'}={step.ports}"]
            if step.ports
            else []
        )
        return Action(
            "firewall",
            f"firewall rule {step.name}",
            f"netsh.exe advfirewall firewall add rule {' '.join(words)}",
            reverse=f"netsh.exe advfirewall firewall delete rule name={quoted(step.name)}",
        )

    def mistakes(self, step: FirewallStep, at: At) -> Iterator[tuple[str, str, str]]:
        if step.decision == "allow" and step.direction == "in" and not step.program:
            yield "ports", "every program may then take what comes in on these ports", "name the program too"

    def perform(self, action: Action, host: Host) -> Result:
        return run_or_assume(action, host)
