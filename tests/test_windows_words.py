"""Paths, folders and command lines as Windows writes them."""

from __future__ import annotations

import pytest

from yendo.installers import answers_exe
from yendo.platforms.windows import command_lines, folders, paths


@pytest.mark.parametrize(
    ("path", "other"),
    [
        (r"C:\Program Files\Tide\a.exe", r"C:\Program Files (x86)\Tide\a.exe"),
        (r"c:\program files (x86)\Tide\a.exe", r"C:\Program Files\Tide\a.exe"),
        (r"C:\Windows\SysWOW64\a.dll", r"C:\Windows\System32\a.dll"),
        (r"C:\Windows\System32\a.dll", r"C:\Windows\SysWOW64\a.dll"),
        (r"C:\Program Files extra\a.exe", r"C:\Program Files extra\a.exe"),
        (r"C:\ProgramData\a.ini", r"C:\ProgramData\a.ini"),
    ],
)
def test_the_other_width(path: str, other: str) -> None:
    assert folders.of_other_width(path) == other


def test_folders_that_nobody_owns() -> None:
    assert {"c:", "c:\\windows", "c:\\program files (x86)", "c:\\windows\\fonts"} <= folders.SHARED
    assert not any("tide" in path or path != path.lower() for path in folders.SHARED)


def test_the_folders_above() -> None:
    assert paths.parents(r"C:\a\b\c.txt") == ["C:", r"C:\a", r"C:\a\b"] and paths.parents("C:") == []


def test_lines_keep_a_path_whole() -> None:
    odd = r"C:\Lotsen & (2)\apply.cmd"
    assert command_lines.batch(odd, "install -Site quay") == rf'cmd.exe /d /s /c ""{odd}" install -Site quay"'
    assert command_lines.batch(odd) == rf'cmd.exe /d /s /c ""{odd}""'
    assert command_lines.script(r"C:\a b.ps1", "-Facts").endswith(r' -ExecutionPolicy Bypass -File "C:\a b.ps1" -Facts')


def test_a_line_with_answers_and_the_one_that_records_them() -> None:
    line = answers_exe.answered("setup.exe", r"C:\a.iss", r"C:\a.log", "-removeonly")
    assert line == r'"setup.exe" -removeonly /s /sms /f1"C:\a.iss" /f2"C:\a.log"'
    assert answers_exe.recorded(line) == r'"setup.exe" -removeonly /r /f1"C:\a.iss"'
    assert answers_exe.recording("setup.exe", r"C:\a.iss") == r'"setup.exe" /r /f1"C:\a.iss"'
