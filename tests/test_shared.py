"""What several packages of an office have placed alike goes with the last of them, and is then as it was before the
first.
"""

from __future__ import annotations

import itertools
import threading
import time
from collections.abc import Callable
from pathlib import Path
from typing import Any

import pytest

from yendo.effects import State, difference
from yendo.machines.protocol import Session
from yendo.machines.simulated.machine import SimulatedMachine
from yendo.package import build, carry
from yendo.package import manifest as form
from yendo.plan import read

HOUSE = r"""
name = "Marrowby harbour survey office"

[[before.install]]
kind = "registry"
key = 'HKLM\Software\Marrowby\Office\Packages'
values = { Managed = "yes", Site = "Harbour" }

[[before.install]]
kind = "environment"
name = "Path"
change = "append"
value = 'C:\Marrowby\tools'

[[after.install]]
kind = "edit"
file = 'C:\Marrowby\office.ini'
format = "ini"
set = { "office/site" = "Harbour" }
make = true

[[after.install]]
kind = "service"
name = "MarrowbyWatch"
change = "create"
program = 'C:\Marrowby\watch.exe'
"""
PLAN = r"""
house = "../house.toml"

[package]
id = "marrowby-{name}"
name = "{name}"
version = "1.0"
revision = 1
publisher = "Marrowby"
contact = "x"
architecture = "x64"

[[install]]
kind = "registry"
key = 'HKLM\Software\Marrowby\{name}'
values = {{ Own = "1" }}

[[detect]]
kind = "registry"
key = 'HKLM\Software\Marrowby\{name}'
name = "Own"
"""
NAMES = ("chart", "gauge", "tide")


@pytest.fixture
def packages(tmp_path: Path) -> dict[str, Path]:
    (tmp_path / "house.toml").write_text(HOUSE)
    found = {}
    for name in NAMES:
        (tmp_path / name).mkdir()
        (tmp_path / name / "plan.toml").write_text(PLAN.format(name=name))
        found[name] = build.build(tmp_path / name, read(tmp_path / name / "plan.toml")[0]).folder
    return found


def of_the_office(state: State) -> set[str]:
    """What stands on the machine of the standing steps, in words."""
    things = (thing.identity.lower() for thing in state)
    found = {one for one in things if "marrowby" in one and not one.startswith((r"c:\program", r"c:\windows"))}
    return found | ({"entry"} if "marrowby" in str(state.get("environment", "machine:path")).lower() else set())


def go(session: Session, packages: dict[str, Path], orders: tuple[Any, Any], verb: Callable[[str, str], int]) -> None:
    before = session.state().copy()
    for name in orders[0]:
        assert verb(name, "install") == 0
    full = session.state().copy()
    shared = {one for one in of_the_office(full) if not any(rf"marrowby\{name}" in one for name in NAMES)}
    assert len(shared) > 4 and "entry" in shared
    for name in orders[1][:-1]:
        assert verb(name, "uninstall") == 0
        assert shared <= of_the_office(session.state()), f"{name} took away what others need"
    assert verb(orders[1][-1], "uninstall") == 0
    left = [
        str(effect)
        for effect in difference(before, session.state())
        if not effect.thing.identity.lower().startswith((r"c:\programdata", r"c:\program files\yendo"))
    ]
    assert left == []


@pytest.mark.parametrize("removal", [*itertools.permutations(NAMES)], ids=" ".join)
def test_it_goes_with_the_last(packages: dict[str, Path], removal: tuple[str, ...]) -> None:
    with SimulatedMachine().fresh() as session:
        session.make_folder(r"C:\Marrowby")
        session.write(r"C:\Marrowby\office.ini", b"[office]\r\nowner=mara\r\n")

        def verb(name: str, what: str) -> int:
            folder = rf"C:\packages\{name}"
            session.bring(packages[name], folder)
            return carry.carry(form.read(packages[name]), packages[name], session, what, folder=folder).exit_code

        go(session, packages, (NAMES, removal), verb)
        assert session.read(r"C:\Marrowby\office.ini") == b"[office]\r\nowner=mara\r\n"


@pytest.mark.thorough
@pytest.mark.parametrize("removal", [("gauge", "chart", "tide")], ids=" ".join)
def test_so_does_the_real_runner(packages: dict[str, Path], shell_wine: Any, removal: tuple[str, ...]) -> None:
    with shell_wine.fresh("system") as session:
        session.make_folder(r"C:\Marrowby")
        session.write(r"C:\Marrowby\office.ini", b"[office]\r\nowner=mara\r\n")
        for name in NAMES:
            session.bring(packages[name], rf"C:\packages\{name}")

        def verb(name: str, what: str) -> int:
            ran = session.run(rf'cmd /s /c ""C:\packages\{name}\apply.cmd" {what}"', timeout=300)
            print(ran.output)
            return int(ran.exit_code)

        go(session, packages, (NAMES, removal), verb)
        assert session.read(r"C:\Marrowby\office.ini") == b"[office]\r\nowner=mara\r\n"


@pytest.mark.thorough
def test_one_that_is_at_work_is_waited_for(packages: dict[str, Path], shell_wine: Any) -> None:
    """The record of a package whose own run holds it is not changed: the removal fails, and goes through later."""
    with shell_wine.fresh("system") as session:
        for name in ("chart", "gauge"):
            session.bring(packages[name], rf"C:\packages\{name}")

        def verb(name: str, what: str) -> Any:
            return session.run(rf'cmd /s /c ""C:\packages\{name}\apply.cmd" {what}"', timeout=300)

        assert verb("chart", "install").exit_code == 0 and verb("gauge", "install").exit_code == 0
        lock = r"C:\Program Files\Yendo\state\marrowby-gauge\lock"
        hold = f"[IO.File]::Open('{lock}', 'OpenOrCreate', 'ReadWrite', 'None'); [Threading.Thread]::Sleep(75000)"
        session.write(r"C:\hold.ps1", hold.encode())
        holder = threading.Thread(target=lambda: session.run(r"powershell -File C:\hold.ps1", timeout=200))
        holder.start()
        time.sleep(5)
        refused = verb("chart", "uninstall")
        assert refused.exit_code == 23 and "a package that needs the same is at work: marrowby-gauge" in refused.output
        holder.join()
        assert verb("chart", "uninstall").exit_code == 0 and verb("gauge", "uninstall").exit_code == 0
        assert not [path for path in of_the_office(session.state()) if "office" in path]
