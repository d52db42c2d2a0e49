"""From a real installer to a proved package, and nobody edits the plan in between.

The samples are Debian's test files, made by other people's tools. What right looks like was written down before: three
prove as they are drafted; two have a script that only a run can tell of, and end with the question that says so.
"""

from __future__ import annotations

from pathlib import Path
from typing import Any

import first_drafts
import pytest
from conftest import missing
from samples import SAMPLES

from yendo.check import Workspace, check
from yendo.draft import draft, leftovers
from yendo.effects import Effect, File, Folder
from yendo.machines.simulated.machine import SimulatedMachine
from yendo.package import build
from yendo.plan import read
from yendo.prove.proof import Proof
from yendo.prove.prove import matrix, prove
from yendo.prove.scenarios import SCENARIOS

PROVED = ("clam-nsis", "clam_ISmsi_ext", "clam_ISmsi_int")
QUESTION = ("clam_IScab_ext", "clam_IScab_int")
ACCOUNTS = ("desk", "system")


def drafted(folder: Path, sample: str) -> Path:
    """The built package of a sample, as it was drafted."""
    if not SAMPLES.exists():
        missing("clamav-testfiles", "apt-get install clamav-testfiles")
    source = folder / "from"
    source.mkdir(parents=True)
    installer = source / f"{sample}.exe"
    installer.write_bytes((SAMPLES / installer.name).read_bytes())
    draft.from_installer(folder / "w", installer)
    errors = [finding for finding in check(Workspace(folder / "w")) if finding.severity == "error"]
    assert errors == []
    return build.build(folder / "w", read(folder / "w" / "plan.toml")[0]).folder


def failed(proof: Proof) -> list[Any]:
    return [(phase.title, phase.found, phase.details) for phase in proof.phases if phase.outcome == "failed"]


@pytest.mark.parametrize("sample", PROVED)
def test_proved_as_drafted(tmp_path: Path, sample: str) -> None:
    made = drafted(tmp_path, sample)
    for scenario in ACCOUNTS:
        proof = prove(made, SimulatedMachine(), scenario=scenario)
        assert proof.passed, (scenario, failed(proof), proof.unanswered)
        assert proof.leftovers == () or {one.whose for one in proof.leftovers} == {"runner"}


@pytest.mark.parametrize("sample", PROVED)
def test_every_scenario_as_drafted(tmp_path: Path, sample: str) -> None:
    """Damage, cuts, a second removal: the drafted detection tells them, and nothing has to be derived afterwards."""
    cells = matrix(drafted(tmp_path, sample), [SimulatedMachine()], list(SCENARIOS.values()))
    outcomes = {cell.scenario.id: cell.outcome for cell in cells}
    assert set(outcomes.values()) == {"passed", "needless"}, outcomes


@pytest.mark.parametrize("sample", QUESTION)
def test_the_right_question(tmp_path: Path, sample: str) -> None:
    """Nothing failed and nothing is claimed: what its own uninstaller removes is known only from a run."""
    proof = prove(drafted(tmp_path, sample), SimulatedMachine())
    assert not proof.passed and failed(proof) == []
    assert f"yendo try {sample}.exe" in proof.unanswered
    cells = matrix(drafted(tmp_path / "again", sample), [SimulatedMachine()], [SCENARIOS["desk"], SCENARIOS["starts"]])
    assert [cell.outcome for cell in cells] == ["open", "passed"]


@pytest.mark.parametrize("name", first_drafts.names())
def test_the_table(tmp_path: Path, name: str) -> None:
    """Every table, every search, every script: proved in every scenario as drafted, or the question that is right."""
    if name.startswith("script: ") and not SAMPLES.exists():
        missing("clamav-testfiles", "apt-get install clamav-testfiles")
    installer = first_drafts.made(name, tmp_path / "from")
    came = first_drafts.came_of(installer, tmp_path / "w", SimulatedMachine(), SCENARIOS, name)
    assert came.right, came


@pytest.mark.wine
@pytest.mark.parametrize(
    "name",
    [
        pytest.param("asks-for-a-build", marks=pytest.mark.thorough),
        pytest.param("actions-of-many-kinds", marks=pytest.mark.thorough),
        pytest.param("asks-for-another-product", marks=pytest.mark.thorough),
        "names",
    ],
)
def test_the_table_on_the_layer(tmp_path: Path, shell_wine: Any, name: str) -> None:
    """Written by a writer that is not ours, proved by the package's own runner; ``first_drafts.py`` takes them all."""
    with shell_wine.fresh() as session:
        installer = first_drafts.made(name, tmp_path / "from", session)
    came = first_drafts.came_of(installer, tmp_path / "w", shell_wine, ("system",), name)
    assert came.right, came


@pytest.mark.wine
@pytest.mark.parametrize("sample", PROVED)
def test_the_layer_agrees(tmp_path: Path, shell_wine: Any, sample: str) -> None:
    """By the package's own runner, as the account that management systems use: every effect as predicted, nothing left."""
    if "32" not in shell_wine.widths:
        missing("a layer for 32-bit programs", "apt-get install wine32")
    proof = prove(drafted(tmp_path, sample), shell_wine, scenario="system")
    assert proof.passed, failed(proof)
    assert proof.comparison is not None and not proof.comparison.missed and not proof.comparison.false


def test_only_folders_that_hold_something_left_are_deleted() -> None:
    """A vendor's folder above two programs may hold a third on another machine, so it goes only where it is empty."""
    folders = [r"C:\Program Files\Tidewell", r"C:\Program Files\Tidewell\A", r"C:\Program Files\Tidewell\B"]
    paths = [
        rf"{folders[1]}\one.exe",
        rf"{folders[1]}\deep\two.dat",
        rf"{folders[2]}\three.exe",
        r"C:\Windows\tide.ini",
    ]
    things = [*map(Folder, [*folders, rf"{folders[1]}\deep"]), *map(File, paths)]
    assert sorted(leftovers._owned([Effect("add", thing, "predicted") for thing in things])) == [
        folders[1],
        folders[2],
        r"C:\Windows\tide.ini",
    ]
