"""Seals a bundle of macOS: the list of its files that its program's signature covers, and what in it is code.

Source: Apple's technical note TN2206; the rules and the form as they stand in bundles that Apple's tool sealed, of
which the same list comes, byte for byte. What a bundle lists of code inside it has no such witness here.
"""

from __future__ import annotations

import hashlib
import plistlib
import re
from collections.abc import Iterator, Mapping
from pathlib import Path
from typing import Any

import msgspec

from yendo.errors import NotCovered, Unreadable
from yendo.formats import mach_o, property_list
from yendo.walk import files_below

MAX_FILES, MAX_DEPTH = 100_000, 16
SEAL = "_CodeSignature/CodeResources"
_OPTIONAL = {"optional": True, "weight": 1000.0}
RULES: dict[str, Any] = {
    "^Resources/": True,
    "^Resources/.*\\.lproj/": _OPTIONAL,
    "^Resources/.*\\.lproj/locversion.plist$": {"omit": True, "weight": 1100.0},
    "^Resources/Base\\.lproj/": {"weight": 1010.0},
    "^version.plist$": True,
}
_FOR_CODE = "Frameworks|SharedFrameworks|PlugIns|Plug-ins|XPCServices|Helpers|MacOS"
_NESTED = f"^({_FOR_CODE}|Library/(Automator|Spotlight|LoginItems))/"
RULES2: dict[str, Any] = {
    ".*\\.dSYM($|/)": {"weight": 11.0},
    "^(.*/)?\\.DS_Store$": {"omit": True, "weight": 2000.0},
    _NESTED: {"nested": True, "weight": 10.0},
    "^.*": True,
    "^Info\\.plist$": {"omit": True, "weight": 20.0},
    "^PkgInfo$": {"omit": True, "weight": 20.0},
    "^Resources/": {"weight": 20.0},
    "^Resources/.*\\.lproj/": _OPTIONAL,
    "^Resources/.*\\.lproj/locversion.plist$": {"omit": True, "weight": 1100.0},
    "^Resources/Base\\.lproj/": {"weight": 1010.0},
    "^[^/]+$": {"nested": True, "weight": 10.0},
    "^embedded\\.provisionprofile$": {"weight": 20.0},
    "^version\\.plist$": {"weight": 20.0},
}


class SealedBundle(msgspec.Struct, frozen=True):
    """A bundle: ``top`` is the folder that is sealed, ``info`` its property list, ``program`` its own program below
    ``top``. ``inner`` are the bundles in it, ``code`` the programs that belong to none of them, by their paths.
    """

    top: Path
    info: Path
    identifier: str
    program: str
    inner: dict[str, SealedBundle]
    code: dict[str, Path]


def found(path: Path, depth: int = 0) -> SealedBundle:
    """What has to be signed of a bundle. Raises Unreadable, NotCovered."""
    if depth > MAX_DEPTH:
        raise NotCovered(f"{path.name}: bundles in bundles, more than {MAX_DEPTH} deep")
    top, info = _places(path)
    given = property_list.read(info)
    executable = str(given.get("CFBundleExecutable") or path.stem)
    program = f"MacOS/{executable}" if top.name == "Contents" else executable
    if not (top / program).is_file():
        raise Unreadable(f"{path.name}: its program {program} is not there")
    files = files_below(top, links=True)
    if len(files) > MAX_FILES:
        raise NotCovered(f"{path.name} holds {len(files)} files; more than {MAX_FILES} are not sealed here")
    inner: dict[str, SealedBundle] = {}
    for below in _inner(top):
        inner[below] = found(top / below, depth + 1)
    apart = tuple(f"{below}/" for below in inner)
    code = {
        below: file
        for below, file in files
        if below != program and not below.startswith(apart) and not file.is_symlink() and _is_program(file)
    }
    return SealedBundle(top, info, str(given.get("CFBundleIdentifier") or path.stem), program, inner, code)


def _places(path: Path) -> tuple[Path, Path]:
    """The folder that is sealed, and the property list. Raises NotCovered."""
    if (path / "Contents" / "Info.plist").is_file():
        return path / "Contents", path / "Contents" / "Info.plist"
    versions = path / "Versions"
    if versions.is_dir():
        named = [one for one in sorted(versions.iterdir()) if one.is_dir() and not one.is_symlink()]
        if len(named) == 1 and (named[0] / "Resources" / "Info.plist").is_file():
            return named[0], named[0] / "Resources" / "Info.plist"
        raise NotCovered(
            f"{path.name}: a framework with {len(named)} versions, or without a property list, is not signed"
        )
    raise NotCovered(f"{path.name} has neither Contents nor Versions; such a bundle is not signed here")


def _inner(top: Path) -> Iterator[str]:
    """The bundles right inside one, by their paths below it."""
    waiting = [top]
    while waiting:
        folder = waiting.pop()
        for one in sorted(folder.iterdir()):
            if one.is_symlink() or not one.is_dir():
                continue
            framework = one.suffix == ".framework" and (one / "Versions").is_dir()
            if framework or (one / "Contents" / "Info.plist").is_file():
                yield one.relative_to(top).as_posix()
            else:
                waiting.append(one)


def _is_program(path: Path) -> bool:
    with path.open("rb") as file:
        return mach_o.is_program(file.read(8))


def seal(bundle: SealedBundle, code: Mapping[str, tuple[bytes, str]]) -> bytes:
    """The list of a bundle's files; ``code`` has of each program and bundle inside the hash and what it must be.

    Raises NotCovered for what lies where only code may.
    """
    older: dict[str, Any] = {}
    newer: dict[str, Any] = {}
    apart = tuple(f"{below}/" for below in bundle.inner)
    rules = [(_weight(what), re.compile(pattern), what) for pattern, what in RULES2.items()]
    first = [(_weight(what), re.compile(pattern), what) for pattern, what in RULES.items()]
    for below, file in files_below(bundle.top, links=True):
        if below == bundle.program or below.startswith(("_CodeSignature/", *apart)) or below == "CodeResources":
            continue
        what = _by(rules, below)
        if what is not None and not _flag(what, "omit"):
            newer[below] = _entry(below, file, what, code)
        what = _by(first, below)
        if what is not None and not _flag(what, "omit") and not file.is_symlink():
            value = _hash(file, "sha1")
            older[below] = {"hash": value, "optional": True} if _flag(what, "optional") else value
    for below in bundle.inner:
        what = _by(rules, below)
        if what is not None and _flag(what, "nested"):
            newer[below] = _code(code[below])
        else:
            for inside, file in files_below(bundle.top / below, links=True):
                newer[f"{below}/{inside}"] = _entry(f"{below}/{inside}", file, {}, code)
    given = {"files": older, "files2": newer, "rules": RULES, "rules2": RULES2}
    data = plistlib.dumps(given, fmt=plistlib.FMT_XML, sort_keys=True)
    return re.sub(rb"<real>(\d+)\.0</real>", rb"<real>\1</real>", data)  # as the system writes whole numbers


def _weight(what: Any) -> float:
    return float(what.get("weight", 1.0)) if isinstance(what, dict) else 1.0


def _flag(what: Any, name: str) -> bool:
    return isinstance(what, dict) and bool(what.get(name))


def _by(rules: list[tuple[float, re.Pattern[str], Any]], below: str) -> Any:
    """The rule of most weight for a path, None where none is for it."""
    return max(
        ((weight, what) for weight, pattern, what in rules if pattern.search(below)), default=(0, None), key=_first
    )[1]


def _first(pair: tuple[float, Any]) -> float:
    return pair[0]


def _entry(below: str, file: Path, what: Any, code: Mapping[str, tuple[bytes, str]]) -> dict[str, Any]:
    if file.is_symlink():
        return {"symlink": str(file.readlink())}
    if _flag(what, "nested"):
        if below not in code:
            raise NotCovered(
                f"{below} lies where only code may, and is none: move it to Resources (scripts too), or macOS refuses "
                "the seal"
            )
        return _code(code[below])
    return {"hash2": _hash(file, "sha256"), **({"optional": True} if _flag(what, "optional") else {})}


def _code(one: tuple[bytes, str]) -> dict[str, Any]:
    return {"cdhash": one[0], "requirement": one[1]}


def _hash(file: Path, algorithm: str) -> bytes:
    with file.open("rb") as opened:
        return hashlib.file_digest(opened, algorithm).digest()
