"""What a start-up image needs of a share: the drivers of storage, network and what they hang on, and nothing else.

Source: the servicing program's own documentation for ``/Add-Driver``. Executed nowhere: the layer has no images.
"""

from __future__ import annotations

import shutil
from pathlib import Path

import msgspec

from yendo import atomic
from yendo.drivers import reading
from yendo.drivers.driver import Driver
from yendo.drivers.share import SharedDrivers
from yendo.errors import Usage

SCRIPT = "put-into-image.cmd"
_SCRIPT = """@echo off
rem Puts the drivers beside it into a mounted start-up image: put-into-image.cmd D:\\mounted
if "%~1"=="" (echo name the folder of a mounted image & exit /b 2)
if not exist "%~1\\Windows\\System32" (echo %~1 is no mounted image & exit /b 2)
"%SystemRoot%\\System32\\dism.exe" /English "/Image:%~1" /Add-Driver "/Driver:%~dp0drivers" /Recurse
exit /b %errorlevel%
"""


class StartUpSet(msgspec.Struct, frozen=True):
    """The drivers that go into the image, by their paths below the share; and what was left out, each with why."""

    taken: dict[str, Driver]
    left_out: dict[str, str]


def chosen(found: SharedDrivers) -> StartUpSet:
    """By class, held against the Windows of the image; the newest of one line, one of the same bytes."""
    older = dict(found.older)
    same = {path: group[0] for group in found.duplicates for path in group[1:]}
    taken: dict[str, Driver] = {}
    left_out: dict[str, str] = {}
    for path, driver in sorted(found.drivers.items()):
        errors = [finding.what for finding in driver.findings if finding.level == "error"]
        if not driver.start:
            continue
        if errors:
            left_out[path] = errors[0]
        elif path in same:
            left_out[path] = f"the same bytes as {same[path]}"
        elif path in older and not _wrong(found.drivers[older[path]]):
            left_out[path] = f"older than {older[path]}"
        else:
            taken[path] = driver
    return StartUpSet(taken, left_out)


def _wrong(driver: Driver) -> bool:
    return any(finding.level == "error" for finding in driver.findings)


def write(chosen_ones: StartUpSet, target: Path) -> None:
    """A new folder with a folder a driver and the script that puts them into an image. Raises Usage, Unreadable."""
    if target.exists():
        raise Usage(f"{target} is there already; name a new folder")
    if not chosen_ones.taken:
        raise Usage("no driver here is for storage, network or what they hang on, so there is nothing to put together")
    with atomic.folder(target) as place:
        for number, (path, driver) in enumerate(chosen_ones.taken.items(), 1):
            source = Path(driver.path).parent
            inner = place / "drivers" / f"{number:03}-{Path(path).stem.lower()}"
            for name, file in reading.listing(source).items():
                to = inner.joinpath(*name.split("/")[:-1], file.name)
                to.parent.mkdir(parents=True, exist_ok=True)
                shutil.copyfile(file, to)
        (place / SCRIPT).write_bytes(_SCRIPT.replace("\n", "\r\n").encode("ascii"))
