"""The setup that nobody can make silent to the end: the work is done once, and becomes a package and a database."""

from __future__ import annotations

import shutil
from collections import Counter
from collections.abc import Callable
from pathlib import Path

import msgspec

from yendo import forms
from yendo.capture import WorkDone, WorkLine, sorted_out, work
from yendo.draft import adding, captured
from yendo.machines.watching import ScreenMachine
from yendo.machines.wine import layer
from yendo.machines.wine.screens import pressing
from yendo.package import build
from yendo.plan import read
from yendo.steps.captured import CapturedStep, capture_of, decided

WORKSPACE = "sounder-4"
PUBLISHER = "CN=Marrowby harbour survey office"
PROGRAM = r'"C:\Program Files\Tidewell\Sounder\sounder.exe"'
INSTALL = WorkLine("install", "{setup} /unattended")
ASKED = WorkLine("settings", f"{PROGRAM} /settings", hand=True)  # whether it may look for updates: nothing else sets it
SILENT = WorkLine("settings", r"reg add HKLM\Software\Tidewell\Sounder /v Updates /t REG_DWORD /d 0 /f")
SITE = WorkLine("settings", r"reg add HKLM\Software\Tidewell\Sounder /v Site /d Marrowby /f")


class CaptureTold(msgspec.Struct, frozen=True):
    """What came of it: how many things have which fate, the package, the database of the same, the one with the
    package inside, and the app package, which nobody has signed yet.
    """

    fates: dict[str, int]
    package: Path
    database: Path
    envelope: Path
    app: Path


def capture_it(folder: Path, setup: Path, machine: ScreenMachine, tell_step: Callable[[str], object]) -> CaptureTold:
    """Captures the setup and what somebody answers afterwards, leaves its icon out, and makes its site a setting."""
    place = folder / WORKSPACE
    shutil.rmtree(place, ignore_errors=True)
    gathered = captured.staging(place)
    tell_step("capture")
    done = _done(machine, setup, gathered)
    captured.write(place, sorted_out(done, setup=setup.name), gathered, setup.stem)
    icon = {"thing": r"%PUBLIC%\Desktop\*", "kind": "shortcut", "note": "no icon on the desktop"}
    adding.captured(place, "leave", icon)
    adding.setting(place, "site", {"meaning": "where the boat lies", "default": "Marrowby"})
    adding.captured(place, "change", {"thing": r"HKLM\*\Site", "to": "{setting.site}"})
    tell_step("build what was captured")
    plan, _ = read(place / "plan.toml")
    step = next(step for step in plan.install if isinstance(step, CapturedStep))
    fates: Counter[str] = Counter(one.fate for one in decided(step, capture_of(step, place)))
    database, envelope = forms.build(place, plan).main, forms.build_envelope(place, plan).main
    app = forms.build_app(place, plan, PUBLISHER).main
    return CaptureTold(dict(fates), build.build(place, plan).folder, database, envelope, app)


def _done(machine: ScreenMachine, setup: Path, gathered: Path) -> WorkDone:
    """The work, with somebody at a screen without a monitor who answers No in the settings; without such a screen the
    value is set by a command.
    """
    with layer.screen() as display:
        if display is None:
            return work(machine, [INSTALL, SILENT, SITE], brought=[setup], contents=gathered)
        with pressing(display, "n"):
            return work(machine.on_screen(display), [INSTALL, ASKED, SITE], brought=[setup], contents=gathered)
