"""What cannot be carried out inside an installation of the Windows Installer: found by reading, before it is tried.

Source: the Windows Installer carries out one installation at a time; a second one ends with 1618, and so fails a custom
action that waits for it. The API layer does not refuse it, so no run there would show it.
"""

from __future__ import annotations

import re
from collections.abc import Iterator, Sequence
from pathlib import Path

from yendo.errors import NotCovered, Unreadable, Usage
from yendo.installers import recognise
from yendo.plan import Plan
from yendo.plan.model import VERBS
from yendo.steps.base import Step
from yendo.steps.exe import ExeStep
from yendo.steps.include import IncludeStep
from yendo.steps.msi import MsiStep
from yendo.steps.remove_previous import RemovePreviousStep
from yendo.steps.restart import RestartStep
from yendo.steps.script import ScriptStep
from yendo.steps.sign_out import SignOutStep

MOST = 4 << 20  # bytes of a script that are read
_DATABASE = re.compile(r"(?i)\.(msi|msp)$")
_CALLS = re.compile(r"(?i)msiexec|\.msi\b|\.msp\b|Install-Package|WindowsInstaller\.Installer")


class NotWithin(Usage):
    """Steps that cannot be carried out inside an installation. ``steps`` in words, each with its reason."""

    def __init__(self, steps: Sequence[tuple[str, str]]) -> None:
        by_reason: dict[str, list[str]] = {}
        for step, why in steps:
            by_reason.setdefault(why, []).append(step)
        some = "; ".join(f"{', '.join(some)}: {why}" for why, some in by_reason.items())
        super().__init__(
            f"this package cannot be carried out inside an installation: {some}. Hand the package itself over, or a "
            "database of its own beside it; where there has to be one, it starts this behind itself: by an embedded "
            "chainer, or by a task"
        )
        self.steps = tuple(steps)


def judged(plan: Plan, workspace: Path) -> tuple[list[tuple[str, str]], list[str]]:
    """Which steps cannot be carried out inside an installation, and what nobody can tell by reading."""
    wrong: list[tuple[str, str]] = []
    open_: list[str] = []
    for verb in VERBS:
        for number, step in enumerate(plan.steps(verb), 1):
            words = f"{verb} step {number} ({step.__struct_config__.tag})"
            for why, certain in _reasons(step, workspace):
                if certain:
                    wrong.append((words, why))
                else:
                    open_.append(f"{words}: {why}")
    return wrong, open_


def _reasons(step: Step, workspace: Path) -> Iterator[tuple[str, bool]]:
    """Why a step does not go inside, and whether that is certain."""
    match step:
        case MsiStep():
            yield "it runs the Windows Installer, which carries out one installation at a time", True
        case IncludeStep():
            yield "it carries another package out, which may run the Windows Installer", True
        case RestartStep():
            yield "an installation cannot go on after a restart in its middle", True
        case SignOutStep():
            yield "it ends the session that the installation may run in", True
        case RemovePreviousStep(name=None):
            yield "it removes a product by the Windows Installer, which carries out one installation at a time", True
        case RemovePreviousStep():
            yield "what is found by its name may be removed by the Windows Installer, and fails then", False
        case ScriptStep():
            yield from _script(step, workspace)
        case ExeStep():
            yield from _program(step, workspace)


def _script(step: ScriptStep, workspace: Path) -> Iterator[tuple[str, bool]]:
    try:
        with (workspace / step.source.replace("\\", "/")).open("rb") as file:
            text = file.read(MOST)
    except OSError:
        return  # the build says it better
    if found := _CALLS.search(text.replace(b"\0", b"").decode("utf-8", "replace")):
        yield f"its script names {found[0]!r}, so it seems to run the Windows Installer", True


def _program(step: ExeStep, workspace: Path) -> Iterator[tuple[str, bool]]:
    if step.program is not None or step.media is None:
        if _CALLS.search(f"{step.program} {step.arguments}"):
            yield "it runs the Windows Installer, which carries out one installation at a time", True
        return
    try:
        account = recognise.read(workspace / "media" / step.media)
    except (Unreadable, NotCovered, Usage) as error:
        yield f"{step.media} cannot be read, so whether it runs the Windows Installer is not known: {error}", False
        return
    inside = next((content.name for content in account.contents if _DATABASE.search(content.name)), None)
    lines = [line.command for line in (account.silent.install, account.silent.uninstall) if line]
    if inside:
        yield f"{step.media} carries the database {inside}, and installs it", True
    elif any(effect.kind == "product" for effect in account.effects) or any(map(_CALLS.search, lines)):
        yield f"{step.media} installs a product by the Windows Installer", True
    elif account.family in ("plain-exe", "archive-exe"):
        yield f"nothing tells what {step.media} does, so it may run the Windows Installer, and fails then", False
