"""The office's package for all of its machines: foreseen, put into waves, played before the first one is touched."""

from __future__ import annotations

from datetime import date
from pathlib import Path
from typing import TYPE_CHECKING

import msgspec

from yendo import atomic
from yendo.demo import all_machines
from yendo.plan import read

if TYPE_CHECKING:
    from yendo.fleet.course import Course
    from yendo.fleet.foresee import Foreseen
    from yendo.fleet.planning import PlannedWave

COURSES = 5
BEGIN = date(2026, 12, 7)
PICTURE = "course.svg"


class Delivery(msgspec.Struct, frozen=True):
    """What came of it; ``picture`` is a file."""

    foreseen: Foreseen
    groups: list[PlannedWave]
    courses: list[Course]
    picture: Path


def tell(folder: Path, workspace: Path) -> Delivery | None:
    """Carries it out in the demo's folder; None where the libraries for it are missing."""
    try:
        from yendo.fleet.picture import picture
        from yendo.fleet.planning import courses_of, planned
        from yendo.fleet.store import FILE, Inventory
    except ImportError:
        return None
    from yendo.fleet import waves
    from yendo.fleet.course import Habits
    from yendo.fleet.foresee import foresee
    from yendo.fleet.incoming import gathered
    from yendo.fleet.reports import outcomes_of

    machines, programs, outcomes = all_machines.write(folder)
    inventory = Inventory(folder / FILE)
    columns = inventory.keep(gathered([machines, programs]))
    inventory.report(outcomes_of([outcomes]))
    path = workspace / waves.FILE
    if not path.exists():
        atomic.write(path, waves.BEGIN.format(begin=BEGIN.isoformat()).encode())
    plan, given = read(workspace / "plan.toml")[0], waves.read(path)
    found = foresee(plan, workspace, columns, inventory.outcomes(), now=f"{BEGIN}T12:00")
    groups = planned(given, found, plan, columns)
    courses = courses_of(given, groups, columns, found.failures, Habits(), COURSES)
    title = f"{plan.package.name} {plan.package.version}, as it would go"
    atomic.write(folder / PICTURE, picture(courses[0], title))
    return Delivery(found, groups, courses, folder / PICTURE)
