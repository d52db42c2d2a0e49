"""Setup programs on the real machine: our interpreter against a real stub, trials against a list made by hand."""

from __future__ import annotations

import json
import os
import shutil
from pathlib import Path
from typing import Any

import pytest
import script_specimens as scripts
from conftest import Yendo, missing

from yendo.demo import sounder
from yendo.effects import agreement, difference
from yendo.errors import NotCovered
from yendo.formats.pe import Image
from yendo.installers import programs
from yendo.machines.wine.machine import WineMachine
from yendo.prove.trial import Trying
from yendo.prove.verdicts import COMPLETE, NOTHING, WAITS

pytestmark = pytest.mark.wine
SETUP = Path(sounder.__file__).with_name("sounder-setup.exe")


@pytest.fixture
def both(wine: WineMachine) -> WineMachine:
    """A machine that runs 32-bit programs too, with a screen."""
    if "32" not in wine.widths:
        missing("a layer for 32-bit programs", "apt-get install wine32")
    if not shutil.which("Xvfb"):
        missing("a virtual screen", "apt-get install xvfb")
    if not scripts.SAMPLE.exists():
        missing("clamav-testfiles", "apt-get install clamav-testfiles")
    return wine


@pytest.mark.parametrize("name", scripts.CASES)
def test_scripts_do_what_a_real_stub_does(both: WineMachine, tmp_path: Path, name: str) -> None:
    path = scripts.write(tmp_path, name)
    program = rf"C:\Hand over\{path.name}"
    with both.fresh() as session:
        session.bring(tmp_path, r"C:\Hand over")
        before = both.baseline()
        with path.open("rb") as file:
            prediction = programs.Reading(file, path.name).predict(program, "/S", session.surroundings, before)
        ran = session.run(f'"{program}" /S', timeout=120)
        installed = session.state()
        found = agreement(prediction.effects, difference(before, installed))
        assert (found.missed, found.false) == ((), ()) and found.matched and ran.exit_code == prediction.exit_code
        if name == "uninstaller":
            removed = programs.removal(path, program, session.surroundings, before)
            session.run(r'"C:\Program Files (x86)\Tidewell Sounder\remove.exe" /S', timeout=120)
            session.prefix.settle(60)  # it goes on in a copy of itself
            assert removed is not None
            gone = agreement(
                removed, [effect for effect in difference(installed, session.state()) if not _scratch(effect)]
            )
            assert (gone.missed, gone.false) == ((), ())


def _scratch(effect: Any) -> bool:
    """Its copy among temporary files, and the note that this is to be deleted at the next start."""
    return "\\temp" in effect.thing.identity or effect.thing.identity.endswith("!pendingfilerenameoperations")


# Each sample's command line and what becomes of it, as seen on this machine and judged by hand.
VERDICTS = {
    ("clam-nsis.exe", '"clam-nsis.exe" /S'): COMPLETE,
    ("clam-nsis.exe", '"clam-nsis.exe"'): WAITS,
    ("clam-nsis.exe", '"clam-nsis.exe" /s'): WAITS,
    ("clam_ISmsi_int.exe", '"clam_ISmsi_int.exe" /s /v"/qn /norestart"'): COMPLETE,
    ("clam_ISmsi_ext.exe", '"clam_ISmsi_ext.exe" /s /v"/qn /norestart"'): COMPLETE,
    ("clam_IScab_int.exe", '"clam_IScab_int.exe" /s /sms'): NOTHING,
    ("clam_IScab_ext.exe", '"clam_IScab_ext.exe" /s'): NOTHING,
}


@pytest.mark.parametrize(("name", "command"), VERDICTS)
def test_verdicts_are_the_true_ones(both: WineMachine, tmp_path: Path, name: str, command: str) -> None:
    trying = Trying(scripts.SAMPLES / name, both, tmp_path / "keep", timeout=120, most=1)
    trial = trying.run([command])
    run = trial.runs[0]
    assert run.verdict == VERDICTS[name, command], (run.verdict, run.remarks, run.windows)
    if run.verdict == WAITS:
        picture = tmp_path / "keep" / (run.windows[0].picture or "")
        assert picture.read_bytes()[:4] == b"\x89PNG" and any("Install" in text for text in run.windows[0].texts)
    if run.verdict == NOTHING:
        assert any("ResultCode -5" in remark for remark in run.remarks)
    if run.verdict == COMPLETE:
        assert trial.predicted and trial.predicted["recall"] >= 0.95 and trial.predicted["precision"] >= 0.95
    assert json.loads((tmp_path / "keep" / "evidence.json").read_text())["trial"]["runs"]


@pytest.mark.skipif(
    bool(os.environ.get("CI")) and not os.environ.get("YENDO_LONG"), reason="two minutes; YENDO_LONG=1 has it in CI too"
)
def test_a_recorded_answer_file_makes_the_engine_silent(both: WineMachine, tmp_path: Path) -> None:
    trying = Trying(scripts.SAMPLES / "clam_IScab_ext.exe", both, tmp_path / "keep", timeout=180)
    assert trying.record_answers().name == "answers.iss"
    trial = trying.run([trying.with_answers()])
    assert trial.install and trial.uninstall and "removal.iss" in trial.uninstall
    assert sum(count for kind, count in (trial.best("install") or trial.runs[0]).effects.items()) > 50
    assert trial.predicted and trial.predicted["recall"] >= 0.95 and trial.predicted["precision"] >= 0.95


def test_the_demos_second_program_from_trial_to_proof(yendo: Yendo, both: WineMachine, tmp_path: Path) -> None:
    yendo("draft", "sounder", SETUP)
    found = json.loads(yendo("try", SETUP, "--into", "sounder", "--json").stdout)
    installs = [run for run in found["runs"] if run["purpose"] == "install"]
    assert len(found["runs"]) <= 6 and [run["verdict"] for run in installs] == [WAITS, COMPLETE]
    assert (tmp_path / "sounder" / "trial" / installs[0]["windows"][0]["picture"]).stat().st_size > 1000
    assert installs[0]["windows"][0]["title"] == "Tidewell Sounder 3.0.1 Setup"
    assert (
        installs[1]["returned_early"] > 1
        and installs[1]["outlived"] == ["sounder-worker.exe"]
        and installs[1]["restart"]
    )
    assert found["uninstall"].endswith('remove.exe" /unattended') and found["left_behind"] == []
    again = json.loads(yendo("try", SETUP, "--into", "sounder", "--json").stdout)
    assert again["runs"] == found["runs"]  # nothing is run twice
    yendo("build", "sounder")
    assert json.loads(yendo("prove", "sounder", "--json").stdout)["passed"]
    proof = json.loads(yendo("prove", "sounder", "--machine", "wine", "--json").stdout)
    assert proof["passed"], [phase for phase in proof["phases"] if phase["outcome"] == "failed"]


def test_what_cannot_run_here_is_said_before_a_run(
    both: WineMachine, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    import family_specimens as specimens

    monkeypatch.setitem(both.__dict__, "widths", ["64"])
    with pytest.raises(NotCovered, match="32-bit program"):
        Trying(scripts.SAMPLE, both, tmp_path / "keep")
    arm = tmp_path / "arm.exe"
    arm.write_bytes(specimens.program(machine=0xAA64))
    with pytest.raises(NotCovered, match="arm64"):
        Trying(arm, both, tmp_path / "keep")
    assert not (tmp_path / "keep").exists()


@pytest.mark.skipif(
    bool(os.environ.get("CI")) and not os.environ.get("YENDO_LONG"), reason="a minute; YENDO_LONG=1 has it in CI too"
)
def test_a_trial_leaves_no_process(yendo: Yendo, both: WineMachine, tmp_path: Path) -> None:
    """Stopped while a window waits: nothing of the machine is left, and the evidence is whole."""
    import os
    import signal
    import subprocess
    import sys
    import time

    own = tmp_path / "cache"  # runs of its own, on the same template
    (own / "wine").mkdir(parents=True)
    (own / "wine" / both.template.name).symlink_to(both.template)
    program = Path(sys.executable).with_name("yendo")
    command = [str(program), "try", str(scripts.SAMPLE), "--command", '"clam-nsis.exe"', "--quiet", "--keep", "keep"]
    process = subprocess.Popen(
        command,
        cwd=tmp_path,
        env={**os.environ, "YENDO_CACHE": str(own), "YENDO_POWERSHELL": str(both.powershell or "")},
        stderr=subprocess.PIPE,
        text=True,
        # a shell that starts the tests in the background has them ignore an interrupt, and that is inherited
        preexec_fn=lambda: signal.signal(signal.SIGINT, signal.SIG_DFL),
    )
    runs, until = own / "wine" / "runs", time.monotonic() + 60
    while time.monotonic() < until and not any(path.stat().st_size for path in runs.glob("*/asked/run-0.txt")):
        time.sleep(0.1)
    mine = list(runs.iterdir())
    assert mine
    process.send_signal(signal.SIGINT)
    assert process.wait(60) == 130
    for path in mine:
        assert not path.exists()
        mark = str(path).encode()
        for entry in Path("/proc").iterdir():
            if entry.name.isdigit():
                try:
                    assert mark not in (entry / "environ").read_bytes()
                except OSError:
                    continue


def test_a_watched_run_sees_the_image_it_runs(both: WineMachine) -> None:
    """The stub's own width is what decides whether a machine can run it."""
    with scripts.SAMPLE.open("rb") as file:
        assert Image(file).bits == 32
