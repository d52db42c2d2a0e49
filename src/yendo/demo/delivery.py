"""The office's package for all of its machines: foreseen, put into waves, played before the first one is touched."""

from __future__ import annotations

import hashlib
from collections.abc import Iterator, Sequence
from datetime import date, datetime, timedelta
from pathlib import Path
from typing import TYPE_CHECKING

import msgspec

from yendo import atomic
from yendo.demo import all_machines
from yendo.package.build import name_of
from yendo.plan import read
from yendo.terms import events

if TYPE_CHECKING:
    from yendo.fleet.columns import Columns
    from yendo.fleet.course import Course
    from yendo.fleet.deliveries import Deliveries
    from yendo.fleet.devices import DeviceAnswer
    from yendo.fleet.foresee import Foreseen
    from yendo.fleet.happened import Happened
    from yendo.fleet.planning import PlannedWave
    from yendo.fleet.waves import Waves

COURSES = 5
BEGIN = date(2026, 12, 7)
GAUGE = "extras/gauge-driver"
PICTURE, PAGE = "course.svg", "delivery.html"


class Delivery(msgspec.Struct, frozen=True):
    """What came of it; ``gauges`` is what the package's driver would change, ``picture`` a file."""

    foreseen: Foreseen
    groups: list[PlannedWave]
    courses: list[Course]
    gauges: DeviceAnswer
    picture: Path
    went: Happened | None = None
    page: Path | None = None


def tell(folder: Path, workspace: Path) -> Delivery | None:
    """Carries it out in the demo's folder; None where the libraries for it are missing."""
    try:
        from yendo.fleet.deliveries import Deliveries
        from yendo.fleet.picture import picture
        from yendo.fleet.planning import as_persons_may, courses_of, planned
        from yendo.fleet.store import FILE, Inventory
    except ImportError:
        return None
    from yendo.fleet import waves
    from yendo.fleet.course import Habits
    from yendo.fleet.devices import changed_by
    from yendo.fleet.foresee import foresee
    from yendo.fleet.incoming import gathered
    from yendo.fleet.reports import outcomes_of

    machines, programs, outcomes = all_machines.write(folder)
    inventory = Inventory(folder / FILE)
    columns = inventory.keep(gathered([machines, programs, all_machines.devices(folder)]))
    inventory.report(outcomes_of([outcomes]))
    path = workspace / waves.FILE
    if not path.exists():
        atomic.write(path, waves.BEGIN.format(begin=BEGIN.isoformat()).encode())
    plan, given = read(workspace / "plan.toml")[0], waves.read(path)
    found = foresee(plan, workspace, columns, inventory.outcomes(), now=f"{BEGIN}T12:00")
    groups = planned(given, found, plan, columns)
    courses = courses_of(as_persons_may(given, plan), groups, columns, found.failures, Habits(), COURSES)
    gauges = changed_by(workspace / GAUGE, columns)
    title = f"{plan.package.name} {plan.package.version}, as it would go"
    atomic.write(folder / PICTURE, picture(courses[0], title))
    package = workspace / "package" / name_of(plan)
    if not (package / "manifest.json").is_file():
        return Delivery(found, groups, courses, gauges, folder / PICTURE)
    went, page = _went(folder, package, Deliveries(inventory), given, groups, columns)
    return Delivery(found, groups, courses, gauges, folder / PICTURE, went, page)


def _went(
    folder: Path, package: Path, deliveries: Deliveries, given: Waves, groups: Sequence[PlannedWave], columns: Columns
) -> tuple[Happened, Path]:
    """The first two waves as they might really go: what the computers tell is invented, and taken like any other."""
    from yendo.fleet.deliveries import moment
    from yendo.fleet.happened import happened
    from yendo.fleet.page import page
    from yendo.fleet.picture import went as drawn

    now, sites = moment(), columns.sites()
    begun = now - timedelta(days=4)
    named = [(one.wave, [(columns.computers[at], sites[at]) for at in one.machines]) for one in groups]
    number = deliveries.begin(package, given, named, who="Ada", now=begun)
    for day, (wave, computers) in zip((0, 2), named[:2], strict=True):
        at = begun + timedelta(days=day)
        deliveries.open_next(number, who="Ada", although="invented: the demo waits for no day", now=at)
        silent = computers[3:5] if wave is named[1][0] else []
        for place, (name, _) in enumerate(one for one in computers if one not in silent):
            ended = at + timedelta(hours=1, minutes=37 * place % 1400)
            for report in _reports(number, package, name, ended, failed=bool(silent) and place == 7):
                deliveries.arrive(report, ended)
    said = happened(deliveries, number, now, columns)
    path = folder / PAGE
    atomic.write(path, page(said, picture=drawn(said).decode()).encode())
    return said, path


def _reports(number: int, package: Path, computer: str, ended: datetime, *, failed: bool) -> Iterator[bytes]:
    """What a computer tells at first, and how it ended there."""
    from yendo.fleet.index import written
    from yendo.fleet.machine_reports import MachineReport, sealed
    from yendo.package import manifest

    made, key = manifest.read(package), hashlib.sha256(computer.encode()).hexdigest()
    stamp, began = written(ended), written(ended - timedelta(minutes=4))
    told: list[events.Event] = [events.RunBegan(made.name, made.version, made.revision, "install")]
    if failed:
        idle = events.CommandIdle("0 ms of processor time, 0 bytes read and written, 2 processes")
        told += [idle, events.CommandStopped(1800), events.StepEndedBadly(22, 1)]
    else:
        told.append(events.RunEnded(0))
    lines = b"".join(events.written(one, time=stamp, verb="install", step=1) for one in told)
    whose = {"v": 1, "computer": computer, "told": stamp}
    about = {"order": number, "package": made.id, "version": made.version, "revision": made.revision, "verb": "install"}
    ended_so = {"code": 22 if failed else 0, "began": began, "ended": stamp, "events": lines.decode()}
    for sort, more in (("joined", {"key": key}), ("ended", about | ended_so)):
        identifier = hashlib.sha256(f"{computer} {sort}".encode()).hexdigest()[:32]
        yield sealed(msgspec.convert({**whose, "id": identifier, "sort": sort, **more}, MachineReport), key)
