"""Other forms of a package: a database made of what was captured, read by others, installed by the layer's installer."""

from __future__ import annotations

import io
import random
import shutil
import subprocess
from pathlib import Path
from typing import Any

import cabarchive
import pytest
from conftest import Yendo, parsed
from hypothesis import given
from hypothesis import strategies as some
from test_capture import ALL, KEY, PROGRAM, caught, value, workspace

from yendo import forms
from yendo.demo.vendor import PROGRAMS
from yendo.effects import File, Service, difference
from yendo.errors import Usage
from yendo.formats import cab
from yendo.formats.cab_writer import BLOCK, CabSource, checksum
from yendo.formats.cab_writer import write as write_cabinet
from yendo.formats.msi import Database
from yendo.forms.database import version_of
from yendo.forms.places import Directories, escaped, file_name
from yendo.installers.msi.validate import validate
from yendo.package import build
from yendo.plan import Plan, read
from yendo.prove.prove import prove
from yendo.prove.scenarios import SCENARIOS

CONTENTS = {
    r"%ProgramData%\Tidewell\sounder.ini": b"[Updates]\r\nAsk=1\r\n",
    r"%ProgramFiles%\Tidewell\Sounder\sounder.exe": (PROGRAMS / "lantern-6.2.1.exe").read_bytes(),
}
SERVICE = Service(
    "TideGauge",
    "Tide gauge",
    r'"C:\Program Files\Tidewell\Sounder\sounder.exe" --watch',
    "demand",
    "LocalSystem",
    ("RpcSs",),
)
OTHERS = tuple(one for one in ALL if not isinstance(one.effect.thing, Service))
LEFT = '\n[[install.leave]]\nthing = "%APPDATA%*"\n'


def office(folder: Path, *more: Any, plan: str = "") -> tuple[Path, Plan]:
    """A workspace of everything that a database holds."""
    workspace(folder, *OTHERS, caught(SERVICE), *more, contents=CONTENTS)
    path = folder / "plan.toml"
    path.write_text(path.read_text("utf-8").replace("\n[[detect]]", LEFT + "\n[[detect]]", 1) + plan, "utf-8")
    return folder, read(path)[0]


# --- the tables -------------------------------------------------------------------------------------------------------


def test_a_sound_database(tmp_path: Path) -> None:
    folder, plan = office(tmp_path / "w")
    built = forms.build(folder, plan)
    with Database(built.main) as database:
        assert [finding for finding in validate(database) if finding.severity == "error"] == []
        assert len(database["Component"]) == len(database["FeatureComponents"]) == 6
        keys = {(row["Key"], row["Name"]): row["Value"] for row in database["Registry"]}
    assert keys[(KEY, "Paths")] == "a[~]b" and keys[(KEY, "Updates")] == "#1" and keys[(KEY, "Colour")] == "blue"
    assert any("next log-on" in note for note in built.notes)
    again = forms.build(folder, plan)
    assert again.digest == built.digest


def test_codes_stay_with_the_next_version(tmp_path: Path) -> None:
    """A component is the same thing in every version; product and package are others, the line is one."""
    folder, plan = office(tmp_path / "w")
    first = forms.build(folder, plan).main.read_bytes()
    path = folder / "plan.toml"
    path.write_text(path.read_text("utf-8").replace('version = "4.1"', 'version = "4.2"', 1), "utf-8")
    second = forms.build(folder, read(path)[0]).main
    (tmp_path / "first.msi").write_bytes(first)
    with Database(tmp_path / "first.msi") as one, Database(second) as two:
        mine, its = ({row["Component"]: row["ComponentId"] for row in base["Component"]} for base in (one, two))
        assert {name: its[name] for name in mine if name in its} == {name: mine[name] for name in mine if name in its}
        assert len(mine.keys() & its.keys()) == len(mine) - 1  # but for what is of this product alone
        known, newer = ({row["Property"]: row["Value"] for row in base["Property"]} for base in (one, two))
        assert known["UpgradeCode"] == newer["UpgradeCode"] and known["ProductCode"] != newer["ProductCode"]
        assert one.summary.revision != two.summary.revision


def test_what_a_database_cannot_hold(tmp_path: Path, yendo: Yendo) -> None:
    folder, plan = office(
        tmp_path / "w", caught(value("Wide", 1 << 40, "qword")), caught(value("One", ("a",), "multi")),
        caught(Service("Other", "Other", r"C:\Windows\System32\svchost.exe -k x", "auto", "LocalSystem", ())),
    )  # fmt: skip
    with pytest.raises(forms.Impossible) as told:
        forms.build(folder, plan)
    assert [thing.rpartition("\\")[2] for thing, _ in told.value.things] == ["One", "Wide", "Other"]
    said = yendo("build", folder, "--as", "msi", expect=2).stderr
    assert "a number of 64 bits has no form in table Registry" in said and "yendo add leave" in said
    assert not (folder / "forms").exists() or not list((folder / "forms").iterdir())


def test_a_plan_of_other_steps(tmp_path: Path) -> None:
    folder, _ = office(tmp_path / "w")
    path = folder / "plan.toml"
    path.write_text(
        path.read_text("utf-8").replace("[[detect]]", '[[install]]\nkind = "sign-out"\n\n[[detect]]', 1), "utf-8"
    )
    with pytest.raises(Usage, match=r"install step 2 \(sign-out\) has no place in a database"):
        forms.build(folder, read(path)[0])


def test_settings_are_properties(tmp_path: Path, yendo: Yendo) -> None:
    """A value is chosen by a property; a site has a transform of its own; a value that must be given is asked for."""
    more = (
        '\n[settings.site]\nmeaning = "where the boat lies"\ndefault = "North [quay]"\n\n[site.kettle]\nsite = "Kettle"\n'
        '\n[settings.licence_key]\nmeaning = "the licence"\nsecret = true\n'
    )
    folder, _ = office(tmp_path / "w", plan=more)
    for thing, to in ((r"HKLM\*\Site", "{setting.site}"), (r"HKLM\*\Paths", "x")):
        yendo("add", "change", "captured", "--into", folder, "--thing", thing, "--to", to)
    yendo(
        "add", "change", "captured", "--into", folder, "--thing", "*.ini [Updates] Ask", "--to", "{setting.licence_key}"
    )
    yendo("add", "leave", "--into", folder, "--thing", r"HKLM\*\Paths")
    path = folder / "plan.toml"
    text = path.read_text("utf-8")
    path.write_text(text.replace("[[install.change]]\nto = \"x\"\nthing = 'HKLM\\*\\Paths'\n", ""), "utf-8")
    built = forms.build(folder, read(path)[0])
    with Database(built.main) as database:
        known = {row["Property"]: row["Value"] for row in database["Property"]}
        values = [row["Value"] for row in database["Registry"] if row["Name"] == "Site"]
        asked = {row["Condition"] for row in database["LaunchCondition"]}
    assert known["SITE"] == "North [quay]" and known["MsiHiddenProperties"] == "LICENCE_KEY" and values == ["[SITE]"]
    assert "SITE" in known["SecureCustomProperties"].split(";") and "Installed OR LICENCE_KEY" in asked
    (site,) = built.sites
    told = yendo("transform", "show", built.folder / site, built.main).stdout
    assert "SITE" in told and "Kettle" in told


@pytest.mark.parametrize(
    ("given", "wanted"),
    [("4.1", "4.1.0"), ("4", "4.0.0"), ("1.2.3.0", "1.2.3000"), ("1.2.3.4", "1.2.3004"), ("2026.11", "26.11.0"), ("1998.2", "98.2.0")],
)  # fmt: skip
def test_versions(given: str, wanted: str) -> None:
    assert version_of(given) == wanted


@pytest.mark.parametrize("text", ["4.1-beta", "1.2.3.4.5", "300.1", "1.300", "1.2.70000", "1.2.65.1", ""])
def test_versions_that_do_not_fit(text: str) -> None:
    with pytest.raises(ValueError, match=r"version|last two fields"):
        version_of(text)


@given(
    some.lists(
        some.tuples(some.integers(0, 255), some.integers(0, 255), some.integers(0, 64), some.integers(0, 999)),
        min_size=2,
    )
)
def test_versions_keep_their_order(versions: list[tuple[int, int, int, int]]) -> None:
    """Four fields everywhere: an upgrade stays one."""
    used = sorted(set(versions))
    mapped = [tuple(map(int, version_of(".".join(map(str, one))).split("."))) for one in used]
    assert mapped == sorted(mapped) and len(set(mapped)) == len(used)


@given(some.text(some.characters(codec="utf-8", exclude_characters="\x00"), max_size=30))
def test_texts_stay_literal(text: str) -> None:
    """As formatted text is read: ``[\\x]`` is x. Without a place of a setting nothing else stands in brackets."""
    import re

    if "{setting." in text:
        return
    assert re.sub(r"\[\\(.)\]", r"\1", escaped(text)) == text


def test_short_names() -> None:
    assert file_name("SOUNDER.EXE") == "SOUNDER.EXE" and file_name("a b.txt").endswith(".TXT|a b.txt")
    short = file_name("depth chart.config").partition("|")[0]
    assert len(short) <= 12 and short == file_name("Depth Chart.config").partition("|")[0]
    places = Directories()
    assert (
        places.of("%ProgramFiles(x86)%") == "ProgramFilesFolder" and places.of(r"%SystemRoot%\Fonts") == "FontsFolder"
    )
    assert places.is_narrow(places.of(r"%ProgramFiles(x86)%\a\b")) and not places.is_narrow(places.of(r"C:\a"))
    with pytest.raises(ValueError, match="no database knows"):
        places.of(r"%Elsewhere%\x")


# --- cabinets -----------------------------------------------------------------------------------------------------------


def sources(folder: Path, *contents: bytes) -> list[CabSource]:
    folder.mkdir(exist_ok=True)
    for number, data in enumerate(contents):
        (folder / str(number)).write_bytes(data)
    return [CabSource(f"F{number}", folder / str(number), len(data)) for number, data in enumerate(contents)]


@given(some.lists(some.binary(max_size=300), max_size=6), some.integers(0, 3))
def test_a_cabinet_is_read_by_others(contents: list[bytes], repeat: int) -> None:
    import tempfile

    with tempfile.TemporaryDirectory() as place:
        files = sources(Path(place) / "f", *(data * (BLOCK // 100) * repeat for data in contents))
        with (Path(place) / "x.cab").open("w+b") as file:
            size = write_cabinet(file, files)
        data = (Path(place) / "x.cab").read_bytes()
        assert len(data) == size
        found = dict(cab.extract(io.BytesIO(data)))
        assert found == {one.name: one.path.read_bytes() for one in files}
        if files:
            theirs = cabarchive.CabArchive(data)
            assert {name: one.buf or b"" for name, one in theirs.items()} == found


def test_a_cabinet_by_7_zip(tmp_path: Path) -> None:
    program = shutil.which("7z")
    if not program:
        pytest.skip("7-Zip is not here: apt-get install p7zip-full")
    chance = random.Random(5)
    files = sources(
        tmp_path / "f", b"", chance.randbytes(BLOCK), chance.randbytes(3 * BLOCK + 1), b"depth 3\r\n" * 90000
    )
    with (tmp_path / "x.cab").open("w+b") as file:
        write_cabinet(file, files)
    told = subprocess.run([program, "t", str(tmp_path / "x.cab")], capture_output=True, text=True, check=False)
    assert told.returncode == 0 and "Everything is Ok" in told.stdout


def test_a_file_that_changes_meanwhile(tmp_path: Path) -> None:
    (one,) = sources(tmp_path / "f", b"abc")
    one.path.write_bytes(b"abcd")
    with (tmp_path / "x.cab").open("w+b") as file, pytest.raises(ValueError, match="has 4 bytes now, and had 3"):
        write_cabinet(file, [one])


@given(some.binary(max_size=200), some.integers(0, 0xFFFFFFFF))
def test_checksums(data: bytes, seed: int) -> None:
    """As the documentation adds them up, word by word."""
    words = [int.from_bytes(data[at : at + 4], "little") for at in range(0, len(data) & ~3, 4)]
    rest = data[len(data) & ~3 :]
    wanted = seed
    for word in words:
        wanted ^= word
    for at, byte in enumerate(rest):
        wanted ^= byte << 8 * (len(rest) - 1 - at)
    assert checksum(data, seed) == wanted


# --- proved ---------------------------------------------------------------------------------------------------------------


def test_proved_like_any_package(tmp_path: Path, yendo: Yendo) -> None:
    folder, _ = office(tmp_path / "w")
    made = parsed(yendo("build", folder, "--as", "msi", "--json"))
    form = Path(made["folder"])
    assert "error" not in yendo("check", form, expect=None).stdout
    yendo("build", form)
    told = yendo("prove", form, expect=None)
    assert told.returncode == 0 and "as it was captured" in told.stdout, told.stdout


@pytest.mark.wine
def test_by_the_layers_installer(tmp_path: Path, shell_wine: Any) -> None:
    """Installed, held against the capture, removed with nothing left; as the system account."""
    folder, plan = office(tmp_path / "w")
    form = forms.build(folder, plan).folder
    package = build.build(form, read(form / "plan.toml")[0]).folder
    proof = prove(package, shell_wine, scenario=SCENARIOS["system"])
    assert proof.passed, [(one.title, one.found, one.details) for one in proof.phases if one.outcome == "failed"]


@pytest.mark.wine
def test_table_by_table(tmp_path: Path, machine: Any) -> None:
    """The layer's own reader sees the rows that were written."""
    folder, plan = office(tmp_path / "w")
    built = forms.build(folder, plan)
    (tmp_path / "vendor").mkdir()
    shutil.copyfile(built.main, tmp_path / "vendor" / "x.msi")
    (tmp_path / "out").mkdir()
    machine.bring(tmp_path / "vendor", r"C:\vendor")
    machine.bring(tmp_path / "out", r"C:\out")
    assert machine.run(r"msidb -e -d C:\vendor\x.msi -f C:\out *", timeout=120).exit_code == 0
    with Database(built.main) as database:
        for table in (
            "File",
            "Component",
            "Directory",
            "Registry",
            "Feature",
            "ServiceInstall",
            "Shortcut",
            "Media",
            "Upgrade",
        ):
            text = (machine.read(rf"C:\out\{table}.idt") or b"").decode("cp1252")
            lines = [line.split("\t") for line in text.replace("\r\n", "\n").split("\n")[3:] if line]
            ours = sorted(
                [["" if cell is None else str(cell) for cell in row.values()] for row in _cells(database, table)]
            )
            assert sorted(lines) == ours, table


def _cells(database: Database, table: str) -> list[dict[str, Any]]:
    return [{name: row[name] for name in (column.name for column in database.schema[table])} for row in database[table]]


@pytest.mark.wine
def test_upgraded_twice(tmp_path: Path, machine: Any) -> None:
    """4.1, 4.2 and 4.3 over one another: one product at a time, files follow, and in the end nothing is left."""
    (tmp_path / "all").mkdir()
    for number in (1, 2, 3):
        folder = tmp_path / f"w{number}"
        things = [*OTHERS, caught(File(rf"C:\Program Files\Tidewell\Sounder\only-{number}.dat"))]
        workspace(folder, *things, contents=CONTENTS)
        path = folder / "plan.toml"
        text = path.read_text("utf-8").replace('version = "4.1"', f'version = "4.{number}"', 1)
        path.write_text(text.replace("\n[[detect]]", LEFT + "\n[[detect]]", 1), "utf-8")
        shutil.copyfile(forms.build(folder, read(path)[0]).main, tmp_path / "all" / f"{number}.msi")
    machine.bring(tmp_path / "all", r"C:\all")
    before = machine.state()
    for number in (1, 2, 3):
        assert machine.run(rf"msiexec /i C:\all\{number}.msi /qn", timeout=300).exit_code == 0
        state = machine.state()
        assert [thing.version for thing in state.of("product")] == [f"4.{number}.0"]
        found = [name for name in machine.files_below(r"C:\Program Files\Tidewell\Sounder") if "only-" in name]
        assert [name[-5] for name in found] == [str(number)]
    assert machine.run(r"msiexec /i C:\all\2.msi /qn", timeout=300).exit_code != 0  # an older one is refused
    assert machine.run(r"msiexec /x C:\all\3.msi /qn", timeout=300).exit_code == 0
    left = [str(effect) for effect in difference(before, machine.state()) if "tidewell" in effect.thing.identity]
    assert left == []


@pytest.mark.wine
def test_a_damaged_file_is_mended(tmp_path: Path, machine: Any) -> None:
    folder, plan = office(tmp_path / "w")
    (tmp_path / "all").mkdir()
    shutil.copyfile(forms.build(folder, plan).main, tmp_path / "all" / "x.msi")
    machine.bring(tmp_path / "all", r"C:\all")
    assert machine.run(r"msiexec /i C:\all\x.msi /qn", timeout=300).exit_code == 0
    good = machine.digest(PROGRAM)
    machine.remove(PROGRAM)
    (product,) = machine.state().of("product")
    line = (
        f"msiexec /i {product.code} REINSTALL=ALL REINSTALLMODE=omus /qn"  # what /f stands for: the layer's ends with 1
    )
    assert machine.run(line, timeout=300).exit_code == 0
    assert machine.digest(PROGRAM) == good
