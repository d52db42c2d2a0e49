"""Compiled setup scripts: decoded in every packing, interpreted; a real stub judges the same specimens in tests/wine."""

from __future__ import annotations

import hashlib
import io
import random
import shutil
import struct
import subprocess
import time
import zlib
from collections.abc import Iterator
from pathlib import Path

import pytest
import script_specimens as scripts
from conftest import Yendo, missing, parsed
from hypothesis import given, settings
from hypothesis import strategies as some

from yendo.effects import File, RegistryValue, State, UninstallEntry
from yendo.errors import Unreadable
from yendo.formats import packing
from yendo.formats import script_exe as form
from yendo.installers import programs
from yendo.installers.msi.describe import baseline
from yendo.installers.script_exe.describe import messages
from yendo.installers.script_exe.run import ScriptOutcome, ScriptRun
from yendo.installers.script_exe.texts import Texts
from yendo.platforms.windows.surroundings import windows

HOME = r"C:\Program Files (x86)\Tidewell Sounder"


@pytest.fixture(autouse=True)
def _sample() -> None:
    if not scripts.SAMPLE.exists():
        missing("clamav-testfiles", "apt-get install clamav-testfiles")


def opened(data: bytes) -> form.ScriptExe:
    start = data.index(form.MARK) - 4
    return form.ScriptExe(io.BytesIO(data), start, len(data))


def run(script: scripts.Script, arguments: str = "/S", state: State | None = None) -> ScriptOutcome:
    around = windows()
    return ScriptRun(
        opened(script.build()),
        around,
        state if state is not None else baseline(around),
        program=r"C:\Hand over\x.exe",
        arguments=arguments,
    ).whole()


@settings(max_examples=60)
@given(some.binary(min_size=1, max_size=3000) | some.text(alphabet="ab", min_size=1, max_size=4000).map(str.encode))
def test_short_bzip2_is_undone(data: bytes) -> None:
    assert packing.unpack(scripts.shortened(data), "bzip2", 1 << 20) == data


@settings(max_examples=80)
@given(some.binary(max_size=400))
def test_damaged_bzip2_is_refused(data: bytes) -> None:
    try:
        assert len(packing.unpack(b"\x31" + data, "bzip2", 10_000)) <= 10_000
    except Unreadable:
        pass


@settings(max_examples=60)
@given(
    some.lists(
        some.binary(max_size=200) | some.integers(0, 70_000).map(lambda size: random.Random(size).randbytes(size)),
        max_size=6,
    ),
    some.data(),
)
def test_stored_blocks_without_a_complement_are_read(pieces: list[bytes], data: some.DataObject) -> None:
    """Stored and packed blocks by turns, the stored ones with and without what zlib insists on."""
    packed, whole = b"", b""
    for piece in pieces:
        how = data.draw(some.sampled_from(["bare", "full", "packed"]))
        if how == "packed":
            engine = zlib.compressobj(9, zlib.DEFLATED, -15)
            flushed = engine.compress(piece) + engine.flush(zlib.Z_FULL_FLUSH)  # it ends with an empty stored block
            packed += flushed[: -2 * data.draw(some.booleans()) or None]
        else:
            piece = piece[:0xFFFF]
            length = struct.pack("<H", len(piece))
            if how == "bare" and piece[:2] == bytes(byte ^ 0xFF for byte in length):
                continue
            packed += b"\0" + length + (bytes(byte ^ 0xFF for byte in length) if how == "full" else b"") + piece
        whole += piece
    assert packing.unpack(packed + b"\x03\0", "deflate", 1 << 20) == whole


FORMS = [
    *(scripts.Form(method, solid, text, bits) for method in ("none", "deflate", "bzip2", "lzma") for solid in (False, True)
      for text, bits in (("narrow", 32), ("wide", 32), ("wide", 64))),
    *(scripts.Form("lzma", solid, dictionary=1 << size) for solid in (False, True) for size in (16, 20, 23, 24, 25, 26, 27)),
    *(scripts.Form("lzma", solid, marked=True, converted=converted) for solid in (False, True) for converted in (False, True)),
]  # fmt: skip


def named(form: scripts.Form) -> str:
    packed = f"{form.method}-{'stream' if form.solid else 'blocks'}-{form.text}{form.bits}-{form.dictionary >> 10}K"
    return packed + ("-marked" if form.marked else "") + ("-converted" if form.converted else "")


@pytest.fixture(params=FORMS, ids=named)
def form_written(request: pytest.FixtureRequest) -> Iterator[scripts.Form]:
    token = scripts.FORM.set(request.param)
    yield request.param
    scripts.FORM.reset(token)


PROGRAM = b"MZ" + b"\xe8\x10\x20\0\0\x90\xe9\x01\xff\xff\xff" * 400 + random.Random(1).randbytes(70_000)


def formed() -> scripts.Script:
    """A program with branches in it, a file that cannot be packed smaller, an empty one, and an uninstaller."""
    removes = scripts.Script()
    removes.do("delete file", r"$INSTDIR\sounder.exe").do("delete file", r"$INSTDIR\remove.exe").do(
        "remove folder", "$INSTDIR", 1
    ).section()
    script = scripts.Script()
    script.do("make folder", "$INSTDIR", 1).place("sounder.exe", PROGRAM).place(
        "notes.txt", b"Depths in metres.\r\n" * 50
    ).place("empty.txt", b"")
    return script.uninstaller(r"$INSTDIR\remove.exe", removes).section()


def test_every_form_is_read(form_written: scripts.Form, yendo: Yendo, tmp_path: Path) -> None:
    """Methods x blocks or one stream x texts and widths x dictionaries x the byte before LZMA, each with its uninstaller.

    7-Zip, a reader that we did not write, unpacks the same files from the same bytes.
    """
    form_of = form_written
    data = formed().build()
    script = opened(data)
    wanted = "filtered lzma" if form_of.marked else form_of.method
    assert script.compression == wanted and script.solid == (form_of.solid and form_of.method != "none")
    assert script.wide == (form_of.text == "wide")
    (tmp_path / "setup.exe").write_bytes(data)
    told = parsed(yendo("read", tmp_path / "setup.exe", "--json", "--effects"))
    files = [effect["thing"] for effect in told["effects"]["list"] if effect["thing"]["kind"] == "file"]
    placed = {file["path"].rpartition("\\")[2]: file.get("sha256") for file in files}
    assert placed["sounder.exe"] == hashlib.sha256(PROGRAM).hexdigest()
    assert placed["notes.txt"] == hashlib.sha256(b"Depths in metres.\r\n" * 50).hexdigest() and "empty.txt" in placed
    assert "remove.exe" in placed and told["silent"]["uninstall"]["command"].endswith("/S")
    if not shutil.which("7z"):
        missing("7z", "apt-get install p7zip-full")
    out = tmp_path / "out"
    done = subprocess.run(
        ["7z", "x", "-y", f"-o{out}", str(tmp_path / "setup.exe")], capture_output=True, text=True, check=False
    )
    assert next(out.rglob("sounder.exe")).read_bytes() == PROGRAM, done.stdout
    assert next(out.rglob("notes.txt")).read_bytes() == b"Depths in metres.\r\n" * 50


def test_first_bytes_that_read_as_a_length() -> None:
    """One LZMA stream with a dictionary of 8 MB: 5D 00 00 80 is also the length of a packed block of 93 bytes."""
    token = scripts.FORM.set(scripts.Form("lzma", True))
    try:
        data = formed().build()
    finally:
        scripts.FORM.reset(token)
    assert data[data.index(form.MARK) + 24 :][:5] == bytes.fromhex("5d00008000") and opened(data).solid


def test_wide_strings_are_read(tmp_path: Path) -> None:
    """The same table in 16 bits a character, with the marks that later stubs use."""
    from yendo.installers.script_exe.texts import Shell, Variable

    script = opened(scripts.CASES["files"]().build())
    unit = struct.Struct("<H").pack
    script.strings = (
        b"\0\0"
        + unit(3)
        + unit(0x8080 | 21)
        + "\\näher.txt".encode("utf-16-le")
        + b"\0\0"
        + unit(2)
        + bytes([0x1A, 0x23])
        + unit(4)
        + unit(3)
        + b"\0\0"
    )
    script.wide = True
    texts = Texts(script)
    assert texts.parts(1) == [Variable(21), "\\näher.txt"] and texts.shown(1) == "$INSTDIR\\näher.txt"
    assert texts.parts(14) == [Shell(0x1A, 0x23), "\x03"]


def test_what_scripts_do_to_a_machine() -> None:
    files = {str(effect) for effect in run(scripts.CASES["files"]()).effects}
    assert {
        rf"add file {HOME}\sounder.exe",
        rf"add file {HOME}\charts\north\b.chart",
        rf"add file {HOME}\copies\a.chart",
    } <= files
    assert not any("gone" in text or "c.tmp" in text for text in files)
    assert r"add folder C:\Windows\SysWOW64\sounder" in files  # a 32-bit program's system folder
    values = {
        (effect.thing.hive, effect.thing.view, effect.thing.name): effect.thing
        for effect in run(scripts.CASES["registry"]()).effects
        if isinstance(effect.thing, RegistryValue)
    }
    assert (
        values["HKLM", "32", "Depth"].data == 32
        and values["HKLM", "64", "Wide"].data == "1"
        and values["HKLM", "32", "Raw"].data == "0102ff"
    )
    assert (
        ("HKLM", "32", "Shared") in values
        and ("HKCU", "64", "Mine") in values
        and ("HKLM", "32", "Short") not in values
    )


def test_the_uninstaller_inside_is_read_too(tmp_path: Path) -> None:
    path = scripts.write(tmp_path, "uninstaller")
    account = programs.account(path)
    entry = next(effect.thing for effect in account.effects if isinstance(effect.thing, UninstallEntry))
    assert (entry.key, entry.view, entry.version) == ("Sounder", "32", "3.0.1")
    assert (
        account.silent.uninstall
        and account.silent.uninstall.command == rf'"{HOME}\remove.exe" /S'
        and account.silent.uninstall.wait_for == ("Au_.exe",)
    )
    assert account.identity.name == "Sounder" and account.processes == ("sounder.exe",)
    around = windows()
    removed = programs.removal(path, r"C:\Hand over\x.exe", around, baseline(around))
    assert removed is not None
    gone = {str(effect) for effect in removed}
    assert {f"remove folder {HOME}", "remove uninstall-entry Sounder 3.0.1", rf"remove file {HOME}\remove.exe"} <= gone


def test_decisions_come_out_as_the_real_stub_takes_them() -> None:
    """The values that a real stub wrote on a machine (tests/wine holds them against one again)."""
    values = {
        effect.thing.name: effect.thing.data
        for effect in run(scripts.CASES["decisions"]()).effects
        if isinstance(effect.thing, RegistryValue)
    }
    assert (
        values["cut"] == "Marrowby|harbour|Marrow|owby"
        and values["stack"] == "one two"
        and values["formatted"] == "8 00ff"
    )
    assert [values[f"calculated {at}"] for at in range(13)] == [
        "12",
        "-6",
        "-24",
        "-3",
        "15",
        "15",
        "5",
        "0",
        "1",
        "0",
        "1",
        "2",
        "-2",
    ]
    assert (
        not {"compared", "numbers", "unsigned", "folder", "error"} & values.keys()
        and values["wildcard"] == "none"
        and values["called"] == "yes"
    )


def test_message_boxes_with_and_without_an_answer() -> None:
    outcome = run(scripts.CASES["boxes"]())
    assert outcome.exit_code == 7 and [(box.text, box.answer) for box in outcome.asked] == [
        ("Keep the old charts?", 6),
        ("Done.", 1),
    ]
    loud = scripts.Script()
    loud.do("message box", 4, "Really?", 6, 0, 0, 0)
    script = opened(loud.section().build())
    assert messages(script, Texts(script)) == [(0, "Really?", None)]


def test_a_box_without_an_answer_is_a_warning(yendo: Yendo, tmp_path: Path) -> None:
    loud = scripts.Script()
    loud.do("message box", 4, "Really?", 6, 0, 0, 0).do("make folder", "$INSTDIR", 1)
    (tmp_path / "loud.exe").write_bytes(loud.section().build())
    told = yendo("read", "loud.exe").stdout
    assert (
        "'Really?': no silent answer" in told
        and "a message box: Really?" in told
        and "likely" in told.partition("uninstall")[0]
    )


def test_switches_that_the_script_reads() -> None:
    script = scripts.Script()
    script.do("assign", "0", "$CMDLINE", 0, "").do("compare texts", "$0", "/charts=", 0, 0, 0).do("stack", "/nomenu", 0)
    assert run(script.section()).switches == ("/charts=", "/nomenu")


def test_the_listing_names_every_instruction(yendo: Yendo, tmp_path: Path) -> None:
    scripts.write(tmp_path, "uninstaller")
    told = yendo("read", "uninstaller.exe", "--script").stdout
    assert "shortcut" in told and r"$INSTDIR\remove.exe" in told and "write registry" in told and "unknown" not in told


def test_folder_by_switch_and_by_an_earlier_version() -> None:
    script = scripts.Script()
    script.do("make folder", "$INSTDIR", 1).place("a.txt", b"a")
    around = windows()
    prediction = programs.Reading(io.BytesIO(script.section().build()), "x.exe").predict(
        r"C:\Hand over\x.exe", r"/S /D=C:\Other place", around, baseline(around)
    )
    assert File(r"C:\Other place\a.txt") in [
        File(effect.thing.path) for effect in prediction.effects if isinstance(effect.thing, File)
    ]


@pytest.mark.parametrize(
    ("script", "words"),
    [
        (scripts.Script().label("x").do("jump", "x"), "does not end"),
        (scripts.Script().label("x").do("call", "x"), "calls itself"),
        (scripts.Script().do("jump", 999_999), "jumps to instruction"),
    ],
)
def test_scripts_without_an_end_are_refused(script: scripts.Script, words: str) -> None:
    with pytest.raises(Unreadable, match=words):
        run(script.section())


def test_a_program_it_starts_is_a_blind_spot() -> None:
    script = scripts.Script()
    script.do("run", r'"$INSTDIR\next.exe" /go', -1, 0).do("restart", 0)
    outcome = run(script.section())
    assert [(entry.command, entry.waits) for entry in outcome.started] == [
        (rf'"{HOME}\next.exe" /go', False)
    ] and outcome.restarts == "started"
    assert any(spot.what.startswith("runs ") for spot in outcome.blind_spots)


def test_a_truncated_script_says_where() -> None:
    data = scripts.CASES["files"]().build()
    for cut in (len(scripts.base()[0]) + 30, len(scripts.base()[0]) + 200):
        with pytest.raises(Unreadable):
            opened(data[:cut])
    start = len(scripts.base()[0])
    bad = bytearray(data)
    struct.pack_into("<I", bad, start + 20, 0x7FFFFFFF)
    with pytest.raises(Unreadable, match=f"offset {start + 20}"):
        opened(bytes(bad))


# --- what a run cannot know, and what it can ---------------------------------------------------------------------------------


def values_of(script: scripts.Script) -> dict[str, object]:
    return {
        effect.thing.name: effect.thing.data
        for effect in run(script.section()).effects
        if isinstance(effect.thing, RegistryValue)
    }


def noted(script: scripts.Script, name: str, text: str) -> scripts.Script:
    return script.registry(scripts.HKCU, r"Software\Tidewell\Notes", name, text)


LIBRARIES = {
    "an administrator": ("UserInfo.dll", "GetAccountType", (), "Admin"),
    "who runs it": ("UserInfo.dll", "GetName", (), "mara"),
    "a width": ("System.dll", "Call", ("kernel32::IsWow64Process(i -1, *i .s)",), "1"),
    "a lock": ("System.dll", "Call", ('kernel32::CreateMutexA(i 0, i 0, t "x") ?e',), "0"),
}


@pytest.mark.parametrize(("library", "function", "arguments", "answer"), LIBRARIES.values(), ids=LIBRARIES)
def test_libraries_whose_answer_is_known(library: str, function: str, arguments: tuple[str, ...], answer: str) -> None:
    script = scripts.Script()
    for argument in arguments:
        script.do("stack", argument, 0)
    script.do("call library", rf"$PLUGINSDIR\{library}", function, 0, 0).do("stack", "0", 1)
    assert values_of(noted(script, "answer", "$0"))["answer"] == answer


def test_libraries_whose_answer_only_a_run_knows() -> None:
    script = scripts.Script()
    script.do("stack", "one", 0).do("stack", "two", 0).do("call library", r"$PLUGINSDIR\Odd.dll", "Do", 0, 0).do(
        "stack", "0", 1
    )
    script.do("compare texts", "$0", "ok", "skip", 0, 0)
    noted(script, "taken", "as not so").label("skip")
    noted(script, "answer", "$0")
    outcome = run(script.section())
    found = {
        effect.thing.name: effect.thing.data for effect in outcome.effects if isinstance(effect.thing, RegistryValue)
    }
    assert found == {"taken": "as not so", "answer": None}  # the value is there, what it holds is not known
    words = [spot.what for spot in outcome.blind_spots]
    assert "a library's function: odd.dll Do" in words and any("whether ‹odd.dll Do› is ok" in word for word in words)


def test_programs_that_a_library_runs() -> None:
    script = scripts.Script()
    script.do("stack", r'"$INSTDIR\tool.exe" /go', 0).do("stack", "/TIMEOUT=900", 0).do(
        "call library", r"$PLUGINSDIR\nsExec.dll", "ExecToLog", 0, 0
    ).do("stack", "0", 1)
    outcome = run(script.section())
    assert [(entry.command, entry.waits) for entry in outcome.started] == [(rf'"{HOME}\tool.exe" /go', True)]


def test_registering_a_library_is_a_blind_spot() -> None:
    script = scripts.Script()
    script.do("call library", r"$INSTDIR\charts.dll", "DllRegisterServer", 0, 0)
    assert any(spot.what == rf"registers {HOME}\charts.dll" for spot in run(script.section()).blind_spots)


def test_a_place_that_is_not_known_is_not_invented() -> None:
    script = scripts.Script()
    script.do("run", "where.exe", "0", 1).do("make folder", r"C:\Data\$0", 0).registry(
        scripts.HKLM, r"Software\$0", "x", "1"
    )
    outcome = run(script.section())
    assert outcome.effects == () and sum("only a run knows" in spot.why for spot in outcome.blind_spots) >= 2


def test_the_other_view_and_the_other_width() -> None:
    script = scripts.Script()
    script.do("stack", "kernel32::Wow64EnableWow64FsRedirection(i 0)", 0).do(
        "call library", r"$PLUGINSDIR\System.dll", "Call", 0, 0
    )
    script.do("make folder", r"$SYSDIR\tidewell", 0)
    assert r"add folder C:\Windows\System32\tidewell" in {str(effect) for effect in run(script.section()).effects}
    around = windows()
    wide = (
        scripts.Script()
        .do("make folder", r"$SYSDIR\tidewell", 0)
        .registry(scripts.HKLM, r"Software\Tidewell", "x", "1")
        .section()
    )
    outcome = ScriptRun(opened(wide.build()), around, baseline(around), program=r"C:\x.exe", bits=64).whole()
    assert {str(effect) for effect in outcome.effects} == {
        r"add folder C:\Windows\System32\tidewell",
        r"add registry HKLM\Software\Tidewell\x",
    }


def test_what_an_earlier_version_left_is_read() -> None:
    """The folder that is on record, and the uninstaller that an entry names."""
    script = scripts.Script()
    script.do("read registry", "0", scripts.HKLM, scripts.UNINSTALL, "UninstallString", 0).do(
        "read registry", "1", scripts.HKLM, r"Software\Tidewell\Sounder", "Folder", 0
    )
    noted(script, "found", "$0|$1")
    around = windows()
    state = baseline(around)
    state.add(UninstallEntry("Sounder", "HKLM", "32", "Sounder", "2.0", uninstall=r'"C:\Old\remove.exe"'))
    state.add(RegistryValue("HKLM", r"Software\Tidewell\Sounder", "Folder", "sz", r"C:\Old", "32"))
    found = [
        effect.thing.data
        for effect in run(script.section(), state=state).effects
        if isinstance(effect.thing, RegistryValue)
    ]
    assert found == [r'"C:\Old\remove.exe"|C:\Old']


def test_an_entry_that_is_changed_stays_one_entry() -> None:
    script = scripts.Script()
    script.registry(scripts.HKLM, scripts.UNINSTALL, "DisplayName", "Sounder").registry(
        scripts.HKLM, scripts.UNINSTALL, "DisplayVersion", "3.0.1"
    )
    script.do("delete registry", 0, scripts.HKLM, scripts.UNINSTALL, "DisplayVersion", 0)
    entries = [effect for effect in run(script.section()).effects if isinstance(effect.thing, UninstallEntry)]
    assert len(entries) == 1 and entries[0].thing.version is None and entries[0].change == "add"  # type: ignore[union-attr]


def test_sections_can_be_left_out_by_the_script() -> None:
    script = scripts.Script()
    noted(script, "first", "ran").section()
    noted(script, "second", "ran").section()
    script.init = len(script.rows)
    script.do("set section", "1", -3, "0").do("return")
    outcome = run(script)
    assert [effect.thing.name for effect in outcome.effects if isinstance(effect.thing, RegistryValue)] == ["first"]


def test_the_language_of_the_machine_is_chosen() -> None:
    around = windows()
    script = scripts.Script()
    assert (
        values_of(noted(script, "language", "$LANGUAGE"))["language"] == "1033"
    )  # the only one there is, near enough to 2057
    assert ScriptRun(opened(script.build()), around, baseline(around), program=r"C:\x.exe").texts.language is not None


def test_every_operation_is_done_or_known_to_do_nothing() -> None:
    from yendo.installers.script_exe.doing import DOES
    from yendo.installers.script_exe.operations import OPERATIONS

    assert set(OPERATIONS) - set(DOES) == {1, 5}  # return and call are the interpreter's own


def test_words_that_hold_themselves_have_an_end() -> None:
    """Found by the fuzzer: a word of a language that names itself, and words that double with every level."""
    from types import SimpleNamespace

    from yendo.installers.script_exe.texts import Texts

    def word(number: int) -> bytes:
        return bytes([1, number & 0x7F | 0x80, 0x80])

    table, places = bytearray(b"\0"), []
    for content in (b"x" + word(0), *(word(number + 1) * 20 for number in range(1, 12)), b"end"):
        places.append(len(table))
        table += content + b"\0"
    language = SimpleNamespace(strings=places)
    texts = Texts(SimpleNamespace(wide=False, strings=bytes(table) + bytes([2, 3]) * 9, languages=[language]))  # type: ignore[arg-type]
    begun = time.monotonic()
    assert set(texts.shown(-1)) == {"x"} and len(texts.shown(-1)) < 20
    assert texts.shown(-2) == "" and time.monotonic() - begun < 2
