"""What a driver's catalogue is worth: whether it is signed, by whom, and whether every file is in it.

Source: [MS-OSHARED]; "Driver Signing Policy" and "Attestation signing"; the uses of certificates by their published
identifiers, the key by a catalogue that Microsoft signed (read in ``tests/test_drivers.py``). Whether a system trusts
the end of a chain is that system's: no list of roots is kept here.
"""

from __future__ import annotations

import hashlib
from collections.abc import Sequence
from pathlib import Path
from typing import BinaryIO

import msgspec

from yendo.drivers.driver import DriverTrust
from yendo.errors import Unreadable
from yendo.formats import security_catalogue
from yendo.formats.pe import Image
from yendo.formats.security_catalogue import SecurityCatalogue
from yendo.installers import signatures
from yendo.installers.judging import Verified, judged_message
from yendo.remembered import remembered

# The certificates of Microsoft that sign who signs drivers: SHA-256, as seen in a real catalogue.
MICROSOFT = {
    "A0F259A07039908EEB943E223FDF996E5E1E131D9AA6A602FF4672F7B9298AEE": "Windows Third Party Component CA 2014"
}
_CERTIFIED, _ATTESTED, _SYSTEM = ("1.3.6.1.4.1.311.10.3.5", "1.3.6.1.4.1.311.10.3.5.1", "1.3.6.1.4.1.311.10.3.6")


class OpenCatalogue(msgspec.Struct):
    """The catalogue that an ``.inf`` names: what it lists, None where it is not there or cannot be read, and why."""

    name: str
    raw: bytes = b""
    listed: SecurityCatalogue | None = None
    trouble: str = ""

    @property
    def algorithms(self) -> tuple[str, ...]:
        """What its files have to be measured by: SHA-256 wherever it lists that, for then it lists it of every file."""
        used = {member.algorithm for member in self.listed.members} if self.listed else set()
        return ("sha256",) if "sha256" in used or not used else ("sha256", *sorted(used))


def opened(name: str, path: Path | None) -> OpenCatalogue:
    """``path`` is where it lies, None where it does not."""
    if path is None:
        return OpenCatalogue(name)
    try:
        if path.stat().st_size > security_catalogue.MAX_SIZE:
            raise Unreadable(f"{path.name} is larger than any catalogue")
        raw = path.read_bytes()
        return OpenCatalogue(name, raw, security_catalogue.parse(raw))
    except OSError as error:
        return OpenCatalogue(name, trouble=str(error.strerror))
    except Unreadable as error:
        return OpenCatalogue(name, trouble=str(error))


def digests(path: Path, algorithms: Sequence[str] = ("sha256",)) -> dict[str, bytes]:
    """The digests that a catalogue may hold of a file, by ``sha256`` for instance over all of it, and for a program by
    ``program-sha256`` without its own signature. Raises Unreadable.
    """
    try:
        with path.open("rb") as file:
            return digests_of(file, algorithms)
    except OSError as error:
        raise Unreadable(f"{path.name} cannot be read: {error.strerror}") from error


def digests_of(file: BinaryIO, algorithms: Sequence[str] = ("sha256",)) -> dict[str, bytes]:
    """The same of an open file."""
    found = {name: hashlib.new(name) for name in algorithms}
    first = b""
    while piece := file.read(1 << 20):
        first = first or piece[:2]
        for state in found.values():
            state.update(piece)
    out = {name: state.digest() for name, state in found.items()}
    if first == b"MZ":
        try:
            image = Image(file)
            out |= {f"program-{name}": signatures.program_digest(file, image, name) for name in algorithms}
        except (Unreadable, ValueError):
            pass  # no program that is read, whatever its first letters say
    return out


def judge(catalogue: OpenCatalogue, files: dict[str, dict[str, bytes]]) -> DriverTrust:
    """``files`` are the digests of what it must cover, by names in small letters."""
    name, listed = catalogue.name, catalogue.listed
    if listed is None:
        trouble = (catalogue.trouble,) if catalogue.trouble else ()
        return DriverTrust("unreadable" if trouble else "none", name, problems=trouble)
    held = {(member.algorithm, member.program, member.digest) for member in listed.members}
    named = {member.file.lower() for member in listed.members if member.file}
    covered = tuple(file for file, found in files.items() if _is_covered(found, held))
    rest = [file for file in files if file not in covered]
    altered = tuple(file for file in rest if file.rpartition("/")[2] in named)
    systems = tuple(filter(None, (one.strip() for one in _of(listed.attributes, "os").split(","))))
    told = DriverTrust(
        "not judged",
        name,
        systems=systems,
        covered=covered,
        uncovered=tuple(file for file in rest if file not in altered),
        altered=altered,
    )
    try:
        judged = judged_message(catalogue.raw, None, name)
    except ImportError:
        try:
            signer = signatures.signer_of(catalogue.raw)
        except signatures.Unclear:
            signer = "somebody"
        return msgspec.structs.replace(told, signer=signer)
    return msgspec.structs.replace(
        told,
        state="broken" if judged.problems else "holds",
        by=_kind(judged),
        signer=_common(judged.signer),
        chain=tuple(map(_common, judged.chain)),
        known=bool(set(judged.above) & MICROSOFT.keys()),
        thumbprint=judged.thumbprint,
        certificate=judged.certificate,
        seen=judged.seen,
        ends=judged.ends,
        problems=judged.problems,
    )


def _is_covered(found: dict[str, bytes], held: set[tuple[str, bool, bytes]]) -> bool:
    return any(
        (name.removeprefix("program-"), name.startswith("program-"), digest) in held for name, digest in found.items()
    )


def _of(attributes: dict[str, str], name: str) -> str:
    return next((text for key, text in attributes.items() if key.lower() == name), "")


def _kind(judged: Verified) -> str:
    """Who signed, by what the certificate may be used for; a certificate that vouches for itself is nobody's but a
    test's.
    """
    if judged.own or any("test" in name.lower() for name in judged.chain):
        return "test"
    if _ATTESTED in judged.uses:
        return "microsoft-attested"
    if _CERTIFIED in judged.uses or _SYSTEM in judged.uses:
        return "microsoft-certified"
    return "publisher"


@remembered(64, most=512)  # a folder full of drivers is signed by few
def _common(name: str) -> str:
    """The common name of a distinguished one, as text; the whole where it has none."""
    from cryptography import x509
    from cryptography.x509.oid import NameOID

    try:
        found = x509.Name.from_rfc4514_string(name).get_attributes_for_oid(NameOID.COMMON_NAME)
    except ValueError:
        return name
    return str(found[0].value) if found else name
