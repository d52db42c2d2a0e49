"""File types and COM servers of a database: in tables of their own where those say exactly what was captured."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import pytest
from conftest import Yendo, parsed
from test_capture import caught
from test_forms import office
from test_steps import run

from yendo import forms
from yendo.effects import File, RegistryValue
from yendo.formats.msi import Database
from yendo.installers.msi.validate import validate
from yendo.machines.simulated.machine import SimulatedMachine
from yendo.package import build
from yendo.plan import read
from yendo.prove.prove import prove
from yendo.prove.scenarios import SCENARIOS

_PLACE = r"C:\Program Files\Tidewell\Sounder"
_CODE = "{6D0A2C11-3B5E-4F77-9A20-0C4E5D1B7A11}"


def of_classes(key: str, data: str, name: str = "", view: str = "64") -> Any:
    return caught(RegistryValue("HKLM", f"Software\\Classes\\{key}", name, "sz", data, view))


def types_and_servers() -> list[Any]:
    server = f"CLSID\\{_CODE}"
    return [
        of_classes(".tide", "Tidewell.Sounding"),
        of_classes(".tide", "application/x-tidewell", "Content Type"),
        of_classes(r"MIME\Database\Content Type\application/x-tidewell", ".tide", "Extension"),
        of_classes("Tidewell.Sounding", "Sounding [raw]"),
        of_classes(r"Tidewell.Sounding\DefaultIcon", rf"{_PLACE}\sounder.exe,0"),
        of_classes(r"Tidewell.Sounding\shell", "open"),
        of_classes(r"Tidewell.Sounding\shell\open\command", rf'"{_PLACE}\sounder.exe" "%1"'),
        of_classes(r"Tidewell.Sounding\shell\print", "&Print it"),
        of_classes(r"Tidewell.Sounding\shell\print\command", rf'"{_PLACE}\sounder.exe" /p "%1"'),
        of_classes(r"Tidewell.Sounding\shell\edit\command", r'"C:\Windows\notepad.exe" "%1"'),
        of_classes(server, "Sounding list"),
        of_classes(rf"{server}\InprocServer32", rf"{_PLACE}\sounder.dll"),
        of_classes(rf"{server}\InprocServer32", "Apartment", "ThreadingModel"),
        of_classes(rf"{server}\ProgID", "Tidewell.List.4"),
        of_classes(rf"{server}\VersionIndependentProgID", "Tidewell.List"),
        of_classes("Tidewell.List.4", "Sounding list"),
        of_classes(r"Tidewell.List.4\CLSID", _CODE),
        of_classes("Tidewell.List", "Sounding list"),
        of_classes(r"Tidewell.List\CLSID", _CODE),
        of_classes(r"Tidewell.List\CurVer", "Tidewell.List.4"),
        caught(File(rf"{_PLACE}\sounder.dll", 4, "")),
    ]


def test_types_and_servers_have_their_tables(tmp_path: Path) -> None:
    folder, plan = office(tmp_path / "w", *types_and_servers())
    built = forms.build(folder, plan)
    with Database(built.main) as database:
        assert [finding for finding in validate(database) if finding.severity == "error"] == []
        verbs = {(row["Verb"], row["Sequence"], row["Command"], row["Argument"]) for row in database["Verb"]}
        assert verbs == {("open", 1, None, '"%1"'), ("print", None, "&Print it", '/p "%1"')}
        assert [(row["CLSID"], row["ProgId_Default"]) for row in database["Class"]] == [(_CODE, "Tidewell.List.4")]
        assert {row["ProgId"]: row["ProgId_Parent"] for row in database["ProgId"]} == {
            "Tidewell.Sounding": None, "Tidewell.List.4": None, "Tidewell.List": "Tidewell.List.4",
        }  # fmt: skip
        kept = {
            (row["Key"].rpartition("\\")[2], row["Name"]) for row in database["Registry"] if "Classes" in row["Key"]
        }
    # what the tables do not say stays a value
    assert kept == {("DefaultIcon", None), ("command", None), ("InprocServer32", "ThreadingModel")}
    package = build.build(built.folder, read(built.folder / "plan.toml")[0]).folder
    proof = prove(package, SimulatedMachine(), scenario=SCENARIOS["system"])
    assert proof.passed, [(one.title, one.found, one.details) for one in proof.phases if one.outcome == "failed"]


@pytest.mark.parametrize(
    "other",
    [
        of_classes(r"Tidewell.Sounding\shell\open", "x", "Extended"),  # more than a verb's row says
        of_classes(rf"CLSID\{_CODE}", "Sounding list", view="32"),
    ],
)
def test_what_a_table_would_not_make_stays_a_value(tmp_path: Path, other: Any) -> None:
    folder, plan = office(tmp_path / "w", *types_and_servers(), other)
    built = forms.build(folder, plan)
    with Database(built.main) as database:
        values = {(row["Key"], row["Name"]) for row in database["Registry"]}
    thing = other.effect.thing
    assert (thing.key, thing.name or None) in values


@pytest.mark.wine
def test_types_and_servers_by_the_layers_installer(tmp_path: Path, shell_wine: Any) -> None:
    """Held against the capture on the layer: every value is there, and none is left. Its shortcut is advertised, and
    the table of rights, which the layer passes over, does no harm.
    """
    folder, _ = office(tmp_path / "w", *types_and_servers())
    path = with_rights(folder, r"%ProgramFiles%\Tidewell\Sounder")
    built = forms.build(folder, read(path)[0], reach="shortcut")
    package = build.build(built.folder, read(built.folder / "plan.toml")[0]).folder
    proof = prove(package, shell_wine, scenario=SCENARIOS["system"])
    assert proof.passed, [(one.title, one.found, one.details) for one in proof.phases if one.outcome == "failed"]


# --- settings of people's own -----------------------------------------------------------------------------------------


@pytest.mark.parametrize(("reach", "when"), [("log-on", "at log-on"), ("shortcut", "at the first start")])
def test_people_s_own_reach_whoever_comes_later(tmp_path: Path, yendo: Yendo, reach: str, when: str) -> None:
    folder, _ = office(tmp_path / "w")
    made = parsed(yendo("build", folder, "--as", "msi", "--reach", reach, "--json"))
    assert any(("next log-on" in note) == (reach == "log-on") for note in made["notes"] if "people's own" in note)
    with Database(Path(made["main"])) as database:
        assert [finding for finding in validate(database) if finding.severity == "error"] == []
        targets = {row["Target"] for row in database["Shortcut"]}
        assert (targets == {"Complete"}) == (reach == "shortcut")
        stubs = [row for row in database["Registry"] if row["Name"] == "StubPath"]
        assert bool(stubs) == (reach == "log-on")
    package = build.build(Path(made["folder"]), read(Path(made["folder"]) / "plan.toml")[0]).folder
    proof = prove(package, SimulatedMachine(), scenario=SCENARIOS["later-person"])
    found = next(phase for phase in proof.phases if phase.title.startswith("somebody new"))
    assert proof.passed and found.found.endswith(when), found


def test_reach_needs_a_shortcut(tmp_path: Path, yendo: Yendo) -> None:
    folder, _ = office(tmp_path / "w", plan="")
    path = folder / "plan.toml"
    leave = '\n[[install.leave]]\nkind = "shortcut"\n'
    path.write_text(path.read_text("utf-8").replace("\n[[detect]]", leave + "\n[[detect]]", 1), "utf-8")
    said = yendo("build", folder, "--as", "msi", "--reach", "shortcut", expect=2).stderr
    assert "keeps no shortcut" in said and "--reach log-on" in said
    assert "--reach belongs to --as msi" in yendo("build", folder, "--reach", "shortcut", expect=2).stderr


# --- rights -----------------------------------------------------------------------------------------------------------

RIGHTS = """
[[install]]
kind = "rights"
on = '{on}'
may = "change"
{more}
"""


def with_rights(folder: Path, on: str, more: str = "") -> Path:
    path = folder / "plan.toml"
    text = RIGHTS.format(on=on, more=more) + "\n[[detect]]"
    path.write_text(path.read_text("utf-8").replace("\n[[detect]]", text, 1), "utf-8")
    return path


def test_rights_are_given_and_taken_back(tmp_path: Path) -> None:
    folder, _ = office(tmp_path / "w")
    path = with_rights(folder, r"%ProgramFiles%\Tidewell\Sounder")
    package = build.build(folder, read(path)[0]).folder
    with SimulatedMachine().fresh() as machine:
        assert run(machine, package, "install").exit_code == 0
        given = [(thing.target, thing.who, thing.rights) for thing in machine.state().of("access-rights")]
        assert given == [(r"C:\Program Files\Tidewell\Sounder", "S-1-5-32-545", "(OI)(CI)(M)")]
        assert run(machine, package, "uninstall").exit_code == 0
        assert list(machine.state().of("access-rights")) == []


def test_rights_have_a_table(tmp_path: Path) -> None:
    folder, _ = office(tmp_path / "w")
    with_rights(folder, r"C:\Program Files\Tidewell\Sounder")
    path = with_rights(folder, r"%ProgramData%\Tidewell\sounder.ini", "file = true")
    built = forms.build(folder, read(path)[0])
    with Database(built.main) as database:
        assert [finding for finding in validate(database) if finding.severity == "error"] == []
        rows = {row["Table"]: row["SDDLText"] for row in database["MsiLockPermissionsEx"]}
    system = "(A;{0};FA;;;SY)(A;{0};FA;;;BA)(A;{0};0x1200a9;;;BU)(A;{0};0x1301bf;;;S-1-5-32-545)"
    assert rows == {"CreateFolder": "D:PAI" + system.format("OICI"), "File": "D:PAI" + system.format("")}
    package = build.build(built.folder, read(built.folder / "plan.toml")[0]).folder
    assert prove(package, SimulatedMachine(), scenario=SCENARIOS["system"]).passed


@pytest.mark.parametrize("on", [r"%ProgramFiles%\Tidewell\Elsewhere", r"%ProgramFiles%", "%ProgramData%"])
def test_rights_on_what_is_not_the_database_s(tmp_path: Path, on: str) -> None:
    folder, _ = office(tmp_path / "w")
    path = with_rights(folder, on)
    with pytest.raises(forms.Impossible, match="it is no folder that the database brings"):
        forms.build(folder, read(path)[0])


def test_rights_that_are_too_much(tmp_path: Path, yendo: Yendo) -> None:
    folder, _ = office(tmp_path / "w")
    with_rights(folder, r"C:\Program Files")
    said = " ".join(yendo("check", folder, expect=None).stdout.split())
    assert "is not the package's own" in said and "name a folder below" in said
