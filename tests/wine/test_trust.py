"""The runner trusts nothing that an ordinary user can write. Each case is an attack that went through once.

The layer makes access lists from Unix modes and owners, so what is planted here shows the same owners and rights to the
runner's questions as on Windows; it enforces none. What the runner asks the system for is held by its own words (SDDL).
"""

from __future__ import annotations

import os
import re
from pathlib import Path
from typing import Any

import pytest

from yendo.package import build
from yendo.package import manifest as form
from yendo.plan import read
from yendo.steps.host import STEP_FAILED

FOLDER = r"C:\Hand over"
HOME = r"C:\Program Files\Yendo"
HEAD = (
    '[package]\nid = "tide"\nname = "Tide"\nversion = "1.5"\n\n[[detect]]\nkind = "file"\npath = \'C:\\Tide\\a.txt\'\n'
)
COPY = '\n[[install]]\nkind = "copy"\nfrom = "extras/a.txt"\nto = \'C:\\Tide\\\'\n'
OWN = "cmd /c echo x> C:\\pwned.txt"


def package(folder: Path, steps: str, head: str = HEAD, **files: str) -> Path:
    for name, text in {
        "a.txt": "a",
        **{key.replace("__", "/").replace("_", "."): value for key, value in files.items()},
    }.items():
        path = folder / "extras" / name
        path.parent.mkdir(parents=True, exist_ok=True)
        path.write_text(text, newline="")
    (folder / "plan.toml").write_text(head + steps, "utf-8")
    return build.build(folder, read(folder / "plan.toml")[0]).folder


def started(verb: str) -> str:
    return f'cmd /s /c ""{FOLDER}\\apply.cmd" {verb}"'


def planted(real: Any, home: Path, mode: int = 0o777, owner: int = 0) -> None:
    """What a user has made before the first install: a record with a command to take back, a finished journal, a need."""
    room = home / "state" / "tide"
    for folder in (room, home / "needed" / "tide", home / "installed"):
        folder.mkdir(parents=True)
    (room / "record.txt").write_bytes(f"B\r\nU\t{OWN}\r\n".encode())
    (room / "journal.txt").write_bytes(b"begin\tinstall\tx\r\nstep\t1\r\ndone\t1\tdone\t0\r\n")
    (home / "needed" / "tide" / "other.txt").write_bytes(b"needed")
    for path in [home, *home.rglob("*")]:
        os.chown(path, owner, owner)
        path.chmod(mode if path.is_dir() else 0o644)


@pytest.mark.parametrize(("mode", "owner", "why"), [(0o777, 0, "may write there"), (0o755, 1234, "it belongs to")])
def test_a_planted_home_is_not_believed(tmp_path: Path, shell_wine: Any, mode: int, owner: int, why: str) -> None:
    made = package(tmp_path, COPY)
    with shell_wine.fresh() as real:
        real.bring(made, FOLDER)
        planted(real, real.host(HOME), mode, owner)
        ran = real.run(started("uninstall"), timeout=60)
        assert real.read(r"C:\pwned.txt") is None and f"not believed: {HOME}, " in ran.output and why in ran.output, ran
        assert ran.exit_code == 0, ran
        ran = real.run(started("install"), timeout=60)
        assert ran.exit_code == 0 and "placed: " in ran.output and "going on" not in ran.output, ran
        aside = [
            entry for entry in real.host(r"C:\Program Files").iterdir() if entry.name.startswith("Yendo.not-believed-")
        ]
        assert len(aside) == 1 and (aside[0] / "state" / "tide" / "record.txt").exists()
        assert real.host(HOME).stat().st_mode & 0o022 == 0


def test_what_is_planted_where_the_earlier_version_kept_it(tmp_path: Path, shell_wine: Any) -> None:
    """Nothing of it is read: its own protection took over whatever it found, so nothing there can be shown to be sound."""
    made = package(tmp_path, COPY)
    with shell_wine.fresh() as real:
        real.bring(made, FOLDER)
        planted(real, real.host(r"C:\ProgramData\Yendo"), 0o755)
        for verb in ("install", "uninstall"):
            assert real.run(started(verb), timeout=60).exit_code == 0
        assert real.read(r"C:\pwned.txt") is None


def test_a_home_that_leads_elsewhere(tmp_path: Path, shell_wine: Any) -> None:
    made = package(tmp_path, COPY)
    with shell_wine.fresh() as real:
        real.bring(made, FOLDER)
        foreign = real.host("C:\\") / "foreign"
        (foreign / "state" / "tide").mkdir(parents=True)
        (foreign / "state" / "tide" / "record.txt").write_bytes(f"B\r\nU\t{OWN}\r\n".encode())
        before = {path: path.stat().st_mtime_ns for path in foreign.rglob("*")}
        real.host(r"C:\Program Files").joinpath("Yendo").symlink_to(foreign)
        real.host("C:\\ProgramData").joinpath("Yendo").symlink_to(foreign)  # the logs' way
        for verb in ("install", "uninstall"):
            ran = real.run(started(verb), timeout=60)
            # Windows takes the link itself away; the layer cannot, and then nothing is begun
            assert ran.exit_code == form.UNSAFE and "cannot be made safe" in ran.output, ran
        assert (
            real.read(r"C:\pwned.txt") is None
            and {path: path.stat().st_mtime_ns for path in foreign.rglob("*")} == before
        )


def test_a_home_that_cannot_be_moved_stops_everything(tmp_path: Path, shell_wine: Any) -> None:
    """It fails closed, and says so with a code of its own."""
    made = package(tmp_path, COPY)
    script = made / "apply.ps1"
    script.write_bytes(
        script.read_bytes().replace(
            b"    [string]$aside = $Path +", b"    throw 'held open'\r\n    [string]$aside = $Path +"
        )
    )
    with shell_wine.fresh() as real:
        real.bring(made, FOLDER)
        planted(real, real.host(HOME))
        ran = real.run(started("install"), timeout=60)
        assert (
            ran.exit_code == form.UNSAFE and "cannot be made safe" in ran.output and real.read(r"C:\Tide\a.txt") is None
        )


MIRROR = '\n[[install]]\nkind = "copy"\nfrom = "extras/tree"\nto = \'C:\\Tide\'\nmirror = true\n'
DELETE = "\n[[install]]\nkind = \"delete\"\npath = 'C:\\Tide'\n" + COPY.replace("C:\\Tide\\", "C:\\Other\\")
HEAD_OTHER = HEAD.replace("C:\\Tide", "C:\\Other")


@pytest.mark.parametrize(("steps", "head"), [(MIRROR, HEAD), (DELETE, HEAD_OTHER)])
def test_links_are_not_entered(tmp_path: Path, shell_wine: Any, steps: str, head: str) -> None:
    made = package(tmp_path, steps, head, tree__a_txt="a")
    with shell_wine.fresh() as real:
        real.bring(made, FOLDER)
        foreign = real.host("C:\\") / "foreign"
        (foreign / "deep").mkdir(parents=True)
        (foreign / "deep" / "kept.txt").write_text("kept")
        (real.host("C:\\") / "Tide").mkdir()
        (real.host("C:\\") / "Tide" / "old.txt").write_text("old")
        (real.host("C:\\") / "Tide" / "link").symlink_to(foreign)
        ran = real.run(started("install"), timeout=60)
        # a link inside what is deleted goes itself on Windows; the layer cannot take one away, and the step fails
        assert ran.exit_code == (0 if steps == MIRROR else STEP_FAILED) and real.read(r"C:\Tide\old.txt") is None, ran
        assert (foreign / "deep" / "kept.txt").read_text() == "kept"
        real.run(started("uninstall"), timeout=60)
        assert (foreign / "deep" / "kept.txt").read_text() == "kept"


def test_nothing_is_written_through_a_link(tmp_path: Path, shell_wine: Any) -> None:
    made = package(tmp_path, COPY.replace("C:\\Tide\\", "C:\\Tide\\inner\\"))
    with shell_wine.fresh() as real:
        real.bring(made, FOLDER)
        foreign = real.host("C:\\") / "foreign"
        foreign.mkdir()
        (real.host("C:\\") / "Tide").symlink_to(foreign)
        ran = real.run(started("install"), timeout=60)
        assert (
            ran.exit_code == STEP_FAILED
            and "is a link that is not the system's own" in ran.output
            and not list(foreign.iterdir())
        ), ran


SCRIPT = '\n[[install]]\nkind = "script"\nrun = "extras/second/second.cmd"\ntimeout = "1 min"\nprobe = [{ kind = "folder", path = \'C:\\windows\' }]\n'
UNDO = '\n[[uninstall]]\nkind = "script"\nrun = "extras/undo.cmd"\ntimeout = "1 min"\nprobe = [{ kind = "folder", path = \'C:\\windows\' }]\n'


def test_scripts_are_what_they_were_when_the_package_was_built(tmp_path: Path, shell_wine: Any) -> None:
    """The script of a condition, of an uninstall, and one that is swapped between two steps."""
    ask = '\n[when]\nscript = "extras/ask.ps1"\n'
    swap = SCRIPT.replace("second/second", "first")
    made = package(
        tmp_path, ask + swap + SCRIPT + COPY + UNDO, ask_ps1="exit 0\r\n", second__second_cmd="@echo second> C:\\ran.txt\r\n",
        first_cmd="@echo off\r\n>\"C:\\Hand over\\extras\\second\\second.cmd\" echo @echo swapped^> C:\\ran.txt\r\n", undo_cmd="@echo undone> C:\\ran.txt\r\n",
    )  # fmt: skip
    with shell_wine.fresh() as real:
        real.bring(made, FOLDER)
        asked = real.host(FOLDER) / "extras" / "ask.ps1"
        good = asked.read_bytes()
        asked.write_bytes(b"[IO.File]::WriteAllText('C:\\pwned.txt', 'x')\r\nexit 0\r\n")
        ran = real.run(started("install"), timeout=60)
        assert ran.exit_code == form.DAMAGED and real.read(r"C:\pwned.txt") is None, ran
        asked.write_bytes(good)
        ran = real.run(started("install"), timeout=60)
        assert ran.exit_code == 0 and (real.read(r"C:\ran.txt") or b"").strip() == b"second", ran
        assert b"swapped" in (real.host(FOLDER) / "extras" / "second" / "second.cmd").read_bytes()
        (real.host(FOLDER) / "extras" / "undo.cmd").write_bytes(b"@echo x> C:\\pwned.txt\r\n")
        ran = real.run(started("uninstall"), timeout=60)
        # what was brought at the install is what is run now
        assert (
            ran.exit_code == 0
            and real.read(r"C:\pwned.txt") is None
            and (real.read(r"C:\ran.txt") or b"").strip() == b"undone"
        ), ran


def test_what_is_not_listed_stays_behind(tmp_path: Path, shell_wine: Any) -> None:
    made = package(
        tmp_path, SCRIPT.replace("second/second", "second") + COPY, second_cmd='@dir /b "%~dp0"> C:\\seen.txt\r\n'
    )
    with shell_wine.fresh() as real:
        real.bring(made, FOLDER)
        (real.host(FOLDER) / "extras" / "version.dll").write_bytes(b"MZ")
        ran = real.run(started("install"), timeout=60)
        assert ran.exit_code == 0 and r"left behind, it is not listed: extras\version.dll" in ran.output, ran
        assert b"second.cmd" in (real.read(r"C:\seen.txt") or b"") and b"version.dll" not in (
            real.read(r"C:\seen.txt") or b""
        )


SECRET = """
[settings.key]
meaning = "the licence"
secret = true

[[install]]
kind = "exe"
program = 'C:\\windows\\system32\\cmd.exe'
arguments = '/d /c call C:\\vendor.bat "{logs}\\vendor.log"'
timeout = "4 s"
"""


def test_a_secret_does_not_stay_in_a_log_of_a_step_that_was_stopped(tmp_path: Path, shell_wine: Any) -> None:
    made = package(tmp_path, SECRET + COPY)
    with shell_wine.fresh() as real:
        real.bring(made, FOLDER)
        values = real.host(FOLDER) / "values.txt"
        values.write_text("key=tide-and-time\r\n")
        values.chmod(0o600)
        real.write(r"C:\vendor.bat", b"@echo KEY=tide-and-time> %1\r\n@ping -n 60 127.0.0.1\r\n")
        ran = real.run(started("install"), timeout=90)
        assert ran.exit_code == 22, ran
        log = real.read(r"C:\ProgramData\Yendo\logs\tide\vendor.log") or b""
        assert b"KEY=****" in log, ran
        for top in (HOME, r"C:\ProgramData\Yendo"):
            for path in real.host(top).rglob("*"):
                assert not path.is_file() or b"tide-and-time" not in path.read_bytes(), path
        # while it ran, and where it was cut off, only administrators read it
        assert real.host(HOME + r"\state\tide\logs").stat().st_mode & 0o007 == 0
        left = real.host(HOME + r"\state\tide\logs") / "cut off.log"
        left.write_text("KEY=tide-and-time")
        real.run(started("uninstall"), timeout=60)
        assert (real.read(r"C:\ProgramData\Yendo\logs\tide\cut off.log") or b"") == b"KEY=****"


def test_values_of_a_stranger_are_not_taken(tmp_path: Path, shell_wine: Any) -> None:
    """Whoever owns the file can change it, whatever its rights say now."""
    made = package(tmp_path, SECRET.replace("secret = true\n", "") + COPY)
    with shell_wine.fresh() as real:
        real.bring(made, FOLDER)
        values = real.host(FOLDER) / "values.txt"
        values.write_text("key=tide-and-time\r\n")
        values.chmod(0o644)
        os.chown(values, 1234, 1234)
        ran = real.run(started("install"), timeout=60)
        assert ran.exit_code == form.EXPOSED and "by others" in ran.output, ran


def test_the_rights_that_the_runner_asks_for(tmp_path: Path, shell_wine: Any) -> None:
    """A whole, protected list with its owner: the system and the administrators, and everybody else may read, or nothing."""
    made = package(tmp_path, COPY)
    text = (made / "apply.ps1").read_text("utf-8-sig")
    function = re.search(r"^function New-Protected.*?^}\r?$", text, re.S | re.M)
    assert function
    asked = re.sub(
        r"(?m)^    if \(\$PSVersionTable.*CreateDirectory.*$",
        "    [Console]::WriteLine($rights.GetSecurityDescriptorSddlForm('All'))",
        function[0],
    )
    with shell_wine.fresh() as real:
        real.write(
            r"C:\asked.ps1", (asked + "\r\nNew-Protected 'C:\\x' $true\r\nNew-Protected 'C:\\x' $false\r\n").encode()
        )
        said = real.run(r"powershell -NoProfile -File C:\asked.ps1", timeout=60).output.split()
    assert said == [
        "O:BAD:P(A;OICI;FA;;;SY)(A;OICI;FA;;;BA)(A;OICI;0x1200a9;;;BU)",
        "O:BAD:P(A;OICI;FA;;;SY)(A;OICI;FA;;;BA)",
    ]


CASES = [
    ("S-1-5-18", [("S-1-5-18", 0x1F01FF, True, False), ("S-1-5-32-545", 0x1200A9, True, False)], ""),
    (
        "S-1-5-32-544",
        [("S-1-3-0", 0x1F01FF, True, True)],
        "",
    ),  # whoever makes something inside: that is asked of what is inside
    ("S-1-5-21-9-9-9-1001", [("S-1-5-18", 0x1F01FF, True, False)], "it belongs to S-1-5-21-9-9-9-1001"),
    ("", [], "it belongs to "),
    ("S-1-5-18", [("S-1-5-32-545", 0x2, True, False)], "S-1-5-32-545 may write there"),
    ("S-1-5-18", [("S-1-5-32-545", 0x4, True, False)], "S-1-5-32-545 may write there"),
    ("S-1-5-18", [("S-1-5-11", 0x40, True, False)], "S-1-5-11 may write there"),  # delete what is inside
    ("S-1-5-18", [("S-1-1-0", 0x40000, True, False)], "S-1-1-0 may write there"),  # change the rights
    ("S-1-5-18", [("S-1-1-0", 0x80000, True, False)], "S-1-1-0 may write there"),  # take it over
    ("S-1-5-18", [("S-1-1-0", 0x2, False, False)], ""),  # a rule that denies
]


def test_what_is_believed_by_owner_and_rights(tmp_path: Path, shell_wine: Any) -> None:
    """Against a stand-in of the system's answer, since the layer knows Unix modes only."""
    text = (package(tmp_path, COPY) / "apply.ps1").read_text("utf-8-sig")
    parts = [
        re.search(rf"^{start}.*?{end}\r?$", text, re.S | re.M)
        for start, end in (
            (r"\[string\[\]\]\$Vouched", r"$"),
            (r"\[int\]\$Writing", r"$"),
            ("function Get-Distrust", "^}"),
        )
    ]
    lines = [part[0] for part in parts if part] + [
        "function Test-Link([string]$Path) { return $false }",
        "function Get-Rights([string]$Path) { return $script:Answer }",
    ]
    for owner, rules, _ in CASES:
        shown = ", ".join(
            f", @('{who}', {mask}, ${str(allowed).lower()}, ${str(inside).lower()})"
            for who, mask, allowed, inside in rules
        )
        lines.append(
            f"$script:Answer = @('{owner}', @({shown.removeprefix(', ') if len(rules) > 1 else shown}))\r\n[Console]::WriteLine('<' + (Get-Distrust 'C:\\x') + '>')"
        )
    assert len(parts) == 3 and all(parts)
    with shell_wine.fresh() as real:
        real.write(r"C:\asked.ps1", "\r\n".join(lines).encode())
        said = real.run(r"powershell -NoProfile -File C:\asked.ps1", timeout=60).output
    assert re.findall(r"<(.*?)>", said) == [why for _, _, why in CASES], said
