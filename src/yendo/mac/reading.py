"""Reading a flat package: its descriptions, its payloads, its scripts, its signature.

Source: the published descriptions of flat packages, ``PackageInfo`` and ``Distribution``. No package of another maker
is in the registries here: archives and payloads are held by other writers, the descriptions by the documentation alone.
"""

from __future__ import annotations

import io
from collections.abc import Iterable, Iterator
from pathlib import Path
from typing import TYPE_CHECKING, BinaryIO

import msgspec

from yendo.errors import NotCovered, Unreadable
from yendo.formats import bom, cpio, plain_xml, xar
from yendo.formats.bom import BillItem
from yendo.formats.xar import Xar, XarEntry
from yendo.installers.judging import by_its_key
from yendo.mac.findings import findings
from yendo.mac.package import MacBundle, MacChoice, MacComponent, MacItem, MacPackage, MacScript, MacSignature

if TYPE_CHECKING:
    from xml.etree.ElementTree import Element

MAX_DESCRIPTION, MAX_SCRIPT, MAX_ITEMS, MAX_TWICE = 8 << 20, 1 << 20, 200_000, 64 << 20


def read(path: Path, *, listing: bool = False) -> MacPackage:
    """A whole package; with ``listing`` its files by the bill alone, where there is one: nothing is unpacked.

    Raises Unreadable.
    """
    with path.open("rb") as file:
        archive = Xar(file, path.name)
        by_path = {entry.path: entry for entry in archive.entries}
        infos = sorted(name for name in by_path if name.rpartition("/")[2] == "PackageInfo")
        if not infos:
            raise Unreadable(f"{path.name} is an archive of that kind and holds no package (no PackageInfo)")
        components = tuple(_component(archive, by_path, name, listing) for name in infos)
        found = _described(path.name, archive, by_path, components)
    return msgspec.structs.replace(found, findings=tuple(findings(found, archive.problem)))


def signature_of(path: Path) -> MacSignature:
    """Who signed a package; nothing of what is in it is read. Raises Unreadable."""
    with path.open("rb") as file:
        return signed(Xar(file, path.name))


def _described(
    name: str, archive: Xar, by_path: dict[str, XarEntry], components: tuple[MacComponent, ...]
) -> MacPackage:
    signature = signed(archive)
    if "Distribution" not in by_path:
        first = components[0]
        return MacPackage(name, "component", "", first.identifier, first.version, (), "", signature, components)
    root = _xml(archive, by_path["Distribution"])
    product, options = root.find("product"), root.find("options")
    stated = options.get("hostArchitectures", "") if options is not None else ""
    versions = [one.get("min", "") for one in root.iter("os-version")]
    packages = [one for one in root.iter("pkg-ref") if one.get("version")]
    return MacPackage(
        name,
        "distribution",
        (root.findtext("title") or "").strip(),
        product.get("id", "") if product is not None else components[0].identifier,
        product.get("version", "") if product is not None else (packages[0].get("version", "") if packages else ""),
        tuple(filter(None, (part.strip() for part in stated.split(",")))),
        min(filter(None, versions), default="", key=_order),
        signature,
        components,
        tuple(_choices(root)),
        tuple(
            f"{one.tag}: {one.get('script', '')}"
            for one in root.iter()
            if one.tag in ("installation-check", "volume-check") and one.get("script")
        ),
        next((one.get("before", "") for one in root.iter("os-version") if one.get("before")), ""),
    )


def _order(version: str) -> tuple[int, ...]:
    return tuple(int(part) if part.isdigit() else 0 for part in version.split("."))


def _choices(root: Element) -> Iterator[MacChoice]:
    for one in root.iter("choice"):
        packages = tuple(filter(None, (inner.get("id", "") for inner in one.findall("pkg-ref"))))
        title = one.get("title", "")
        yield MacChoice(
            one.get("id", ""), title, packages, one.get("start_selected", "true"), one.get("start_visible", "true")
        )


def _component(archive: Xar, by_path: dict[str, XarEntry], info: str, listing: bool) -> MacComponent:
    folder = info.removesuffix("PackageInfo")
    root = _xml(archive, by_path[info])
    location = "/" + root.get("install-location", "/").strip("/")
    troubles: list[str] = []
    items: list[MacItem] = []
    scripts: list[MacScript] = []
    bill_items: list[MacItem] | None = None
    try:
        if (bill := by_path.get(f"{folder}Bom")) is not None:
            bill_items = billed(bom.read(archive.read(bill, bom.MAX_BILL)), location)
    except (Unreadable, NotCovered) as error:
        troubles.append(f"its bill of materials: {error}")
    try:
        if listing and bill_items is not None:
            items = bill_items
        elif (payload := by_path.get(f"{folder}Payload")) is not None:
            items = list(laid(cpio.entries(stream(archive, payload)), location))
    except (Unreadable, NotCovered) as error:
        troubles.append(f"its payload: {error}")
    try:
        if (packed := by_path.get(f"{folder}Scripts")) is not None:
            scripts = list(_scripts(archive, packed))
    except (Unreadable, NotCovered) as error:
        troubles.append(f"its scripts: {error}")
    return MacComponent(
        root.get("identifier", ""),
        root.get("version", ""),
        location,
        root.get("auth", "none").lower() == "root",
        root.get("postinstall-action", "").replace("none", ""),
        tuple(items),
        tuple(
            MacBundle(_below(location, one.get("path", "")), one.get("id", ""), _version(one))
            for one in root.findall("bundle")
        ),
        tuple(one.get("id", "") for found in root.findall("relocate") for one in found.findall("bundle")),
        tuple(scripts),
        "; ".join(troubles),
        folder.rstrip("/"),
        tuple(unlike(items, bill_items)) if bill_items is not None else (),
    )


def billed(found: list[BillItem], location: str) -> list[MacItem]:
    """What a bill of materials lists."""
    return [
        MacItem(
            _below(location, one.path), one.kind, f"{one.mode:04o}", one.user, one.group,
            0 if one.kind == "folder" else one.size, one.target,
        )
        for one in sorted(found, key=lambda one: one.path.split("/"))
    ]  # fmt: skip


def unlike(items: list[MacItem], billed: list[MacItem]) -> Iterator[str]:
    """Paths that the bill lists otherwise than the payload, or one of them alone. What the file system keeps beside a
    file lies in the payload as a file of its own, and in no bill.
    """
    # a link's size is that of its target in the one, and nothing in the other
    by_path = {one.path: msgspec.structs.replace(one, size=0) if one.kind == "link" else one for one in billed}
    for one in items:
        other = by_path.pop(one.path, None)
        # a bill's entry has the lower 32 bits of a size
        size = 0 if one.kind in ("link", "folder") else one.size & 0xFFFFFFFF
        plain = msgspec.structs.replace(one, size=size)
        if other != plain and not (other is None and "/._" in one.path):
            yield one.path
    yield from by_path


def _version(bundle: Element) -> str:
    return bundle.get("CFBundleShortVersionString") or bundle.get("CFBundleVersion") or ""


def _below(location: str, path: str) -> str:
    plain = path.removeprefix("./").strip("/")
    return f"{location.rstrip('/')}/{plain}" if plain and plain != "." else location


def stream(archive: Xar, entry: XarEntry) -> BinaryIO:
    """The packed bytes of a payload: as they are, or, up to a size, packed once more by the archive."""
    if entry.encoding == "none":
        return io.BufferedReader(archive.packed(entry))
    return io.BytesIO(archive.read(entry, MAX_TWICE))


def laid(entries: Iterable[cpio.CpioEntry], location: str) -> Iterator[MacItem]:
    """What a payload lays. Raises Unreadable."""
    for count, found in enumerate(entries):
        if count >= MAX_ITEMS:
            raise Unreadable(f"more than {MAX_ITEMS} files")
        mode = f"{found.mode & 0o7777:04o}"
        path = _below(location, found.path)
        yield MacItem(path, found.kind, mode, found.user, found.group, found.size, found.target)


def _scripts(archive: Xar, entry: XarEntry) -> Iterator[MacScript]:
    for found, data in cpio.walk(stream(archive, entry), MAX_SCRIPT):
        name = found.path.removeprefix("./")
        executable = found.mode & 0o111 or name in ("preinstall", "postinstall")
        if found.kind != "file" or not executable or b"\0" in data[:512]:
            continue
        text = data.decode("utf-8", "replace")
        first = text.partition("\n")[0].rstrip("\r")
        yield MacScript(name, first[2:].strip() if first.startswith("#!") else "", text)


def _xml(archive: Xar, entry: XarEntry) -> Element:
    try:
        return plain_xml.parsed(archive.read(entry, MAX_DESCRIPTION), entry.path)
    except NotCovered as error:
        raise Unreadable(f"{entry.path} cannot be read: {error}") from error


def signed(archive: Xar) -> MacSignature:
    """Whether the signature over the table's checksum is by the certificate that stands first."""
    found = next((one for one in archive.signatures if one.style == "RSA" and one.certificates), None)
    if found is None:
        if archive.signatures:
            return MacSignature("not judged", problem=f"only of the style {archive.signatures[0].style}")
        return MacSignature("none")
    from asn1crypto import x509

    try:
        certificates = [x509.Certificate.load(raw) for raw in found.certificates]
        chain = tuple(str(one.subject.native.get("common_name") or one.subject.human_friendly) for one in certificates)
        ends = certificates[0]["tbs_certificate"]["validity"]["not_after"].native.isoformat()
    except (ValueError, TypeError, KeyError) as error:
        return MacSignature("broken", problem=f"its certificates cannot be read: {error}")
    try:
        holds = _holds(archive, found)
    except ImportError:
        return MacSignature("not judged", chain, ends, "pip install 'yendo[sign]'")
    return MacSignature("holds" if holds else "broken", chain, ends)


def _holds(archive: Xar, signature: xar.XarSignature) -> bool:
    from cryptography import x509
    from cryptography.exceptions import UnsupportedAlgorithm
    from cryptography.hazmat.primitives.asymmetric import rsa

    if archive.problem or archive.algorithm not in ("sha1", "sha256", "sha512"):
        return False
    try:
        certificate = x509.load_der_x509_certificate(signature.certificates[0])
        return isinstance(certificate.public_key(), rsa.RSAPublicKey) and by_its_key(
            certificate, signature.value, archive.table, archive.algorithm
        )
    except (UnsupportedAlgorithm, ValueError, TypeError):
        return False
