"""Signs single files whose signature lies in themselves: modern app packages that were made here, and databases of the
Windows Installer; and judges such a signature of anybody's.

Source: "Windows Authenticode Portable Executable Signature Format" for the indirect data. What it is over is in
``formats/app_signature.py`` and ``installers/msi/signature.py``.
"""

from __future__ import annotations

import shutil
import tempfile
from collections.abc import Callable, Iterator
from functools import partial
from pathlib import Path
from typing import Any

import tomlkit

from yendo import atomic, digest
from yendo.errors import Unreadable, Usage
from yendo.formats import app_manifest, app_signature, cfb
from yendo.formats.cfb import ByteSource, CompoundFile, Storage, StorageEntry
from yendo.formats.msi import Database
from yendo.installers import modern_app, signatures
from yendo.installers.judging import Verified, judged_message
from yendo.installers.msi import signature as databases
from yendo.package import code_signing, flat_signing
from yendo.package.signing import SignerIdentity, indirect_message, loaded, thumbprint, vouched_for

# The parts of Windows that read such signatures, as their identifiers lie in a message, and the version each expects.
_READERS = {
    "app": (0x1010000, bytes.fromhex("4bdfc50a07cee24db76e23c839a09fd1")),
    "database": (1, bytes.fromhex("f1100c0000000000c000000000000046")),
}
_CODE_SIGNING = "1.3.6.1.5.5.7.3.3"
APPS, DATABASES, FLAT = (".msix", ".appx", ".msixbundle", ".appxbundle"), (".msi", ".msp"), (".pkg",)


def is_file(path: Path) -> bool:
    """Whether a path is one of the files that are signed in themselves."""
    return path.suffix.lower() in (*APPS, *DATABASES, *FLAT) or code_signing.is_code(path)


def sign_file(path: Path, who: SignerIdentity, stamp: str | None = None) -> Verified:
    """Signs a file in place, whole or not at all; where it lies in a workspace's media, the plan gets its new hash.

    Raises Usage where the certificate cannot sign it, Unreadable, NotCovered, SignaturesWanted.
    """
    if path.suffix.lower() in FLAT:
        return flat_signing.sign_flat(path, who, stamp)
    if code_signing.is_code(path):
        return code_signing.sign_code(path, who, stamp)
    own = loaded(who.certificates[0])
    usage = own.extended_key_usage_value
    if usage is None or _CODE_SIGNING not in [one.dotted for one in usage]:
        words = "is not for signing programs (extended key usage: code signing), and Windows takes no other"
        raise Usage(f"the certificate of {own.subject.human_friendly} {words}")

    def signed(kind: str, stated: bytes) -> bytes:
        return indirect_message(who, _READERS[kind], stated, stamp, path.name)

    with tempfile.TemporaryDirectory(prefix=".yendo-sign-", dir=path.parent) as place:
        new = Path(place) / path.name
        if path.suffix.lower() in APPS:
            _app(path, new, own, signed)
        else:
            _database(path, new, signed)
        was = digest.of_file(path)
        new.replace(path)
    _told_the_plan(path, was)
    return verify_file(path, frozenset({thumbprint(who)}))


def _app(path: Path, new: Path, own: Any, signed: Callable[[str, bytes], bytes]) -> None:
    subject = {name: value for name, value in own.subject.native.items() if isinstance(value, str)}
    publisher = app_manifest.read(path).identity.publisher
    if not modern_app.same_name(publisher, subject):
        raise Usage(
            f"the publisher of {path.name} is {publisher}, and the certificate is of {own.subject.human_friendly}: "
            "Windows would refuse it; build it again with --certificate"
        )
    shutil.copyfile(path, new)
    with new.open("r+b") as file:
        app_signature.without_signature(file)
        app_signature.put_signature(file, signed("app", app_signature.digests(file)))


def _database(path: Path, new: Path, signed: Callable[[str, bytes], bytes]) -> None:
    """A database is written anew with its signature as a stream; everything else in it stays as it is."""
    with Database(path) as database:
        container = database.container
        raw = signed("database", databases.digest(container, "sha256"))
        root = _storage(container, None)
        root.streams[databases.STREAM] = ByteSource.of(raw)
        with new.open("wb") as file:
            cfb.write(file, root, sector_size=container.sector_size)


def _storage(container: CompoundFile, entry: StorageEntry | None) -> Storage:
    text = entry.class_id if entry is not None else container.root.clsid
    found = Storage(class_id=databases.class_bytes(text))
    for inner in container.entries(entry):
        if inner.is_storage:
            found.storages[inner.name] = _storage(container, inner)
        elif inner.name not in (databases.STREAM, databases.EXTENDED):
            found.streams[inner.name] = ByteSource(inner.size, partial(_pieces, inner))
    return found


def _pieces(entry: StorageEntry) -> Iterator[bytes]:
    with entry.open() as file:
        while piece := file.read(1 << 20):
            yield piece


def verify_file(path: Path, trusted: frozenset[str] = frozenset()) -> Verified:
    """Judges the signature of a file: by the certificate's key, over these bytes, by one that is stated; of an app
    package, by its publisher.

    Raises Usage where it has none, Unreadable.
    """
    if path.suffix.lower() in FLAT:
        return flat_signing.verify_flat(path, trusted)
    if code_signing.is_code(path):
        return code_signing.verify_code(path, trusted)
    raw = _raw(path)
    if raw is None:
        raise Usage(f"{path.name} is not signed")
    found = judged_message(raw, None, path.name)
    problems = list(found.problems)
    try:
        problems += _altered(path, signatures.parse(raw))
    except signatures.Unclear as error:
        problems.append(str(error))
    return vouched_for(found, problems, trusted)


def _raw(path: Path) -> bytes | None:
    if path.suffix.lower() in APPS:
        return app_manifest.signature(path)
    with Database(path) as database:
        entry = database.streams.get(databases.STREAM)
        return entry.read() if entry is not None else None


def _altered(path: Path, told: signatures.Message) -> list[str]:
    if path.suffix.lower() in APPS:
        problems = [f"{name} is not what was signed" for name in modern_app.altered(path, told)[:20]]
        other = modern_app.stranger(app_manifest.read(path), told)
        return [*problems, other] if other else problems
    with Database(path) as database:
        try:
            holds = databases.holds(database, told)
        except ValueError as error:
            raise Unreadable(f"{path.name}: {error}") from error
    return [] if holds else ["the database is not what was signed"]


def beside(path: Path) -> list[str]:
    """Cabinets that lie beside a database: its signature does not cover them."""
    if path.suffix.lower() not in DATABASES:
        return []
    with Database(path) as database:
        if "Media" not in database.tables:
            return []
        names = [str(row["Cabinet"] or "") for row in database["Media"]]
    return [name for name in names if name and not name.startswith("#")]


def _told_the_plan(path: Path, was: str) -> None:
    """The plan of the workspace in whose media a file lies knows it by its hash."""
    plan = path.parent.parent / "plan.toml"
    if path.parent.name != "media" or not plan.is_file():
        return
    document = tomlkit.parse(plan.read_text("utf-8"))
    for one in document.get("media", []):
        if one.get("file") == path.name and one.get("sha256") == was:
            one["sha256"], one["size"] = digest.of_file(path), path.stat().st_size
            atomic.write(plan, tomlkit.dumps(document).encode())
