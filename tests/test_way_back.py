"""The way back to an earlier package: passed where the machine ends as it was, and found out where it does not."""

from __future__ import annotations

import json
from pathlib import Path
from typing import Any

import pytest
from conftest import Yendo

for _library in ("sqlalchemy", "numpy", "cryptography"):  # what the office that delivers is made of
    pytest.importorskip(_library)

from delivery_office import PLAN, package_of

from yendo.errors import Usage
from yendo.machines.protocol import Machine
from yendo.machines.simulated.machine import SimulatedMachine
from yendo.package import build
from yendo.plan import read
from yendo.prove import scenarios
from yendo.prove.proof import Proof
from yendo.prove.prove import digest_of, prove

BY_VERSION = (
    '\n[[install]]\nkind = "registry"\nkey = \'HKLM\\Software\\Tidewell\\built\'\nvalues = {{ Version = "{0}" }}\n'
    '\n[[detect]]\nkind = "registry"\nkey = \'HKLM\\Software\\Tidewell\\built\'\nname = "Version"\n{1}\n'
)


def built(place: Path, version: str, rule: str, more: str = "") -> Path:
    """A package that is told by its own rule alone."""
    (place / "extras").mkdir(parents=True)
    (place / "extras" / "tide.ini").write_text("[tide]\na=1\n")
    plan = PLAN.format(name="tide", version=version, more="", steps=BY_VERSION.format(version, rule) + more)
    (place / "plan.toml").write_text(plan.replace("mark = true", ""), "utf-8")
    return build.build(place, read(place / "plan.toml")[0]).folder


def both(place: Path, more: str = "", rule: str = 'equals = "2.0"') -> tuple[Path, Path]:
    """An earlier and a later build of one package; the later one may have something more, or another rule."""
    return built(place / "old", "1.0", 'equals = "1.0"'), built(place / "new", "2.0", rule, more)


def proved(old: Path, new: Path, machine: Machine) -> Proof:
    scenario = scenarios.with_others((), new, [old])["back:1.0-1"]
    return prove(new, machine, scenario=scenario)


def outcomes(proof: Proof) -> dict[str, str]:
    return {phase.id: phase.outcome for phase in proof.phases if phase.id != "runner"}


def test_there_and_back(tmp_path: Path) -> None:
    old, new = both(tmp_path)
    proof = proved(old, new, SimulatedMachine())
    assert proof.passed and set(outcomes(proof).values()) == {"passed"}, proof.phases
    assert list(outcomes(proof)) == [
        "earlier", "earlier-detected", "install", "detected", "uninstall", "gone", "back", "back-detected", "back-alone",
        "as-before", "data", "removed", "leftovers",
    ]  # fmt: skip
    assert proof.earlier == digest_of(old) and proof.digest == digest_of(new)


@pytest.mark.wine
def test_there_and_back_by_the_runners(tmp_path: Path, shell_wine: Any) -> None:
    old, new = both(tmp_path)
    real, played = proved(old, new, shell_wine), proved(old, new, SimulatedMachine())
    assert real.runner_executed and real.passed and outcomes(real) == outcomes(played), real.phases


def test_what_is_wrong_is_found(tmp_path: Path) -> None:
    """Something stays behind; a rule of the later one holds for the earlier one too; there is no uninstall."""
    left = '\n[[install]]\nkind = "copy"\nfrom = "extras/tide.ini"\nto = \'C:\\Tide\\left.ini\'\n\n[[uninstall]]\n'
    left += "kind = \"delete\"\npath = '%ProgramFiles%\\Tidewell'\n"
    proof = proved(*both(tmp_path / "a", left), SimulatedMachine())
    found = {phase.id: phase for phase in proof.phases}
    assert found["as-before"].outcome == "failed" and "C:\\Tide\\left.ini" in " ".join(found["as-before"].details)
    assert found["data"].outcome == "failed" and "people have put there" in found["data"].cause
    proof = proved(*both(tmp_path / "b", rule='version = ">=1.0"'), SimulatedMachine())
    assert not proof.passed and outcomes(proof)["back-alone"] == "failed"


def test_which_packages(tmp_path: Path) -> None:
    _, new = both(tmp_path)
    other = package_of(tmp_path / "other", "gauge")
    for wrong, why in ((new, "no other build"), (other, "no other build"), (tmp_path, "no built package")):
        with pytest.raises(Usage, match=why):
            scenarios.with_others((), new, [wrong])


def test_a_folder_that_a_product_before_has_made(tmp_path: Path, vendor: Path, yendo: Yendo) -> None:
    """The installer knows its folders for the whole machine: one that was not empty when a product went is taken away by
    the next one.
    """
    folders = []
    for version in ("6.1.0", "6.2.3"):
        yendo("draft", tmp_path / version, vendor / f"lantern-{version}.msi")
        plan = tmp_path / version / "plan.toml"
        text = plan.read_text("utf-8")
        (tmp_path / version / "extras").mkdir(exist_ok=True)
        (tmp_path / version / "extras" / "site.ini").write_text("[site]\nname = pier\n")
        copy = '[[install]]\nkind = "copy"\nfrom = "extras/site.ini"\nto = \'%ProgramData%\\Tidewell\\Lantern\\site.ini\'\n\n'
        plan.write_text(
            text.replace("[[uninstall]]", copy + '[[uninstall]]\nkind = "take-back"\n\n[[uninstall]]', 1), "utf-8"
        )
        yendo("build", tmp_path / version)
        folders.append(next(path.parent for path in (tmp_path / version / "package").glob("*/manifest.json")))
    name = next(name for name in scenarios.with_others((), folders[1], [folders[0]]) if name.startswith("back:"))
    proof = prove(
        folders[1], SimulatedMachine(), scenario=scenarios.with_others((), folders[1], [folders[0]])[name]
    )  # fmt: skip
    assert outcomes(proof)["leftovers"] == "passed", json.dumps([str(one) for one in proof.leftovers])
