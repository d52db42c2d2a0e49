"""Packages for macOS made for tests: payloads by cpio, archives by libarchive's bsdtar, signed ones by ours."""

from __future__ import annotations

import base64
import bz2
import gzip
import hashlib
import lzma
import shutil
import struct
import subprocess
import zlib
from pathlib import Path

import driver_specimens
from cryptography.hazmat.primitives import hashes, serialization
from cryptography.hazmat.primitives.asymmetric import padding, rsa, utils

INFO = """<?xml version="1.0" encoding="utf-8"?>
<pkg-info format-version="2" identifier="{identifier}" version="{version}" install-location="{location}" auth="root">
 <bundle path="./Lantern.app" id="com.tidewell.lantern" CFBundleShortVersionString="6.2.1"/>{more}
</pkg-info>
"""
DISTRIBUTION = """<?xml version="1.0" encoding="utf-8"?>
<installer-gui-script minSpecVersion="2">
 <title>Lantern</title><product id="com.tidewell.lantern" version="6.2.1"/>
 <options customize="never" hostArchitectures="x86_64,arm64"/>
 <volume-check><allowed-os-versions><os-version min="12.0"/></allowed-os-versions></volume-check>
 <choice id="all" title="Lantern"><pkg-ref id="com.tidewell.lantern"/></choice>
 <pkg-ref id="com.tidewell.lantern" version="6.2.1">#lantern.pkg</pkg-ref>
</installer-gui-script>
"""


def chunked(data: bytes, chunk: int = 1 << 12) -> bytes:
    """The chunked form of payloads, after its published description: what does not get smaller stays as it is."""
    out = b"pbzx" + struct.pack(">Q", chunk | 1 << 24)
    pieces = [data[at : at + chunk] for at in range(0, len(data), chunk)] or [b""]
    for number, piece in enumerate(pieces):
        more = 1 << 24 if number + 1 < len(pieces) else 0
        packed = lzma.compress(piece)
        kept = packed if len(packed) < len(piece) else piece
        out += struct.pack(">QQ", len(piece) | more, len(kept)) + kept
    return out


PACKINGS = {
    "none": bytes, "gzip": gzip.compress, "bzip2": bz2.compress, "xz": lzma.compress, "chunks": chunked,
}  # fmt: skip


def payload(tree: Path, form: str = "odc", packing: str = "gzip") -> bytes:
    """A folder as a payload, by cpio."""
    names = "".join(f"{path.relative_to(tree).as_posix()}\n" for path in [tree, *sorted(tree.rglob("*"))])
    done = subprocess.run(
        ["cpio", "--quiet", "-o", "-H", form, "-R", "0:80"],
        cwd=tree,
        input=names.encode(),
        capture_output=True,
        check=True,
    )
    return PACKINGS[packing](done.stdout)


def package(
    target: Path, tree: Path, *, script: str = "", distribution: bool = True, identifier: str = "com.tidewell.lantern",
    version: str = "6.2.1", location: str = "/Applications", more: str = "", packing: str = "gzip",
) -> Path:  # fmt: skip
    """A whole package by libarchive."""
    flat = target.with_suffix(".flat")
    inner = flat / "lantern.pkg" if distribution else flat
    inner.mkdir(parents=True)
    (inner / "PackageInfo").write_text(
        INFO.format(identifier=identifier, version=version, location=location, more=more)
    )
    (inner / "Payload").write_bytes(payload(tree, packing=packing))
    if script:
        scripts = target.with_suffix(".scripts")
        scripts.mkdir()
        (scripts / "postinstall").write_bytes(script.encode())
        (scripts / "postinstall").chmod(0o755)
        (inner / "Scripts").write_bytes(payload(scripts))
    if distribution:
        (flat / "Distribution").write_text(DISTRIBUTION)
    subprocess.run(["bsdtar", "--format=xar", "-cf", target, "-C", flat, "."], check=True, capture_output=True)
    shutil.rmtree(flat)
    return target


def signed(source: Path, target: Path, name: str) -> Path:
    """The same archive with a signature over its table of contents, as the description has it."""
    data = source.read_bytes()
    size, version, packed, _, kind = struct.unpack(">HHQQI", data[4:28])
    table = zlib.decompress(data[size : size + packed]).decode()
    heap = data[size + packed :]
    own, key = driver_specimens.certificate(name, key=rsa.generate_private_key(public_exponent=65537, key_size=2048))
    raw = own.public_bytes(serialization.Encoding.DER)
    element = (
        f'<signature style="RSA"><offset>{len(heap)}</offset><size>256</size><KeyInfo><X509Data><X509Certificate>'
        f"{base64.b64encode(raw).decode()}</X509Certificate></X509Data></KeyInfo></signature>"
    )
    new = zlib.compress(table.replace("</checksum>", "</checksum>" + element, 1).encode())
    digest = hashlib.sha1(new).digest()
    value = key.sign(digest, padding.PKCS1v15(), utils.Prehashed(hashes.SHA1()))
    head = data[:4] + struct.pack(">HHQQI", size, version, len(new), len(zlib.decompress(new)), kind) + data[28:size]
    target.write_bytes(head + new + digest + heap[20:] + value)
    return target
