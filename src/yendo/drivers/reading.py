"""Reading a driver: its ``.inf`` as one Windows would, the files it brings, and its catalogue.

Source: the documentation of the sections and directives of INF files.
"""

from __future__ import annotations

import hashlib
import ntpath
import re
from collections.abc import Iterable, Iterator
from datetime import UTC, datetime
from functools import cached_property
from pathlib import Path

import msgspec

from yendo.drivers import data, folders, target, trust
from yendo.drivers.driver import Device, Driver, DriverFile, DriverService
from yendo.drivers.findings import findings
from yendo.drivers.target import ANY, DriverTarget
from yendo.errors import Unreadable, YendoError
from yendo.formats import inf as form
from yendo.formats import pe
from yendo.formats.inf import Inf
from yendo.walk import each_below

MAX_FILES, MAX_SECTIONS = 5_000, 20_000
_STARTS = {0: "boot", 1: "system", 2: "automatic", 3: "on demand", 4: "disabled"}
_PARTS = ("", ".HW", ".CoInstallers")  # of an install section, behind its name
_UNISOLATED = {  # directives that an isolated driver does without
    "delfiles": "deletes files",
    "renfiles": "renames files",
    "delreg": "deletes registry values",
    "updateinis": "writes ini files",
    "ini2reg": "moves ini values into the registry",
    "registerdlls": "registers libraries",
    "unregisterdlls": "unregisters libraries",
    "profileitems": "makes menu entries",
}


def read(path: Path, windows: DriverTarget = ANY, *, language: int = 0, now: datetime | None = None) -> Driver:
    """A driver by its ``.inf``; files are looked for beside it. ``now`` is when certificates are judged.

    Raises Unreadable.
    """
    beside = listing(path.parent)
    reading = _Reading(form.read(path, language=language), windows, beside)
    version = reading.inf
    class_id = version.get("Version", "ClassGuid").strip("{} ").lower()
    known = data.classes().get(class_id)
    date, number = _dated(version.all("Version", "DriverVer"))
    files = tuple(reading.files())
    present = {path.name.lower(): path, **{file.source: beside[file.source] for file in files if file.there}}
    name = reading.catalogue()
    catalogue = trust.opened(name, beside.get(name.lower()) if name else None)
    digests = {file: trust.digests(place, catalogue.algorithms) for file, place in present.items()}
    files = tuple(_told(file, beside) if _is_program(digests.get(file.source, {})) else file for file in files)
    found = Driver(
        inf=path.name,
        path=str(path),
        sha256=digests[path.name.lower()]["sha256"].hex(),
        content=_content(digests),
        windows=windows.words,
        class_name=version.get("Version", "Class") or (known.name if known else ""),
        class_id=class_id,
        class_words=known.words if known else "a class of its own" if class_id else "",
        start=known.start if known else "",
        provider=version.get("Version", "Provider"),
        date=date,
        version=number,
        architectures=tuple(reading.architectures()),
        models=tuple(reading.models),
        devices=tuple(reading.devices()),
        files=files,
        services=tuple(reading.services()),
        registry=tuple(reading.registry()),
        co_installers=tuple(reading.co_installers()),
        isolated=tuple(dict.fromkeys(reading.unisolated(files))),
        system=tuple(dict.fromkeys(reading.missing)),
        languages=tuple(version.languages),
        feature_score=reading.feature_score(),
        extension=version.get("Version", "ExtensionId"),
        trust=trust.judge(catalogue, digests),
    )
    wrong = findings(found, windows, now or datetime.now(UTC), named=bool(name))
    return msgspec.structs.replace(found, findings=tuple(wrong))


def _is_program(digests: dict[str, bytes]) -> bool:
    """A program has a digest without its own signature too."""
    return any(name.startswith("program-") for name in digests)


def _told(file: DriverFile, beside: dict[str, Path]) -> DriverFile:
    """With the processor that a program of it is for."""
    try:
        return msgspec.structs.replace(file, processor=pe.read(beside[file.source]).architecture)
    except (YendoError, OSError):  # no program
        return file


def listing(folder: Path) -> dict[str, Path]:
    """Every file below a folder, by its path with slashes in small letters; links are not followed.

    Raises Unreadable where there are too many.
    """
    found: dict[str, Path] = {}
    for name, path in each_below(folder, closed=True):  # what may not be looked into is not there for Windows either
        found[name.lower()] = path
        if len(found) > MAX_FILES:
            raise Unreadable(f"{folder.name} holds more than {MAX_FILES} files; a driver's folder holds its own")
    return found


class _Reading:
    """One file, as one Windows takes it."""

    def __init__(self, inf: Inf, windows: DriverTarget, beside: dict[str, Path]) -> None:
        self.inf, self.windows, self.beside = inf, windows, beside
        self.missing: list[str] = []
        self.included: dict[str, Inf] = {}
        self.models = list(self._models())

    # --- devices ------------------------------------------------------------------------------------------------

    def _manufacturers(self) -> Iterator[tuple[str, list[str]]]:
        """Each section of models with its endings; an entry without values is its own section."""
        for line in self.inf.lines("Manufacturer"):
            values = [value.strip() for value in line.values if value.strip()]
            if line.key is None and values:
                yield values[0], values[1:]
            elif line.key is not None:
                yield (values[0], values[1:]) if values else (line.key, [])

    def _models(self) -> Iterator[str]:
        for name, named in self._manufacturers():
            ending = target.chosen(["", *named] if self.inf.has(name) else named, self.windows)
            if ending is not None:
                yield f"{name}.{ending}" if ending else name

    def architectures(self) -> list[str]:
        """The processors that it has devices for."""
        found: list[str] = []
        for name, named in self._manufacturers():
            for ending in ["", *named]:
                section = f"{name}.{ending}" if ending else name
                known = target.decoration(ending) if ending else target.Decoration()
                if known is not None and any(self.inf.lines(section)):
                    found.append(known.architecture or "x86")
        plain = {other: ours for ours, other in target.PROCESSORS.items()}
        return sorted({plain.get(each, each) for each in found})

    def devices(self) -> Iterator[Device]:
        for section in self.models:
            for line in self.inf.lines(section):
                if line.key is not None:
                    identifiers = [value.strip() for value in line.values[1:]]
                    hardware, *compatible = identifiers or [""]
                    yield Device(
                        line.key, hardware, tuple(filter(None, compatible)), line.value(0).strip(), line.number
                    )

    # --- what installs them -------------------------------------------------------------------------------------

    @cached_property
    def installs(self) -> list[tuple[Inf, str]]:
        """The sections that install what this Windows would take, each once, with those that they need."""
        names = dict.fromkeys(device.section for device in self.devices()) or {"DefaultInstall": None}
        seen: set[tuple[int, str]] = set()
        return [found for name in names for found in self._section(self.inf, name, seen)]

    def _section(self, inf: Inf, name: str, seen: set[tuple[int, str]]) -> Iterator[tuple[Inf, str]]:
        """A section and those that it needs, each once."""
        whole = next((name + end for end in target.endings(self.windows) if inf.has(name + end)), None)
        if whole is None or (id(inf), whole.lower()) in seen or len(seen) > MAX_SECTIONS:
            return
        seen.add((id(inf), whole.lower()))
        yield inf, whole
        needed = [value.strip() for line in inf.all(whole, "Needs") for value in line.values if value.strip()]
        for line in inf.all(whole, "Include"):
            for value in filter(None, map(str.strip, line.values)):
                other = self._include(value)
                if other is not None:
                    for section in needed:
                        yield from self._section(other, section, seen)

    def _include(self, name: str) -> Inf | None:
        """Another file that this one builds on: beside it, or the system's own, which is not at hand."""
        key = name.lower()
        if key not in self.included and key in self.beside:
            self.included[key] = form.read(self.beside[key])
        if key not in self.included:
            self.missing.append(name)
        return self.included.get(key)

    def _directives(self, key: str) -> Iterator[tuple[Inf, str, str]]:
        """Every value of a directive of all install sections, with the section that it stands in."""
        for inf, section in self.installs:
            for part in _PARTS:
                for line in inf.all(section + part, key):
                    yield from ((inf, section + part, value.strip()) for value in line.values if value.strip())

    def files(self) -> Iterator[DriverFile]:
        seen: set[tuple[str, str]] = set()
        for inf, _, value in self._directives("CopyFiles"):
            if value.startswith("@"):
                listed = [(value[1:].strip(), value[1:].strip())]
                to = inf.all("DestinationDirs", "DefaultDestDir")
            else:
                listed = [
                    (line.value(0).strip(), line.value(1).strip() or line.value(0).strip())
                    for line in inf.lines(value)
                    if line.value(0).strip()
                ]
                to = inf.all("DestinationDirs", value) or inf.all("DestinationDirs", "DefaultDestDir")
            where = folders.place(to[0].value(0), to[0].value(1)) if to else "(nowhere: it names no folder)"
            for name, source in listed:
                place, listed_there = self._source(inf, source)
                if (place, f"{where}\\{name}".lower()) in seen:
                    continue
                seen.add((place, f"{where}\\{name}".lower()))
                there = place in self.beside
                yield DriverFile(
                    name, place, f"{where}\\{name}", there, not (there or listed_there or not self.missing)
                )

    def _source(self, inf: Inf, name: str) -> tuple[str, bool]:
        """Where a file lies: by its disk and the folder there, else by its name; and whether it says so."""
        processor = target.PROCESSORS[self.windows.architecture]
        for section in (f"SourceDisksFiles.{processor}", "SourceDisksFiles"):
            for line in inf.all(section, name):
                disk = line.value(0).strip()
                paths = [
                    entry.value(3).strip()
                    for names in (f"SourceDisksNames.{processor}", "SourceDisksNames")
                    for entry in inf.all(names, disk)
                ]
                parts = [paths[0] if paths else "", line.value(1).strip(), name]
                whole = ntpath.normpath("\\".join(filter(None, parts))).replace("\\", "/").lower().lstrip("/.")
                packed = whole[:-1] + "_"  # as the old program for it names a packed file
                return packed if whole not in self.beside and packed in self.beside else whole, True
        return name.lower(), False

    def services(self) -> Iterator[DriverService]:
        for inf, section in self.installs:
            for line in inf.all(f"{section}.Services", "AddService"):
                name, part = line.value(0).strip(), line.value(2).strip()
                if not name:
                    continue  # an empty one says that the device has none
                kind = _number(inf.get(part, "ServiceType"))
                start = _number(inf.get(part, "StartType"))
                program = re.sub(r"%(\d+)%", lambda match: folders.place(match[1]), inf.get(part, "ServiceBinary"))
                yield DriverService(name, _STARTS.get(start if start is not None else -1, "?"), kind in (1, 2), program)

    def registry(self) -> Iterator[str]:
        """Each value that it writes, as root, key and name."""
        for inf, _, name in self._directives("AddReg"):
            for entry in inf.lines(name):
                yield "\\".join(filter(None, (entry.value(0).strip(), entry.value(1).strip(), entry.value(2))))

    def co_installers(self) -> Iterator[str]:
        for inf, section, name in self._directives("AddReg"):
            for entry in inf.lines(name):
                if section.endswith(".CoInstallers") and entry.value(2).lower() == "coinstallers32":
                    yield from filter(None, entry.values[4:])

    def unisolated(self, files: Iterable[DriverFile]) -> Iterator[str]:
        """Source: the documentation "Driver package isolation"."""
        outside = {file.to.rpartition("\\")[0] for file in files if not file.to.startswith("(the driver store)")}
        yield from (f"copies into {place}" for place in sorted(outside))
        for value in self.registry():
            if not value.upper().startswith("HKR"):
                yield f"writes below {value.partition(chr(92))[0]}"
        if any(True for _ in self.co_installers()):
            yield "has a co-installer"
        for inf, section in self.installs:
            for line in inf.lines(section):
                words = _UNISOLATED.get((line.key or "").lower())
                if words:
                    yield words

    def feature_score(self) -> int:
        """Source: "INF DDInstall Section": 255 where it is not said, and the smaller the better."""
        told = [_number(value) for _, _, value in self._directives("FeatureScore")]
        return min((number for number in told if number is not None), default=255)

    def catalogue(self) -> str:
        processor = target.PROCESSORS[self.windows.architecture]
        names = (f"CatalogFile.nt{processor}", "CatalogFile.nt", "CatalogFile")
        return next((found for name in names if (found := self.inf.get("Version", name).strip())), "")


def _number(text: str) -> int | None:
    try:
        return int(text.strip(), 0) & 0xFFFFFFFF
    except ValueError:
        return None


def _dated(lines: list[form.InfLine]) -> tuple[str, str]:
    """``DriverVer``: month, day and year, and a version of four numbers. Empty where it is not that."""
    if not lines:
        return "", ""
    match = re.fullmatch(r"\s*(\d{1,2})[/-](\d{1,2})[/-](\d{4})\s*", lines[0].value(0))
    date = ""
    if match:
        try:
            date = datetime(int(match[3]), int(match[1]), int(match[2])).date().isoformat()
        except ValueError:
            date = ""
    return date, lines[0].value(1).strip()


def _content(digests: dict[str, dict[str, bytes]]) -> str:
    whole = hashlib.sha256()
    for name in sorted(digests):
        whole.update(name.encode("utf-8", "surrogatepass") + b"\0" + digests[name]["sha256"])
    return whole.hexdigest()
