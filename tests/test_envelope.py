"""A whole package inside a database: carried out by its own runner, and what cannot be carried out there."""

from __future__ import annotations

import shutil
import subprocess
from pathlib import Path
from typing import Any

import family_specimens
import pytest
import script_specimens
from conftest import Yendo, compiled, missing
from test_kit import FAILING, KEYED, PLAN, REPAIR, SECRET, SITED, SITES, made

from yendo import digest, forms
from yendo.effects import difference
from yendo.formats.msi import Database
from yendo.forms import within
from yendo.package import build
from yendo.plan import read
from yendo.prove.prove import prove
from yendo.prove.scenarios import SCENARIOS


def planned(folder: Path, steps: str, *media: Path) -> Path:
    """A workspace with these steps behind those of the usual plan."""
    (folder / "media").mkdir(parents=True)
    rows = ""
    for path in media:
        shutil.copy(path, folder / "media")
        sha256, size = digest.of_file(path), path.stat().st_size
        rows += f'\n[[media]]\nfile = "{path.name}"\nsha256 = "{sha256}"\nsize = {size}\norigin = "here"\n'
    (folder / "extras").mkdir()
    (folder / "extras" / "tide.ini").write_bytes(b"[Tide]\r\nSite=Pier\r\n")
    (folder / "plan.toml").write_text(PLAN.format(more=rows, steps=steps))
    return folder


def step(kind: str, text: str, verb: str = "install") -> str:
    return f'\n[[{verb}]]\nkind = "{kind}"\n{text}\n'


CODE = "{12345678-1234-1234-1234-123456789ABC}"
# Steps by themselves, and why they do not go inside; empty where they do.
STEPS = [
    ("msi", f'product = "{CODE}"', "runs the Windows Installer"),
    ("include", 'package = "other"', "another package"),
    ("restart", 'where = "always"', "restart in its middle"),
    ("sign-out", "", "ends the session"),
    ("remove-previous", f'product = "{CODE}"', "runs the Windows Installer"),
    ("remove-previous", f'upgrade_code = "{CODE}"', "runs the Windows Installer"),
    ("exe", r"""program = 'C:\Windows\System32\msiexec.exe'""" + f'\narguments = "/x {CODE} /qn"', "runs the Windows"),
    (
        "exe",
        r"""program = 'C:\Windows\System32\cmd.exe'""" + f'\narguments = "/c msiexec /x {CODE}"',
        "runs the Windows",
    ),
    ("exe", r"""program = 'C:\Tide\uninstall.exe'""" + '\narguments = "/S"', ""),
    ("registry", "key = 'HKLM\\Software\\Tide'\nvalues = { A = 1 }", ""),
    ("copy", "from = \"extras/tide.ini\"\nto = 'C:\\Tide\\tide.ini'", ""),
    ("environment", 'name = "TIDE"\nvalue = "1"', ""),
    ("shortcut", "path = '%PUBLIC%\\Desktop\\T.lnk'\ntarget = 'C:\\Windows\\notepad.exe'", ""),
    ("delete", "path = 'C:\\Tide\\old.ini'", ""),
    ("wait", 'time = "1 s"', ""),
]
SCRIPTS = [
    ("a.cmd", "msiexec /x {CODE} /qn", False), ("b.ps1", "Start-Process tide.MSI -Wait", False),
    ("c.vbs", 'CreateObject("WindowsInstaller.Installer")', False), ("d.cmd", "start /wait fix.msp", False),
    ("e.ps1", "Install-Package tide", False), ("f.cmd", "echo tide> C:\\tide.txt", True),
    ("g.ps1", "[IO.File]::WriteAllText('C:\\tide.txt', '')", True), ("h.js", "WScript.Echo(1)", True),
]  # fmt: skip


def reasons(folder: Path, kind: str, text: str) -> list[str]:
    """Why a step cannot be carried out inside; the plan itself is not asked for more."""
    planned(folder, "")
    path = folder / "plan.toml"
    path.write_text(path.read_text() + step(kind, text))
    wrong, _ = within.judged(read(path)[0], folder)
    return [why for _, why in wrong]


@pytest.mark.parametrize(("kind", "text", "why"), STEPS)
def test_steps_inside(tmp_path: Path, kind: str, text: str, why: str) -> None:
    found = reasons(tmp_path / "w", kind, text)
    assert bool(found) == bool(why)
    if why.startswith("runs"):
        assert "Windows Installer" in found[0]
    elif why:
        assert why in found[0]


@pytest.mark.parametrize(("name", "text", "inside"), SCRIPTS)
def test_scripts_inside(tmp_path: Path, name: str, text: str, inside: bool) -> None:
    folder = planned(tmp_path / "w", step("script", f'run = "extras/{name}"'))
    (folder / "extras" / name).write_text(text)
    wrong, unknown = within.judged(read(folder / "plan.toml")[0], folder)
    assert bool(wrong) != inside and not unknown


@pytest.mark.parametrize("name", [*script_specimens.CASES, "compiled", "carrier", "carrier of a program"])
def test_setups_inside(tmp_path: Path, vendor: Path, name: str) -> None:
    """Setup programs of every family: those that bring a database do not go inside, and the others do."""
    path = tmp_path / "setup.exe"
    if name in script_specimens.CASES:
        path = script_specimens.write(tmp_path, name)
    elif name == "compiled":
        path.write_bytes(family_specimens.compiled_script_exe())
    else:
        msi = (vendor / "lantern-6.2.1.msi").read_bytes()
        inner = family_specimens.archive_exe("zip", {"read me.txt": b"hello"})
        path.write_bytes(family_specimens.carrier_exe({"a0": msi, "a1": inner}))
    folder = planned(tmp_path / "w", step("exe", f'media = "{path.name}"\narguments = "/S"'), path)
    wrong, unknown = within.judged(read(folder / "plan.toml")[0], folder)
    assert bool(wrong) == name.startswith("carrier"), (wrong, unknown)


def test_what_nobody_can_tell_is_said(tmp_path: Path, yendo: Yendo) -> None:
    (tmp_path / "plain.exe").write_bytes(family_specimens.program({}))
    planned(tmp_path / "w", step("exe", 'media = "plain.exe"\narguments = "/S"'), tmp_path / "plain.exe")
    _, unknown = within.judged(read(tmp_path / "w" / "plan.toml")[0], tmp_path / "w")
    assert "nothing tells what plain.exe does" in unknown[0]


def test_what_is_in_it(tmp_path: Path, yendo: Yendo) -> None:
    made(tmp_path / "w", "", REPAIR)
    told = yendo("build", "w", "--as", "envelope").stdout
    assert "forms/envelope" in told.replace("\\", "/")
    first = (tmp_path / "w/forms/envelope/media/tide-1.0.msi").read_bytes()
    with Database(tmp_path / "w/forms/envelope/media/tide-1.0.msi") as database:
        actions = {row["Action"]: row for row in database["CustomAction"]}
        assert "repair" in actions["SetCarryRepair"]["Target"] and actions["CarryInstall"]["Type"] == 1 + 1024 + 2048
        assert actions["CarryBack"]["Type"] == 1 + 256 + 1024 + 2048
        names = [str(row["FileName"]).rpartition("|")[2] for row in database["File"]]
        assert {"apply.cmd", "apply.ps1", "manifest.json", "tide.ini"} <= set(names)
        library = database.stream("Binary.Carry").read()
    assert b"Carry\0Restart\0" in library
    yendo("build", "w", "--as", "envelope", "--without-entry")
    with Database(tmp_path / "w/forms/envelope/media/tide-1.0.msi") as database:
        assert ("ARPSYSTEMCOMPONENT", "1") in {(row["Property"], row["Value"]) for row in database["Property"]}
    yendo("build", "w", "--as", "envelope")
    assert (tmp_path / "w/forms/envelope/media/tide-1.0.msi").read_bytes() == first
    made(tmp_path / "s", SECRET, KEYED)
    assert "would stand in a command line" in yendo("build", "s", "--as", "envelope", expect=2).stderr


def test_a_value_that_it_asks_for_is_given(tmp_path: Path, yendo: Yendo) -> None:
    """The database refuses every machine without a value; its plan gives one, so nothing is wrong."""
    made(tmp_path / "w", SITES, SITED)
    yendo("build", "w", "--as", "envelope")
    assert "refuses every Windows" not in yendo("check", "w/forms/envelope").stdout
    path = tmp_path / "w/forms/envelope/plan.toml"
    path.write_text("\n".join(line for line in path.read_text().split("\n") if not line.startswith("SITE = ")))
    assert "refuses every Windows" in yendo("check", "w/forms/envelope", expect=1).stdout


def test_the_library_is_what_its_source_says(tmp_path: Path) -> None:
    if not shutil.which("x86_64-w64-mingw32-gcc"):
        missing("the cross compiler", "apt-get install gcc-mingw-w64-x86-64")
    here = Path(forms.__file__).with_name("programs")
    subprocess.run([here / "build", tmp_path], check=True)
    assert (tmp_path / "carry.dll").read_bytes() == (here / "carry.dll").read_bytes()


# --- on the layer -----------------------------------------------------------------------------------------------------


@pytest.mark.wine
def test_proved_like_every_package(tmp_path: Path, shell_wine: Any) -> None:
    made(tmp_path / "w")
    folder = forms.build_envelope(tmp_path / "w", read(tmp_path / "w" / "plan.toml")[0]).folder
    package = build.build(folder, read(folder / "plan.toml")[0]).folder
    accept = read(folder / "plan.toml")[0].proof.accept
    proof = prove(package, shell_wine, scenario=SCENARIOS["system"], accept=accept)
    assert proof.passed, [(phase.title, phase.found, phase.details) for phase in proof.phases]


BRINGS = """
[[install]]
kind = "copy"
from = "extras/tide.ini"
to = 'C:\\Tide\\tide.ini'

[[install]]
kind = "exe"
media = "{program}"
arguments = "exit {code}"

[[uninstall]]
kind = "exe"
media = "{program}"
arguments = "exit 0"

[[uninstall]]
kind = "delete"
path = 'C:\\Tide\\tide.ini'
empty_parents = true
"""


def envelope(folder: Path, program: Path, code: int, version: str = "1.0") -> Path:
    """A database whose package copies a file, and runs a program that leaves with this code."""
    planned(folder, "", program)
    path = folder / "plan.toml"
    head = path.read_text().partition("[[install]]")[0].replace('version = "1.0"', f'version = "{version}"')
    path.write_text(head + BRINGS.format(program=program.name, code=code))
    return forms.build_envelope(folder, read(path)[0]).main


@pytest.mark.wine
def test_codes_restart_and_upgrade(tmp_path: Path, shell_wine: Any) -> None:
    """A restart is asked for at the end; a failure takes everything back; the older one goes before the newer one."""
    program = compiled("standin.c", tmp_path / "tide-setup.exe")
    made(tmp_path / "bad", "", FAILING)
    (tmp_path / "all").mkdir()
    for name, main in (
        ("one", envelope(tmp_path / "one", program, 3010)),
        ("two", envelope(tmp_path / "two", program, 0, "2.0")),
        ("bad", forms.build_envelope(tmp_path / "bad", read(tmp_path / "bad" / "plan.toml")[0]).main),
    ):
        shutil.copy(main, tmp_path / "all" / f"{name}.msi")
    ours = r"C:\Tide\tide.ini"

    def run(session: Any, line: str) -> int | None:
        return session.run(f"msiexec {line} /qn /norestart", timeout=400).exit_code  # type: ignore[no-any-return]

    with shell_wine.fresh("system") as session:
        session.bring(tmp_path / "all", r"C:\all")
        fresh = session.state()
        assert run(session, r"/i C:\all\bad.msi") == 1603
        # the layer leaves its own books of components when an installation is taken back
        left = [str(one) for one in difference(fresh, session.state()) if r"Installer\UserData" not in str(one)]
        assert not [one for one in left if r"\Yendo\logs" not in one and not one.endswith(r"ProgramData\Yendo")], left
        assert run(session, r"/i C:\all\one.msi") == 3010
        marks = session.run(r'reg query "HKLM\Software\Yendo restart"', timeout=60)
        assert session.read(ours) and marks.exit_code != 0
        assert run(session, r"/i C:\all\two.msi") == 0
        products = list(session.state().of("product"))
        assert len([one for one in products if getattr(one, "name", "") == "Tide"]) == 1 and session.read(ours)
        assert run(session, r"/i C:\all\one.msi") != 0, "an older one over a newer one"
        assert run(session, r"/x C:\all\two.msi") == 0
        assert session.read(ours) is None and not session.has_folder(r"C:\Program Files\Yendo envelopes")


@pytest.mark.wine
def test_settings_reach_the_package(tmp_path: Path, shell_wine: Any, yendo: Yendo) -> None:
    """A site's transform says them, or the command line; what would be read otherwise is refused."""
    sites = SITES.replace('site = "Quay"', 'site = "North [quay] | & 2"')
    made(tmp_path / "w", sites, SITED)
    folder = forms.build_envelope(tmp_path / "w", read(tmp_path / "w" / "plan.toml")[0]).folder
    (tmp_path / "all").mkdir()
    for path in (folder / "media" / "tide-1.0.msi", folder / "transforms" / "tide-1.0-quay.mst"):
        shutil.copy(path, tmp_path / "all")
    with shell_wine.fresh("system") as session:
        session.bring(tmp_path / "all", r"C:\all")

        def run(more: str) -> int | None:
            line = rf"msiexec /i C:\all\tide-1.0.msi /qn /norestart {more}"
            return session.run(line, timeout=400).exit_code  # type: ignore[no-any-return]

        assert run("") == 1603 and run('SITE="50% off"') == 1603 and run('SITE="a;b"') == 1603
        assert run('SITE="a""b"') == 1603
        assert run(r"TRANSFORMS=C:\all\tide-1.0-quay.mst") == 0
        told = session.run(r"reg query HKLM\Software\Tidewell\Where /v At", timeout=60).output
        assert "North [quay] | & 2" in told
    made(tmp_path / "v", SITES.replace('site = "Quay"', 'site = "100 %"'), SITED)
    assert "cannot be handed on" in yendo("build", "v", "--as", "envelope", expect=2).stderr
