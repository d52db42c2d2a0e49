"""Setup scripts behind the stub of a real setup program, from which a draft must lead to a proof.

Each is a whole setup as vendors write them: files, an entry in the list of programs, an uninstaller, and one thing that
makes it different. What right is for each stands in ``ASKS`` of ``first_drafts.py`` where it is no proof.
"""

from __future__ import annotations

from collections.abc import Callable

from script_specimens import HKCR, HKCU, HKLM, SHCTX, Script

from yendo.demo.vendor import PROGRAMS

KEY = r"Software\Tidewell\Pilot"
UNINSTALL = r"Software\Microsoft\Windows\CurrentVersion\Uninstall\Pilot"
PROGRAM = PROGRAMS / "lantern-6.2.1.exe"
Part = Callable[[Script], object]


def setup(
    more: Part | None = None, undo: Part | None = None, *, before: Part | None = None, **options: object
) -> Script:
    """A usual setup with something more in it, which its uninstaller undoes."""
    folder = str(options.get("folder", r"$PROGRAMFILES\Tidewell Pilot"))
    removes = Script(folder)
    if undo:
        undo(removes)
    for name in ("pilot.exe", "pilot.dat", "remove.exe"):
        removes.do("delete file", rf"$INSTDIR\{name}")
    if options.get("entry", True):
        removes.do("delete registry", 0, HKLM, UNINSTALL, "", 1)
    removes.do("delete registry", 0, HKLM, KEY, "", 1).do("remove folder", "$INSTDIR", 1).section()
    script = Script(folder)
    if before:
        before(script)
    script.do("make folder", "$INSTDIR", 1)
    script.place("pilot.exe", PROGRAM.read_bytes()).place("pilot.dat", b"depths of the fairway\r\n" * 9)
    script.registry(HKLM, KEY, "Folder", "$INSTDIR").registry(HKLM, KEY, "Version", "2.4.1")
    if more:
        more(script)
    if options.get("uninstaller", True):
        script.uninstaller(r"$INSTDIR\remove.exe", removes)
    if options.get("entry", True):
        for name, value in (
            ("DisplayName", "Tidewell Pilot 2.4.1"), ("DisplayVersion", "2.4.1"), ("Publisher", "Tidewell"),
            ("DisplayIcon", r"$INSTDIR\pilot.exe"), ("UninstallString", r'"$INSTDIR\remove.exe"'),
        ):  # fmt: skip
            script.registry(HKLM, UNINSTALL, name, value)
        if options.get("uninstaller", True):
            script.registry(HKLM, UNINSTALL, "QuietUninstallString", r'"$INSTDIR\remove.exe" /S')
    return script.section()


def _menu(script: Script) -> None:
    script.do("make folder", r"$SMPROGRAMS\Tidewell", 0)
    script.do("shortcut", r"$SMPROGRAMS\Tidewell\Pilot.lnk", r"$INSTDIR\pilot.exe", "", "", 0, "Finds the fairway")


def _no_menu(script: Script) -> None:
    script.do("delete file", r"$SMPROGRAMS\Tidewell\Pilot.lnk").do("remove folder", r"$SMPROGRAMS\Tidewell", 1)


def _for_all(part: Part) -> Part:
    def both(script: Script) -> None:
        script.do("set flag", 1, "1")
        part(script)

    return both


def _earlier(script: Script) -> None:
    """Asks whether an earlier one is there, and goes on where it is not; silently it takes the answer yes."""
    script.do("read registry", "0", HKLM, UNINSTALL, "UninstallString", 0).do("compare texts", "$0", "", "none", 0, 0)
    script.do("message box", 4 | 6 << 21, "Replace the one that is there?", 6, "none", 0, 0).do("quit").label("none")


def _windows(script: Script) -> None:
    key = r"SOFTWARE\Microsoft\Windows NT\CurrentVersion"
    script.do("set flag", 12, "256").do("read registry", "0", HKLM, key, "CurrentBuildNumber", 0).do(
        "set flag", 12, "0"
    )
    script.do("compare numbers", "$0", "10240", "good", "old", "good", 0).label("old")
    script.do("message box", 16 | 1 << 21, "This program needs Windows 10.", 0, 0, 0, 0).do("quit").label("good")


def _ini(script: Script) -> None:
    script.do("write ini", "site", "name", "Marrowby", r"$INSTDIR\site.ini", 1)
    script.do("write ini", "site", "version", "2.4.1", r"$INSTDIR\site.ini", 1)


def _text(script: Script) -> None:
    script.do("open file", "1", 0x40000000, 2, r"$INSTDIR\site.txt").do("write to file", "$1", "quay 3", 0)
    script.do("close file", "$1")


def _file_type(script: Script) -> None:
    script.registry(HKCR, ".pilotchart", "", "Tidewell.Chart").registry(HKCR, "Tidewell.Chart", "", "Chart")
    script.registry(HKCR, r"Tidewell.Chart\shell\open\command", "", r'"$INSTDIR\pilot.exe" "%1"')


def _no_file_type(script: Script) -> None:
    script.do("delete registry", 0, HKCR, ".pilotchart", "", 1).do("delete registry", 0, HKCR, "Tidewell.Chart", "", 1)


def _wide_values(script: Script) -> None:
    script.do("set flag", 12, "256").registry(HKLM, KEY, "Wide", "1").do("set flag", 12, "0")


def _no_wide_values(script: Script) -> None:
    script.do("set flag", 12, "256").do("delete registry", 0, HKLM, KEY, "", 1).do("set flag", 12, "0")


def _charts(script: Script) -> None:
    script.do("make folder", r"$INSTDIR\charts\north", 1)
    for number in range(12):
        script.place(f"n{number}.chart", bytes([number]) * (50 + number))
    script.do("make folder", "$INSTDIR", 1)


def _loops(script: Script) -> None:
    """Places a file for every number below five, by counting."""
    script.do("assign", "2", "0", "", "").label("again").do("compare numbers", "$2", "5", "enough", 0, "enough", 0)
    script.do("copy files", r"$INSTDIR\pilot.dat", r"$INSTDIR\copy$2.dat", 0x614)  # without a question, as is usual
    script.do("calculate", "2", "$2", "1", 0)
    script.do("jump", "again").label("enough")


def _deletes(pattern: str) -> Part:
    return lambda script: script.do("delete file", rf"$INSTDIR\{pattern}")


def _shared_data(script: Script) -> None:
    script.do("set flag", 1, "1").do("make folder", r"$APPDATA\Tidewell\Pilot", 1).place("sites.dat", b"quays\r\n")
    script.do("make folder", "$INSTDIR", 1)


def _no_shared_data(script: Script) -> None:
    script.do("set flag", 1, "1").do("remove folder", r"$APPDATA\Tidewell\Pilot", 3)
    script.do("remove folder", r"$APPDATA\Tidewell", 1)


def _variable(script: Script) -> None:
    script.registry(HKLM, r"System\CurrentControlSet\Control\Session Manager\Environment", "PILOT_HOME", "$INSTDIR")


def _no_variable(script: Script) -> None:
    key = r"System\CurrentControlSet\Control\Session Manager\Environment"
    script.do("delete registry", 0, HKLM, key, "PILOT_HOME", 0)


def _kinds_of_values(script: Script) -> None:
    script.registry(HKLM, KEY, "Depth", "0x20", 4, 4).registry(HKLM, KEY, "Home", r"%SystemRoot%\x", 1, 2)
    script.registry(HKLM, KEY, "Raw", b"\x01\x02\xff", 3)


def _own_values(script: Script) -> None:
    script.registry(HKCU, KEY, "Seen", "yes")


def _no_own_values(script: Script) -> None:
    script.do("delete registry", 0, HKCU, KEY, "", 1)


def _whose_values(script: Script) -> None:
    script.do("set flag", 1, "1").registry(SHCTX, KEY, "Whose", "everyone's")


def _runs(script: Script) -> None:
    script.do("run", "cmd /c exit 0", 0, 1)


def _runs_its_own(script: Script) -> None:
    script.do("run", r'"$INSTDIR\pilot.exe" --register', 0, 1)


def _renames(script: Script) -> None:
    script.place("new.dat", b"new").do("delete file", r"$INSTDIR\later.dat").do(
        "rename", r"$INSTDIR\new.dat", r"$INSTDIR\later.dat"
    )


def _temporary(script: Script) -> None:
    script.do("make folder", r"$TEMP\pilot", 1).place("helper.dat", b"helps").do("make folder", "$INSTDIR", 1)
    script.do("remove folder", r"$TEMP\pilot", 3)


def _system_file(script: Script) -> None:
    script.do("make folder", "$SYSDIR", 1).place("pilot-helper.dat", b"helps").do("make folder", "$INSTDIR", 1)


def _no_system_file(script: Script) -> None:
    script.do("delete file", r"$SYSDIR\pilot-helper.dat")


def _versions(script: Script) -> None:
    """Replaces a file only where its own is newer."""
    script.do("file version", "0", "1", r"$INSTDIR\pilot.exe").do("compare numbers", "$0", "0", "none", 0, 0, 1)
    script.registry(HKLM, KEY, "Program", "has a version").label("none")


def _calls(script: Script) -> None:
    script.do("call", "writes").do("jump", "after").label("writes").registry(HKLM, KEY, "Called", "yes")
    script.do("return").label("after")


def _reads_ini(script: Script) -> None:
    _ini(script)
    script.do("read ini", "0", "site", "name", r"$INSTDIR\site.ini").registry(HKLM, KEY, "Site", "$0")


def _sections() -> Script:
    script = setup()
    script.registry(HKLM, KEY, "Second", "section")
    return script.section()


def scripts() -> dict[str, Callable[[], Script]]:
    """Every script by name."""
    return {
        "plain": setup,
        "menu": lambda: setup(_menu, _no_menu),
        "menu-for-all": lambda: setup(_for_all(_menu), _for_all(_no_menu)),
        "asks-for-an-earlier-one": lambda: setup(before=_earlier),
        "asks-the-build": lambda: setup(before=_windows),
        "ini": lambda: setup(_ini, _deletes("site.ini")),
        "writes-a-text": lambda: setup(_text, _deletes("site.txt")),
        "file-type": lambda: setup(_file_type, _no_file_type),
        "wide-values": lambda: setup(_wide_values, _no_wide_values),
        "many-files": lambda: setup(_charts, lambda one: one.do("remove folder", r"$INSTDIR\charts", 3)),
        "counts": lambda: setup(_loops, _deletes("copy*.dat")),
        "shared-data": lambda: setup(_shared_data, _no_shared_data),
        "leaves-its-data": lambda: setup(_shared_data),
        "leaves-a-file": lambda: setup(_ini),
        "variable": lambda: setup(_variable, _no_variable),
        "kinds-of-values": lambda: setup(_kinds_of_values),
        "own-values": lambda: setup(_own_values, _no_own_values),
        "everyones-values": lambda: setup(_whose_values, lambda one: one.do("set flag", 1, "1")),
        "runs-a-command": lambda: setup(_runs),
        "runs-its-own-program": lambda: setup(_runs_its_own),
        "renames": lambda: setup(_renames, _deletes("later.dat")),
        "temporary-files": lambda: setup(_temporary),
        "system-file": lambda: setup(_system_file, _no_system_file),
        "asks-a-version": lambda: setup(_versions),
        "calls": lambda: setup(_calls),
        "two-sections": _sections,
        "leaves-an-empty-folder": lambda: setup(lambda one: one.do("make folder", r"$INSTDIR\charts", 0)),
        "leaves-a-variable": lambda: setup(_variable),
        "no-uninstaller": lambda: setup(uninstaller=False, entry=False),
        "no-entry": lambda: setup(entry=False),
        "wide-folder": lambda: setup(folder=r"C:\Tidewell\Pilot"),
        "reads-an-ini": lambda: setup(_reads_ini, _deletes("site.ini")),
    }
