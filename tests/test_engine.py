"""The interpreter: what carrying out a database does, rule by rule."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import pytest
from specimens import Specimen, all_of_them

from yendo.demo.vendor import lantern
from yendo.effects import Effect, File, State, agreement, difference
from yendo.effects.things import Environment, Folder, RegistryValue, label, same
from yendo.errors import Unreadable
from yendo.formats.msi import Database
from yendo.installers.msi import engine
from yendo.machines.simulated.machine import fresh_state
from yendo.platforms.windows.surroundings import windows


class Rig:
    """A machine's state and memory, on which databases are carried out."""

    def __init__(self, folder: Path, account: str = "user") -> None:
        self.folder, self.around = folder, windows(account)  # type: ignore[arg-type]
        self.state = fresh_state(self.around)
        self.memories: dict[str, Any] = {}
        self.paths: dict[str, Path] = {}

    def run(self, source: Specimen | Path, **given: str) -> engine.EngineOutcome:
        path = source if isinstance(source, Path) else source.ours(self.folder)
        with Database(path) as database:
            outcome = engine.run(
                database,
                self.around,
                self.state,
                given,
                memories=self.memories,
                package=rf"C:\{path.name}",
                open_package=lambda memory: Database(self.paths[memory.code]),
            )
        if outcome.exit_code in (0, 3010, 1641):
            for code in outcome.removed:
                self.memories.pop(code, None)
            if outcome.memory:
                self.memories[outcome.memory.code] = outcome.memory
                self.paths[outcome.memory.code] = path
            elif given.get("REMOVE"):
                self.memories.clear()
        return outcome

    def has(self, kind: str, identity: str) -> bool:
        return self.state.get(kind, identity) is not None


@pytest.fixture
def rig(tmp_path: Path) -> Rig:
    return Rig(tmp_path)


def names(outcome: engine.EngineOutcome, kind: str = "file") -> list[str]:
    return sorted(
        label(effect.thing).rpartition("\\")[2]
        for effect in outcome.effects
        if effect.kind == kind and effect.change == "add"
    )


STAYS = {
    "permanent": ["kept.txt", "Specimen permanent", "Kept"],  # attribute 16: never removed
    "move-file": ["copied.ini", "regedit.exe", "Specimen move-file", "moved"],  # what MoveFiles has copied stays
}


@pytest.mark.parametrize("name", sorted(all_of_them().keys() - {"refused"}))
def test_uninstall_undoes_the_install(rig: Rig, name: str) -> None:
    """Every specimen leaves the machine as it was, but for what the documentation says stays."""
    specimen = all_of_them()[name]
    before = rig.state.copy()
    assert rig.run(specimen, **specimen.given).exit_code == 0
    assert len(difference(before, rig.state)) > 3
    assert rig.run(specimen, REMOVE="ALL").exit_code == 0
    assert [label(effect.thing).rpartition("\\")[2] for effect in difference(before, rig.state)] == STAYS.get(name, [])


@pytest.mark.parametrize(
    ("given", "files"),
    [
        ({}, ["program.txt"]),
        ({"ADDLOCAL": "ALL"}, ["extra.txt", "follows.txt", "program.txt"]),
        ({"ADDLOCAL": "Extra"}, ["extra.txt", "follows.txt", "program.txt"]),
        ({"INSTALLLEVEL": "200"}, ["extra.txt", "follows.txt", "program.txt"]),
        ({"INSTALLLEVEL": "200", "REMOVE": "Extra"}, ["program.txt"]),
        ({"ADDLOCAL": "Main"}, ["program.txt"]),
        ({"ADDLOCAL": "Never"}, []),
    ],
)
def test_features(rig: Rig, given: dict[str, str], files: list[str]) -> None:
    assert names(rig.run(all_of_them()["features"], **given)) == files


def test_a_feature_added_later_and_taken_out_again(rig: Rig) -> None:
    specimen = all_of_them()["features"]
    rig.run(specimen)
    assert names(rig.run(specimen, ADDLOCAL="Extra")) == ["extra.txt", "follows.txt"]
    taken = rig.run(specimen, REMOVE="Extra")
    assert sorted(
        effect.thing.identity.rpartition("\\")[2] for effect in taken.effects if effect.change == "remove"
    ) == ["extra.txt", "follows.txt"]


@pytest.mark.parametrize(
    ("given", "files"),
    [
        ({}, ["program.txt"]),
        ({"MODE": "quiet"}, ["program.txt", "quiet.txt"]),
        ({"MODE": "loud"}, ["loud.txt", "program.txt"]),
    ],
)
def test_component_conditions(rig: Rig, given: dict[str, str], files: list[str]) -> None:
    assert names(rig.run(all_of_them()["conditions"], **given)) == files


def test_registry_values_of_every_kind(rig: Rig) -> None:
    rig.run(all_of_them()["registry-kinds"])
    found = {
        thing.name: (thing.type, thing.data)
        for thing in rig.state.of("registry")
        if isinstance(thing, RegistryValue) and thing.key.endswith("Kinds")
    }
    assert found == {
        "Text": ("sz", "plain"),
        "Number": ("dword", 4711),
        "Expand": ("expand", "%TEMP%\\x"),
        "Binary": ("binary", "0a0b0c"),
        "Hash": ("sz", "#5"),
        "": ("sz", "unnamed"),
        "Multi": ("multi", ("one", "two", "three")),
        "Folder": ("sz", "C:\\Program Files\\Specimen registry-kinds\\"),
    } | {"Expand": found["Expand"]}
    assert rig.has("registry", r"HKLM/64\Software\Tidewell\Kinds\Either!Root") and rig.has(
        "registry", r"HKLM/64\Software\Classes\.sounding!"
    )


def test_a_narrow_package_goes_to_the_narrow_half(rig: Rig) -> None:
    rig.run(all_of_them()["narrow"])
    assert rig.has("registry", r"HKLM/32\Software\Tidewell\Narrow!Width") and not rig.has(
        "registry", r"HKLM/64\Software\Tidewell\Narrow!Width"
    )
    assert rig.has("file", r"C:\Program Files (x86)\Specimen narrow\program.txt")
    assert any(thing.view == "32" for thing in rig.state.of("uninstall-entry"))  # type: ignore[union-attr]


def test_for_everyone_and_for_one(rig: Rig, tmp_path: Path) -> None:
    rig.run(all_of_them()["shortcuts"])
    assert rig.has("shortcut", r"C:\ProgramData\Microsoft\Windows\Start Menu\Programs\Soundings\Take soundings.lnk")
    other = Rig(tmp_path)
    other.run(all_of_them()["shortcuts"], ALLUSERS="")
    assert other.has(
        "shortcut", r"C:\Users\mara\AppData\Roaming\Microsoft\Windows\Start Menu\Programs\Soundings\Take soundings.lnk"
    )
    assert any(thing.hive == "HKCU" for thing in other.state.of("uninstall-entry"))  # type: ignore[union-attr]


def test_the_system_account_has_its_own_profile(tmp_path: Path) -> None:
    rig = Rig(tmp_path, "system")
    rig.run(all_of_them()["shortcuts"], ALLUSERS="")
    assert rig.has("shortcut", r"C:\Windows\System32\config\systemprofile\Desktop\Soundings.lnk")


def test_a_property_moves_a_folder(rig: Rig) -> None:
    rig.run(all_of_them()["one-file"], INSTALLDIR=r"C:\Tide")
    assert rig.has("file", r"C:\Tide\program.txt")


@pytest.mark.parametrize(
    ("value", "expected"),
    [
        ("plain", "plain"),
        ("[ProductName]", "Specimen format"),
        ("[UNSET]", ""),
        ("{[UNSET] gone}", ""),
        ("{[ProductName] stays}", "Specimen format stays"),
        ("[%SystemDrive]", "C:"),
        ("[#FProgram]", r"C:\Program Files\Specimen format\program.txt"),
        ("[$Program]", "C:\\Program Files\\Specimen format\\"),
        (r"[\[]x[\]]", "[x]"),
        ("{no reference}", "{no reference}"),
        ("[[POINTER]]", "Specimen format"),
    ],
)
def test_formatted_text(rig: Rig, value: str, expected: str) -> None:
    specimen = Specimen("format").with_file()
    specimen.add("Registry", ("R", 2, "Software\\T", "V", value, "Program")).add("Property", ("POINTER", "ProductName"))
    rig.run(specimen)
    found = rig.state.get("registry", r"HKLM/64\Software\T!V")
    assert isinstance(found, RegistryValue) and found.data == expected


@pytest.mark.parametrize(
    ("existing", "value", "expected"),
    [
        (None, "[~];C:\\Tide", "C:\\Tide"),
        ("C:\\A", "[~];C:\\Tide", "C:\\A;C:\\Tide"),
        ("C:\\A", "C:\\Tide;[~]", "C:\\Tide;C:\\A"),
        ("C:\\A;c:\\tide", "[~];C:\\Tide", "C:\\A;c:\\tide"),
        ("C:\\A", "C:\\Tide", "C:\\Tide"),
    ],
)
def test_environment_is_joined_and_taken_apart(rig: Rig, existing: str | None, value: str, expected: str) -> None:
    specimen = Specimen("path").with_file().add("Environment", ("E", "=-*TIDEPATH", value, "Program"))
    if existing:
        rig.state.add(Environment("TIDEPATH", existing))
    rig.run(specimen)
    found = rig.state.get("environment", "machine:TIDEPATH")
    assert isinstance(found, Environment) and found.value == expected
    rig.run(specimen, REMOVE="ALL")
    left = rig.state.get("environment", "machine:TIDEPATH")
    assert (left.value if isinstance(left, Environment) else None) in (
        {"C:\\A"} if existing and "[~]" in value else {None}
    )


def test_an_older_file_is_replaced_and_a_newer_one_stays(rig: Rig) -> None:
    specimen = Specimen("versions").component("P", key="F").file("P", "F", "a.exe", b"new", "2.0.0.0")
    path = r"C:\Program Files\Specimen versions\a.exe"
    for there, expected in (("1.9.0.0", "2.0.0.0"), ("2.0.0.0", "2.0.0.0"), ("3.0.0.0", "3.0.0.0")):
        state = Rig(rig.folder)
        state.state.add(File(path, 1, None, there))
        state.run(specimen)
        found = state.state.get("file", path)
        assert isinstance(found, File) and found.version == expected


def test_what_belongs_to_others_stays(rig: Rig) -> None:
    """A component shared by two products goes with the last; a permanent one, a folder that is not empty and a foreign file stay."""
    from yendo.demo.vendor import guid

    one, two = Specimen("share-one"), Specimen("share-two")
    for specimen in (one, two):
        specimen.add(
            "Directory", ("CommonAppDataFolder", "TARGETDIR", "."), ("SHARED", "CommonAppDataFolder", "Shared")
        )
        specimen.add("Component", ("Both", guid("shared"), "SHARED", 256, None, "FBoth")).add(
            "FeatureComponents", ("Main", "Both")
        ).file("Both", "FBoth", "both.txt")
    one.component("Stays", key="FStays", more=16).file("Stays", "FStays", "stays.txt")
    rig.run(one), rig.run(two)
    one_path = one.ours(rig.folder)
    with Database(one_path) as database:
        outcome = engine.run(database, rig.around, rig.state, {"REMOVE": "ALL"}, memories=rig.memories)
    assert rig.has("file", r"C:\ProgramData\Shared\both.txt") and rig.has(
        "file", r"C:\Program Files\Specimen share-one\stays.txt"
    )
    assert rig.has("folder", r"C:\Program Files\Specimen share-one") and outcome.exit_code == 0


def test_launch_condition_refuses_and_changes_nothing(rig: Rig) -> None:
    specimen = Specimen("refuses").with_file().add("LaunchCondition", ("VersionNT < 500", "Too new: [ProductName]."))
    before = rig.state.copy()
    outcome = rig.run(specimen)
    assert outcome.exit_code == 1603 and "Too new: Specimen refuses." in "\n".join(outcome.log)
    assert not difference(before, rig.state) and "Return value 3" in outcome.log[-1]


def test_an_error_action_rolls_back(rig: Rig) -> None:
    specimen = Specimen("rolls-back").with_file()
    specimen.add("CustomAction", ("Stop", 19, None, "No further")).add("InstallExecuteSequence", ("Stop", None, 6500))
    before = rig.state.copy()
    outcome = rig.run(specimen)
    assert outcome.exit_code == 1603 and not outcome.effects and not difference(before, rig.state)


@pytest.mark.parametrize(("given", "code"), [({}, 1641), ({"REBOOT": "ReallySuppress"}, 3010)])
def test_restarts(rig: Rig, given: dict[str, str], code: int) -> None:
    assert (
        rig.run(
            Specimen("restarts").with_file().add("InstallExecuteSequence", ("ScheduleReboot", None, 6590)), **given
        ).exit_code
        == code
    )


def test_upgrade_removes_the_older_one(rig: Rig) -> None:
    old, new = lantern(rig.folder, "6.1.0"), lantern(rig.folder)
    rig.run(old)
    before = rig.state.copy()
    outcome = rig.run(new)
    assert outcome.exit_code == 0 and len(outcome.removed) == 1
    assert [thing.version for thing in rig.state.of("product")] == ["6.2.1"]  # type: ignore[union-attr]
    found = rig.state.get("file", r"C:\Program Files\Tidewell\Lantern\lantern.exe")
    assert isinstance(found, File) and found.version == "6.2.1.0" and len(before) > 0
    refused = rig.run(old)
    assert refused.exit_code == 1603 and "newer Lantern" in "\n".join(refused.log)


def test_custom_actions_are_named_with_their_time(rig: Rig) -> None:
    specimen = Specimen("customs").with_file()
    kinds = {"Dll": 1, "Exe": 2 | 0x400, "Script": 38 | 0x500, "Commit": 37 | 0x600 | 0x800}
    specimen.add("CustomAction", *((name, kind, "x", "y") for name, kind in kinds.items()))
    specimen.add(
        "InstallExecuteSequence", *((name, None, 5900 + at) for at, name in enumerate(kinds)), ("Unheard", None, 5990)
    )
    said = {spot.what: spot.why for spot in rig.run(specimen).blind_spots}
    assert (
        "immediately" in said["custom action Dll: library in the database"]
        and "deferred, as the user" in said["custom action Exe: program in the database"]
    )
    assert (
        "on rollback" in said["custom action Script: VBScript text"]
        and "on commit, as the system account" in said["custom action Commit: JScript text"]
    )
    assert "action Unheard" in said


@pytest.mark.parametrize(
    ("line", "said"),
    [
        (r'"[INSTALLDIR]program.txt" /register', "(a program that it installs)"),
        (r'"[SystemFolder]pnputil.exe" -i -a "[INSTALLDIR]gauge.inf"', "(adds or removes a driver)"),
        ("netsh advfirewall firewall add rule name=Tide", "(changes the firewall)"),
        ('cmd.exe /c "sc create Tide binPath= C:\\t.exe"', "(changes a service)"),
        (r'cmd.exe /c ""[INSTALLDIR]program.txt" /register"', "(a program that it installs)"),
        ("cmd.exe /c dir /b", "(runs a command of the shell)"),
        (r'cmd.exe /c "[SystemFolder]sc.exe" create Tide', "(changes a service)"),
        (r'cmd.exe /c "reg add HKLM\Software\Tide /v "A B""', "(changes the registry)"),
        ("netsh interface show", "netsh interface show;"),
        ("[SystemFolder]notepad.exe /p", "notepad.exe /p;"),
        ("join.exe /password [DBPASSWORD] /x", "/password **** /x"),
        ("join.exe [DBPASSWORD] /x", "join.exe **** /x"),
    ],
)
@pytest.mark.parametrize("way", ["library, later", "library, at once", "program, later"])
def test_a_custom_action_is_told_by_its_own_data(rig: Rig, line: str, said: str, way: str) -> None:
    """The data of a deferred action stand in a property of its name; an entry that runs its data is that command."""
    specimen = Specimen("data", properties={"DBPASSWORD": "tide!7"}).with_file()
    deferred = 0x400 if way.endswith("later") else 0
    source, target = ("AnyLibrary", "AQuietExec64") if way.startswith("library") else ("SHELL", "[CustomActionData]")
    kind = (1 if way.startswith("library") else 50) | deferred
    name = "AQuietExec64CmdLine" if not deferred else "Run"
    specimen.add("CustomAction", ("SetRun", 51, name, line), ("Run", kind, source, target))
    specimen.add("Property", ("SHELL", "C:\\launch.exe"))
    specimen.add("InstallExecuteSequence", ("SetRun", None, 1490), ("Run", None, 4500))
    outcome = rig.run(specimen, **specimen.given)
    why = next(spot.why for spot in outcome.blind_spots if spot.what.startswith("custom action Run"))
    assert "tide!7" not in str(outcome.blind_spots)
    if way.startswith("library"):
        assert said in why, why
    else:
        assert r'"C:\launch.exe" ' in why and line.split()[-1].strip('"').rpartition("]")[2] in why, why


def test_tables_that_are_not_interpreted_are_blind_spots(rig: Rig) -> None:
    from yendo.formats.msi import DatabaseWriter
    from yendo.formats.msi.schema import columns

    writer = DatabaseWriter()
    writer.table("InstallExecuteSequence", columns("InstallExecuteSequence"), [("CostFinalize", None, 1000)])
    writer.table("Complus", ["Component_! s72", "ExpType I2"], [("c", 1)])
    path = rig.folder / "complus.msi"
    with path.open("wb") as file:
        writer.write(file)
    assert [(spot.what, spot.evidence.where) for spot in rig.run(path).blind_spots] == [
        ("COM+ applications", "Complus")
    ]


def hostile(name: str) -> Specimen:
    specimen = Specimen(name).with_file()
    match name:
        case "directory-loop":
            specimen.add("Directory", ("A", "B", "a"), ("B", "A", "b")).component("Loop", folder="A")
        case "feature-loop":
            specimen.add("Feature", ("X", "Y", "x", None, 1, 1, None, 0), ("Y", "X", "y", None, 1, 1, None, 0))
        case "file-without-component":
            specimen.add("File", ("Orphan", "Program", "x", 1, None, None, 512, 9)).add(
                "FeatureComponents", ("Main", "Nowhere")
            )
        case "bad-condition":
            specimen.component("Odd", condition="((( AND")
        case "no-sequence":
            specimen.tables["InstallExecuteSequence"] = []
    return specimen


@pytest.mark.parametrize(
    ("name", "code"),
    [
        ("directory-loop", 1603),
        ("feature-loop", 1603),
        ("file-without-component", 0),
        ("bad-condition", 0),
        ("no-sequence", 1603),
    ],
)
def test_hostile_tables_end(rig: Rig, name: str, code: int) -> None:
    assert rig.run(hostile(name)).exit_code == code


@pytest.mark.parametrize("name", ["..", "a\\b", "a/b", "C:x", "x\x07y"])
def test_hostile_names_are_refused(rig: Rig, name: str) -> None:
    with pytest.raises(Unreadable, match="not a name"):
        rig.run(Specimen("names").component("P", key="F").file("P", "F", f"S|{name}"))


def test_deep_references_end(rig: Rig) -> None:
    specimen = Specimen("explodes").with_file()
    specimen.add("Property", ("A0", "xxxxxxxxxx"), *((f"A{at}", f"[A{at - 1}]" * 10) for at in range(1, 12)))
    specimen.add("CustomAction", *((f"S{at}", 51, f"A{at}", f"[A{at - 1}]" * 10) for at in range(1, 12)))
    specimen.add("InstallExecuteSequence", *((f"S{at}", None, at) for at in range(1, 12)))
    assert rig.run(specimen).exit_code == 0


# --- effects and states ---------------------------------------------------------------------------------


def test_states_know_what_is_empty() -> None:
    state = State([Folder("C:\\a"), Folder("C:\\a\\b")])
    assert not state.is_empty("C:\\a") and state.is_empty("C:\\A\\B")
    state.add(File("C:\\a\\b\\f"))
    state.add(File("C:\\A\\B\\F", 5))
    assert not state.is_empty("C:\\a\\b")
    state.remove("file", "C:\\A\\b\\f")
    assert state.is_empty("C:\\a\\b") and len(state) == 2


def test_unknown_fields_are_not_compared() -> None:
    assert same(File("C:\\A", 5, None, None), File("c:\\a", 5, "ff", "1.0"))
    assert not same(File("C:\\A", 5), File("C:\\A", 6)) and not same(File("C:\\A"), Folder("C:\\A"))


def test_agreement_counts_wrong_details_against_both() -> None:
    guess = [Effect("add", File("C:\\a", 1)), Effect("add", File("C:\\b", 1)), Effect("add", File("C:\\c", 1))]
    seen = [
        Effect("add", File("C:\\A", 1), "observed"),
        Effect("add", File("C:\\b", 2), "observed"),
        Effect("remove", File("C:\\c"), "observed"),
    ]
    found = agreement(guess, seen)
    assert (len(found.matched), len(found.missed), len(found.false)) == (1, 2, 2)
    assert found.recall == pytest.approx(1 / 3) and found.precision == pytest.approx(1 / 3)
    assert agreement([], []).recall == 1.0


def test_difference_is_what_leads_from_one_to_the_other() -> None:
    before, after = (
        State([File("C:\\same", 1), File("C:\\old", 1), File("C:\\gone")]),
        State([File("C:\\same", 1), File("C:\\old", 2), File("C:\\new")]),
    )
    assert [str(effect) for effect in difference(before, after)] == [
        "remove file C:\\gone",
        "add file C:\\new",
        "change file C:\\old",
    ]
