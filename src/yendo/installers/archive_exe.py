"""Self-extractors (``archive-exe``): an archive behind a program or in its resources, and what it runs then."""

from __future__ import annotations

import contextlib
import io
import struct
from collections.abc import Callable, Iterator
from typing import BinaryIO

import msgspec

from yendo.errors import Unreadable
from yendo.evidence import BlindSpot, Evidence
from yendo.formats import archives
from yendo.formats.pe import RT_RCDATA, Image, Resource
from yendo.formats.slices import part_of
from yendo.installers.account import Aspect, CommandLine, Silent, Switch
from yendo.installers.family import FoundContent, Told, offset
from yendo.installers.parts import InstallerPart, whole

FAMILY = "archive-exe"
KEPT = 32 << 20
MAX_READ = 64 << 30  # bytes that one pass through an archive may unpack


class Cabinet(msgspec.Struct, frozen=True):
    """A cabinet in a resource, and the resources beside it that say what happens: their texts by name."""

    resource: Resource
    texts: dict[str, str]


def find(file: BinaryIO, image: Image) -> FoundContent | None:
    held = image.resource(RT_RCDATA, "CABINET")
    if held and image.resource(RT_RCDATA, "RUNPROGRAM"):
        names = (
            "TITLE",
            "RUNPROGRAM",
            "POSTRUNPROGRAM",
            "ADMQCMD",
            "USRQCMD",
            "REBOOT",
            "UPROMPT",
            "LICENSE",
            "FINISHMSG",
            "EXTRACTOPT",
        )
        texts = {}
        for name in names:
            if entry := image.resource(RT_RCDATA, name):
                raw = image.read(entry, 4096)
                binary = name in ("REBOOT", "EXTRACTOPT") and len(raw) == 4
                texts[name] = (
                    str(struct.unpack("<I", raw)[0]) if binary else raw.partition(b"\0")[0].decode("cp1252", "replace")
                )
        return FoundContent(
            FAMILY,
            offset(held.offset, "a cabinet among its resources, and one that says what to run"),
            Cabinet(held, texts),
            "cabinet in resources",
        )
    begin, end = image.appended
    if end - begin < 32:
        return None
    found = archives.find(file, begin, end)
    if found is None:
        return None
    said = ", with a configuration in front of it" if found.configuration else ""
    return FoundContent(
        FAMILY,
        offset(found.offset, f"a {found.kind} archive behind the program{said}"),
        found,
        f"{found.kind} behind the program",
    )


def _archive(file: BinaryIO, found: FoundContent) -> tuple[BinaryIO, archives.ArchiveKind, int | None]:
    if isinstance(found.what, Cabinet):
        place = found.what.resource
        return part_of(file, place.offset, place.size), "cabinet", place.offset
    what = found.reading(archives.SelfExtractor)
    if what.whole_file:
        return part_of(file, 0, what.offset + what.size), what.kind, None
    return part_of(file, what.offset, what.size), what.kind, what.offset


class _Reading:
    """An archive that is read on from where it was: packed as one, it is else unpacked from its beginning for each
    file, and a folder of a thousand files takes an hour. In a zip every file is reached by itself.
    """

    def __init__(self, file: BinaryIO, kind: archives.ArchiveKind, names: set[str]) -> None:
        self._file, self._kind, self._names = file, kind, names
        self._running: Iterator[tuple[str, Iterator[bytes]]] = iter(())
        self._to_come: set[str] = set()
        self._open: Iterator[bytes] = iter(())

    def pieces(self, name: str) -> Iterator[bytes]:
        """The pieces of one file, to be taken before the next one is asked for. Raises Unreadable."""
        if self._kind == "zip" or name not in self._names:
            return self._alone(name)
        if name not in self._to_come:
            self._running = archives.contents(self._file, self._kind, self._names, MAX_READ)
            self._to_come, self._open = set(self._names), iter(())
        while True:
            with contextlib.suppress(Unreadable):  # told of the file that it is about
                for _ in self._open:  # what is packed behind it can be reached only past it
                    pass
            following = next(self._running, None)
            if following is None:
                self._to_come = set()
                raise Unreadable(f"{name} is listed and cannot be unpacked")
            came, self._open = following
            self._to_come.discard(came)
            if came == name:
                return self._open

    def _alone(self, name: str) -> Iterator[bytes]:
        for _, pieces in archives.contents(self._file, self._kind, {name}, MAX_READ):
            yield from pieces
            return
        raise Unreadable(f"{name} is listed and cannot be unpacked")


def of_archive(file: BinaryIO, kind: archives.ArchiveKind) -> list[InstallerPart]:
    """The files of an archive as parts."""

    listed = archives.members(file, kind)
    together = (
        sum(member.size for member in listed) <= KEPT and kind != "zip"
    )  # packed as one: unpacked once, not once a file
    kept: dict[str, bytes] = {}
    names = {entry.name for entry in listed}
    reading = _Reading(file, kind, {entry.name for entry in listed if not entry.is_link})

    def opener(name: str) -> Callable[[int], BinaryIO]:
        def open_it(limit: int) -> BinaryIO:
            if together and not kept:
                kept.update(
                    (member, b"".join(pieces)) for member, pieces in archives.contents(file, kind, names, 2 * KEPT)
                )
            if name in kept:
                return io.BytesIO(kept[name][:limit])
            return whole(reading.pieces(name), limit)

        return open_it

    return [
        InstallerPart(
            member.name,
            member.size,
            None,
            member.packed,
            opener(member.name),
            "a link" if member.is_link else "",
            link=member.is_link,
        )
        for member in listed
    ]


def parts(file: BinaryIO, image: Image, found: FoundContent) -> list[InstallerPart]:
    archive, kind, _ = _archive(file, found)
    return of_archive(archive, kind)


def tell(file: BinaryIO, image: Image, found: FoundContent, name: str) -> Told:
    if isinstance(found.what, Cabinet):
        return _of_cabinet(found.what, name)
    what = found.reading(archives.SelfExtractor)
    settings = dict(what.configuration)
    runs = settings.get("RunProgram") or settings.get("ExecuteFile") or ""
    switches: list[Switch] = []
    lines: list[CommandLine] = []
    aspects: list[Aspect] = []
    spots = []
    if what.configuration:
        where = offset(what.configuration_offset, "the configuration in front of the archive")
        arguments = settings.get("ExecuteParameters", "")
        if runs:
            aspects.append(Aspect("runs", f"{runs} {arguments}".strip(), "certain", where))
        if settings.get("BeginPrompt"):
            spots.append(
                BlindSpot("a question before it unpacks", f"{settings['BeginPrompt']!r}; -y answers it", where)
            )
        switches.append(
            Switch("-y", "answers the extractor's own question; what it runs still decides for itself", "likely", where)
        )
        lines.append(CommandLine(f'"{name}" -y', "to be tried", where))
    elif what.kind == "rar":
        where = offset(what.offset, "stubs of this kind take -s, and -d for the folder")
        switches += [
            Switch("-s", "unpacks without a window", "likely", where),
            Switch("-d<folder>", "unpacks into that folder", "likely", where),
        ]
        lines.append(CommandLine(f'"{name}" -s', "to be tried", where))
    from yendo.installers import plain_exe

    lines += plain_exe.candidates(name, plain_exe.texts(file, image))
    what_runs = (
        f"it unpacks and runs {runs}" if runs else "what it does after it has unpacked is in the program, not in data"
    )
    spots.append(BlindSpot("what is done with the files", what_runs, found.evidence))
    return Told(
        silent=Silent(lines[0] if what.configuration or what.kind == "rar" else None),
        switches=tuple(switches),
        behaviour=tuple(aspects),
        candidates=tuple(lines),
        blind_spots=tuple(spots),
    )


def _of_cabinet(what: Cabinet, name: str) -> Told:
    """Source: the switches that the stub's own help names."""
    where = offset(what.resource.offset, "the stub of cabinets in resources takes these switches")
    texts = {key: text for key, text in what.texts.items() if text and text != "<None>"}
    quiet = texts.get("ADMQCMD") or texts.get("USRQCMD")
    switches = (
        Switch("/Q", "shows nothing of its own", "certain", where),
        Switch("/T:<folder>", "unpacks to that folder", "certain", where),
        Switch("/C", "only unpacks", "certain", where),
        Switch("/R:N", "does not restart", "certain", where),
        Switch("/C:<command>", "runs another command than its own", "certain", where),
    )
    aspects = [Aspect("runs", texts.get("RUNPROGRAM", ""), "certain", Evidence("offset", "resource RUNPROGRAM"))]
    if quiet:
        aspects.append(Aspect("runs when quiet", quiet, "certain", Evidence("offset", "resource ADMQCMD")))
    why = "what it does, only a run knows" if quiet else "whether that program is silent it decides itself"
    spots = (BlindSpot(f"runs {texts.get('RUNPROGRAM', 'a program')}", why, where),)
    line = CommandLine(f'"{name}" /Q /R:N', "likely" if quiet else "to be tried", where, switches[:1] + switches[3:4])
    return Told(silent=Silent(line), switches=switches, behaviour=tuple(aspects), candidates=(line,), blind_spots=spots)
