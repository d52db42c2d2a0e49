"""A small world of files and registry values that can be in many states, and rules on it: for holding four judges together.

A state is chosen by one variant a slot. The same low-level content becomes things (for the rules), a script that acts it
out (for the real shell), and system characteristics (for an OVAL interpreter).
"""

from __future__ import annotations

import hashlib
import io
import random
import re
from collections.abc import Iterator
from datetime import UTC, datetime
from typing import Any
from xml.etree import ElementTree as xml

from yendo.demo.vendor import PROGRAMS
from yendo.detect.oval import INSTANCE
from yendo.effects import File, Folder, State
from yendo.effects.things import parent
from yendo.formats import pe
from yendo.package.scripts import literal
from yendo.platforms.windows.registry_keys import pack_code, things_of_key
from yendo.terms.rules import (
    AllRule,
    AnyOfRule,
    AppRule,
    AtLeastRule,
    BaseRule,
    CertificateRule,
    DeviceRule,
    DriverRule,
    EnvironmentRule,
    FileListRule,
    FileRule,
    FolderRule,
    MsiProductRule,
    NoneRule,
    RegistryKeyRule,
    RegistryListRule,
    RegistryRule,
    ServiceRule,
    Sight,
    TagRule,
    TaskRule,
    UninstallEntryRule,
)

CODE, LINE = "{4E6AB892-57E7-52F8-B2B2-AB06096EDC9F}", "{57E7F801-F77B-4A57-A0F0-B29B2BDC4CF3}"
TODAY = datetime.now(UTC).date().isoformat()
A, NOTE, TAG = r"C:\Program Files\Tidewell\a.exe", r"C:\ProgramData\note.txt", r"C:\ProgramData\lantern.swidtag"
SOFTWARE = r"Software\Tidewell"
INSTALLER = r"Software\Microsoft\Windows\CurrentVersion\Installer"
LISTED = r"Software\Microsoft\Windows\CurrentVersion\Uninstall\Lantern"
SERVICES = r"System\CurrentControlSet\Services\TideLogger"
VARIABLES = r"System\CurrentControlSet\Control\Session Manager\Environment"
TASKS = r"Software\Microsoft\Windows NT\CurrentVersion\Schedule\TaskCache\Tree\Tidewell sync"
DRIVERS = r"System\DriverDatabase\DriverPackages\tide.inf_amd64_0123"
STORED = r"C:\windows\System32\DriverStore\FileRepository\tide.inf_amd64_0123\tide.inf"
GAUGE = r"USB\VID_FFFE&PID_0021"
DEVICE = rf"System\CurrentControlSet\Enum\{GAUGE}\7"
DEVICE_CLASS = r"System\CurrentControlSet\Control\Class\{4d36e97e-e325-11ce-bfc1-08002be10318}\0007"
APPS = r"Software\Microsoft\Windows\CurrentVersion\Appx\AppxAllUserStore\Applications\Tidewell.Lantern_"
ROOT = r"Software\Microsoft\SystemCertificates\Root\Certificates" + "\\" + "AB" * 20
PROGRAM, OLD = (PROGRAMS / "lantern-6.2.1.exe").read_bytes(), (PROGRAMS / "lantern-6.1.0.exe").read_bytes()


def _tag(identifier: str, version: str) -> bytes:
    return f'<SoftwareIdentity xmlns="http://standards.iso.org/iso/19770/-2/2015/schema.xsd" tagId="{identifier}" version="{version}"/>'.encode()


# slot -> variants; a variant is what it has: ("file", path, bytes), ("folder", path) or ("value", hive, view, key, name, data)
SLOTS: dict[str, list[list[tuple[Any, ...]]]] = {
    "program": [[], [("file", A, PROGRAM)], [("file", A, OLD)], [("file", A, PROGRAM[: len(PROGRAM) // 2])]],
    "note": [[], [("file", NOTE, b"12345")], [("file", NOTE, b"54321")], [("file", NOTE, b"123")]],
    "tag": [
        [],
        [("file", TAG, _tag("lantern", "6.2.1"))],
        [("file", TAG, _tag("lantern", "5.0"))],
        [("file", TAG, b"<broken")],
        [("file", TAG, _tag("other", "6.2.1"))],
    ],
    "folder": [[], [("folder", r"C:\ProgramData\Tidewell charts")]],
    "version": [
        [],
        *[[("value", "HKLM", "64", SOFTWARE, "Version", data)] for data in ("6.2.1", "6.10", "soon", "6.2.1 beta")],
    ],
    "depth": [[], *[[("value", "HKLM", "32", SOFTWARE, "Depth", data)] for data in (120, 7, "33", "-4")]],
    "entry": [
        [],
        *[
            [
                ("value", hive, view, LISTED, "DisplayName", name),
                ("value", hive, view, LISTED, "DisplayVersion", version),
                ("value", hive, view, LISTED, "Publisher", "Tidewell"),
            ]
            for hive, view, name, version in (
                ("HKLM", "64", "Lantern", "6.2.1"),
                ("HKLM", "32", "Lantern", "6.3"),
                ("HKLM", "64", "lantern tools", "6.2.1"),
                ("HKLM", "64", "Lantern", "new"),
            )
        ],
    ],
    "product": [
        [],
        *[
            [
                (
                    "value",
                    "HKLM",
                    "64",
                    rf"{INSTALLER}\UserData\S-1-5-18\Products\{pack_code(CODE)}\InstallProperties",
                    "DisplayVersion",
                    version,
                ),
                ("value", "HKLM", "64", rf"{INSTALLER}\UpgradeCodes\{pack_code(LINE)}", pack_code(CODE), "x"),
            ]
            for version in ("6.2.1", "6.1.0")
        ],
    ],
    "service": [
        [],
        *[
            [
                ("value", "HKLM", "64", SERVICES, "ImagePath", "C:\\tide.exe"),
                ("value", "HKLM", "64", SERVICES, "Start", start),
            ]
            for start in (2, 3, 4)
        ],
    ],
    "variable": [[], *[[("value", "HKLM", "64", VARIABLES, "TIDE_HOME", data)] for data in ("C:\\Tide", "c:\\tide")]],
    "task": [[], [("value", "HKLM", "64", TASKS, "Id", "{1}")]],
    "driver": [
        [],
        [("value", "HKLM", "64", DRIVERS, "", "oem3.inf")],
        *[
            [
                ("value", "HKLM", "64", DRIVERS, "", "oem3.inf"),
                ("file", STORED, f"[Version]\r\ndriverver = 03/14/2026, {version} ; ours\r\n".encode()),
            ]
            for version in ("2.1.0.0", "1.4")
        ],
    ],
    "device": [
        [],
        [("value", "HKLM", "64", DEVICE, "HardwareID", GAUGE)],
        *[
            [
                ("value", "HKLM", "64", DEVICE, "CompatibleIDs" if version == "1.4" else "HardwareID", GAUGE),
                ("value", "HKLM", "64", DEVICE, "Driver", r"{4d36e97e-e325-11ce-bfc1-08002be10318}\0007"),
                ("value", "HKLM", "64", DEVICE_CLASS, "ProviderName", provider),
                ("value", "HKLM", "64", DEVICE_CLASS, "DriverVersion", version),
            ]
            for provider, version in (("Tidewell", "2.1.0.0"), ("Tidewell", "1.4"), ("Somebody", "2.1.0.0"))
        ],
    ],
    "app": [
        [],
        *[
            [("value", "HKLM", "64", f"{APPS}{version}_x64__tide", "Path", "C:\\x")]
            for version in ("1.5.0.0", "2.0.0.0")
        ],
    ],
    "certificate": [[], [("value", "HKLM", "64", ROOT, "Blob", "x")]],
}

_PROGRAM = FileRule(path=r"%ProgramFiles%\Tidewell\A.EXE")
RULES: list[BaseRule] = [
    _PROGRAM,
    FileRule(path=A, version=">=6.2, <7"),
    FileRule(path=A, version=">6.2.1"),
    FileRule(path=A, size=len(PROGRAM)),
    FileRule(path=A, least=len(PROGRAM) - 1),
    FileListRule(folder=r"%ProgramFiles%\Tidewell", files={"a.exe": "3000+"}),
    FileRule(path=A, architecture="x64"),
    FileRule(path=A, architecture="x86"),
    FileRule(path=NOTE, version=">=1"),
    FileRule(path=NOTE, sha256=hashlib.sha256(b"12345").hexdigest()),
    FileRule(path=NOTE, changed=f"=={TODAY}"),
    FileRule(path=NOTE, changed=">2031-01-01"),
    FileListRule(folder="%ProgramData%", files={"note.txt": 5}),
    FileListRule(
        folder="C:",
        files={
            r"Program Files\Tidewell\a.exe": "==6.2.1",
            r"ProgramData\note.txt": hashlib.sha256(b"54321").hexdigest(),
        },
    ),
    FolderRule(path=r"%ProgramData%\tidewell CHARTS"),
    RegistryRule(key=rf"HKLM\{SOFTWARE}", name="version"),
    RegistryRule(key=rf"HKLM\{SOFTWARE}", name="Version", equals="6.2.1"),
    RegistryRule(key=rf"HKLM\{SOFTWARE}", name="Version", version=">=6.3"),
    RegistryRule(key=rf"HKLM\{LISTED}", name="DisplayVersion", version=">=6.2.1"),
    RegistryRule(key=rf"HKLM\{VARIABLES}", name="TIDE_HOME"),
    RegistryKeyRule(key=rf"HKLM\{SERVICES}"),
    RegistryRule(key=rf"HKLM\{SOFTWARE}", name="Depth"),
    RegistryListRule(key=rf"HKLM\{SOFTWARE}", values={"Version": "6.2.1"}),
    RegistryListRule(key=rf"HKLM\{SERVICES}", values={"ImagePath": "*", "Start": 3}),
    RegistryRule(key=rf"HKLM\{SOFTWARE}", name="Depth", equals=120, view="32"),
    RegistryRule(key=rf"HKLM\{SOFTWARE}", name="Depth", number=">=0, <100", view="32"),
    RegistryKeyRule(key=rf"HKLM\{SOFTWARE}", view="32"),
    UninstallEntryRule(name="Lantern"),
    UninstallEntryRule(name="Lantern", version="==6.2.1", view="64"),
    UninstallEntryRule(pattern="LANT*", publisher="Tidewell", version=">=6"),
    UninstallEntryRule(pattern="lantern t??ls"),
    UninstallEntryRule(name="Lantern", publisher="Nobody"),
    MsiProductRule(code=CODE.lower()),
    MsiProductRule(code=CODE, version="==6.2.1"),
    MsiProductRule(upgrade_code=LINE, version="<6.2"),
    ServiceRule(name="tidelogger"),
    ServiceRule(name="TideLogger", start="demand"),
    EnvironmentRule(name="tide_home"),
    EnvironmentRule(name="TIDE_HOME", equals=r"C:\Tide"),
    TaskRule(name="Tidewell sync"),
    DriverRule(inf="Tide.inf"),
    DriverRule(inf="tide.inf", version=">=2"),
    DeviceRule(device=GAUGE.lower()),
    DeviceRule(device=GAUGE, provider="TIDEWELL", version=">=2"),
    DeviceRule(device=GAUGE, provider="Tidewell", version=">=2", missing=True),
    AppRule(name="Tidewell.Lantern"),
    AppRule(name="Tidewell.Lantern", version=">=2"),
    CertificateRule(thumbprint="ab" * 20),
    TagRule(path=TAG, tag_id="lantern"),
    TagRule(path=TAG, tag_id="lantern", version=">=6"),
    AllRule(of=(_PROGRAM, ServiceRule(name="TideLogger"))),
    AnyOfRule(of=(_PROGRAM, ServiceRule(name="TideLogger"), EnvironmentRule(name="TIDE_HOME"))),
    NoneRule(of=(_PROGRAM, TaskRule(name="Tidewell sync"))),
    AtLeastRule(
        count=2,
        of=(
            _PROGRAM,
            ServiceRule(name="TideLogger"),
            EnvironmentRule(name="TIDE_HOME"),
            AnyOfRule(of=(TaskRule(name="Tidewell sync"),)),
        ),
    ),
]
NO_OVAL = {rule.title for rule in RULES if isinstance(rule, FileRule) and rule.architecture} | {
    "app Tidewell.Lantern >=2",
    "driver tide.inf >=2 is in the store",
    *(rule.title for rule in RULES if isinstance(rule, DeviceRule)),
    "identification tag lantern >=6",
}

Choice = tuple[int, ...]


def walk(count: int, seed: int) -> Iterator[Choice]:
    """States that differ from the one before in up to three slots; the first has nothing."""
    chance = random.Random(seed)
    variants = list(SLOTS.values())
    at = [0] * len(variants)
    for _ in range(count):
        yield tuple(at)
        for slot in chance.sample(range(len(at)), chance.randint(1, 3)):
            at[slot] = chance.randrange(len(variants[slot]))


def content(choice: Choice) -> list[tuple[Any, ...]]:
    return [part for slot, number in zip(SLOTS.values(), choice, strict=True) for part in slot[number]]


def _file(path: str, data: bytes) -> File:
    version = architecture = None
    if path.endswith(".exe"):
        image = pe.Image(io.BytesIO(data), path)
        architecture = image.architecture
        try:
            version = image.version
        except Exception:  # cut off: no version can be read
            version = None
    return File(path, len(data), hashlib.sha256(data).hexdigest(), version, architecture, None, TODAY)


def sight(choice: Choice, environment: dict[str, str]) -> Sight:
    """The state as things, by the same reading of keys as an observation has."""
    state, keys, texts = State(), {}, {}
    products: dict[str, str] = {}
    for part in content(choice):
        if part[0] == "file":
            state.add_folders(parent(part[1]))
            state.add(_file(part[1], part[2]))
            texts[part[1].lower()] = part[2]
        elif part[0] == "folder":
            state.add(Folder(part[1]))
        else:
            _, hive, view, key, name, data = part
            keys.setdefault((hive, view, key), {})[name] = ("dword" if isinstance(data, int) else "sz", data)
            if "\\UpgradeCodes\\" in key:
                products[CODE.lower()] = LINE
    from yendo.effects.things import Part, Product

    for (hive, view, key), values in keys.items():
        for thing in things_of_key(hive, key, view, values):
            if isinstance(thing, Product):
                thing = Product(
                    thing.code, thing.name, thing.version, thing.language, thing.scope, products.get(thing.code.lower())
                )
            state.add(thing)
        lowered = key.lower()
        if lowered == TASKS.lower():
            state.add(Part("task", "Tidewell sync"))
        elif lowered == DRIVERS.lower():
            stored = next((part[2] for part in content(choice) if part[:2] == ("file", STORED)), b"")
            version = re.search(rb", ([0-9.]+) ;", stored)
            state.add(Part("driver", "tide.inf", f"tide.inf={version[1].decode() if version else ''}"))
        elif lowered.startswith(APPS.lower()):
            state.add(Part("app", "Tidewell.Lantern", key[len(APPS) :].partition("_")[0]))
    return Sight(state, environment, None, None, lambda path: texts.get(path.lower()))


# --- acted out by the real shell -------------------------------------------------------------------------------

HARNESS = r"""
param([string]$Out)
#DATA#
#RULES#
function Set-Slot([int]$Slot, [int]$Old, [int]$New) {
    foreach ($part in $Slots[$Slot][$Old]) {
        if ($part[0] -eq 'file') { [IO.File]::Delete($part[1]) }
        elseif ($part[0] -eq 'folder') { [IO.Directory]::Delete($part[1]) }
        else {
            [string]$root = switch ($part[1]) { 'HKCU' { 'CurrentUser' } default { 'LocalMachine' } }
            $base = [Microsoft.Win32.RegistryKey]::OpenBaseKey($root, 'Registry' + $part[2])
            $key = $base.OpenSubKey($part[3], $true)
            if ($null -ne $key) {
                $key.DeleteValue($part[4], $false)
                [bool]$empty = ($key.ValueCount -eq 0) -and ($key.SubKeyCount -eq 0)
                $key.Close()
                if ($empty) { $base.DeleteSubKey($part[3], $false) }
            }
        }
    }
    foreach ($part in $Slots[$Slot][$New]) {
        if ($part[0] -eq 'file') { [void][IO.Directory]::CreateDirectory([IO.Path]::GetDirectoryName($part[1])); [IO.File]::WriteAllBytes($part[1], [IO.File]::ReadAllBytes($part[2])) }
        elseif ($part[0] -eq 'folder') { [void][IO.Directory]::CreateDirectory($part[1]) }
        else {
            [string]$root = switch ($part[1]) { 'HKCU' { 'CurrentUser' } default { 'LocalMachine' } }
            $key = [Microsoft.Win32.RegistryKey]::OpenBaseKey($root, 'Registry' + $part[2]).CreateSubKey($part[3])
            $key.SetValue($part[4], $part[5])
            $key.Close()
        }
    }
}
[int[]]$now = [int[]]::new($Slots.Length)
[Text.StringBuilder]$lines = [Text.StringBuilder]::new()
foreach ($choice in $Choices) {
    [string[]]$wanted = $choice.Split([char]' ')
    for ([int]$at = 0; $at -lt $wanted.Length; $at++) {
        if ([int]$wanted[$at] -ne $now[$at]) { Set-Slot $at $now[$at] ([int]$wanted[$at]); $now[$at] = [int]$wanted[$at] }
    }
    foreach ($rule in $Rules) { $verdict = Test-Rule $rule; [void]$lines.Append($(if ($verdict[0]) { '1' } else { '0' })) }
    [void]$lines.Append("`n")
}
[IO.File]::WriteAllText($Out, $lines.ToString())
exit 0
"""


def harness(choices: list[Choice], rules: list[BaseRule]) -> tuple[bytes, dict[str, bytes]]:
    """The script that acts the states out and judges each rule in each; and the files that it copies from."""
    from yendo.package import scripts

    sources: dict[str, bytes] = {}

    def acted(part: tuple[Any, ...]) -> list[Any]:
        if part[0] != "file":
            return list(part)
        name = "C:\\source-" + hashlib.sha256(part[2]).hexdigest()[:12]
        sources[name] = part[2]
        return ["file", part[1], name]

    slots = [[[acted(part) for part in variant] for variant in variants] for variants in SLOTS.values()]
    data = [scripts._rule(rule) for rule in rules]
    head = f"$Slots = {literal(slots)}\n$Choices = {literal([' '.join(map(str, choice)) for choice in choices])}\n$Rules = {literal(data)}\n"
    return scripts.script(HARNESS.replace("#DATA#", head).replace("#RULES#", scripts.judging(data))), sources


# --- as system characteristics ------------------------------------------------------------------------------------

CHARACTERISTICS = "http://oval.mitre.org/XMLSchema/oval-system-characteristics-5"
_HIVES = {"HKEY_LOCAL_MACHINE": "HKLM", "HKEY_CURRENT_USER": "HKCU"}


def characteristics(definitions: xml.Element, choices: dict[str, Choice], environment: dict[str, str]) -> bytes:
    """What a scanner would have collected for every object: ``choices`` maps the name within an object's id to its state."""
    root = xml.Element(f"{{{CHARACTERISTICS}}}oval_system_characteristics")
    generator = xml.SubElement(root, f"{{{CHARACTERISTICS}}}generator")
    common = "http://oval.mitre.org/XMLSchema/oval-common-5"
    xml.SubElement(generator, f"{{{common}}}schema_version").text = "5.11"
    xml.SubElement(generator, f"{{{common}}}timestamp").text = "2026-11-23T00:00:00"
    system = xml.SubElement(root, f"{{{CHARACTERISTICS}}}system_info")
    for name in ("os_name", "os_version", "architecture", "primary_host_name"):
        xml.SubElement(system, f"{{{CHARACTERISTICS}}}{name}").text = "x"
    xml.SubElement(
        xml.SubElement(system, f"{{{CHARACTERISTICS}}}interfaces"), f"{{{CHARACTERISTICS}}}interface"
    ).extend(
        [
            _element("interface_name", "a"),
            _element("ip_address", "127.0.0.1"),
            _element("mac_address", "00:00:00:00:00:00"),
        ]
    )
    collected = xml.SubElement(root, f"{{{CHARACTERISTICS}}}collected_objects")
    data = xml.SubElement(root, f"{{{CHARACTERISTICS}}}system_data")
    scanner = _Scanner(definitions, environment)
    count = 0
    for element in definitions.iter():
        if element.tag.endswith("_object") and "id" in element.attrib:
            items = scanner.collect(element, choices[element.attrib["id"].split(":")[1]])
            flag = "complete" if items else "does not exist"
            found = xml.SubElement(
                collected, f"{{{CHARACTERISTICS}}}object", id=element.attrib["id"], version="1", flag=flag
            )
            # the interpreter loses its place at an element without content
            xml.SubElement(found, f"{{{CHARACTERISTICS}}}message", level="info").text = flag
            space = element.tag[1:].partition("}")[0].rpartition("#")[2]
            kind = element.tag.partition("}")[2].removesuffix("_object")
            for item in items:
                count += 1
                xml.SubElement(found, f"{{{CHARACTERISTICS}}}reference", item_ref=str(count))
                made = xml.SubElement(data, f"{{{CHARACTERISTICS}#{space}}}{kind}_item", id=str(count), status="exists")
                for name, value in item.items():
                    part = xml.SubElement(made, f"{{{CHARACTERISTICS}#{space}}}{name}")
                    if value is None:
                        part.set("status", "does not exist")
                    part.text = "" if value is None else str(value)
                    if isinstance(value, int):
                        part.set("datatype", "int")
                    if name == "version":
                        part.set("datatype", "version")
    return bytes(xml.tostring(root, xml_declaration=True, encoding="utf-8"))


def _element(name: str, text: str) -> xml.Element:
    found = xml.Element(f"{{{CHARACTERISTICS}}}{name}")
    found.text = text
    return found


class _Scanner:
    """Finds the items of OVAL objects in a world: matching of names, variables and filters; states are the interpreter's."""

    def __init__(self, definitions: xml.Element, environment: dict[str, str]) -> None:
        self.environment = {name.lower(): value for name, value in environment.items()}
        self.by_id = {element.attrib["id"]: element for element in definitions.iter() if "id" in element.attrib}

    def collect(self, element: xml.Element, choice: Choice) -> list[dict[str, Any]]:
        kind = element.tag.partition("}")[2].removesuffix("_object")
        fields = {child.tag.partition("}")[2]: child for child in element}
        items = [
            item
            for item in getattr(self, kind)(fields, choice)
            if all(self.like(item.get(name), child, choice) for name, child in fields.items())
        ]
        if (keep := fields.get("filter")) is not None:
            state = self.by_id[keep.text or ""]
            items = [
                item
                for item in items
                if all(self.like(item.get(child.tag.partition("}")[2]), child, choice) for child in state)
            ]
        return items

    def like(self, value: Any, field: xml.Element, choice: Choice) -> bool:
        name = field.tag.partition("}")[2]
        if name in ("behaviors", "filter") or field.get(f"{{{INSTANCE}}}nil"):
            return True
        wanted = self.variable(field.attrib["var_ref"], choice) if "var_ref" in field.attrib else [field.text or ""]
        operation = field.get("operation", "equals")
        for text in wanted:
            if operation == "pattern match":
                if re.search(text, str(value), re.S):
                    return True
            elif operation == "case insensitive equals":
                if str(value).lower() == text.lower():
                    return True
            elif str(value) == text:
                return True
        return False

    def variable(self, identifier: str, choice: Choice) -> list[str]:
        def parts(element: xml.Element) -> list[str]:
            name = element.tag.partition("}")[2]
            if name == "literal_component":
                return [element.text or ""]
            if name == "object_component":
                return [
                    str(item[element.attrib["item_field"]])
                    for item in self.collect(self.by_id[element.attrib["object_ref"]], choice)
                ]
            found = [""]
            for child in element:
                found = [before + after for before in found for after in parts(child)]
            return found

        return [text for child in self.by_id[identifier] for text in parts(child)]

    # what there is of each kind

    def registry(self, fields: dict[str, xml.Element], choice: Choice) -> Iterator[dict[str, Any]]:
        view = fields["behaviors"].attrib["windows_view"][:2]
        keys: set[tuple[str, str]] = set()
        for part in content(choice):
            if part[0] == "value" and part[2] == view:
                hive = next(long for long, short in _HIVES.items() if short == part[1])
                keys.add((hive, part[3]))
                if fields["name"].get(f"{{{INSTANCE}}}nil") is None:
                    yield {"hive": hive, "key": part[3], "name": part[4], "value": part[5]}
        if fields["name"].get(f"{{{INSTANCE}}}nil"):
            for hive, key in keys:
                yield {"hive": hive, "key": key}

    def file(self, fields: dict[str, xml.Element], choice: Choice) -> Iterator[dict[str, Any]]:
        if "filepath" not in fields:
            for part in content(choice):
                folder = part[1] if part[0] == "folder" else parent(part[1]) if part[0] == "file" else ""
                if folder:
                    yield {"path": folder}
            return
        for part in content(choice):
            if part[0] == "file":
                known = _file(part[1], part[2])
                written = int((datetime.fromisoformat(TODAY) - datetime(1601, 1, 1)).total_seconds() * 10**7) + 5
                yield {"filepath": part[1], "size": known.size, "m_time": written, "version": known.version}

    def filehash58(self, fields: dict[str, xml.Element], choice: Choice) -> Iterator[dict[str, Any]]:
        for part in content(choice):
            if part[0] == "file":
                yield {"filepath": part[1], "hash_type": "SHA-256", "hash": hashlib.sha256(part[2]).hexdigest()}

    def service(self, fields: dict[str, xml.Element], choice: Choice) -> Iterator[dict[str, Any]]:
        starts = {2: "SERVICE_AUTO_START", 3: "SERVICE_DEMAND_START", 4: "SERVICE_DISABLED"}
        values = {part[4]: part[5] for part in content(choice) if part[0] == "value" and part[3] == SERVICES}
        if values:
            yield {"service_name": "TideLogger", "start_type": starts[values["Start"]]}

    def environmentvariable58(self, fields: dict[str, xml.Element], choice: Choice) -> Iterator[dict[str, Any]]:
        name = fields["name"].text or ""
        if name.lower() in self.environment:
            yield {"pid": 1, "name": name, "value": self.environment[name.lower()]}

    def xmlfilecontent(self, fields: dict[str, xml.Element], choice: Choice) -> Iterator[dict[str, Any]]:
        for part in content(choice):
            if part[0] == "file" and part[1] == TAG:
                try:
                    yield {
                        "filepath": part[1],
                        "xpath": fields["xpath"].text,
                        "value_of": xml.fromstring(part[2]).attrib["tagId"],
                    }
                except xml.ParseError:
                    continue


def merged(choices: list[Choice], rules: list[BaseRule]) -> tuple[xml.Element, dict[str, Choice], list[str]]:
    """One document with a definition for each rule in each state, the states they belong to, and their order."""
    from yendo.detect import oval

    root: xml.Element | None = None
    names: dict[str, Choice] = {}
    order: list[str] = []
    for number, choice in enumerate(choices):
        for at, rule in enumerate(rules):
            name = f"m{number}r{at}"
            names[name] = choice
            order.append(f"oval:{name}:def:1")
            made = xml.fromstring(
                oval.document([rule], identifier=name, name=name, version="1", revision=1, made="2026-11-23T00:00:00")
            )
            if root is None:
                root = made
                continue
            for section in made:
                if section.tag.endswith("generator"):
                    continue
                there = root.find(section.tag)
                if there is None:
                    root.append(section)
                else:
                    there.extend(list(section))
    assert root is not None
    rank = ["generator", "definitions", "tests", "objects", "states", "variables"]
    root[:] = sorted(root, key=lambda section: rank.index(section.tag.partition("}")[2]))
    return root, names, order
