"""Databases from which a draft must lead to a proof, and what right is for each, written down before it was tried.

The specimens that tests and the judge use, and those below: searches and conditions as the documentation of the Windows
Installer gives them as examples, and tables that the others leave out. ``python tests/first_drafts.py [--machine wine]
[NAME ...]`` prints the table; on wine each is written by the layer's own ``winemsibuilder``, and proved as the system
account by the package's own runner.
"""

from __future__ import annotations

import argparse
import os
import shutil
import sys
import tempfile
import time
from collections.abc import Callable, Iterable
from pathlib import Path
from typing import Any

import msgspec
from first_scripts import scripts
from specimens import Specimen, all_of_them, builder

from yendo.check import Workspace, check
from yendo.demo.vendor import PROGRAMS, guid
from yendo.draft import draft
from yendo.errors import YendoError
from yendo.machines.protocol import Machine
from yendo.machines.simulated.machine import SimulatedMachine
from yendo.package import build
from yendo.plan import read
from yendo.prove.furnished import furnished, simulated_for
from yendo.prove.prove import matrix
from yendo.prove.scenarios import SCENARIOS

# Those that must not be proved as they are drafted: what the draft's last lines have to name.
ASKS = {
    "refused": "detect: none could be derived, the installer refuses a fresh machine: Needs a Windows that is not yet"
}
# What ends otherwise on the layer, which is no Windows, and why.
_AGAIN = "the layer installs what is installed already once more"
LAYER = {
    "actions": _AGAIN,
    "asks-for-states": _AGAIN,
    "odbc": "the layer counts the use of a database driver again at every run",
    "odbc-source": "the layer counts the use of a database driver again at every run",
    "isolated": "the layer makes no private copies of isolated components",
    "asks-for-a-system-file": "the layer's own system files say an older version than the Windows that it says it is",
    "asks-for-windows-11": "the layer says that it is Windows 10",
    "asks-for-dotnet": "the layer has no .NET Framework",
    "asks-for-what-no-data-has": "no data has an answer, and the layer says no; the draft says that a machine has to",
}
_NT = r"Software\Microsoft\Windows NT\CurrentVersion"


class Came(msgspec.Struct):
    """What came of an installer without an edit: ``open`` are the draft's questions that no default answers, ``wrong``
    what failed, and where.
    """

    name: str
    asked: tuple[str, ...] = ()
    wrong: tuple[str, ...] = ()
    comparison: str = ""

    @property
    def right(self) -> bool:
        wanted = ASKS.get(self.name)
        return any(one.startswith(wanted) for one in self.asked) if wanted else not self.wrong


def came_of(installer: Path, folder: Path, machine: Machine, scenarios: Iterable[str], name: str = "") -> Came:
    """Drafts, checks, builds and proves, and nobody edits anything."""
    came = Came(name or installer.stem)
    drafted = draft.from_installer(folder, installer)
    plan = read(folder / "plan.toml")[0]
    came.asked = drafted.decisions
    errors = [finding for finding in check(Workspace(folder)) if finding.severity == "error"]
    if errors:
        came.wrong = tuple(f"check: {finding.rule}: {finding.message}" for finding in errors)
        return came
    package = build.build(folder, plan).folder
    there = furnished(machine, plan.proof, folder) if machine.place != "simulation" else simulated_for(plan, folder)
    cells = matrix(package, [there], [SCENARIOS[one] for one in scenarios], accept=plan.proof.accept)
    came.wrong = tuple(
        f"{cell.scenario.id}: {phase.title}: {phase.found}; {'; '.join(phase.details[:3])}"
        for cell in cells
        for phase in cell.proof.phases
        if phase.outcome == "failed"
    ) + tuple(f"{cell.scenario.id}: {cell.proof.unanswered}" for cell in cells if cell.outcome == "open")
    found = [cell.proof.comparison for cell in cells if cell.proof.comparison is not None]
    if found:
        came.comparison = f"{found[0].matched} as predicted, {len(found[0].missed)} missed, {len(found[0].false)} false"
    return came


def world() -> dict[str, Specimen]:
    """Every database of the table, by name."""
    found = all_of_them()

    def new(name: str, **options: Any) -> Specimen:
        found[name] = Specimen(name, **options)
        return found[name]

    _searches(new)
    _conditions(new)
    _tables(new)
    _layouts(new)
    return found


def _asks(made: Specimen, sought: str, key: str, value: str, condition: str, words: str) -> None:
    """It installs only where a value below HKLM is so."""
    made.with_file()
    made.add("AppSearch", (sought.upper(), sought))
    made.add("RegLocator", (sought, 2, key, value, 2 | 16))
    made.add("LaunchCondition", (f"Installed OR {condition}", words))


def _searches(new: Callable[..., Specimen]) -> None:
    """``AppSearch`` with its locators, and the launch conditions that ask for what was found."""
    file = new("asks-for-a-system-file").with_file()
    file.add("AppSearch", ("ADVAPI", "Advapi"))
    file.add("Signature", ("Advapi", "advapi32.dll", "10.0.17763.0", None, None, None, None, None, None))
    file.add("DrLocator", ("Advapi", None, "[System64Folder]", 0))
    file.add("LaunchCondition", ("Installed OR ADVAPI", "This program needs Windows 10 1809 or later."))
    _asks(
        new("asks-for-a-build"),
        "Build",
        _NT,
        "CurrentBuildNumber",
        "BUILD >= 17763",
        "This program needs Windows 10 1809 or later.",
    )
    _asks(
        new("asks-for-dotnet"),
        "NetFx",
        r"SOFTWARE\Microsoft\NET Framework Setup\NDP\v4\Full",
        "Release",
        'NETFX >= "#461808"',
        "This program needs .NET Framework 4.7.2.",
    )
    _asks(
        new("asks-for-windows-11"),
        "Build",
        _NT,
        "CurrentBuildNumber",
        "BUILD >= 22000",
        "This program needs Windows 11.",
    )
    _asks(
        new("asks-for-another-product"),
        "Base",
        r"Software\Tidewell\Base",
        "Version",
        "BASE",
        "Install Tidewell Base first.",
    )
    _asks(
        new("asks-for-what-no-data-has"),
        "Link",
        r"SOFTWARE\Microsoft\Tide Link\Setup",
        "Release",
        "LINK",
        "This program needs Tide Link.",
    )
    ini = new("searches-ini-files").with_file()
    ini.add("AppSearch", ("MAIL", "Mail"), ("HERE", "Here"))
    ini.add("IniLocator", ("Mail", "win.ini", "Mail", "MAPI", 0, 2))
    ini.add("CompLocator", ("Here", guid("a component that is nowhere"), 1))
    ini.add("Registry", ("R1", 2, r"Software\Tidewell\Ini", "Here", "<[HERE]>", "Program"))
    deep = new("searches-deep").with_file()
    deep.add("AppSearch", ("EDITOR", "Editor"), ("MENUS", "Menus"))
    deep.add("Signature", ("Editor", "notepad.exe", None, None, None, None, None, None, None))
    deep.add("DrLocator", ("Editor", None, "[WindowsFolder]", 1), ("Menus", None, "[ProgramMenuFolder]", 0))
    deep.add("Registry", ("R1", 2, r"Software\Tidewell\Deep", "Editor", "[EDITOR]", "Program"))
    folders = new("searches-the-registry-for-folders").with_file()
    folders.add("AppSearch", ("COMMON", "Common"), ("EARLIER", "Earlier"))
    folders.add(
        "RegLocator",
        ("Common", 2, r"Software\Microsoft\Windows\CurrentVersion", "CommonFilesDir", 0 | 16),
        ("Earlier", 2, r"Software\Tidewell\Earlier", "Folder", 0 | 16),
    )
    folders.add("CustomAction", ("UseEarlier", 51, "INSTALLDIR", "[EARLIER]"))
    folders.add("InstallExecuteSequence", ("UseEarlier", "EARLIER AND NOT Installed", 910))
    narrow = new("searches-the-narrow-half", platform="Intel").with_file()
    narrow.add("AppSearch", ("ROOT", "Root"))
    narrow.add("RegLocator", ("Root", 2, _NT, "SystemRoot", 2))
    narrow.add("Registry", ("R1", 2, r"Software\Tidewell\Half", "Root", "[ROOT]", "Program"))


def _conditions(new: Callable[..., Specimen]) -> None:
    """The operators and properties of conditions, as components, features and launches ask them."""
    launch = new("asks-the-system").with_file()
    launch.add(
        "LaunchCondition",
        ("Privileged", "An administrator has to install it."),
        ("VersionNT >= 600", "Needs Windows Vista."),
        ("VersionNT64 OR Intel64", "Needs a 64-bit Windows."),
        ("MsiNTProductType >= 1", "Needs a Windows."),
        ("Installed OR PhysicalMemory >= 512", "Needs 512 MB."),
        ('NOT MsiNTSuiteSmallBusiness AND ServicePackLevel >= 0', "Not on a small business server."),
    )  # fmt: skip
    words = new("compares").with_file()
    words.add("Property", ("WORD", "Harbour"), ("NUMBER", "12"), ("FLAGS", "6"))
    for at, condition in enumerate(
        (
            'WORD = "Harbour"', 'WORD = "harbour"', 'WORD ~= "harbour"', 'WORD >< "bou"', 'WORD << "Har"',
            'WORD >> "our"', "NUMBER > 9", 'NUMBER < "9"', "NUMBER <> 12", "FLAGS >< 2", "FLAGS << 1", "FLAGS >> 1",
            "WORD XOR UNSET", "UNSET IMP WORD", "WORD EQV UNSET", "NOT UNSET AND (WORD OR NUMBER)", "1", "0",
            "%USERNAME", '%OS = "Windows_NT"',
        )
    ):  # fmt: skip
        words.with_file(f"C{at}", f"c{at}.dat", condition=condition)
    states = new("asks-for-states").with_file()
    states.add("Feature", ("Extra", "Main", "Extra", None, 3, 1, None, 0), ("Off", None, "Off", None, 5, 0, None, 0))
    states.with_file("ExtraPart", "extra.dat", feature="Extra").with_file("OffPart", "off.dat", feature="Off")
    states.add(
        "CustomAction", ("Says", 51, "SAID", "extra is there"), ("SaysNot", 51, "SAID", "extra is not there"),
        ("SaysOff", 51, "OFF", "off"),
    )  # fmt: skip
    states.add(
        "InstallExecuteSequence",
        ("Says", "&Extra = 3 AND $ExtraPart > 2", 1010), ("SaysNot", "&Extra <> 3", 1011),
        ("SaysOff", "!Off < 3 AND ?OffPart <> 3", 1012),
    )  # fmt: skip
    states.add("Registry", ("R1", 2, r"Software\Tidewell\States", "Said", "[SAID]", "Program"))
    levels = new("conditions-of-features").with_file()
    levels.add(
        "Feature", ("Wide", "Main", "Wide", None, 3, 200, None, 0), ("Narrow", "Main", "Narrow", None, 5, 1, None, 0)
    )
    levels.with_file("WidePart", "wide.dat", feature="Wide").with_file("NarrowPart", "narrow.dat", feature="Narrow")
    levels.add("Condition", ("Wide", 1, "VersionNT64"), ("Narrow", 0, "VersionNT64"))


def _tables(new: Callable[..., Specimen]) -> None:
    """Tables that the other specimens leave out."""
    upgrade = new("removes-earlier-ones").with_file()
    upgrade.add("Upgrade", (guid("removes-earlier-ones line"), "0.1", "1.2.3", None, 1, None, "EARLIER"))
    upgrade.add("Upgrade", (guid("removes-earlier-ones line"), "1.2.3", None, None, 2 | 256, None, "NEWER"))
    upgrade.add("Property", ("SecureCustomProperties", "EARLIER;NEWER"), ("MsiHiddenProperties", "SECRET"))
    upgrade.add("CustomAction", ("Refuse", 19, None, "A newer one is there."))
    upgrade.add("InstallExecuteSequence", ("Refuse", "NEWER", 110))
    dialogs = new("dialogs").with_file()
    dialogs.add("Property", ("DefaultUIFont", "Text"), ("CHOICE", "b"), ("AGREE", "1"))
    dialogs.add("Dialog", ("Welcome", 50, 50, 370, 270, 3, "[ProductName]", "Next", "Next", "Next"))
    dialogs.add(
        "Control",
        ("Welcome", "Next", "PushButton", 236, 243, 56, 17, 3, None, "&Next", "Choice", None),
        ("Welcome", "Choice", "RadioButtonGroup", 20, 55, 330, 40, 3, "CHOICE", None, "List", None),
        ("Welcome", "List", "ComboBox", 20, 100, 100, 40, 3, "QUAY", None, "Box", None),
        ("Welcome", "Box", "CheckBox", 20, 150, 100, 17, 3, "AGREE", "I agree", "Next", None),
    )
    dialogs.add("ControlEvent", ("Welcome", "Next", "EndDialog", "Return", "AGREE", 1))
    dialogs.add("ControlCondition", ("Welcome", "Next", "Disable", "NOT AGREE"))
    dialogs.add("EventMapping", ("Welcome", "Next", "ActionText", "Text"))
    dialogs.add(
        "RadioButton", ("CHOICE", 1, "a", 0, 0, 320, 15, "One", None), ("CHOICE", 2, "b", 0, 20, 320, 15, "Two", None)
    )
    dialogs.add("ComboBox", ("QUAY", 1, "3", "Quay 3")).add("ListBox", ("PIER", 1, "1", "Pier 1"))
    dialogs.add("CheckBox", ("AGREE", "1")).add("UIText", ("bytes", "bytes")).add(
        "ActionText", ("InstallFiles", "Copying", None)
    )
    dialogs.add("InstallUISequence", ("Welcome", "NOT Installed", 1230), ("ExecuteAction", None, 1300))
    later = new("sequences-of-other-kinds").with_file()
    later.add("AdminExecuteSequence", ("CostInitialize", None, 800), ("InstallFinalize", None, 6600))
    later.add("MsiFileHash", ("FProgram", 0, 1, 2, 3, 4)).add("BindImage", ("FProgram", None))
    assembly = new("private-assembly").component("Program", key="FProgram")
    assembly.file("Program", "FProgram", "sound.exe", (PROGRAMS / "lantern-6.2.1.exe").read_bytes(), "6.2.1.0")
    assembly.add("MsiAssembly", ("Program", "Main", "FProgram", "FProgram", 0))
    assembly.add("MsiAssemblyName", ("Program", "name", "Tide.Sound"), ("Program", "version", "6.2.1.0"))
    source = new("odbc-source").with_file()
    source.add("ODBCDriver", ("Drv", "Program", "Tide tables", "FProgram", None))
    source.add("ODBCDataSource", ("Src", "Program", "Tides of this year", "Tide tables", 0))
    source.add("ODBCSourceAttribute", ("Src", "ReadOnly", "1"))
    actions = new("actions-of-many-kinds").with_file()
    actions.add("Property", ("SHELL", r"C:\Windows\System32\cmd.exe"))
    actions.add(
        "CustomAction",
        ("Never", 19, None, "This is never said."),
        ("Shell", 50 | 64, "SHELL", "/c exit 0"),
        ("SetLater", 51, "Later", "/c exit 0"),
        ("Later", 50 | 64 | 1024, "SHELL", "[CustomActionData]"),
        ("Script", 38 | 64, None, "x = 1"),
    )
    actions.add(
        "InstallExecuteSequence",
        ("Never", "UNSET", 60), ("Shell", "NOT Installed", 1020), ("SetLater", "NOT Installed", 4001),
        ("Later", "NOT Installed", 4002), ("Script", "UNSET", 1030),
    )  # fmt: skip
    removing = new("removes-at-install").with_file()
    removing.add("Environment", ("E1", "!-*TIDE_OLD", None, "Program"))
    removing.add(
        "Registry",
        ("R1", 2, r"Software\Tidewell\Marks", "+", None, "Program"), ("R2", 2, r"Software\Tidewell\Gone", "-", None, "Program"),
    )  # fmt: skip
    removing.add("ServiceControl", ("Stop", "TideNeverThere", 2 | 8, None, 0, "Program"))


def _layouts(new: Callable[..., Specimen]) -> None:
    """How folders, names and components are written down."""
    names = new("names").with_file("Program", "SOUND~1.DAT|Take soundings in the Köhlbrand.dat")
    names.add("Directory", ("HERE", "INSTALLDIR", "."), ("SHORT", "HERE", "CHARTS~1|Charts of the harbour:CHARTS"))
    names.with_file("Chart", "chart.dat", folder="SHORT")
    chosen = new("a-folder-of-ones-choice")
    chosen.tables["Feature"] = [("Main", None, "Main", None, 1, 1, "INSTALLDIR", 0)]
    chosen.with_file("Program", "program.dat").add("Property", ("ARPNOMODIFY", "1"), ("ARPHELPLINK", "survey.example"))
    both = new("both-halves").with_file("Program", "program.dat")
    both.add("Directory", ("ProgramFilesFolder", "TARGETDIR", "."), ("OLD", "ProgramFilesFolder", "Specimen old half"))
    both.attributes = 0
    both.with_file("Old", "old.dat", folder="OLD")
    both.add("Registry", ("R1", 2, r"Software\Tidewell\Old half", "Here", "1", "Old"))
    shared = new("shared-and-by-registry").with_file("Program", "program.dat", more=8)
    shared.component("Value", key="R1", more=4)
    shared.add("Registry", ("R1", 2, r"Software\Tidewell\Key path", "Here", "#1", "Value"))
    either = new("for-either", everyone=False).with_file("Program", "program.dat")
    either.add("Property", ("ALLUSERS", "2"))
    german = new("german").with_file("Program", "Peilgerät.dat")
    german.tables["Property"] = [
        (name, {"ProductName": "Prüfstück", "ProductLanguage": "1031"}.get(name, value))
        for name, value in german.tables["Property"]
    ]


def names() -> list[str]:
    """Of every installer in the table."""
    return [*world(), *(f"script: {name}" for name in scripts())]


def made(name: str, share: Path, session: Any = None) -> Path:
    """An installer of the table, alone in a folder; a database is written by the layer of ``session``, where there is
    one.
    """
    share.mkdir(parents=True)
    if name.startswith("script: "):
        installer = share / "pilot-setup.exe"
        installer.write_bytes(scripts()[name.removeprefix("script: ")]().build())
        return installer
    specimen = world()[name]
    if session is None:
        return specimen.ours(share)
    with tempfile.TemporaryDirectory(prefix="yendo-written-") as place:
        written = specimen.theirs(Path(place), builder(session, Path(place)))
        return Path(shutil.move(written, share / written.name))


def main() -> int:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--machine", choices=("simulated", "wine"), default="simulated")
    parser.add_argument("names", nargs="*", metavar="NAME")
    options = parser.parse_args()
    machine: Machine = SimulatedMachine()
    scenarios: Iterable[str] = SCENARIOS
    if options.machine == "wine":
        from yendo.machines.wine.machine import WineMachine, powershell_source

        cache = Path(os.environ.get("YENDO_CACHE") or tempfile.gettempdir())
        machine, scenarios = WineMachine(cache, powershell_source()), ("system",)
    right = 0
    wanted = [name for name in names() if not options.names or name in options.names]
    for name in wanted:
        begun = time.monotonic()
        with tempfile.TemporaryDirectory(prefix="yendo-first-") as place:
            share = Path(place) / "from"
            try:
                if options.machine == "wine" and not name.startswith("script: "):
                    with machine.fresh() as session:
                        installer = made(name, share, session)
                else:
                    installer = made(name, share)
                came = came_of(installer, Path(place) / "w", machine, scenarios, name)
            except (YendoError, AssertionError) as error:
                came = Came(name, wrong=(f"{type(error).__name__}: {error}",))
        right += came.right
        verdict = "right" if came.right else "WRONG"
        if options.machine == "wine" and not came.right and name in LAYER:
            verdict = f"layer ({LAYER[name]})"
        print(
            f"{verdict} {name} {time.monotonic() - begun:.1f} s {came.comparison}",
            *came.wrong,
            sep="\n      ",
            flush=True,
        )
    named = sum(one in LAYER for one in wanted) if options.machine == "wine" else 0
    print(f"{right} of {len(wanted)} are right" + (f", {named} may end otherwise on the layer" if named else ""))
    return right + named < len(wanted)


if __name__ == "__main__":
    sys.exit(main())
