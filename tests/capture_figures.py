"""How well a capture tells apart: what writes in the background, what is bound to a machine, what was there already.

``python tests/capture_figures.py``; needs the layer. Every figure with what was planted, found, and taken wrongly.
"""

from __future__ import annotations

import contextlib
import sys
import tempfile
from collections.abc import Iterator
from pathlib import Path
from typing import Any

from first_drafts import made, world
from first_scripts import scripts

from yendo.capture import AlreadyThere, WorkLine, brings, sorted_out, work
from yendo.cli.machines import cache, make
from yendo.effects import File, State
from yendo.effects.things import label
from yendo.installers import recognise
from yendo.machines.wine.machine import OTHER, WineMachine
from yendo.steps.captured import CapturedStep, decided

# What runs in the background of a real machine while somebody works: timers, logs, caches, recently used, updaters.
# Every line leaves something that belongs to no program, and none of it may come with the package.
EXPLORER = r"HKCU\Software\Microsoft\Windows\CurrentVersion\Explorer"
WRITERS = (
    r'echo x> "%TEMP%\setup-part.tmp"',
    r'echo x> "%SystemRoot%\Temp\update.tmp"',
    r'mkdir "%TEMP%\unpacked" & echo x> "%TEMP%\unpacked\a.dat"',
    r'echo %TIME%>> "%ProgramData%\agent.log"',
    r'echo x> "%ProgramData%\Vendor.log"',
    r'mkdir "%SystemRoot%\Logs\CBS" 2>nul & echo x> "%SystemRoot%\Logs\CBS\CBS.txt"',
    r'mkdir "%SystemRoot%\Prefetch" 2>nul & echo x> "%SystemRoot%\Prefetch\SETUP.EXE-1.pf"',
    r'mkdir "%ProgramData%\Microsoft\Windows\WER\ReportQueue" & echo x> "%ProgramData%\Microsoft\Windows\WER\ReportQueue\r.wer"',
    r'mkdir "%LOCALAPPDATA%\CrashDumps" & echo x> "%LOCALAPPDATA%\CrashDumps\a.dmp"',
    r'mkdir "%APPDATA%\Microsoft\Windows\Recent" 2>nul & echo x> "%APPDATA%\Microsoft\Windows\Recent\a.txt"',
    r'mkdir "%LOCALAPPDATA%\Microsoft\Windows\Explorer" 2>nul & echo x> "%LOCALAPPDATA%\Microsoft\Windows\Explorer\icons.db"',
    r'mkdir "%LOCALAPPDATA%\Microsoft\Windows\INetCache\IE" 2>nul & echo x> "%LOCALAPPDATA%\Microsoft\Windows\INetCache\IE\x.htm"',
    rf"reg add {EXPLORER}\RecentDocs /v 0 /d a.txt /f",
    rf"reg add {EXPLORER}\RunMRU /v a /d cmd /f",
    rf"reg add {EXPLORER}\UserAssist\x /v y /t REG_DWORD /d 3 /f",
    rf"reg add {EXPLORER}\ComDlg32\OpenSavePidlMRU /v 0 /d x /f",
    r"reg add HKCU\Software\Microsoft\Windows\Shell\BagMRU /v 0 /d x /f",
    r'reg add "HKCU\Software\Classes\Local Settings\Software\Microsoft\Windows\Shell\MuiCache" /v x /d y /f',
    r'reg add "HKCU\Software\Microsoft\Windows NT\CurrentVersion\AppCompatFlags\Compatibility Assistant\Store" /v x /d y /f',
    r'reg add "HKLM\Software\Updater" /v LastCheck /d "%TIME%" /f',
    r'reg add "HKLM\Software\Updater" /v Session /d "%RANDOM%%RANDOM%" /f',
    r'reg add "HKLM\Software\Agent" /v Host /d "%USERNAME%" /f',
    r'reg add "HKLM\Software\Agent" /v Counter /t REG_DWORD /d %RANDOM% /f',
    r'reg add "HKLM\Software\Agent\Runs\%RANDOM%%RANDOM%" /v x /d y /f',
    r'mkdir "%ProgramData%\Cache" & echo x> "%ProgramData%\Cache\%RANDOM%%RANDOM%.bin"',
    r'echo %RANDOM%%RANDOM%> "%ProgramData%\token.bin"',
    r'echo %USERNAME%> "%ProgramData%\owner.txt"',
    r'vol c: > "%ProgramData%\inventory.txt"',
    r'echo %TIME% %RANDOM%> "%ProgramData%\heartbeat.dat"',
    r'reg add "HKLM\Software\Scanner" /v Seen /d "%RANDOM%-%RANDOM%" /f',
)
MARKS = (
    "setup-part", "update.tmp", "unpacked", "agent.log", "vendor.log", "cbs", "prefetch", "wer\\", "crashdumps", "\\recent\\",
    "icons.db", "inetcache", "recentdocs", "runmru", "userassist", "comdlg32", "bagmru", "muicache", "appcompatflags",
    "\\updater", "\\agent", "\\cache\\", "token.bin", "owner.txt", "inventory.txt", "heartbeat", "\\scanner",
)  # fmt: skip

# Values that are one machine's own, as programs are known to write them.
BOUND = (
    r'echo %COMPUTERNAME%> "{home}\host.lic"', r'echo %RANDOM%%RANDOM%%RANDOM%> "{home}\device.id"',
    r'vol c: > "{home}\volume.dat"', r"reg add {key} /v Licensee /d %USERNAME% /f",
    r"reg add {key} /v MachineId /d {{%RANDOM%-%RANDOM%}} /f", r"reg add {key} /v Node /d node-%COMPUTERNAME%-1 /f",
    r'echo key=%RANDOM%%RANDOM%> "{home}\%COMPUTERNAME%.key"', r"reg add {key}\Hosts\%COMPUTERNAME% /v Port /d 7 /f",
    r'reg add {key} /v Installed /d "%TIME%" /f', r'reg add {key} /v Spool /d "C:\Users\%USERNAME%\spool" /f',
    r'echo %USERNAME%@%COMPUTERNAME%> "{home}\account.cfg"', r"reg add {key} /v Seed /t REG_DWORD /d %RANDOM% /f",
    r'mkdir "{home}\%USERNAME%" & echo x> "{home}\%USERNAME%\a.txt"', r"reg add {key} /v Share /d \\%COMPUTERNAME%\depths /f",
    r'echo %RANDOM%> "{home}\activation.bin"',
)  # fmt: skip


def script(folder: Path, name: str, lines: tuple[str, ...] | list[str]) -> Path:
    path = folder / f"{name}.cmd"
    path.write_text("@echo off\r\n" + "\r\n".join(lines) + "\r\nexit /b 0\r\n", newline="")
    return path


def twice(brought: list[Path], jobs: list[WorkLine]) -> Any:
    one = work(make("wine"), jobs, brought=brought, timeout=300)  # type: ignore[arg-type]
    return sorted_out(one, work(WineMachine(cache(), guise=OTHER), jobs, brought=brought, timeout=300))


def background(folder: Path) -> tuple[int, int]:
    """A setup with thirty writers beside it: how many things of theirs would come, how many of its own would not."""
    setup = made("script: menu-for-all", folder / "setup")
    line = recognise.read(setup).silent.install
    assert line is not None
    alone = sorted_out(work(make("wine"), [WorkLine("install", line.command)], brought=[setup]))  # type: ignore[arg-type]
    writers = script(folder, "writers", WRITERS)
    found = twice(
        [setup, writers], [WorkLine("install", 'cmd /c "{folder}\\writers.cmd"'), WorkLine("install", line.command)]
    )
    kept = {label(one.caught.effect.thing).lower() for one in decided(CapturedStep(), found) if one.fate == "kept"}
    own = {label(one.caught.effect.thing).lower() for one in decided(CapturedStep(), alone) if one.fate == "kept"}
    for name in sorted(kept - own):
        print("  of the background:", name)
    for name in sorted(own - kept):
        print("  lost:", name)
    return len(kept - own), len(own - kept)


def bound(folder: Path) -> tuple[int, int, int]:
    """Fifteen programs, each with one such value among its own: found, planted, and taken for bound wrongly."""
    lines = []
    for number, planted in enumerate(BOUND):
        home, key = rf"%ProgramData%\Program{number:02}", rf"HKLM\Software\Program{number:02}"
        lines.append(f'mkdir "{home}"')
        lines += [f'echo line {at}> "{home}\\part{at}.dat"' for at in range(3)]
        lines += [f"reg add {key} /v Value{at} /d text{at} /f" for at in range(3)]
        lines.append(planted.format(home=home, key=key))
    found = twice([script(folder, "programs", lines)], [WorkLine("install", 'cmd /c "{folder}\\programs.cmd"')])
    every = decided(CapturedStep(), found)
    right = set()
    wrong = 0
    for one in every:
        name = label(one.caught.effect.thing).lower()
        own = "\\part" in name or "\\value" in name or name.rpartition("\\")[2].startswith("program")
        if one.fate == "open" or one.caught.bound:
            if own:
                wrong += 1
                print("  taken for bound:", name, one.why)
            else:
                right.add(name.partition("program")[2].removeprefix("data%\\program")[:2])
    missed = {f"{number:02}" for number in range(len(BOUND))} - right
    for number in sorted(missed):
        print("  not found:", BOUND[int(number)])
    return len(right), len(BOUND), wrong


class Planted(WineMachine):
    """A machine on which some files lie already."""

    def __init__(self, paths: list[str]) -> None:
        super().__init__(cache())
        self.paths = paths

    @contextlib.contextmanager
    def fresh(self, account: Any = "user") -> Iterator[Any]:
        with super().fresh(account) as session:
            for path in self.paths:
                at = ""
                for part in path.split("\\")[:-1]:
                    at = f"{at}\\{part}" if at else part
                    if at.count("\\"):
                        session.make_folder(at)
                session.write(path, b"half of it")
            yield session

    def baseline(self, account: Any = "user") -> State:
        state = super().baseline(account)
        for path in self.paths:
            state.add_folders(path.rpartition("\\")[0])
            state.add(File(path))
        return state


def already(folder: Path) -> tuple[int, int]:
    """Half of what a setup brings lies there: noticed, of all that were tried."""
    names = [
        *[f"script: {name}" for name in scripts()][:10],
        *[name for name in world() if name not in ("refused",)][:12],
    ]
    noticed = tried = 0
    for name in names:
        setup = made(name, folder / name.replace(": ", "-"))
        files = [
            effect.thing.path for effect in brings(setup) if effect.change == "add" and isinstance(effect.thing, File)
        ]
        files = [path for path in files if path.lower().startswith(("c:\\program", "c:\\windows\\system32\\"))]
        if not files:
            continue
        tried += 1
        try:
            line = [WorkLine("install", "cmd /c exit 0")]
            work(Planted(files[: (len(files) + 1) // 2]), line, brought=[setup], predicted=brings(setup))
        except AlreadyThere:
            noticed += 1
            continue
        print("  not noticed:", name)
    return noticed, tried


def main() -> int:
    with tempfile.TemporaryDirectory() as place:
        folder = Path(place)
        theirs, lost = background(folder)
        print(f"background: {theirs} things of {len(WRITERS)} writers would come, {lost} of the program would not")
        found, planted, wrong = bound(folder)
        print(f"bound: {found} of {planted} found, {wrong} taken wrongly of {len(BOUND) * 7}")
        noticed, tried = already(folder)
        print(f"there already: {noticed} of {tried} noticed")
    return int(bool(theirs or lost or found < planted or wrong * 50 > len(BOUND) * 7 or noticed < tried))


if __name__ == "__main__":
    sys.exit(main())
