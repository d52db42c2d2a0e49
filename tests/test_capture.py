"""Capture: what a machine went through, sorted out, decided in the plan, brought by the package, and held against it."""

from __future__ import annotations

import contextlib
import json
import os
import re
import shutil
import signal
import subprocess
import sys
import time
import zipfile
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import msgspec
import pytest
from conftest import Yendo, missing, parsed, unix
from test_kit import carried

from yendo.capture import AlreadyThere, WorkDone, WorkFailed, WorkLine, kit, sorted_out, there_already, work
from yendo.capture.sort import wanted
from yendo.capture.tree import tree
from yendo.demo.vendor import PROGRAMS
from yendo.draft import captured
from yendo.effects import Effect, Environment, File, Folder, RegistryValue, Service, Shortcut, State, UninstallEntry
from yendo.effects.things import IniValue, Product, Thing
from yendo.errors import Unreadable, Usage
from yendo.machines.wine import layer
from yendo.machines.wine.screens import pressing
from yendo.package import build
from yendo.plan import read
from yendo.platforms.windows import capture_record as record
from yendo.platforms.windows.capture_record import (
    Caught,
    LeftEntry,
    Promise,
    WorkPart,
    WorkRun,
    is_own,
    placed,
    placing,
)
from yendo.platforms.windows.surroundings import Surroundings, windows
from yendo.prove.promised import held
from yendo.steps.captured import CapturedStep, Otherwise, Which, decided

KEY = r"Software\Tidewell\Sounder"
PARTS = (WorkPart("install", (WorkRun("sounder-setup /S", 0, 1.0),)),)
ENTRY = UninstallEntry(
    "Sounder", name="Tidewell Sounder", version="4.1", publisher="Tidewell",
    uninstall=r'"C:\Program Files\Tidewell\Sounder\uninst.exe"', hidden=False,
)  # fmt: skip


def caught(thing: Thing, change: Any = "add", **more: Any) -> Caught:
    return Caught(Effect(change, placed(thing, placing(windows().environment)), "observed"), "install", **more)


def done(*things: Caught, surroundings: Surroundings | None = None) -> WorkDone:
    return WorkDone(surroundings or windows(), "a machine", PARTS, things, ())


def value(name: str, data: Any, kind: str = "sz") -> RegistryValue:
    return RegistryValue("HKLM", KEY, name, kind, data)


def workspace(folder: Path, *things: Caught, contents: dict[str, bytes] | None = None) -> Path:
    """A workspace of things that were captured, with the contents of files."""
    gathered = captured.staging(folder)
    whole = []
    for one in things:
        thing = one.effect.thing
        if isinstance(thing, File) and one.effect.change != "remove":
            data = (contents or {}).get(thing.path, thing.path.encode())
            name = record.content_name(thing.path)
            (gathered / name).parent.mkdir(parents=True, exist_ok=True)
            (gathered / name).write_bytes(data)
            import hashlib

            thing = msgspec.structs.replace(thing, size=len(data), sha256=hashlib.sha256(data).hexdigest())
            one = msgspec.structs.replace(one, content=name, effect=msgspec.structs.replace(one.effect, thing=thing))
        whole.append(one)
    captured.write(folder, sorted_out(done(*whole)), gathered, "sounder")
    return folder


PROGRAM = r"C:\Program Files\Tidewell\Sounder\sounder.exe"
ALL = (
    caught(Folder(r"C:\Program Files\Tidewell")),
    caught(Folder(r"C:\Program Files\Tidewell\Sounder")),
    caught(File(PROGRAM)),
    caught(File(r"C:\Program Files\Tidewell\Sounder\uninst.exe")),
    caught(Folder(r"C:\ProgramData\Tidewell\Depths")),
    caught(File(r"C:\ProgramData\Tidewell\sounder.ini")),
    caught(IniValue(r"C:\ProgramData\Tidewell\sounder.ini", "Updates", "Ask", "1")),
    caught(Shortcut(r"C:\Users\Public\Desktop\Sounder.lnk", PROGRAM)),
    caught(Shortcut(r"C:\ProgramData\Microsoft\Windows\Start Menu\Programs\Sounder.lnk", PROGRAM)),
    caught(value("Site", "Marrowby")),
    caught(value("Updates", 1, "dword")),
    caught(value("Paths", ("a", "b"), "multi")),
    caught(RegistryValue("HKCU", KEY, "Colour", "sz", "blue")),
    caught(Environment("TIDEDIR", r"C:\Tide")),
    caught(Service("TideGauge", "Tide gauge", r'"C:\Program Files\Tidewell\Sounder\gauge.exe"', "demand", "LocalSystem", ())),
    caught(ENTRY),
    caught(Product("{6E1C9C54-83A5-4A0B-9B27-5B7C0F6A1D10}", "Tidewell Sounder", "4.1")),
    caught(File(r"C:\Users\mara\AppData\Local\Temp\x.tmp")),
    caught(File(r"C:\Users\mara\AppData\Roaming\Tidewell\recent.cfg")),
)  # fmt: skip


# --- sorting out ----------------------------------------------------------------------------------------------------


def fates(capture: record.Capture, step: CapturedStep | None = None) -> dict[str, str]:
    return {one.caught.names[0]: f"{one.fate}: {one.why}" for one in decided(step or CapturedStep(), capture)}


def test_what_belongs_to_whom() -> None:
    found = fates(sorted_out(done(*(msgspec.structs.replace(one, content="x") for one in ALL))))
    assert found[r"%programfiles%\tidewell\sounder\sounder.exe"] == "kept: "
    assert "uninstaller" in found[r"%programfiles%\tidewell\sounder\uninst.exe"]
    assert found[r"%temp%\x.tmp"] == "left: temporary"
    assert found[r"%appdata%\tidewell\recent.cfg"].startswith("cannot: of the person")
    assert "a file that comes as a whole" in found[r"%programdata%\tidewell\sounder.ini [updates] ask"]
    assert found["{6e1c9c54-83a5-4a0b-9b27-5b7c0f6a1d10} tidewell sounder"].startswith("left: the Windows Installer")
    assert len([one for one in found.values() if one.startswith("kept")]) == 14


def test_an_entry_of_a_file_that_was_there_is_set_alone() -> None:
    path = r"C:\Windows\tide.ini"
    found = fates(
        sorted_out(done(caught(File(path), "change", content="x"), caught(IniValue(path, "Quay", "North", "3"))))
    )
    assert found[r"%systemroot%\tide.ini"].startswith("left: it was there already")
    assert found[r"%systemroot%\tide.ini [quay] north"] == "kept: "


def test_a_folder_of_what_is_left_is_left() -> None:
    """One that was made empty is the program's; so is one of which a part comes."""
    found = fates(
        sorted_out(
            done(
                caught(Folder(r"C:\ProgramData\Logs")), caught(File(r"C:\ProgramData\Logs\a.log")),
                caught(Folder(r"C:\ProgramData\Empty")), caught(Folder(r"C:\ProgramData\Both")),
                caught(File(r"C:\ProgramData\Both\a.log")), caught(File(r"C:\ProgramData\Both\a.dat"), content="x"),
            )
        )
    )  # fmt: skip
    assert found[r"%programdata%\logs"].startswith("left: a folder in which nothing lies")
    assert found[r"%programdata%\empty"] == found[r"%programdata%\both"] == "kept: "


def test_told_apart_by_a_second_machine() -> None:
    first = windows()
    other = msgspec.structs.replace(first, computer="QUAYSIDE-07", user="tide")
    name = first.computer
    one = done(
        caught(value("Host", rf"\\{name}\depths")), caught(value("Seed", "1")), caught(value("Site", "Marrowby")),
        caught(value("Who", first.user)), caught(File(r"C:\ProgramData\a.bin", sha256="1" * 64, size=1), content="x"),
        caught(File(rf"C:\ProgramData\{name}.lic"), content="x"), caught(ENTRY),
    )  # fmt: skip
    two = done(
        caught(value("Host", r"\\QUAYSIDE-07\depths")), caught(value("Seed", "2")), caught(value("Site", "Marrowby")),
        caught(value("Who", "tide")), caught(File(r"C:\ProgramData\a.bin", sha256="2" * 64, size=1)),
        caught(File(r"C:\ProgramData\QUAYSIDE-07.lic")), caught(msgspec.structs.replace(ENTRY, uninstall="other")),
        surroundings=other,
    )  # fmt: skip
    capture = sorted_out(one, two)
    found = {label.rpartition("\\")[2]: fate for label, fate in fates(capture).items()}
    assert found["host"] == "kept: it holds the computer's name, which a variable names"
    assert found["site"] == "kept: " and found["tidewell sounder 4.1"] == "kept: "
    assert found["seed"] == "open: it is another one on the second machine"
    assert found["who"] == "open: it holds the person's name"
    assert found["a.bin"].startswith("open: it is another") and found[f"{name.lower()}.lic"].startswith(
        "open: it is not"
    )
    assert capture.machines.differed[:2] == ("computer's name", "person's name")
    bound = next(one.bound for one in capture.caught if one.effect.thing == value("Host", rf"\\{name}\depths"))
    assert bound and bound.data == r"\\%COMPUTERNAME%\depths" and not bound.guessed


@pytest.mark.parametrize(
    ("text", "why"),
    [
        ("by mara.", "person's name"), ("8:00 AM", "time of day"), ("23:59:59", "time of day"),
        ("%Y-%m-%d", "the day"), ("%Y%m%d", "the day"),
        ("seconds", "the seconds"), ("marathon", ""), ("4.1.20", ""), ("1200000000", ""), ("12", ""),
        ("http://x/12:30", ""),
    ],
)  # fmt: skip
def test_guessed_from_one(text: str, why: str) -> None:
    text = str(int(time.time())) if text == "seconds" else time.strftime(text, time.gmtime())
    (found,) = sorted_out(done(caught(value("X", text)))).caught
    assert (found.bound is not None) == bool(why)
    assert not why or (found.bound and why in found.bound.why and found.bound.guessed)


def test_a_list_of_the_office() -> None:
    own = LeftEntry("file", r"%programdata%\marrowby\**", "our own agent")
    (found,) = sorted_out(done(caught(File(r"C:\ProgramData\Marrowby\a.dat"))), office=[own]).caught
    assert found.left == "our own agent" and not wanted([own])(found)


def test_a_house_file_names_what_captures_leave(tmp_path: Path) -> None:
    (tmp_path / "house.toml").write_text(
        'name = "Marrowby harbour"\n\n[[left]]\nkind = "file"\nidentity = \'%programdata%\\marrowby\\**\'\nwhy = "our agent"\n'
    )
    folder = workspace(tmp_path / "w", *ALL)
    assert read(folder / "plan.toml")[0].furnished.house.left[0].why == "our agent"


# --- decided in the plan ----------------------------------------------------------------------------------------------


def test_the_plan_has_the_last_word() -> None:
    capture = sorted_out(done(*(msgspec.structs.replace(one, content="x") for one in ALL)))
    step = CapturedStep(
        leave=(Which(kind="shortcut", thing=r"%PUBLIC%\Desktop\*", note="no icon"), Which(thing=r"HKLM\*")),
        keep=(Which(thing=r"HKLM\*\Site"),),
        change=(Otherwise(thing=r"HKLM\*\Updates", to=0), Otherwise(thing=r"*.ini [Updates] Ask", to="0")),
    )
    found = fates(capture, step)
    key = KEY.lower()
    assert found[r"%public%\desktop\sounder.lnk"] == "left: no icon"
    assert found[rf"hklm\{key}\paths"].startswith("left") and found[rf"hklm\{key}\site"].startswith("kept")
    assert found[rf"hklm\{key}\updates"].startswith("kept")
    assert found[r"%programdata%\tidewell\sounder.ini [updates] ask"].startswith("kept")


def test_paths_as_a_person_writes_them() -> None:
    one = caught(File(PROGRAM))
    for thing in (PROGRAM, r"C:\Program Files\Tidewell\*", r"%programfiles%\*", "*sounder.exe", r"C:\Program Files*"):
        assert Which(thing=thing).names(one), thing
    for thing in (r"C:\Program Files (x86)\*", r"C:\Program\*", "sounder.exe"):
        assert not Which(thing=thing).names(one), thing


def test_only_one_part() -> None:
    one = msgspec.structs.replace(caught(value("A", "1")), part="settings")
    capture = sorted_out(done(one, caught(value("B", "1"))))
    found = fates(capture, CapturedStep(leave=(Which(part="settings"),)))
    assert [text.partition(":")[0] for text in found.values()] == ["left", "kept"]


def test_what_cannot_be_set_otherwise(tmp_path: Path, yendo: Yendo) -> None:
    folder = workspace(tmp_path / "w", *ALL)
    said = yendo("add", "change", "captured", "--into", folder, "--thing", "*Sounder.lnk", "--to", "x").stdout
    assert "[[install.change]]" in said
    told = yendo("check", folder, expect=1).stdout
    assert "a shortcut has no value that could be another" in " ".join(told.split())


# --- brought ----------------------------------------------------------------------------------------------------------


def test_from_the_work_to_the_proof(tmp_path: Path, yendo: Yendo) -> None:
    """Every kind that a step brings, decided by commands, built twice alike, proved in every scenario."""
    contents = {
        r"%ProgramData%\Tidewell\sounder.ini": b"[Updates]\r\nAsk=1\r\n",
        r"%ProgramFiles%\Tidewell\Sounder\sounder.exe": (PROGRAMS / "lantern-6.2.1.exe").read_bytes(),
    }
    folder = workspace(tmp_path / "w", *ALL, contents=contents)
    yendo("add", "leave", "--into", folder, "--thing", r"%PUBLIC%\Desktop\*", "--note", "no icon on the desktop")
    yendo("add", "leave", "--into", folder, "--thing", r"%APPDATA%\*")
    yendo("add", "change", "captured", "--into", folder, "--thing", r"HKLM\*\Updates", "--to", "0")
    yendo("add", "change", "captured", "--into", folder, "--thing", "*.ini [Updates] Ask", "--to", "0")
    yendo("add", "setting", "site", "--into", folder, "--meaning", "where the boat lies", "--default", "North quay")
    yendo("add", "change", "captured", "--into", folder, "--thing", r"HKLM\*\Site", "--to", "{setting.site}")
    told = yendo("check", folder, expect=None).stdout
    assert "error" not in told, told
    digests = {parsed(yendo("build", folder, "--json"))["digest"] for _ in range(2)}
    assert len(digests) == 1
    done = yendo("prove", folder, "--scenario", "all", expect=None)
    assert done.returncode == 0, done.stdout
    assert "as it was captured" in yendo("prove", folder).stdout
    steps = [
        step["kind"]
        for step in json.loads((next((folder / "package").glob("*/manifest.json"))).read_bytes())["install"]
    ]
    assert steps == ["copy", "registry", "registry", "environment", "edit", "service", "shortcut"]
    assert not list((folder / "package").glob("*/extras/captured/TEMP")) and not list(
        (folder / "package").glob("*/extras/captured/*/Tidewell/Sounder/uninst.exe")
    )


def test_an_undecided_one_is_an_error(tmp_path: Path, yendo: Yendo) -> None:
    folder = workspace(tmp_path / "w", caught(File(PROGRAM)), caught(value("When", "12:30")))
    told = " ".join(yendo("check", folder, expect=1).stdout.split())
    assert "1 of the captured things belong to the machine, and nobody has decided" in told and "guessed" in told
    assert "When = 12:30 1 open" in " ".join(yendo("capture", folder, "--show", "--open").stdout.split())
    yendo("add", "keep", "--into", folder, "--thing", r"HKLM\*\When", "--note", "it is a time-table")
    yendo("check", folder)


def test_a_decision_that_names_nothing(tmp_path: Path, yendo: Yendo) -> None:
    folder = workspace(tmp_path / "w", caught(File(PROGRAM)))
    yendo("add", "leave", "--into", folder, "--thing", "*.txt")
    assert "leave 1 names nothing of the capture" in " ".join(yendo("check", folder, expect=1).stdout.split())


def test_captured_again_the_decisions_stay(tmp_path: Path, yendo: Yendo) -> None:
    folder = workspace(tmp_path / "w", *ALL)
    yendo("add", "leave", "--into", folder, "--thing", r"%PUBLIC%\Desktop\*")
    yendo("add", "leave", "--into", folder, "--thing", r"%APPDATA%\*")
    before = (folder / "plan.toml").read_bytes()
    gathered = captured.staging(folder)
    again = captured.write(folder, sorted_out(done(caught(value("New", "1")))), gathered, "sounder")
    assert again.renewed and again.idle == (r"leave: %PUBLIC%\Desktop\*", r"leave: %APPDATA%\*")
    assert (folder / "plan.toml").read_bytes() == before
    assert not list((folder / "extras").rglob("*.exe")) and not gathered.exists()


def test_a_plan_of_another_sort_stays(tmp_path: Path) -> None:
    (tmp_path / "plan.toml").write_text(
        '[package]\nid = "x"\nname = "x"\nversion = "1"\n\n[[install]]\nkind = "exe"\nprogram = "x.exe"\n'
    )
    with pytest.raises(Usage, match="brings nothing that was captured"):
        captured.guard(tmp_path)


def test_damaged_records(tmp_path: Path) -> None:
    folder = workspace(tmp_path / "w", caught(File(PROGRAM)))
    path = folder / record.RECORD
    good = path.read_bytes()
    for data in (b"", b"{}", good[:-20], good.replace(b"yendo.capture/1", b"yendo.capture/9")):
        path.write_bytes(data)
        with pytest.raises(Unreadable):
            record.read(path)
    path.unlink()
    with pytest.raises(Unreadable, match="yendo capture makes it"):
        record.read(path)


def test_a_record_that_leads_outside(tmp_path: Path, yendo: Yendo) -> None:
    folder = workspace(tmp_path / "w", caught(File(PROGRAM)))
    plan = (folder / "plan.toml").read_text()
    (tmp_path / "other.json").write_bytes((folder / record.RECORD).read_bytes())
    (folder / "plan.toml").write_text(plan.replace('kind = "captured"', 'kind = "captured"\nfrom = "../other.json"'))
    assert "not below capture/" in yendo("build", folder, expect=2).stderr
    body = json.loads((folder / record.RECORD).read_bytes())
    (folder / body["caught"][0]["content"]).write_bytes(b"another")
    (folder / "plan.toml").write_text(plan)
    assert "is not what was captured" in yendo("build", folder, expect=2).stderr
    body["caught"][0]["content"] = "../other.json"
    (folder / record.RECORD).write_text(json.dumps(body))
    (folder / "plan.toml").write_text(plan)
    assert "is not below extras" in " ".join(yendo("build", folder, expect=2).stderr.split())


# --- held against the capture ------------------------------------------------------------------------------------------


def test_held() -> None:
    here = windows()
    kept = (
        Effect("add", value("Host", "%COMPUTERNAME%")),
        Effect("remove", Folder(r"C:\Old")),
        Effect("add", Environment("Path", "C:\\Tide;")),
    )
    left = (Effect("add", Shortcut(r"%PUBLIC%\Desktop\Sounder.lnk", "x")),)
    whole = Promise(kept=kept, left=left)
    good = State([value("Host", here.computer), Environment("Path", r"C:\Windows;C:\Tide")])
    assert held(whole, State(), good, here, person=False).wrong == ()
    bad = State(
        [Folder(r"C:\Old"), Environment("Path", r"C:\Windows"), Shortcut(r"C:\Users\Public\Desktop\Sounder.lnk", "x")]
    )
    wrong = held(whole, State(), bad, here, person=False).wrong
    assert [text.partition(":")[0] for text in wrong] == [
        "kept, and not there", "removed in the capture, and still there", "kept, and not whole",
        "left out, and there all the same",
    ]  # fmt: skip
    own = Promise(kept=(Effect("add", RegistryValue("HKCU", KEY, "Colour", "sz", "blue")),))
    assert held(own, State(), State(), here, person=False).own == 1
    assert len(held(own, State(), State(), here, person=True).wrong) == 1


def test_places() -> None:
    place = placing(windows().environment)
    assert (
        place(r"C:\Program Files (x86)\x") == r"%ProgramFiles(x86)%\x"
        and place(r"c:\program files") == "%ProgramFiles%"
    )
    assert place(r"C:\Program Filesystem\x") == r"C:\Program Filesystem\x"
    assert place(r"C:\Users\mara\AppData\Local\Temp\a") == r"%TEMP%\a"
    assert is_own(placed(File(r"C:\Users\mara\x.txt"), place)) and not is_own(File(r"C:\x"))
    assert record.content_name(r"%ProgramFiles(x86)%\a\b.txt") == "extras/captured/ProgramFilesx86/a/b.txt"


def test_a_tree() -> None:
    capture = sorted_out(done(*(msgspec.structs.replace(one, content="x") for one in ALL)))
    top = tree(decided(CapturedStep(), capture))
    assert top.total == len(ALL) == sum(inner.total for inner in top.inner.values())
    names = {inner.name for inner in top.inner.values()}
    assert {"%ProgramFiles%\\Tidewell", "service\\TideGauge"} <= names


# --- clean first --------------------------------------------------------------------------------------------------------


def test_what_is_there_already() -> None:
    brought = [Effect("add", File(PROGRAM)), Effect("add", Folder(r"C:\Program Files")), Effect("add", value("A", "1"))]
    state = State([File(PROGRAM.upper()), Folder(r"C:\Program Files")])
    assert [effect.thing.identity for effect in there_already(state, brought)] == [PROGRAM.lower()]


# --- on the layer ---------------------------------------------------------------------------------------------------------

WORK = (
    "@echo off\r\nset K=HKLM\\Software\\Tidewell\\Sounder\r\nmkdir \"%ProgramFiles%\\Sounder\"\r\n"
    "echo site> \"%ProgramFiles%\\Sounder\\sounder.cfg\"\r\nreg add %K% /v Host /d \"\\\\%COMPUTERNAME%\\depths\" /f\r\n"
    "reg add %K% /v Who /d \"%USERNAME%\" /f\r\nreg add %K% /v Seed /d \"%RANDOM%%RANDOM%\" /f\r\n"
    "reg add %K% /v Formed /d \"set up on %DATE% by hand\" /f\r\n"
    "reg add %K% /v Site /d Marrowby /f\r\nvol c: > \"%ProgramData%\\volume.txt\"\r\n"
    "echo x> \"%TEMP%\\left.tmp\"\r\necho x> \"%ProgramData%\\sounder.log\"\r\nexit /b %1\r\n"
)  # fmt: skip


def line(text: str = "0") -> WorkLine:
    return WorkLine("install", f'cmd /c "{{folder}}\\work.cmd" {text}')


@pytest.fixture
def script(tmp_path: Path) -> Path:
    (tmp_path / "work.cmd").write_text(WORK, newline="")
    return tmp_path / "work.cmd"


@pytest.mark.wine
def test_on_two_machines_of_the_layer(wine: Any, script: Path, tmp_path: Path) -> None:
    """Done twice, on machines of two names: what is bound is found, and nothing else is taken for it."""
    from yendo.machines.wine.machine import OTHER, WineMachine

    second = WineMachine(wine.cache, wine.powershell, guise=OTHER)
    gathered = captured.staging(tmp_path / "w")
    one = work(wine, [line()], brought=[script], contents=gathered)
    two = work(second, [line()], brought=[script])
    capture = sorted_out(one, two)
    captured.write(tmp_path / "w", capture, gathered, "sounder")
    found = {name.rpartition("\\")[2]: fate for name, fate in fates(capture).items()}
    assert {name for name, fate in found.items() if fate.startswith("open")} == {"seed", "who", "volume.txt", "formed"}
    assert found["host"].startswith("kept: it holds the computer's name") and found["site"] == "kept: "
    assert found["sounder.cfg"] == "kept: " and found["sounder.log"] == "left: a log"
    assert one.surroundings.computer != two.surroundings.computer and "left.tmp" not in found
    assert build.build(tmp_path / "w", read(tmp_path / "w" / "plan.toml")[0])


@pytest.mark.wine
def test_work_that_fails_is_told_at_once(wine: Any, script: Path, tmp_path: Path, yendo: Yendo) -> None:
    with pytest.raises(WorkFailed, match="ended with exit code 5"):
        work(wine, [line("5")], brought=[script])
    with pytest.raises(WorkFailed, match="changed nothing that lasts"):
        work(wine, [WorkLine("install", "cmd /c exit 0")])
    with pytest.raises(WorkFailed, match="waits for a person") as told:
        work(wine, [WorkLine("install", "winver")], timeout=60)
    assert told.value.picture and told.value.picture.startswith(b"\x89PNG")
    told_by = yendo("capture", "w", "--run", "winver", "--limit", "1 min", expect=None)
    assert told_by.returncode != 0 and "w-failed.png" in told_by.stderr and (tmp_path / "w-failed.png").exists()
    assert not (tmp_path / "w").exists() and not list(tmp_path.glob(".w*"))


@pytest.mark.wine
def test_parts_and_a_restart(wine: Any) -> None:
    add = r"reg add HKLM\Software\Tidewell /v {} /d x /f"
    found = work(wine, [
        WorkLine("install", f'cmd /c "{add.format("One")} & exit 3010"'), WorkLine("settings", add.format("Two")),
        WorkLine("settings", add.format("One").replace("/d x", "/d y")),
    ])  # fmt: skip
    assert [(part.name, [run.restarted for run in part.runs]) for part in found.parts] == [
        ("install", [True]), ("settings", [False, False]),
    ]  # fmt: skip
    assert {one.effect.thing.name: one.part for one in found.caught} == {"One": "settings", "Two": "settings"}  # type: ignore[union-attr]


@pytest.mark.wine
def test_what_was_written_again_as_it_was(wine: Any, tmp_path: Path) -> None:
    """A file that lay there before and was written with the same contents belongs to the work; others do not."""
    gathered = captured.staging(tmp_path / "w")
    again = r"copy /y C:\windows\win.ini C:\w.tmp & copy /y C:\w.tmp C:\windows\win.ini & del C:\w.tmp"
    found = work(
        wine,
        [
            WorkLine("install", r"reg add HKLM\Software\Tidewell /v One /d x /f"),
            WorkLine("runtime", f'cmd /c "{again}"'),
        ],
        contents=gathered,
    )
    (one,) = [one for one in found.caught if one.again]
    assert one.effect.thing.identity == r"%systemroot%\win.ini" and one.part == "runtime"
    assert (gathered / one.content).is_file()


@pytest.mark.wine
def test_what_a_program_makes_again(wine: Any, tmp_path: Path, yendo: Yendo) -> None:
    """Its cache and its colour come back at every start; a person's choice does not."""
    program = _program(tmp_path, "starts", "-lole32", "-luuid")
    yendo("capture", "w", program, "--run", "{setup} --setup", "--start-again")
    capture = record.read(tmp_path / "w" / record.RECORD)
    found = {name.rpartition("\\")[2]: fate for name, fate in fates(capture).items()}
    for name in ("cache.dat", "colour"):
        assert found[name] == "left: the program makes it again by itself when it starts", found
    for name in ("choice.ini", "chosen", "starts.exe", "sounder.lnk"):
        assert found[name].startswith("kept"), found
    assert "makes it again" in yendo("capture", "w", "--show", "--left").stdout
    assert (
        "is thrown away"
        in yendo("capture", "v", program, "--run", "{setup}", "--start-again", "--machine", "here", expect=2).stderr
    )


@pytest.mark.wine
def test_by_a_kit_through_a_restart(shell_wine: Any, script: Path, tmp_path: Path, yendo: Yendo) -> None:
    """Done where nothing is installed, and brought back: the same as on the layer itself."""
    name = "w.captured.zip"
    add = r"reg add HKLM\Software\Tidewell /v After /d x /f"
    jobs = [line("3010"), WorkLine("settings", add)]
    kit.write(tmp_path / "w", tmp_path / "k.zip", jobs, setup=script, idle=1)
    assert not (tmp_path / "w").exists()
    carried(tmp_path / "k.zip", shell_wine, tmp_path, "user", name)
    yendo("capture", "w", "--from", name, expect=None)
    by_kit = record.read(tmp_path / "w" / record.RECORD)
    assert by_kit.setup == "work.cmd" and "by a kit" in by_kit.machines.first
    assert [[run.restarted for run in part.runs] for part in by_kit.parts] == [[True], [False]]
    direct = sorted_out(work(shell_wine, jobs, brought=[script]))
    random = {"seed", "volume.txt"}

    def things(capture: record.Capture) -> dict[str, tuple[str, str]]:
        names = {one.effect.thing.identity: (one.part, one.left) for one in capture.caught}
        return {name: said for name, said in names.items() if name.rpartition("\\")[2] not in random}

    assert things(by_kit) == things(direct)
    assert (tmp_path / "w" / "captured" / "files").is_dir() or list((tmp_path / "w").rglob("sounder.cfg"))
    assert "nothing" not in yendo("capture", "w", "--show").stdout
    with zipfile.ZipFile(tmp_path / name) as whole, zipfile.ZipFile(tmp_path / "other.zip", "w") as changed:
        for info in whole.infolist():
            data = whole.read(info)
            changed.writestr(info, b"x" + data[1:] if info.filename.startswith("kept/") else data)
    assert "not the one that was seen there" in yendo("capture", "w", "--from", "other.zip", expect=3).stderr


def test_kits_that_cannot_be(tmp_path: Path, yendo: Yendo) -> None:
    """A person as the system account, results of nothing, of another kit, and no archive at all."""
    refused = yendo("capture", "w", "--hand", "winver", "--scenario", "system", "--kit", "k.zip", expect=2).stderr
    assert "nobody sits at the system account" in refused
    assert "no kit for w was made here" in yendo("capture", "w", "--from", "r.zip", expect=2).stderr
    told = yendo("capture", "w", "--run", "winver", "--kit", "k.zip").stdout
    assert "brings back" in told and "w.captured.zip" in told
    assert "is not there" in yendo("capture", "w", "--from", "r.zip", expect=2).stderr
    (tmp_path / "r.zip").write_bytes(b"PK\x03\x04")
    assert "is no result of a kit that captures" in yendo("capture", "w", "--from", "r.zip", expect=3).stderr
    both = yendo("capture", "w", "--from", "r.zip", "--run", "winver", expect=2).stderr
    assert "give NAME and --from alone" in both
    here = yendo("capture", "w", "--run", "winver", "--machine", "here", expect=2).stderr
    assert "--this-computer-may-be-changed" in here


@pytest.mark.wine
def test_a_machine_that_is_not_clean(wine: Any) -> None:
    """A library that the setup brings lies in the system's folder already."""
    brought = [Effect("add", File(r"C:\Windows\System32\msvcrt.dll")), Effect("add", File(r"C:\Program Files\new.dll"))]
    add = WorkLine("install", r"reg add HKLM\Software\Tidewell /v One /d x /f")
    with pytest.raises(AlreadyThere, match="is not clean: 1 of the things") as told:
        work(wine, [add], predicted=brought)
    assert "msvcrt.dll" in told.value.things[0]
    found = work(wine, [add], predicted=brought, although="every Windows has it")
    assert [text.rpartition("\\")[2] for text in found.there] == ["msvcrt.dll"]


@unix
@pytest.mark.wine
def test_killed_in_the_middle_nothing_is_there(wine: Any, script: Path, tmp_path: Path) -> None:
    command = [sys.executable, "-m", "yendo", "capture", str(tmp_path / "w"), "--with", str(script)]
    command += ["--run", 'cmd /c "{folder}\\work.cmd" 0', "-q"]
    environment = {**os.environ, "YENDO_CACHE": str(wine.cache)}
    for after in (1.0, 2.5):
        process = subprocess.Popen(command, env=environment)
        time.sleep(after)
        process.send_signal(signal.SIGKILL)
        process.wait()
        if (tmp_path / "w" / "plan.toml").exists():  # it had come to its end
            build.build(tmp_path / "w", read(tmp_path / "w" / "plan.toml")[0])
    assert subprocess.run(command, env=environment, check=False, timeout=120).returncode == 1  # two are open
    assert (tmp_path / "w" / "plan.toml").exists() and not list(tmp_path.glob(".w.*"))
    body = json.loads((tmp_path / "w" / record.RECORD).read_bytes())
    assert re.match(r"wine-\d", body["machines"]["first"])


@pytest.mark.wine
def test_by_a_persons_hand(wine: Any, tmp_path: Path, yendo: Yendo) -> None:
    """On a screen that a person sees, here one without a monitor: the answer that a person gave is what is captured."""
    program = _asking(tmp_path)
    with somebody() as display:
        yendo("capture", "w", program, "--part", "settings", "--hand", "{setup}", environment={"DISPLAY": display})
    assert answered(tmp_path / "w") == ("settings", 0)
    assert "showed Sounder" in yendo("capture", "w", "--show").stdout
    told = yendo("capture", "v", "--hand", "winver", expect=2, environment={"DISPLAY": ""}).stderr
    assert "needs a screen that a person sees" in told


@pytest.mark.wine
@pytest.mark.thorough
def test_by_a_persons_hand_with_a_kit(shell_wine: Any, tmp_path: Path, yendo: Yendo) -> None:
    """The kit waits until the person has closed the windows."""
    from yendo.machines.wine.machine import WineMachine

    program = _asking(tmp_path)
    jobs = [WorkLine("settings", "{setup}", hand=True)]
    kit.write(tmp_path / "w", tmp_path / "k.zip", jobs, setup=program, idle=0)
    with somebody() as display:
        machine = WineMachine(shell_wine.cache, shell_wine.powershell, screen=display)
        carried(tmp_path / "k.zip", machine, tmp_path, "user", "w.captured.zip")
    yendo("capture", "w", "--from", "w.captured.zip", expect=None)
    assert answered(tmp_path / "w") == ("settings", 0)


@contextlib.contextmanager
def somebody() -> Iterator[str]:
    """A screen without a monitor, and a person at it who says no."""
    with layer.screen() as display:
        assert display
        with pressing(display, "n"):
            yield display


def answered(workspace: Path) -> tuple[str, Any]:
    """The part and the data of the one value that was captured."""
    (value,) = [one for one in record.read(workspace / record.RECORD).caught if one.effect.kind == "registry"]
    return value.part, value.effect.thing.data  # type: ignore[union-attr]


def _asking(folder: Path) -> Path:
    """A program that asks a question and keeps the answer."""
    return _program(folder, "asks")


def _program(folder: Path, name: str, *libraries: str) -> Path:
    """A program of these tests, from its source."""
    compiler = "x86_64-w64-mingw32-gcc"
    if not shutil.which(compiler):
        missing("the cross compiler", "apt-get install gcc-mingw-w64-x86-64")
    made = folder / f"{name}.exe"
    source = Path(__file__).with_name(f"{name}.c")
    subprocess.run([compiler, "-mwindows", "-O1", source, "-o", made, *libraries], check=True)
    return made
