"""Hosts that many people share at once: seen, put into install mode while a package is at work, and out of it again."""

from __future__ import annotations

import shutil
import threading
import time
from pathlib import Path
from typing import Any

import msgspec
import pytest

from yendo.facts.machine import USUAL
from yendo.machines.simulated.machine import SimulatedMachine, SimulatedSession
from yendo.package import build, carry
from yendo.package import manifest as form
from yendo.plan import read
from yendo.prove.prove import prove
from yendo.prove.scenarios import SCENARIOS

SHARED = msgspec.structs.replace(USUAL, multi_session=True)
MODE = "mode:install"
PLAN = r"""
{more}
[package]
id = "{name}"
name = "Tide"
version = "1.0"
revision = 1
publisher = "Marrowby"
architecture = "x64"

[[install]]
kind = "registry"
key = 'HKLM\Software\Marrowby\{name}'
values = {{ Site = "Pier" }}

[[install]]
kind = "wait"
time = "3 s"

[[detect]]
kind = "registry"
key = 'HKLM\Software\Marrowby\{name}'
name = "Site"
"""


def made(folder: Path, name: str = "tide", more: str = "") -> Path:
    (folder / name).mkdir()
    (folder / name / "plan.toml").write_text(PLAN.format(name=name, more=more))
    return build.build(folder / name, read(folder / name / "plan.toml")[0]).folder


def shared() -> SimulatedSession:
    session = SimulatedSession(SimulatedMachine().surroundings())
    session.facts = SHARED
    return session


def go(session: SimulatedSession, package: Path, verb: str) -> int:
    session.bring(package, r"C:\p")
    manifest = form.read(package)
    return carry.carry(manifest, package, session, verb, folder=r"C:\p", sleep=lambda _: None).exit_code


def test_in_and_out(tmp_path: Path) -> None:
    session, package = shared(), made(tmp_path)
    for verb in ("install", "uninstall"):
        session.called.clear()
        assert go(session, package, verb) == 0
        assert session.called == ["change.exe user /install", "change.exe user /execute"]
        assert session.state().get("part", MODE) is None


@pytest.mark.parametrize(("more", "facts"), [("install_mode = false", SHARED), ("", USUAL)])
def test_only_where_it_is_meant(tmp_path: Path, more: str, facts: Any) -> None:
    session = shared()
    session.facts = facts
    assert go(session, made(tmp_path, more=more), "install") == 0 and session.called == []


def test_another_package_puts_out_what_a_cut_left_on(tmp_path: Path) -> None:
    session, package, other = shared(), made(tmp_path), made(tmp_path, "gauge")
    write = session.write

    def cut(path: str, data: bytes, *, private: bool = False) -> None:
        write(path, data, private=private)
        if path.endswith("journal.txt") and data.count(b"\nstep\t") == 1:
            raise KeyboardInterrupt

    session.write = cut  # type: ignore[method-assign]
    with pytest.raises(KeyboardInterrupt):
        go(session, package, "install")
    session.write = write  # type: ignore[method-assign]
    assert session.state().get("part", MODE) is not None
    session.facts = USUAL  # so that this one does not put it in
    assert go(session, other, "install") == 0
    assert session.called[-1] == "change.exe user /execute" and session.state().get("part", MODE) is None


def test_a_proof_plays_it(tmp_path: Path) -> None:
    proof = prove(made(tmp_path), SimulatedMachine(), scenario=SCENARIOS["shared-host"])
    assert {phase.id: phase.outcome for phase in proof.phases}["mode"] == "passed"
    refused = made(tmp_path, "gauge", "[when]\nmulti_session = false\n")
    proof = prove(refused, SimulatedMachine(), scenario=SCENARIOS["shared-host"])
    assert proof.passed and proof.phases[0].title == "refused cleanly"


@pytest.mark.wine
def test_the_real_runner(tmp_path: Path, shell_wine: Any, stand_in: Path) -> None:
    """A server with the part for it, by its value; the system's program by a stand-in that writes its line down."""
    package, other = made(tmp_path), made(tmp_path, "gauge")
    with shell_wine.fresh("system") as real:
        real.bring(package, r"C:\p\tide")
        real.bring(other, r"C:\p\gauge")
        shutil.copy(stand_in, real.host(r"C:\windows\system32") / "change.exe")
        key = r"HKLM\System\CurrentControlSet\Control\Terminal Server"
        assert real.run(f'reg add "{key}" /v TSAppCompat /t REG_DWORD /d 1 /f', timeout=60).exit_code == 0

        def lines() -> list[str]:
            log = real.read(r"C:\standin.log") or b""
            return [line.decode().rpartition(" ")[2] for line in log.splitlines() if line]

        def verb(name: str, what: str) -> int:
            return int(real.run(rf'cmd /s /c ""C:\p\{name}\apply.cmd" {what}"', timeout=300).exit_code)

        assert verb("tide", "install") == 0 and lines() == ["/install", "/execute"]
        # killed in the middle: on, until the next package begins
        runner = threading.Thread(target=lambda: verb("tide", "install"))
        runner.start()
        until = time.monotonic() + 120
        while len(lines()) < 3 and time.monotonic() < until:
            time.sleep(0.05)
        real.end_programs("powershell")
        runner.join()
        assert lines()[2:] == ["/install"]
        assert verb("gauge", "install") == 0
        assert lines()[2:] == ["/install", "/execute", "/install", "/execute"]
