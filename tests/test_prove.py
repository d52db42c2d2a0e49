"""The proof: phases, failures with their causes, reports."""

from __future__ import annotations

import json
import os
import signal
import subprocess
import sys
import time
import xml.etree.ElementTree as ET
from pathlib import Path
from typing import Any

import pytest
from conftest import Yendo, parsed
from specimens import Specimen

from yendo.draft import draft
from yendo.machines.simulated.machine import SimulatedMachine
from yendo.package import build
from yendo.plan import read
from yendo.prove import explain, junit
from yendo.prove.proof import Proof
from yendo.prove.prove import prove

DEMO = ["fresh", "install", "detected", "effects", "again", "uninstall", "gone", "leftovers"]


def proved(workspace: Path, machine: Any = None, scenario: str = "desk") -> Proof:
    return prove(
        build.build(workspace, read(workspace / "plan.toml")[0]).folder,
        machine or SimulatedMachine(),
        scenario=scenario,
    )


def outcomes(proof: Proof) -> dict[str, str]:
    return {phase.id: phase.outcome for phase in proof.phases}


def replace(workspace: Path, *pairs: tuple[str, str]) -> None:
    path = workspace / "plan.toml"
    text = path.read_text("utf-8")
    for old, new in pairs:
        assert old in text, old
        text = text.replace(old, new)
    path.write_text(text, "utf-8")


@pytest.mark.parametrize("scenario", ["desk", "system"])
def test_the_demo_on_the_simulated_machine(workspace: Path, scenario: str) -> None:
    proof = proved(workspace, scenario=scenario)
    assert proof.passed and outcomes(proof) == dict.fromkeys(DEMO, "passed") | {
        "effects": "not executed",
        "runner": "not executed",
    }
    assert all((phase.place == "nowhere") == (phase.outcome == "not executed") for phase in proof.phases)
    assert proof.comparison and not proof.comparison.evidence and proof.comparison.recall == 1.0
    assert all("on purpose" in leftover.reason for leftover in proof.leftovers)


@pytest.mark.wine
@pytest.mark.parametrize("scenario", ["desk", "system"])
def test_the_demo_on_the_real_machine(workspace: Path, shell_wine: Any, scenario: str) -> None:
    proof = proved(workspace, shell_wine, scenario)
    assert outcomes(proof) == dict.fromkeys(DEMO, "passed"), [
        phase for phase in proof.phases if phase.outcome != "passed"
    ]
    assert proof.runner_executed and all(phase.place == "API layer" for phase in proof.phases)
    assert (
        proof.comparison
        and proof.comparison.evidence
        and proof.comparison.recall >= 0.98
        and not proof.comparison.false
    )
    assert "imitated" in proof.scenario_note or scenario == "desk"


@pytest.mark.wine
@pytest.mark.parametrize("name", ["narrow", "per-user"])
def test_other_kinds_of_installer_for_real(tmp_path: Path, shell_wine: Any, name: str) -> None:
    """A 32-bit installer and one for a single user, from draft to proof."""
    from specimens import all_of_them

    draft.from_installer(tmp_path / "w", all_of_them()[name].ours(tmp_path))
    proof = proved(tmp_path / "w", shell_wine)
    assert outcomes(proof) == dict.fromkeys(DEMO, "passed"), [
        phase for phase in proof.phases if phase.outcome != "passed"
    ]


@pytest.mark.thorough
@pytest.mark.wine
def test_without_a_shell_the_runner_is_not_executed(workspace: Path, cache: Path, wine: Any) -> None:
    from yendo.machines.wine.machine import WineMachine

    proof = proved(workspace, WineMachine(cache))
    assert proof.passed and not proof.runner_executed
    assert outcomes(proof) == dict.fromkeys(DEMO, "passed") | {"runner": "not executed"}


def test_a_rule_that_is_true_too_early(workspace: Path) -> None:
    path = workspace / "plan.toml"
    text = path.read_text("utf-8")
    path.write_text(
        text[: text.index("[[detect]]")] + "[[detect]]\nkind = \"file\"\npath = 'C:\\Windows\\System32\\msiexec.exe'\n",
        "utf-8",
    )
    proof = proved(workspace)
    assert outcomes(proof) == {"fresh": "failed", "runner": "not executed"} and not proof.passed
    assert "hold too early" in proof.phases[0].cause and "msiexec.exe is there" in proof.phases[0].details[0]


def test_a_rule_that_never_holds(workspace: Path) -> None:
    replace(workspace, ('version = "==6.2.1"', 'version = "==6.2.2"'))
    proof = proved(workspace)
    assert outcomes(proof)["detected"] == "failed" and "version 6.2.1 is on record" in " ".join(proof.phases[2].details)


@pytest.mark.parametrize(
    ("change", "code", "cause"),
    [
        (
            ('media = "lantern-6.2.1.msi"', "command = 'msiexec /i \"{package}\\media\\missing.msi\" /qn'"),
            1619,
            "is not there",
        ),
        (
            (
                'media = "lantern-6.2.1.msi"',
                "command = 'msiexec /i \"{package}\\media\\lantern-6.2.1.msi\" /qn /l*v C:\\nowhere\\x.log'",
            ),
            1622,
            "folder is missing",
        ),
        (
            (
                'media = "lantern-6.2.1.msi"',
                "command = 'msiexec /i \"{package}\\media\\lantern-6.2.1.msi\" /qn PLACE=a b'",
            ),
            1639,
            "command line is wrong",
        ),
        (('architecture = ["x64"]', 'architecture = ["arm64"]'), 20, "run conditions are not met"),
    ],
)
def test_failures_say_why(workspace: Path, change: tuple[str, str], code: int, cause: str) -> None:
    text = (workspace / "plan.toml").read_text("utf-8")
    if "command" in change[1]:
        at = text.index("[install.properties]")
        (workspace / "plan.toml").write_text(text[:at] + text[text.index("[[install]]", at) :], "utf-8")
    replace(workspace, change)
    proof = proved(workspace)
    failed = next(phase for phase in proof.phases if phase.outcome == "failed")
    assert failed.id == "install" and f"exit code {code}" in failed.found and cause in failed.cause and failed.advice


def refusing(folder: Path) -> Path:
    """A workspace whose installer stops in a custom action."""
    specimen = Specimen("stops").with_file()
    specimen.add("CustomAction", ("Stop", 19, None, "The quay is closed.")).add(
        "InstallExecuteSequence", ("Stop", "STOPHERE", 1300)
    )
    draft.from_installer(folder / "w", specimen.ours(folder))
    replace(folder / "w", ('media = "stops.msi"', 'media = "stops.msi"\narguments = "STOPHERE=1"'))
    return folder / "w"


def test_a_failed_action_is_named(tmp_path: Path) -> None:
    phase = proved(refusing(tmp_path)).phases[1]
    assert phase.outcome == "failed" and "action that failed: Stop" in phase.details and "exit code 1603" in phase.found


@pytest.mark.wine
def test_a_failed_action_is_named_for_real(tmp_path: Path, shell_wine: Any) -> None:
    phase = proved(refusing(tmp_path), shell_wine).phases[1]
    assert (
        phase.outcome == "failed" and phase.found == "exit code 1603" and any("Stop" in line for line in phase.details)
    ), phase


def test_what_stays_behind_is_named(tmp_path: Path) -> None:
    specimen = Specimen("stays").with_file().component("Kept", key="FKept", more=16).file("Kept", "FKept", "kept.txt")
    draft.from_installer(tmp_path / "w", specimen.ours(tmp_path))
    proof = proved(tmp_path / "w")
    left = [leftover.what for leftover in proof.leftovers if "on purpose" not in leftover.reason]
    assert outcomes(proof)["leftovers"] == "failed" and not proof.passed
    assert left == [r"file C:\Program Files\Specimen stays\kept.txt", r"folder C:\Program Files\Specimen stays"]


LOGS = {
    "windows": (
        "=== Verbose logging started\r\nAction start 10:00:00: INSTALL.\r\nAction start 10:00:01: RegisterGauge.\r\nError 1722. There is a problem with this package.\r\n"
        "Action ended 10:00:02: RegisterGauge. Return value 3.\r\nAction ended 10:00:02: INSTALL. Return value 3.\r\nProperty(S): X = Y\r\n",
        "RegisterGauge",
        "1722",
    ),
    "layer": (
        "Action start 10:00:00: INSTALL.\r\nAction start 10:00:01: Check.\r\nAction ended 10:00:01: Check. Return value 1.\r\nAction start 10:00:01: InstallFiles.\r\n"
        "Source file not found: lantern.cab\r\nAction ended 10:00:02: InstallFiles. Return value 0.\r\nAction ended 10:00:02: INSTALL. Return value 0.\r\n",
        "InstallFiles",
        "lantern.cab",
    ),
}


@pytest.mark.parametrize("encoding", ["utf-16", "utf-16-le", "utf-8", "cp1252"])
@pytest.mark.parametrize("kind", LOGS)
def test_logs_in_every_spelling(kind: str, encoding: str) -> None:
    text, action, word = LOGS[kind]
    found = explain.explain(text.encode(encoding))
    assert found.action == action and any(word in line for line in found.lines)


def test_a_log_that_says_nothing() -> None:
    assert explain.explain(b"").lines == () and explain.explain(b"\xff\xfe\x00").action is None


def test_junit(workspace: Path) -> None:
    replace(workspace, ('version = "==6.2.1"', 'version = "==6.2.2"'))
    proof = proved(workspace)
    suite = ET.fromstring(junit.encode([proof]))[0]
    cases = {case.get("name"): [child.tag for child in case] for case in suite}
    assert suite.get("failures") == "2" and cases["detected after the install"][0] == cases["install"][0] == "failure"
    assert cases["the package's own runner"][0] == "skipped"


def test_the_command(workspace: Path, yendo: Yendo, tmp_path: Path) -> None:
    yendo("prove", workspace, expect=2)
    yendo("build", workspace)
    done = parsed(yendo("prove", workspace, "--json", "--junit", tmp_path / "proof.xml"))
    assert done["passed"] and done["schema"] == "yendo.proof/1" and ET.parse(tmp_path / "proof.xml")
    package = workspace / "package" / "tidewell-lantern-6.2.1-r1"
    record = json.loads((package.parent / f"{package.name}.proof-simulated-desk.json").read_text())
    assert record["digest"] == done["digest"]
    printed = " ".join(yendo("prove", package, "--scenario", "system").stdout.split())
    assert "no user's hive" in printed and "Proved" in printed and "--machine wine" in printed
    (package / "manifest.json").write_text("{")
    assert "manifest.json" in yendo("prove", package, expect=3).stderr


@pytest.mark.wine
@pytest.mark.parametrize(
    "more", [[], ["--scenario", "twice", "--scenario", "system", "--scenario", "desk"]], ids=["one", "several at once"]
)
def test_interrupted_it_leaves_nothing_running(workspace: Path, wine: Any, cache: Path, more: list[str]) -> None:
    build.build(workspace, read(workspace / "plan.toml")[0])
    process = subprocess.Popen(
        [sys.executable, "-m", "yendo", "prove", str(workspace), "--machine", "wine", *more],
        stdout=subprocess.DEVNULL,
        stderr=subprocess.PIPE,
        text=True,
        env={**os.environ, "YENDO_CACHE": str(cache), "YENDO_POWERSHELL": ""},
        preexec_fn=lambda: signal.signal(signal.SIGINT, signal.SIG_DFL),  # whatever started the tests may ignore it
    )
    deadline = time.monotonic() + 60
    while not (mine := _prefixes(process.pid, cache)) and time.monotonic() < deadline and process.poll() is None:
        time.sleep(0.05)
    assert mine, "no machine was started"
    process.send_signal(signal.SIGINT)
    _, said = process.communicate(timeout=60)
    assert process.returncode == 130 and "nothing is left running" in said and "Traceback" not in said
    assert not [prefix for prefix in mine if _running_in(prefix)] and not any(
        Path(prefix).parent.exists() for prefix in mine
    )


def _prefixes(parent: int, cache: Path) -> set[str]:
    """The prefixes of the processes that one process has started."""
    found = set()
    for entry in Path("/proc").glob("[0-9]*"):
        try:
            values = (entry / "environ").read_bytes().split(b"\0")
            if int((entry / "stat").read_text().rpartition(")")[2].split()[1]) == parent:
                found |= {
                    value[11:].decode()
                    for value in values
                    if value.startswith(b"WINEPREFIX=") and str(cache).encode() in value
                }
        except (OSError, IndexError):
            continue
    return found


def _running_in(prefix: str) -> list[str]:
    found = []
    for entry in Path("/proc").glob("[0-9]*"):
        try:
            if f"WINEPREFIX={prefix}".encode() in (entry / "environ").read_bytes().split(b"\0"):
                found.append((entry / "comm").read_text().strip())
        except OSError:
            continue
    return found


def test_no_such_machine(workspace: Path, yendo: Yendo) -> None:
    yendo("build", workspace)
    done = yendo("prove", workspace, "--machine", "wine", expect=4, environment={"PATH": "/usr/bin/nowhere"})
    assert "apt-get install wine" in done.stderr
