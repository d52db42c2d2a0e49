"""Packages of the system and updates, written as their readers want them; the layer's own update program takes them too."""

from __future__ import annotations

from yendo.formats import cab

TOKEN = "31bf3856ad364e35"
_IDENTITY = (
    '<assemblyIdentity name="{name}" version="{version}" language="neutral" processorArchitecture="amd64" '
    f'publicKeyToken="{TOKEN}"{{more}}/>'
)
_ASSEMBLY = (
    '<?xml version="1.0" encoding="utf-8" standalone="yes"?>\n'
    '<assembly xmlns="urn:schemas-microsoft-com:asm.v3" manifestVersion="1.0">\n{0}\n</assembly>\n'
)
_UNATTEND = (
    '<?xml version="1.0"?><unattend xmlns="urn:schemas-microsoft-com:unattend"><servicing><package action="install">'
    '{identity}<source location="%configsetroot%\\{file}"/></package></servicing></unattend>'
)


def identity(name: str, version: str, more: str = "") -> str:
    return _IDENTITY.format(name=name, version=version, more=more)


def cabinet(name: str = "Package_for_KB9900001", version: str = "19041.4100.1.2", *, build: int = 19041, more: str = "",
            component: str = "Tide-Gauge") -> bytes:  # fmt: skip
    """A package with a component that brings a file and a value. ``more`` are attributes of its package element."""
    own = identity(component, "10.0.1.1", ' versionScope="nonSxS"')
    parent = identity("Tide-Foundation", f"10.0.{build}.1")
    whole = _ASSEMBLY.format(
        f'{identity(name, version)}\n<package identifier="{name[12:]}" releaseType="Update" restart="possible"{more}>\n'
        f'<parent buildCompare="EQ" integrate="separate">{parent}</parent>\n'
        f'<update name="tide"><component>{own}</component></update>\n</package>'
    )
    folder = f"amd64_{component.lower()}_{TOKEN}_10.0.1.1_none_0123456789abcdef"
    brings = _ASSEMBLY.format(
        f'{own}\n<file name="tide.dll" sourceName="tide.dll" sourcePath=".\\" destinationPath="$(runtime.system32)\\tide\\"/>\n'
        '<registryKeys><registryKey keyName="HKEY_LOCAL_MACHINE\\Software\\Tidewell\\Gauge">'
        '<registryValue name="Version" valueType="REG_SZ" value="10.0.1.1"/></registryKey></registryKeys>'
    )
    files = {"update.mum": whole.encode(), f"{folder}.manifest": brings.encode(), f"{folder}\\tide.dll": b"MZ" * 300}
    return cab.build(files.items())


def update(*cabinets: tuple[str, str, bytes]) -> bytes:
    """An update (``.msu``) of cabinets, each with its package's name and version."""
    files: dict[str, bytes] = {}
    for number, (name, version, data) in enumerate(cabinets, 1):
        file = f"Windows10.0-{number}-x64"
        text = _UNATTEND.format(identity=identity(name, version), file=f"{file}.cab")
        files |= {f"{file}.cab": data, f"{file}.xml": text.encode()}
    files["Windows10.0-x64-pkgProperties.txt"] = b'ApplyTo="Windows 10.0"\r\nKB Article Number="9900001"\r\n'
    return cab.build(files.items())


def usual(**more: object) -> bytes:
    """One package in an update."""
    name, version = "Package_for_KB9900001", "19041.4100.1.2"
    return update((name, version, cabinet(name, version, **more)))  # type: ignore[arg-type]
