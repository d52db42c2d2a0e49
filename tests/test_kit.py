"""A proof kit: carried to a machine without Yendo, played there, and its result judged like any other run."""

from __future__ import annotations

import gzip
import json
import re
import shutil
import time
import zipfile
from pathlib import Path
from typing import Any

import pytest
from conftest import Yendo, compiled
from hypothesis import given
from hypothesis import strategies as st

from yendo.effects import File, Folder, RegistryValue, Service, UninstallEntry, difference
from yendo.errors import Unreadable, Usage
from yendo.formats import fields
from yendo.machines.recorded import observed, picture
from yendo.machines.recorded.machine import RecordedMachine, RecordedPart
from yendo.package import build, scripts
from yendo.package import manifest as form
from yendo.plan import read
from yendo.prove import attended, kit
from yendo.prove.acts import acts_of
from yendo.prove.prove import digest_of, prove
from yendo.prove.scenarios import SCENARIOS, Scenario

PLAN = r"""
mark = true
[package]
id = "tide"
name = "Tide"
version = "1.0"
revision = 1
publisher = "Marrowby"
architecture = "x64"
{more}
[[install]]
kind = "copy"
from = "extras/tide.ini"
to = '%ProgramFiles%\Tidewell\Tide\tide.ini'

[[install]]
kind = "registry"
key = 'HKLM\Software\Tidewell\Tide'
values = {{ Site = "Pier", Depth = 7, Names = ["a", "b"] }}

[[install]]
kind = "shortcut"
path = '%PUBLIC%\Desktop\Tide.lnk'
target = 'C:\Windows\notepad.exe'
{steps}
"""
RESTART = '\n[[install]]\nkind = "restart"\nwhere = "always"\nnotice = "0 s"\n'


SECRET = '[settings.key]\ntype = "text"\nmeaning = "the key"\nsecret = true\n'
KEYED = """
[[install]]
kind = "registry"
key = 'HKLM\\Software\\Tidewell\\Key'
values = { Key = "{setting.key}" }
"""


FAILING = """
[[install]]
kind = "edit"
file = 'C:\\not\\there.ini'
format = "ini"
set = { "a/b" = "c" }
"""


def made(folder: Path, more: str = "", steps: str = "") -> Path:
    folder.mkdir(exist_ok=True)
    (folder / "extras").mkdir()
    (folder / "extras" / "tide.ini").write_bytes(b"[Tide]\r\nSite=Pier\r\n")
    (folder / "plan.toml").write_text(PLAN.format(more=more, steps=steps))
    return build.build(folder, read(folder / "plan.toml")[0]).folder


# --- what the observer writes -------------------------------------------------------------------------------


def pictured(*lines: str) -> list[Any]:
    return list(picture.PictureReader().read(lines).state)


def test_lines_become_things() -> None:
    things = pictured(
        r"D	C:\Program Files\Tide%2509",
        f"F\tC:\\a.exe\t12\t638000000000000000\t{'0' * 64}\t1.2.3.4\t34404",
        "F\tC:\\b.dat\t3\t638000000000000000\t-\t-\t-",
        r"K	HKLM	Software\Wow6432Node\Tide	0",
        "V\tNames\tmulti=a%00b",
        "V\tDepth\tdword=7",
        r"K	HKLM	Software\Microsoft\Windows\CurrentVersion\Uninstall\Tide	0",
        "V\tDisplayName\tsz=Tide",
        r"K	HKLM	System\CurrentControlSet\Services\TideWatch	1",
        "V\tImagePath\texpand=%25SystemRoot%25\\tide.exe",
        "V\tStart\tdword=2",
        "P\ttide",
    )
    assert things[0] == Folder(r"C:\Program Files\Tide%09")
    assert things[1] == File(r"C:\a.exe", 12, "0" * 64, "1.2.3.4", "x64", changed="2022-09-28")
    assert things[2].sha256 is None
    assert RegistryValue("HKLM", r"Software\Tide", "Names", "multi", ("a", "b"), "32") in things
    assert any(isinstance(thing, UninstallEntry) and thing.name == "Tide" for thing in things)
    services = [thing for thing in things if isinstance(thing, Service)]
    assert services[0].start == "auto" and services[0].command == r"%SystemRoot%\tide.exe"


@pytest.mark.parametrize(
    "line",
    [
        "Q\tx",
        "F\tC:\\a",
        "F\ta\tb\t1\t-\t-\t-",
        "F\ta\t1\t1\tzz\t-\t-",
        "V\ta\tsz=b",
        "B\ta\t***",
        "",
        "F\ta\t1\t9" + "9" * 30 + "\t-\t-\t-",
    ],
)
def test_a_line_that_is_none(line: str) -> None:
    with pytest.raises(Unreadable):
        picture.PictureReader().read([line])


@given(st.text(max_size=60))
def test_fields_come_back(text: str) -> None:
    escaped = "".join(f"%{ord(one):02X}" if one == "%" or ord(one) < 32 else one for one in text)
    assert fields.escape(text) == escaped and fields.unescape(escaped) == text


def test_a_key_that_gets_another_is_not_changed() -> None:
    reader = picture.PictureReader()
    before = reader.read([r"K	HKLM	Software\Tide	0"])
    after = reader.read([r"K	HKLM	Software\Tide	1", r"K	HKLM	Software\Tide\Own	0"])
    assert [str(effect) for effect in difference(before.state, after.state)] == [
        r"add registry-key HKLM\Software\Tide\Own"
    ]


# --- a result --------------------------------------------------------------------------------------------


def about(layer: bool = False) -> RecordedPart:
    rows = {"windows": "10.0.26100.2314", "product": "Windows 11", "architecture": "x64", "layer": str(layer)}
    return RecordedPart("000-about", [f"E\t{name}\t{value}" for name, value in rows.items()] + ["A\tTEMP\tC:\\Temp"])


def sealed(package: Path, key: str, parts: list[RecordedPart], *, digest: str = "", account: str = "system") -> bytes:
    import base64
    import hashlib
    import hmac

    head = f"yendo-result\t2\t{digest or digest_of(package)}\ttide\t{account}\n"
    body = (
        head + "".join(f"part {part.name}\n" + "".join(f"{line}\n" for line in part.lines) for part in parts)
    ).encode()
    seal = hmac.new(base64.b64decode(key), body, hashlib.sha256).hexdigest()
    return gzip.compress(body + f"sealed {seal}\n".encode())


LOOK = RecordedPart("001-look", ["D\tC:\\Windows"])


def test_what_is_in_a_kit(tmp_path: Path, yendo: Yendo) -> None:
    package = made(tmp_path / "w")
    done = json.loads(yendo("prove", "w", "--kit", "kit.zip", "--json").stdout)
    assert done["scenario"] == "system" and done["digest"] == digest_of(package)
    with zipfile.ZipFile(tmp_path / "kit.zip") as packed:
        names = set(packed.namelist())
        text = packed.read("play.ps1").decode("utf-8-sig")
    assert {"play.cmd", "play.ps1", "README.txt", "package/manifest.json", "package/apply.ps1"} <= names
    assert "@('verb', 'uninstall'" in text and "#DATA#" not in text and "#OBSERVE#" not in text


def test_bad_results(tmp_path: Path, yendo: Yendo) -> None:
    """Another package's, a changed one, a cut one, one without its kit: refused, with what to do."""
    package = made(tmp_path / "w")
    made_kit = kit.write(package, tmp_path / "k.zip", SCENARIOS["system"])
    good = sealed(package, made_kit.key, [about(), LOOK])
    path = tmp_path / "r.gz"
    path.write_bytes(good)
    assert kit.read(path, package).machine.place == "real Windows"
    changed = gzip.compress(gzip.decompress(good).replace(b"26100", b"19045"))
    for data, words in (
        (changed, "was changed"),
        (good[: len(good) // 2], "no result of a proof kit"),
        (gzip.compress(gzip.decompress(good)[:-20]), "ends in its middle"),
        (b"PK\x03\x04", "no result of a proof kit"),
        (sealed(package, made_kit.key, [about(), LOOK], digest="0" * 64), "made with other bytes"),
        (sealed(package, made_kit.key, [about(), LOOK], account="user"), "was made as user"),
        (sealed(package, made_kit.key, [LOOK]), "on which machine"),
        (sealed(package, made_kit.key, [about()]), "no picture"),
        (sealed(package, made_kit.key, [about(), RecordedPart("001-look", ["Q"])]), "cannot be read"),
        (
            sealed(
                package, made_kit.key, [about(), LOOK, RecordedPart("005-verb-0a", ["M\tverb\tinstall", "R\tx\t0"])]
            ),
            "cannot be read",
        ),
    ):
        path.write_bytes(data)
        with pytest.raises((Usage, Unreadable), match=words):
            kit.read(path, package)
    # the last key of a picture, and a run without an answer
    odd = RecordedPart("001-look", [r"K	HKLM	Software\Tide	0", "V\tA\tdword=x"])
    with pytest.raises(Unreadable, match="the last key"):
        RecordedMachine([about(), odd], "system")
    silent = RecordedPart("002-watch", ["M\twatch\t60\t\tsetup /S"])
    with (
        RecordedMachine([about(), LOOK, silent], "system").fresh("system") as session,
        pytest.raises(Unreadable, match="no answer"),
    ):
        session.watch("setup /S", timeout=1)
    with pytest.raises(Usage, match="is not there"):
        kit.read(tmp_path / "none.gz", package)
    kit.note_of(package, "system", "").unlink()
    path.write_bytes(good)
    with pytest.raises(Usage, match="no kit of this package"):
        kit.read(path, package)
    with pytest.raises(Usage, match="a kit does not play no-network"):
        kit.write(package, tmp_path / "k.zip", SCENARIOS["no-network"])
    assert "may" not in yendo("prove", "w", "--kit", "a.zip", "--machine", "wine", expect=2).stdout


REPAIR = """
[[repair]]
kind = "copy"
from = "extras/tide.ini"
to = '%ProgramFiles%\\Tidewell\\Tide\\tide.ini'
"""
OPEN = '[in_the_way]\nprograms = ["tidework"]\n'


def acts(package: Path, name: str, **more: Any) -> list[str]:
    """What a kit does for a scenario, in words."""
    return [" ".join(act) for act in acts_of(package, SCENARIOS[name], "", idle=0, **more).acts]


def test_what_a_kit_does_is_found_by_playing_it(tmp_path: Path) -> None:
    """Each scenario on the simulated machine: which file is damaged, what is started, what is deleted."""
    package = made(tmp_path / "w", OPEN, REPAIR)
    work = r"C:\Program Files\Yendo proof"
    damaged = acts(package, "repair")
    assert r"remove C:\Program Files\Tidewell\Tide\tide.ini" in damaged
    at = damaged.index(r"remove C:\Program Files\Tidewell\Tide\tide.ini")
    assert damaged[:at] == ["look", rf"verb install {work}\package ", "look"]
    assert [act for act in damaged[at:] if act.startswith("verb")] == [rf"verb repair {work}\package "]
    gone = acts(package, "media-gone")
    assert rf"remove-tree {work}\package" in gone and r"verb uninstall C:\Program Files\Yendo\packages\tide " in gone
    opened = acts(package, "program-open")
    assert "notepad.exe" in opened[1] and opened[2] == "running tidework" and opened[-1] != opened[2]
    odd = acts(package, "odd-path")
    assert "copy kit:package C:\\Lotsenbüro Ñandú (2)\\tide" in odd
    with_secret = acts_of(made(tmp_path / "s", SECRET, KEYED), SCENARIOS["system"], "", idle=5)
    assert with_secret.acts[:3] == [("look",), ("idle", "5"), ("look",)]
    assert ("place", r"kit:brought\values.txt", rf"{work}\values.txt", "private") in with_secret.acts
    assert b"key = secret-" in with_secret.contents[r"brought\values.txt"]


@pytest.mark.parametrize(
    ("name", "words"),
    [
        ("no-network", "put into this state"),
        ("interrupted", "put back in the middle"),
        ("agrees", "does not call for"),
        ("program-open", "does not call for"),
        ("repair", "does not call for"),
    ],
)
def test_what_a_kit_does_not_play(tmp_path: Path, name: str, words: str) -> None:
    with pytest.raises(Usage, match=words):
        acts(made(tmp_path / "w"), name)


def test_a_machine_that_turned_out_otherwise(tmp_path: Path) -> None:
    """The kit deleted what the simulated machine had called for; there something else would have been: no verdict."""
    package = made(tmp_path / "w", "", REPAIR)
    there = RecordedPart(
        "003-look", ["D\tC:\\Windows", r"F	C:\Other\big.exe	9	638000000000000000	-	1.0	34404"]
    )
    parts = [
        about(),
        LOOK,
        RecordedPart("002-verb-0a", ["M\tverb\tinstall\tx\t", "R\t0\t1"]),
        there,
        RecordedPart("004-remove", ["M\tremove\tC:\\Program Files\\Tidewell\\Tide\\tide.ini", "yes"]),
    ]
    proof = prove(package, RecordedMachine(parts, "system"), scenario="repair")
    assert not proof.passed and r"'remove C:\Other\big.exe'" in proof.phases[-1].found


def test_what_has_to_be_there_is_said(tmp_path: Path, yendo: Yendo) -> None:
    """A kit puts nothing onto the machine that the plan only says is there."""
    there = "\n[[proof.there]]\nkind = \"file\"\npath = 'C:\\Tide\\licence.txt'\n"
    made(tmp_path / "w", "", there)
    assert r"C:\Tide\licence.txt" in yendo("prove", "w", "--kit", "k.zip").stdout
    with zipfile.ZipFile(tmp_path / "k.zip") as packed:
        assert "Put onto it what the plan says is there" in packed.read("README.txt").decode()


def test_kits_for_all_scenarios(tmp_path: Path, yendo: Yendo) -> None:
    made(tmp_path / "w", OPEN, REPAIR)
    found = json.loads(yendo("prove", "w", "--kit", "kits", "--scenario", "all", "--json").stdout)
    names = {one["scenario"] for one in found["kits"]}
    assert {"desk", "system", "repair", "twice", "media-gone", "program-open", "starts"} <= names
    assert "interrupted" not in names and len(list((tmp_path / "kits").iterdir())) == len(names)
    assert "put back in the middle" in found["refused"]["interrupted"]
    told = yendo("prove", "w", "--kit", "kits", "--scenario", "repair", "--scenario", "interrupted", expect=1).stdout
    assert "tide-1.0-r1-repair.zip" in told and "interrupted" in told


SITES = """
[settings.site]
type = "text"
meaning = "where it is"

[site.pier]
site = "Pier"

[site.quay]
site = "Quay"
"""
SITED = """
[[install]]
kind = "registry"
key = 'HKLM\\Software\\Tidewell\\Where'
values = { At = "{setting.site}" }
"""


def test_one_site_is_named(tmp_path: Path, yendo: Yendo) -> None:
    """A machine plays the values of one site: which, nobody guesses."""
    made(tmp_path / "w", SITES, SITED)
    refused = yendo("prove", "w", "--kit", "kit.zip", expect=2)
    assert "--site pier" in refused.stderr and not (tmp_path / "kit.zip").exists()
    told = yendo("prove", "w", "--kit", "kit.zip", "--site", "quay").stdout
    assert "--from tide-system-quay.result.gz" in told


def test_a_result_that_was_cut_off_is_no_proof(tmp_path: Path) -> None:
    package = made(tmp_path / "w")
    parts = [about(), LOOK, RecordedPart("004-detect", ["M\tdetect\t120\t\tpowershell x\\detect.ps1", "R\t1\t0"])]
    proof = prove(package, RecordedMachine(parts, "system"), scenario="system")
    assert not proof.passed and proof.place == "real Windows" and "cut off" in str(proof.phases)


def test_what_changes_by_itself_is_no_effect(tmp_path: Path) -> None:
    """What the second picture shows, before anything is done; and what is known of Windows."""
    busy = [
        r"F	C:\Tide\clock.dat	1	638000000000000000	-	-	-",
        r"F	C:\Tide\clock.dat	2	638000000000000000	-	-	-",
    ]
    hive = r"F	C:\Windows\System32\config\SOFTWARE	{0}	638000000000000000	-	-	-"
    parts = [
        about(),
        RecordedPart("001-look", [busy[0], hive.format(1)]),
        RecordedPart("002-idle", ["M\tidle\t60"]),
        RecordedPart("003-look", [busy[1], hive.format(2)]),
    ]
    with RecordedMachine(parts, "system").fresh("system") as session:
        assert list(session.state()) == []
    assert observed.is_noise(RegistryValue("HKCU", r"Software\Wine\Temporary System Parameters\A", "b"), layer=True)
    assert not observed.is_noise(RegistryValue("HKLM", r"Software\Tidewell", "b"), layer=True)


# --- played on the layer ---------------------------------------------------------------------------------


def carried(packed: Path, machine: Any, folder: Path, account: str, name: str) -> Path:
    """Plays a kit on a machine, as whoever starts it, through every restart; gives where its result is."""
    with zipfile.ZipFile(packed) as kit_file:
        kit_file.extractall(folder / "kit")
    with machine.fresh(account) as session:
        with_scheduler(session, folder)
        session.bring(folder / "kit", r"C:\kit")
        ran = session.run(r'cmd /s /c ""C:\kit\play.cmd" -Yes -Account here"', timeout=900)
        print(ran.output)
        restarts, until = 0, time.monotonic() + 600
        while session.read(rf"C:\kit\{name}") is None and time.monotonic() < until:
            told = session.read(r"C:\Program Files\Yendo proof\progress.txt") or b""
            if told.count(b"starts anew now") > restarts:
                restarts += 1
                session.restart()
            time.sleep(0.5)
        while session.has_folder(r"C:\Program Files\Yendo proof") and time.monotonic() < until:
            time.sleep(0.2)
        assert not session.has_folder(r"C:\Program Files\Yendo proof"), "the kit leaves nothing of its own"
        (folder / name).write_bytes(session.read(rf"C:\kit\{name}") or b"")
    return folder / name


def played(package: Path, machine: Any, folder: Path, scenario: Scenario, site: str = "") -> Any:
    """Makes a kit, plays it there, and reads its result."""
    kit.write(package, folder / "k.zip", scenario, site, idle=1)
    name = kit.result_of(form.read(package), scenario.id, site)
    return kit.read(carried(folder / "k.zip", machine, folder, scenario.account, name), package)


def with_scheduler(session: Any, folder: Path, *, hosted: bool = False) -> None:
    """The stand-in of the task scheduler: the layer's own program says yes to everything, also that a task is there.

    ``hosted``: somebody else starts what it is told to run; else it does, and that may hang on whoever asked.
    """
    there = session.host(r"C:\windows\system32\schtasks.exe")
    there.unlink(missing_ok=True)
    shutil.copy(compiled("schtasks.c", folder / "schtasks.exe"), there)
    session.run(r"reg add HKCU\Software\Wine\DllOverrides /v schtasks.exe /d native /f", timeout=60)
    if hosted:
        session.write(r"C:\scheduler.txt", b"")


@pytest.mark.parametrize(
    ("scenario", "more", "steps"),
    [
        ("twice", "", ""),
        pytest.param("desk", "", "", marks=pytest.mark.thorough),
        pytest.param("system", "", "", marks=pytest.mark.thorough),
        pytest.param("desk", "", RESTART, marks=pytest.mark.thorough),
        pytest.param("desk", "", FAILING, marks=pytest.mark.thorough),
        pytest.param("desk", SECRET, KEYED, marks=pytest.mark.thorough),
        pytest.param("odd-path", "", "", marks=pytest.mark.thorough),
        pytest.param("program-open", OPEN, "", marks=pytest.mark.thorough),
        pytest.param("media-gone", "", REPAIR, marks=pytest.mark.thorough),
        pytest.param("repair", "", REPAIR, marks=pytest.mark.thorough),
        pytest.param("starts", "", "", marks=pytest.mark.thorough),
    ],
    ids=[
        "removed twice",
        "desk",
        "system",
        "a restart in the middle",
        "a step that fails",
        "a secret",
        "odd path",
        "a program open",
        "media gone",
        "repair",
        "starts",
    ],
)
def test_the_same_verdict(tmp_path: Path, shell_wine: Any, scenario: str, more: str, steps: str) -> None:
    """What a kit brought back, and the same package proved on the layer directly: verdict, effects, detection."""
    package = made(tmp_path / "w", more, steps)
    result = played(package, shell_wine, tmp_path, SCENARIOS[scenario])
    assert result.machine.place == "API layer" and "layer" in result.machine.label
    by_kit = prove(package, result.machine, scenario=scenario)
    direct = prove(package, shell_wine, scenario=scenario)
    said = [(phase.id, phase.outcome, phase.found) for phase in by_kit.phases]
    assert said == [(phase.id, phase.outcome, phase.found) for phase in direct.phases]
    if by_kit.comparison and direct.comparison:
        assert by_kit.comparison.matched == direct.comparison.matched
    assert {left.what for left in by_kit.leftovers} == {left.what for left in direct.leftovers}


@pytest.mark.thorough
@pytest.mark.parametrize("steps", ["", RESTART], ids=["", "a restart in the middle"])
def test_as_a_task(tmp_path: Path, shell_wine: Any, steps: str) -> None:
    """As the system account, by a task: the scheduler is a stand-in, and so is what it starts after a restart."""
    package = made(tmp_path / "w", steps=steps)
    kit.write(package, tmp_path / "k.zip", SCENARIOS["system"], idle=0)
    with zipfile.ZipFile(tmp_path / "k.zip") as packed:
        packed.extractall(tmp_path / "kit")
    with shell_wine.fresh("system") as session:
        with_scheduler(session, tmp_path)
        session.bring(tmp_path / "kit", r"C:\kit")
        assert session.run(r'cmd /s /c ""C:\kit\play.cmd" -Yes"', timeout=900).exit_code == 0
        result = rf"C:\kit\{kit.result_of(form.read(package), 'system', '')}"
        if steps:
            assert session.read(result) is None and session.read(r"C:\task.txt")
            restarts, until = 0, time.monotonic() + 300
            while session.read(result) is None and time.monotonic() < until:
                told = session.read(r"C:\Program Files\Yendo proof\progress.txt") or b""
                if told.count(b"starts anew now") > restarts:  # every installation asks for one
                    restarts += 1
                    session.restart()
                    session.run(r'schtasks /run /tn "Yendo\proof"', timeout=60)
                time.sleep(1)
            while session.read(r"C:\task.txt") and time.monotonic() < until:
                time.sleep(0.2)
        assert session.read(r"C:\task.txt") is None, "the task is taken away"
        (tmp_path / "r.gz").write_bytes(session.read(result) or b"")
    proof = prove(package, kit.read(tmp_path / "r.gz", package).machine, scenario="system")
    assert proof.passed, [(phase.title, phase.found, phase.details) for phase in proof.phases]


@pytest.mark.parametrize("name", ["play.ps1", "errands.ps1"])
def test_version_five_reads_it(tmp_path: Path, shell_wine: Any, name: str) -> None:
    """The scripts parse in Windows PowerShell 5.1, and call no cmdlet but two."""
    kit.write(made(tmp_path / "w"), tmp_path / "k.zip", SCENARIOS["system"])
    with zipfile.ZipFile(tmp_path / "k.zip") as packed:
        packed.extractall(tmp_path / "kit")
    (tmp_path / "kit" / "errands.ps1").write_bytes(attended.script())
    text = (tmp_path / "kit" / name).read_text("utf-8-sig")
    own = set(re.findall(r"(?m)^ *function ([\w-]+)", text))
    with shell_wine.fresh() as session:
        session.bring(tmp_path / "kit", r"C:\kit")
        ran = session.run(rf"powershell -Check51 -File C:\kit\{name}", timeout=120)
    lines = [line for line in ran.output.splitlines() if line]
    assert ran.exit_code == 0 and all(line.startswith("calls ") for line in lines), lines[:5]
    called = {line.removeprefix("calls ") for line in lines}
    # parts of the runner that are not used here ask for functions of its other parts
    foreign = {
        "Tell",
        "Invoke-Call",
        "Test-Rule",
        "Test-Range",
        "Get-Record",
        "Get-Digest",
        "Get-BytesDigest",
        "Remove-Empty",
    }
    assert called - own - foreign <= {"ForEach-Object", "Where-Object"}, called - own - foreign


@pytest.mark.thorough
def test_a_computer_that_belongs_to_somebody(tmp_path: Path, shell_wine: Any) -> None:
    package = made(tmp_path / "w")
    kit.write(package, tmp_path / "k.zip", SCENARIOS["desk"], idle=0)
    with zipfile.ZipFile(tmp_path / "k.zip") as packed:
        packed.extractall(tmp_path / "kit")
    key = r"HKLM\System\CurrentControlSet\Services\Tcpip\Parameters"
    with shell_wine.fresh() as session:
        session.bring(tmp_path / "kit", r"C:\kit")
        assert session.run(f'reg add {key} /v "NV Domain" /d marrowby.example /f', timeout=60).exit_code == 0
        ran = session.run(r'cmd /s /c ""C:\kit\play.cmd" -Yes -Account here"', timeout=300)
        assert ran.exit_code == 2 and "it is in the domain marrowby.example" in ran.output
        assert not session.has_folder(r"C:\Program Files\Yendo proof")
        (session.host(r"C:\kit") / "package" / "manifest.json").write_text("{}")
        ran = session.run(r'cmd /s /c ""C:\kit\play.cmd" -Yes -Account here -Although spare"', timeout=300)
        assert ran.exit_code == 2 and "not the one that the kit was made for" in ran.output


# --- what is seen on a screen -----------------------------------------------------------------------------------------

SEEN = r"""
$one = [Diagnostics.Process]::Start('winver.exe')
[DateTime]$end = [DateTime]::UtcNow.AddSeconds(20)
[string]$found = ''
while (($found -eq '') -and ([DateTime]::UtcNow -lt $end)) {
    [Threading.Thread]::Sleep(500)
    foreach ($shown in (Get-Shown)) {
        if ($shown[0] -ne $one.Id) { continue }
        [string]$picture = Get-PackedPicture $shown[3] $shown[4] $shown[5] $shown[6]
        [string[]]$says = Get-ControlTexts $shown[1]
        if (($picture -eq '') -or ($says.Length -lt 3)) { continue }
        $found = 'W' + [char]9 + 'winver.exe' + [char]9 + $shown[2] + [char]9 + '0' + [char]9 + '1' + [char]9 + [string]::Join([char]9, @($shown[3], $shown[4], $shown[5], $shown[6])) + "`n"
        foreach ($text in $says) { $found = $found + 'T' + [char]9 + $text + "`n" }
        $found = $found + 'I' + [char]9 + $picture
    }
}
[Console]::WriteLine($found)
$one.Kill()
"""


@pytest.mark.wine
def test_windows_with_their_words_and_pictures(shell_wine: Any, tmp_path: Path) -> None:
    """The script's part that looks at the screen, on the layer's: a program of the layer itself."""
    import io

    from PIL import Image

    from yendo.machines.watching import watched
    from yendo.machines.wine import layer
    from yendo.machines.wine.machine import WineMachine

    text = scripts.part("people") + scripts.part("shown") + SEEN
    (tmp_path / "seen").mkdir()
    (tmp_path / "seen" / "seen.ps1").write_text(text, "utf-8")
    with layer.screen() as display:
        machine = WineMachine(shell_wine.cache, shell_wine.powershell, screen=display)
        with machine.fresh() as session:
            session.bring(tmp_path / "seen", r"C:\seen")
            done = session.run(r"powershell -NoProfile -ExecutionPolicy Bypass -File C:\seen\seen.ps1", timeout=120)
    lines = [line for line in done.output.replace("\r", "").split("\n") if line[1:2] == "\t"]
    (window,) = watched("winver", ["R\t0\t1\t1\t-\t0", *lines], "the layer").windows
    assert "Wine" in window.title and "OK" in window.texts and window.counts and window.picture
    with Image.open(io.BytesIO(window.picture)) as found:
        assert found.size == window.place[2:4]
        colours = found.convert("RGB").getcolors(1 << 20)
        assert colours and len(colours) > 8  # drawn, not one plain ground


def test_pictures_that_are_none() -> None:
    import base64
    import zlib

    from yendo.machines.watching import picture_of, watched

    def packed(points: bytes) -> str:
        made = zlib.compressobj(9, zlib.DEFLATED, -15)
        return base64.b64encode(made.compress(points) + made.flush()).decode()

    points = bytes([1, 2, 3, 0]) + bytes([9, 8, 7, 0]) * 5
    found = picture_of(packed(points), 3, 2)
    assert found and found.startswith(b"\x89PNG")
    assert picture_of(packed(bytes(24)), 3, 2) is None  # nothing is drawn there
    for text, size in (
        (packed(points), (3, 3)),
        ("!", (3, 2)),
        (packed(points), (0, 2)),
        ("AAAA", (3, 2)),
        (packed(points), (9999, 2)),
    ):
        with pytest.raises(ValueError):
            picture_of(text, *size)
    row = "W\tsetup.exe\tAsks\t0.1\t2\t0\t0\t3\t2"
    with pytest.raises(Unreadable, match="cannot be read"):
        watched("setup", ["R\t0\t1\t1\t-\t0", row, "I\t!"], "a computer")
    (one,) = watched(
        "setup", ["R\t0\t1\t1\t-\t0", row, "T\t&Yes", "T\tReally?", "I\t" + packed(points)], "a computer"
    ).windows
    assert one.texts == ("&Yes", "Really?") and one.picture == found and one.place == (0, 0, 3, 2)
