"""Kinds of steps, one module each, with the script fragment of the same name beside it. The table below is all that
knows of them: a new kind is a module and a line here, and a fragment where it is more than a command line.
"""

from __future__ import annotations

from collections.abc import Iterable
from functools import cache
from importlib.resources import files
from pathlib import Path
from typing import cast

from yendo.steps.base import Action, At, Kind, Result, Step
from yendo.steps.capability import CapabilityKind, CapabilityStep
from yendo.steps.captured import CapturedKind, CapturedStep, MadeKind, MadeStep
from yendo.steps.certificate import CertificateKind, CertificateStep
from yendo.steps.copy import CopyKind, CopyStep
from yendo.steps.delete import DeleteKind, DeleteStep
from yendo.steps.driver import DriverKind, DriverStep
from yendo.steps.edit import EditKind, EditStep
from yendo.steps.environment import EnvironmentKind, EnvironmentStep
from yendo.steps.exe import ExeKind, ExeStep
from yendo.steps.feature import FeatureKind, FeatureStep
from yendo.steps.firewall import FirewallKind, FirewallStep
from yendo.steps.font import FontKind, FontStep
from yendo.steps.include import IncludeKind, IncludeStep
from yendo.steps.msi import MsiKind, MsiStep
from yendo.steps.msix import MsixKind, MsixStep
from yendo.steps.record import RecordKind, RecordStep
from yendo.steps.registry import RegistryKind, RegistryStep
from yendo.steps.remove_driver import RemoveDriverKind, RemoveDriverStep
from yendo.steps.remove_previous import RemovePreviousKind, RemovePreviousStep
from yendo.steps.restart import RestartKind, RestartStep
from yendo.steps.rights import RightsKind, RightsStep
from yendo.steps.script import ScriptKind, ScriptStep
from yendo.steps.service import ServiceKind, ServiceStep
from yendo.steps.shortcut import ShortcutKind, ShortcutStep
from yendo.steps.sign_out import SignOutKind, SignOutStep
from yendo.steps.system_package import SystemPackageKind, SystemPackageStep
from yendo.steps.system_upgrade import SystemUpgradeKind, SystemUpgradeStep
from yendo.steps.take_back import TakeBackKind, TakeBackStep
from yendo.steps.task import TaskKind, TaskStep
from yendo.steps.tell import TellKind, TellStep
from yendo.steps.wait import WaitKind, WaitStep

# Of whatever step: a kind is only handed its own, by ``kind_of``.
AnyKind = Kind[Step]
KINDS: dict[str, AnyKind] = {
    kind.name: cast(AnyKind, kind)
    for kind in (
        CapabilityKind(),
        CapturedKind(),
        CertificateKind(),
        CopyKind(),
        DeleteKind(),
        DriverKind(),
        EditKind(),
        EnvironmentKind(),
        ExeKind(),
        FeatureKind(),
        FirewallKind(),
        FontKind(),
        IncludeKind(),
        MsiKind(),
        MsixKind(),
        RecordKind(),
        RegistryKind(),
        RemoveDriverKind(),
        RemovePreviousKind(),
        RestartKind(),
        RightsKind(),
        ScriptKind(),
        ServiceKind(),
        ShortcutKind(),
        SignOutKind(),
        SystemPackageKind(),
        SystemUpgradeKind(),
        TakeBackKind(),
        TaskKind(),
        TellKind(),
        WaitKind(),
    )
}
_MADE = cast(AnyKind, MadeKind())
AnyStep = (
    CapabilityStep
    | CapturedStep
    | CertificateStep
    | CopyStep
    | DeleteStep
    | DriverStep
    | EditStep
    | EnvironmentStep
    | ExeStep
    | FeatureStep
    | FirewallStep
    | FontStep
    | IncludeStep
    | MsiStep
    | MsixStep
    | RecordStep
    | RegistryStep
    | RemoveDriverStep
    | RemovePreviousStep
    | RestartStep
    | RightsStep
    | ScriptStep
    | ServiceStep
    | ShortcutStep
    | SignOutStep
    | SystemPackageStep
    | SystemUpgradeStep
    | TakeBackStep
    | TaskStep
    | TellStep
    | WaitStep
)


def expanded(steps: Iterable[Step], base: Path, kept: str) -> tuple[Step, ...]:
    """The steps of a plan as they are carried out, those that stand for several taken apart. Raises Usage."""
    return tuple(made for step in steps for made in kind_of(step).expand(step, base, kept))


def kind_of(step: Step) -> AnyKind:
    """The kind of a step."""
    if isinstance(step, MadeStep):  # no plan has it
        return _MADE
    return KINDS[str(step.__struct_config__.tag)]


@cache
def fragment(name: str) -> str:
    """The part of the runner that carries a kind out: a function ``Step-NAME``, as text. One that is a command line
    alone needs no file of its own.
    """
    own = files("yendo.steps").joinpath(f"{name.replace('-', '_')}.ps1")
    if own.is_file():
        return own.read_text("utf-8")
    title = "".join(part.capitalize() for part in name.split("-"))
    return f"function Step-{title}($Step) {{ return Invoke-CommandLine $Step }}\n"


__all__ = ["KINDS", "Action", "AnyStep", "At", "Kind", "Result", "Step", "expanded", "fragment", "kind_of"]
