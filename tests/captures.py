"""Installers captured on the layer, made into packages, and proved there again: what was kept has to be there.

Real samples where the registries have one, databases written by the layer's own ``winemsibuilder``, setup scripts
interpreted by the real stub. ``python tests/captures.py [--as msi] [NAME ...]`` prints the table; needs the layer and PowerShell.
"""

from __future__ import annotations

import argparse
import json
import sys
import tempfile
from pathlib import Path

import msgspec
from first_drafts import made
from samples import SAMPLES

from yendo import forms
from yendo.capture import WorkLine, sorted_out, work
from yendo.capture.sort import wanted
from yendo.check import Workspace, check
from yendo.cli.machines import make
from yendo.draft import captured
from yendo.installers import recognise
from yendo.machines.watching import WatchedMachine
from yendo.package import build
from yendo.plan import read
from yendo.platforms.windows.capture_record import promise_of
from yendo.prove.prove import prove
from yendo.prove.scenarios import SCENARIOS
from yendo.steps.captured import CapturedStep, decided

# Real setup programs, and the switch with which each is silent.
REAL = {
    "real-script": ("clam-nsis.exe", r"{setup} /S /D=C:\Program Files\Clam"),
    "real-answers": ("clam_ISmsi_int.exe", '{setup} /s /v"/qn"'),
    "real-answers-beside": ("clam_ISmsi_ext.exe", '{setup} /s /v"/qn"'),
}
NAMES = (
    "one-file", "narrow", "registry-kinds", "features", "shortcuts", "service", "environment", "ini-file", "folders",
    "com-class", "file-types", "font", "many-files", "both-halves", "script: menu-for-all", "script: ini",
    "script: file-type", "script: wide-values", "script: shared-data", "script: variable", "script: kinds-of-values",
    "script: own-values", "script: runs-a-command", "script: runs-its-own-program", "script: system-file",
    "script: wide-folder",
)  # fmt: skip


class Caught(msgspec.Struct):
    """What became of one: how many things were kept, left, not to be brought, and what was wrong in the end."""

    name: str
    kept: int = 0
    left: int = 0
    cannot: tuple[str, ...] = ()
    wrong: tuple[str, ...] = ()


def caught_of(
    setup: Path, line: str, folder: Path, machine: WatchedMachine, form: str = "steps", scenario: str = "desk"
) -> Caught:
    """Captures, builds in a form and proves one."""
    found = Caught(folder.name)
    gathered = captured.staging(folder)
    taken = work(machine, [WorkLine("install", line)], brought=[setup], contents=gathered, wanted=wanted(), timeout=300)
    captured.write(folder, sorted_out(taken), gathered, setup.stem)
    plan = read(folder / "plan.toml")[0]
    every = decided(CapturedStep(), sorted_out(taken))
    found.cannot = tuple(str(one.caught.effect) + ": " + one.why for one in every if one.fate in ("cannot", "open"))
    errors = [finding for finding in check(Workspace(folder)) if finding.severity == "error"]
    found.wrong = tuple(f"check: {finding.message}" for finding in errors)
    if form != "steps":
        try:
            made_of = forms.build(folder, plan).folder
        except forms.Impossible as error:
            found.cannot += tuple(f"{thing}: {why}" for thing, why in error.things)
            names = [thing for thing, _ in error.things]
            with (folder / "plan.toml").open("a") as file:
                file.write("".join(f"\n[[install.leave]]\nthing = {json.dumps(name)}\n" for name in names))
            made_of = forms.build(folder, read(folder / "plan.toml")[0]).folder
        package = build.build(made_of, read(made_of / "plan.toml")[0]).folder
    else:
        package = build.build(folder, plan).folder
    promise = promise_of(package)
    assert promise is not None
    found.kept, found.left = len(promise.kept), len(promise.left)
    proof = prove(package, machine, scenario=SCENARIOS[scenario])
    for phase in proof.phases:
        if phase.outcome == "failed":
            found.wrong += (f"{phase.title}: {phase.found}", *(f"  {text}" for text in phase.details[:6]))
    return found


def main() -> int:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--as", dest="form", choices=("steps", "msi"), default="steps")
    parser.add_argument("names", nargs="*")
    options = parser.parse_args()
    machine = make("wine")
    all_kept = all_wrong = 0
    with tempfile.TemporaryDirectory() as place:
        for name in options.names or [*REAL, *NAMES]:
            share = Path(place) / "share" / name
            if name in REAL:
                file, line = REAL[name]
                setup = SAMPLES / file
            else:
                with machine.fresh() as session:
                    setup = made(name, share, session)
                silent = recognise.read(setup).silent.install
                assert silent is not None
                line = silent.command
            found = caught_of(setup, line, Path(place) / name.replace("script: ", "script-"), machine, options.form)
            all_kept += found.kept
            wrong = [text for text in found.wrong if text.startswith("  ")]
            all_wrong += len(wrong)
            print(f"{'right' if not found.wrong else 'WRONG'}  {name}: {found.kept} kept, {found.left} left")
            for text in (*found.wrong, *found.cannot[:4]):
                print(f"         {text}")
            sys.stdout.flush()
    print(f"{all_kept} kept, {all_wrong} wrong")
    return 1 if all_wrong else 0


if __name__ == "__main__":
    sys.exit(main())
