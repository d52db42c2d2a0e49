"""One workspace with every kind of step, and what is needed for it: what the simulation means and what the runner does are held together on it."""

from __future__ import annotations

import struct
import zipfile
from datetime import UTC, datetime, timedelta
from pathlib import Path

import servicing_specimens

from yendo.demo import drivers

REG = """Windows Registry Editor Version 5.00

[HKEY_LOCAL_MACHINE\\Software\\Tidewell\\Imported]
@="unnamed"
"Number"=dword:0000002a
"List"=hex(7):61,00,00,00,62,00,00,00,00,00
"Raw"=hex:01,02,\\
  ff
"Gone"=-

[HKEY_LOCAL_MACHINE\\Software\\Wow6432Node\\Tidewell]
"Path"=hex(2):25,00,54,00,45,00,4d,00,50,00,25,00,00,00
"""
STEPS = r"""
[[install]]
kind = "registry"
key = 'HKLM\Software\Tidewell\Tide'
values = { Site = "Marrowby", Port = 7, Many = ["a", "b"], "" = "unnamed", Where = '%ProgramData%\x', Big = 5000000000 }
types = { Where = "expand" }

[[install]]
kind = "registry"
key = 'HKLM\Software\Tidewell\Tide'
view = "32"
values = { Narrow = "yes", Bytes = "00ff10" }
types = { Bytes = "binary" }

[[install]]
kind = "registry"
import = "extras/settings.reg"

[[install]]
kind = "registry"
key = 'HKLM\Software\Tidewell\Tide'
delete = ["Port", "never there"]

[[install]]
kind = "environment"
name = "TIDEWELL_SITE"
value = '%ProgramData%\Marrowby'

[[install]]
kind = "environment"
name = "Path"
value = 'C:\Marrowby\bin'
change = "append"

[[install]]
kind = "copy"
from = "extras/tree"
to = 'C:\Marrowby\tree'
mirror = true

[[install]]
kind = "edit"
file = 'C:\Marrowby\tree\site.ini'
format = "ini"
set = { "site/name" = "Marrowby", "new/port" = 7, "site/depth" = "2.5" }
remove = ["site/old"]

[[install]]
kind = "edit"
file = 'C:\Marrowby\tree\deep\site.json'
format = "json"
set = { "/harbour/name" = "Märrowby \"1\"", "/list/1" = 5, "/new/inner" = true, "/harbour/depth" = 7 }

[[install]]
kind = "edit"
file = 'C:\Marrowby\tree\deep\site.xml'
format = "xml"
set = { "/site/port/@number" = 8, "/site/name" = "a < b", "/site/gauge[@id='2']/@on" = "yes", "/site/empty" = "full" }

[[install]]
kind = "edit"
file = 'C:\Marrowby\tree\list.txt'
format = "text"
set = { "port = 9" = '^port\s*=', "last line" = "" }

[[install]]
kind = "delete"
path = 'C:\Marrowby\tree\gone'

[[install]]
kind = "delete"
path = 'C:\Marrowby\never there.txt'

[[install]]
kind = "shortcut"
path = 'Tidewell\Tide'
target = 'C:\Windows\System32\notepad.exe'
arguments = '"C:\Marrowby\tree\site.ini"'
start_in = 'C:\Marrowby'
description = "The tide"

[[install]]
kind = "service"
name = "TideGauge"
change = "create"
program = '"C:\Windows\System32\svchost.exe" -k tide'
display_name = "Tide gauge"
start = "demand"

[[install]]
kind = "service"
name = "TideGauge"
change = "set"
start = "disabled"

[[install]]
kind = "certificate"
from = "extras/tidewell.cer"
store = "TrustedPublisher"

[[install]]
kind = "font"
from = "extras/harbour.ttf"

[[install]]
kind = "script"
run = "extras/scripts/mark.cmd"
arguments = '"with space" 100'
probe = [{ kind = "file", path = 'C:\Marrowby\by-cmd.txt' }]
reverse = 'cmd.exe /d /c del C:\Marrowby\by-cmd.txt'

[[install]]
kind = "script"
run = "extras/scripts/mark.ps1"
brings = "folder"
arguments = "-Site Marrowby"
probe = [{ kind = "file", path = 'C:\Marrowby\by-shell.txt' }]
reverse = 'cmd.exe /d /c del C:\Marrowby\by-shell.txt'

[[install]]
kind = "record"
facts = ["architecture"]
rules = [{ kind = "service", name = "TideGauge", start = "disabled" }, { kind = "folder", path = 'C:\Marrowby' }, { kind = "environment", name = "TIDEWELL_SITE" }]

[[install]]
kind = "wait"
time = "1 s"

[[install]]
kind = "wait"
until = { holds = [{ kind = "file", path = 'C:\Marrowby\tree\site.ini' }] }

[[install]]
kind = "restart"
where = "asked"

[[install]]
kind = "copy"
from = "extras/tree/list.txt"
to = 'C:\Marrowby\passed over.txt'
when = { any = [{ os = "<10" }, { architecture = ["arm64"] }] }

[[install]]
kind = "remove-previous"
name = "Tide tables *"
publisher = "Tidewell"

[[install]]
kind = "include"
package = "extras/inner"
"""
HEAD = """
[package]
id = "everything"
name = "Every kind"
version = "1.2"
publisher = "Tidewell"

[[detect]]
kind = "registry"
key = 'HKLM\\Software\\Tidewell\\Tide'
name = "Site"
equals = "Marrowby"
"""
INNER = """
[package]
id = "inner"
name = "Inner"
version = "1"
[[install]]
kind = "copy"
from = "extras/inner.txt"
to = 'C:\\Marrowby\\inner.txt'
[[detect]]
kind = "file"
path = 'C:\\Marrowby\\inner.txt'
"""
STEPS += r"""
[[install]]
kind = "remove-driver"
inf = "buoy.inf"
version = "<2"
"""
STOCK = r"""
[[install]]
kind = "task"
name = 'Tidewell\Nightly'
program = 'C:\Marrowby\bin\tide.exe'
arguments = "--all"
begins = "daily 03:30"

[[install]]
kind = "firewall"
name = "Tide gauge"
program = 'C:\Marrowby\bin\tide.exe'
protocol = "tcp"
ports = "7000,7010-7020"

[[install]]
kind = "rights"
on = 'C:\ProgramData'
may = "read"

[[install]]
kind = "driver"
from = "extras/driver"

[[install]]
kind = "feature"
name = "NetFx3"
source = 'C:\sources'

[[install]]
kind = "capability"
name = "Tide.Gauge~~~~0.0.1.0"
source = 'C:\sources'

[[install]]
kind = "system-package"
from = "extras/tide.msu"
package = "Package_for_KB9900001~31bf3856ad364e35~amd64~~19041.4100.1.2"

[[install]]
kind = "system-package"
from = "extras/tide.cab"
package = "Package_for_KB9900002~31bf3856ad364e35~amd64~~19041.4100.1.2"

[[install]]
kind = "sign-out"

[[install]]
kind = "tell"
text = { en = "The tide tables are new." }

[[install]]
kind = "msix"
media = "tide.msix"
"""


def font() -> bytes:
    """A font that is nothing but its name."""
    text = "Harbour Sans".encode("utf-16-be")
    name = struct.pack(">HHH", 0, 1, 18) + struct.pack(">6H", 3, 1, 1033, 4, len(text), 0) + text
    return struct.pack(">IHHHH", 0x00010000, 1, 16, 0, 0) + b"name" + struct.pack(">III", 0, 28, len(name)) + name


def certificate() -> bytes:
    """A self-signed certificate, made on the spot."""
    from cryptography import x509
    from cryptography.hazmat.primitives import hashes, serialization
    from cryptography.hazmat.primitives.asymmetric import ec

    key = ec.derive_private_key(7, ec.SECP256R1())
    name = x509.Name([x509.NameAttribute(x509.NameOID.COMMON_NAME, "Tidewell release")])
    begun = datetime(2026, 1, 1, tzinfo=UTC)
    made = x509.CertificateBuilder().subject_name(name).issuer_name(name).public_key(key.public_key()).serial_number(7)
    signed = made.not_valid_before(begun).not_valid_after(begun + timedelta(days=3650)).sign(key, hashes.SHA256())
    return signed.public_bytes(serialization.Encoding.PEM)


def workspace(folder: Path, steps: str = STEPS) -> Path:
    """The workspace, with everything that its steps bring."""
    from yendo.package import build
    from yendo.plan import read

    extras = folder / "extras"
    files = {
        "settings.reg": REG.replace("\n", "\r\n").encode("utf-16"),
        "tree/site.ini": b"; head\r\n[site]\r\nname = old\r\nold=1\r\n\r\n[other]\r\nx=y\r\n",
        "tree/deep/site.json": b'{\n  "harbour": { "name": "x", "depth": 1 },\n  "list": [1, 2, {"a": "}"}]\n}\n',
        "tree/deep/site.xml": b"<?xml version='1.0'?>\n<site><!-- <port/> --><port number=\"7\"/><name>x</name>\n <gauge id='1'/><gauge id='2'></gauge><empty/></site>\n",
        "tree/list.txt": b"port = 7\nport=8\nother",
        "tree/gone/deep/a.txt": b"a",
        "tree/gone/b.txt": b"b",
        "tidewell.cer": certificate(),
        "harbour.ttf": font(),
        "scripts/mark.cmd": b"@echo off\r\necho %~1 %~2> C:\\Marrowby\\by-cmd.txt\r\n",
        "scripts/mark.ps1": b"param([string]$Site)\r\n[IO.File]::WriteAllText('C:\\Marrowby\\by-shell.txt', $Site + [IO.File]::ReadAllText([IO.Path]::Combine($PSScriptRoot, 'beside.txt')))\r\n",
        "scripts/beside.txt": b" beside",
        "tide.msu": servicing_specimens.usual(),
        "tide.cab": servicing_specimens.cabinet("Package_for_KB9900002"),
        **{f"driver/{name}": data for name, data in drivers.CURRENT.all_files.items()},
    }
    for name, data in files.items():
        path = extras / name
        path.parent.mkdir(parents=True, exist_ok=True)
        path.write_bytes(data)
    text = HEAD + steps
    if '"tide.msix"' in steps:
        (folder / "media").mkdir(exist_ok=True)
        with zipfile.ZipFile(folder / "media" / "tide.msix", "w") as archive:
            archive.writestr(
                zipfile.ZipInfo("AppxManifest.xml", (2026, 1, 1, 0, 0, 0)),
                '<Package xmlns="http://schemas.microsoft.com/appx/manifest/foundation/windows10">'
                '<Identity Name="Tidewell.Tide" Version="1.2.0.0" Publisher="CN=Tidewell" ProcessorArchitecture="x64"/></Package>',
            )
        from yendo.digest import of_file

        text += f'\n[[media]]\nfile = "tide.msix"\nsha256 = "{of_file(folder / "media" / "tide.msix")}"\n'
    if "extras/inner" in steps:
        inner = folder / "inner"
        (inner / "extras").mkdir(parents=True)
        (inner / "extras" / "inner.txt").write_text("inner")
        (inner / "plan.toml").write_text(INNER)
        built = build.build(inner, read(inner / "plan.toml")[0]).folder
        built.rename(extras / "inner")
    (folder / "plan.toml").write_text(text, "utf-8")
    return folder
