"""Specimens of ``script-exe``: our own instructions behind the stub of a real setup program (of Debian's clamav-testfiles).

The stub is a real interpreter, so on a machine that runs 32-bit programs it judges ours.
"""

from __future__ import annotations

import bz2
import lzma
import re
import struct
import zlib
from contextvars import ContextVar
from functools import cache
from pathlib import Path
from typing import NamedTuple

from samples import SAMPLES

from yendo.formats.pe import Image
from yendo.formats.script_exe import MARK, ScriptExe, find
from yendo.installers.script_exe.operations import OPERATIONS

SAMPLE = SAMPLES / "clam-nsis.exe"
NUMBERS = {operation.name: number for number, operation in OPERATIONS.items()}
VARIABLES = {**{str(n): n for n in range(10)}, **{f"R{n}": 10 + n for n in range(10)}}
VARIABLES |= {
    name: 20 + at
    for at, name in enumerate("CMDLINE INSTDIR OUTDIR EXEDIR LANGUAGE TEMP PLUGINSDIR EXEPATH EXEFILE".split())
} | {"_OUTDIR": 31}
SHELL = {
    "PROGRAMFILES": (0x81, 0x11), "COMMONFILES": (0xA6, 0x35), "SMPROGRAMS": (0x02, 0x17), "DESKTOP": (0x10, 0x19), "APPDATA": (0x1A, 0x23),
    "LOCALAPPDATA": (0x1C, 0x23), "WINDIR": (0x24, 0x24), "SYSDIR": (0x25, 0x25), "STARTUP": (0x07, 0x18), "DOCUMENTS": (0x05, 0x2E),
}  # fmt: skip
HKLM, HKCU, HKCR, SHCTX = -0x7FFFFFFE, -0x7FFFFFFF, -0x80000000, 0


@cache
def base() -> tuple[bytes, bytes]:
    """The stub of the sample, and its header."""
    with SAMPLE.open("rb") as file:
        image = Image(file, SAMPLE.name)
        start = find(file, image)
        assert start is not None
        header = ScriptExe(file, start, image.appended[1]).header
        file.seek(0)
        return file.read(start), header


class Form(NamedTuple):
    """One way to write the same script. ``marked``: a byte before LZMA says whether branches were converted (``converted``)."""

    method: str = "lzma"
    solid: bool = False
    text: str = "narrow"
    bits: int = 32
    dictionary: int = 1 << 23
    marked: bool = False
    converted: bool = False

    def pack(self, data: bytes) -> bytes:
        match self.method:
            case "deflate":
                return raw_deflate(data, bare=self.text == "narrow")
            case "bzip2":
                return shortened(data)
            case "none":
                return data
        filters = [
            {
                "id": lzma.FILTER_LZMA1,
                "dict_size": self.dictionary,
                "lc": 3,
                "lp": 0,
                "pb": 2,
                "mode": lzma.MODE_FAST,
                "nice_len": 32,
                "mf": lzma.MF_HC3,
            }
        ]
        engine = lzma.LZMACompressor(
            lzma.FORMAT_RAW, filters=[{"id": lzma.FILTER_X86}, *filters] if self.converted else filters
        )
        front = bytes([self.converted]) if self.marked else b""
        return front + b"\x5d" + struct.pack("<I", self.dictionary) + engine.compress(data) + engine.flush()

    def block(self, data: bytes) -> bytes:
        """A block as the format keeps it: its length, marked where it is packed, and the data; in one stream never packed by itself."""
        if self.solid or self.method == "none":
            return struct.pack("<I", len(data)) + data
        body = self.pack(data)
        return struct.pack("<I", len(body) | 0x80000000) + body


def shortened(data: bytes) -> bytes:
    """A stream of bzip2 in the short form: without header, checksums and the randomising bit."""
    out = ""
    for begin in range(0, max(len(data), 1), 800_000):
        bits = "".join(f"{byte:08b}" for byte in bz2.compress(data[begin : begin + 800_000]))[32:]
        out += f"{0x31:08b}" + bits[48 + 32 + 1 : bits.rfind(f"{0x177245385090:048b}")]
    out += f"{0x17:08b}"
    out += "0" * (-len(out) % 8)
    return int(out, 2).to_bytes(len(out) // 8, "big")


def raw_deflate(data: bytes, *, bare: bool) -> bytes:
    """Deflate as this family has it: what cannot be made smaller is stored, ``bare`` behind a length without its complement.

    The independent reader wants bare lengths in headers and where texts have 8 bits a character, else complements.
    """
    if not bare:
        engine = zlib.compressobj(9, zlib.DEFLATED, -15)
        return engine.compress(data) + engine.flush()
    out = bytearray()
    for at in range(0, len(data), 0x1000):
        piece = data[at : at + 0x1000]
        engine = zlib.compressobj(9, zlib.DEFLATED, -15)
        packed = engine.compress(piece) + engine.flush(zlib.Z_FULL_FLUSH)  # which ends with an empty stored block
        out += packed[:-2] if len(packed) < len(piece) else b"\0" + struct.pack("<H", len(piece)) + piece
    return bytes(out) + b"\x03\0"


FORM: ContextVar[Form] = ContextVar("the form that scripts are written in")


class Script:
    """Collects instructions, texts and data. Labels are names in the place of jumps."""

    def __init__(self, folder: str = r"$PROGRAMFILES\Tidewell Sounder", form: Form | None = None) -> None:
        self.stub, self.header = base()
        self.form = form or FORM.get(Form())
        self.texts = bytearray(self._part(3, 4))
        if self.form.text == "wide":
            self.texts = bytearray(b"".join(bytes([byte, 0]) for byte in self.texts))
        self.rows: list[list[object]] = []
        self.labels: dict[str, int] = {}
        self.blocks = bytearray()
        self.folder = self.text(folder)
        self.sections: list[tuple[int, int]] = []
        self.init = self.success = -1

    def _part(self, one: int, other: int) -> bytes:
        begin, end = (struct.unpack_from("<I", self.header, 4 + 8 * block)[0] for block in (one, other))
        return self.header[begin:end]

    def text(self, text: str) -> int:
        wide = self.form.text == "wide"
        coded = bytearray()
        for piece in re.split(r"(\$\[\w+\]|\$\w+)", text):
            name = piece[1:].strip("[]")
            if piece.startswith("$") and name in VARIABLES:
                number = VARIABLES[name]
                coded += (b"\x03\0" if wide else b"\xfd") + bytes([number & 0x7F | 0x80, number >> 7 | 0x80])
            elif piece.startswith("$") and name in SHELL:
                coded += (b"\x02\0" if wide else b"\xfe") + bytes(SHELL[name])
            elif wide:
                coded += piece.encode("utf-16-le")
            else:
                coded += b"".join(
                    bytes([252, byte]) if byte >= 252 else bytes([byte]) for byte in piece.encode("cp1252")
                )
        place = len(self.texts) // (2 if wide else 1)
        self.texts += coded + (b"\0\0" if wide else b"\0")
        return place

    def data(self, content: bytes) -> int:
        place = len(self.blocks)
        self.blocks += self.form.block(content)
        return place

    def do(self, name: str, *operands: object) -> Script:
        """Adds an instruction; texts and labels are found by what the operation takes."""
        self.rows.append([name, *operands])
        return self

    def label(self, name: str) -> Script:
        self.labels[name] = len(self.rows)
        return self

    def section(self, begin: int | None = None) -> Script:
        """Ends a section that began at ``begin`` (the end of the one before)."""
        self.do("return")
        start = begin if begin is not None else (self.sections[-1][0] + self.sections[-1][1] if self.sections else 0)
        self.sections.append((start, len(self.rows) - start))
        return self

    def place(self, name: str, content: bytes) -> Script:
        return self.do("place file", 0, name, self.data(content), 0, 0, 0)

    def registry(self, root: int, key: str, name: str, value: object, kind: int = 1, exact: int = 1) -> Script:
        if kind in (3, 7):
            self.rows.append(["write registry", root, key, name, self.data(value), 3, kind if kind == 7 else 0])  # type: ignore[arg-type]
            return self
        return self.do("write registry", root, key, name, str(value), kind, exact)

    def uninstaller(self, path: str, script: Script) -> Script:
        """Writes an uninstaller: the icon's block (empty), and behind it the whole other script."""
        place = self.data(b"\0" * 8)
        self.blocks += self.form.block(script.behind(1))
        return self.do("write uninstaller", path, place, 8, "")

    def _encoded(self) -> bytes:
        out = bytearray()
        for name, *given in self.rows:
            operation = OPERATIONS[NUMBERS[str(name)]]
            values = []
            for letter, value in zip(operation.operands, [*given, *[None] * (6 - len(given))], strict=True):
                if value is None:
                    values.append(0)
                elif letter == "j":
                    values.append(
                        self.labels[value] + 1 if isinstance(value, str) and value in self.labels else int(value or 0)
                    )  # type: ignore[call-overload]
                elif letter == "v" or (name == "stack" and given[1:2] == [1] and letter == "s"):
                    values.append(VARIABLES[value] if isinstance(value, str) else int(value))  # type: ignore[call-overload]
                elif letter in "sw" and isinstance(value, str):
                    values.append(self.text(value))
                else:
                    values.append(int(value))  # type: ignore[call-overload]
            out += struct.pack("<7i", NUMBERS[str(name)], *values)
        return bytes(out)

    def behind(self, flags: int = 0) -> bytes:
        """What lies behind the stub."""
        entries = self._encoded()
        # An uninstaller copies itself, by a name and a command line that its header holds.
        copies = (
            (self.text(r"$TEMP\$[1]u_.exe"), self.text('"$TEMP\\$[1]u_.exe" $0 _?=$INSTDIR\\'))
            if flags & 1
            else (-1, -1)
        )
        layout = struct.Struct("<II" if self.form.bits == 32 else "<QI")
        front = 4 + 8 * layout.size
        fixed = bytearray(self.header[:4]) + bytes(8 * layout.size) + self.header[68:300]
        pages = self._part(0, 1)
        pages = b"".join(
            pages[at : at + 8] + struct.pack("<3i", -1, -1, -1) + pages[at + 20 : at + 64]
            for at in range(0, len(pages), 64)
        )
        unit = 2 if self.form.text == "wide" else 1
        sections = b"".join(
            struct.pack("<6i", 0, -1, 1, code, length, 0) + bytes(1024 * unit) for code, length in self.sections
        )
        languages, rest = self._part(4, 5), self.header[struct.unpack_from("<I", self.header, 4 + 8 * 5)[0] :]
        place = len(fixed)
        counts = (len(pages) // 64, len(self.sections), len(self.rows), 0, 1, 1 if rest else 0)
        for number, (part, count) in enumerate(
            zip((pages, sections, entries, bytes(self.texts), languages, rest), counts, strict=True)
        ):
            layout.pack_into(fixed, 4 + layout.size * number, place, count)
            place += len(part)
        struct.pack_into("<10i", fixed, front + 40, self.init, self.success, *[-1] * 8)
        struct.pack_into("<ii", fixed, front + 80 + 132, self.folder, 0)
        struct.pack_into("<ii", fixed, front + 80 + 140, *copies)
        header = bytes(fixed) + pages + sections + entries + bytes(self.texts) + languages + rest
        if self.form.solid and self.form.method != "none":
            body = self.form.pack(struct.pack("<I", len(header)) + header + bytes(self.blocks))
        else:
            body = self.form.block(header) + bytes(self.blocks)
        return struct.pack("<I", flags | 4) + MARK + struct.pack("<II", len(header), len(body) + 28) + body

    def build(self) -> bytes:
        return self.stub + self.behind()


def write(folder: Path, name: str) -> Path:
    path = folder / f"{name}.exe"
    path.write_bytes(CASES[name]().build())
    return path


CALCULATIONS = [
    (0, "7", "5"),
    (1, "3", "9"),
    (2, "-4", "6"),
    (3, "17", "-5"),
    (4, "12", "3"),
    (5, "0xff", "0x0f"),
    (6, "6", "3"),
    (7, "5", "0"),
]
CALCULATIONS += [
    (8, "0", "3"),
    (9, "0", "3"),
    (9, "17", "5"),
    (10, "17", "5"),
    (10, "-17", "5"),
    (11, "3", "4"),
    (12, "-64", "2"),
    (0, "010", "1"),
    (3, "1", "0"),
]
UNINSTALL = r"Software\Microsoft\Windows\CurrentVersion\Uninstall\Sounder"


def _files() -> Script:
    script = Script()
    script.do("make folder", "$INSTDIR", 1).place("sounder.exe", b"MZ not really" * 20).place(
        "read me.txt", b"Depths in metres.\r\n"
    )
    script.do("make folder", r"$INSTDIR\charts\north", 0).do("make folder", r"$INSTDIR\charts", 1).place(
        "a.chart", b"1"
    ).place("b.chart", b"22").place("c.tmp", b"")
    script.do("delete file", r"$INSTDIR\charts\*.tmp").do(
        "rename", r"$INSTDIR\charts\b.chart", r"$INSTDIR\charts\north\b.chart"
    )
    script.do("copy files", r"$INSTDIR\charts\a.chart", r"$INSTDIR\copies\a.chart").do(
        "remove folder", r"$INSTDIR\none"
    ).do("make folder", r"$INSTDIR\gone\deep", 0)
    script.do("remove folder", r"$INSTDIR\gone", 3).do("make folder", r"$INSTDIR\empty", 0).do(
        "remove folder", r"$INSTDIR\empty", 1
    )
    script.do("make folder", r"$INSTDIR\full\x", 0).do("remove folder", r"$INSTDIR\full", 1).do(
        "make folder", r"$INSTDIR\zero", 0
    ).do("remove folder", r"$INSTDIR\zero").do("make folder", "$SYSDIR\\sounder", 0).do(
        "make folder", r"$COMMONFILES\Tidewell", 0
    )
    return script.section()


def _registry() -> Script:
    script = Script()
    key = r"Software\Tidewell\Sounder"
    script.registry(HKLM, key, "Version", "3.0").registry(HKLM, key, "Depth", "0x20", 4, 4).registry(
        HKLM, key, "Home", "%SystemRoot%\\x", 1, 2
    )
    script.registry(HKLM, key, "Raw", b"\x01\x02\xff", 3).registry(HKCU, key, "", "unnamed").registry(
        SHCTX, key, "Mine", "current"
    )
    script.do("set flag", 1, "1").registry(SHCTX, key, "Shared", "all").do("set flag", 12, "256").registry(
        HKLM, key + "64", "Wide", "1"
    )
    script.do("set flag", 12, "0").registry(HKCR, ".sounding", "", "Sounder.File").registry(
        HKCR, r"CLSID\{5A3D5C3E-7B39-4F5A-9D0B-9B6C2C9D1E57}", "", "x"
    )
    script.registry(HKLM, key + r"\Gone", "x", "1").do("delete registry", 0, HKLM, key + r"\Gone", "", 1).registry(
        HKLM, key, "Short", "1"
    )
    script.do("delete registry", 0, HKLM, key, "Short", 0).registry(HKLM, key, "Quote", 'say "hi" $1%TEMP%')
    script.registry(HKLM, r"System\CurrentControlSet\Control\Session Manager\Environment", "SOUNDER_HOME", "$INSTDIR")
    return script.section()


def _uninstaller() -> Script:
    removes = Script()
    removes.do("delete file", r"$INSTDIR\sounder.exe").do("delete file", r"$INSTDIR\remove.exe").do(
        "delete registry", 0, HKLM, UNINSTALL, "", 1
    )
    removes.do("delete registry", 0, HKLM, r"Software\Tidewell\Sounder", "", 1).do(
        "delete file", r"$SMPROGRAMS\Tidewell\Sounder.lnk"
    )
    removes.do("remove folder", r"$SMPROGRAMS\Tidewell", 1).do("remove folder", "$INSTDIR", 1).section()
    script = Script()
    script.do("make folder", "$INSTDIR", 1).place("sounder.exe", b"MZ" * 30).do(
        "make folder", r"$SMPROGRAMS\Tidewell", 0
    )
    script.do(
        "shortcut", r"$SMPROGRAMS\Tidewell\Sounder.lnk", r"$INSTDIR\sounder.exe", "/depth 3", "", 0, "Measures depths"
    )
    script.uninstaller(r"$INSTDIR\remove.exe", removes).registry(
        HKLM, r"Software\Tidewell\Sounder", "Folder", "$INSTDIR"
    )
    script.registry(HKLM, UNINSTALL, "DisplayName", "Sounder").registry(
        HKLM, UNINSTALL, "DisplayVersion", "3.0.1"
    ).registry(HKLM, UNINSTALL, "Publisher", "Tidewell")
    script.registry(HKLM, UNINSTALL, "UninstallString", r'"$INSTDIR\remove.exe"').registry(
        HKLM, UNINSTALL, "NoModify", 1, 4, 4
    )
    return script.section()


def _menus() -> Script:
    script = Script()
    script.do("make folder", "$INSTDIR", 1)
    for everyone in ("0", "1"):
        script.do("set flag", 1, everyone)
        for place in ("SMPROGRAMS", "DESKTOP", "STARTUP", "APPDATA", "DOCUMENTS"):
            script.do("make folder", rf"${place}\Tidewell {everyone}", 0).do(
                "shortcut", rf"${place}\Tidewell {everyone}\S.lnk", r"$INSTDIR\s.exe", "", "", 0x8000, ""
            )
    return script.section()


def _decisions() -> Script:
    script = Script()
    script.do("make folder", "$INSTDIR", 1)

    def note(name: str, value: str) -> None:
        script.registry(HKCU, r"Software\Tidewell\Decisions", name, value)

    script.do("assign", "0", "Marrowby harbour", "8", "").do("assign", "1", "Marrowby harbour", 0, "9").do(
        "assign", "2", "Marrowby", "-2", ""
    ).do("assign", "3", "Marrowby", 0, "-4")
    note("cut", "$0|$1|$2|$3")
    for at, (how, left, right) in enumerate(CALCULATIONS):
        script.do("calculate", "4", left, right, how)
        note(f"calculated {at}", "$4")
    script.do("length", "5", "sounding").do("format number", "6", "%04x", "255")
    note("formatted", "$5 $6")
    script.do("compare texts", "Abc", "aBC", "same", 0, 0)
    note("compared", "not the same")
    script.label("same").do("compare texts", "Abc", "aBC", "exact", "other", 1).label("exact")
    note("exactly", "the same")
    script.label("other").do("compare numbers", "10", "9", 0, 0, "more", 0)
    note("numbers", "not more")
    script.label("more").do("compare numbers", "-1", "1", 0, 0, "unsigned", 1)
    note("unsigned", "not more")
    script.label("unsigned").do("if exists", r"$INSTDIR", "there", "missing").label("missing")
    note("folder", "missing")
    script.label("there").do("if exists", r"$INSTDIR\*.none", "found", 0)
    note("wildcard", "none")
    script.label("found").do("stack", "one", 0).do("stack", "two", 0).do("stack", 0, 0, 1).do("stack", "7", 1).do(
        "stack", "8", 1
    )
    note("stack", "$7 $8")
    script.do("read registry", "9", HKCU, r"Software\Tidewell\Decisions", "cut", 0)
    note("read", "$9")
    script.do("set flag", 2, "0").do("read registry", "9", HKLM, r"Software\Nowhere", "x", 0).do(
        "if flag", "error", 0, 2, 0
    )
    note("error", "none")
    script.label("error").do("environment", "R0", "NO_SUCH_NAME", 1).do("environment", "R1", "%ProgramData%!", 0)
    note("environment", "$R0|$R1")
    script.do("call", "function").do("jump", "end").label("function")
    note("called", "yes")
    script.do("return").label("end")
    note("language", "$LANGUAGE $EXEFILE")
    return script.section()


def _boxes() -> Script:
    script = Script()
    script.do("make folder", "$INSTDIR", 1).do(
        "message box", 4 | 6 << 21, "Keep the old charts?", 6, "yes", 0, 0
    ).registry(HKCU, r"Software\Tidewell\Boxes", "kept", "no")
    script.label("yes").do("message box", 1 << 21, "Done.", 0, 0, 0, 0).do("set flag", 11, "7").place(
        "kept.txt", b"kept"
    )
    return script.section()


def _ini() -> Script:
    script = Script()
    script.do("make folder", "$INSTDIR", 1).do("write ini", "site", "name", "Marrowby", r"$INSTDIR\site.ini", 1).do(
        "write ini", "site", "draught", "3", r"$INSTDIR\site.ini", 1
    )
    script.do("read ini", "0", "site", "name", r"$INSTDIR\site.ini").do(
        "write ini", "copy", "of", "$0", r"$INSTDIR\site.ini", 1
    )
    script.do("open file", "1", 0x40000000, 2, r"$INSTDIR\notes.txt").do("write to file", "$1", "a line", 0).do(
        "close file", "$1"
    )
    return script.section()


def _programs() -> Script:
    script = Script()
    script.do("make folder", "$INSTDIR", 1).do("run", r"cmd /c exit 5", 0, 1).registry(
        HKCU, r"Software\Tidewell\Programs", "after", "run"
    ).do("set flag", 4, "1")
    return script.section()


def _aborts() -> Script:
    script = Script()
    script.do("make folder", "$INSTDIR", 1).registry(HKCU, r"Software\Tidewell\Aborts", "before", "1").do(
        "abort", ""
    ).registry(HKCU, r"Software\Tidewell\Aborts", "after", "1")
    return script.section()


CASES = {
    "files": _files, "registry": _registry, "uninstaller": _uninstaller, "menus": _menus, "decisions": _decisions, "boxes": _boxes, "ini": _ini,
    "programs": _programs, "aborts": _aborts,
}  # fmt: skip
