"""A Windows that an installer believes: what it is asked and knows, what it does not know, and what is certainly not there."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import pytest
from conftest import Yendo
from specimens import Specimen

from yendo.draft import draft
from yendo.formats.msi import Database
from yendo.installers import recognise
from yendo.installers.msi import engine
from yendo.installers.msi.describe import baseline
from yendo.machines.simulated.machine import SimulatedMachine
from yendo.package import build
from yendo.plan import read
from yendo.platforms.windows import systems
from yendo.platforms.windows.surroundings import windows
from yendo.prove.prove import prove

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


def outcome_of(path: Path, release: str = "10-22h2") -> engine.EngineOutcome:
    machine = SimulatedMachine(release)
    with Database(path) as database:
        return engine.run(database, machine.surroundings("user"), machine.baseline("user"))


def launching(path: Path, condition: str) -> Path:
    path.mkdir(exist_ok=True)
    return Specimen("asking").with_file().add("LaunchCondition", (condition, "Not on this Windows.")).ours(path)


def test_a_server_says_that_it_is_one(tmp_path: Path) -> None:
    servers = launching(tmp_path, "Installed OR MsiNTProductType = 3")
    assert outcome_of(servers, "server-2022").done and not outcome_of(servers, "11-24h2").done
    assert outcome_of(launching(tmp_path / "b", "VersionNT = 603 AND WindowsBuild = 9600"), "11-24h2").done


def test_what_hangs_on_the_machine_is_assumed(tmp_path: Path) -> None:
    outcome = outcome_of(launching(tmp_path, "ScreenX >= 1024"))
    assert outcome.done and [spot.what for spot in outcome.blind_spots] == ["assumed: the width of the screen"]
    assert not outcome_of(launching(tmp_path / "b", "TIDEWELL = 1")).done


@pytest.mark.parametrize(
    ("user", "words"), [("Everyone", None), ("Users", "in English"), ("TideService", "no fresh Windows has it")]
)
def test_accounts(tmp_path: Path, user: str, words: str | None) -> None:
    """A group by its English name is not found on a Windows in another language."""
    specimen = Specimen("rights").with_file()
    specimen.add("LockPermissions", ("FProgram", "File", None, user, 0x1F01FF))
    spots = [spot for spot in outcome_of(specimen.ours(tmp_path)).blind_spots if "account" in spot.what]
    assert [words] * len(spots) == [words] if words else not spots
    assert all(words in spot.why for spot in spots if words)


def test_what_every_windows_has(tmp_path: Path) -> None:
    """Its services, fonts and language: what a package stops is told, and what it places there already is no effect."""
    specimen = Specimen("stops").with_file()
    specimen.add("ServiceControl", ("Stop", "Spooler", 2, None, None, "Program"))
    outcome = outcome_of(specimen.ours(tmp_path))
    assert [str(effect) for effect in outcome.effects if "spooler" in str(effect).lower()]
    state = SimulatedMachine().baseline()
    assert state.get("file", r"c:\windows\fonts\arial.ttf") and state.get("service", "eventlog")
    assert state.get("part", "feature:WindowsMediaPlayer")
    assert not SimulatedMachine("server-2022").baseline().get("part", "feature:WindowsMediaPlayer")
    assert state.get("registry", r"HKLM/64\System\CurrentControlSet\Control\Nls\Language!InstallLanguage")


@pytest.mark.parametrize(
    ("manifest", "told"),
    [
        ("", "6.2"),
        ('<supportedOS Id="{35138b9a-5d96-4fbd-8e2d-a2440225f93a}"/>', "6.2"),
        ('<supportedOS Id="{1f676c76-80e1-4239-95bb-83d0f6d0da78}"/>', "6.3"),
        (
            '<supportedOS Id="{1F676C76-80e1-4239-95bb-83d0f6d0da78}"></supportedOS>\n'
            '<supportedOS Id="{8e0f7a12-bfb3-4fe8-b9a5-48fd50a15a9a}"></supportedOS>',
            "10.0",
        ),
    ],
)
def test_who_asks_is_told_by_his_manifest(manifest: str, told: str) -> None:
    assert systems.told_to_programs(manifest) == told


def test_what_was_on_or_stopped_is_so_again(tmp_path: Path) -> None:
    """A feature that was on stays on; a service that ran runs again, one that did not is stopped."""
    steps = [("feature", "WindowsMediaPlayer", "on"), ("feature", "WorkFolders-Client", "off")]
    steps += [("service", "Spooler", "stop"), ("service", "BITS", "start")]
    text = 'mark = true\n[package]\nid = "tide"\nname = "Tide"\nversion = "1"\narchitecture = "x64"\n'
    for kind, name, change in steps:
        text += f'\n[[install]]\nkind = "{kind}"\nname = "{name}"\nchange = "{change}"\n'
    (tmp_path / "plan.toml").write_text(text)
    package = build.build(tmp_path, read(tmp_path / "plan.toml")[0]).folder
    proof = prove(package, SimulatedMachine())
    left = [phase for phase in proof.phases if phase.title == "nothing left behind"]
    assert left and left[0].outcome == "passed"
