"""Which driver Windows takes for a device, of those at hand, and why.

Source: "How Windows Ranks Drivers", "Signature Score", "Feature Score", "Identifier Score": a signed one before one
that is not (whoever signed, since all signers count the same where no policy says otherwise), then the smaller feature
score, then the nearer identifier, then the later date, then the higher version. Extensions are chosen beside the
driver, one for each identifier of an extension. What the system itself brings is not at hand, so the best of these may
still lose. Executed nowhere: the layer does not rank.
"""

from __future__ import annotations

from collections.abc import Iterable
from typing import Literal

import msgspec

from yendo.drivers.driver import Device, Driver
from yendo.facts.versions import Version

_MATCHES = {
    0: "its hardware identifier is one of the device's",
    1: "a compatible identifier of it is a hardware identifier of the device",
    2: "its hardware identifier is compatible with the device",
    3: "only compatible identifiers meet",
}


class DeviceIdentifiers(msgspec.Struct, frozen=True):
    """What a device says it is, the nearest first."""

    hardware: tuple[str, ...]
    compatible: tuple[str, ...] = ()


class UsedDriver(msgspec.Struct, frozen=True, order=True):
    """The driver that a device uses now, as the system tells it. ``inf`` is its name in the store, empty where it has
    none, ``matching`` the identifier by which it was chosen, ``rank`` how well, as Windows has reckoned it (-1 where
    that is not told). Source: "How Windows Ranks Drivers": 0xSSGGTHHH, where S below 8 is signed, G the feature score,
    T how identifiers meet.
    """

    inf: str = ""
    provider: str = ""
    date: str = ""
    version: str = ""
    matching: str = ""
    rank: int = -1


class RankedDriver(msgspec.Struct, frozen=True):
    """A driver that fits, with what decides: the smaller each of ``signed`` to ``place``, the better; then the later
    ``date`` (ISO) and the higher ``version``. ``place`` is where the device's identifier stands in its list, then
    where the driver's does.
    """

    driver: Driver
    device: Device
    identifier: str
    signed: Literal[0, 1]
    feature: int
    match: int
    place: tuple[int, int]

    @property
    def order(self) -> tuple[object, ...]:
        """The smaller, the better. What is equal in all that Windows looks at is ordered by its path."""
        return (
            self.signed,
            self.feature,
            self.match,
            self.place,
            tuple(-ord(letter) for letter in self.driver.date.ljust(10, "\0")),
            tuple(-number for number in fields_of(self.driver.version)),
            self.driver.path,
        )


class Ranking(msgspec.Struct, frozen=True):
    """``base`` are the drivers that fit, the best first; ``extensions`` the best of each that is added to it."""

    base: tuple[RankedDriver, ...]
    extensions: tuple[RankedDriver, ...]


def rank(drivers: Iterable[Driver], device: DeviceIdentifiers) -> Ranking:
    fitting = [found for driver in drivers if (found := _fit(driver, device)) is not None]
    fitting.sort(key=lambda found: found.order)
    extensions: dict[str, RankedDriver] = {}
    for found in fitting:
        if found.driver.class_name.lower() == "extension":
            extensions.setdefault(found.driver.extension.lower() or found.driver.path, found)
    return Ranking(
        tuple(found for found in fitting if found.driver.class_name.lower() != "extension"), tuple(extensions.values())
    )


def _fit(driver: Driver, device: DeviceIdentifiers) -> RankedDriver | None:
    """The nearest of its devices, None where none meets."""
    best: RankedDriver | None = None
    for line in driver.devices:
        for match, own, theirs in (
            (0, (line.hardware,), device.hardware),
            (1, line.compatible, device.hardware),
            (2, (line.hardware,), device.compatible),
            (3, line.compatible, device.compatible),
        ):
            known = [each.lower() for each in own]
            for at, identifier in enumerate(theirs):
                if identifier.lower() in known and identifier:
                    signed: Literal[0, 1] = 0 if driver.trust.state in ("holds", "not judged") else 1
                    place = (at, known.index(identifier.lower()))
                    found = RankedDriver(driver, line, identifier, signed, driver.feature_score, match, place)
                    if best is None or found.order < best.order:
                        best = found
                    break
    return best


def fields_of(version: str) -> tuple[int, ...]:
    try:
        return (*Version.parse(version).fields, 0, 0, 0, 0)[:4]
    except ValueError:
        return (0, 0, 0, 0)


def beats(found: RankedDriver, used: UsedDriver, device: DeviceIdentifiers) -> tuple[bool | None, str]:
    """Whether a device would take a driver in the place of the one that it uses, and why; None where that cannot be
    told.
    """
    driver = found.driver
    mine = f"{driver.version or 'no version'} of {driver.date or 'no date'}"
    if not used.inf:
        return True, f"it has no driver yet and takes {mine}"
    theirs = f"{used.version or 'no version'} of {used.date or 'no date'}, by {used.provider or 'nobody named'}"
    if _same(driver, used):
        return False, f"it uses this one: {theirs}"
    if used.rank < 0:
        return None, f"it uses {theirs}; how well that one matches is not told"
    listed = [one.lower() for one in (*device.hardware, *device.compatible)]
    if used.matching.lower() not in listed:
        return None, f"it uses {theirs}; the identifier that it was chosen by is none of the device's"
    first = (found.signed, found.feature, found.match, listed.index(found.identifier.lower()))
    at = listed.index(used.matching.lower())
    second = (int(used.rank >= 0x80000000), used.rank >> 16 & 0xFF, used.rank >> 12 & 0xF, at)
    if first != second:
        return first < second, f"{mine} {'matches better' if first < second else 'matches worse'} than {theirs}"
    if not used.date or not used.version:
        return None, f"both match the same, and the date or version of {theirs} is not told"
    ages = [(driver.date, fields_of(driver.version)), (used.date, fields_of(used.version))]
    newer = ages[0] > ages[1]
    return newer, f"{mine} is {'newer' if newer else 'not newer'} than {theirs}"


def _same(driver: Driver, used: UsedDriver) -> bool:
    return (
        driver.provider.lower() == used.provider.lower()
        and fields_of(driver.version) == fields_of(used.version)
        and (not used.date or driver.date == used.date)
    )


def why(better: RankedDriver, worse: RankedDriver) -> str:
    """What decides between two, as said of the worse one."""
    if better.driver.content == worse.driver.content:
        return "the same bytes"
    if better.signed != worse.signed:
        return "that one is signed, this one is not"
    if better.feature != worse.feature:
        return f"that one's feature score is {better.feature}, this one's {worse.feature}"
    if better.match != worse.match:
        return f"of that one, {_MATCHES[better.match]}; of this one, {_MATCHES[worse.match]}"
    if better.place != worse.place:
        return f"{better.identifier} is nearer to the device than {worse.identifier}"
    if better.driver.date != worse.driver.date:
        return f"that one is of {better.driver.date or 'no date'}, this one of {worse.driver.date or 'no date'}"
    if fields_of(better.driver.version) != fields_of(worse.driver.version):
        return f"that one's version is {better.driver.version or 'none'}, this one's {worse.driver.version or 'none'}"
    return "nothing that Windows looks at decides: either may be taken"
