"""The rarer standard actions, by the documentation of their tables: what they put, and that they take it away again."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import pytest
from specimens import APPLICATION, CLASS, Specimen, all_of_them
from test_engine import Rig

from yendo.demo.vendor import guid
from yendo.effects import AccessRights, Effect, File, IniValue, RegistryValue, Service, difference, label
from yendo.effects.things import Environment, parent
from yendo.evidence import row as row_of
from yendo.installers.msi.actions import NOT_INTERPRETED, STANDARD, WITHOUT_EFFECT
from yendo.installers.msi.actions.classes import descriptor
from yendo.machines.wine import quirks

CLASSES = "Software\\Classes\\"


@pytest.fixture
def rig(tmp_path: Path) -> Rig:
    return Rig(tmp_path)


def values(effects: Any, head: str = CLASSES) -> dict[str, Any]:
    """Registry values below ``head``, as ``key!name`` without it."""
    return {
        f"{effect.thing.key[len(head) :]}!{effect.thing.name}": effect.thing.data
        for effect in effects
        if isinstance(effect.thing, RegistryValue) and effect.thing.key.startswith(head)
    }


def test_no_action_is_told_twice() -> None:
    """Each is carried out or without effect, never both, and every table with a blind spot has a reason."""
    assert not set(STANDARD) & WITHOUT_EFFECT and all(NOT_INTERPRETED.values())
    assert {
        "RegisterClassInfo",
        "InstallODBC",
        "MsiConfigureServices",
        "IsolateComponents",
        "MoveFiles",
        "PublishComponents",
    } <= set(STANDARD)


def test_classes(rig: Rig) -> None:
    found = values(rig.run(all_of_them()["com-class"]).effects)
    path = r"C:\Program Files\Specimen com-class\sound.exe"
    assert found == {
        f"CLSID\\{CLASS}!": "Gauge reader",
        f"CLSID\\{CLASS}\\LocalServer32!": f"{path} -embed",
        f"CLSID\\{CLASS}\\ProgID!": "Tidewell.Gauge.1",
        f"CLSID\\{CLASS}\\VersionIndependentProgID!": "Tidewell.Gauge",
        "Tidewell.Gauge.1!": "Gauge reader",
        "Tidewell.Gauge.1\\CLSID!": CLASS,
        "Tidewell.Gauge!": "Gauge reader",
        "Tidewell.Gauge\\CLSID!": CLASS,
        "Tidewell.Gauge\\CurVer!": "Tidewell.Gauge.1",
    }


def test_an_application_of_classes(rig: Rig) -> None:
    found = values(rig.run(all_of_them()["com-application"]).effects)
    assert (
        found[f"AppID\\{APPLICATION}!LocalService"] == "TideModel"
        and found[f"AppID\\{APPLICATION}!RunAs"] == "Interactive User"
    )
    assert found[f"AppID\\{APPLICATION}!ActivateAtStorage"] == "Y" and found[f"CLSID\\{CLASS}!AppID"] == APPLICATION
    assert (
        found[f"CLSID\\{CLASS}\\InprocHandler32!"] == "ole32.dll" and found[f"FileType\\{CLASS}\\1!"] == "8,2,ffff,5744"
    )


def test_a_class_of_a_32_bit_component_is_in_its_view(rig: Rig) -> None:
    specimen = Specimen("narrow-class", platform="Intel").with_file("Program", "gauge.exe")
    specimen.add(
        "Class", (CLASS, "InprocServer32", "Program", None, "Gauge", None, None, None, None, "3", None, "Main", None)
    )
    effects = rig.run(specimen).effects
    assert {effect.thing.view for effect in effects if isinstance(effect.thing, RegistryValue)} == {"32"}
    assert {name for name in values(effects) if "Handler" in name} == {
        f"CLSID\\{CLASS}\\InprocHandler!",
        f"CLSID\\{CLASS}\\InprocHandler32!",
    }


def test_file_types(rig: Rig) -> None:
    effects = rig.run(all_of_them()["file-types"]).effects
    found, path = values(effects), r"C:\Program Files\Specimen file-types\sound.exe"
    assert (
        found[".tidesurvey!"] == "Tidewell.Survey" and found[".tidesurvey!Content Type"] == "application/x-tide-survey"
    )
    assert found["Tidewell.Survey\\shell!"] == "open" and found["Tidewell.Survey\\shell\\open!"] == "&Open survey"
    assert found["Tidewell.Survey\\shell\\open\\command!"] == f'"{path}" "%1"'
    assert (
        found["Tidewell.Survey\\shell\\print\\command!"] == f'"{path}" /p "%1"'
        and "Tidewell.Survey\\shell\\print!" not in found
    )
    (text,) = found["Tidewell.Survey\\shell\\open\\command!command"]
    assert (
        text.endswith('"%1"') and text == descriptor(guid("file-types"), "Main", guid("file-types Program")) + ' "%1"'
    )
    assert found["MIME\\Database\\Content Type\\application/x-tide-survey!Extension"] == ".tidesurvey"
    assert any(label(effect.thing).endswith("ShellNew") for effect in effects if effect.kind == "registry-key")


def test_descriptors() -> None:
    """Twenty letters a code, as seen in registrations of the real installer."""
    text = descriptor("{00000000-0000-0000-0000-000000000000}", "Main", "{FFFFFFFF-FFFF-FFFF-FFFF-FFFFFFFFFFFF}")
    assert text == "!" * 20 + "Main>" + descriptor("{FFFFFFFF-FFFF-FFFF-FFFF-FFFFFFFFFFFF}", "", guid("x"))[:20]
    assert len(descriptor(guid("a"), "F", guid("b"))) == 42


def test_type_libraries_and_what_is_only_named(rig: Rig) -> None:
    specimen = Specimen("library").with_file("Program", "tide.tlb").add("Directory", ("HELP", "INSTALLDIR", "help"))
    specimen.add(
        "TypeLib",
        (CLASS, 9, "Program", 0x0102, "Tide library", "HELP", "Main", None),
        (APPLICATION, 0, "Program", None, None, None, "Main", None),
    )
    specimen.add("SelfReg", ("FProgram", None)).add("Font", ("FProgram", None))
    outcome = rig.run(specimen)
    found = values(outcome.effects)
    folder = r"C:\Program Files\Specimen library"
    assert (
        found[f"TypeLib\\{CLASS}\\1.2!"] == "Tide library"
        and found[f"TypeLib\\{CLASS}\\1.2\\9\\win64!"] == rf"{folder}\tide.tlb"
    )
    assert found[f"TypeLib\\{CLASS}\\1.2\\HELPDIR!"] == rf"{folder}\help"
    spots = " / ".join(spot.what + ": " + spot.why for spot in outcome.blind_spots)
    for part in (
        "type library",
        "version stands in the library itself",
        "title stands in the font itself",
        "modules that register themselves",
    ):
        assert part in spots, spots


def test_shared_assemblies_do_not_lie_in_their_folder(rig: Rig) -> None:
    specimen = Specimen("assembly").with_file().with_file("Shared", "tide.dll").with_file("Own", "own.dll")
    specimen.add("MsiAssembly", ("Shared", "Main", "FShared", None, 0), ("Own", "Main", "FOwn", "FProgram", 0))
    specimen.add("MsiAssemblyName", ("Shared", "name", "Tide"), ("Shared", "version", "1.0.0.0"))
    outcome = rig.run(specimen)
    assert sorted(label(effect.thing).rpartition("\\")[2] for effect in outcome.effects if effect.kind == "file") == [
        "own.dll",
        "program.txt",
    ]
    assert [spot.what for spot in outcome.blind_spots] == ["shared assembly Tide 1.0.0.0"]


def test_rights_and_services(rig: Rig) -> None:
    found = {
        effect.thing.who: effect.thing
        for effect in rig.run(all_of_them()["rights"]).effects
        if isinstance(effect.thing, AccessRights)
    }
    assert found["Administrators"].rights == "0x10000000" and found[""].rights == "D:(A;;FA;;;BA)"
    specimen = all_of_them()["service-settings"].add("ServiceControl", ("Start", "TideWatch", 1, None, 1, "Program"))
    specimen.add("LockPermissions", ("SI", "ServiceInstall", None, "Users", 4))
    (service,) = (effect for effect in rig.run(specimen).effects if effect.kind == "service")
    assert (
        isinstance(service.thing, Service)
        and service.change == "add"
        and service.thing.running
        and service.thing.start == "auto"
    )
    assert service.thing.settings == (
        "delayed start: 1",
        "on failure: restart the service after 60 s, restart the service after 60 s, nothing after 0 s",
    )
    assert any(isinstance(thing, AccessRights) and thing.target == "service TideWatch" for thing in rig.state)
    rig.run(specimen, REMOVE="ALL")
    assert not [thing for thing in rig.state if isinstance(thing, AccessRights) and "tidewatch" in thing.identity]


def test_moving_copying_and_isolating(rig: Rig) -> None:
    specimen = (
        Specimen("moving")
        .with_file()
        .add("Directory", ("WindowsFolder", "TARGETDIR", "."), ("KEPT", "INSTALLDIR", "kept"))
    )
    specimen.add(
        "MoveFile",
        ("Move", "Program", "old*.txt", None, "WindowsFolder", "KEPT", 1),
        ("Copy", "Program", "one.ini", "two.ini", "WindowsFolder", "KEPT", 0),
    )
    specimen.add(
        "MoveFile",
        ("None", "Program", "absent.txt", None, "WindowsFolder", "KEPT", 0),
        ("Unset", "Program", "x", None, "NOWHERE", "KEPT", 0),
    )
    for name in ("old1.txt", "OLD2.TXT", "one.ini"):
        rig.state.add(File(rf"C:\Windows\{name}", 5))
    effects = rig.run(specimen).effects
    kept = [
        label(effect.thing).rpartition("\\")[2]
        for effect in effects
        if effect.kind == "file" and effect.change == "add" and "kept" in label(effect.thing)
    ]
    assert sorted(kept) == ["OLD2.TXT", "old1.txt", "two.ini"]
    assert sorted(effect.thing.identity for effect in effects if effect.change == "remove") == [
        r"c:\windows\old1.txt",
        r"c:\windows\old2.txt",
    ]
    outcome = rig.run(all_of_them()["isolated"])
    found = {
        label(effect.thing)[len(r"C:\Program Files\Specimen isolated") :]
        for effect in outcome.effects
        if effect.kind == "file"
    }
    assert found == {"\\sound.exe", "\\shared.dll", "\\shared\\shared.dll", "\\sound.exe.LOCAL"}


def test_ini_files(rig: Rig) -> None:
    folder = r"C:\Program Files\Specimen ini"
    specimen = Specimen("ini").with_file()
    specimen.add(
        "IniFile",
        ("Add", "tide.ini", "INSTALLDIR", "gauges", "list", "third", 3, "Program"),
        ("New", "tide.ini", "INSTALLDIR", "gauges", "port", "7", 1, "Program"),
    )
    specimen.add(
        "RemoveIniFile",
        ("Line", "tide.ini", "INSTALLDIR", "gauges", "gone", None, 2, "Program"),
        ("Tag", "tide.ini", "INSTALLDIR", "gauges", "tags", "b", 4, "Program"),
    )
    before = {"list": "first,second", "port": "9", "gone": "x", "tags": "a,b,c"}
    for key, value in before.items():
        rig.state.add(IniValue(rf"{folder}\tide.ini", "gauges", key, value))
    rig.run(specimen)
    now = {thing.key: thing.value for thing in rig.state.of("ini") if isinstance(thing, IniValue)}
    assert now == {"list": "first,second,third", "port": "9", "tags": "a,c"}


def test_odbc_and_publishing(rig: Rig) -> None:
    found = values(rig.run(all_of_them()["odbc"]).effects, "Software\\ODBC\\ODBCINST.INI\\")
    path = r"C:\Program Files\Specimen odbc\sound.exe"
    assert (
        found["ODBC Drivers!Tide gauges"] == "Installed"
        and found["Tide gauges!Driver"] == path
        and found["Tide gauges!APILevel"] == "1"
    )
    assert found["ODBC Translators!Tide letters"] == "Installed" and found["Tide letters!Translator"] == path
    specimen = Specimen("source").with_file().add("ODBCDataSource", ("Src", "Program", "Tides", "Tide gauges", 0))
    specimen.tables["InstallExecuteSequence"].append(("InstallODBC", None, 5400))
    assert [spot.what for spot in rig.run(specimen).blind_spots] == ["data source Tides"]
    everyone = values(rig.run(all_of_them()["published"]).effects, "Software\\Classes\\Installer\\Components\\")
    assert list(everyone) == [r"F4E2C0B5D1C6A0E4C916C7C1C6A1B030!en\sound"] and next(iter(everyone.values()))[
        0
    ].endswith("more")


SEARCHES: list[tuple[str, list[tuple[str, tuple[Any, ...]]], str]] = [
    ("a file by folder and name", [("DrLocator", ("S", None, r"C:\Windows", 1)), ("Signature", ("S", "tool.exe", "1.0", "3.0", None, None, None, None, None))], r"C:\Windows\Sub\tool.exe"),
    ("a file that is too old", [("DrLocator", ("S", None, r"C:\Windows", 1)), ("Signature", ("S", "tool.exe", "2.5", None, None, None, None, None, None))], ""),
    ("a file that is too large", [("DrLocator", ("S", None, r"C:\Windows", 1)), ("Signature", ("S", "tool.exe", None, None, 0, 10, None, None, None))], ""),
    ("a file too deep", [("DrLocator", ("S", None, r"C:\Windows", 0)), ("Signature", ("S", "tool.exe", *[None] * 7))], ""),
    ("a folder below another search", [("DrLocator", ("S", "P", "Sub", 0)), ("DrLocator", ("P", None, "[WindowsFolder]", 0))], "C:\\Windows\\Sub\\"),
    ("a number in the registry", [("RegLocator", ("S", 2, r"Software\Tide", "Number", 2 | 16))], "#7"),
    ("a file that the registry names", [("RegLocator", ("S", 2, r"Software\Tide", "Path", 1 | 16))], r"C:\Windows\Sub\tool.exe"),
    ("a value of an ini file", [("IniLocator", ("S", "tide.ini", "gauges", "list", 2, 2))], "second"),
    ("a whole line of an ini file", [("IniLocator", ("S", "tide.ini", "gauges", "list", 0, 2))], "first,second"),
    ("something on every drive", [("DrLocator", ("S", None, None, 1))], ""),
    ("nothing at all", [], ""),
]  # fmt: skip


@pytest.mark.parametrize(("tables", "found"), [case[1:] for case in SEARCHES], ids=[case[0] for case in SEARCHES])
def test_searches(rig: Rig, tables: list[tuple[str, tuple[Any, ...]]], found: str) -> None:
    rig.state.add_folders(r"C:\Windows\Sub")
    rig.state.add(File(r"C:\Windows\Sub\tool.exe", 100, None, "2.0.0.0"))
    rig.state.add(RegistryValue("HKLM", r"Software\Tide", "Number", "dword", 7))
    rig.state.add(RegistryValue("HKLM", r"Software\Tide", "Path", "sz", r'"C:\Windows\Sub\tool.exe"'))
    rig.state.add(IniValue(r"C:\Windows\tide.ini", "gauges", "list", "first,second"))
    specimen = Specimen("searching").with_file().add("AppSearch", ("FOUND", "S"))
    specimen.add("Environment", ("E", "=-*FOUND", "<[FOUND]>", "Program"))
    for table, row in tables:
        specimen.add(table, row)
    outcome = rig.run(specimen)
    (value,) = (effect.thing.value for effect in outcome.effects if isinstance(effect.thing, Environment))
    assert value == f"<{found}>"
    assert bool(outcome.blind_spots) == (not tables or tables == [("DrLocator", ("S", None, None, 1))])


# --- reinstalling, features, upgrades ------------------------------------------------------------------------------


def versioned(version: str | None, size: int = 9) -> Specimen:
    specimen = Specimen("versions")
    return specimen.component("Program", key="F").file("Program", "F", "tide.dll", b"x" * size, version)


@pytest.mark.parametrize(("there", "mode", "mine", "replaced"), [
    (("1.0.0.0", 9), "omus", "2.0.0.0", True),
    (("2.0.0.0", 9), "omus", "2.0.0.0", False),
    (("2.0.0.0", 9), "emus", "2.0.0.0", True),
    (("3.0.0.0", 9), "omus", "2.0.0.0", False),
    (("3.0.0.0", 9), "dmus", "2.0.0.0", True),
    (("3.0.0.0", 9), "amus", "2.0.0.0", True),
    (("1.0.0.0", 9), "pmus", "2.0.0.0", False),
    ((None, 9), "omus", "2.0.0.0", True),
    (("1.0.0.0", 5), "omus", None, False),
    ((None, 5), "omus", None, True),
    ((None, 9), "omus", None, False),
])  # fmt: skip
def test_which_file_stays(rig: Rig, there: tuple[str | None, int], mode: str, mine: str | None, replaced: bool) -> None:
    path = r"C:\Program Files\Specimen versions\tide.dll"
    rig.state.add_folders(parent(path))
    rig.state.add(File(path, there[1], None, there[0]))
    rig.run(versioned(mine), REINSTALLMODE=mode)
    now = rig.state.get("file", path)
    assert isinstance(now, File) and (
        (now.size, now.version) == (9, mine) if replaced else (now.size, now.version) == (there[1], there[0])
    )


def test_reinstalling_mends_only_what_is_named(rig: Rig) -> None:
    specimen = all_of_them()["feature-parts"]
    rig.run(specimen)
    for name in ("first.txt", "second.txt"):
        rig.state.remove("file", rf"C:\Program Files\Specimen feature-parts\{name}")
    outcome = rig.run(specimen, REINSTALL="First")
    assert [str(effect) for effect in outcome.effects if effect.kind == "file"] == [
        r"add file C:\Program Files\Specimen feature-parts\first.txt"
    ]
    assert rig.run(specimen, ADDLOCAL="Late").effects and [
        effect for effect in rig.run(specimen, REMOVE="First").effects if effect.change == "remove"
    ]


@pytest.mark.parametrize(("flags", "kept"), [(1, True), (0, False)])
def test_an_upgrade_may_keep_the_choice_of_features(rig: Rig, flags: int, kept: bool) -> None:
    def make(name: str, code: str, version: str) -> Specimen:
        specimen = Specimen(name, version=version).with_file()
        specimen.add("Feature", ("Extra", None, "Extra", None, 3, 200, None, 0)).with_file(
            "Extra", "extra.txt", feature="Extra"
        )
        fields = {"ProductCode": guid(code), "UpgradeCode": guid("choice line")}
        specimen.tables["Property"] = [(key, fields.get(key, value)) for key, value in specimen.tables["Property"]]
        return specimen.add("Upgrade", (guid("choice line"), None, version, None, flags, None, "OLDER"))

    rig.run(make("one", "one", "1.0.0"), ADDLOCAL="Main,Extra")
    outcome = rig.run(make("two", "two", "2.0.0"))
    assert outcome.removed == (guid("one"),)
    assert any("extra.txt" in str(effect) and effect.change == "add" for effect in outcome.effects) == kept


@pytest.mark.parametrize("order", [1450, 1510, 6450, 6650])
def test_every_order_of_an_upgrade_ends_alike(rig: Rig, order: int) -> None:
    """A shared component stays through the upgrade, whenever the older one is removed."""

    def make(name: str, version: str) -> Specimen:
        specimen = (
            Specimen(name, version=version).with_file("Shared", "shared.txt").with_file(f"Own{name}", f"{name}.txt")
        )
        specimen.tables["Component"] = [
            (row[0], guid("shared") if row[0] == "Shared" else row[1], *row[2:]) for row in specimen.tables["Component"]
        ]
        specimen.tables["Directory"] = [
            (*row[:2], "ORDER|Order") if row[0] == "INSTALLDIR" else row for row in specimen.tables["Directory"]
        ]
        specimen.tables["Property"] = [
            (key, guid("order line") if key == "UpgradeCode" else value) for key, value in specimen.tables["Property"]
        ]
        specimen.tables["InstallExecuteSequence"] = [
            (row[0], row[1], order) if row[0] == "RemoveExistingProducts" else row
            for row in specimen.tables["InstallExecuteSequence"]
        ]
        return specimen.add("Upgrade", (guid("order line"), None, version, None, 0, None, "OLDER"))

    rig.run(make("older", "1.0.0"))
    outcome = rig.run(make("newer", "2.0.0"))
    assert outcome.exit_code == 0
    files = sorted(label(thing).rpartition("\\")[2] for thing in rig.state.of("file") if "\\Order\\" in label(thing))
    assert files == ["newer.txt", "shared.txt"] and [thing.version for thing in rig.state.of("product")] == ["2.0.0"]
    assert not [effect for effect in outcome.effects if "shared.txt" in str(effect) and effect.change == "remove"]


def test_effects_are_told_once(rig: Rig) -> None:
    """What came and went did not happen; what was put and changed was put as it is in the end."""
    specimen = Specimen("net").with_file()
    specimen.add(
        "Registry",
        ("A", 2, r"Software\Net", "Same", "one", "Program"),
        ("B", 2, r"Software\Net", "Same", "two", "Program"),
    )
    effects = [effect for effect in rig.run(specimen).effects if effect.kind == "registry"]
    assert [(effect.change, effect.thing.data) for effect in effects if isinstance(effect.thing, RegistryValue)] == [
        ("add", "two")
    ]


def test_a_failure_leaves_nothing(rig: Rig) -> None:
    before = rig.state.copy()
    specimen = (
        Specimen("fails")
        .with_file()
        .add("CustomAction", ("Stop", 19, None, "No further."))
        .add("InstallExecuteSequence", ("Stop", None, 6500))
    )
    outcome = rig.run(specimen)
    assert outcome.exit_code == 1603 and not outcome.effects and not difference(before, rig.state)
    assert (
        outcome.steps[-1].action == "Stop"
        and outcome.steps[-1].ran
        and any("No further." in line for line in outcome.log)
    )


def test_an_advertised_feature_is_a_blind_spot(rig: Rig) -> None:
    outcome = rig.run(all_of_them()["advertised-feature"])
    assert outcome.features["Later"] == 1 and "feature Later is only advertised" in [
        spot.what for spot in outcome.blind_spots
    ]
    other = Rig(rig.folder)
    assert any(
        "later.txt" in str(effect) for effect in other.run(all_of_them()["advertised-feature"], ADDLOCAL="ALL").effects
    )


def test_deltas_of_a_patch_are_a_blind_spot(rig: Rig) -> None:
    """A patch may carry differences of files in place of files; their outcome is nobody's to tell."""
    from yendo.formats.msi import Column, Database
    from yendo.formats.msi.overlay import Overlay
    from yendo.formats.msi.transform import TableChange, Transform
    from yendo.installers.msi import describe, engine

    columns = [
        Column.parse(text)
        for text in ("File_! s72", "Sequence! i4", "PatchSize i4", "Attributes i2", "Header V0", "StreamRef_ S38")
    ]
    change = TableChange(columns, created=True, inserted={("FProgram", 2): ("FProgram", 2, 99, 0, None, None)})
    with Database(Specimen("delta").with_file().ours(rig.folder)) as base:
        outcome = engine.predict(
            Overlay(base, [Transform({"Patch": change})]), rig.around, describe.baseline(rig.around)
        )
    assert [spot.evidence.where for spot in outcome.blind_spots] == ["Patch"]


# --- where the layer differs ---------------------------------------------------------------------------------------------


def value(table: str, key: str, name: str, data: Any, hive: str = "HKLM") -> Effect:
    return Effect("add", RegistryValue(hive, key, name, "sz", data), "predicted", row_of(table, "x"))


@pytest.mark.parametrize(("effect", "shown"), [
    (value("Font", r"Software\Microsoft\Windows NT\CurrentVersion\Fonts", "Tide", "t.ttf"), [r"C:\windows\Fonts\t.ttf"] * 2),
    (value("ODBCDriver", r"Software\ODBC\ODBCINST.INI\Tide", "APILevel", "1"), []),
    (value("ODBCDriver", r"Software\ODBC\ODBCINST.INI\Tide", "UsageCount", "1"), ["1", "1"]),
    (value("ODBCDriver", r"Software\ODBC\ODBCINST.INI\ODBC Drivers", "Tide", "Installed"), ["Installed"]),
    (value("TypeLib", r"Software\Classes\TypeLib\x\1.0\0\win64", "", r"C:\x.tlb"), [r"\\?\C:\x.tlb"]),
    (value("TypeLib", r"Software\Classes\TypeLib\x\1.0", "", "Tide library"), ["Tide library"]),
    (value("Registry", r"Software\X", "n", "v"), ["v"]),
    (Effect("add", AccessRights("x", "y"), "predicted", row_of("LockPermissions", "x")), []),
    (Effect("add", File("x.LOCAL", 0), "predicted", row_of("IsolatedComponent", "x")), []),
])  # fmt: skip
def test_what_the_layer_shows_instead(effect: Effect, shown: list[str]) -> None:
    """Each difference is counted once where it made one, and never where it made none."""
    found, counted = quirks.adapt([effect])
    assert [getattr(one.thing, "data", None) for one in found] == shown
    assert bool(counted) == (found != [effect]) and sum(counted.values()) <= 1


def test_differences_in_words_and_hives() -> None:
    service = Effect("add", Service("S", None, '"C:\\a b\\s.exe" -x', "auto", settings=("delayed start: 1",)))
    published = value("PublishComponent", r"Software\Classes\Installer\Components\x", "q", "d")
    found, counted = quirks.adapt([service, published])
    assert [found[0].thing.command, found[0].thing.settings] == ["C:\\a b\\s.exe -x", None]  # type: ignore[union-attr]
    assert found[1].thing.hive == "HKCU" and found[1].thing.key.startswith(r"Software\Microsoft\Installer")  # type: ignore[union-attr]
    assert len(counted) == 3 and set(counted) & quirks.LACKING and quirks.EXIT_CODES[1642, 1605]
    assert len({quirk.id for quirk in quirks.QUIRKS}) == len(quirks.QUIRKS)
