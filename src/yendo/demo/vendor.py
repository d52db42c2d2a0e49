"""Makes the installers of the invented vendor Tidewell, with our own writer."""

from __future__ import annotations

import uuid
from collections.abc import Iterable, Mapping
from pathlib import Path

from yendo import digest
from yendo.demo.patching import write_patch
from yendo.formats import cab
from yendo.formats.msi import DatabaseWriter, Summary
from yendo.formats.msi.patch import PatchFamily
from yendo.formats.msi.schema import SUGGESTED, columns

PROGRAMS = Path(__file__).parent / "programs"
UPGRADE_CODE = "{6E1C9C54-83A5-4A0B-9B27-5B7C0F6A1D10}"
_NAMESPACE = uuid.UUID("0b8d5a52-6a3e-4b57-9f27-3c0d3ad0c1a7")

Rows = Iterable[tuple[str | int | None, ...]]


def guid(name: str) -> str:
    """A stable identifier for a name, ``{...}`` in upper case."""
    return "{" + str(uuid.uuid5(_NAMESPACE, name)).upper() + "}"


# The standard actions that its installers have.
ACTIONS = (
    "FindRelatedProducts", "AppSearch", "LaunchConditions", "ValidateProductID", "CostInitialize", "FileCost",
    "CostFinalize", "MigrateFeatureStates", "InstallValidate", "RemoveExistingProducts", "InstallInitialize",
    "ProcessComponents", "UnpublishFeatures", "StopServices", "DeleteServices", "RemoveRegistryValues",
    "RemoveShortcuts", "RemoveEnvironmentStrings", "RemoveIniValues", "RemoveDuplicateFiles", "RemoveFiles",
    "RemoveFolders", "CreateFolders", "InstallFiles", "DuplicateFiles", "CreateShortcuts", "WriteRegistryValues",
    "WriteIniValues", "WriteEnvironmentStrings", "InstallServices", "StartServices", "RegisterUser",
    "RegisterProduct", "PublishFeatures", "PublishProduct", "InstallFinalize",
)  # fmt: skip
SEQUENCE = [(name, "VersionNT" if "Service" in name else None, SUGGESTED[name]) for name in ACTIONS]


def write_installer(
    target: Path,
    tables: Mapping[str, Rows],
    *,
    cabinets: Mapping[str, bytes] | None = None,
    summary: Summary | None = None,
    code_page: int = 1252,
    sector_size: int = 512,
) -> None:
    """Writes a database with standard tables; ``cabinets`` are embedded under these names."""
    writer = DatabaseWriter(code_page=code_page, summary=summary)
    for name, rows in tables.items():
        writer.table(name, columns(name), rows)
    for name, data in (cabinets or {}).items():
        writer.stream(name, data)
    with target.open("wb") as file:
        writer.write(file, sector_size=sector_size)


def _charts(version: str) -> bytes:
    return (
        f"# Chart list of Lantern {version}\r\nMarrowby outer harbour\r\nMarrowby fairway\r\nKettle bank\r\n".encode()
    )


def lantern(folder: Path, version: str = "6.2.1") -> Path:
    """Writes ``lantern-VERSION.msi`` (6.1.0, 6.2.1, 6.2.3 or 6.3.0) and returns its path.

    6.2.3 is a minor update of 6.2.1.
    """
    minor, next_ = version == "6.2.3", version == "6.3.0"
    contents = _contents(version)
    tables: dict[str, Rows] = {
        **_identity(version, guid(f"lantern {'6.2.1' if minor else version}"), next_=next_),
        **_files(contents, version, latest=minor or next_, next_=next_),
        **_settings(next_=next_),
        **_services(next_=next_),
        **_sequence(),
    }
    tables |= _dialogs(updates=not next_)
    if version != "6.1.0":
        tables["CreateFolder"] = [("DATADIR", "Defaults")]
    if next_:
        tables["AppSearch"] = [("WINDOWSBUILD", "WindowsBuild")]
        tables["RegLocator"] = [
            ("WindowsBuild", 2, r"SOFTWARE\Microsoft\Windows NT\CurrentVersion", "CurrentBuild", 2 | 16)
        ]
    target = folder / f"lantern-{version}.msi"
    write_installer(
        target,
        tables,
        cabinets={"lantern.cab": cab.build(contents.items())},
        summary=Summary(
            title="Installation Database",
            subject="Lantern",
            author="Tidewell",
            keywords="Installer",
            comments="Sounding software for harbours",
            template="x64;2057",
            revision=guid(f"package {version}"),
            pages=200,
            words=2,
            application="Tidewell build bench",
            security=2,
        ),
    )
    return target


def _contents(version: str) -> dict[str, bytes]:
    """The files that a version brings, by their keys."""
    contents = {
        "lantern.exe": (PROGRAMS / f"lantern-{version}.exe").read_bytes(),
        "lanternd.exe": (PROGRAMS / f"lanternd-{version}.exe").read_bytes(),
        "charts.lst": _charts(version),
        "manual.txt": f"Lantern {version}\r\nHow to take a sounding.\r\n".encode() * 40,
        "defaults.ini": b"[sounding]\r\nunit=metre\r\n",
        "plugin.txt": b"Survey export, optional part\r\n",
    }
    if version in ("6.2.3", "6.3.0"):
        contents["tides.dat"] = b"quay 3;springs;neaps\r\n" * 30
    if version == "6.3.0":
        contents["lantern-sync.exe"] = contents["lanternd.exe"]
        contents |= {f"chart-{number:02}.dat": f"sounding {number}\r\n".encode() * 900 for number in range(1, 13)}
    return contents


def _identity(version: str, product: str, *, next_: bool) -> dict[str, Rows]:
    """What it is, where it goes, its parts, what it asks of a machine, what it takes the place of."""
    return {
        "Property": [
            ("ProductCode", product),
            ("ProductName", "Lantern"),
            ("ProductVersion", version),
            ("Manufacturer", "Tidewell"),
            ("ProductLanguage", "2057"),
            ("UpgradeCode", UPGRADE_CODE),
            ("ALLUSERS", "1"),
            *([] if next_ else [("AUTOUPDATE", "1")]),
            ("SITE", "Unassigned"),
            ("ARPCONTACT", "Tidewell help desk"),
            ("ARPNOMODIFY", "1"),
            ("INSTALLLEVEL", "3"),
            ("SecureCustomProperties", "OLDERFOUND;NEWERFOUND;SITE" + (";WINDOWSBUILD" if next_ else ";AUTOUPDATE")),
        ],
        "Directory": [
            ("TARGETDIR", None, "SourceDir"),
            ("ProgramFiles64Folder", "TARGETDIR", "."),
            ("TIDEWELL", "ProgramFiles64Folder", "Tidewell"),
            ("INSTALLDIR", "TIDEWELL", "Lantern"),
            ("DOCDIR", "INSTALLDIR", "DOCUME~1|documents"),
            ("CHARTDIR", "INSTALLDIR", "charts"),
            ("CommonAppDataFolder", "TARGETDIR", "."),
            ("TIDEDATA", "CommonAppDataFolder", "Tidewell"),
            ("DATADIR", "TIDEDATA", "Lantern"),
            ("ProgramMenuFolder", "TARGETDIR", "."),
            ("MENUDIR", "ProgramMenuFolder", "Tidewell"),
            ("DesktopFolder", "TARGETDIR", "."),
        ],
        "Feature": [
            ("Main", None, "Lantern", "The sounding software", 1, 1, "INSTALLDIR", 0),
            ("Documentation", "Main", "Manual", "How to take a sounding", 2, 3, None, 0),
            ("SurveyExport", "Main", "Survey export", "Optional", 3, 200, None, 0),
        ],
        "LaunchCondition": [
            ("VersionNT64", "Lantern needs 64-bit Windows."),
            ("Installed OR NOT NEWERFOUND", "A newer Lantern is installed already."),
            *(
                [("Installed OR WINDOWSBUILD >= 19041", "Lantern 6.3 needs Windows 10.0.19041 or later.")]
                if next_
                else []
            ),
        ],
        "Upgrade": [
            (UPGRADE_CODE, None, version, None, 1, None, "OLDERFOUND"),
            (UPGRADE_CODE, version, None, None, 2, None, "NEWERFOUND"),
        ],
    }


def _components(contents: dict[str, bytes], places: dict[str, tuple[str, str]], *, next_: bool) -> Rows:
    """One for each file, or for several that belong together; and those for settings."""

    def component(
        name: str, folder_name: str, key: str | None, attributes: int = 256, condition: str | None = None
    ) -> tuple[str | int | None, ...]:
        return name, guid(f"component {name}"), folder_name, attributes, condition, key

    firsts = {name: key for key, (name, _) in reversed(places.items()) if key in contents}
    components = [component(name, where, key) for key, (name, where) in places.items() if firsts.get(name) == key]
    components += [
        component("Settings", "INSTALLDIR", "RegSite", 256 | 4),
        *([] if next_ else [component("Updater", "INSTALLDIR", "RegUpdate", 256 | 4, "AUTOUPDATE=1")]),
        component("DesktopIcon", "INSTALLDIR", "RegDesktop", 256 | 4),
    ]
    return components


def _files(contents: dict[str, bytes], version: str, *, latest: bool, next_: bool) -> dict[str, Rows]:
    """Components, the parts they belong to, and their files."""
    names = {
        "lantern.exe": "lantern.exe",
        "lanternd.exe": "lanternd.exe",
        "charts.lst": "charts.lst",
        "manual.txt": "manual.txt",
        "defaults.ini": "defaults.ini",
        "plugin.txt": "EXPORT.TXT|survey export.txt",
        "tides.dat": "tides.dat",
        "lantern-sync.exe": "LSYNC.EXE|lantern-sync.exe",
    }
    names |= {name: name for name in contents if name not in names}
    places = {
        "lantern.exe": ("Program", "INSTALLDIR"),
        "lanternd.exe": ("Service", "INSTALLDIR"),
        "charts.lst": ("Charts", "INSTALLDIR"),
        "manual.txt": ("Manual", "DOCDIR"),
        "defaults.ini": ("Defaults", "DATADIR"),
        "plugin.txt": ("Plugin", "INSTALLDIR"),
        "tides.dat": ("Tides", "INSTALLDIR"),
        "lantern-sync.exe": ("Sync", "INSTALLDIR"),
    }
    places |= {name: ("Soundings", "CHARTDIR") for name in contents if name.startswith("chart-")}

    components = _components(contents, places, next_=next_)
    features = {
        "Main": ["Program", "Service", "Charts", "Defaults", "Settings", "DesktopIcon"]
        + (["Sync", "Soundings"] if next_ else ["Updater"])
        + (["Tides"] if latest else []),
        "Documentation": ["Manual"],
        "SurveyExport": ["Plugin"],
    }
    return {
        "Component": components,
        "FeatureComponents": [(feature, name) for feature, names_ in features.items() for name in names_],
        "File": [
            (
                key,
                places[key][0],
                names[key],
                len(data),
                f"{version}.0" if key.endswith(".exe") else None,
                "2057" if key.endswith(".exe") else None,
                512,
                number,
            )
            for number, (key, data) in enumerate(contents.items(), 1)
        ],
        "MsiFileHash": [
            (key, 0, *digest.of_installer(data)) for key, data in contents.items() if not key.endswith(".exe")
        ],
        "Media": [(1, len(contents), None, "#lantern.cab", None, None)],
    }


def _settings(*, next_: bool) -> dict[str, Rows]:
    return {
        "Registry": [
            ("RegSite", 2, r"Software\Tidewell\Lantern", "Site", "[SITE]", "Settings"),
            ("RegVersion", 2, r"Software\Tidewell\Lantern", "Version", "[ProductVersion]", "Settings"),
            ("RegFolder", 2, r"Software\Tidewell\Lantern", "Folder", "[INSTALLDIR]", "Settings"),
            ("RegDepth", 2, r"Software\Tidewell\Lantern", "DepthLimit", "#120", "Settings"),
            *(
                []
                if next_
                else [
                    ("RegUpdate", 2, r"Software\Tidewell\Lantern\Update", "Automatic", "#1", "Updater"),
                    ("RegUpdateUrl", 2, r"Software\Tidewell\Lantern\Update", "Channel", "stable", "Updater"),
                ]
            ),
            ("RegDesktop", 2, r"Software\Tidewell\Lantern", "DesktopIcon", "#1", "DesktopIcon"),
        ],
        "Environment": [("LanternHome", "=-*LANTERN_HOME", "[INSTALLDIR]", "Program")],
    }


def _services(*, next_: bool) -> dict[str, Rows]:
    """Shortcuts and services."""
    return {
        "Shortcut": [
            _shortcut("MenuLantern", "MENUDIR", "Program", "Take soundings"),
            _shortcut("DesktopLantern", "DesktopFolder", "DesktopIcon", None),
        ],
        "ServiceInstall": [
            _service("LanternTide", "Lantern tide gauge", "Service", "Reads the tide gauge"),
            *([_service("LanternSync", "Lantern chart exchange", "Sync", "Fetches charts")] if next_ else []),
        ],
        "ServiceControl": [
            ("LanternTide", "LanternTide", 128 | 32 | 2, None, 1, "Service"),
            *([("LanternSync", "LanternSync", 128 | 32 | 2, None, 1, "Sync")] if next_ else []),
        ],
    }


def _shortcut(key: str, folder: str, component: str, description: str | None) -> tuple[str | int | None, ...]:
    target = (key, folder, "Lantern", component, "[#lantern.exe]", None, description)
    return *target, None, None, None, None, "INSTALLDIR"


def _service(name: str, title: str, component: str, description: str) -> tuple[str | int | None, ...]:
    return name, name, title, 16, 3, 1, None, None, None, None, None, component, description


def _sequence() -> dict[str, Rows]:
    return {
        "RemoveFile": [("EmptyMenu", "Program", None, "MENUDIR", 2)],
        "CustomAction": [
            ("SetArpLocation", 51, "ARPINSTALLLOCATION", "[INSTALLDIR]"),
            ("SelfTest", 18 | 0x400 | 0x800 | 64, "lantern.exe", "--self-test"),
        ],
        "InstallExecuteSequence": [
            *SEQUENCE,
            ("SetArpLocation", "NOT Installed", 1010),
            ("SelfTest", "NOT REMOVE", 4100 + 1400),
        ],
    }


def _dialogs(*, updates: bool) -> dict[str, Rows]:
    """What a person at the keyboard is asked: the licence, the site, updates, the folder, the parts."""

    def control(
        dialog: str, name: str, kind: str, y: int, property_: str | None, text: str | None, width: int = 200
    ) -> tuple[str | int | None, ...]:
        return dialog, name, kind, 20, y, width, 17, 3, property_, text, None, None

    def dialog(name: str, title: str, first: str) -> tuple[str | int | None, ...]:
        return name, 50, 50, 370, 270, 39, title, first, "Next", "Next"

    return {
        "Dialog": [
            dialog("LicenceDlg", "[ProductName] - licence", "Accept"),
            dialog("SurveyDlg", "[ProductName] - your office", "Site"),
            dialog("PartsDlg", "[ProductName] - parts", "Parts"),
        ],
        "Control": [
            control("LicenceDlg", "Terms", "Text", 20, None, "Use Lantern on as many boats as you like."),
            control("LicenceDlg", "Accept", "CheckBox", 200, "LicenceAccepted", "I &accept the licence"),
            control("LicenceDlg", "Next", "PushButton", 240, None, "&Next"),
            control("SurveyDlg", "SiteText", "Text", 30, None, "Which office is this?"),
            control("SurveyDlg", "Site", "ComboBox", 50, "SITE", None),
            *([control("SurveyDlg", "Update", "CheckBox", 90, "AUTOUPDATE", "Look for &updates")] if updates else []),
            control("SurveyDlg", "FolderText", "Text", 120, None, "Install Lantern in:"),
            control("SurveyDlg", "Folder", "PathEdit", 140, "INSTALLDIR", None),
            control("SurveyDlg", "Next", "PushButton", 240, None, "&Next"),
            control("PartsDlg", "Parts", "SelectionTree", 40, "PartsChosen", None),
            control("PartsDlg", "Next", "PushButton", 240, None, "&Install"),
        ],
        "ControlEvent": [
            ("LicenceDlg", "Next", "NewDialog", "SurveyDlg", "LicenceAccepted", 1),
            ("SurveyDlg", "Next", "NewDialog", "PartsDlg", "1", 1),
            ("PartsDlg", "Next", "EndDialog", "Return", "1", 1),
        ],
        "ComboBox": [
            ("SITE", 1, "Marrowby", "Marrowby harbour"),
            ("SITE", 2, "Kettle", "Kettle bank"),
            ("SITE", 3, "Unassigned", "None of these"),
        ],
        "CheckBox": [*([("AUTOUPDATE", "1")] if updates else []), ("LicenceAccepted", "1")],
        "InstallUISequence": [
            ("CostInitialize", None, 800),
            ("FileCost", None, 900),
            ("CostFinalize", None, 1000),
            ("LicenceDlg", "NOT Installed", 1230),
            ("ExecuteAction", None, 1300),
        ],
    }


PATCH_CODE = "{0C1B7A64-2E0D-4B6B-8E0C-6B1B0F5A6230}"


def lantern_patch(folder: Path) -> Path:
    """Writes ``lantern-6.2.3.msp``, which makes 6.2.1 6.2.3, and returns its path.

    Needs both releases in ``folder``.
    """
    target = folder / "lantern-6.2.3.msp"
    write_patch(
        target,
        folder / "lantern-6.2.1.msi",
        folder / "lantern-6.2.3.msi",
        PATCH_CODE,
        metadata={
            "DisplayName": "Lantern 6.2.3",
            "Description": "Tide tables, and corrections to the sounding log",
            "ManufacturerName": "Tidewell",
            "TargetProductName": "Lantern",
            "Classification": "Update",
            "AllowRemoval": "1",
        },
        family=PatchFamily("Lantern", "", "6.2.3.0", True),
    )
    return target


SITE_CONFIGURATION = "[site]\r\nname = Marrowby harbour survey office\r\ntide_gauge = quay 3\r\n"
