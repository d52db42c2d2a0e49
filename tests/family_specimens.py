"""Specimens of the setup families that no real sample is at hand for: programs made byte by byte, by the formats' own declarations."""

from __future__ import annotations

import io
import lzma
import struct
import zipfile
import zlib
from collections.abc import Iterable

from yendo.formats import cab, carrier
from yendo.formats import compiled_script as compiled

Resources = Iterable[tuple[int | str, int | str, bytes]]


def program(
    resources: Resources = (), sections: Iterable[tuple[str, bytes]] = (), behind: bytes = b"", *, machine: int = 0x8664
) -> bytes:
    """A small Windows program with these resources (type, name, data), further sections and bytes behind it."""
    wide = machine == 0x8664
    parts = [(".text", b"\xc3" * 16), *sections]
    optional = 240 if wide else 224
    count = len(parts) + 1
    head = 0x80 + 24 + optional + 40 * count
    offset, address = -(-head // 512) * 512, 0x1000
    table, body = b"", b""
    tree = _tree(list(resources), 0x1000 * count)
    for name, data in [*parts, (".rsrc", tree)]:
        size = -(-len(data) // 512) * 512
        table += struct.pack("<8sIIIIIIHHI", name.encode(), len(data), address, size, offset, 0, 0, 0, 0, 0x40000040)
        body += data.ljust(size, b"\0")
        if name == ".rsrc":
            where = address
        offset, address = offset + size, address + 0x1000 * (1 + size // 0x1000)
    directories = [(0, 0)] * 16
    directories[2] = (where, len(tree))
    coff = b"PE\0\0" + struct.pack("<HHIIIHH", machine, count, 0, 0, 0, optional, 0x22)
    opt = struct.pack("<HBBIIIII", 0x20B if wide else 0x10B, 14, 0, 512, 0, 0, 0x1000, 0x1000)
    opt += b"" if wide else struct.pack("<I", 0x2000)
    opt += struct.pack(
        "<QIIHHHHHHIIIIHH" if wide else "<IIIHHHHHHIIIIHH",
        0x140000000 if wide else 0x400000,
        0x1000,
        512,
        6,
        0,
        0,
        0,
        6,
        0,
        0,
        address,
        1024,
        0,
        2,
        0,
    )
    opt += struct.pack("<QQQQII" if wide else "<IIIIII", 1 << 20, 4096, 1 << 20, 4096, 0, 16) + b"".join(
        struct.pack("<II", *entry) for entry in directories
    )
    start = b"MZ".ljust(60, b"\0") + struct.pack("<I", 0x80)
    return (start.ljust(0x80, b"\0") + coff + opt + table).ljust(-(-head // 512) * 512, b"\0") + body + behind


def _tree(resources: list[tuple[int | str, int | str, bytes]], _: int) -> bytes:
    """A resource tree of three levels; addresses are set for the place that ``program`` gives it."""
    kinds: dict[int | str, dict[int | str, bytes]] = {}
    for kind, name, data in resources:
        kinds.setdefault(kind, {})[name] = data
    texts, tables, leaves = bytearray(), bytearray(), []
    total = 16 + 8 * len(kinds) + sum(16 + 8 * len(names) + 24 * len(names) for names in kinds.values())
    leaf_base = total
    text_base = leaf_base + 16 * sum(map(len, kinds.values()))

    def named(value: int | str) -> int:
        if isinstance(value, int):
            return value
        place = text_base + len(texts)
        texts.extend(struct.pack("<H", len(value)) + value.encode("utf-16-le"))
        return 0x80000000 | place

    def header(keys: list[int | str]) -> bytes:
        return struct.pack(
            "<IIHHHH", 0, 0, 0, 0, sum(isinstance(key, str) for key in keys), sum(isinstance(key, int) for key in keys)
        )

    def ordered(keys: Iterable[int | str]) -> list[int | str]:
        return sorted(keys, key=lambda key: (isinstance(key, int), str(key) if isinstance(key, str) else key))

    below = 16 + 8 * len(kinds)
    tables += header(list(kinds))
    inner = bytearray()
    for kind in ordered(kinds):
        names = kinds[kind]
        tables += struct.pack("<II", named(kind), 0x80000000 | (below + len(inner)))
        languages_at = below + len(inner) + 16 + 8 * len(names)
        inner += header(list(names))
        languages = bytearray()
        for name in ordered(names):
            inner += struct.pack("<II", named(name), 0x80000000 | (languages_at + len(languages)))
            languages += header([1]) + struct.pack("<II", 0x809, leaf_base + 16 * len(leaves))
            leaves.append(names[name])
        inner += languages
    assert len(tables) + len(inner) == total
    data_at = -(-(text_base + len(texts)) // 8) * 8
    records, contents = bytearray(), bytearray()
    for data in leaves:
        records += struct.pack("<IIII", RESOURCE_ADDRESS + data_at + len(contents), len(data), 0, 0)
        contents += data + b"\0" * (-len(data) % 8)
    return (bytes(tables) + bytes(inner) + bytes(records) + bytes(texts)).ljust(data_at, b"\0") + bytes(contents)


RESOURCE_ADDRESS = 0x2000  # where the resources of a program without further sections are loaded


# --- carriers ------------------------------------------------------------------------------------------------

MANIFEST = """<?xml version="1.0" encoding="utf-8"?>
<Manifest xmlns="urn:specimen">
  <Variable Id="InstallFolder" Value="[ProgramFilesFolder]Tidewell" bal:Overridable="yes" xmlns:bal="urn:bal"/>
  <RelatedBundle Id="{2F6E1B52-2D34-45B1-8A0C-6B6C0F1E7A10}" Action="Upgrade"/>
  <Condition Message="Sounder needs Windows 10.">VersionNT &gt;= v10.0</Condition>
  <Payload Id="lantern" FilePath="lantern.msi" FileSize="1" SourcePath="a0" Container="Attached"/>
  <Payload Id="runtime" FilePath="runtime.exe" FileSize="1" SourcePath="a1" Container="Attached"/>
  <Chain>
    <ExePackage Id="Runtime" DetectCondition="RuntimeThere" InstallArguments="/quiet" UninstallArguments="/remove" PerMachine="yes" Permanent="yes" Vital="yes">
      <ExitCode Code="3010" Type="3"/><ExitCode Type="2"/>
    </ExePackage>
    <MsiPackage Id="Lantern" InstallCondition="NOT Small" ProductCode="{6C1E0F0A-9F0D-4E0B-9E4B-0C2C5C2B6A01}" Version="6.2.1" Vital="yes">
      <MsiProperty Id="SITE" Value="[Site]"/>
    </MsiPackage>
  </Chain>
  <Registration Id="{9A1B6C52-1111-45B1-8A0C-6B6C0F1E7A10}" ExecutableName="tidewell.exe" PerMachine="yes" Version="6.2.1.0">
    <Arp Register="yes" DisplayName="Tidewell suite" DisplayVersion="6.2.1" Publisher="Tidewell"/>
  </Registration>
</Manifest>"""


def carrier_exe(packages: dict[str, bytes], manifest: str = MANIFEST) -> bytes:
    """A carrier with a container for its manifest and one for its packages."""
    first = cab.build([("0", manifest.encode()), ("u0", b"a library")])
    second = cab.build(list(packages.items()))
    section = struct.pack(
        "<II16sIIIIII2I", carrier.MARK, 3, bytes(range(16)), 0, 0, 0, 0, 1, 2, len(first), len(second)
    )
    bare = program(sections=[(carrier.SECTION, section)])
    filled = struct.pack(
        "<II16sIIIIII2I", carrier.MARK, 3, bytes(range(16)), len(bare), 0, 0, 0, 1, 2, len(first), len(second)
    )
    return bare.replace(section, filled) + first + second


# --- self-extractors -------------------------------------------------------------------------------------------

CONFIGURATION = b';!@Install@!UTF-8!\r\nTitle="Tidewell Lantern"\r\nBeginPrompt="Set up Lantern?"\r\nRunProgram="setup.exe /go"\r\n;!@InstallEnd@!\r\n'


def seven_zip(files: dict[str, bytes]) -> bytes:
    import subprocess
    import tempfile
    from pathlib import Path

    from yendo.formats import seven_zip as own

    with tempfile.TemporaryDirectory() as folder:
        if program := own.program():  # where 7-Zip itself is here, it writes; else libarchive
            for name, data in files.items():
                (Path(folder) / name).parent.mkdir(parents=True, exist_ok=True)
                (Path(folder) / name).write_bytes(data)
            line = [program, "a", "-bd", "-y", "-mf=off", "x.7z", *files]
            subprocess.run(line, cwd=folder, check=True, capture_output=True)
            return (Path(folder) / "x.7z").read_bytes()
        import libarchive

        path = Path(folder) / "x.7z"
        with libarchive.file_writer(str(path), "7zip") as archive:
            for name, data in files.items():
                archive.add_file_from_memory(name, len(data), data)
        return path.read_bytes()


def zipped(files: dict[str, bytes]) -> bytes:
    out = io.BytesIO()
    with zipfile.ZipFile(out, "w", zipfile.ZIP_DEFLATED) as archive:
        for name, data in files.items():
            archive.writestr(zipfile.ZipInfo(name, (2000, 1, 1, 0, 0, 0)), data, zipfile.ZIP_DEFLATED)
    return out.getvalue()


def archive_exe(kind: str, files: dict[str, bytes]) -> bytes:
    """A self-extractor of a kind: 7z (with a configuration), zip, cabinet (behind), resource (a cabinet among its resources)."""
    if kind == "7z":
        return program(behind=CONFIGURATION + seven_zip(files))
    if kind == "zip":
        return program(behind=zipped(files))
    if kind == "cabinet":
        return program(behind=cab.build(list(files.items())))
    texts = {
        "TITLE": b"Tidewell Lantern\0",
        "RUNPROGRAM": b"setup.exe /go\0",
        "POSTRUNPROGRAM": b"<None>\0",
        "ADMQCMD": b"setup.exe /quiet\0",
        "REBOOT": struct.pack("<I", 0),
    }
    return program(
        [(10, "CABINET", cab.build(list(files.items()))), *((10, name, data) for name, data in texts.items())]
    )


# --- compiled scripts ---------------------------------------------------------------------------------------------

HEADER_TAIL = 91  # bytes of the fixed fields behind the counts; a reader has to find it out


class Streams:
    """Collects records of a compiled script, and writes them as streams of a version."""

    def __init__(self, of: tuple[int, ...] = (5, 5, 9), /, **texts: str) -> None:
        self.version, self.texts = of, texts
        self.records: dict[str, list[bytes]] = {kind: [] for kind in compiled.COUNTED}

    @staticmethod
    def text(text: str) -> bytes:
        raw = text.encode("utf-16-le")
        return struct.pack("<I", len(raw)) + raw

    def conditions(self, **given: str) -> bytes:
        return b"".join(
            self.text(given.get(name, "")) for name in ("parts", "jobs", "languages", "check", "after", "before")
        )

    def language(self, name: str, title: str) -> None:
        body = b"".join(map(self.text, (name, title, "", "", "", ""))) + struct.pack("<I", 0) * 4
        self.records["language"].append(body + struct.pack("<I", 0x809) + bytes(17))

    def job(self, name: str, title: str) -> None:
        self.records["job"].append(
            b"".join(map(self.text, (name, title, "", "", "", ""))) + struct.pack("<IB", 0, 0) + bytes(20) + b"\0"
        )

    def part(self, name: str, title: str) -> None:
        self.records["part"].append(
            b"".join(map(self.text, (name, title, "", "", "")))
            + struct.pack("<QIB", 0, 0, 0)
            + bytes(20)
            + struct.pack("<BQ", 0, 9)
        )

    def folder(self, path: str) -> None:
        self.records["folder"].append(
            self.text(path) + self.conditions() + struct.pack("<I", 0) + bytes(20) + struct.pack("<hB", -1, 0)
        )

    def file(self, path: str, kind: int = 0, **conditions: str) -> None:
        body = b"".join(map(self.text, ("", path, "", ""))) + self.conditions(**conditions) + bytes(20)
        self.records["file"].append(
            body + struct.pack("<iIQh", len(self.records["file"]), 0, 0, -1) + bytes(4) + struct.pack("<B", kind)
        )

    def icon(self, path: str, target: str, **conditions: str) -> None:
        body = (
            b"".join(map(self.text, (path, target, "", "{app}", "", "")))
            + self.conditions(**conditions)
            + self.text("")
        )
        body += bytes(16) if self.version >= (6, 1) else b""
        self.records["icon"].append(body + bytes(20) + struct.pack("<iIBHB", 0, 1, 0, 0, 0))

    def registry(self, hive: int, key: str, name: str, value: str, kind: int) -> None:
        body = b"".join(map(self.text, (key, name, value))) + self.conditions() + bytes(20)
        self.records["registry"].append(body + struct.pack("<IhBH", hive, -1, kind, 0))

    def run(self, command: str, arguments: str) -> None:
        body = b"".join(map(self.text, (command, arguments, "", "", "", "", ""))) + self.conditions() + bytes(20)
        self.records["run"].append(body + struct.pack("<IBH", 1, 1, 0))

    def stream(self) -> bytes:
        names = [name for name, since in compiled._HEADER if self.version >= since]
        out = b"".join(self.text(self.texts.get(name, "")) for name in names) + struct.pack("<I", 0) * 4
        out += b"".join(struct.pack("<I", len(self.records[kind])) for kind in compiled.COUNTED) + bytes(HEADER_TAIL)
        return out + b"".join(record for kind in compiled.COUNTED for record in self.records[kind])

    def build(self) -> bytes:
        engine = lzma.LZMACompressor(
            lzma.FORMAT_RAW, filters=[{"id": lzma.FILTER_LZMA1, "dict_size": 1 << 20, "lc": 3, "lp": 0, "pb": 2}]
        )
        packed = b"\x5d" + struct.pack("<I", 1 << 20) + engine.compress(self.stream()) + engine.flush()
        pieces = b"".join(
            struct.pack("<I", zlib.crc32(packed[at : at + 4096])) + packed[at : at + 4096]
            for at in range(0, len(packed), 4096)
        )
        head = struct.pack("<IB", len(pieces), 1)
        title = compiled.TITLE + ".".join(map(str, self.version)).encode() + b") (u)"
        behind = title.ljust(64, b"\0") + struct.pack("<I", zlib.crc32(head)) + head + pieces

        def table(header: int) -> bytes:
            return compiled.TABLE_MARK + struct.pack("<8I", 1, 0, 0, 0, 0, header, 0, 0)

        size = len(program([(10, compiled.TABLE_RESOURCE, table(0))]))
        return program([(10, compiled.TABLE_RESOURCE, table(size))], behind=behind)


def compiled_script_exe(version: tuple[int, ...] = (5, 5, 9)) -> bytes:
    streams = Streams(
        version, name="Sounder", full_name="Sounder 3.0.1", id="{{5A3D5C3E-7B39-4F5A-9D0B-9B6C2C9D1E57}", publisher="Tidewell", version="3.0.1",
        folder=r"{pf}\Tidewell\Sounder", group="Tidewell", uninstallable="yes",
    )  # fmt: skip
    streams.language("en", "English")
    streams.part("charts", "Charts of the harbour")
    streams.job("desktopicon", "An icon on the desktop")
    streams.folder(r"{app}\charts")
    streams.file(r"{app}\sounder.exe")
    streams.file(r"{app}\charts\outer.chart", parts="charts")
    streams.icon(r"{group}\Sounder", r"{app}\sounder.exe")
    streams.icon(r"{userdesktop}\Sounder", r"{app}\sounder.exe", jobs="desktopicon")
    streams.registry(0x80000002, r"Software\Tidewell\Sounder", "Folder", "{app}", 1)
    streams.registry(0x80000002, r"Software\Tidewell\Sounder", "Depth", "$20", 3)
    streams.run(r"{app}\sounder.exe", "/first")
    return streams.build()
