"""The descriptions inside a flat package: ``PackageInfo`` of a component, and ``Distribution`` round several.

Source: Apple's "Distribution XML Reference"; the attributes of ``PackageInfo`` as ``pkgbuild(1)`` writes them. What
makes an installer look at versions of bundles, or follow one that was moved, is left out: it would pass over files in
silence.
"""

from __future__ import annotations

from collections.abc import Sequence
from xml.etree import ElementTree as etree

import msgspec

from yendo.mac_half.model import MacPlan
from yendo.mac_half.work import LaidBundle


class Described(msgspec.Struct, frozen=True):
    """A component inside the archive: its folder there, its identity, and how much it lays."""

    folder: str
    identifier: str
    version: str
    files: int = 0
    kilobytes: int = 0
    processor: str = ""


def package_info(
    one: Described, bundles: Sequence[LaidBundle], scripts: Sequence[str], *, restart: bool = False
) -> bytes:
    """The description of a component whose payload is laid at the root; ``scripts`` are those the installer runs."""
    root = etree.Element(
        "pkg-info",
        {
            "format-version": "2",
            "identifier": one.identifier,
            "version": one.version,
            "install-location": "/",
            "auth": "root",
            "overwrite-permissions": "true",
            "relocatable": "false",
            "postinstall-action": "restart" if restart else "none",
        },
    )
    etree.SubElement(root, "payload", numberOfFiles=str(one.files), installKBytes=str(one.kilobytes))
    for bundle in bundles:
        words = {
            "path": "." + bundle.path,
            "id": bundle.identifier,
            "CFBundleShortVersionString": bundle.version,
            "CFBundleVersion": bundle.build,
        }
        etree.SubElement(root, "bundle", {key: value for key, value in words.items() if value})
    if scripts:
        listed = etree.SubElement(root, "scripts")
        for name in scripts:
            etree.SubElement(listed, name, file=f"./{name}")
    return _text(root)


def distribution(plan: MacPlan, title: str, identifier: str, parts: Sequence[Described]) -> bytes:
    """The description round the components, which are installed in this order."""
    package = plan.package
    root = etree.Element("installer-gui-script", minSpecVersion="2")
    etree.SubElement(root, "title").text = title
    if package.organisation or package.publisher:
        etree.SubElement(root, "organization").text = package.organisation or package.publisher
    etree.SubElement(root, "product", id=identifier, version=package.receipt_version)
    options = {"customize": "never", "require-scripts": "false", "hostArchitectures": ",".join(package.processors)}
    etree.SubElement(root, "options", options)
    etree.SubElement(
        root, "domains", enable_anywhere="false", enable_currentUserHome="false", enable_localSystem="true"
    )
    check = etree.SubElement(etree.SubElement(root, "volume-check"), "allowed-os-versions")
    limits = {"min": package.oldest} | ({"before": after(plan.when.newest)} if plan.when.newest else {})
    etree.SubElement(check, "os-version", limits)
    outline = etree.SubElement(root, "choices-outline")
    for number in range(len(parts)):
        etree.SubElement(outline, "line", choice=f"part{number}")
    for number, one in enumerate(parts):
        words = {"id": f"part{number}", "visible": "false", "title": title}
        if one.processor:
            sign = "==" if one.processor == "arm64" else "!="
            # a program for Apple's own processors runs this as itself, since the options above name them
            chosen = f"system.sysctl('hw.machine') {sign} 'arm64'"
            words |= {"start_selected": chosen, "selected": chosen}
        etree.SubElement(etree.SubElement(root, "choice", words), "pkg-ref", id=one.identifier)
    for one in parts:
        words = {"id": one.identifier, "version": one.version, "installKBytes": str(one.kilobytes), "auth": "root"}
        if package.restart and one is parts[-1]:
            words["onConclusion"] = "RequireRestart"
        etree.SubElement(root, "pkg-ref", words).text = f"#{one.folder}"
    return _text(root)


def after(version: str) -> str:
    """The first version that is newer than all that begin so: ``15`` -> ``16``, ``14.4`` -> ``14.5``."""
    *head, last = version.split(".")
    return ".".join([*head, str(int(last) + 1)])


def _text(root: etree.Element) -> bytes:
    etree.indent(root, " ")
    return bytes(etree.tostring(root, "utf-8", xml_declaration=True)) + b"\n"
