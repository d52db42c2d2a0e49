"""The conformance of machines: the simulated one, the layer, a computer over SSH (a real SSH server whose shell is the
layer's), and the computer that Yendo runs on (a Windows process on the layer).
"""

from __future__ import annotations

import json
import os
import shutil
import threading
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import machine_conformance
import msgspec
import pytest
from conftest import Yendo, missing
from test_kit import RESTART, made, with_scheduler
from test_ssh import office

import yendo as yendo_package
from yendo.capture import WorkLine, sorted_out, work
from yendo.draft import captured
from yendo.effects import difference
from yendo.errors import NoMachine, NotCovered, Usage
from yendo.farm.job import Job, Making, play
from yendo.machines import visits
from yendo.machines.addresses import Address
from yendo.machines.simulated.machine import SimulatedMachine
from yendo.package import build
from yendo.plan import read
from yendo.prove import attended
from yendo.prove.prove import matrix, prove
from yendo.prove.scenarios import SCENARIOS
from yendo.prove.trial import Trying
from yendo.steps.captured import CapturedStep, decided

NAMES = list(machine_conformance.CHECKS)
SETUP = Path(yendo_package.__file__).parent / "demo" / "sounder" / "sounder-setup.exe"


@pytest.fixture(scope="module")
def installer(tmp_path_factory: pytest.TempPathFactory, vendor: Path) -> Path:
    place = tmp_path_factory.mktemp("conformance") / "lantern-6.2.1.msi"
    shutil.copy(vendor / place.name, place)
    return place


@pytest.fixture(scope="module")
def simulated() -> Iterator[Any]:
    with SimulatedMachine().fresh("system") as session:
        yield session


@pytest.mark.parametrize("name", NAMES)
def test_the_simulated_machine(name: str, simulated: Any, installer: Path) -> None:
    machine_conformance.conform(name, "simulated", simulated, installer)


@pytest.fixture(scope="module")
def layer(shell_wine: Any) -> Iterator[Any]:
    with shell_wine.fresh("system") as session:
        yield session


@pytest.mark.wine
@pytest.mark.parametrize("name", NAMES)
def test_the_layer(name: str, layer: Any, installer: Path) -> None:
    machine_conformance.conform(name, "wine", layer, installer)


@pytest.mark.parametrize("kind", ["simulated", pytest.param("wine", marks=pytest.mark.wine)])
def test_a_fresh_one_is_fresh_and_two_do_not_meet(kind: str, request: pytest.FixtureRequest) -> None:
    machine = SimulatedMachine() if kind == "simulated" else request.getfixturevalue("shell_wine")
    with machine.fresh() as one, machine.fresh() as two:
        one.write(r"C:\of-one.txt", b"1")
        assert two.read(r"C:\of-one.txt") is None
        two.write(r"C:\of-two.txt", b"2")
        assert one.read(r"C:\of-two.txt") is None and one.read(r"C:\of-one.txt") == b"1"
    with machine.fresh() as again:
        assert difference(machine.baseline(), again.state()) == []


# --- over SSH ---------------------------------------------------------------------------------------------


@pytest.mark.thorough
@pytest.mark.wine
def test_over_ssh(tmp_path: Path, shell_wine: Any, installer: Path) -> None:
    """Every check, on one visit; while it lasts nobody else is let in; and nothing stays there."""
    with office(shell_wine, tmp_path) as there:
        machine = attended.over_ssh("w11", there.address(), lambda text: None, idle=0)
        with machine.fresh("system") as session:
            wrong = {}
            for name in NAMES:
                try:
                    machine_conformance.conform(name, "ssh", session, installer)
                except Exception as error:
                    wrong[name] = f"{type(error).__name__}: {error}"
            assert wrong == {}
            other = attended.over_ssh("w11", there.address(), lambda text: None, idle=0)
            with pytest.raises(Usage, match="another proof is under way"), other.fresh("system"):
                pass
            other.interrupt()
        assert machine.place == "API layer" and "ssh:w11" in machine.label and there.restarts == 1
        assert there.task is not None
        there.task.join()
        assert not [path for path in there.session.files_below("C:") if "yendo" in path.lower()]
        with pytest.raises(NoMachine, match="does not say how it is put back"), machine.fresh("system"):
            pass
        with pytest.raises(NotCovered, match="make a kit"), machine.fresh("user"):
            pass
        machine.interrupt()


@pytest.mark.thorough
@pytest.mark.wine
@pytest.mark.parametrize("scenario", ["system", "twice", "repair"])
def test_any_scenario_of_the_system_account(tmp_path: Path, shell_wine: Any, scenario: str) -> None:
    """The same as on the layer directly, phase by phase, through restarts and lines that are cut."""
    package = made(tmp_path / "w", steps=RESTART if scenario == "system" else "")
    with office(shell_wine, tmp_path) as there:
        cutter = threading.Thread(target=there.cut_now_and_then, args=(5,))
        machine = attended.over_ssh("w11", there.address(), lambda text: None, idle=0)
        cutter.start()
        try:
            over = prove(package, machine, scenario=scenario)
        finally:
            there.over.set()
            cutter.join()
            machine.interrupt()
    direct = prove(package, shell_wine, scenario=scenario)
    said = [(phase.id, phase.outcome, phase.found) for phase in over.phases]
    assert said == [(phase.id, phase.outcome, phase.found) for phase in direct.phases]
    assert {left.what for left in over.leftovers} == {left.what for left in direct.leftovers}


@pytest.mark.thorough
@pytest.mark.wine
def test_the_matrix_on_a_computer_that_is_put_back(tmp_path: Path, shell_wine: Any) -> None:
    """Scenarios of the system account; each begins on a computer that was put back."""
    package = made(tmp_path / "w")
    with office(shell_wine, tmp_path) as there:
        machine = attended.over_ssh("w11", there.address(revert=(there.revert,)), lambda text: None, idle=0)
        some = [SCENARIOS[name] for name in ("system", "twice")]
        cells = matrix(package, [machine], some, jobs=1, records=False)
        machine.interrupt()
        assert [(cell.scenario.id, cell.outcome) for cell in cells] == [("system", "passed"), ("twice", "passed")]
        assert there.reverts >= 2


def write_machines(path: Path, address: Address) -> None:
    values = {name: value for name, value in msgspec.to_builtins(address).items() if value not in (None, "", [])}
    path.write_text("[w11]\n" + "".join(f"{name} = {json.dumps(value)}\n" for name, value in values.items()))


@pytest.mark.thorough
@pytest.mark.wine
def test_a_cell_of_a_farm_over_ssh(tmp_path: Path, shell_wine: Any) -> None:
    """A worker plays every scenario of the system account there, on a computer that it puts back."""
    package = made(tmp_path / "w")
    with office(shell_wine, tmp_path) as there:
        write_machines(tmp_path / "machines.toml", there.address(revert=(there.revert,)))
        asked = Job(package.relative_to(tmp_path).as_posix(), "twice", "", "ssh:w11")
        proof = play(asked, tmp_path, Making(str(tmp_path), "", str(tmp_path)))
        assert proof.passed and proof.scenario == "twice" and there.reverts >= 1, proof.phases
        write_machines(tmp_path / "machines.toml", there.address())
        with pytest.raises(NotCovered, match="is changed by every cell"):
            play(asked, tmp_path, Making(str(tmp_path), "", str(tmp_path)))


@pytest.mark.thorough
@pytest.mark.wine
def test_a_trial_over_ssh(tmp_path: Path, shell_wine: Any) -> None:
    """A setup program is tried there until it is silent and complete, and its uninstaller as well."""
    with office(shell_wine, tmp_path) as there:
        machine = attended.over_ssh("w11", there.address(revert=(there.revert,)), lambda text: None, idle=0)
        found = Trying(SETUP, machine, tmp_path / "keep", account="system", timeout=120).run()
        machine.interrupt()
        assert there.reverts >= 3, "put back before every run"
    assert found.install and found.account == "system" and "ssh:w11" in found.machine, found
    waits, silent = [run for run in found.runs if run.purpose == "install"]
    assert waits.verdict == "waits for a person" and waits.windows[0].title == "Tidewell Sounder 3.0.1 Setup"
    assert silent.verdict == "silent and complete" and silent.effects["file"] and not silent.network_off
    assert silent.returned_early > 1 and silent.outlived == ("sounder-worker.exe",)
    assert found.uninstall and found.uninstall.endswith('remove.exe" /unattended') and found.left_behind == ()


@pytest.mark.thorough
@pytest.mark.wine
def test_a_capture_over_ssh(tmp_path: Path, shell_wine: Any) -> None:
    """The work is done there, through a restart; contents are fetched, and the package is proved on the layer."""
    gathered = captured.staging(tmp_path / "w")
    add = r"reg add HKLM\Software\Tidewell\Sounder /v Updates /t REG_DWORD /d 0 /f"
    jobs = [WorkLine("install", "{setup} /unattended"), WorkLine("settings", add)]
    with office(shell_wine, tmp_path) as there:
        machine = attended.over_ssh("w11", there.address(revert=(there.revert,)), lambda text: None, idle=0)
        done = work(machine, jobs, brought=[SETUP], account="system", contents=gathered, timeout=120)
        machine.interrupt()
    captured.write(tmp_path / "w", sorted_out(done), gathered, "sounder")
    plan = read(tmp_path / "w" / "plan.toml")[0]
    kept = [one for one in decided(CapturedStep(), sorted_out(done)) if one.fate == "kept"]
    assert {one.caught.part for one in kept} == {"install", "settings"} and plan.package.name == "Tidewell Sounder"
    proof = prove(build.build(tmp_path / "w", plan).folder, shell_wine, scenario=SCENARIOS["system"])
    assert proof.passed, [(one.title, one.found, one.details) for one in proof.phases if one.outcome == "failed"]


# --- the computer that Yendo runs on ----------------------------------------------------------------------


@pytest.mark.thorough
@pytest.mark.wine
def test_the_computer_that_it_runs_on(tmp_path: Path, shell_wine: Any, installer: Path) -> None:
    python = os.environ.get("YENDO_WINPYTHON", "")
    if not python or not Path(python).exists():
        missing("a Windows Python", "name one by YENDO_WINPYTHON (shared/tools/windows-python/setup makes one)")
    home = Path(python).parents[1]
    start = tmp_path / "start"
    start.mkdir()
    shutil.copy(installer, start)
    text = Path(machine_conformance.__file__).read_text()
    (start / "start.py").write_text(
        "import sys\nsys.path[:0] = [r'C:\\site', r'C:\\src']\n"
        + text.replace("from __future__ import annotations\n", "")
    )
    with shell_wine.fresh("system") as session:
        with_scheduler(session, tmp_path)
        for source, target in (
            (home / "python", r"C:\py"),
            (home / "site-packages", r"C:\site"),
            (Path(yendo_package.__file__).parents[1], r"C:\src"),
            (start, r"C:\start"),
        ):
            session.bring(source, target)
        line = rf"C:\py\python.exe -X utf8 C:\start\start.py C:\start\{installer.name}"
        ran = session.run(f'cmd /s /c "{line} 2>&1"', timeout=580)
        found = json.loads(ran.output[ran.output.index('{"checks"') :])
    assert found["wrong"] == {} and found["checks"] == NAMES


# --- what is told of them ---------------------------------------------------------------------------------


def test_machines_are_listed(tmp_path: Path, yendo: Yendo) -> None:
    said = json.loads(yendo("machines", "--json").stdout)["machines"]
    assert [one["name"] for one in said] == ["simulated", "wine"]
    assert "machines.toml" in yendo("machines").stdout
    (tmp_path / "machines.toml").write_text(
        '[w11]\naddress = "w11"\nuser = "prove"\nhost_key = "ssh-ed25519 AAAAC3"\nrevert = [["true"]]\n'
        '[w10]\naddress = "w10"\nuser = "prove"\nhost_key = "ssh-ed25519 AAAAC3"\n'
    )
    cache = tmp_path / "cache"
    visits.note(cache, "w11", "lantern-6.2.1-r1: system", "Windows 11 Pro 24H2 (10.0.26100.1742), x64", put_back=True)
    visits.note(cache, "w11", "gauge-1-r1: twice", "Windows 11 Pro 24H2 (10.0.26100.1742), x64", put_back=False)
    by_name = {
        one["name"]: one
        for one in json.loads(yendo("machines", "--json", environment={"YENDO_CACHE": str(cache)}).stdout)["machines"]
    }
    assert by_name["ssh:w11"]["last"] == "gauge-1-r1: twice" and by_name["ssh:w11"]["put_back"].startswith("20")
    assert by_name["ssh:w10"]["proved"] == "never" and "no revert" in by_name["ssh:w10"]["put_back"]
    (cache / visits.NAME).write_bytes(b"[]")
    assert visits.known(cache) == {}, "a file of another form is nothing"


def test_more_than_one_run_needs_a_way_back(tmp_path: Path, yendo: Yendo) -> None:
    package = made(tmp_path / "w")
    (tmp_path / "machines.toml").write_text('[w11]\naddress = "w11"\nuser = "prove"\nhost_key = "ssh-ed25519 AAAAC3"\n')
    said = yendo("prove", package, "--machine", "ssh:w11", "--scenario", "all", expect=2).stderr
    assert "would be changed" in said and "revert" in said
    assert "revert" in yendo("try", SETUP, "--machine", "ssh:w11", expect=2).stderr
    assert "no machine that can be watched" in yendo("try", SETUP, "--machine", "moon", expect=2).stderr
    mixed = yendo("prove", package, "--machine", "ssh:w11", "--machine", "simulated", expect=2).stderr
    assert "by themselves" in mixed
