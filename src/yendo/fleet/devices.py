"""Which machines a driver would change: those with a device that would take it in the place of what it uses."""

from __future__ import annotations

from collections.abc import Mapping
from pathlib import Path
from typing import TYPE_CHECKING

import msgspec
import numpy as np

from yendo.drivers import share
from yendo.drivers.driver import Driver
from yendo.drivers.ranking import DeviceIdentifiers, beats, rank
from yendo.drivers.target import PROCESSORS, DriverTarget
from yendo.errors import Usage
from yendo.fleet.columns import NO, UNKNOWN, YES, Columns, ListedDevice

if TYPE_CHECKING:
    from numpy.typing import NDArray

    from yendo.fleet.columns import Truth


class DeviceAnswer(msgspec.Struct, frozen=True):
    """For each machine whether a driver changes something on it; ``because`` says it of machines with yes or unknown
    by number: the device, and why.
    """

    whole: Truth
    because: Mapping[int, tuple[str, str]]


def changed_by(folder: Path, columns: Columns) -> DeviceAnswer:
    """For the drivers below a folder, the machines that they would change. A machine whose devices are not listed, or
    whose Windows is not known, is unknown. Raises Usage where there is no driver.
    """
    if not share.files(folder):
        raise Usage(f"{folder} holds no driver (.inf)")
    answer = np.full(len(columns), UNKNOWN, np.int8)
    because: dict[int, tuple[str, str]] = {}
    for target, mask in _targets(columns):
        drivers = list(share.read(folder, target).drivers.values())
        mine = mask & columns.fitted.listed
        answer[mine] = NO
        for number, device in enumerate(columns.devices):
            some = columns.fitted.having(number)
            some = some[mine[some]]
            if not len(some):
                continue
            takes, why = _takes(drivers, device)
            for at in () if takes is False else (int(one) for one in some):
                if answer[at] == YES or (takes is None and at in because):
                    continue
                answer[at] = UNKNOWN if takes is None else YES
                because[at] = (device.name or (*device.hardware, *device.compatible)[0], why)
    return DeviceAnswer(answer, because)


def _takes(drivers: list[Driver], device: ListedDevice) -> tuple[bool | None, str]:
    """Whether a device would take one of these drivers."""
    wanted = DeviceIdentifiers(device.hardware, device.compatible)
    found = rank(drivers, wanted)
    if found.base:
        takes, why = beats(found.base[0], device.used, wanted)
        if takes or not found.extensions:
            return takes, why
    if found.extensions:
        return None, "an extension would be added; which extensions it has is not told"
    return False, ""


def _targets(columns: Columns) -> list[tuple[DriverTarget, NDArray[np.bool_]]]:
    """Each Windows of the inventory as drivers are held against it, and its machines."""
    names = ("windows", "architecture", "edition")
    if any(name not in columns.texts for name in names[:2]):
        return []
    some = [columns.texts[name] for name in names if name in columns.texts]
    codes = np.stack([column.codes for column in some])
    found = []
    for kind in np.unique(codes, axis=1).T:
        windows, architecture, *edition = (
            column.values[code] if code >= 0 else "" for column, code in zip(some, kind, strict=True)
        )
        numbers = windows.split(".")
        if architecture not in PROCESSORS or len(numbers) < 3 or not all(part.isdigit() for part in numbers[:3]):
            continue
        major, minor, build = (int(part) for part in numbers[:3])
        product = 3 if edition and edition[0].lower().startswith("server") else 1
        target = DriverTarget((major, minor, build), architecture, product, title=windows)
        found.append((target, np.all(codes == kind[:, None], axis=0)))
    return found
