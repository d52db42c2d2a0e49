"""A folder full of drivers as a table: each one, which are the same, which are older, which claim the same device."""

from __future__ import annotations

import os
from collections import defaultdict
from collections.abc import Callable
from pathlib import Path

import msgspec

from yendo import texts
from yendo.drivers import reading
from yendo.drivers.driver import Driver
from yendo.drivers.ranking import fields_of
from yendo.drivers.target import ANY, DriverTarget
from yendo.errors import Usage, YendoError
from yendo.host_os.several import in_processes

SCHEMA = "yendo.drivers/1"
MAX_DRIVERS = 50_000
WORTH_IT = 8  # fewer are read before another process has begun


class DriverRow(msgspec.Struct, frozen=True):
    """One driver of a share. ``path`` is that of its ``.inf`` below the share; ``content`` the SHA-256 over all of it.

    ``devices`` counts those for the Windows that was asked about; ``start`` is what of a start-up image needs it.
    """

    path: str
    class_name: str = ""
    provider: str = ""
    version: str = ""
    date: str = ""
    architectures: str = ""
    devices: int = 0
    files: int = 0
    signed: str = ""
    signer: str = ""
    start: str = ""
    errors: str = ""
    content: str = ""
    trouble: str = ""


class SharedDrivers(msgspec.Struct, frozen=True):
    """``drivers`` by their paths below the share; ``troubles`` are those that cannot be read, with the reason."""

    drivers: dict[str, Driver]
    troubles: dict[str, str]

    @property
    def rows(self) -> list[DriverRow]:
        found = [_row(path, driver) for path, driver in self.drivers.items()]
        found += [DriverRow(path, trouble=why) for path, why in self.troubles.items()]
        return sorted(found, key=lambda row: row.path)

    @property
    def duplicates(self) -> list[tuple[str, ...]]:
        """Drivers of the same bytes."""
        same = defaultdict(list)
        for path, driver in self.drivers.items():
            same[driver.content].append(path)
        return [tuple(sorted(paths)) for paths in same.values() if len(paths) > 1]

    @property
    def older(self) -> list[tuple[str, str]]:
        """Drivers that another version of the same is at hand of, each with the newest."""
        lines = defaultdict(list)
        for path, driver in self.drivers.items():
            key = (driver.inf.lower(), driver.provider.lower(), driver.class_id, driver.architectures)
            lines[key].append(((driver.date, fields_of(driver.version)), path))
        found = []
        for members in lines.values():
            last = max(age for age, _ in members)
            newest = min(path for age, path in members if age == last)
            found += [(path, newest) for age, path in sorted(members) if age < last]
        return found

    @property
    def claims(self) -> dict[str, tuple[str, ...]]:
        """Devices that several drivers claim which are not versions of one another: identifier -> their paths."""
        who = defaultdict(set)
        for path, driver in self.drivers.items():
            for device in driver.devices:
                for identifier in device.identifiers:
                    who[identifier.lower()].add((driver.inf.lower(), driver.provider.lower(), path))
        return {
            identifier: tuple(sorted(path for _, _, path in claimed))
            for identifier, claimed in sorted(who.items())
            if len({(inf, provider) for inf, provider, _ in claimed}) > 1
        }


def files(share: Path) -> list[Path]:
    """Every ``.inf`` below a folder, links left out. Raises Usage where there are too many."""
    found = []
    for place, _, names in os.walk(share):
        for name in names:
            if name.lower().endswith(".inf") and name.lower() != "autorun.inf":
                path = Path(place, name)
                if path.is_file() and not path.is_symlink():
                    found.append(path)
    if len(found) > MAX_DRIVERS:
        raise Usage(f"{share} holds more than {MAX_DRIVERS} drivers; name a part of it")
    return sorted(found)


def read(
    share: Path,
    windows: DriverTarget = ANY,
    *,
    found: list[Path] | None = None,
    workers: int | None = None,
    tell: Callable[[str], object] = lambda path: None,
) -> SharedDrivers:
    """Every driver of a share, read by several processes at once. What cannot be read stops nothing.

    ``found`` are its files where they are known already. Raises Usage.
    """
    jobs = [(path, share, windows) for path in (files(share) if found is None else found)]
    drivers: dict[str, Driver] = {}
    troubles: dict[str, str] = {}
    count = max(1, min(workers or os.cpu_count() or 1, len(jobs))) if len(jobs) >= WORTH_IT else 1
    for path, driver, trouble in in_processes(_job, jobs, count):
        tell(path)
        if driver is not None:
            drivers[path] = driver
        else:
            troubles[path] = trouble
    return SharedDrivers(drivers, troubles)


def _job(given: tuple[Path, Path, DriverTarget]) -> tuple[str, Driver | None, str]:
    path, share, windows = given
    shown = texts.writable(path.relative_to(share).as_posix())
    try:
        return shown, reading.read(path, windows), ""
    except YendoError as error:
        return shown, None, texts.writable(str(error))
    except Exception as error:  # one file must not stop a share; that it is ours and not the file's is said
        return shown, None, f"a defect in Yendo ({type(error).__name__}: {error}), please send the file in"


def _row(path: str, driver: Driver) -> DriverRow:
    return DriverRow(
        path,
        driver.class_name,
        driver.provider,
        driver.version,
        driver.date,
        ", ".join(driver.architectures),
        len(driver.devices),
        len(driver.files),
        driver.trust.state if driver.trust.state != "holds" else driver.trust.by,
        driver.trust.signer,
        driver.start,
        ", ".join(finding.id for finding in driver.findings if finding.level == "error"),
        driver.content,
    )
