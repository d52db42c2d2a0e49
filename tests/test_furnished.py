"""A package that needs something from outside is proved on a machine that has it, and the record says so."""

from __future__ import annotations

import json
from pathlib import Path
from typing import Any

import pytest
from conftest import Yendo, numeric

PLAN = """
[package]
id = "charts"
name = "Charts"
version = "1.0"

[[need]]
holds = [{ kind = "registry", key = 'HKLM\\Software\\Tidewell\\Runtime', name = "Version", equals = "3" }]

[[install]]
kind = "registry"
key = 'HKLM\\Software\\Tidewell\\Charts'
values = { Installed = "1.0" }
timeout = "1 min"

[[uninstall]]
kind = "take-back"
timeout = "1 min"

[[detect]]
kind = "registry"
key = 'HKLM\\Software\\Tidewell\\Charts'
name = "Installed"
equals = "1.0"
"""
THERE = """
[proof]
there = [{ kind = "registry", key = 'HKLM\\Software\\Tidewell\\Runtime', name = "Version", equals = "3" }]
"""
RUNTIME = """
[package]
id = "runtime"
name = "Runtime"
version = "3"

[[install]]
kind = "registry"
key = 'HKLM\\Software\\Tidewell\\Runtime'
values = { Version = "3" }
timeout = "1 min"

[[detect]]
kind = "registry"
key = 'HKLM\\Software\\Tidewell\\Runtime'
name = "Version"
"""


def workspace(folder: Path, text: str) -> Path:
    folder.mkdir()
    (folder / "plan.toml").write_text(text)
    return folder


def record(folder: Path, machine: str = "simulated") -> dict[str, Any]:
    found: dict[str, Any] = json.loads(next(folder.glob(f"package/*.proof-{machine}-desk.json")).read_text())
    return found


def test_without_it_the_need_is_missing(tmp_path: Path, yendo: Yendo) -> None:
    workspace(tmp_path / "w", PLAN)
    yendo("build", "w")
    assert "exit code 29" in yendo("prove", "w", expect=1).stdout


def test_with_it_it_is_proved_and_nothing_of_it_is_taken_away(tmp_path: Path, yendo: Yendo) -> None:
    folder = workspace(tmp_path / "w", PLAN + THERE)
    yendo("build", "w")
    assert "Proved" in yendo("prove", "w").stdout
    found = record(folder)
    assert r"with registry HKLM\Software\Tidewell\Runtime\Version = 3" in found["label"]
    assert [left for left in found["leftovers"] if left["whose"] != "runner"] == []


def test_a_package_that_is_there_already(tmp_path: Path, yendo: Yendo) -> None:
    workspace(tmp_path / "runtime", RUNTIME)
    yendo("build", "runtime")
    need = '[[need]]\npackage = "runtime"\nversion = ">=3"\n'
    head, tail = PLAN.split("[[need]]")[0], PLAN[PLAN.index("[[install]]") :]
    proof = "\n[proof]\npackages = ['../runtime/package/runtime-3-r1']\n"
    folder = workspace(tmp_path / "w", head + need + tail + proof)
    yendo("build", "w")
    assert "Proved" in yendo("prove", "w").stdout
    assert "with runtime-3-r1" in record(folder)["label"]
    (folder / "plan.toml").write_text((folder / "plan.toml").read_text().replace("runtime-3-r1", "none"))
    assert "is no built package" in yendo("prove", "w", expect=2).stderr


def asking(tmp_path: Path, yendo: Yendo) -> Path:
    """A built package that asks before it brings its runtime."""
    workspace(tmp_path / "runtime", RUNTIME)
    yendo("build", "runtime")
    folder = tmp_path / "w"
    need = '[[need]]\npackage = "runtime"\nfrom = "extras/runtime"\nremove = true\n[need.consent]\nen = "May it?"\n\n'
    workspace(folder, PLAN.split("[[need]]")[0] + need + PLAN[PLAN.index("[[install]]") :])
    (folder / "extras").mkdir()
    (tmp_path / "runtime" / "package" / "runtime-3-r1").rename(folder / "extras" / "runtime")
    yendo("build", "w")
    return folder


def test_somebody_who_agrees(tmp_path: Path, yendo: Yendo) -> None:
    """A need that asks first: with nobody there it ends, with somebody it goes on."""
    folder = asking(tmp_path, yendo)
    assert "exit code 29" in yendo("prove", "w", expect=1).stdout
    with (folder / "plan.toml").open("a") as plan:
        plan.write("\n[proof]\nperson = true\n")
    yendo("build", "w")
    assert "Proved" in yendo("prove", "w").stdout
    assert "somebody there" in record(folder)["label"]


def test_a_person_who_agrees_and_one_who_does_not(tmp_path: Path, yendo: Yendo) -> None:
    """Both are scenarios of their own where a need asks; a package that asks nobody is not called for them."""
    asking(tmp_path, yendo)
    done = yendo("prove", "w", "--scenario", "agrees", "--scenario", "declines", "--json")
    outcomes = {cell["scenario"]: cell["outcome"] for cell in json.loads(done.stdout)["cells"]}
    assert outcomes == {"agrees": "passed", "declines": "passed"}


def test_an_inventory_that_a_condition_asks(tmp_path: Path, yendo: Yendo) -> None:
    """Given to the machine by the plan; without it the cause is named, and no guess."""
    head, tail = PLAN.split("[[need]]")[0], PLAN[PLAN.index("[[install]]") :]
    when = "[when]\ngroup = \"boats\"\ninventory = 'C:\\Marrowby\\groups.csv'\n\n"
    folder = workspace(tmp_path / "w", head + when + tail)
    yendo("build", "w")
    assert "a file that a condition asks cannot be read" in yendo("prove", "w", expect=1).stdout
    (folder / "groups.csv").write_text("MARROWBY-01,boats\n")
    with (folder / "plan.toml").open("a") as plan:
        plan.write("\n[proof.files]\n'C:\\Marrowby\\groups.csv' = \"groups.csv\"\n")
    assert "Proved" in yendo("prove", "w").stdout
    assert "groups.csv" in record(folder)["label"]
    (folder / "groups.csv").unlink()
    assert "is no file" in yendo("prove", "w", expect=2).stderr


@numeric
def test_detection_is_derived_where_it_is_there(tmp_path: Path, yendo: Yendo) -> None:
    workspace(tmp_path / "w", PLAN + THERE)
    yendo("build", "w")
    derived = json.loads(yendo("detect", "derive", "w", "--json").stdout)
    assert derived["rules"] and not any("Runtime" in json.dumps(one) for one in derived["rules"])
    yendo("detect", "strength", "w", expect=None)
    yendo("prove", "w")
    page = tmp_path / json.loads(yendo("dossier", "w", "--json").stdout)["file"]
    assert "was not measured" not in page.read_text("utf-8")


@pytest.mark.thorough
@pytest.mark.wine
def test_on_the_layer(tmp_path: Path, shell_wine: Any) -> None:
    from yendo.package import build
    from yendo.plan import read
    from yendo.prove.furnished import furnished
    from yendo.prove.prove import prove

    folder = workspace(tmp_path / "w", PLAN + THERE)
    plan = read(folder / "plan.toml")[0]
    proof = prove(build.build(folder, plan).folder, furnished(shell_wine, plan.proof, folder))
    assert proof.passed, [(one.title, one.details) for one in proof.phases if one.outcome == "failed"]
    assert proof.runner_executed and "Runtime" in proof.label
