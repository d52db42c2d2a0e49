"""The software bill of materials: CycloneDX, by its reference library."""

from __future__ import annotations

import json
import uuid

from yendo.package.manifest import CONTENT, Manifest

_NAMESPACE = uuid.UUID("5d7c1f0e-95b2-4c7e-8f52-9a4c7a1f3f11")


def encode(manifest: Manifest) -> bytes:
    """CycloneDX 1.6 as JSON. No time stamp: the same inputs give the same bytes."""
    from cyclonedx.model import HashAlgorithm, HashType
    from cyclonedx.model.bom import Bom
    from cyclonedx.model.component import Component, ComponentType
    from cyclonedx.model.contact import OrganizationalEntity
    from cyclonedx.output.json import JsonV1Dot6

    supplier = OrganizationalEntity(name=manifest.publisher) if manifest.publisher else None
    root = Component(name=manifest.name, version=manifest.version, type=ComponentType.APPLICATION, bom_ref=manifest.id, supplier=supplier)
    files = [
        Component(
            name=file.path,
            type=ComponentType.FILE,
            bom_ref=f"{manifest.id}/{file.path}",
            hashes=[HashType(alg=HashAlgorithm.SHA_256, content=file.sha256)],
        )
        for file in manifest.files
        if file.path.startswith(CONTENT)
    ]
    digests = "|".join(f"{file.path}={file.sha256}" for file in manifest.files)
    bom = Bom(components=files, serial_number=uuid.uuid5(_NAMESPACE, digests))
    bom.metadata.component = root
    bom.register_dependency(root, files)
    document = json.loads(JsonV1Dot6(bom).output_as_string())
    document.get("metadata", {}).pop("timestamp", None)
    document["components"] = sorted(document.get("components", []), key=lambda component: component["bom-ref"])
    return (json.dumps(document, indent=2, sort_keys=True) + "\n").encode()
