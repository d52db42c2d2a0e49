"""The software identification tag. Source: ISO/IEC 19770-2:2015, the elements SoftwareIdentity, Entity, Payload."""

from __future__ import annotations

import xml.etree.ElementTree as ET

from yendo.facts.versions import Version
from yendo.package.manifest import CONTENT, Manifest

_SPACE = "http://standards.iso.org/iso/19770/-2/2015/schema.xsd"
_SHA256 = "http://www.w3.org/2001/04/xmlenc#sha256"


def encode(manifest: Manifest) -> bytes:
    """The tag as XML."""
    ET.register_namespace("", _SPACE)
    ET.register_namespace("SHA256", _SHA256)
    try:
        Version.parse(manifest.version)
        scheme = "multipartnumeric"
    except ValueError:
        scheme = "alphanumeric"
    root = ET.Element(
        f"{{{_SPACE}}}SoftwareIdentity",
        {
            "name": manifest.name,
            "version": manifest.version,
            "versionScheme": scheme,
            "tagVersion": str(manifest.revision),
            "tagId": f"{manifest.id}-{manifest.version}",
            "{http://www.w3.org/XML/1998/namespace}lang": "en-GB",
        },
    )
    ET.SubElement(root, f"{{{_SPACE}}}Entity", {"name": manifest.publisher or "unknown", "role": "softwareCreator"})
    ET.SubElement(root, f"{{{_SPACE}}}Entity", {"name": "Yendo", "role": "tagCreator"})
    about = manifest.about
    meta = {"description": about.description or about.notes, "summary": about.category, "persistentId": manifest.id}
    ET.SubElement(root, f"{{{_SPACE}}}Meta", {name: value for name, value in meta.items() if value})
    if about.support:
        ET.SubElement(root, f"{{{_SPACE}}}Link", {"rel": "seeAlso", "href": about.support})
    payload = ET.SubElement(root, f"{{{_SPACE}}}Payload")
    for file in manifest.files:
        if file.path.startswith(CONTENT):
            ET.SubElement(
                payload,
                f"{{{_SPACE}}}File",
                {"name": file.path, "size": str(file.size), f"{{{_SHA256}}}hash": file.sha256},
            )
    ET.indent(root)
    return bytes(ET.tostring(root, "utf-8", xml_declaration=True)) + b"\n"
