"""Reading a bundle or a single program of macOS: what it is, who stands behind it, and whether it is still what was
sealed.

Source: Apple's "Bundle Programming Guide", the technical note TN2206 on code signing (the seal over resources and its
rules), and the headers that ``yendo.formats.mach_o`` names. Held against signed programs and bundles of other makers.
"""

from __future__ import annotations

import hashlib
import re
from collections.abc import Iterator, Mapping
from pathlib import Path
from typing import Any, Literal, NamedTuple

import msgspec

from yendo.errors import Unreadable
from yendo.formats import mach_o, property_list
from yendo.formats.mach_o import INFO, RESOURCES, CodeSignature, MachSlice
from yendo.mac import app_findings
from yendo.mac.app import CodeHeld, MacApp, MacCode
from yendo.walk import files_below

MAX_FILES = 100_000
# The SHA-256 of Apple's root, as it stands in signed programs of others.
APPLE_ROOT = "B0B1730ECBC7FF4505142C49F1295E6EDA6BCAED7E2C68C5BE91B5A11001F024"
_SEAL = "_CodeSignature/CodeResources"
ASKED = {
    "NSCameraUsageDescription": "the camera",
    "NSMicrophoneUsageDescription": "the microphone",
    "NSAppleEventsUsageDescription": "control of other programs",
    "NSContactsUsageDescription": "contacts",
    "NSCalendarsUsageDescription": "calendars",
    "NSRemindersUsageDescription": "reminders",
    "NSPhotoLibraryUsageDescription": "photos",
    "NSLocationUsageDescription": "the place",
    "NSBluetoothAlwaysUsageDescription": "Bluetooth",
    "NSLocalNetworkUsageDescription": "the local network",
    "NSDesktopFolderUsageDescription": "the Desktop folder",
    "NSDocumentsFolderUsageDescription": "the Documents folder",
    "NSDownloadsFolderUsageDescription": "the Downloads folder",
    "NSRemovableVolumesUsageDescription": "removable volumes",
    "NSNetworkVolumesUsageDescription": "network volumes",
    "NSSystemAdministrationUsageDescription": "settings of the system",
}
_INSIDE = (
    ("Library/SystemExtensions/", "a system extension", "by a profile, or by an administrator in the settings"),
    ("Library/LaunchDaemons/", "a background item", "shown to the person; a profile can fix it"),
    ("Library/LaunchAgents/", "a background item", "shown to the person; a profile can fix it"),
    ("Library/LoginItems/", "a background item", "shown to the person; a profile can fix it"),
)


def is_program(path: Path) -> bool:
    if not path.is_file():
        return False
    with path.open("rb") as file:
        return mach_o.is_program(file.read(8))


def program(path: Path) -> MacApp:
    """A program by itself. Raises Unreadable."""
    code = _code(_program(path), path.name)
    oldest = min(filter(None, code.processors.values()), default="")
    found = MacApp(path.name, path.name, code.identifier, "", "", oldest, (code,))
    return msgspec.structs.replace(found, findings=tuple(app_findings.findings(found)))


def read(path: Path) -> MacApp:
    """A bundle, with all that lies in it. Raises Unreadable."""
    top = path / "Contents"
    info = property_list.read(top / "Info.plist")
    files = dict(files_below(top, links=True))
    if len(files) > MAX_FILES:
        raise Unreadable(f"{path.name} holds {len(files)} files; more than {MAX_FILES} are not looked at")
    own = f"MacOS/{info.get('CFBundleExecutable') or path.stem}"
    programs = _programs(files, own)
    code = [_code(one, below) for below, one in programs.items()]
    main = next(iter(programs[own].signatures), None) if own in programs else None
    differing: tuple[tuple[str, str], ...] = ()
    sealed: Literal["none", "whole", "broken"] = "none"
    if main is not None and _SEAL in files:
        differing = tuple(_differing(path, files, main, own, programs))
        sealed = "broken" if differing else "whole"
    found = MacApp(
        path.name,
        str(info.get("CFBundleDisplayName") or info.get("CFBundleName") or path.stem),
        str(info.get("CFBundleIdentifier") or ""),
        str(info.get("CFBundleShortVersionString") or ""),
        str(info.get("CFBundleVersion") or ""),
        str(info.get("LSMinimumSystemVersion") or "")
        or min(filter(None, code[0].processors.values() if code else ()), default=""),
        tuple(code),
        sealed,
        differing,
        "CodeResources" in files,
        tuple(_asks(info, files)),
    )
    return msgspec.structs.replace(found, findings=tuple(app_findings.findings(found)))


def _programs(files: Mapping[str, Path], own: str) -> dict[str, _Program]:
    """Every program of a bundle, its own one first where it is there."""
    found = {below: _program(file) for below, file in files.items() if not file.is_symlink() and is_program(file)}
    return ({own: found[own]} if own in found else {}) | found


def _asks(info: Mapping[str, Any], files: Mapping[str, Path]) -> Iterator[tuple[str, str]]:
    for key, what in ASKED.items():
        if key in info:
            yield what, f"the person is asked: {str(info[key])[:120]}"
    seen = set()
    for place, what, how in _INSIDE:
        for name in files:
            item = name[len(place) :].partition("/")[0]
            if name.startswith(place) and (place, item) not in seen:
                seen.add((place, item))
                yield f"{what}, {item}", how


# --- programs ---------------------------------------------------------------------------------------------------------


class _Program(NamedTuple):
    """A program as it was read, every page of it once; ``problem`` says why it could not be."""

    slices: list[MachSlice]
    problem: str = ""

    @property
    def signatures(self) -> list[CodeSignature]:
        return [one.signature for one in self.slices if one.signature]


def _program(path: Path) -> _Program:
    try:
        with path.open("rb") as file:
            return _Program(mach_o.read(file, path.name))
    except Unreadable as error:
        return _Program([], str(error))


def _code(program: _Program, shown: str) -> MacCode:
    slices, held = program.slices, program.signatures
    if program.problem:
        return MacCode(shown, {}, "not judged", problem=program.problem)
    processors = {one.processor: one.oldest for one in slices}
    if not held:
        return MacCode(shown, processors, "none")
    first = held[0]
    found = MacCode(
        shown,
        processors,
        "ad hoc",
        first.identifier,
        first.team,
        hardened=all(one.hardened for one in held),
        entitlements=tuple(sorted(name for name, value in first.entitlements.items() if value)),
    )
    unsigned = [one.processor for one in slices if not one.signature]
    problem = next((one.problem for one in held if one.problem), "")
    if problem:
        return msgspec.structs.replace(found, held="broken", problem=problem)
    if (len(held) > 1 and len({one.ad_hoc for one in held}) > 1) or (unsigned and not first.ad_hoc):
        missing = ", ".join(unsigned) or "one processor"
        return msgspec.structs.replace(found, held="broken", problem=f"not for {missing}")
    return found if first.ad_hoc else _signed(found, held)


def _signed(found: MacCode, held: list[CodeSignature]) -> MacCode:
    """The signatures over the lists of pages, by the certificate's own key. Needs ``cryptography``."""
    from yendo.installers.judging import judged_message

    try:
        judged = [judged_message(one.cms, one.directory, found.path) for one in held]
    except ImportError:
        return msgspec.structs.replace(found, held="not judged", problem="pip install 'yendo[sign]'")
    first = judged[0]
    problem = next((one.problems[0] for one in judged if one.problems), "")
    state: CodeHeld = "broken" if problem else "holds"
    return msgspec.structs.replace(
        found,
        held=state,
        problem=problem,
        chain=tuple(_common(name) for name in first.chain),
        ends=first.ends,
        apple=all(APPLE_ROOT in one.above for one in judged),
        stamped=all(one.seen for one in judged),
    )


def _common(name: str) -> str:
    """The common name of a name as certificates write it."""
    found = re.search(r"(?:^|,)CN=((?:\\.|[^,\\])*)", name)
    return re.sub(r"\\(.)", r"\1", found[1]) if found else name


# --- the seal ---------------------------------------------------------------------------------------------------------


def _differing(
    path: Path, files: Mapping[str, Path], main: CodeSignature, own: str, programs: Mapping[str, _Program]
) -> Iterator[tuple[str, str]]:
    """What is not as it was sealed: the list itself, changed files, those that are gone, and those that came."""
    seal = property_list.contents(files[_SEAL])
    if main.is_hash_of(RESOURCES, seal) is not True:
        yield _SEAL, "the list of files is not the one that was signed"
    if main.is_hash_of(INFO, property_list.contents(files["Info.plist"])) is False:
        yield "Info.plist", "changed"
    try:
        listed, rules = _sealed(property_list.parsed(seal, _SEAL))
    except Unreadable as error:
        yield _SEAL, str(error)
        return
    inside = []
    for name, what in sorted(listed.items()):
        if "cdhash" in what and name not in files:
            inside.append(f"{name}/")  # a bundle in the bundle; its programs are judged one by one
            if not (path / "Contents" / name).is_dir():
                yield name, "gone"
        elif name not in files:
            if not what.get("optional"):
                yield name, "gone"
        elif (problem := _changed(files[name], what, programs.get(name))) is not None:
            yield name, problem
    for name, file in files.items():
        if name in listed or name in (own, _SEAL, "CodeResources") or name.startswith(tuple(inside)):
            continue
        if not _left_out(name, rules):
            yield name, "came after it was sealed" if not file.is_symlink() else "a link that came after it was sealed"


def _changed(file: Path, wanted: Mapping[str, Any], program: _Program | None) -> str | None:
    if "symlink" in wanted:
        right = file.is_symlink() and str(file.readlink()) == wanted["symlink"]
        return None if right else "the link leads elsewhere"
    if file.is_symlink():
        return "a link in place of the file"
    if "cdhash" in wanted:
        there = [one.code_hash for one in program.signatures] if program else []
        return None if wanted["cdhash"] in there else "changed"
    algorithm, value = ("sha256", wanted["hash2"]) if "hash2" in wanted else ("sha1", wanted.get("hash"))
    with file.open("rb") as opened:
        return None if hashlib.file_digest(opened, algorithm).digest() == value else "changed"


def _sealed(given: Mapping[str, Any]) -> tuple[dict[str, Mapping[str, Any]], list[_Rule]]:
    """What a seal lists, and which files belong to it. Raises Unreadable."""
    listed, rules = (given.get(f"{name}2") or given.get(name) or {} for name in ("files", "rules"))
    if not isinstance(listed, dict) or not isinstance(rules, dict):
        raise Unreadable("the seal is no list of files and rules")
    found: dict[str, Mapping[str, Any]] = {}
    for name, wanted in listed.items():
        what = wanted if isinstance(wanted, dict) else {"hash": wanted}
        if not isinstance(what.get("symlink", ""), str):
            raise Unreadable(f"the seal says something of {name!r} that is none")
        found[str(name)] = what
    return found, _rules(rules)


_Rule = tuple[float, re.Pattern[str], bool]


def _rules(given: Mapping[str, Any]) -> list[_Rule]:
    """Weight, pattern, whether it leaves a file out; the heaviest first. Raises Unreadable."""
    found = []
    for pattern, what in given.items():
        detail = what if isinstance(what, dict) else {}
        if not isinstance(pattern, str) or len(re.findall(r"[*+{]", pattern)) > 2 or re.search(r"\)[*+{]", pattern):
            # those of Apple's tool repeat once or twice; one that repeats what repeats may take for ever
            raise Unreadable(f"the seal has a rule that is not judged: {str(pattern)[:80]!r}")
        try:
            weight = float(detail.get("weight", 1))
            found.append((weight, re.compile(pattern[:200]), bool(detail.get("omit")) or what is False))
        except (re.error, TypeError, ValueError, RecursionError) as error:
            raise Unreadable(f"the seal has a rule that is none: {pattern!r}: {error}") from error
    return sorted(found, key=lambda rule: -rule[0])


def _left_out(name: str, rules: list[_Rule]) -> bool:
    return next((omitted for _, pattern, omitted in rules if pattern.search(name)), True)
