"""What an engine with a compiled script does by itself: its media copied, itself installed and registered, its line in
the list of programs.

The script is not interpreted. The header of the cabinets says which files go where, the engine's own cabinet holds the
registrar scripts that it carries out, and the rest is the same for every product of an engine of this generation.
"""

from __future__ import annotations

import io
from collections.abc import Callable, Iterator, Mapping
from typing import BinaryIO

import msgspec

from yendo.effects import Effect, File, Folder, IniValue, RegistryKey, RegistryValue, State, Thing, UninstallEntry
from yendo.effects.things import View, parent
from yendo.errors import NotCovered, Unreadable
from yendo.evidence import Evidence
from yendo.formats import answers, cab, registrar
from yendo.platforms.windows.surroundings import Surroundings

VENDOR = answers.MARK[:-1].decode()  # the folders that the engine calls after itself
ENGINE, MAX_ENGINE, MAX_HEADER = "engine32.cab", 64 << 20, 16 << 20
# Under which names files of the engine's cabinet are installed. Source: runs.
_INSTALLED_AS = {"isprobe.tlb": "isprobent.tlb"}
_ON_X64 = {"isbew64.exe": "isbew64a.exe"}
# What the engine keeps beside the copied media, and adds to its settings. Source: runs.
_KEPT = ("_setup.dll", "setup.ibt", "setup.ilg")
_ADDED = {"AllUsers": "1", "Engine": "0", "Source": "0"}
_SHARED = r"Software\Microsoft\Windows\CurrentVersion\SharedDLLs"


class AnswersMedia(msgspec.Struct, frozen=True):
    """What is at hand of a setup: its header, its records' sizes by lower-case name, its settings, and a way to a
    record's bytes.
    """

    header: bytes
    sizes: Mapping[str, int]
    sections: Mapping[str, Mapping[str, str]]
    guid: str
    engine: str
    read: Callable[[str, int], bytes | None]


def predict(media: AnswersMedia, surroundings: Surroundings, state: State) -> list[Effect]:
    """The effects of a silent run with answers that keep the usual folder and install everything.

    Raises Unreadable, NotCovered.
    """
    if not media.guid or not media.engine.count("."):
        raise NotCovered("its settings name neither a product nor the engine's version")
    medium = answers.medium(media.header)
    held = {one.number: one for one in answers.cabinet_files(media.header)}
    places = _places(media, medium, surroundings)
    engine = _engine(media)
    work = _Work(state)
    for group in medium.groups:
        folder = _filled(group.target, places)
        if folder is None:
            continue
        for number in range(group.first, min(group.last, group.first + len(held)) + 1):
            if number in held:
                work.add(*_file(group, held[number], folder, engine, media, surroundings))
    common = places["ENGINECOMMONDIR"]
    for name, data in engine.items():
        if name.endswith(".rgs"):
            work.add(*_registered(name, data, common))
    for name in _KEPT:
        work.add((File(f"{places['DISK1TARGET']}\\{name}"), f"kept by the engine: {name}"))
    work.add(*_settings(media, places["DISK1TARGET"]))
    code = "{" + media.guid + "}"
    where = "header of the cabinets: product"
    work.add(
        (
            UninstallEntry(
                code, view="32", name=medium.name, version=medium.version, publisher=medium.company, hidden=False
            ),
            where,
        )
    )
    work.add((RegistryKey("HKLM", rf"Software\{medium.company}\{medium.name}\{medium.version}", "32"), where))
    return work.effects


class _Work:
    """Effects in their order, folders before what lies in them."""

    def __init__(self, state: State) -> None:
        self.state, self.effects, self._made = state, [], set()  # type: tuple[State, list[Effect], set[str]]

    def add(self, *things: tuple[Thing, str]) -> None:
        for thing, where in things:
            evidence = Evidence("row", where)
            if isinstance(thing, File):
                self._folders(parent(thing.path), evidence)
            self.effects.append(Effect("add", thing, "predicted", evidence))

    def _folders(self, path: str, evidence: Evidence) -> None:
        if path.lower() in self._made or "\\" not in path or self.state.get("folder", path) is not None:
            return
        self._folders(parent(path), evidence)
        self._made.add(path.lower())
        self.effects.append(Effect("add", Folder(path), "predicted", evidence))


def _places(media: AnswersMedia, medium: answers.AnswersMedium, surroundings: Surroundings) -> dict[str, str]:
    """What the names in targets stand for; what is temporary is left out."""
    programs, common = surroundings.folders["ProgramFilesFolder"], surroundings.folders["CommonFilesFolder"]
    major, minor = (int(part) for part in media.engine.split(".")[:2])
    base = rf"{common}\{VENDOR}\Professional\RunTime"
    places = {
        "FOLDER_APPLICATIONS": programs,
        "IFX_COMPANY_NAME": medium.company,
        "IFX_PRODUCT_NAME": medium.name,
        "ENGINECOMMONDIR": base,
        "ENGINEDIR": rf"{base}\{major:02d}\{minor:02d}\Intel32",
        "DISK1TARGET": rf"{programs}\{VENDOR} Installation Information\{{{media.guid}}}",
    }
    target = _filled(medium.target, places)
    if target is None:
        raise NotCovered(f"it goes to {medium.target}, which only its script knows")
    return {**places, "TARGETDIR": target}


def _filled(target: str, places: Mapping[str, str]) -> str | None:
    """A target with its names replaced; None where one is not known."""
    parts = []
    for part in target.replace("/", "\\").split("\\"):
        name = part[1:-1] if part.startswith("<") and part.endswith(">") else None
        if name is not None and name.upper() not in places:
            return None
        parts.append(places[name.upper()] if name is not None else part)
    return "\\".join(parts) if parts and parts[0] else None


def _engine(media: AnswersMedia) -> dict[str, bytes]:
    """The files of the engine's own cabinet, by lower-case names."""
    data = media.read(ENGINE, MAX_ENGINE)
    if data is None:
        return {}
    return {
        name.rpartition("\\")[2].lower(): content for name, content in cab.extract(io.BytesIO(data), limit=MAX_ENGINE)
    }


def _file(
    group: answers.AnswersGroup,
    held: answers.HeldFile,
    folder: str,
    engine: Mapping[str, bytes],
    media: AnswersMedia,
    surroundings: Surroundings,
) -> Iterator[tuple[Thing, str]]:
    name = held.path.rpartition("\\")[2]
    key = name.lower()
    source = (_ON_X64 if surroundings.architecture == "x64" else {}).get(key) or _INSTALLED_AS.get(key, key)
    size: int | None = held.size or None
    if not size:  # the header has a place for it, and the file itself lies elsewhere
        size = len(engine[source]) if source in engine else media.sizes.get(key)
    if key == "setup.ini":
        size = None  # the engine adds to it
    path = f"{folder}\\{name}"
    yield File(path, size), f"header of the cabinets: {group.name}"
    if group.flags & answers.SHARED:
        yield RegistryValue("HKLM", _SHARED, path, "dword", 1, "32"), f"header of the cabinets: {group.name} is counted"


def _registered(name: str, data: bytes, folder: str) -> Iterator[tuple[Thing, str]]:
    """What a registrar script registers.

    Interfaces of a type library are registered for programs of both widths, proxies for one.
    """
    found = [
        one
        for one in registrar.parse(data.decode("cp1252", "replace"), {"MODULEPATH": folder})
        if one.root == "HKCR" and one.name is not None
    ]
    marshalled = {one.key.rpartition("\\")[0].lower() for one in found if one.key.lower().endswith("\\typelib")}
    for one in found:
        head, _, rest = one.key.partition("\\")
        interface = f"{head}\\{rest.partition(chr(92))[0]}".lower()
        both = head.lower() == "interface" and interface in marshalled
        library = head.lower() == "typelib"
        # the library's own flags are written over those of the script
        value = None if library and one.key.upper().endswith("\\FLAGS") else one.data
        views: tuple[View, ...] = ("64", "32") if both else ("64",) if library else ("32",)
        for view in views:
            yield (
                RegistryValue("HKLM", f"Software\\Classes\\{one.key}", one.name or "", one.type, value, view),
                f"{ENGINE} {name}: {one.key}",
            )


def _settings(media: AnswersMedia, folder: str) -> Iterator[tuple[Thing, str]]:
    """The settings file that is kept: what it said, and what the engine adds."""
    path = f"{folder}\\setup.ini"
    added = {"Startup": {**_ADDED, "InstallGuid": "{" + media.guid + "}"}}
    for section, pairs in media.sections.items():
        for key, value in pairs.items():
            yield IniValue(path, section, key, value), f"setup.ini [{section}] {key}"
    for section, more in added.items():
        for key, value in more.items():
            yield IniValue(path, section, key, value), f"added by the engine: [{section}] {key}"


def media_of(
    file: BinaryIO, records: answers.Records, sections: Mapping[str, Mapping[str, str]], guid: str, engine: str
) -> AnswersMedia:
    """The media of a setup's records. Raises Unreadable where its cabinets have no header."""
    by_name = {record.name.lower(): record for record in records.records}

    def read(name: str, limit: int) -> bytes | None:
        record = by_name.get(name.lower())
        return b"".join(answers.pieces(file, record, limit)) if record else None

    header = read("data1.hdr", MAX_HEADER)
    if header is None:
        raise Unreadable("it has no header of its cabinets")
    return AnswersMedia(header, {name: record.size for name, record in by_name.items()}, sections, guid, engine, read)
