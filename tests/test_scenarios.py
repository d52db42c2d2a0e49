"""The scenarios of a proof: each finds what it is for, and passes where nothing is wrong."""

from __future__ import annotations

import json
import xml.etree.ElementTree as ET
from collections.abc import Callable
from pathlib import Path
from typing import Any

import generated
import pytest
from conftest import Yendo, parsed

from yendo.errors import Unreadable
from yendo.machines.simulated.machine import SimulatedMachine, SimulatedSession
from yendo.package import build
from yendo.plan import read
from yendo.platforms.windows import folders
from yendo.prove import scenarios
from yendo.prove.libraries import missing_libraries
from yendo.prove.proof import Proof
from yendo.prove.prove import matrix, prove

HEAD = '[package]\nid = "tide"\nname = "Tide"\nversion = "1.5"\npublisher = "Tidewell"\n'
COPY = '[[install]]\nkind = "copy"\nfrom = "extras/a.txt"\nto = \'C:\\Tide\\a.txt\'\n'
RULE = "[[detect]]\nkind = \"file\"\npath = 'C:\\Tide\\a.txt'\n"
REPAIR = COPY.replace("install", "repair")
EACH = (
    '[[install]]\nkind = "registry"\nkey = "HKCU\\\\Software\\\\Tide"\nvalues = { Colour = "blue" }\neach_user = true\n'
)


def packed(folder: Path, plan: str) -> Path:
    (folder / "extras").mkdir(parents=True)
    (folder / "extras" / "a.txt").write_text("a")
    (folder / "plan.toml").write_text(HEAD + plan, "utf-8")
    return build.build(folder, read(folder / "plan.toml")[0]).folder


def said(proof: Proof) -> dict[str, str]:
    return {phase.id: phase.outcome for phase in proof.phases if phase.id != "runner"}


GOOD = COPY + RULE
CASES: list[tuple[str, str, str, dict[str, str]]] = [
    # scenario, plan, what the failing phase says, outcomes
    ("desk", GOOD, "", {"install": "passed", "gone": "passed", "leftovers": "passed"}),
    ("odd-path", GOOD, "", {"install": "passed", "leftovers": "passed"}),
    ("interrupted", GOOD, "", {"install": "passed", "detected": "passed"}),
    ("twice", GOOD, "", {"again": "passed", "reinstall": "passed", "detected": "passed"}),
    (
        "twice",
        GOOD + '[[uninstall]]\nkind = "delete"\npath = \'C:\\Tide\'\n[[uninstall]]\nkind = "take-back"\n',
        "",
        {"again": "passed"},
    ),
    ("repair", GOOD, "", {"needless": "not executed"}),
    ("repair", GOOD + REPAIR, "", {"damaged": "passed", "repair": "passed"}),
    (
        "repair",
        COPY + "[[detect]]\nkind = \"folder\"\npath = 'C:\\Tide'\n" + REPAIR,
        "no rule asks for what was damaged",
        {"damaged": "failed"},
    ),
    ("repair", GOOD + REPAIR.replace("a.txt'", "b.txt'"), "it is missing", {"repair": "failed"}),
    ("media-gone", GOOD, "", {"uninstall": "passed", "gone": "passed"}),
    ("media-gone", 'keep = "nothing"\n', "", {"needless": "not executed"}),
    ("no-disk", GOOD, "", {"needless": "not executed"}),
    ("no-disk", '[when]\ndisk = "1 GB"\n' + GOOD, "", {"install": "passed"}),
    ("no-network", GOOD, "", {"install": "passed", "detected": "passed"}),
    ("no-network", '[when]\nnetwork = "any"\n' + GOOD, "", {"install": "passed"}),
    ("nobody", GOOD, "", {"install": "passed", "detected": "passed"}),
    ("program-open", GOOD, "", {"needless": "not executed"}),
    ("program-open", '[in_the_way]\nprograms = ["tide.exe"]\n' + GOOD, "", {"install": "passed", "detected": "passed"}),
    ("need-missing", '[[need]]\npackage = "runtime"\n' + GOOD, "", {"install": "passed"}),
    ("need-missing", GOOD, "", {"needless": "not executed"}),
    ("starts", GOOD, "", {"starts": "not executed"}),
    ("later-person", GOOD, "", {"needless": "not executed"}),
    ("later-person", EACH + GOOD, "", {"install": "passed", "later": "passed"}),
]


@pytest.mark.parametrize(("scenario", "plan", "words", "outcomes"), CASES)
def test_scenarios(tmp_path: Path, scenario: str, plan: str, words: str, outcomes: dict[str, str]) -> None:
    if plan.startswith("keep"):
        plan = plan + GOOD
        package = packed_with_head(tmp_path, plan)
    else:
        package = packed(tmp_path, plan)
    proof = prove(package, SimulatedMachine(), scenario=scenario)
    found = said(proof)
    assert {name: found.get(name) for name in outcomes} == outcomes, proof.phases
    assert ("failed" in found.values()) == ("failed" in outcomes.values()), proof.phases
    assert words in " ".join(f"{phase.cause} {phase.found}" for phase in proof.phases)


def test_somebody_new_who_lacks_what_others_have(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """What is set only for those who are there is found out."""
    package = packed(tmp_path, EACH + GOOD)
    monkeypatch.setattr(SimulatedSession, "user_hives", lambda self: self.users[:1])
    phases = {phase.id: phase for phase in prove(package, SimulatedMachine(), scenario="later-person").phases}
    assert phases["later"].outcome == "failed" and phases["later"].found == "0 of 1"
    assert "not there" in " ".join(phases["later"].details)


def packed_with_head(folder: Path, plan: str) -> Path:
    """Keys before the first table."""
    (folder / "extras").mkdir(parents=True)
    (folder / "extras" / "a.txt").write_text("a")
    first, _, rest = plan.partition("\n")
    (folder / "plan.toml").write_text(f"{first}\n{HEAD}{rest}", "utf-8")
    return build.build(folder, read(folder / "plan.toml")[0]).folder


def test_older_and_newer_versions(tmp_path: Path) -> None:
    """The older gives way and a person's file stays; a newer one that is replaced is found out."""
    _, package, others = generated.package(tmp_path, 3)

    some = scenarios.with_others(tuple(others), package)
    assert [name for name in some if ":" in name] == ["upgrade:6.1.0", "newer:6.2.3"]
    _, _, strangers = generated.package(tmp_path / "stranger", 4)
    beside = next(
        one for name, one in scenarios.with_others((strangers[0],), package).items() if name.startswith("beside:")
    )
    assert prove(package, SimulatedMachine(), scenario=beside).passed
    cells = matrix(package, [SimulatedMachine()], [some["upgrade:6.1.0"], some["newer:6.2.3"]])
    older, newer = (said(cell.proof) for cell in cells)
    assert older["gave-way"] == older["data"] == older["gone"] == "passed" and "failed" not in older.values()
    # nothing in these installers refuses to go over a newer one: both are then on record
    assert newer["other"] == "passed" and newer["newer"] in ("passed", "failed")


def test_the_matrix(tmp_path: Path, workspace: Path, vendor: Path, yendo: Yendo) -> None:
    """All scenarios at once, records beside the package, and what has passed is not played again until the bytes change."""
    text = (workspace / "plan.toml").read_text("utf-8")
    (workspace / "plan.toml").write_text(
        text.replace(
            "[[install]]",
            f"[proof]\nothers = ['{vendor / 'lantern-6.1.0.msi'}', '{vendor / 'lantern-6.2.3.msi'}']\n\n[[install]]",
            1,
        ),
        "utf-8",
    )
    assert "no built package" in yendo("prove", workspace, "--scenario", "all", expect=2).stderr
    yendo("build", workspace)
    done = parsed(
        yendo("prove", workspace, "--scenario", "all", "--json", "--junit", tmp_path / "all.xml", expect=None)
    )
    outcomes = {cell["scenario"]: cell["outcome"] for cell in done["cells"]}
    assert done["schema"] == "yendo.matrix/1" and set(outcomes) == {
        *scenarios.SCENARIOS,
        "upgrade:6.1.0",
        "newer:6.2.3",
    }
    assert outcomes["desk"] == outcomes["system"] == outcomes["upgrade:6.1.0"] == outcomes["newer:6.2.3"] == "passed", (
        outcomes
    )
    assert outcomes["no-disk"] == "needless" and len(ET.parse(tmp_path / "all.xml").getroot()) == len(outcomes)
    assert len(list((workspace / "package").glob("*.proof-*.json"))) == len(outcomes)
    again = parsed(yendo("prove", workspace, "--scenario", "all", "--go-on", "--json", expect=None))
    assert {cell["scenario"] for cell in again["cells"] if cell["earlier"]} == {
        name for name, outcome in outcomes.items() if outcome != "failed"
    }
    table = yendo("prove", workspace, "--quick").stdout
    assert "removed twice" in table and "2 passed" in table and "yendo dossier" in table
    assert "did you mean system" in yendo("prove", workspace, "--scenario", "sytem", expect=2).stderr
    (workspace / "plan.toml").write_text(
        (workspace / "plan.toml").read_text("utf-8").replace("lantern-6.1.0", "lantern-6.0.0"), "utf-8"
    )
    assert "is not there" in yendo("prove", workspace, "--scenario", "all", expect=2).stderr


def test_a_leftover_that_is_accepted(tmp_path: Path) -> None:
    plan = COPY + RULE + "[[uninstall]]\nkind = \"delete\"\npath = 'C:\\Tide\\a.txt'\n"
    package = packed(tmp_path, plan)
    assert said(prove(package, SimulatedMachine()))["leftovers"] == "failed"
    assert said(prove(package, SimulatedMachine(), accept=("folder C:\\T*",)))["leftovers"] == "passed"


def test_libraries_that_are_missing() -> None:
    from yendo.demo.vendor import PROGRAMS

    data = (PROGRAMS / "lantern-6.2.1.exe").read_bytes()
    none: Callable[[str], bool] = lambda name: False  # noqa: E731
    assert missing_libraries(data, set(), none) == ()
    named = data.replace(b"KERNEL32.dll", b"TIDEGA32.dll")
    assert named != data and missing_libraries(named, set(), none) == ("tidega32.dll",)
    assert missing_libraries(named, {"tidega32.dll"}, none) == ()
    # looked for in the system's folder of the program's own width, which for 32 bits is the redirected one
    assert missing_libraries(named, set(), lambda path: path == r"C:\Windows\System32\tidega32.dll") == ()
    assert folders.of_system("tidega32.dll", 32) == r"C:\Windows\SysWOW64\tidega32.dll"
    with pytest.raises(Unreadable):
        missing_libraries(b"MZ", set(), none)


@pytest.mark.wine
def test_scenarios_on_a_real_machine(tmp_path: Path, workspace: Path, shell_wine: Any) -> None:
    """The same scenarios by the package's own runner: cut off, its folder deleted, programs started."""
    package = build.build(workspace, read(workspace / "plan.toml")[0]).folder
    some = [scenarios.SCENARIOS[name] for name in ("starts", "interrupted", "media-gone")]
    cells = matrix(package, [shell_wine], some, jobs=2)
    outcomes = {
        cell.scenario.id: (cell.outcome, [phase for phase in cell.proof.phases if phase.outcome != "passed"])
        for cell in cells
    }
    assert all(outcome == "passed" for outcome, _ in outcomes.values()), outcomes
    started = [phase for phase in cells[0].proof.phases if phase.id == "starts"]
    assert started and all("version 6.2.1.0" in phase.found for phase in started), started
    record = json.loads((package.parent / f"{package.name}.proof-wine-starts.json").read_text())
    assert record["machine"] == "wine" and record["passed"]
