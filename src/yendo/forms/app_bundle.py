"""One app package for each processor, together in a bundle: Windows takes the one that fits.

Source: the schema of the bundle manifest, and the packaging layout: packages are stored as they are, the manifest says
where in the archive each begins, and the block map has the manifest alone, since every package has its own.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from pathlib import Path
from xml.sax.saxutils import quoteattr

from yendo.errors import Usage, YendoError
from yendo.formats import app_manifest, app_writer
from yendo.formats.app_manifest import AppManifest
from yendo.formats.app_writer import AppMember

_BUNDLE = "http://schemas.microsoft.com/appx/2013/bundle"
_TARGETS = "http://schemas.microsoft.com/appx/2018/bundle"


def bundled(target: Path, packages: Sequence[Path]) -> list[str]:
    """Writes the bundle of packages that were made for one processor each; their architectures, the first's first.

    Raises Usage where they are not one product in one version, or two are for one processor.
    """
    told = [app_manifest.read(path) for path in packages]
    first = told[0].identity
    for path, one in zip(packages, told, strict=True):
        who = one.identity
        if one.packages:
            raise Usage(f"{path.name} is a bundle itself; name the packages in it")
        for what, mine, other in (
            ("name", first.name, who.name),
            ("publisher", first.publisher, who.publisher),
            ("version", first.version, who.version),
        ):
            if mine != other:
                raise Usage(
                    f"{path.name}: its {what} is {other}, and this package's is {mine}; a bundle is one product"
                )
    processors = [one.identity.architecture for one in told]
    if twice := next((name for name in processors if processors.count(name) > 1), ""):
        raise Usage(f"two of the packages are for {twice}; a bundle has one for each processor")
    names = [f"{target.stem}-{name}.msix" for name in processors]
    members = [AppMember(name, path) for name, path in zip(names, packages, strict=True)]

    def manifest(places: Mapping[str, int]) -> bytes:
        rows = [
            _package(name, one, path.stat().st_size, places[name])
            for name, one, path in zip(names, told, packages, strict=True)
        ]
        return (
            '<?xml version="1.0" encoding="UTF-8" standalone="no"?>\r\n'
            f'<Bundle xmlns="{_BUNDLE}" xmlns:b4="{_TARGETS}" '
            f'SchemaVersion="6.0" IgnorableNamespaces="b4"><Identity Name={quoteattr(first.name)} '
            f"Publisher={quoteattr(first.publisher)} Version={quoteattr(first.version)}/>"
            f"<Packages>{''.join(rows)}</Packages></Bundle>"
        ).encode()

    with target.open("w+b") as file:
        app_writer.write_bundle(file, members, manifest)
    if wrong := app_manifest.differing(target):
        raise YendoError(f"what was made is no sound bundle: {wrong[0]} is not what its block map says")
    return processors


def _package(name: str, one: AppManifest, size: int, place: int) -> str:
    who = one.identity
    languages = "".join(f"<Resource Language={quoteattr(language)}/>" for language in one.languages)
    families = "".join(
        f"<b4:TargetDeviceFamily Name={quoteattr(family)} MinVersion={quoteattr(least)} "
        f"MaxVersionTested={quoteattr(one.tested.get(family, least))}/>"
        for family, least in one.windows.items()
    )
    return (
        f'<Package Type="application" Version={quoteattr(who.version)} Architecture={quoteattr(who.architecture)} '
        f'FileName={quoteattr(name)} Offset="{place}" Size="{size}"><Resources>{languages}</Resources>'
        f"<b4:Dependencies>{families}</b4:Dependencies></Package>"
    )
