"""The simulated machine's installer, and what is told apart when a real prefix is observed."""

from __future__ import annotations

from pathlib import Path

import pytest
from specimens import Specimen

from yendo.effects import Environment, Product, RegistryKey, RegistryValue, Service, UninstallEntry
from yendo.effects.things import Thing
from yendo.errors import NotCovered
from yendo.machines.simulated.machine import SimulatedMachine, SimulatedSession
from yendo.machines.wine import noise, observe
from yendo.prove import explain


@pytest.fixture
def session(tmp_path: Path) -> SimulatedSession:
    """A simulated machine with a folder that holds two specimens, a damaged file and another build of the first."""
    Specimen("tide").with_file().ours(tmp_path)
    (tmp_path / "other").mkdir()
    rebuilt = Specimen("tide").with_file()
    rebuilt.name = "rebuilt"
    rebuilt.ours(tmp_path / "other")
    (tmp_path / "damaged.msi").write_bytes((tmp_path / "tide.msi").read_bytes()[:3000])
    missing = Specimen("apart").with_file()
    tables, summary = missing._finish()
    from yendo.demo.vendor import write_installer

    write_installer(tmp_path / "apart.msi", tables, summary=summary)
    found = SimulatedSession(SimulatedMachine().surroundings())
    found.bring(tmp_path, r"C:\in")
    return found


def code(session: SimulatedSession, line: str) -> int | None:
    return session.run(line, timeout=10).exit_code


INSTALL = r"msiexec /i C:\in\tide.msi /qn"


@pytest.mark.parametrize(("lines", "expected"), [
    ([INSTALL], [0]),
    ([INSTALL, INSTALL], [0, 0]),
    ([r"msiexec /i C:\in\nowhere.msi /qn"], [1619]),
    ([r"msiexec /i C:\in\damaged.msi /qn"], [1620]),
    ([r"msiexec /i C:\in\apart.msi /qn"], [1603]),
    ([r"msiexec /x C:\in\tide.msi /qn"], [1605]),
    ([r"msiexec /x {00000000-0000-0000-0000-000000000001} /qn"], [1605]),
    ([INSTALL, r"msiexec /x C:\in\tide.msi /qn", r"msiexec /x C:\in\tide.msi /qn"], [0, 0, 1605]),
    ([INSTALL + r" /l*v C:\nowhere\a.log"], [1622]),
    ([INSTALL + r" /l*v C:\ProgramData\a.log"], [0]),
    ([INSTALL + " PLACE=a b"], [1639]),
    (["msiexec"], [1639]),
    ([INSTALL, r"msiexec /i C:\in\other\rebuilt.msi /qn"], [0, 1638]),
    ([INSTALL, r"msiexec /i C:\in\tide.msi /qn REINSTALL=ALL REINSTALLMODE=omus"], [0, 0]),
])  # fmt: skip
def test_exit_codes_as_documented(session: SimulatedSession, lines: list[str], expected: list[int]) -> None:
    assert [code(session, line) for line in lines] == expected


def test_another_installation_is_running(session: SimulatedSession) -> None:
    session.busy = 2
    assert [code(session, INSTALL) for _ in range(3)] == [1618, 1618, 0]


def test_its_log_is_written_as_windows_writes_one(session: SimulatedSession) -> None:
    code(session, r"msiexec /i C:\in\apart.msi /qn /l*v %ProgramData%\a.log")
    data = session.read(r"C:\ProgramData\a.log")
    assert data and data[:2] == b"\xff\xfe"
    told = explain.explain(data)
    assert told.action == "InstallFiles" and any("media.cab" in line for line in told.lines)


def test_what_it_does_not_carry_out_is_refused(session: SimulatedSession) -> None:
    with pytest.raises(NotCovered):
        session.run("setup.exe /S", timeout=10)


def test_files_of_a_package_are_no_part_of_the_state(session: SimulatedSession) -> None:
    assert session.read(r"C:\IN\Tide.msi") and session.read(r"C:\in\..\in\tide.msi") is None
    assert not [thing for thing in session.state() if "c:\\in" in thing.identity]
    with pytest.raises(FileNotFoundError):
        session.write(r"C:\nowhere\a.txt", b"")
    assert session.make_folder(r"C:\new") and not session.make_folder(r"C:\NEW")
    session.write(r"C:\new\a.txt", b"a")
    assert not session.remove_folder(r"C:\new") and session.remove(r"C:\new\A.TXT") and session.remove_folder(r"C:\new")


# --- observing ---------------------------------------------------------------------------------------------

CODE = "{4E6AB892-57E7-52F8-B2B2-AB06096EDC9F}"
_INSTALLER = "Software\\\\Microsoft\\\\Windows\\\\CurrentVersion\\\\"


@pytest.mark.parametrize(("hive", "path", "body", "expected"), [
    ("HKLM", r"Software\\Wow6432Node\\Tide", '"A"="x"', [RegistryValue("HKLM", "Software\\Tide", "A", "sz", "x", "32")]),
    ("HKLM", r"Software\\Classes\\Wow6432Node\\CLSID", '@="x"', [RegistryValue("HKLM", "Software\\Classes\\CLSID", "", "sz", "x", "32")]),
    ("HKCU", r"Software\\Wow6432Node\\Tide", '"A"=dword:00000005', [RegistryValue("HKCU", "Software\\Wow6432Node\\Tide", "A", "dword", 5)]),
    ("HKU", r"Software\\Tide", '"A"="x"', [RegistryValue("HKU", ".DEFAULT\\Software\\Tide", "A", "sz", "x")]),
    ("HKLM", r"System\\ControlSet001\\Services\\Tide", '"ImagePath"=str(2):"C:\\\\t.exe"\n"Start"=dword:00000002',
     [Service("Tide", None, "C:\\t.exe", "auto", None, ())]),
    ("HKLM", r"System\\ControlSet001\\Control\\Session Manager\\Environment", '"TIDE"="x"', [Environment("TIDE", "x", "machine")]),
    ("HKCU", "Environment", '"TIDE"="x"', [Environment("TIDE", "x", "user")]),
    ("HKLM", _INSTALLER + r"Uninstall\\Tide", '"DisplayName"="Tide"\n"SystemComponent"=dword:00000001',
     [UninstallEntry("Tide", "HKLM", "64", "Tide", hidden=True)]),
    ("HKLM", r"Software\\Empty", "#time=1dc", [RegistryKey("HKLM", "Software\\Empty")]),
    ("HKLM", r"Software\\Link", '#link\n"SymbolicLinkValue"=hex(6):00', []),
])  # fmt: skip
def test_what_a_key_stands_for(hive: str, path: str, body: str, expected: list[Thing]) -> None:
    assert list(observe.registry_things(hive, path, body)) == expected


def test_a_product_on_record() -> None:
    path = _INSTALLER + r"Installer\\UserData\\S-1-5-18\\Products\\298BA6E47E758F252B2BBA6090E6CDF9\\InstallProperties"
    found = list(
        observe.registry_things(
            "HKLM", path, '"DisplayName"="Lantern"\n"DisplayVersion"="6.2.1"\n"Language"=dword:00000809'
        )
    )
    assert found[0] == Product(CODE, "Lantern", "6.2.1", 2057, "machine")
    assert all(noise.reason(thing) for thing in found[1:]), "the installer's own bookkeeping is known from control runs"


def test_noise_is_data_with_its_runs_and_hides_nothing_else() -> None:
    assert len(noise.entries()) > 40 and all(
        entry.runs and all(run.startswith("wine-") for run in entry.runs) for entry in noise.entries()
    )
    for thing in (RegistryValue("HKLM", "Software\\Tidewell", "A"), RegistryValue("HKLM", "Software\\Microsoft\\Windows\\CurrentVersion\\Run", "Tide"),
                  Environment("TIDE"), RegistryValue("HKCU", "Software\\Microsoft\\Installer\\Tide", "A"), Service("Tide")):  # fmt: skip
        assert noise.reason(thing) is None
    assert noise.generalise(f"hklm/64\\software\\{CODE.lower()}!x") == "hklm/64\\software\\*!x"


# --- which layer is here -------------------------------------------------------------------------------------


@pytest.mark.parametrize(
    ("scripts", "words"),
    [
        ({}, "no wine on PATH"),
        ({"wine": "echo wine-99.0"}, "its server is not"),
        ({"wine": "exit 3", "wineserver": "exit 0"}, "says nothing"),
        ({"wine": "echo wine-99.0", "wineserver": "exit 0"}, "does not make a machine"),
    ],
)
def test_a_layer_that_is_none(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch, scripts: dict[str, str], words: str
) -> None:
    """What is on PATH under that name may be broken; it is said before anything is built on it."""
    from yendo.errors import NoMachine
    from yendo.machines.wine import layer
    from yendo.machines.wine.machine import WineMachine

    (tmp_path / "bin").mkdir()
    for name, body in scripts.items():
        (tmp_path / "bin" / name).write_text(f"#!/bin/sh\n{body}\n")
        (tmp_path / "bin" / name).chmod(0o755)
    monkeypatch.setenv("PATH", str(tmp_path / "bin"))
    monkeypatch.setattr(
        layer.Path,
        "exists",
        lambda self: (
            ("wineserver" not in self.name and self.is_dir()) or (self.is_file() and "lib/wine" not in str(self))
        ),
    )
    layer.find.cache_clear()
    try:
        with pytest.raises(NoMachine, match=words):
            WineMachine(tmp_path / "cache", unconfined=True).template  # noqa: B018
    finally:
        layer.find.cache_clear()
    assert not [path for path in (tmp_path / "cache").rglob("*") if ".making" in path.name]


def test_what_programs_print_is_decoded_as_what_it_is() -> None:
    """A program's UTF-8 and the shell's code page in one output; a piece that is cut off at its front too."""
    from yendo.machines.wine.layer import printed

    said = "hash 12ab…\r\n".encode() + "Größe\r\n".encode("cp437") + "Lotsenbüro".encode()
    assert printed(said) == "hash 12ab…\r\nGröße\r\nLotsenbüro"
    assert "�" not in printed("…".encode()[1:] + b"\nwhole")
