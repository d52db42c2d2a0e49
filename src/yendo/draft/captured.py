"""A workspace for what was captured: the record, the contents of files, and a plan that brings them."""

from __future__ import annotations

import re
import shutil
from collections.abc import Sequence
from pathlib import Path

import msgspec
import tomlkit

from yendo import atomic, host_os
from yendo.detect import for_effects
from yendo.draft import proposing, writing
from yendo.draft.office import Office
from yendo.effects import Effect
from yendo.effects.things import File, Shortcut, UninstallEntry
from yendo.errors import Usage
from yendo.plan import read as read_plan
from yendo.platforms.windows import paths
from yendo.platforms.windows.capture_record import CONTENTS, RECORD, Capture, encode
from yendo.steps.captured import CapturedStep, decided

MOST_PROGRAMS = 8


class CaptureWritten(msgspec.Struct, frozen=True):
    """What was written: the plan, whether it was there, and decisions of it that name nothing of this capture."""

    plan: Path
    renewed: bool
    idle: tuple[str, ...] = ()


def staging(folder: Path) -> Path:
    """Where the contents are gathered until the capture has ended well: beside the workspace."""
    return folder.parent / f".{folder.name}.captured"


def step_of(folder: Path) -> CapturedStep | None:
    """The captured step of a workspace's plan, or None where it has none. Raises PlanError."""
    path = folder / "plan.toml"
    if not path.exists():
        return None
    plan, _ = read_plan(path)
    return next((step for step in plan.install if isinstance(step, CapturedStep)), None)


def guard(folder: Path) -> None:
    """Raises Usage where the workspace has a plan of another sort."""
    if (folder / "plan.toml").exists() and step_of(folder) is None:
        raise Usage(
            f"{folder / 'plan.toml'} brings nothing that was captured; capture into another folder, or add a step of "
            'kind "captured" to it'
        )


def write(folder: Path, capture: Capture, gathered: Path, name: str) -> CaptureWritten:
    """Puts a capture and what was ``gathered`` into the workspace; a plan that is there keeps its decisions.

    Raises Usage, PlanError.
    """
    step = step_of(folder)
    folder.mkdir(parents=True, exist_ok=True)
    for part in (Path(CONTENTS), Path(RECORD).parent):
        (folder / part).parent.mkdir(parents=True, exist_ok=True)
        (gathered / part).mkdir(parents=True, exist_ok=True)
    (gathered / RECORD).write_bytes(encode(capture))
    for part in (Path(CONTENTS), Path(RECORD).parent):  # the record last: it names the contents
        host_os.exchange(gathered / part, folder / part)
    shutil.rmtree(gathered, ignore_errors=True)
    if step is not None:
        return CaptureWritten(folder / "plan.toml", True, tuple(_idle(step, capture)))
    text = writing.spaced(tomlkit.dumps(_plan(folder, capture, name)))
    atomic.write(folder / "plan.toml", text.encode())
    return CaptureWritten(folder / "plan.toml", False)


def _idle(step: CapturedStep, capture: Capture) -> list[str]:
    """Decisions that name nothing any more, in words."""
    return [
        f"{kind}: {which.thing}"
        for kind in ("leave", "keep", "change")
        for which in getattr(step, kind)
        if not any(which.names(one) for one in capture.caught)
    ]


def _plan(folder: Path, capture: Capture, name: str) -> tomlkit.TOMLDocument:
    office = Office(folder)
    kept = [one.caught.effect for one in decided(CapturedStep(), capture) if one.fate == "kept"]
    entry = next((effect.thing for effect in kept if isinstance(effect.thing, UninstallEntry)), None)
    title = writing.remark((entry and entry.name) or name)
    document = proposing.header(title)
    package = tomlkit.table()
    decisions: list[str] = []
    for key, value in (
        ("id", office.identifier(entry.publisher if entry else None, title)),
        ("name", title),
        ("version", (entry and entry.version) or "1"),
        ("revision", 1),
        ("publisher", (entry and entry.publisher) or ""),
        ("architecture", "x64"),
        ("scope", "machine"),
        ("contact", ""),
    ):
        package.add(key, writing.value(value))
    if entry is None or not entry.version:
        package["version"].comment(f"{proposing.DECIDE}: the vendor's version; the list of programs does not tell it")
    package["contact"].comment(f"{proposing.DECIDE}: who answers for this package")
    document.add("package", package)
    office.leave_to_the_house(document, decisions)
    when = tomlkit.table()
    when.add("architecture", ["x64"])
    when["architecture"].comment("it was captured on a 64-bit Windows")
    document.add("when", when)
    if programs := _programs(kept):
        way = tomlkit.table()
        way.add("programs", programs)
        way["programs"].comment("they must not run meanwhile")
        document.add("in_the_way", way)
    step = writing.table({"kind": "captured", "timeout": "30 min"})
    document.add("install", writing.array(step))
    if rules := for_effects(kept, programs):
        document.add("detect", writing.rules_of(rules))
    return document


def _programs(kept: Sequence[Effect]) -> list[str]:
    """The programs that people start: those of shortcuts first, then whatever else is one."""
    links = [effect.thing.target or "" for effect in kept if isinstance(effect.thing, Shortcut)]
    files = [effect.thing.path for effect in kept if isinstance(effect.thing, File)]
    found = dict.fromkeys(paths.name(path) for path in (*links, *files) if re.search(r"(?i)\.exe$", path))
    return list(found)[:MOST_PROGRAMS]
