"""The software bill of materials: CycloneDX. The head is made by its reference library.

The files and what depends on them are written by us in the library's form: it looks through everything it has for each
of them, which takes minutes for ten thousand. A test holds the two together.
"""

from __future__ import annotations

import json
import uuid

import msgspec

from yendo.package.manifest import CONTENT, Manifest

_NAMESPACE = uuid.UUID("5d7c1f0e-95b2-4c7e-8f52-9a4c7a1f3f11")


def encode(manifest: Manifest) -> bytes:
    """CycloneDX 1.6 as JSON. No time stamp: the same inputs give the same bytes."""
    from cyclonedx.model.bom import Bom
    from cyclonedx.model.component import Component, ComponentType
    from cyclonedx.model.contact import OrganizationalEntity
    from cyclonedx.output.json import JsonV1Dot6

    supplier = OrganizationalEntity(name=manifest.publisher) if manifest.publisher else None
    root = Component(
        name=manifest.name,
        version=manifest.version,
        type=ComponentType.APPLICATION,
        bom_ref=manifest.id,
        supplier=supplier,
        description=manifest.about.description or None,
    )
    files = {f"{manifest.id}/{file.path}": file for file in manifest.files if file.path.startswith(CONTENT)}
    digests = "|".join(f"{file.path}={file.sha256}" for file in manifest.files)
    bom = Bom(serial_number=uuid.uuid5(_NAMESPACE, digests))
    bom.metadata.component = root
    document = json.loads(JsonV1Dot6(bom).output_as_string())
    document.get("metadata", {}).pop("timestamp", None)
    document["components"] = [
        {"bom-ref": ref, "hashes": [{"alg": "SHA-256", "content": file.sha256}], "name": file.path, "type": "file"}
        for ref, file in sorted(files.items())
    ]
    needed = {"dependsOn": sorted(files)} if files else {}
    document["dependencies"] = [
        {"ref": ref, **(needed if ref == manifest.id else {})} for ref in sorted([manifest.id, *files])
    ]
    return msgspec.json.format(msgspec.json.encode(document, order="sorted"), indent=2) + b"\n"
