"""Bootstrappers that carry a manifest and several packages (``carrier-exe``)."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any, BinaryIO

from yendo.effects import Effect, UninstallEntry
from yendo.effects.things import View
from yendo.errors import Unreadable, YendoError
from yendo.evidence import BlindSpot, Evidence
from yendo.formats import cab, carrier, plain_xml
from yendo.formats.pe import Image
from yendo.formats.slices import Slice
from yendo.installers.account import Aspect, CommandLine, Identity, LaunchCondition, Property, Silent, Switch
from yendo.installers.family import FoundContent, Told, offset
from yendo.installers.parts import InstallerPart, whole

FAMILY = "carrier-exe"
MANIFEST = "0"  # the name of the manifest in the first container
MAX_MANIFEST = 16 << 20
_PACKAGES = {
    "ExePackage": "a program",
    "MsiPackage": "an installer database",
    "MspPackage": "a patch",
    "MsuPackage": "an OS update",
    "BundlePackage": "another carrier",
}
_FACTS = (
    ("if", "InstallCondition"),
    ("there already if", "DetectCondition"),
    ("install arguments", "InstallArguments"),
    ("uninstall arguments", "UninstallArguments"),
    ("repair arguments", "RepairArguments"),
    ("product code", "ProductCode"),
    ("stays for good", "Permanent"),
    ("must succeed", "Vital"),
    ("for everyone", "PerMachine"),
)
# Source: the values of the manifest's exit code types, as numbers and as words.
_MEANINGS = {"1": "done", "2": "failed", "3": "done, restart needed", "4": "restarts at once"}
_MEANINGS |= {
    "success": "done",
    "error": "failed",
    "scheduleReboot": "done, restart needed",
    "forceReboot": "restarts at once",
}


def find(file: BinaryIO, image: Image) -> FoundContent | None:
    found = carrier.find(file, image)
    if found is None:
        return None
    section = image.section(carrier.SECTION)
    where = section.offset if section else 0
    return FoundContent(
        FAMILY,
        offset(where, f"section {carrier.SECTION} begins with {carrier.MARK:#x}"),
        found,
        f"manifest version {found.version}",
    )


def manifest(file: BinaryIO, found: FoundContent) -> Any:
    """The manifest's root element. Raises Unreadable."""
    if not found.reading(carrier.Carrier).containers:
        raise Unreadable("the carrier has no container, so no manifest")
    first = found.reading(carrier.Carrier).containers[0]
    archive: Any = Slice(file, first.offset, first.size)
    listed = {entry.name: entry.size for entry in cab.index(archive).files}
    if listed.get(MANIFEST, MAX_MANIFEST + 1) > MAX_MANIFEST:
        raise Unreadable(f"the first container at offset {first.offset} holds no manifest of a reasonable size")
    for _, data in cab.extract(archive, {MANIFEST}, limit=1 << 30):
        return plain_xml.parsed(data, "the carrier's manifest")
    raise Unreadable("the carrier's manifest cannot be unpacked")


def _plain(tag: object) -> str:
    return str(tag).rpartition("}")[2]


def _all(root: Any, *names: str) -> list[Any]:
    return [element for element in root.iter() if _plain(element.tag) in names]


def parts(file: BinaryIO, image: Image, found: FoundContent) -> list[InstallerPart]:
    """The files of every container, under the names that the manifest gives them."""
    try:
        names = {
            element.get("SourcePath"): element.get("FilePath")
            for element in _all(manifest(file, found), "Payload")
            if element.get("SourcePath")
        }
    except YendoError:
        names = {}
    listed = []
    for container in found.reading(carrier.Carrier).containers:
        archive: Any = Slice(file, container.offset, container.size)
        for entry in cab.index(archive).files:
            note = f"in the container at offset {container.offset}"
            listed.append(
                InstallerPart(
                    names.get(entry.name) or entry.name, entry.size, None, None, _opener(archive, entry.name), note
                )
            )
    return listed


def _opener(archive: Any, name: str) -> Callable[[int], BinaryIO]:
    def open_it(limit: int) -> BinaryIO:
        for _, pieces in cab.pieces(archive, {name}):
            return whole(pieces, limit)
        raise Unreadable(f"{name} is listed in the container and cannot be unpacked")

    return open_it


def _where(element: Any, note: str = "") -> Evidence:
    return Evidence("row", f"manifest {_plain(element.tag)}[{element.get('Id', '')}]", note)


def _identity(root: Any, registration: Any, entry: Any, found: FoundContent) -> Identity:
    """By its registration and its entry in the list of programs, as far as it has them."""

    def of(element: Any, name: str) -> str | None:
        return element.get(name) if element is not None else None

    related = (one.get("Id") for one in _all(root, "RelatedBundle") if one.get("Action") == "Upgrade")
    return Identity(
        name=of(entry, "DisplayName"),
        version=of(entry, "DisplayVersion") or of(registration, "Version"),
        publisher=of(entry, "Publisher"),
        scope="machine" if (of(registration, "PerMachine") or "no") == "yes" else "user",
        product_code=of(registration, "Id") or found.reading(carrier.Carrier).id,
        upgrade_code=next(related, None),
        architecture="x64" if root.get("Win64") == "yes" else None,
    )


def _listed(identity: Identity, image: Image, cache: str, where: Evidence) -> Effect:
    """Its entry in the list of programs."""
    machine = identity.scope == "machine"
    view: View = "32" if machine and image.bits == 32 else "64"
    thing = UninstallEntry(
        str(identity.product_code), "HKLM" if machine else "HKCU", view, identity.name, identity.version,
        identity.publisher, f'"{cache}"  /uninstall', f'"{cache}" /uninstall /quiet',
    )  # fmt: skip
    return Effect("add", thing, "predicted", where)


def tell(file: BinaryIO, image: Image, found: FoundContent, name: str) -> Told:
    root = manifest(file, found)
    registration = next(iter(_all(root, "Registration")), None)
    entry = next(iter(_all(root, "Arp")), None)
    packages = [element for element in _all(root, *_PACKAGES) if element.get("Id")]
    identity = _identity(root, registration, entry, found)
    switches = _switches(found)
    where = found.evidence
    quiet = CommandLine(f'"{name}" /quiet /norestart', "likely", where, switches[:2])
    effects: list[Effect] = []
    uninstall = None
    if identity.product_code and entry is not None:
        own = registration.get("ExecutableName", name) if registration is not None else name
        cache = rf"C:\ProgramData\Package Cache\{identity.product_code}\{own}"
        line = f'"{cache}" /uninstall /quiet /norestart'
        uninstall = CommandLine(line, "likely", _where(registration), (switches[2], *switches[:2]))
        effects.append(_listed(identity, image, cache, _where(entry)))
    inside = (
        BlindSpot(
            f"package {element.get('Id')}",
            f"{_kind(element)}; read what is inside to know its effects",
            _where(element),
        )
        for element in packages
    )
    return Told(
        identity=identity,
        silent=Silent(
            quiet,
            uninstall,
            CommandLine(f'"{name}" /repair /quiet /norestart', "likely", where, (switches[3], *switches[:2])),
        ),
        switches=switches,
        behaviour=tuple(_behaviour(root, packages, where)),
        conditions=tuple(_conditions(root)),
        properties=tuple(_variables(root)),
        effects=tuple(effects),
        blind_spots=(
            *inside,
            BlindSpot("the window's own part", "a bootstrapper may bring its own that takes other switches", where),
        ),
        candidates=(
            quiet,
            CommandLine(f'"{name}" /silent /norestart', "to be tried", where),
            CommandLine(f'"{name}" -q', "to be tried", where),
        ),
        listing=tuple(_listing(root, packages)),
    )


def _kind(element: Any) -> str:
    return _PACKAGES[_plain(element.tag)]


def _switches(found: FoundContent) -> tuple[Switch, ...]:
    meanings = (
        ("/quiet", "shows nothing"),
        ("/norestart", "never restarts by itself"),
        ("/uninstall", "removes what it installed"),
        ("/repair", "repairs"),
        ("/log <file>", "writes its log there, and one beside it for each package"),
        ("/layout <folder>", "makes an offline copy of itself with every package, and installs nothing"),
        ("/passive", "shows progress only"),
    )
    return tuple(Switch(switch, meaning, "likely", found.evidence) for switch, meaning in meanings)


def _behaviour(root: Any, packages: list[Any], where: Evidence) -> list[Aspect]:
    order = ", then ".join(element.get("Id") for element in packages)
    found = [
        Aspect("waits", "until the last package has ended", "likely", where),
        Aspect("log", "/log <file>; else in %TEMP%", "likely", where),
        Aspect("offline copy", "/layout <folder>", "likely", where),
        Aspect("exit codes", "those of the Windows Installer: 0, 3010, 1602, 1603, 1618, 1638", "likely", where),
    ]
    if order:
        found.append(Aspect("order", order, "certain", Evidence("row", "manifest Chain")))
    for element in _all(root, "RelatedBundle"):
        found.append(
            Aspect("kin", f"{element.get('Action', '?').lower()} {element.get('Id')}", "certain", _where(element))
        )
    return found


def _conditions(root: Any) -> list[LaunchCondition]:
    found = []
    for element in _all(root, "Condition"):
        text = (element.text or element.get("Condition") or "").strip()
        if element.get("Message"):
            found.append(LaunchCondition(text, text, element.get("Message", ""), _where(element)))
    return found


def _variables(root: Any) -> list[Property]:
    """The variables that the command line may set; what is hidden stays so."""
    return [
        Property(
            element.get("Id", ""),
            None if element.get("Hidden") == "yes" else element.get("Value"),
            ("overridable on the command line",),
        )
        for element in _all(root, "Variable")
        if any(
            _plain(key).rpartition(":")[2] == "Overridable" and value == "yes" for key, value in element.attrib.items()
        )
    ]


def _listing(root: Any, packages: list[Any]) -> list[str]:
    """Each package with what decides about it, one line a fact."""
    lines = []
    for number, element in enumerate(packages, 1):
        lines.append(
            f"{number}. {element.get('Id')}: "
            f"{_kind(element)}{' ' + element.get('Version') if element.get('Version') else ''}"
        )
        lines += [f"   {words}: {element.get(key)}" for words, key in _FACTS if element.get(key)]
        lines += [
            f"   exit code {code.get('Code', 'any other')}: {_meaning(code)}"
            for code in element
            if _plain(code.tag) == "ExitCode"
        ]
        lines += [
            f"   property {entry.get('Id')} = {entry.get('Value')}"
            for entry in element
            if _plain(entry.tag) == "MsiProperty"
        ]
    return lines


def _meaning(code: Any) -> str:
    kind = str(code.get("Type", "?"))
    return _MEANINGS.get(kind, kind)
