"""Two hundred searches in one database: what the simulated machine claims, against what the layer's installer finds.

A claim is "there" or "not there"; what no data knows is none. What a Windows has and the layer lacks is listed.
"""

from __future__ import annotations

import shutil
import subprocess
import sys
from itertools import product
from pathlib import Path
from typing import Any

import pytest

sys.path.insert(0, str(Path(__file__).parents[1]))

from conftest import missing
from specimens import Specimen

from yendo.formats.msi import Database
from yendo.formats.pe import Image
from yendo.installers.msi import engine
from yendo.machines.simulated.machine import SimulatedMachine
from yendo.platforms.windows import systems

pytestmark = pytest.mark.wine

NT, CURRENT = r"Software\Microsoft\Windows NT\CurrentVersion", r"Software\Microsoft\Windows\CurrentVersion"
KEYS = (
    NT,
    CURRENT,
    r"Software\Tidewell\Base",
    r"Software\Microsoft\NET Framework Setup\NDP\v4\Full",
    r"Software\Classes\.txt",
)
NAMES = (
    "CurrentVersion",
    "CurrentBuildNumber",
    "ProductName",
    "ProgramFilesDir",
    "EditionID",
    "Version",
    "Release",
    "NoSuch",
)
FILES = ("kernel32.dll", "advapi32.dll", "msi.dll", "notepad.exe", "regedit.exe", "explorer.exe", "win.ini", "tide.dll")
FOLDERS = (
    "[SystemFolder]",
    "[System64Folder]",
    "[WindowsFolder]",
    "[ProgramFiles64Folder]",
    "[CommonAppDataFolder]",
    "[FontsFolder]",
)
# What every Windows has, and the layer otherwise.
LACKS = {
    "Release": "it comes without .NET Framework",
    "notepad.exe": "its own programs state no version, or a lower one",
}
LEAST = (None, "1.0.0.0", "99.0.0.0")


def searches() -> dict[str, tuple[str, tuple[Any, ...], tuple[Any, ...] | None]]:
    """Of each property: the locator's table and row, and the file's description where it has one."""
    found: dict[str, tuple[str, tuple[Any, ...], tuple[Any, ...] | None]] = {}
    for key, name in product(KEYS, NAMES):
        for view in (0, 16):
            number = len(found)
            found[f"P{number}"] = ("RegLocator", (f"S{number}", 2, key, name, 2 | view), None)
    for folder, name, least in product(FOLDERS[:3], FILES, LEAST):
        number = len(found)
        described = (f"S{number}", name, least, None, None, None, None, None, None)
        found[f"P{number}"] = ("DrLocator", (f"S{number}", None, folder, 0), described)
    for folder, inside in product(FOLDERS, ("", "Common Files", "drivers", "Tidewell", "Microsoft")):
        number = len(found)
        found[f"P{number}"] = ("DrLocator", (f"S{number}", None, f"{folder}{inside}", 0), None)
    for file, section in product(("win.ini", "tide.ini"), ("Mail", "fonts", "Tide")):
        number = len(found)
        found[f"P{number}"] = ("IniLocator", (f"S{number}", file, section, "MAPI", 0, 2), None)
    for number in range(len(found), 200):
        found[f"P{number}"] = (
            "RegLocator",
            (f"S{number}", 2, rf"Software\Tidewell\Base{number}", "Version", 2 | 16),
            None,
        )
    return found


def test_two_hundred_searches(wine: Any, tmp_path: Path) -> None:
    asked = searches()
    specimen = Specimen("asking").with_file()
    for name, (table, row, described) in asked.items():
        specimen.add("AppSearch", (name, row[0])).add(table, row)
        if described:
            specimen.add("Signature", described)
        specimen.add("Registry", (f"R{name}", 2, r"Software\Tidewell\Asked", name, f"[{name}]", "Program"))
    installer = specimen.ours(tmp_path)
    machine = SimulatedMachine()
    with Database(installer) as database:
        outcome = engine.run(database, machine.surroundings("user"), machine.baseline("user"))
    assert outcome.done
    unknown = {name for name, words in outcome.unknown.items() if words}
    with wine.fresh("user") as session:
        session.bring(tmp_path, r"C:\Hand over")
        assert session.run(r'msiexec /i "C:\Hand over\asking.msi" /qn', timeout=120).exit_code == 0
        real = {
            thing.name: thing.data for thing in session.state().of("registry") if thing.key.endswith("Tidewell\\Asked")
        }
    wrong = []
    for name, (table, row, described) in asked.items():
        if name in unknown:
            continue
        claimed, there = bool(outcome.properties.get(name)), bool(real.get(name))
        if claimed != there and not (claimed and {*row, *(described or ())} & set(LACKS)):
            wrong.append((table, row[1:], described[1:3] if described else None, "there" if claimed else "not there"))
    claims = len(asked) - len(unknown)
    print(f"{claims} claims, {len(unknown)} unknown, {len(wrong)} differ")
    for one in wrong:
        print("  ", one)
    assert len(asked) >= 200 and claims > 75
    assert wrong == []


# What the layer's installer does not have, though the documentation does: nobody judges these here.
LAYER_HAS_NOT = {
    "GPTSupport",
    "MsiWin32AssemblySupport",
    "OLEAdvtSupport",
    "RedirectedDllSupport",
    "RemoteAdminTS",
    "ServicePackLevelMinor",
    "ShellAdvtSupport",
}


def test_what_the_installer_itself_is_told(wine: Any, tmp_path: Path) -> None:
    """The properties that a release decides: those of the data, against those that the layer's installer has."""
    told = systems.installer_properties(systems.system("10-22h2"))
    specimen = Specimen("told").with_file()
    names = sorted({*told, *systems.ASKS_THE_MACHINE})
    for name in names:
        specimen.add("Registry", (f"R{name}", 2, r"Software\Tidewell\Told", name, f"<[{name}]>", "Program"))
    specimen.ours(tmp_path)
    with wine.fresh("user") as session:
        session.bring(tmp_path, r"C:\Hand over")
        assert session.run(r'msiexec /i "C:\Hand over\told.msi" /qn', timeout=120).exit_code == 0
        values = {
            thing.name: str(thing.data).strip("<>")
            for thing in session.state().of("registry")
            if thing.key.endswith("Tidewell\\Told")
        }
    for name in names:
        print(f"{name:26} {told.get(name, '?'):14} {values.get(name, ''):14}")
    differ = {name for name, value in told.items() if values.get(name) != value}
    assert differ <= LAYER_HAS_NOT
    assert {name for name in LAYER_HAS_NOT if values.get(name)} == set()


ASKER = r"""
#include <windows.h>
void start(void)
{
    OSVERSIONINFOA told = { sizeof told };
    GetVersionExA(&told);
    ExitProcess(told.dwMajorVersion * 10 + told.dwMinorVersion);
}
"""
SUPPORTED = '<supportedOS Id="{%s}"/>'
MANIFEST = (
    '<assembly xmlns="urn:schemas-microsoft-com:asm.v1" manifestVersion="1.0">'
    '<compatibility xmlns="urn:schemas-microsoft-com:compatibility.v1"><application>%s</application></compatibility>'
    "</assembly>"
)


@pytest.mark.parametrize(
    "named", ["", "1f676c76-80e1-4239-95bb-83d0f6d0da78", "8e0f7a12-bfb3-4fe8-b9a5-48fd50a15a9a"], ids=["", "8.1", "10"]
)
def test_who_asks_is_told_by_his_manifest(machine: Any, tmp_path: Path, named: str) -> None:
    """What is read of a program, against what the layer tells that very program when it asks."""
    compiler = "x86_64-w64-mingw32-gcc"
    if not shutil.which(compiler):
        missing("the cross compiler", "apt-get install gcc-mingw-w64-x86-64")
    (tmp_path / "asker.c").write_text(ASKER)
    (tmp_path / "asker.manifest").write_text(MANIFEST % (SUPPORTED % named if named else ""))
    (tmp_path / "asker.rc").write_text('1 24 "asker.manifest"\n')
    steps = (
        ["x86_64-w64-mingw32-windres", "asker.rc", "asker.o"],
        [
            compiler,
            "-Os",
            "-nostdlib",
            "-mwindows",
            "-Wl,-e,start",
            "asker.c",
            "asker.o",
            "-lkernel32",
            "-o",
            "asker.exe",
        ],
    )
    for line in steps:
        subprocess.run(line, check=True, cwd=tmp_path)
    with (tmp_path / "asker.exe").open("rb") as file:
        told = systems.told_to_programs(Image(file).manifest)
    machine.bring(tmp_path, r"C:\Asked")
    assert machine.run(r'"C:\Asked\asker.exe"', timeout=60).exit_code == int(told.replace(".", ""))
