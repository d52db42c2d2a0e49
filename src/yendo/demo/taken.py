"""The setup that nobody can make silent to the end: the work is done once, and becomes a package and a database."""

from __future__ import annotations

import shutil
from collections import Counter
from collections.abc import Callable
from pathlib import Path

import msgspec

from yendo import forms
from yendo.capture import WorkLine, sorted_out, work
from yendo.draft import adding, captured
from yendo.machines.watching import WatchedMachine
from yendo.package import build
from yendo.plan import read
from yendo.steps.captured import CapturedStep, capture_of, decided

WORKSPACE = "sounder-4"
UPDATES = r"HKLM\*\Updates"
LINES = (
    WorkLine("install", "{setup} /unattended"),
    WorkLine("settings", r"reg add HKLM\Software\Tidewell\Sounder /v Updates /t REG_DWORD /d 1 /f"),
    WorkLine("settings", r"reg add HKLM\Software\Tidewell\Sounder /v Site /d Marrowby /f"),
)


class CaptureTold(msgspec.Struct, frozen=True):
    """What came of it: how many things have which fate, the package, the database of the same, and the one with the
    package inside.
    """

    fates: dict[str, int]
    package: Path
    database: Path
    envelope: Path


def capture_it(folder: Path, setup: Path, machine: WatchedMachine, tell_step: Callable[[str], object]) -> CaptureTold:
    """Captures the setup and what somebody sets afterwards, turns the updater off, and makes its site a setting."""
    place = folder / WORKSPACE
    shutil.rmtree(place, ignore_errors=True)
    gathered = captured.staging(place)
    tell_step("capture")
    done = work(machine, LINES, brought=[setup], contents=gathered)
    captured.write(place, sorted_out(done, setup=setup.name), gathered, setup.stem)
    adding.captured(place, "change", {"thing": UPDATES, "to": 0, "note": "the office updates by itself"})
    adding.setting(place, "site", {"meaning": "where the boat lies", "default": "Marrowby"})
    adding.captured(place, "change", {"thing": r"HKLM\*\Site", "to": "{setting.site}"})
    tell_step("build what was captured")
    plan, _ = read(place / "plan.toml")
    step = next(step for step in plan.install if isinstance(step, CapturedStep))
    fates: Counter[str] = Counter(one.fate for one in decided(step, capture_of(step, place)))
    database, envelope = forms.build(place, plan).main, forms.build_envelope(place, plan).main
    return CaptureTold(dict(fates), build.build(place, plan).folder, database, envelope)
