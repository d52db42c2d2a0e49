"""Signs a program of macOS anew by nobody (ad hoc), and seals the bundle it lies in, for tests."""

from __future__ import annotations

import hashlib
import plistlib
import shutil
import struct
import subprocess
from pathlib import Path
from typing import Any

from conftest import missing

RULES: dict[str, Any] = {
    "^.*": True,
    "^Info\\.plist$": {"omit": True, "weight": 20.0},
    "^(.*/)?\\.DS_Store$": {"omit": True, "weight": 2000.0},
    "^Resources/.*\\.lproj/": {"optional": True, "weight": 1000.0},
}
LIMIT = 4096


def program(processor: int = 0x0100000C, size: int = 20_000, oldest: int = 11 << 16) -> bytes:
    """A program that is nothing but its head: unsigned, with room for a signature behind it."""
    commands = struct.pack("<6I", 0x32, 24, 1, oldest, oldest, 0) + struct.pack("<4I", 0x1D, 16, size, LIMIT)
    head = struct.pack("<8I", 0xFEEDFACF, processor, 0, 2, 2, len(commands), 0, 0)
    return (head + commands).ljust(size, b"\x5a")


def signed(
    data: bytes,
    identifier: str,
    beside: dict[int, bytes] = {},
    *,
    entitlements: dict[str, Any] | None = None,
    flags: int = 2,
) -> bytes:
    """The program with a signature by nobody over its pages and what lies ``beside`` it, by slot."""
    xml = plistlib.dumps(entitlements) if entitlements is not None else b""
    given = struct.pack(">II", 0xFADE7171, 8 + len(xml)) + xml if xml else b""
    special = {**beside, **({5: given} if given else {})}
    slots, name = max(special, default=0), identifier.encode() + b"\0"
    pages = [data[at : at + 4096] for at in range(0, len(data), 4096)]
    hashes = [hashlib.sha256(special[slot]).digest() if slot in special else bytes(32) for slot in range(slots, 0, -1)]
    hashes += [hashlib.sha256(page).digest() for page in pages]
    at = 88 + len(name)
    length = at + 32 * len(hashes)
    directory = struct.pack(
        ">9I4BIIIIQQQQ", 0xFADE0C02, length, 0x20400, flags, at + 32 * slots, 88, slots, len(pages), len(data),
        32, 2, 0, 12, 0, 0, 0, 0, 0, 0, 0, 1,
    ) + name + b"".join(hashes)  # fmt: skip
    blobs = {0: directory, **({5: given} if given else {})}
    whole, where = b"", 12 + 8 * len(blobs)
    index = b""
    for slot, blob in blobs.items():
        index += struct.pack(">II", slot, where + len(whole))
        whole += blob
    return data + (struct.pack(">III", 0xFADE0CC0, where + len(whole), len(blobs)) + index + whole).ljust(LIMIT, b"\0")


def bundle(folder: Path, files: dict[str, bytes], *, info: dict[str, Any] | None = None, **more: Any) -> Path:
    """A sealed bundle: its files by their names below ``Contents``."""
    top = folder / "Contents"
    given = {"CFBundleIdentifier": "example.tidewell.lantern", "CFBundleExecutable": "lantern", **(info or {})}
    info_list = plistlib.dumps(given, fmt=plistlib.FMT_BINARY)
    for name, data in files.items():
        (top / name).parent.mkdir(parents=True, exist_ok=True)
        (top / name).write_bytes(data)
    listed = {
        name: {"hash2": hashlib.sha256(data).digest(), **({"optional": True} if ".lproj/" in name else {})}
        for name, data in files.items()
    }
    seal = plistlib.dumps({"files": {}, "files2": listed, "rules": {}, "rules2": RULES})
    (top / "_CodeSignature").mkdir(parents=True)
    (top / "_CodeSignature" / "CodeResources").write_bytes(seal)
    (top / "Info.plist").write_bytes(info_list)
    (top / "MacOS").mkdir(exist_ok=True)
    main = signed(program(), given["CFBundleIdentifier"], {1: info_list, 3: seal}, **more)
    (top / "MacOS" / "lantern").write_bytes(main)
    return folder


def identity(folder: Path, name: str = "Developer ID Installer: Marrowby") -> tuple[Path, Path]:
    """A key with its certificate in one file, and the certificate alone, by openssl."""
    if not shutil.which("openssl"):
        missing("openssl", "apt-get install openssl")
    key, certificate, both = folder / "k.pem", folder / "c.pem", folder / "id.pem"
    line = ["openssl", "req", "-x509", "-newkey", "rsa:2048", "-nodes", "-days", "30", "-subj", f"/CN={name}"]
    subprocess.run([*line, "-keyout", key, "-out", certificate], check=True, capture_output=True)
    both.write_bytes(key.read_bytes() + certificate.read_bytes())
    return both, certificate
