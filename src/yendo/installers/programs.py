"""The account of an installer that is a program: what its headers say, and what its family's module tells."""

from __future__ import annotations

import io
import re
from pathlib import Path
from typing import BinaryIO

import msgspec

from yendo import digest
from yendo.effects import Effect, State
from yendo.errors import NotCovered, Unreadable, YendoError
from yendo.evidence import BlindSpot, Evidence
from yendo.formats import answers, archives
from yendo.formats.pe import RT_MANIFEST, RT_VERSION, Image
from yendo.installers import account as form
from yendo.installers import archive_exe, families, signatures
from yendo.installers.compound import compound_family
from yendo.installers.family import Prediction, Told, offset
from yendo.installers.parts import InstallerPart, Looker
from yendo.platforms.windows import systems
from yendo.platforms.windows.surroundings import Surroundings

# Libraries that Windows 10 does not bring, and what does. Source: the names that the runtimes' own setup programs
# place.
_RUNTIMES = (
    (r"(?:msvcp|vcruntime|concrt|vccorlib)14\d?(?:_\d)?", "the Visual C++ runtime of 2015 or later"),
    (r"msvc[rp]1[0-2]0|mfc1[0-2]0u?", "a Visual C++ runtime of 2010 to 2013"),
    (r"msvc[rp](?:70|71|80|90)|mfc[789]0u?", "a Visual C++ runtime of before 2010"),
    (r"mscoree", "the .NET Framework"),
    (r"msvbvm\d0", "the Visual Basic runtime"),
)


def look(file: BinaryIO, name: str) -> tuple[str | None, list[InstallerPart]]:
    """What a file inside another is, and its own parts. Raises Unreadable, NotCovered."""
    file.seek(0)
    head = file.read(16)
    if head.startswith(b"MZ"):
        image = Image(file, name)
        if image.is_library:
            return None, []
        module, found = families.recognise(file, image)
        return (module.FAMILY if module.FAMILY != "plain-exe" else None), module.parts(file, image, found)
    if head.startswith(b"\xd0\xcf\x11\xe0"):
        return compound_family(file), []
    if head.startswith(answers.CABINET):
        return None, []
    if kind := archives.kind_of(head):
        listed = archive_exe.of_archive(file, kind)
        if kind == "zip" and any(part.name == "AppxManifest.xml" for part in listed):
            return "msix", []
        return ("cabinet" if kind == "cabinet" else f"{kind} archive"), listed
    return None, []


class Reading:
    """An open program, recognised. Raises Unreadable."""

    def __init__(self, file: BinaryIO, name: str) -> None:
        self.file, self.name = file, name
        self.image = Image(file, name)
        self.module, self.found = families.recognise(file, self.image)
        self.trouble: list[BlindSpot] = []

    @property
    def family(self) -> str:
        return str(self.module.FAMILY)

    def parts(self) -> list[InstallerPart]:
        try:
            return list(self.module.parts(self.file, self.image, self.found))
        except NotCovered as error:
            self.trouble.append(BlindSpot("what is inside", str(error), self.found.evidence))
            return []

    def contents(self) -> tuple[form.Content, ...]:
        return Looker(look).tree(self.parts())

    def tell(self) -> Told:
        try:
            told: Told = self.module.tell(self.file, self.image, self.found, self.name)
        except NotCovered as error:
            told = Told(blind_spots=(BlindSpot("what it does", str(error), self.found.evidence),))
        return told

    def predict(self, program: str, arguments: str, surroundings: Surroundings, state: State) -> Prediction:
        """What a silent run does to a machine, where the family can be read; else a blind spot."""
        if not hasattr(self.module, "predict"):
            return Prediction(
                (),
                (
                    BlindSpot(
                        "everything it does",
                        f"programs of family {self.family} must be run to know",
                        self.found.evidence,
                    ),
                ),
            )
        predicted: Prediction = self.module.predict(
            self.file, self.image, self.found, program, arguments, surroundings, state
        )
        return predicted


def facts(image: Image) -> form.ProgramFacts:
    """What the headers and resources say."""
    manifest = image.manifest
    level = re.search(r"""requestedExecutionLevel[^>]{0,200}?\blevel\s*=\s*["'](\w+)""", manifest)
    awareness = re.search(r"<(?:\w+:)?dpiAwareness[^>]*>([^<]{1,80})<", manifest) or re.search(
        r"<(?:\w+:)?dpiAware[^>]*>([^<]{1,40})<", manifest
    )
    return form.ProgramFacts(
        stub=image.architecture,
        bits=image.bits,
        elevation=level[1] if level else None,
        scales=awareness[1].strip() if awareness else None,
        console=image.subsystem == 3,
        words=image.words,
        runtimes=runtimes(image),
        icon=image.icon() is not None,
        told_windows=systems.told_to_programs(manifest),
    )


def runtimes(image: Image) -> tuple[str, ...]:
    """What it is linked to and Windows does not bring."""
    needs = {}
    for library in image.imports():
        for pattern, what in _RUNTIMES:
            if re.fullmatch(pattern, library.removesuffix(".dll")):
                needs[what] = f"{what} ({library})"
    return tuple(needs.values())


def account(path: Path, *, verify: bool = False) -> form.InstallerAccount:
    """Reads a program. ``verify`` reads the whole file, for its hash and its signature's digest. Raises Unreadable."""
    with path.open("rb") as file:
        reading = Reading(file, path.name)
        told = reading.tell()
        return _account(path, reading, told, verify)


def _account(path: Path, reading: Reading, told: Told, verify: bool) -> form.InstallerAccount:
    image, found = reading.image, reading.found
    words = facts(image)
    contents = reading.contents()
    files = list(leaves(contents))
    identity, why = _identity(image, told)
    described = [words.words.get(key) for key in ("FileDescription", "ProductName", "CompanyName", "Comments")]
    return form.InstallerAccount(
        file=form.FileFacts(path.name, path.stat().st_size, digest.of_file(path) if verify else None),
        family=reading.family,
        says_of_itself=" / ".join(dict.fromkeys(text for text in described if text)) or None,
        identity=identity,
        signature=signatures.of_program(reading.file, image, verify=verify),
        silent=told.silent,
        conditions=told.conditions,
        needs=(*told.needs, *needs(image, words)),
        processes=told.processes,
        properties=told.properties,
        payload=form.Payload(len(files), sum(content.size or content.packed or 0 for content in files), (), ())
        if files
        else None,
        effects=told.effects,
        blind_spots=(*told.blind_spots, *reading.trouble, *_hostile(contents)),
        why={"family": found.evidence, **why, **told.why},
        switches=told.switches,
        behaviour=(*_elevation(words), *told.behaviour),
        contents=contents,
        program=words,
        candidates=told.candidates,
    )


def leaves(contents: tuple[form.Content, ...]) -> list[form.Content]:
    """The files at the ends of the tree."""
    found = []
    for content in contents:
        found += leaves(content.contents) if content.contents else [content]
    return found


def _hostile(contents: tuple[form.Content, ...]) -> list[BlindSpot]:
    noted = [content for content in leaves(contents) if content.unread]
    return [
        BlindSpot(f"{content.name[:120]} inside", content.note, offset(content.offset or 0)) for content in noted[:20]
    ]


def needs(image: Image, words: form.ProgramFacts) -> tuple[str, ...]:
    width = {"x64": "Windows for x64", "arm64": "Windows for arm64"}.get(
        image.architecture, "a machine that runs 32-bit programs" if image.bits == 32 else ""
    )
    return tuple(filter(None, (width, *words.runtimes)))


def _elevation(words: form.ProgramFacts) -> list[form.Aspect]:
    meanings = {
        "requireAdministrator": "always asks for an administrator",
        "highestAvailable": "asks where the user may have more",
        "asInvoker": "does not ask",
    }
    where = Evidence("offset", f"resource {RT_MANIFEST}, requestedExecutionLevel")
    found = (
        [form.Aspect("elevation", meanings.get(words.elevation, words.elevation), "certain", where)]
        if words.elevation
        else []
    )
    if words.scales:
        scaled = (
            "does not scale with the screen"
            if words.scales.lower() in ("false", "unaware")
            else f"scales with the screen ({words.scales})"
        )
        found.append(form.Aspect("screen", scaled, "certain", Evidence("offset", f"resource {RT_MANIFEST}, dpiAware")))
    if words.told_windows != "10.0":
        said = f"if it asks, 10 and 11 call themselves {words.told_windows}: its manifest does not name them"
        found.append(
            form.Aspect("Windows", said, "certain", Evidence("offset", f"resource {RT_MANIFEST}, supportedOS"))
        )
    return found


def _identity(image: Image, told: Told) -> tuple[form.Identity, dict[str, Evidence]]:
    """What the family knows; else what the version resource says, which often speaks of the setup engine instead."""
    words = image.words
    given = msgspec.structs.asdict(told.identity)
    why: dict[str, Evidence] = {}
    own = not given["name"] or given["name"] == words.get("ProductName")  # else the resource speaks of the setup engine
    for field, key in (("name", "ProductName"), ("version", "ProductVersion"), ("publisher", "CompanyName")):
        if own and not given[field] and words.get(key):
            given[field] = words[key]
            why[f"identity.{field}"] = Evidence("offset", f"resource {RT_VERSION}, {key}")
    if not given["architecture"]:
        below = {
            effect.thing.identity.split("\\")[1]
            for effect in told.effects
            if effect.kind == "file" and effect.thing.identity.startswith("c:\\program files")
        }
        guess = {frozenset({"program files"}): "x64", frozenset({"program files (x86)"}): "x86"}.get(frozenset(below))
        given["architecture"] = guess or image.architecture
        note = "where it places its files" if guess else "of the setup program itself; what it installs may differ"
        why["identity.architecture"] = Evidence("offset", f"offset {image.header_offset + 4}", note)
    return form.Identity(**given), why


def icon_file(path: Path) -> bytes:
    """The largest icon as a file of the kind .ico. Raises Unreadable where there is none."""
    with path.open("rb") as file:
        data = Image(file, path.name).icon()
    if data is None:
        raise Unreadable(f"{path.name} has no icon")
    return data


def icon_png(path: Path) -> bytes:
    """The largest icon as PNG. Raises Unreadable where there is none."""
    data = icon_file(path)
    if data[22:30] == b"\x89PNG\r\n\x1a\n":
        return data[22:]
    from PIL import Image as Pictures

    try:
        with Pictures.open(io.BytesIO(data), formats=("ICO",)) as picture:
            out = io.BytesIO()
            picture.save(out, "PNG")
            return out.getvalue()
    except (OSError, ValueError, SyntaxError) as error:
        raise Unreadable(f"{path.name}: its icon cannot be read: {error}") from error


def removal(path: Path, program: str, surroundings: Surroundings, state: State) -> tuple[Effect, ...] | None:
    """What its own uninstaller does after it, where that can be read; else None."""
    with path.open("rb") as file:
        reading = Reading(file, path.name)
        try:
            found = (
                reading.module.removal(file, reading.image, reading.found, program, surroundings, state)
                if hasattr(reading.module, "removal")
                else None
            )
        except YendoError:
            return None
        return found.effects if found else None
