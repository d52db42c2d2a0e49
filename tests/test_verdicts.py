"""The trial's judgement, without a machine: events, verdicts, who outlived whom, command lines that may remove; and a real screen."""

from __future__ import annotations

import io
import json
import shutil
from pathlib import Path
from types import SimpleNamespace
from typing import Any

import family_specimens as specimens
import msgspec
import pytest
from conftest import Yendo, missing
from hypothesis import given
from hypothesis import strategies as some

from yendo.effects import Effect, File, Folder, RegistryKey, RegistryValue, UninstallEntry
from yendo.evidence import Evidence
from yendo.installers.account import CommandLine
from yendo.machines.wine import layer
from yendo.machines.wine.screens import Appeared, Screen
from yendo.machines.wine.watch import Process, Watched, Window, _Watch
from yendo.platforms.windows.recording import is_temporary
from yendo.platforms.windows.surroundings import windows
from yendo.prove import trial, verdicts
from yendo.prove.verdicts import COMPLETE, ENDLESS, FAILED, NO_START, NOTHING, SHOWED, WAITS

ENVIRONMENT = windows().environment
PLACED = Effect("add", File(r"C:\Program Files\Tidewell\sounder.exe", 10), "observed")
EMPTY = Effect("add", RegistryKey("HKLM", r"Software\Tidewell"), "observed")


def seen(**given: Any) -> Watched:
    usual: dict[str, Any] = {
        "command": "x",
        "exit_code": 0,
        "first_ended": 1.0,
        "seconds": 1.0,
        "windows": (),
        "processes": (),
    }
    return Watched(**(usual | given))


def window(
    title: str = "Setup",
    *,
    place: tuple[int, ...] = (10, 10, 400, 200),
    texts: tuple[str, ...] = ("Next",),
    picture: bytes | None = b"png",
) -> Window:
    return Window("setup.exe", title, "#32770", texts, 0.5, None, picture, place)


VERDICTS = {
    "complete": (seen(), [], [PLACED], None, COMPLETE),
    "restart wanted": (seen(exit_code=3010), [], [PLACED], None, COMPLETE),
    "nothing": (seen(), [], [], None, NOTHING),
    "only an empty key": (seen(), [], [EMPTY], None, NOTHING),
    "failed": (seen(exit_code=1603), [], [PLACED], None, FAILED),
    "crashed": (seen(exit_code=0xC0000005), [], [], None, FAILED),
    "a window that went": (seen(), [window()], [PLACED], None, SHOWED),
    "a window that stands": (seen(exit_code=None, stopped="waits"), [window()], [], None, WAITS),
    "no end": (seen(exit_code=None, stopped="time", seconds=600.0), [], [], None, ENDLESS),
    "too much disk": (seen(exit_code=None, stopped="disk"), [], [PLACED], None, ENDLESS),
    "no program": (seen(exit_code=None, error=193), [], [], None, NO_START),
    "a log that says otherwise": (seen(), [], [], -5, NOTHING),
    "half done by its log": (seen(), [], [PLACED], -3, FAILED),
    "a log that agrees": (seen(), [], [PLACED], 0, COMPLETE),
}


@pytest.mark.parametrize(("watched", "shown", "lasting", "told", "verdict"), VERDICTS.values(), ids=VERDICTS)
def test_verdicts(watched: Watched, shown: list[Window], lasting: list[Effect], told: int | None, verdict: str) -> None:
    word, remarks = verdicts.verdict_of(watched, shown, lasting, told)
    assert word == verdict and (word == COMPLETE or remarks)


def test_verdicts_explain_themselves() -> None:
    said = {name: " ".join(verdicts.verdict_of(*case[:4])[1]) for name, case in VERDICTS.items()}  # type: ignore[arg-type]
    assert (
        "undid everything" in said["failed"]
        and "crashed" in said["crashed"]
        and "'Setup'" in said["a window that stands"]
    )
    assert (
        "answer file" in said["a log that says otherwise"]
        and "no program for this machine" in said["no program"]
        and "disk" in said["too much disk"]
    )


COUNTS = {
    "a dialog": (window(), True),
    "a picture alone": (window("", texts=()), True),
    "nothing drawn or said": (window("", texts=(), picture=None), False),
    "a flash without a word": (msgspec.structs.replace(window("", texts=()), shown=3.2, gone=3.63), False),
    "the same for longer": (msgspec.structs.replace(window("", texts=()), shown=3.2, gone=4.3), True),
    "a word, as briefly": (msgspec.structs.replace(window(), shown=3.2, gone=3.63), True),
    "a point": (window(place=(0, 0, 1, 1)), False),
    "off the screen": (window(place=(-2000, 0, 400, 300)), False),
    "seen by the screen only": (window(place=(), picture=None), True),
}


@pytest.mark.parametrize(("shown", "counts"), COUNTS.values(), ids=COUNTS)
def test_which_windows_a_person_would_see(shown: Window, counts: bool) -> None:
    assert shown.counts is counts


def test_who_outlived_the_setup() -> None:
    processes = (
        Process(10, 1, "setup.exe", 0.0, 1.0), Process(11, 10, "worker.exe", 0.2, 3.5), Process(12, 11, "helper.exe", 0.5, 1.1), Process(13, 10, "conhost.exe", 0.1, None),
    )  # fmt: skip
    early, names = verdicts.returned_early(seen(seconds=3.5, processes=processes))
    assert early == 2.5 and names == ("worker.exe",)
    assert verdicts.returned_early(seen(processes=processes[:1])) == (0.0, ())
    assert verdicts.returned_early(seen(first_ended=None)) == (0.0, ())
    lines = verdicts.tree(seen(seconds=3.5, processes=processes))
    assert [line.partition(",")[0] for line in lines] == [
        "setup.exe",
        "  worker.exe",
        "    helper.exe",
        "  conhost.exe",
    ] and "still there" in lines[3]


def test_a_tree_of_processes_that_leads_to_itself_ends() -> None:
    assert verdicts.tree(
        seen(processes=(Process(5, 5, "a.exe", 0, 1), Process(6, 7, "b.exe", 0, 1), Process(7, 6, "c.exe", 0, 1)))
    )


TEMPORARY = {
    File(ENVIRONMENT["TEMP"] + r"\x.tmp"): True,
    Folder(r"C:\Windows\Temp\y"): True,
    File(r"C:\Program Files\Temp.txt"): False,
    RegistryValue(
        "HKLM",
        r"System\CurrentControlSet\Control\Session Manager",
        "PendingFileRenameOperations",
        "multi",
        ("\\??\\" + ENVIRONMENT["TEMP"] + r"\x", ""),
    ): True,
    RegistryValue(
        "HKLM",
        r"System\CurrentControlSet\Control\Session Manager",
        "PendingFileRenameOperations",
        "multi",
        (r"\??\C:\Program Files\x.dll", ""),
    ): False,
    UninstallEntry("x"): False,
}


@pytest.mark.parametrize(("thing", "temporary"), TEMPORARY.items(), ids=map(str, range(len(TEMPORARY))))
def test_what_is_temporary(thing: Any, temporary: bool) -> None:
    assert is_temporary(thing, ENVIRONMENT) is temporary


def session(folder: Path | None = None) -> Any:
    def host(path: str) -> Path:
        if folder is None:
            raise ValueError(path)
        return folder / path.rpartition("\\")[2]

    def read(path: str) -> bytes | None:
        return host(path).read_bytes() if host(path).is_file() else None

    return SimpleNamespace(surroundings=windows(), read=read)


def removals(command: str, install: str = '"setup.exe" /quiet', folder: Path | None = None, **entry: Any) -> list[str]:
    account = SimpleNamespace(silent=SimpleNamespace(uninstall=None))
    line = CommandLine(install, "to be tried", Evidence("run", "x"))
    effect = Effect("add", UninstallEntry("X", uninstall=command, **entry), "observed")
    return [found.command for found in verdicts.removals(account, line, [effect], session(folder))]  # type: ignore[arg-type]


def test_command_lines_that_may_remove(tmp_path: Path) -> None:
    assert removals("MsiExec.exe /I{6C1E0F0A-9F0D-4E0B-9E4B-0C2C5C2B6A01}") == [
        "msiexec /x {6C1E0F0A-9F0D-4E0B-9E4B-0C2C5C2B6A01} /qn /norestart"
    ]
    assert removals(r'"C:\x\remove.exe"')[0] == r'"C:\x\remove.exe" /quiet'
    assert removals(r"C:\Program Files\x\remove.exe /all")[0] == r'"C:\Program Files\x\remove.exe" /all /quiet'
    assert removals("x.exe", quiet_uninstall='"C:\\x\\remove.exe" /hush')[0] == '"C:\\x\\remove.exe" /hush'
    (tmp_path / "remove.exe").write_bytes(specimens.program(sections=[(".data", b"\0/unattended\0")]))
    assert removals(r'"C:\x\remove.exe"', '"setup.exe"', tmp_path)[0] == r'"C:\x\remove.exe" /unattended'
    engine = removals(r'RunDll32 C:\x\Ctor.dll,LaunchSetup "C:\Program Files\y\setup.exe" " -l0x9  -removeonly')
    assert engine == [
        r'"C:\Program Files\y\setup.exe" -l0x9 -removeonly /s /sms /f1"C:\Hand over\removal.iss" /f2"C:\Hand over\removal.log"'
    ]


def test_the_installers_place_is_put_into_its_command_line() -> None:
    assert (
        verdicts.placed('"setup.exe" /log "setup.exe.log"', "setup.exe")
        == r'"C:\Hand over\setup.exe" /log "setup.exe.log"'
    )


RANKED = ["/verysilent", "/silent", "--quiet", "/unattended", "/hidden", "/s", "/silentmode", "/place"]


def test_likely_switches_come_first() -> None:
    from yendo.installers import plain_exe

    shuffled = RANKED[::-1]
    shuffled.sort(key=plain_exe.rank)
    assert shuffled == RANKED
    data = specimens.program(
        sections=[
            (".rdata", b"\0/quiet\0http://a/silent\0C:/s\0 a/b\0"),
            (".data", "\0/ünattended --noui\0".encode("utf-16-le")),
        ]
    )
    from yendo.formats.pe import Image

    switches = plain_exe.texts(io.BytesIO(data), Image(io.BytesIO(data)))
    assert {"/quiet", "--noui"} <= set(switches) and not {"/silent", "/s", "/b"} & set(switches)


@given(
    some.lists(some.sampled_from(["/quiet", "/silent", "/help", "--version", "/S", "-x", "/not-quiet"]), unique=True)
)
def test_every_candidate_is_proposed_once(own: list[str]) -> None:
    from yendo.installers import plain_exe

    lines = [line.command for line in plain_exe.candidates("x.exe", dict.fromkeys(own, 0))]
    assert len({line.lower() for line in lines}) >= len(lines) - 2 and all(
        line.startswith('"x.exe" ') for line in lines
    )
    assert not any(noisy in " ".join(lines) for noisy in ("/help", "--version", "/not-quiet"))


# --- events ------------------------------------------------------------------------------------------------------------


class Still:
    """A screen on which nothing appears by itself."""

    def __init__(self, *appeared: Appeared) -> None:
        self.waiting = list(appeared)

    def appeared(self) -> list[Appeared]:
        found, self.waiting = self.waiting, []
        return found

    def picture(self, left: int, top: int, width: int, height: int) -> bytes | None:
        return b"a picture" if width > 10 else None


def coded(text: str) -> str:
    return text.encode().hex() or "-"


def test_events_become_windows_and_processes() -> None:
    watch = _Watch(Still(Appeared(1, "setup.exe", ""), Appeared(2, "flash.exe", "Gone at once")))  # type: ignore[arg-type]
    lines = [
        f"P 10 300 1 {coded('setup.exe')}", f"P 20 301 300 {coded('')}", f"P 30 301 300 {coded('flash.exe')}",
        f"W 100 7 300 5 6 400 300 {coded('Frame')} {coded('Setup – Tidewell')} {coded('Next' + chr(31) + 'Cancel')}",
        f"W 600 7 300 5 6 400 300 {coded('Frame')} {coded('Setup – Tidewell')} {coded('Finish')}",
        f"B 700 7 {coded('&Next >')}", "H 900 7", "D 950 301", "M 1000 3010", "D 1001 300", "E 1002",
    ]  # fmt: skip
    for line in lines:
        watch.event(line)
    watch.look()
    windows = watch.finish()
    assert (watch.exit_code, watch.first_ended, watch.ended) == (3010, 1.0, 1.002) and watch.pressed == ["&Next >"]
    assert [(found.title, found.texts, found.gone, found.picture) for found in windows if found.kind] == [
        ("Setup – Tidewell", ("Next", "Cancel", "Finish"), 0.9, b"a picture")
    ]
    assert [(found.program, found.title) for found in windows if not found.kind] == [("flash.exe", "Gone at once")]
    assert {(process.number, process.name, process.begun, process.ended) for process in watch.past} == {
        (300, "setup.exe", 0.01, 1.001),
        (301, "flash.exe", 0.02, 0.95),
    }


@given(some.text(max_size=60))
def test_any_line_of_output_is_survived(line: str) -> None:
    watch = _Watch(Still())  # type: ignore[arg-type]
    try:
        watch.event(line)
    except (ValueError, IndexError):
        pass  # what the reader of events passes over
    watch.finish()


def test_a_real_screen_tells_of_windows_and_gives_pictures() -> None:
    if not shutil.which("Xvfb"):
        missing("a virtual screen", "apt-get install xvfb")
    from PIL import Image as Pictures

    with layer.screen() as display:
        assert display
        with Screen(display) as screen:
            assert screen.picture(0, 0, 200, 100) is None  # nothing is drawn there
            x, root = screen.connection, screen.root
            number = x.generate_id()
            mask = screen._x.xproto.CW
            x.core.CreateWindow(
                root.root_depth, number, root.root, 20, 30, 100, 50, 0, 1, root.root_visual, mask.BackPixel, [0xCC2200]
            )
            x.core.ChangeProperty(0, number, 39, 31, 8, 5, b"Hello")
            x.core.MapWindowChecked(number).check()
            found = screen.appeared()
            assert [(entry.window, entry.title) for entry in found] == [(number, "Hello")] and screen.appeared() == []
            data = screen.picture(20, 30, 100, 50)
            assert data and Pictures.open(io.BytesIO(data)).getpixel((50, 25)) == (0xCC, 0x22, 0)
            assert screen.picture(-50, -50, 5000, 5000) and screen.picture(5000, 5000, 10, 10) is None
            x.core.DestroyWindowChecked(number).check()
            assert screen._text(number, 39) == ""


# --- refusals ------------------------------------------------------------------------------------------------------------


@pytest.mark.wine
def test_what_is_not_tried(yendo: Yendo, vendor: Path, tmp_path: Path) -> None:
    if not shutil.which("wine"):
        missing("wine", "apt-get install wine")
    assert "its silent switch is known" in yendo("try", vendor / "lantern-6.2.1.msi", expect=3).stderr
    assert "is no file" in yendo("try", "nowhere.exe", expect=2).stderr
    (tmp_path / "x.exe").write_bytes(specimens.program())
    assert "no workspace" in yendo("try", "x.exe", "--into", "here", expect=2).stderr
    assert "no length of time" in yendo("try", "x.exe", "--limit", "long", expect=2).stderr
    assert "records no answers" in yendo("try", "x.exe", "--record", expect=3).stderr


def test_without_a_layer_a_trial_says_how_to_get_one(yendo: Yendo, tmp_path: Path) -> None:
    (tmp_path / "x.exe").write_bytes(specimens.program())
    assert "apt-get install wine" in yendo("try", "x.exe", expect=4, environment={"PATH": "/nowhere"}).stderr


@pytest.mark.wine
def test_other_evidence_is_not_overwritten(yendo: Yendo, tmp_path: Path) -> None:
    if not shutil.which("wine"):
        missing("wine", "apt-get install wine")
    (tmp_path / "x.exe").write_bytes(specimens.program())
    (tmp_path / "keep").mkdir()
    (tmp_path / "keep" / "evidence.json").write_text('{"trial": {"runs": 7}}')
    assert "is not the evidence of a trial" in yendo("try", "x.exe", "--keep", "keep", expect=2).stderr
    assert json.loads((tmp_path / "keep" / "evidence.json").read_text()) == {"trial": {"runs": 7}}


def test_a_trial_is_one_object_for_scripts() -> None:
    found = trial.Trial(installer="x.exe", sha256="0", family="plain-exe", machine="m", account="user")
    assert (
        msgspec.convert(json.loads(msgspec.json.encode(found)), trial.Trial) == found and found.best("install") is None
    )
