"""Small installers that differ in what they use, for tests and for the judge.

Each is a set of table rows; ``ours`` writes it with our writer, ``theirs`` with the layer's own
``winemsibuilder`` from table text files.
"""

from __future__ import annotations

import shutil
from collections.abc import Callable
from pathlib import Path
from typing import Any

from yendo.demo.vendor import PROGRAMS, SEQUENCE, guid, write_installer
from yendo.formats import cab
from yendo.formats.msi import Column, Summary
from yendo.formats.msi.schema import columns

Tables = dict[str, list[tuple[Any, ...]]]
# The actions of the rarer tables, with their documented places.
RARER = {
    "Class": [("UnregisterClassInfo", 2700), ("RegisterClassInfo", 4600)],
    "Extension": [("UnregisterExtensionInfo", 2800), ("RegisterExtensionInfo", 4700)],
    "Font": [("UnregisterFonts", 2500), ("RegisterFonts", 5300)],
    "IsolatedComponent": [("IsolateComponents", 950)],
    "MIME": [("UnregisterMIMEInfo", 3000), ("RegisterMIMEInfo", 4900)],
    "MoveFile": [("MoveFiles", 3800)],
    "MsiServiceConfig": [("MsiConfigureServices", 5850)],
    "ODBCDriver": [("RemoveODBC", 2400), ("InstallODBC", 5400)],
    "ProgId": [("UnregisterProgIdInfo", 2900), ("RegisterProgIdInfo", 4800)],
    "PublishComponent": [("UnpublishComponents", 1700), ("PublishComponents", 6200)],
    "SelfReg": [("SelfUnregModules", 2200), ("SelfRegModules", 5600)],
    "TypeLib": [("UnregisterTypeLibraries", 5450), ("RegisterTypeLibraries", 5500)],
}


class Specimen:
    """An installer to be made: its tables, the contents of its files, its platform and extra command line."""

    def __init__(
        self,
        name: str,
        *,
        platform: str = "x64",
        everyone: bool = True,
        properties: dict[str, str] | None = None,
        version: str = "1.2.3",
    ) -> None:
        self.name, self.platform, self.given, self.version = name, platform, properties or {}, version
        self.contents: dict[str, bytes] = {}
        self.streams: dict[str, bytes] = {}
        wide = platform == "x64"
        self.attributes = 256 if wide else 0
        self.tables: Tables = {
            "Property": [
                ("ProductCode", guid(name)),
                ("ProductName", f"Specimen {name}"),
                ("ProductVersion", version),
                ("Manufacturer", "Tidewell"),
                ("ProductLanguage", "1033"),
                ("UpgradeCode", guid(name + " line")),
                *([("ALLUSERS", "1")] if everyone else []),
            ],
            "Directory": [
                ("TARGETDIR", None, "SourceDir"),
                ("ProgramFiles64Folder" if wide else "ProgramFilesFolder", "TARGETDIR", "."),
                ("INSTALLDIR", "ProgramFiles64Folder" if wide else "ProgramFilesFolder", f"SPEC|Specimen {name}"),
            ],
            "Feature": [("Main", None, "Main", None, 1, 1, None, 0)],
            "Component": [], "FeatureComponents": [], "File": [], "Media": [],
            "InstallExecuteSequence": list(SEQUENCE),
        }  # fmt: skip

    def add(self, table: str, *rows: tuple[Any, ...]) -> Specimen:
        self.tables.setdefault(table, []).extend(rows)
        return self

    def component(
        self,
        name: str,
        *,
        folder: str = "INSTALLDIR",
        feature: str = "Main",
        key: str | None = None,
        more: int = 0,
        condition: str | None = None,
    ) -> Specimen:
        self.add("Component", (name, guid(f"{self.name} {name}"), folder, self.attributes | more, condition, key))
        return self.add("FeatureComponents", (feature, name))

    def file(
        self, component: str, key: str, name: str, content: bytes = b"content\r\n", version: str | None = None
    ) -> Specimen:
        self.contents[key] = content
        return self.add("File", (key, component, name, len(content), version, None, 512, len(self.contents)))

    def with_file(self, name: str = "Program", file: str = "program.txt", **options: Any) -> Specimen:
        """A component and its key file at once."""
        return self.component(name, key=f"F{name}", **options).file(name, f"F{name}", file)

    def _finish(self) -> tuple[Tables, Summary]:
        tables = dict(self.tables)
        more = [(action, None, number) for table in tables for action, number in RARER.get(table, ())]
        tables["InstallExecuteSequence"] = [*tables["InstallExecuteSequence"], *more]
        tables["Media"] = [(1, max(1, len(self.contents)), None, "#media.cab" if self.contents else None, None, None)]
        return tables, Summary(
            title="Installation Database",
            subject=self.name,
            author="Tidewell",
            template=f"{self.platform};1033",
            revision=guid(f"{self.name} package {self.version}"),
            pages=200,
            words=2,
        )

    def ours(self, folder: Path) -> Path:
        tables, summary = self._finish()
        target = folder / f"{self.name}.msi"
        write_installer(
            target,
            tables,
            cabinets={**({"media.cab": cab.build(self.contents.items())} if self.contents else {}), **self.streams},
            summary=summary,
        )
        return target

    def theirs(self, folder: Path, builder: Callable[..., object]) -> Path:
        """``builder`` runs ``winemsibuilder`` with these arguments in ``folder``."""
        tables, summary = self._finish()
        texts = [idt(folder, name, columns(name), rows) for name, rows in tables.items()]
        for name, data in self.streams.items():  # a stream column's cell names a file in a folder of the table's name
            table, _, key = name.partition(".")
            (folder / table).mkdir(exist_ok=True)
            (folder / table / key).write_bytes(data)
        info = folder / "_SummaryInformation.idt"
        lines = [
            "PropertyId\tValue",
            "i2\tl255",
            "_SummaryInformation\tPropertyId",
            f"1\t{summary.code_page}",
            f"2\t{summary.title}",
            f"3\t{summary.subject}",
            f"4\t{summary.author}",
            f"7\t{summary.template}",
            f"9\t{summary.revision}",
            "14\t200",
            "15\t2",
            "19\t0",
        ]
        info.write_bytes("".join(f"{line}\r\n" for line in lines).encode())
        target = folder / f"{self.name}.msi"
        builder("-i", target.name, *(path.name for path in texts), info.name)
        if self.contents:
            (folder / "media.cab").write_bytes(cab.build(self.contents.items()))
            builder("-a", target.name, "media.cab", "media.cab")
        return target


def builder(session: Any, folder: Path) -> Callable[..., None]:
    """Runs ``winemsibuilder`` of the layer on files in ``folder``."""

    def run(*arguments: str) -> None:
        where = r"C:\builder"  # nothing of this system is seen by what runs there
        session.bring(folder, where)
        ran = session.run("winemsibuilder " + " ".join(arguments), timeout=120, folder=where)
        shutil.copytree(session.host(where), folder, dirs_exist_ok=True)
        session.take_away(where)
        assert ran.exit_code == 0, ran

    return run


def apart(share: Path) -> Path:
    """A share with an installer whose two files lie beside it, and are not there yet: one in a cabinet, one loose."""
    tables, summary = Specimen("apart").with_file().with_file("Loose", "loose.txt")._finish()
    tables["File"][1] = (*tables["File"][1][:6], 0x2000, 2)
    tables["Media"] = [(1, 1, None, "apart.cab", None, None)]
    (share / "Specimen apart").mkdir(parents=True)
    write_installer(share / "apart.msi", tables, summary=summary)
    return share


def idt(folder: Path, table: str, names: list[str], rows: list[tuple[Any, ...]]) -> Path:
    """A table as the text file that ``winemsibuilder`` imports."""
    parsed = [Column.parse(name) for name in names]
    keys = [column.name for column in parsed if column.is_key]
    lines = [
        "\t".join(column.name for column in parsed),
        "\t".join(column.idt for column in parsed),
        "\t".join([table, *keys]),
    ]
    lines += [
        "\t".join(
            "" if cell is None else row[0] if column.is_stream else str(cell)
            for column, cell in zip(parsed, row, strict=True)
        )
        for row in rows
    ]
    path = folder / f"{table}.idt"
    path.write_bytes("".join(f"{line}\r\n" for line in lines).encode("cp1252"))
    return path


def all_of_them() -> dict[str, Specimen]:
    """Every specimen by name. They differ in the tables and rules they use."""
    found: dict[str, Specimen] = {}

    def new(name: str, **options: Any) -> Specimen:
        found[name] = Specimen(name, **options)
        return found[name]

    new("one-file").with_file()
    new("narrow", platform="Intel").with_file().add(
        "Registry", ("R1", 2, r"Software\Tidewell\Narrow", "Width", "32", "Program")
    )
    kinds = new("registry-kinds").with_file()
    kinds.add(
        "Registry",
        ("R1", 2, r"Software\Tidewell\Kinds", "Text", "plain", "Program"),
        ("R2", 2, r"Software\Tidewell\Kinds", "Number", "#4711", "Program"),
        ("R3", 2, r"Software\Tidewell\Kinds", "Expand", "#%%TEMP%\\x", "Program"),
        ("R4", 2, r"Software\Tidewell\Kinds", "Binary", "#x0A0b0C", "Program"),
        ("R5", 2, r"Software\Tidewell\Kinds", "Hash", "##5", "Program"),
        ("R6", 2, r"Software\Tidewell\Kinds", None, "unnamed", "Program"),
        ("R7", 2, r"Software\Tidewell\Kinds", "Multi", "one[~]two[~]three", "Program"),
        ("R8", 2, r"Software\Tidewell\Kinds", "Folder", "[INSTALLDIR]", "Program"),
        ("R9", -1, r"Software\Tidewell\Kinds\Either", "Root", "minus one", "Program"),
        ("R10", 0, r".sounding", None, "Tidewell.Sounding", "Program"),
    )
    features = new("features", properties={"ADDLOCAL": "Main,Extra"})
    features.add(
        "Feature",
        ("Extra", "Main", "Extra", None, 3, 200, None, 0),
        ("Never", None, "Never", None, 5, 0, None, 0),
        ("Follows", "Extra", "Follows", None, 7, 1, None, 2),
    )
    features.with_file().with_file("ExtraPart", "extra.txt", feature="Extra").with_file(
        "NeverPart", "never.txt", feature="Never"
    )
    features.with_file("FollowsPart", "follows.txt", feature="Follows")
    conditions = new("conditions", properties={"MODE": "quiet"})
    conditions.with_file().with_file("Quiet", "quiet.txt", condition='MODE = "quiet" AND VersionNT >= 601').with_file(
        "Loud", "loud.txt", condition='MODE ~= "LOUD"'
    )
    conditions.add("Condition", ("Main", 1, 'MODE <> "none"')).add("Property", ("MODE", "normal"))
    shortcuts = new("shortcuts").component("Program", key="FProgram")
    shortcuts.file("Program", "FProgram", "program.exe", (PROGRAMS / "lantern-6.2.1.exe").read_bytes(), "6.2.1.0")
    shortcuts.add(
        "Directory",
        ("ProgramMenuFolder", "TARGETDIR", "."),
        ("MENU", "ProgramMenuFolder", "Soundings"),
        ("DesktopFolder", "TARGETDIR", "."),
    )
    shortcuts.add(
        "Shortcut",
        (
            "S1",
            "MENU",
            "Sound|Take soundings",
            "Program",
            "[#FProgram]",
            "-quick [ProductVersion]",
            "All of them",
            None,
            None,
            None,
            None,
            "INSTALLDIR",
        ),
        (
            "S2",
            "DesktopFolder",
            "Soundings",
            "Program",
            "[INSTALLDIR]program.exe",
            None,
            None,
            None,
            None,
            None,
            None,
            None,
        ),
    )
    shortcuts.add("RemoveFile", ("RF", "Program", None, "MENU", 2))
    service = (
        new("service")
        .component("Program", key="FProgram")
        .file("Program", "FProgram", "gauge.exe", (PROGRAMS / "lanternd-6.2.1.exe").read_bytes(), "6.2.1.0")
    )
    service.add(
        "ServiceInstall",
        ("SI", "TideGauge", "Tide gauge", 16, 3, 1, None, "RpcSs[~][~]", None, None, "-watch", "Program", None),
    )
    service.add("ServiceControl", ("SC", "TideGauge", 160, None, 1, "Program"))
    new("environment").with_file().add(
        "Environment",
        ("E1", "=-*TIDE_HOME", "[INSTALLDIR]", "Program"),
        ("E2", "=-TIDE_USER", "me", "Program"),
        ("E3", "+-*TIDE_ONCE", "first", "Program"),
    )
    ini = new("ini-file").with_file()
    ini.add(
        "IniFile",
        ("I1", "tide.ini", "INSTALLDIR", "gauge", "port", "7", 0, "Program"),
        ("I2", "tide.ini", "INSTALLDIR", "gauge", "name", "[ProductName]", 0, "Program"),
        ("I3", "tide.ini", "INSTALLDIR", "site", "quay", "3", 1, "Program"),
    )
    folders = new("folders").with_file()
    folders.add(
        "Directory",
        ("CommonAppDataFolder", "TARGETDIR", "."),
        ("DATA", "CommonAppDataFolder", "TIDEDA~1|Tide data"),
        ("EMPTY", "DATA", "empty"),
        ("DEEP", "INSTALLDIR", "a"),
        ("DEEPER", "DEEP", "b"),
    )
    folders.component("Data", folder="EMPTY").add("CreateFolder", ("EMPTY", "Data")).with_file(
        "Deep", "deep.txt", folder="DEEPER"
    )
    removal = new("remove-registry").with_file()
    removal.add(
        "Registry",
        ("R1", 2, r"Software\Tidewell\Kept", "A", "1", "Program"),
        ("R2", 2, r"Software\Tidewell\Kept\Sub", "*", None, "Program"),
    )
    new("duplicate").with_file().add(
        "DuplicateFile", ("D1", "Program", "FProgram", "COPY~1.TXT|copy of it.txt", "INSTALLDIR")
    )
    actions = new("actions").with_file()
    actions.add(
        "CustomAction",
        ("SetText", 51, "MESSAGE", "from [ProductName] [%SystemDrive]"),
        ("SetFolder", 35, "INSTALLDIR", r"[ProgramFiles64Folder]Chosen place"),
    )
    actions.add("Registry", ("R1", 2, r"Software\Tidewell\Actions", "Message", "[MESSAGE]{ and [UNSET]}", "Program"))
    actions.add("InstallExecuteSequence", ("SetText", "NOT Installed", 90), ("SetFolder", "NOT Installed", 1010))
    new(
        "quoting", properties={"VALUE": 'a "b" c ', "EMPTY": "", "PLACE": "C:\\with space\\", "PLAIN": "x=y;z"}
    ).with_file().add(
        "Registry",
        *(
            (f"R{at}", 2, r"Software\Tidewell\Quoting", name, f"<[{name}]>", "Program")
            for at, name in enumerate(("VALUE", "EMPTY", "PLACE", "PLAIN"))
        ),
    ).add("Property", ("EMPTY", "default"))
    new("per-user", everyone=False).with_file("Program", folder="INSTALLDIR").add(
        "Registry", ("R1", 1, r"Software\Tidewell\PerUser", "Own", "#1", "Program")
    )
    icons = new("icons").with_file()
    icons.add("Property", ("ARPPRODUCTICON", "tide.ico")).add("Icon", ("tide.ico", 1))
    icons.streams["Icon.tide.ico"] = (PROGRAMS / "lantern-6.2.1.exe").read_bytes()[:700]
    many = new("many-files")
    for at in range(40):
        many.component(f"C{at}", key=f"F{at}").file(f"C{at}", f"F{at}", f"file{at}.dat", bytes([at]) * (at * 37))
    launch = new("launch").with_file()
    launch.add("LaunchCondition", ("VersionNT >= 600 AND Privileged", "Needs a newer Windows and rights.")).add(
        "AppSearch", ("FOUNDBUILD", "SearchBuild")
    ).add("RegLocator", ("SearchBuild", 2, r"Software\Microsoft\Windows NT\CurrentVersion", "CurrentVersion", 2 | 16))
    _more(new)
    return found


CLASS = "{5B0C2E4F-6C1D-4E0A-9C61-7C1C6C1A0B01}"
APPLICATION = "{5B0C2E4F-6C1D-4E0A-9C61-7C1C6C1A0B02}"


def _more(new: Callable[..., Specimen]) -> None:
    """The tables that are rarer, one or two a specimen."""
    program = (PROGRAMS / "lantern-6.2.1.exe").read_bytes()

    def with_program(name: str, **options: Any) -> Specimen:
        return (
            new(name, **options)
            .component("Program", key="FProgram")
            .file("Program", "FProgram", "sound.exe", program, "6.2.1.0")
        )

    classes = with_program("com-class")
    classes.add(
        "Class",
        (
            CLASS,
            "LocalServer32",
            "Program",
            "Tidewell.Gauge.1",
            "Gauge reader",
            None,
            None,
            None,
            None,
            None,
            "-embed",
            "Main",
            None,
        ),
    )
    classes.add(
        "ProgId",
        ("Tidewell.Gauge.1", None, CLASS, "Gauge reader", None, None),
        ("Tidewell.Gauge", "Tidewell.Gauge.1", None, "Gauge reader", None, None),
    )
    application = with_program("com-application")
    application.add(
        "Class",
        (
            CLASS,
            "InprocServer32",
            "Program",
            None,
            "Tide model",
            APPLICATION,
            "0,4,ffffffff,54494445;8,2,ffff,5744",
            None,
            None,
            "2",
            None,
            "Main",
            None,
        ),
    )
    application.add("AppId", (APPLICATION, None, "TideModel", "-service", None, 1, 1))
    types = with_program("file-types")
    types.add("ProgId", ("Tidewell.Survey", None, None, "Survey record", None, None))
    types.add("Extension", ("tidesurvey", "Program", "Tidewell.Survey", "application/x-tide-survey", "Main"))
    types.add("Verb", ("tidesurvey", "open", 1, "&Open survey", '"%1"'), ("tidesurvey", "print", 2, None, '/p "%1"'))
    types.add("MIME", ("application/x-tide-survey", "tidesurvey", None))
    fonts = new("font").add("Directory", ("FontsFolder", "TARGETDIR", "."))
    fonts.component("Letters", folder="FontsFolder", key="FLetters").file(
        "Letters", "FLetters", "tide.ttf", b"no real letters"
    ).add("Font", ("FLetters", "Tide Letters (TrueType)"))
    moves = new("move-file").with_file()
    moves.add("Directory", ("MOVED", "INSTALLDIR", "moved"), ("WindowsFolder", "TARGETDIR", "."))
    moves.add(
        "MoveFile",
        ("M1", "Program", "win.ini", "copied.ini", "WindowsFolder", "MOVED", 0),
        ("M2", "Program", "regedi*.exe", None, "WindowsFolder", "MOVED", 0),
    )
    isolated = with_program("isolated").add("Directory", ("SHARED", "INSTALLDIR", "shared"))
    isolated.component("Shared", folder="SHARED", key="FShared").file("Shared", "FShared", "shared.dll", b"shared").add(
        "IsolatedComponent", ("Shared", "Program")
    )
    odbc = with_program("odbc")
    odbc.add("ODBCDriver", ("Drv", "Program", "Tide gauges", "FProgram", None)).add(
        "ODBCTranslator", ("Trn", "Program", "Tide letters", "FProgram", None)
    )
    odbc.add("ODBCAttribute", ("Drv", "APILevel", "1"), ("Drv", "FileUsage", "0"))
    with_program("published").add(
        "PublishComponent", ("{5B0C2E4F-6C1D-4E0A-9C61-7C1C6C1A0B03}", "en\\sound", "Program", "more", "Main")
    )
    ini = new("remove-ini").with_file()
    ini.add(
        "IniFile",
        ("I1", "tide.ini", "INSTALLDIR", "gauge", "port", "7", 0, "Program"),
        ("I2", "tide.ini", "INSTALLDIR", "gauge", "quay", "3", 0, "Program"),
    )
    ini.add("RemoveIniFile", ("X1", "tide.ini", "INSTALLDIR", "gauge", "absent", None, 2, "Program"))
    rights = new("rights").with_file()
    rights.add("LockPermissions", ("FProgram", "File", None, "Administrators", 0x10000000))
    rights.add("MsiLockPermissionsEx", ("P1", "FProgram", "File", "D:(A;;FA;;;BA)", None))
    service = with_program("service-settings")
    service.add(
        "ServiceInstall", ("SI", "TideWatch", "Tide watch", 16, 2, 1, None, None, None, None, None, "Program", None)
    )
    service.add("ServiceControl", ("SC", "TideWatch", 160, None, 1, "Program"))
    service.add("MsiServiceConfig", ("C1", "TideWatch", 1, 3, "1", "Program"))
    service.add(
        "MsiServiceConfigFailureActions",
        ("A1", "TideWatch", 1, 86400, None, None, "1[~]1[~]0", "60000[~]60000[~]0", "Program"),
    )
    search = new("search").with_file()
    search.add(
        "AppSearch",
        ("FOUNDFILE", "SigFile"),
        ("FOUNDFOLDER", "SigFolder"),
        ("FOUNDBYKEY", "SigKey"),
        ("NOTFOUND", "SigNone"),
    )
    search.add("Signature", ("SigFile", "notepad.exe", None, None, None, None, None, None, None))
    search.add(
        "DrLocator",
        ("SigFile", None, "[SystemFolder]", 0),
        ("SigFolder", None, "[ProgramFilesFolder]Common Files", 0),
        ("SigNone", None, "[WindowsFolder]nowhere", 0),
    )
    search.add("RegLocator", ("SigKey", 2, r"Software\Microsoft\Windows\CurrentVersion", "ProgramFilesDir", 0 | 16))
    search.add(
        "Registry",
        *(
            (f"R{at}", 2, r"Software\Tidewell\Search", name, f"<[{name}]>", "Program")
            for at, name in enumerate(("FOUNDFILE", "FOUNDFOLDER", "FOUNDBYKEY", "NOTFOUND"))
        ),
    )
    advertised = with_program("advertised-shortcut")
    advertised.add("Directory", ("ProgramMenuFolder", "TARGETDIR", "."))
    advertised.add(
        "Shortcut",
        (
            "S1",
            "ProgramMenuFolder",
            "SOUND|Sound the harbour",
            "Program",
            "Main",
            None,
            None,
            None,
            None,
            None,
            None,
            None,
        ),
    )
    libraries = new("type-library").component("Program", key="FProgram")
    libraries.file("Program", "FProgram", "tide.tlb", (Path(__file__).parent / "tide.tlb").read_bytes())
    libraries.add(
        "TypeLib",
        ("{5B0C2E4F-6C1D-4E0A-9C61-7C1C6C1A0B09}", 0, "Program", 0x0102, "Tide library", "INSTALLDIR", "Main", None),
    )
    permanent = new("permanent").with_file().with_file("Kept", "kept.txt", more=16)
    permanent.add("Registry", ("R1", 2, r"Software\Tidewell\Permanent", "Kept", "1", "Kept"))
    never = new("never-overwrite").with_file("Program", "program.txt", more=128)
    never.add("Registry", ("R1", 2, r"Software\Tidewell\Never", "Key", "#1", "Program"))
    removal = new("remove-files").with_file()
    removal.add(
        "RemoveFile", ("RF1", "Program", "gone.txt", "INSTALLDIR", 3), ("RF2", "Program", None, "INSTALLDIR", 2)
    )
    removal.add("RemoveRegistry", ("RR1", 2, r"Software\Tidewell\Old", "-", "Program"))
    later = (
        new("advertised-feature")
        .with_file()
        .add("Feature", ("Later", None, "Later", None, 3, 1, None, 4))
        .with_file("LaterPart", "later.txt", feature="Later")
    )
    later.add("Registry", ("R1", 2, r"Software\Tidewell\Later", "Here", "1", "LaterPart"))
    refused = new("refused").with_file()
    refused.add("LaunchCondition", ("VersionNT >= 9999", "Needs a Windows that is not yet made."))
    parts = new("feature-parts", properties={"ADDLOCAL": "ALL", "REMOVE": "Second"})
    parts.add(
        "Feature",
        ("First", "Main", "First", None, 3, 1, None, 0),
        ("Second", "Main", "Second", None, 5, 1, None, 0),
        ("Late", None, "Late", None, 7, 500, None, 0),
    )
    parts.with_file().with_file("FirstPart", "first.txt", feature="First").with_file(
        "SecondPart", "second.txt", feature="Second"
    ).with_file("LatePart", "late.txt", feature="Late")
