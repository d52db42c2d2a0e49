"""Very many files and very large ones: what a plan says of them, what is held in memory, and how often all is read."""

from __future__ import annotations

import hashlib
import io
import random
import shutil
import subprocess
import sys
import zipfile
from pathlib import Path
from typing import Any

import generated
import pytest
from conftest import Yendo, missing, unix

from yendo.check import Workspace, check
from yendo.detect import for_copies
from yendo.detect.derive import candidates
from yendo.detect.states import broken
from yendo.detect.strength import Tried
from yendo.effects import File, State
from yendo.effects.things import IniValue
from yendo.errors import NotCovered
from yendo.formats import archives, seven_zip, slices
from yendo.installers import archive_exe
from yendo.plan import read, read_once
from yendo.prove import ground
from yendo.terms.rules import FileListRule, FileRule, Sight
from yendo.terms.rules.file_list import MAX_FILES
from yendo.walk import files_below

PROGRAMS = Path(__file__).parents[1] / "src" / "yendo" / "demo" / "programs"
STUB = next(PROGRAMS.glob("lantern-*.exe"))


def _share(folder: Path, count: int) -> Path:
    for number in range(count):
        path = folder / f"d{number % 3}" / f"it's {number}.dat"
        path.parent.mkdir(parents=True, exist_ok=True)
        path.write_bytes(str(number).encode())
    return folder


def test_many_files_are_one_rule(tmp_path: Path, yendo: Yendo) -> None:
    """Drafted as a list, proved by it, derived and written again, and a wrong hash is found in its own line."""
    yendo("draft", "work", "--files", _share(tmp_path / "data", 300), "--to", r"%ProgramData%\Tidewell\data")
    path = tmp_path / "work" / "plan.toml"
    text = path.read_text("utf-8").replace('contact = ""', 'contact = "packaging@marrowby.example"')
    path.write_text(text, "utf-8")
    (rule,) = read(path)[0].detect
    assert isinstance(rule, FileListRule) and len(rule.files) == 300
    assert rule.files["d0\\it's 0.dat"] == hashlib.sha256(b"0").hexdigest()
    yendo("check", "work")
    yendo("build", "work")
    yendo("prove", "work")
    assert "300 things" in yendo("detect", "strength", "work").stdout
    yendo("detect", "derive", "work", "--write")
    assert sum(len(rule.files) for rule in read(path)[0].detect if isinstance(rule, FileListRule)) == 300
    path.write_text(text.replace(hashlib.sha256(b"7").hexdigest(), "0" * 64), "utf-8")
    (found,) = [one for one in check(Workspace(tmp_path / "work")) if one.rule == "wrong-content"]
    assert "it's 7.dat" in path.read_text("utf-8").splitlines()[found.line - 1] and "it's 7.dat" in found.message


def test_a_list_has_an_end() -> None:
    rules = for_copies(r"C:\Tide", {f"{number}.dat": "0" * 64 for number in range(MAX_FILES + 1)})
    assert [len(rule.files) for rule in rules if isinstance(rule, FileListRule)] == [MAX_FILES, 1]


def test_a_plan_is_read_again_once_it_has_changed(tmp_path: Path, yendo: Yendo) -> None:
    yendo("draft", "work", "--files", _share(tmp_path / "data", 2))
    path = tmp_path / "work" / "plan.toml"
    assert read_once(path)[0] is read_once(path)[0]
    path.write_text(path.read_text("utf-8").replace('name = "data"', 'name = "other data"'), "utf-8")
    assert read_once(path)[0].package.name == "other data"
    (tmp_path / "house.toml").write_text('name = "Marrowby"\n[plan.package]\npublisher = "Tidewell"\n', "utf-8")
    assert read_once(path)[0].package.publisher == "Tidewell"


@pytest.mark.parametrize("seed", range(6))
def test_rules_are_judged_together_as_one_by_one(tmp_path: Path, seed: int) -> None:
    _, package, others = generated.package(tmp_path, seed)
    made = ground.make(package, others)
    cases, rules = broken(made.ground), candidates(made.ground, made.environment)
    tried = Tried(cases, made.environment)
    first = next(rule for rule in rules if isinstance(rule, FileRule))
    day = FileRule(path=first.path, changed=">=2026-01-01")  # no simulated machine knows
    assert tried.verdicts([day])[1] == 1 and tried.verdicts([first, day, first])[1] == 1
    for at, rule in enumerate([*rules, day, *rules]):
        try:
            alone = [rule.judge(Sight(case.state, made.environment, lambda name: True))[0] for case in cases]
        except NotCovered:
            alone = [True] * len(cases)
        assert tried.verdicts([rule])[0] == [alone], (at, rule.title)
    assert tried.verdicts(rules)[0] == [tried.verdicts([rule])[0][0] for rule in rules]


def test_values_of_a_file_go_with_it() -> None:
    state = State([File(r"C:\a.ini"), IniValue(r"C:\a.ini", "s", "one", "1"), IniValue(r"C:\A.INI", "s", "two", "2")])
    other = state.copy()
    (one, two) = state.values_in(r"c:\A.ini")
    assert state.remove("ini", one.identity) == one and state.values_in(r"C:\a.ini") == [two]
    assert other.values_in(r"C:\a.ini") == [one, two] and other.values_in(r"C:\b.ini") == []
    state.become(other)
    assert state.values_in(r"C:\a.ini") == [one, two]


@unix
def test_walking_follows_no_link(tmp_path: Path) -> None:
    share = _share(tmp_path / "share", 4)
    (share / "d0" / "link.dat").symlink_to("/etc/passwd")
    (share / "d9").symlink_to(tmp_path)
    names = [f"d{number % 3}/it's {number}.dat" for number in (0, 3, 1, 2)]
    assert [name for name, _ in files_below(share)] == names
    assert [name for name, _ in files_below(share, links=True)] == [*names[:2], "d0/link.dat", *names[2:], "d9"]
    assert all(path == share / name for name, path in files_below(share)) and files_below(tmp_path / "none") == []


# --- what is inside a program ---------------------------------------------------------------------------------------


@unix
def test_a_large_file_is_taken_out_by_the_piece(tmp_path: Path) -> None:
    """What it takes in memory does not grow with what it takes out."""
    piece = random.Random(1).randbytes(1 << 20)
    behind = io.BytesIO()
    with zipfile.ZipFile(behind, "w") as archive, archive.open("large.dat", "w") as member:
        for _ in range(400):
            member.write(piece)
    (tmp_path / "setup.exe").write_bytes(STUB.read_bytes() + behind.getvalue())
    code = """
import os, subprocess, sys
child = subprocess.Popen([sys.executable, "-m", "yendo", "read", "setup.exe", "--extract", "out", "--quiet"])
_, status, used = os.wait4(child.pid, 0)
print(status, used.ru_maxrss)
"""  # in a process of its own, since a child's peak memory begins with that of whoever forks it
    done = subprocess.run([sys.executable, "-c", code], cwd=tmp_path, capture_output=True, text=True, check=True)
    status, kilobytes = map(int, done.stdout.split())
    assert status == 0 and (tmp_path / "out" / "large.dat").stat().st_size == 400 << 20
    assert kilobytes < 150_000


def _packed_as_one(folder: Path, count: int, size: int) -> bytes:
    """An archive by 7-Zip in which all files are packed together."""
    if (program := seven_zip.program() or shutil.which("7z")) is None:
        missing("7-Zip", "apt-get install p7zip-full")
    chance = random.Random(count)
    for number in range(count):
        (folder / f"{number}.dat").write_bytes(chance.randbytes(size))
    line = [program, "a", "-bd", "-y", "-mx=1", "-ms=on", "../solid.7z", "."]
    subprocess.run(line, cwd=folder, check=True, capture_output=True)
    return (folder.parent / "solid.7z").read_bytes()


def test_files_that_are_packed_as_one_are_unpacked_once(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    (tmp_path / "in").mkdir()
    data = _packed_as_one(tmp_path / "in", 40, 1 << 20)
    passes = []
    plainly = archives.contents

    def counted(*given: Any) -> Any:
        passes.append(given)
        return plainly(*given)

    monkeypatch.setattr(archives, "contents", counted)
    parts = archive_exe.of_archive(slices.part_of(io.BytesIO(data), 0, len(data)), "7z")
    assert len(parts) == 40
    for part in parts:
        assert part.open(1 << 24).read() == (tmp_path / "in" / part.name.rpartition("/")[2]).read_bytes()
    assert len(passes) == 1
    assert parts[3].open(16).read() == (tmp_path / "in" / parts[3].name.rpartition("/")[2]).read_bytes()[:16]
    assert parts[9].open(1 << 24).read() == (tmp_path / "in" / parts[9].name.rpartition("/")[2]).read_bytes()
    assert len(passes) == 2


def test_a_stop_while_modules_are_loaded_is_put_off(tmp_path: Path) -> None:
    """A library that prepares its classes then is not torn."""
    (tmp_path / "loaded.py").write_text("import signal\nsignal.raise_signal(signal.SIGTERM)\nwhole = True\n")
    code = """
import sys, time
from yendo.cli import main
main._catch_termination()
sys.path.insert(0, sys.argv[1])
import loaded
assert loaded.whole
try:
    for _ in range(400):  # a wait on Windows is only cut short by its own event
        time.sleep(0.05)
except KeyboardInterrupt:
    print("stopped")
"""
    done = subprocess.run([sys.executable, "-c", code, str(tmp_path)], capture_output=True, text=True, timeout=60)
    assert (done.returncode, done.stdout.strip()) == (0, "stopped"), done.stderr


def test_a_stop_that_a_library_swallows_comes_again() -> None:
    """Raised in what a library in C calls back, it is lost; so it is raised once more."""
    code = """
import ctypes, signal, time
from yendo.cli import main
signal.signal(signal.SIGINT, signal.SIG_IGN)  # as a shell has it for what it runs behind
main._catch_termination()
def stopped(number):
    signal.raise_signal(signal.SIGTERM)
    return 0
ctypes.CFUNCTYPE(ctypes.c_int, ctypes.c_int)(stopped)(1)
try:
    time.sleep(20)
    print("lost")
except KeyboardInterrupt:
    print("came again")
"""
    done = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, timeout=60)
    assert done.stdout.strip() == "came again" and done.stderr == ""
