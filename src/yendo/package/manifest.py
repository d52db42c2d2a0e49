"""The manifest: a plan with everything resolved, as it lies in the package."""

from __future__ import annotations

import re
from pathlib import Path
from typing import Literal

import msgspec

from yendo.errors import Unreadable, Usage
from yendo.facts import secrets
from yendo.installers.msi import commandline
from yendo.plan import CopyStep, ExeStep, MsiStep, Plan, Rule, Step
from yendo.plan.model import VERBS, seconds, size

SCHEMA = "yendo.manifest/1"
Meaning = Literal["done", "restart", "restarting", "not needed", "again later", "failed"]

# Source: the Windows Installer's error codes. 1641 means that it has started the restart itself.
MSI_CODES: dict[str, Meaning] = {"0": "done", "3010": "restart", "1641": "restarting", "1618": "again later"}
MSI_GONE: dict[str, Meaning] = {"1605": "not needed", "1614": "not needed"}
# Source: what setup programs use beside 0; those of the Windows Installer are taken by most.
EXE_CODES: dict[str, Meaning] = MSI_CODES
CONTENT = ("media/", "extras/", "transforms/")  # what the steps use, so what must be whole
BUSY_WAIT, BUSY_TRIES = 30, 10  # seconds and times, while another installation runs
DEFAULT_TIMEOUT = 3600.0

# The runner's own exit codes; every other one is the installer's.
NOT_APPLICABLE, DAMAGED, TIMED_OUT, STEP_FAILED, WRONG_USE = 20, 21, 22, 23, 24
EXIT_CODES = {
    0: "done",
    3010: "done, a restart is needed",
    1641: "done, a restart has been started by the installer",
    1618: "another installation was running the whole time: try later",
    NOT_APPLICABLE: "not applicable on this machine (run conditions)",
    DAMAGED: "the package is damaged: a file is missing or has changed",
    TIMED_OUT: "a step took longer than its time limit",
    STEP_FAILED: "a step failed that has no exit code of its own",
    WRONG_USE: "called with an unknown verb",
}


class Item(msgspec.Struct, frozen=True):
    """One file to place: below the package, and on the machine (with ``%NAMES%``)."""

    source: str
    to: str
    sha256: str


class Action(msgspec.Struct, frozen=True, omit_defaults=True):
    """A step as the runner carries it out. ``command`` may hold ``{package}`` and ``{logs}``; seconds."""

    kind: Literal["msi", "exe", "copy", "take-back"]
    title: str
    command: str = ""
    timeout: float = DEFAULT_TIMEOUT
    codes: dict[str, Meaning] = {}
    log: str = ""
    items: tuple[Item, ...] = ()
    keep: bool = False
    unless: tuple[Rule, ...] = ()
    wait_for: tuple[str, ...] = ()
    observed: str = ""


class PackedFile(msgspec.Struct, frozen=True):
    """A file of the package; ``size`` in bytes."""

    path: str
    size: int
    sha256: str


class Manifest(msgspec.Struct, frozen=True, kw_only=True):
    """``digest`` is that of the plan and all content, so that a proof belongs to these bytes."""

    schema: str = SCHEMA
    id: str
    name: str
    version: str
    revision: int
    publisher: str
    architecture: str
    scope: str
    os: str | None
    architectures: tuple[str, ...]
    disk: int | None
    programs: tuple[str, ...]
    wait: float
    logs: str
    install: tuple[Action, ...]
    uninstall: tuple[Action, ...]
    repair: tuple[Action, ...]
    detect: tuple[Rule, ...]
    files: tuple[PackedFile, ...]
    properties: dict[str, dict[str, str]] = {}  # medium -> properties of the plan, for predictions
    tool: str = ""
    secrets: tuple[str, ...] = ()  # values that no log may show

    def actions(self, verb: str) -> tuple[Action, ...]:
        return {"install": self.install, "uninstall": self.uninstall, "repair": self.repair}[verb]


def encode(manifest: Manifest) -> bytes:
    """The same manifest gives the same bytes."""
    return msgspec.json.format(msgspec.json.encode(manifest, order="deterministic"), indent=2) + b"\n"


def read(package: Path) -> Manifest:
    """The manifest of a built package. Raises Usage where there is none, Unreadable where it is damaged."""
    path = package / "manifest.json"
    if not path.is_file():
        raise Usage(f"{package} is no built package: it has no manifest.json; make one with `yendo build`")
    try:
        return msgspec.json.decode(path.read_bytes(), type=Manifest)
    except (msgspec.MsgspecError, UnicodeDecodeError) as error:
        raise Unreadable(f"{path}: {error}") from error


def extras(workspace: Path, step: CopyStep) -> list[tuple[Path, str]]:
    """``(file, target)`` for what a copy step places. Raises Usage when its source is not there or leads outside."""
    base = (workspace / "extras").resolve()
    source = (workspace / step.source.replace("\\", "/")).resolve()
    if not source.is_relative_to(base):
        raise Usage(f"copy: from = {step.source!r} is not below extras/")
    if source.is_file():
        target = step.to + source.name if step.to.endswith(("\\", "/")) else step.to
        return [(source, target.replace("/", "\\"))]
    if not source.is_dir():
        raise Usage(f"copy: {step.source} is not there")
    root = step.to.rstrip("\\/").replace("/", "\\")
    return [
        (path, root + "\\" + "\\".join(path.relative_to(source).parts))
        for path in sorted(source.rglob("*"))
        if path.is_file() and not path.is_symlink()
    ]


def action(workspace: Path, plan: Plan, verb: str, number: int, digest_of: dict[Path, str]) -> Action:
    """A step of the plan, resolved; steps count from 1. ``digest_of`` knows the hash of every extra file."""
    step = plan.steps(verb)[number - 1]
    return msgspec.structs.replace(_action(workspace, plan, step, verb, number, digest_of), unless=step.unless)


def _action(workspace: Path, plan: Plan, step: Step, verb: str, number: int, digest_of: dict[Path, str]) -> Action:
    limit = seconds(step.timeout) if step.timeout else DEFAULT_TIMEOUT
    if isinstance(step, MsiStep):
        codes = MSI_CODES | (MSI_GONE if verb == "uninstall" else {}) | step.codes
        log = f"{verb}-{number}-msi.log"
        return Action(
            "msi",
            f"apply {step.patch}" if step.patch else f"{verb} {step.media or step.product or 'by a command of the plan'}",
            msi_command(plan, verb, number, log),
            limit,
            codes,
            log if not step.command else "",
            observed=recording_name(verb, number) if step.observed else "",
        )
    if isinstance(step, ExeStep):
        return Action(
            "exe",
            f"{verb} {step.media}" if step.media else f"run {step.program}",
            exe_command(step),
            limit,
            {**EXE_CODES, **step.codes},
            wait_for=tuple(re.sub(r"(?i)\.exe$", "", name) for name in step.wait_for),
            observed=recording_name(verb, number) if step.observed else "",
        )
    if isinstance(step, CopyStep):
        items = tuple(
            Item("/".join(path.relative_to(workspace.resolve()).parts), target, digest_of[path]) for path, target in extras(workspace, step)
        )
        return Action("copy", f"place {step.source}", items=items, timeout=limit, keep=step.existing == "keep")
    return Action("take-back", "take back what was placed", timeout=limit)


def exe_command(step: ExeStep) -> str:
    """The command line of an exe step, with the placeholders of the package's and the log folder."""
    program = rf"{{package}}\media\{step.media}".replace("/", "\\") if step.media else step.program
    return f'"{program}" {step.arguments}'.strip()


def recording_name(verb: str, number: int) -> str:
    """Where the recording of an exe step lies in the package; steps count from 1."""
    return f"observed/{verb}-{number}.json"


def written_transform(verb: str, number: int) -> str:
    """Where the transform that is made from a step's changes lies in the package; steps count from 1."""
    return f"transforms/{verb}-{number}.mst"


def transforms_of(plan: Plan, verb: str, number: int) -> list[str]:
    """The transforms of a step as its command line names them, in order.

    A patch step names those of the step that installed the product: where the installer keeps no
    record of them, a patch would put back what they leave out.
    """
    step = plan.steps(verb)[number - 1]
    if isinstance(step, MsiStep) and step.patch:
        earlier = [at for at, other in enumerate(plan.steps(verb)[: number - 1], 1) if isinstance(other, MsiStep) and other.media]
        return transforms_of(plan, verb, earlier[-1]) if earlier else []
    if not isinstance(step, MsiStep):
        return []
    names = [*step.transforms, *([written_transform(verb, number)] if step.change else [])]
    return [name if name.startswith(":") else rf"{{package}}\{name}".replace("/", "\\") for name in names]


def msi_command(plan: Plan, verb: str, number: int, log: str | None = None) -> str:
    """The command line of an msi step, with the placeholders of the package's and the log folder."""
    step = plan.steps(verb)[number - 1]
    assert isinstance(step, MsiStep)
    if step.command:
        return step.command
    where = rf"{{logs}}\{log}" if log else None
    suppress, transforms = step.restart == "suppress", transforms_of(plan, verb, number)
    if step.patch:
        file = rf"{{package}}\media\{step.patch}".replace("/", "\\")
        return commandline.patch(
            file, properties=step.properties, transforms=transforms, log=where, suppress_restart=suppress, arguments=step.arguments
        )
    target = rf"{{package}}\media\{step.media}".replace("/", "\\") if step.media else step.product or ""
    if verb == "install" and step.media:
        return commandline.install(
            target,
            properties=step.properties,
            features=step.features,
            transforms=transforms,
            log=where,
            suppress_restart=suppress,
            arguments=step.arguments,
        )
    make = commandline.repair if verb == "repair" else commandline.uninstall
    line = make(target, log=where, suppress_restart=suppress, arguments=step.arguments)
    return " ".join([line, *(commandline.assign(name, str(value)) for name, value in step.properties.items())])


def resolve(workspace: Path, plan: Plan, files: tuple[PackedFile, ...], digest_of: dict[Path, str], tool: str) -> Manifest:
    """The manifest of a plan whose files are known."""
    package = plan.package
    actions = {verb: tuple(action(workspace, plan, verb, number, digest_of) for number in range(1, len(plan.steps(verb)) + 1)) for verb in VERBS}
    return Manifest(
        id=package.id,
        name=package.name,
        version=package.version,
        revision=package.revision,
        publisher=package.publisher,
        architecture=package.architecture,
        scope=package.scope,
        os=plan.when.os,
        architectures=plan.when.architecture,
        secrets=tuple(
            sorted(
                {
                    str(value)
                    for verb in VERBS
                    for step in plan.steps(verb)
                    if isinstance(step, MsiStep)
                    for name, value in step.properties.items()
                    if secrets.is_secret(name) and str(value)
                }
            )
        ),
        disk=size(plan.when.disk) if plan.when.disk else None,
        programs=plan.in_the_way.names,
        wait=seconds(plan.in_the_way.wait),
        logs=rf"{plan.log.folder}\{package.id}",
        install=actions["install"],
        uninstall=actions["uninstall"],
        repair=actions["repair"],
        detect=plan.detect,
        files=files,
        tool=tool,
        properties={
            step.media: {name: str(value) for name, value in step.properties.items()}
            | ({"ADDLOCAL": ",".join(step.features)} if step.features else {})
            for step in plan.install
            if isinstance(step, MsiStep) and step.media
        },
    )
