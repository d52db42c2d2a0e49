"""A Windows that an installer believes: what it is asked and knows, what it does not know, and what is certainly not there."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import pytest
from conftest import Yendo
from specimens import Specimen

from yendo.draft import draft
from yendo.facts import systems
from yendo.facts.surroundings import windows
from yendo.formats.msi import Database
from yendo.installers import recognise
from yendo.installers.msi import engine
from yendo.installers.msi.describe import baseline
from yendo.machines.simulated.machine import SimulatedMachine

CURRENT = r"Software\Microsoft\Windows NT\CurrentVersion"
NET = r"Software\Microsoft\NET Framework Setup\NDP\v4\Full"


def asking(path: Path, condition: str, *tables: tuple[str, tuple[Any, ...]], name: str = "asking") -> Path:
    """An installer that searches for something, and refuses where a condition does not hold."""
    specimen = Specimen(name).with_file().add("AppSearch", ("FOUND", "S"))
    specimen.add("LaunchCondition", (condition, "Not on this Windows."))
    for table, row in tables:
        specimen.add(table, row)
    path.mkdir(exist_ok=True)
    return specimen.ours(path)


def file(name: str, least: str | None) -> list[tuple[str, tuple[Any, ...]]]:
    return [
        ("DrLocator", ("S", None, "[System64Folder]", 0)),
        ("Signature", ("S", name, least, None, None, None, None, None, None)),
    ]


def value(key: str, name: str, kind: int = 18) -> list[tuple[str, tuple[Any, ...]]]:
    return [("RegLocator", ("S", 2, key, name, kind))]


# What is searched for, the condition, and what right looks like: it goes on, with so many assumptions, or refuses.
SEARCHES: list[tuple[str, list[tuple[str, tuple[Any, ...]]], str, int | None]] = [
    ("a system file of an earlier Windows", file("advapi32.dll", "6.1.7601.0"), "FOUND", 0),
    ("a system file of this base build", file("kernel32.dll", "10.0.17763.0"), "Installed OR FOUND", 0),
    ("a system file of a later build", file("kernel32.dll", "10.0.26100.0"), "FOUND", None),
    ("one that only an update brings", file("msi.dll", "5.0.19041.4000"), "FOUND", 1),
    ("a system file that no data has", file("vendorless.dll", None), "FOUND", 1),
    ("the build", value(CURRENT, "CurrentBuild"), 'FOUND >= "17763"', 0),
    ("the product's name", value(CURRENT, "ProductName"), 'FOUND >< "Windows 10"', 0),
    ("the version, which stays at 6.3", value(CURRENT, "CurrentVersion"), 'FOUND = "6.3"', 0),
    (".NET 4.7.2", value(NET, "Release"), 'FOUND >= "#461808"', 0),
    (".NET of a later release", value(NET, "Release"), 'FOUND >= "#999999"', None),
    (".NET 3.5, which is off", value(NET.replace("v4\\Full", "v3.5"), "Install"), 'FOUND = "#1"', None),
    ("a policy", value(r"Software\Policies\Microsoft\Windows\Installer", "DisableMSI"), 'FOUND = "#0"', 1),
    ("a setting of the system", value(r"System\CurrentControlSet\Control\Session Manager", "Marrowby"), "FOUND", 1),
    ("another vendor's product", value(r"Software\Kettle\Chart", "Path"), "FOUND", None),
    (
        "its entry among the programs",
        value(r"Software\Microsoft\Windows\CurrentVersion\Uninstall\Kettle", "DisplayName"),
        "FOUND",
        None,
    ),
]


# What the layer has otherwise than any Windows.
LAYERS_OWN = {".NET 4.7.2": "it comes without .NET Framework"}


@pytest.mark.parametrize(
    ("tables", "condition", "assumed"), [one[1:] for one in SEARCHES], ids=[one[0] for one in SEARCHES]
)
def test_searches_are_answered_with_three_values(
    tmp_path: Path, tables: list[tuple[str, tuple[Any, ...]]], condition: str, assumed: int | None
) -> None:
    around = windows()
    with Database(asking(tmp_path, condition, *tables)) as database:
        outcome = engine.predict(database, around, baseline(around))
    found = [spot for spot in outcome.blind_spots if spot.what.startswith("assumed: ")]
    assert outcome.done == (assumed is not None), outcome.log
    assert len(found) == (assumed or 0)
    assert all("a real machine has to confirm it" in spot.why for spot in found)


@pytest.mark.wine
def test_the_layer_answers_the_same(tmp_path: Path, wine: Any) -> None:
    """Where the layer has what is searched for, its installer goes on and refuses as ours; what ours assumes is no claim."""
    wrong = []
    with wine.fresh() as session:
        for number, (what, tables, condition, assumed) in enumerate(SEARCHES):
            folder = tmp_path / str(number)
            installer = asking(folder, condition, *tables, name=f"asking-{number}")
            session.bring(folder, rf"C:\from\{number}")
            code = session.run(rf'msiexec /i "C:\from\{number}\{installer.name}" /qn', timeout=120).exit_code
            if assumed != 1 and (code == 0) != (assumed == 0) and what not in LAYERS_OWN:
                wrong.append((what, code))
    assert wrong == []


def test_what_is_unknown_is_no_refusal(tmp_path: Path) -> None:
    """The account goes on: effects, and the assumption among the blind spots."""
    told = recognise.read(asking(tmp_path, "FOUND", *file("msi.dll", "5.0.19041.4000")))
    assert told.refused is None and told.effects
    assert any("msi.dll is there in version 5.0.19041.4000 or later" in spot.what for spot in told.blind_spots)
    refused = recognise.read(asking(tmp_path / "later", "FOUND", *file("msi.dll", "5.0.26100.0")))
    assert refused.refused == "Not on this Windows."


@pytest.mark.parametrize("name", systems.systems())
def test_each_release_is_one(name: str) -> None:
    machine = SimulatedMachine(name)
    with machine.fresh() as session:
        build = session.get_value("HKLM", "64", CURRENT, "CurrentBuild")
        assert build == ("sz", str(systems.system(name).build))
        assert session.get_value("HKLM", "32", CURRENT, "CurrentBuild") == build
        kernel = session.state().get("file", r"C:\Windows\System32\kernel32.dll")
        assert str(getattr(kernel, "version", "")).startswith(f"10.0.{systems.system(name).base}.")
        assert session.facts.windows.startswith(systems.system(name).version)
        # a condition asks the runner, and that reads this value
        assert session.get_value("HKLM", "64", CURRENT, "EditionID") == ("sz", session.facts.edition)


def test_the_same_package_on_another_windows(vendor: Path, yendo: Yendo) -> None:
    yendo("draft", "lantern", vendor / "lantern-6.2.1.msi")
    yendo("build", "lantern")
    said = yendo("prove", "lantern", "--windows", "11-24h2").stdout
    assert "simulated Windows 11 24H2, 64-bit" in said and "Proved" in said
    assert "there are: 10-22h2" in yendo("prove", "lantern", "--windows", "12", expect=2).stderr


@pytest.mark.parametrize(
    ("tables", "condition", "least"),
    [
        (file("kernel32.dll", "10.0.19041.1"), "Installed OR FOUND", 19041),
        (value(CURRENT, "CurrentBuildNumber"), 'FOUND >= "17763" OR Installed', 17763),
        (file("kernel32.dll", "6.1.7601.0"), "FOUND", None),
        (file("vendorless.dll", "10.0.19041.1"), "FOUND", None),
        (file("kernel32.dll", "10.0.19041.1"), "NOT FOUND", None),
        (file("kernel32.dll", "10.0.19041.1"), "FOUND OR VersionNT >= 601", None),
    ],
)
def test_what_the_vendor_asks_nobody_is_asked_for(
    tmp_path: Path, tables: list[tuple[str, tuple[Any, ...]]], condition: str, least: int | None
) -> None:
    installer = asking(tmp_path / "from", condition, *tables)
    assert recognise.read(installer).least_build == least
    drafted = draft.from_installer(tmp_path / "w", installer)
    plan = (tmp_path / "w" / "plan.toml").read_text()
    assert any(one.startswith("when.os: ") for one in drafted.decisions) == (least is None)
    if condition == "NOT FOUND":  # the usual Windows is too new for it: the range says which are not
        assert 'os = ">=10.0.17763, <10.0.19044" # DECIDE: the installer refuses others' in plan
    assert (f'os = ">=10.0.{least}" # the vendor asks for it: AppSearch[FOUND, S]' in plan) == (least is not None)
