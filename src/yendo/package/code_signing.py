"""Signs bundles and programs of macOS, the inside before the outside, and judges their signatures.

Source: as ``formats/mach_o_writer`` and ``mac/sealing``; RFC 5652 for the message, with the two attributes that stand
in programs which a vendor signed. Everything is signed anew in a copy, which then takes the place of the bundle.
"""

from __future__ import annotations

import hashlib
import plistlib
import shutil
import tempfile
from collections.abc import Mapping
from pathlib import Path
from typing import Any

import msgspec
from asn1crypto import core

from yendo import host_os
from yendo.errors import Usage
from yendo.formats import mach_o, mach_o_writer
from yendo.formats.mach_o import AD_HOC, HARDENED, INFO, RESOURCES
from yendo.formats.mach_o_writer import CodeWanted
from yendo.installers.judging import CMS_STAMP, Verified, judged_message
from yendo.mac import bundles, sealing
from yendo.mac.app import MacApp
from yendo.package.signing import BlankKey, SignaturesWanted, SignerIdentity, loaded, message, thumbprint, vouched_for

BUNDLES = (".app", ".framework", ".bundle", ".plugin", ".xpc", ".appex")
NOBODY = "nobody (ad hoc)"
MAX_ENTITLEMENTS = 1 << 20
_GIVEN_OUT, _CODE_SIGNING = "1.2.840.113635.100.6.1.13", "1.3.6.1.5.5.7.3.3"
_HASHES, _NEWER_HASHES = "1.2.840.113635.100.9.1", "1.2.840.113635.100.9.2"
_SHA256 = "2.16.840.1.101.3.4.2.1"
_STAMP_ROOM, _SPARE = 16_384, 256


class CodeWork(msgspec.Struct):
    """One run: who signs, by nobody where it is None, and whose signature is still wanted."""

    who: SignerIdentity | None
    stamp: str | None
    entitlements: bytes
    team: str = ""
    room: int = 0
    wanted: list[str] = []


def is_code(path: Path) -> bool:
    """Whether a path is a bundle or a program of macOS."""
    return (path.suffix in BUNDLES and path.is_dir()) or bundles.is_program(path)


def sign_code(
    path: Path, who: SignerIdentity | None, stamp: str | None = None, entitlements: Path | None = None
) -> Verified:
    """Signs a bundle or a program in place, whole or not at all; without ``who`` by nobody: then it is only whole.

    Entitlements that are there stay, and those in a file become the bundle's own program's.
    Raises Usage, Unreadable, NotCovered, SignaturesWanted.
    """
    work = CodeWork(who, stamp, _entitlements(entitlements))
    if who is not None:
        _may(who)
        own = loaded(who.certificates[0])
        if any(one["extn_id"].dotted == _GIVEN_OUT for one in own["tbs_certificate"]["extensions"]):
            work.team = str(own.subject.native.get("organizational_unit_name") or "")
        size = getattr(who.certificates[0].public_key(), "key_size", 4096) // 8
        blank = SignerIdentity(BlankKey(max(size, 128)), who.certificates)
        work.room = len(_message(blank, bytes(32), None, "")) + _SPARE + (_STAMP_ROOM if stamp else 0)
    with tempfile.TemporaryDirectory(prefix=".yendo-sign-", dir=path.absolute().parent) as place:
        new = Path(place) / path.name
        if path.is_dir():
            shutil.copytree(path, new, symlinks=True)
            _bundle(new, new.name, work)
        else:
            shutil.copy2(path, new)
            _program(new, path.name, work, {}, _identifier(new, path.stem), outer=True)
        if work.wanted:
            raise SignaturesWanted(work.wanted, who.key.folder if who is not None else path)
        host_os.exchange(new, path) if path.is_dir() else host_os.replace(new, path)
    return verify_code(path, frozenset({thumbprint(who)}) if who is not None else frozenset())


def _may(who: SignerIdentity) -> None:
    own = loaded(who.certificates[0])
    usage = own.extended_key_usage_value
    if usage is None or _CODE_SIGNING not in [one.dotted for one in usage]:
        raise Usage(
            f"the certificate of {own.subject.human_friendly} is not for signing programs (extended key usage: code "
            "signing), and macOS takes no other"
        )


def _entitlements(path: Path | None) -> bytes:
    if path is None:
        return b""
    try:
        data = path.read_bytes() if path.stat().st_size <= MAX_ENTITLEMENTS else b""
        given = plistlib.loads(data)
    except Exception as error:  # the library lets through what its parsers raise
        raise Usage(f"{path} is no property list with entitlements: {error}") from error
    return _listed(given)


def _listed(given: Mapping[str, Any]) -> bytes:
    return plistlib.dumps(dict(given), fmt=plistlib.FMT_XML, sort_keys=True) if given else b""


def _bundle(path: Path, shown: str, work: CodeWork) -> tuple[bytes, str]:
    """Signs all that lies in a bundle, then its list, then its own program; its hash, and what it must be."""
    return _sealed(sealing.found(path), shown, work)


def _sealed(bundle: sealing.SealedBundle, shown: str, work: CodeWork, *, outer: bool = True) -> tuple[bytes, str]:
    code: dict[str, tuple[bytes, str]] = {}
    for below, inner in bundle.inner.items():
        code[below] = _sealed(inner, f"{shown}/{below}", work, outer=False)
    for below, file in bundle.code.items():
        code[below] = _program(file, f"{shown}/{below}", work, {}, _identifier(file, file.stem), outer=False)
    # what the notary stapled on is over the signature that was
    (bundle.top / "CodeResources").unlink(missing_ok=True)
    place = bundle.top / sealing.SEAL
    shutil.rmtree(place.parent, ignore_errors=True)
    place.parent.mkdir()
    data = sealing.seal(bundle, code)
    place.write_bytes(data)
    beside = {INFO: bundle.info.read_bytes(), RESOURCES: data}
    return _program(bundle.top / bundle.program, shown, work, beside, bundle.identifier, outer=outer)


def _identifier(path: Path, otherwise: str) -> str:
    """The identifier that a program is signed with; that of the linker is its file's name, and another's stays."""
    with path.open("rb") as file:
        slices = mach_o.read(file, path.name)
    return next((one.signature.identifier for one in slices if one.signature), otherwise)


def _program(
    path: Path, shown: str, work: CodeWork, beside: dict[int, bytes], identifier: str, *, outer: bool
) -> tuple[bytes, str]:
    who = work.who
    with path.open("rb") as file:
        slices = mach_o.read(file, shown)
        held = next((one.signature for one in slices if one.signature), None)
        given = work.entitlements if outer and work.entitlements else _listed(held.entitlements if held else {})
        wanted = CodeWanted(
            identifier,
            work.team,
            AD_HOC if who is None else HARDENED,
            beside,
            _requirement(who, work.team, identifier),
            given,
            debuggable=b"com.apple.security.get-task-allow" in given,
        )
        count = 0

        def made(directory: bytes) -> bytes:
            nonlocal count
            assert who is not None
            count += 1
            name = shown.replace("/", "_") + (f"-{count}" if len(slices) > 1 else "")
            try:
                return _message(who, directory, work.stamp, name)
            except SignaturesWanted as asked:
                work.wanted.extend(asked.names)
                return b""

        new = path.with_name(path.name + ".new")
        with new.open("x+b") as out:
            mach_o_writer.sign(file, out, wanted, made if who is not None else None, work.room, shown)
            found = mach_o.read(out, shown)
    new.chmod(path.stat().st_mode)
    host_os.replace(new, path)
    hashes = [one.signature.code_hash for one in found if one.signature]
    return hashes[0], _words(who, work.team, identifier, hashes)


def _requirement(who: SignerIdentity | None, team: str, identifier: str) -> bytes:
    if who is None:
        return b""
    if team:
        return mach_o_writer.by_vendor(identifier, team)
    return mach_o_writer.by_certificate(identifier, _end(who), root=len(who.certificates) > 1)


def _end(who: SignerIdentity) -> bytes:
    return hashlib.sha1(loaded(who.certificates[-1]).dump(), usedforsecurity=False).digest()


def _words(who: SignerIdentity | None, team: str, identifier: str, hashes: list[bytes]) -> str:
    """What a program inside must be, as the system writes it."""
    if who is None:
        return " or ".join(f'cdhash H"{value.hex()}"' for value in hashes)
    if team:
        return (
            f'identifier "{identifier}" and anchor apple generic and certificate 1[field.1.2.840.113635.100.6.2.6] '
            f"/* exists */ and certificate leaf[field.{_GIVEN_OUT}] /* exists */ and certificate leaf[subject.OU] = "
            f'"{team}"'
        )
    end = "root" if len(who.certificates) > 1 else "leaf"
    return f'identifier "{identifier}" and certificate {end} = H"{_end(who).hex()}"'


def _message(who: SignerIdentity, directory: bytes, stamp: str | None, name: str) -> bytes:
    """The message over a list of pages, with its hash said once more in both forms that the system reads."""
    whole = hashlib.sha256(directory).digest()
    listed = plistlib.dumps({"cdhashes": [whole[:20]]}, fmt=plistlib.FMT_XML)
    newer = core.Sequence()
    newer.contents = core.ObjectIdentifier(_SHA256).dump() + core.OctetString(whole).dump()
    more = [(_HASHES, core.OctetString(listed)), (_NEWER_HASHES, newer)]
    return message(who, directory, stamp=stamp, stamp_as=CMS_STAMP, what=name, more=more)


def verify_code(path: Path, trusted: frozenset[str] = frozenset()) -> Verified:
    """Judges the signature of a bundle or a program: every page, every file, by the certificate's key.

    Raises Usage where it has none, Unreadable.
    """
    found = bundles.read(path) if path.is_dir() else bundles.program(path)
    if not found.code or found.code[0].held == "none":
        raise Usage(f"{path.name} is not signed")
    main = path / "Contents" / found.code[0].path if path.is_dir() else path
    with main.open("rb") as file:
        held = next(one.signature for one in mach_o.read(file, path.name) if one.signature)
    problems = _problems(found, sealed=path.is_dir())
    if held.ad_hoc:
        told = Verified(NOBODY, (), None, ())
        return vouched_for(told, problems, trusted)
    return vouched_for(judged_message(held.cms, held.directory, path.name), problems, trusted)


def _problems(found: MacApp, *, sealed: bool) -> list[str]:
    problems = [f"{name}: {what}" for name, what in found.differing]
    if sealed and found.sealed == "none":
        problems.append("no list of its files is sealed")
    for one in found.code:
        if one.held in ("none", "broken", "not judged"):
            problems.append(f"{one.path}: {one.words}")
    return problems
