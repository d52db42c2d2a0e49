"""What a manifest of an app package must be, rule by rule: what Windows refuses is told before it does.

Source of each rule: the page of the element or attribute in the documentation of the package manifest; ``SOURCES``
names it for every rule. Judged is only what that page says outright.
"""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import msgspec

from yendo.formats import app_manifest
from yendo.formats.app_manifest import OpenedManifest
from yendo.platforms.windows.app_elements import elements

SOURCES = {
    "app-name": "Identity: Name, 3 to 50 letters, digits, periods, hyphens; no device's name, no period last",
    "app-version": "Identity: Version, four numbers from 0 to 65535 without leading zeros",
    "app-publisher": "Identity: Publisher, a distinguished name of known fields",
    "app-architecture": "Identity: ProcessorArchitecture",
    "app-resource": "Identity: ResourceId, up to 30 letters, digits, periods and hyphens",
    "app-title": "DisplayName: 1 to 256 characters",
    "app-maker": "PublisherDisplayName: 1 to 256 characters",
    "app-description": "Description and VisualElements: Description, 1 to 2048 characters, on one line",
    "app-logo": "Logo and VisualElements: a .png or .jpg that the package has",
    "app-language": "Resource: Language, a tag of a language; at least one resource, at most 200",
    "app-family": "TargetDeviceFamily: one or more; MinVersion, MaxVersionTested of four numbers, the first not above",
    "app-too-old": "each element's OS version: the package asks for a Windows that does not know it",
    "app-need": "PackageDependency: Name and Publisher like an identity's, MinVersion of four numbers",
    "app-id": "Application: Id, up to 64 characters, parts of letters and digits between periods, each after a letter",
    "app-id-twice": "Application: Id, unique in the package",
    "app-too-many": "Applications: at most 100",
    "app-executable": "Application and Extension: Executable, an .exe that the package has, by its path in it",
    "app-full-trust": "EntryPoint Windows.FullTrustApplication asks for the capability runFullTrust",
    "app-colour": "VisualElements: BackgroundColor, # and six digits, or a colour's name",
    "app-file-type": "FileType: a period and up to 63 characters, in small letters",
    "app-claimed-type": "FileType: types that no package may claim",
    "app-type-name": "FileTypeAssociation: Name, in small letters, up to 100 characters, no blank",
    "app-type-twice": "FileTypeAssociation: Name, unique in the application",
    "app-protocol": "Protocol: Name, 2 to 39 characters: small letters, digits, plus, hyphen, period",
    "app-task": "StartupTask: TaskId, unique in the package",
    "app-alias": "ExecutionAlias: Alias, a name that ends in .exe, without a folder",
    "app-server": "Class: Id, a GUID without braces, once in the package",
    "app-service": "Service: the capability packagedServices, and localSystemServices where it runs as the system",
    "app-capability-order": "Capabilities: those of devices stand last",
    "app-capability-twice": "Capabilities: each once",
    "app-namespace": "IgnorableNamespaces: prefixes that the manifest declares",
    "app-file-twice": "the packaging layout: no two files whose names differ in large and small letters only",
}  # fmt: skip
_DEVICES = {"con", "prn", "aux", "nul", *(f"com{n}" for n in range(1, 10)), *(f"lpt{n}" for n in range(1, 10))}
_QUAD = re.compile(r"(0|[1-9]\d{0,4})(\.(0|[1-9]\d{0,4})){3}")
_FIELD = (
    r"(CN|L|O|OU|E|C|S|STREET|T|G|I|SN|DC|SERIALNUMBER|Description|PostalCode|POBox|Phone|X21Address|dnQualifier|"
    r"(OID\.(0|[1-9]\d*)(\.(0|[1-9]\d*))+))"
)
_VALUE = r'(([^,+="<>#;])+|".*")'
_PUBLISHER = re.compile(rf"{_FIELD}={_VALUE}(, ({_FIELD}={_VALUE}))*")
_GUID = re.compile(r"[0-9A-Fa-f]{8}(-[0-9A-Fa-f]{4}){3}-[0-9A-Fa-f]{12}")
_COLOURS = re.compile(r"#[0-9A-Fa-f]{6}|[A-Za-z]{3,20}")
_CLAIMED = frozenset(
    (
        ".accountpicture-ms .appx .application .appref-ms .bas .bat .cer .chm .cmd .com .cpl .crt .dll .drv .exe .fon "
        ".gadget .hlp .hta .inf .ins .jse .lnk .msi .msp .ocx .pif .ps1 .reg .scf .scr .shb .shs .sys .ttf .url .vbe "
        ".vbs .ws .wsc .wsf .wsh"
    ).split()
)
_ARCHITECTURES = ("x86", "x64", "arm", "arm64", "neutral", "x86a64")
_MOST_APPLICATIONS, _MOST_LANGUAGES = 100, 200


class BrokenRule(msgspec.Struct, frozen=True):
    """A rule that a manifest breaks, and how; ``remedy`` is what whoever makes the package does."""

    rule: str
    message: str
    remedy: str

    @property
    def source(self) -> str:
        """Where it is written down."""
        return f"documentation of the package manifest, {SOURCES[self.rule]}"


def broken(path: Path) -> list[BrokenRule]:
    """What a package's manifest breaks; a bundle's own has no such rules. Raises Unreadable."""
    found = app_manifest.opened_manifest(path)
    return [BrokenRule(*one) for one in _Judge(found).all()] if found is not None else []


class _Judge:
    def __init__(self, manifest: OpenedManifest) -> None:
        self.top = top = manifest.top
        self.names, self.prefixes = manifest.names, manifest.prefixes
        self.there = {name.lower() for name in manifest.names}
        self.capabilities = {
            node.get("Name", "") for node in top.iterfind("{*}Capabilities/*") if node.get("Name") is not None
        }
        self.applications = top.findall("{*}Applications/{*}Application")

    def all(self) -> Iterator[tuple[str, str, str]]:
        yield from self.identity()
        yield from self.properties()
        yield from self.asked()
        yield from self.started()
        for application in self.applications:
            yield from self.extensions(application)
        yield from self.whole()

    def has(self, name: str) -> bool:
        """Whether the package has a file, also as one of several for sizes and languages."""
        low = name.replace("\\", "/").lower()
        if low in self.there:
            return True
        stem, dot, ending = low.rpartition(".")
        head, slash, own = stem.rpartition("/")
        pattern = re.compile(
            re.escape(head + slash) + r"([^/]+/)*" + re.escape(own) + r"(\.[^/]+)?" + re.escape(dot + ending) + "$"
        )
        return any(pattern.match(one) for one in self.there)

    def identity(self) -> Iterator[tuple[str, str, str]]:
        node = self.top.find("{*}Identity")
        name, version = node.get("Name", ""), node.get("Version", "")
        if not _is_name(name):
            yield "app-name", f"the name {name!r} is none for a package", "3 to 50 letters, digits, periods, hyphens"
        if not _is_quad(version):
            yield "app-version", f"the version {version!r} is not four numbers up to 65535", "as 1.2.3.0"
        if not _PUBLISHER.fullmatch(node.get("Publisher", "")):
            words = f"the publisher {node.get('Publisher', '')!r} is no distinguished name"
            yield "app-publisher", words, "the subject of the certificate, as CN=Office, C=GB"
        if (given := node.get("ProcessorArchitecture", "neutral")) not in _ARCHITECTURES:
            yield "app-architecture", f"no processor is called {given!r}", f"one of {', '.join(_ARCHITECTURES)}"
        if not re.fullmatch(r"[-.A-Za-z0-9]{0,30}", node.get("ResourceId", "")):
            yield "app-resource", f"the resource {node.get('ResourceId')!r} is none", "letters, digits, up to 30"

    def properties(self) -> Iterator[tuple[str, str, str]]:
        own = self.top.find("{*}Properties")
        texts = {
            name: (node.text or "").strip()
            for name in ("DisplayName", "PublisherDisplayName", "Description", "Logo")
            if own is not None and (node := own.find(f"{{*}}{name}")) is not None
        }
        for name, rule in (("DisplayName", "app-title"), ("PublisherDisplayName", "app-maker")):
            if not 1 <= len(texts.get(name, "")) <= 256:
                yield rule, f"{name} has {len(texts.get(name, ''))} characters", "1 to 256"
        if "Description" in texts and not _is_description(texts["Description"]):
            yield "app-description", "the package's Description is empty, too long, or on several lines", "one line"
        yield from self.logo("Logo", texts.get("Logo", ""))
        languages = [node.get("Language") for node in self.top.iterfind("{*}Resources/{*}Resource")]
        tags = [tag for tag in languages if tag is not None]
        if not languages or len(languages) > _MOST_LANGUAGES:
            yield "app-language", f"the manifest has {len(languages)} resources", f"1 to {_MOST_LANGUAGES}"
        for tag in tags:
            if tag.lower() != "x-generate" and not re.fullmatch(r"[A-Za-z]{2,3}(-[A-Za-z0-9]{2,8})*", tag):
                yield "app-language", f"{tag!r} is no language", "a tag, as en-gb"

    def logo(self, what: str, name: str) -> Iterator[tuple[str, str, str]]:
        if not name.lower().endswith((".png", ".jpg", ".jpeg")):
            yield "app-logo", f"{what} is {name!r}, which is no .png or .jpg", "a picture of the package"
        elif not self.has(name):
            yield "app-logo", f"{what} is {name}, and the package has no such file", "put the picture into the package"

    def asked(self) -> Iterator[tuple[str, str, str]]:
        families = self.top.findall("{*}Dependencies/{*}TargetDeviceFamily")
        if not families:
            yield "app-family", "the manifest names no family of Windows", "TargetDeviceFamily"
        least = None
        for node in families:
            low, high = node.get("MinVersion", ""), node.get("MaxVersionTested", "")
            if not _is_quad(low) or not _is_quad(high):
                yield "app-family", f"{node.get('Name')} has the versions {low!r} and {high!r}", "four numbers each"
            elif _numbers(low) > _numbers(high):
                yield "app-family", f"{node.get('Name')} asks for {low}, and was tested to {high}", "not above"
            elif _numbers(low)[2]:
                least = min(least or _numbers(low)[2], _numbers(low)[2])
        for node in self.top.iterfind("{*}Dependencies/{*}PackageDependency"):
            name, version = node.get("Name", ""), node.get("MinVersion", "")
            if not _is_name(name) or not _is_quad(version) or not _PUBLISHER.fullmatch(node.get("Publisher", "")):
                yield "app-need", f"what it says to need is no package: {name} {version}", "name, version, publisher"
        known = elements()
        prefix = {uri: short for short, uri in known.namespace.items()}
        for name in sorted({_short(one, prefix) for node in self.top.iter() for one in (node.tag, *node.keys())}):
            if least is not None and known.build.get(name, 0) > least:
                first = f"10.0.{known.build[name]}"
                words = f"{name} is understood from Windows {first} on, and the package asks for 10.0.{least}"
                yield "app-too-old", words, f"MinVersion {first}.0"

    def started(self) -> Iterator[tuple[str, str, str]]:
        if len(self.applications) > _MOST_APPLICATIONS:
            yield "app-too-many", f"the package has {len(self.applications)} applications", "at most 100"
        for name, count in Counter(one.get("Id", "") for one in self.applications).items():
            if count > 1:
                yield "app-id-twice", f"two applications are called {name}", "a name each"
        for node in self.applications:
            own = node.get("Id", "")
            if len(own) > 64 or not re.fullmatch(r"[A-Za-z][A-Za-z0-9]*(\.[A-Za-z][A-Za-z0-9]*)*", own):
                yield "app-id", f"the application's Id {own!r} is none", "letters and digits, after a letter"
            yield from self.executable(node, own)
            shown = node.find("{*}VisualElements")
            if shown is None:
                continue
            if not 1 <= len(shown.get("DisplayName", "")) <= 256:
                yield "app-title", f"{own} has a name of {len(shown.get('DisplayName', ''))} characters", "1 to 256"
            if not _is_description(shown.get("Description", "")):
                yield "app-description", f"the description of {own} is empty, too long, or on several lines", "one line"
            if not _COLOURS.fullmatch(shown.get("BackgroundColor", "")):
                yield "app-colour", f"{shown.get('BackgroundColor', '')!r} is no colour", "# and six digits"
            for name in ("Square150x150Logo", "Square44x44Logo"):
                yield from self.logo(f"{name} of {own}", shown.get(name, ""))

    def executable(self, node: Any, own: str) -> Iterator[tuple[str, str, str]]:
        name = node.get("Executable")
        if name is not None:
            if not name.lower().endswith(".exe") or re.search(r'[<>:"|?*]', name):
                yield "app-executable", f"{own} starts {name}, which is no program's path", "a path that ends in .exe"
            elif name.replace("\\", "/").lower() not in self.there and "$" not in name:
                yield "app-executable", f"{own} starts {name}, which the package does not have", "its path in it"
        if node.get("EntryPoint") == "Windows.FullTrustApplication" and "runFullTrust" not in self.capabilities:
            yield "app-full-trust", f"{own} runs with full trust, and the package does not ask for it", "runFullTrust"

    def extensions(self, application: Any) -> Iterator[tuple[str, str, str]]:
        own = application.get("Id", "")
        for node in application.iterfind("{*}Extensions/{*}Extension"):
            yield from self.executable(node, f"{own} ({node.get('Category', '')})")
        names = []
        for node in application.iter():
            match str(node.tag).rpartition("}")[2]:
                case "FileTypeAssociation":
                    names.append(node.get("Name", ""))
                    if not re.fullmatch(r"[^\sA-Z]{1,100}", names[-1]):
                        yield "app-type-name", f"the association {names[-1]!r} is none", "small letters, no blank"
                case "FileType":
                    kind = (node.text or "").strip()
                    if not re.fullmatch(r'\.[^A-Z\s<>:%"|?*.]{1,63}(\.[^A-Z\s<>:%"|?*.]+)*', kind) and kind != "*":
                        yield "app-file-type", f"{kind!r} is no file type", "a period and small letters"
                    elif kind in _CLAIMED:
                        yield "app-claimed-type", f"no package may claim {kind}", "leave it out"
                case "Protocol":
                    if not re.fullmatch(r"[a-z][-a-z0-9.+]{1,38}", node.get("Name", "")):
                        yield "app-protocol", f"{node.get('Name', '')!r} is no protocol", "2 to 39 small letters"
                case "ExecutionAlias":
                    if not re.fullmatch(r'[^\\/<>:"|?*]+\.exe', node.get("Alias", ""), re.I):
                        yield "app-alias", f"the alias {node.get('Alias', '')!r} is none", "a name that ends in .exe"
                case "Service":
                    yield from self.service(node)
        for name, count in Counter(names).items():
            if count > 1:
                yield "app-type-twice", f"{own} has two associations called {name}", "a name each"

    def service(self, node: Any) -> Iterator[tuple[str, str, str]]:
        needed = {"packagedServices"}
        if node.get("StartAccount") == "localSystem":
            needed.add("localSystemServices")
        if missing := sorted(needed - self.capabilities):
            words = f"the service {node.get('Name', '')} needs {' and '.join(missing)}"
            yield "app-service", words, "declare it among the capabilities"

    def _capabilities(self) -> Iterator[tuple[str, str, str]]:
        """Each once, and those of devices last."""
        devices = False
        seen: set[str] = set()
        for node in self.top.iterfind("{*}Capabilities/*"):
            name = f"{node.tag}{node.get('Name', '')}"
            if name in seen:
                yield "app-capability-twice", f"the capability {node.get('Name')} is there twice", "once"
            seen.add(name)
            own = str(node.tag).rpartition("}")[2] == "DeviceCapability"
            if devices and not own:
                yield "app-capability-order", f"{node.get('Name')} stands behind a device's", "those of devices last"
            devices = devices or own

    def whole(self) -> Iterator[tuple[str, str, str]]:
        tasks, servers = Counter[str](), Counter[str]()
        for node in self.top.iter():
            kind = str(node.tag).rpartition("}")[2]
            if kind == "StartupTask":
                tasks[node.get("TaskId", "")] += 1
            elif kind == "Class" and "/com/" in str(node.tag):
                servers[node.get("Id", "").lower()] += 1
        for name, count in tasks.items():
            if count > 1 or not name:
                yield "app-task", f"the start-up task {name!r} is there {count} times", "a name each"
        for name, count in servers.items():
            if count > 1 or not _GUID.fullmatch(name):
                yield "app-server", f"the server {name!r} is no GUID, or there {count} times", "a GUID, once"
        yield from self._capabilities()
        for name in str(self.top.get("IgnorableNamespaces", "")).split():
            if name not in self.prefixes:
                yield "app-namespace", f"the prefix {name} is to be ignored and not declared", "declare it"
        for name, count in Counter(one.lower() for one in self.names).items():
            if count > 1:
                yield "app-file-twice", f"the package has {name} in several writings", "one of them"


def _is_name(name: str) -> bool:
    low = name.lower()
    odd = low.split(".")[0] in _DEVICES or low.endswith(".") or low.startswith("xn--") or ".xn--" in low
    return bool(re.fullmatch(r"[-.A-Za-z0-9]{3,50}", name)) and not odd


def _is_quad(version: str) -> bool:
    return bool(_QUAD.fullmatch(version)) and max(_numbers(version)) <= 65535


def _numbers(version: str) -> list[int]:
    return [int(part) for part in version.split(".")]


def _is_description(text: str) -> bool:
    return 1 <= len(text) <= 2048 and not re.search(r"[\t\r\n]", text)


def _short(name: Any, prefix: dict[str, str]) -> str:
    """An element's or attribute's name with the prefix that the table has for it."""
    uri, _, own = str(name).rpartition("}")
    short = prefix.get(uri.lstrip("{"), "")
    return f"{short}:{own}" if short else own
