"""The real runner where something is in the way: a restart in the middle, a second start, people, folders that cannot be written, a locked shell."""

from __future__ import annotations

import re
import shutil
import subprocess
import threading
import time
from pathlib import Path
from typing import Any

import pytest
from test_steps import put_stand_ins

from yendo.effects import difference
from yendo.package import build, carry
from yendo.package import manifest as form
from yendo.plan import read
from yendo.steps.host import STEP_FAILED, TIMED_OUT

pytestmark = pytest.mark.wine
FOLDER = r"C:\Hand over\tide"
ROOM = r"C:\Program Files\Yendo\state\tide"
HEAD = '[package]\nid = "tide"\nname = "Tide"\nversion = "1.5"\npublisher = "Tidewell"\n'
COPY = '[[install]]\nkind = "copy"\nfrom = "extras/a.txt"\nto = \'C:\\Tide\\a.txt\'\n'
VALUE = "[[install]]\nkind = \"registry\"\nkey = 'HKLM\\Software\\Tide'\nvalues = { a = 1 }\n"


def started(words: str, folder: str = FOLDER) -> str:
    return f'cmd /s /c ""{folder}\\apply.cmd" {words}"'


def package(folder: Path, plan: str, identifier: str = "tide", files: dict[str, bytes] = {}) -> Path:
    (folder / "extras").mkdir(parents=True, exist_ok=True)
    for name, data in files.items():
        (folder / "extras" / name).write_bytes(data)
    (folder / "extras" / "a.txt").write_text("a")
    (folder / "plan.toml").write_text(
        HEAD.replace('"tide"', f'"{identifier}"') if "[package]" not in plan else "", "utf-8"
    )
    with (folder / "plan.toml").open("a") as file:
        file.write(plan)
    return build.build(folder, read(folder / "plan.toml")[0]).folder


def test_a_restart_in_the_middle(tmp_path: Path, shell_wine: Any) -> None:
    """The runner asks for the restart, leaves, is started again by what it has left behind, and that trace is gone in the end."""
    made = package(tmp_path, COPY + '[[install]]\nkind = "restart"\nwhere = "always"\nnotice = "1 min"\n' + VALUE)
    with shell_wine.fresh() as real:
        real.bring(made, FOLDER)
        ran = real.run(started("install"), timeout=120)
        assert ran.exit_code == 1641 and "restarting the machine, and going on after it" in ran.output
        assert "step 3" not in ran.output and "it goes on when a session starts" in ran.output
        assert real.run(f'cmd /c rd /s /q "{FOLDER}"', timeout=60).exit_code == 0  # the management system cleans up
        real.restart()
        log = (real.read(r"C:\ProgramData\Yendo\logs\tide\install.log") or b"").decode()
        assert "going on with an unfinished install: 2 steps are done" in log and log.rstrip().endswith(
            "done with 0"
        ), log
        assert log.count("placed: C:\\Tide\\a.txt") == 1
        lines = (real.read(r"C:\ProgramData\Yendo\logs\tide\install.jsonl") or b"").decode().splitlines()
        assert len(lines) == len(log.splitlines())
        state = real.state()
        assert state.get("registry", "hklm/64\\software\\tide!a") and not [
            thing for thing in state.of("registry") if "runonce" in thing.identity
        ]
        # repair and uninstall by what was kept on the machine
        kept = r"C:\Program Files\Yendo\packages\tide"
        ran = real.run(started("status", kept), timeout=60)
        assert "package: tide" in ran.output and "computer: " in ran.output
        assert "installed: version 1.5" in ran.output and "recorded changes: 4" in ran.output, ran.output
        ran = real.run(started("uninstall", kept), timeout=60)
        assert ran.exit_code == 0, ran.output
        assert real.read(r"C:\Tide\a.txt") is None and not real.has_folder(ROOM)


def test_started_by_a_narrow_parent(tmp_path: Path, shell_wine: Any) -> None:
    """A 32-bit agent's command shell, and a 32-bit shell host: both end in the 64-bit one, and so in its halves of disk and registry."""
    made = package(tmp_path, COPY.replace(r"C:\Tide", r"%ProgramFiles%\Tide") + VALUE)
    with shell_wine.fresh() as real:
        real.bring(made, FOLDER)
        narrow = r"C:\windows\syswow64\cmd.exe"
        if real.run(f"{narrow} /c exit 7", timeout=60).exit_code != 7:
            pytest.skip("the layer runs only 64-bit programs")
        ran = real.run(
            f'{narrow} /s /c "echo %PROCESSOR_ARCHITECTURE% {FOLDER[:2]} & "{FOLDER}\\apply.cmd" install"', timeout=120
        )
        assert ran.exit_code == 0 and "x86 C:" in ran.output, ran
        state = real.state()
        assert state.get("file", r"c:\program files\tide\a.txt") and state.get("registry", "hklm/64\\software\\tide!a")
        # there is no 32-bit shell host for the layer, so the one there is takes its part, once
        script = (made / "apply.ps1").read_text("utf-8-sig")
        asked, other = "(-not [Environment]::Is64BitProcess)", "Sysnative"
        assert script.count(asked) == 1 and script.count(other) == 3  # twice in the doorway that it carries
        script = script.replace(asked, "(-not $env:YENDO_ONCE)").replace(other, "System32")
        script = script.replace(
            "    $other.WaitForExit()", "    $other.WaitForExit(); [Console]::WriteLine('the other ended')"
        )
        script = script.replace(
            "    [Diagnostics.Process]$other", "    $env:YENDO_ONCE = '1'; [Diagnostics.Process]$other"
        )
        real.write(FOLDER + r"\apply.ps1", script.encode("utf-8-sig"))
        ran = real.run(started("uninstall -WhatIf"), timeout=120)
        assert ran.exit_code == 0 and "would" in ran.output and ran.output.count("the other ended") == 1, ran
        ran = real.run(started("uninstall"), timeout=120)
        assert (
            ran.exit_code == 0
            and ran.output.count("the other ended") == 1
            and real.read(r"C:\Program Files\Tide\a.txt") is None
        ), ran


def test_a_second_start_and_a_log_that_cannot_be_written(tmp_path: Path, shell_wine: Any) -> None:
    made = package(tmp_path, '[log]\nfolder = \'C:\\blocked\'\n[[install]]\nkind = "wait"\ntime = "6 s"\n' + COPY)
    with shell_wine.fresh() as real:
        real.bring(made, FOLDER)
        real.write(r"C:\blocked", b"a file where the log's folder should be")
        ran = real.run(started("install"), timeout=60)
        assert ran.exit_code == form.NO_LOG and "the log cannot be written" in ran.output
        real.remove(r"C:\blocked")
        first: list[Any] = []
        runner = threading.Thread(target=lambda: first.append(real.run(started("install"), timeout=60)))
        runner.start()
        time.sleep(3)
        assert real.run(started("install"), timeout=60).exit_code == form.RUNNING
        runner.join()
        assert first[0].exit_code == 0
        # a lock that a killed run left behind is none
        assert real.run(started("install"), timeout=60).exit_code == 0


def test_what_it_would_do_and_a_locked_shell(tmp_path: Path, shell_wine: Any) -> None:
    made = package(
        tmp_path,
        COPY
        + VALUE
        + 'when = { os = "<10" }\n'
        + "[[install]]\nkind = \"exe\"\nprogram = 'C:\\windows\\system32\\hostname.exe'\n",
    )
    with shell_wine.fresh() as real:
        real.bring(made, FOLDER)
        before = real.state()
        ran = real.run(started("install -WhatIf"), timeout=60)
        words = (
            "step 1, would carry out: place",
            "step 2, would pass over (windows is 10.",
            "step 3, would carry out",
            r'"C:\windows\system32\hostname.exe"',
        )
        assert ran.exit_code == 0 and all(word in ran.output for word in words), ran.output
        real.write(
            r"C:\locked.ps1",
            b"$ExecutionContext.SessionState.LanguageMode = 'ConstrainedLanguage'\r\n& 'C:\\Hand over\\tide\\apply.ps1' install\r\nexit $LASTEXITCODE\r\n",
        )
        ran = real.run(r"powershell -NoProfile -File C:\locked.ps1", timeout=60)
        assert ran.exit_code == form.RESTRICTED and "signed" in ran.output, ran
        assert [effect for effect in difference(before, real.state()) if "locked" not in str(effect)] == []


@pytest.mark.parametrize(
    ("program", "arguments", "code", "words"),
    [
        (
            r"WindowsPowerShell\v1.0\powershell.exe",
            '-NoProfile -Command "[Threading.Thread]::Sleep(60000)"',
            TIMED_OUT,
            "stopped: ",
        ),
        ("cmd.exe", '/d /c "for /l %i in (1,1,4) do ping -n 2 127.0.0.1 >nul"', 0, "over its time and still busy"),
    ],
)
def test_a_step_over_its_time_is_judged_by_what_it_does(
    tmp_path: Path, shell_wine: Any, program: str, arguments: str, code: int, words: str
) -> None:
    """The layer counts the asker's processor time for everybody, so only the coming and going of children can be told from hanging here."""
    step = f"[[install]]\nkind = \"exe\"\nprogram = 'C:\\windows\\system32\\{program}'\narguments = '{arguments}'\ntimeout = \"3 s\"\n"
    made = package(tmp_path, step)
    with shell_wine.fresh() as real:
        real.bring(made, FOLDER)
        begun = time.monotonic()
        ran = real.run(started("install"), timeout=120)
        assert ran.exit_code == code and words in ran.output and "ms of processor time" in ran.output, ran
        assert time.monotonic() - begun < 40
        assert len([name for _, name in real.prefix.processes() if name.lower().startswith("powershell")]) == 0


def test_prerequisites_are_brought_counted_and_taken_away(tmp_path: Path, shell_wine: Any) -> None:
    """Two packages need a third: the first brings it, the last takes it away, and it cannot be removed in between."""
    inner = package(
        tmp_path / "runtime",
        COPY.replace(r"C:\Tide\a.txt", r"C:\Runtime\a.txt")
        + "[[detect]]\nkind = \"file\"\npath = 'C:\\Runtime\\a.txt'\n",
        "runtime",
    )
    need = '[[need]]\npackage = "runtime"\nversion = ">=1.5"\nfrom = "extras/runtime"\nremove = true\n'
    both = []
    for name in ("tide", "lamp"):
        folder = tmp_path / name
        (folder / "extras").mkdir(parents=True)
        shutil.copytree(inner, folder / "extras" / "runtime")
        both.append(package(folder, need + COPY.replace("Tide", name), name))
    with shell_wine.fresh() as real:
        real.bring(inner, r"C:\Hand over\runtime")
        for name, made in zip(("tide", "lamp"), both, strict=True):
            real.bring(made, rf"C:\Hand over\{name}")
        before = real.state()
        steps = [
            ("tide", "install", 0, "runtime: exit code 0"),
            ("lamp", "install", 0, ""),
            ("runtime", "uninstall", form.NEEDED, "needed by lamp, tide"),
            ("tide", "uninstall", 0, ""),
            ("lamp", "uninstall", 0, "nobody needs it any more, exit code 0"),
        ]
        for name, verb, code, words in steps:
            ran = real.run(started(verb, rf"C:\Hand over\{name}"), timeout=120)
            assert ran.exit_code == code and words in ran.output, (name, verb, ran)
            assert (real.read(r"C:\Runtime\a.txt") is not None) == ((name, verb) != ("lamp", "uninstall"))
        left = [str(effect) for effect in difference(before, real.state()) if "yendo" not in effect.thing.identity]
        assert left == []


def test_a_failure_is_undone_and_a_retry_helps(tmp_path: Path, shell_wine: Any) -> None:
    edit = '[[install]]\nkind = "edit"\nfile = \'C:\\Tide\\never.ini\'\nformat = "ini"\nset = { "a/b" = 1 }\nretries = 2\nretry_wait = "1 s"\non_failure = "undo"\n'
    made = package(tmp_path, VALUE + COPY + edit)
    with shell_wine.fresh() as real:
        real.bring(made, FOLDER)
        before = real.state()
        ran = real.run(started("install"), timeout=60)
        assert (
            ran.exit_code == STEP_FAILED
            and ran.output.count("trying again after") == 2
            and "undoing what this run has done" in ran.output
        )
        assert "trying again after 2 seconds, 2 of 2" in ran.output
        assert [
            str(effect) for effect in difference(before, real.state()) if "yendo" not in effect.thing.identity
        ] == []
        # the file appears while the runner waits
        (real.host("C:\\") / "later.bat").write_text(
            "ping -n 3 127.0.0.1 >nul\r\nmkdir C:\\Tide\r\necho [a]>C:\\Tide\\never.ini\r\n", newline=""
        )
        ran = real.run(r"start /b cmd /c C:\later.bat & " + started("install"), timeout=60)
        journal = carry.read_journal(real.read(ROOM + r"\journal.txt"))
        assert journal is not None and journal.over and "edited: C:\\Tide\\never.ini" in ran.output, ran


def test_a_person_postpones_once_and_then_agrees(tmp_path: Path, shell_wine: Any) -> None:
    """A real message on the screen, answered by a real key."""
    plan = (
        '[in_the_way]\nprogress = true\nprograms = ["notepad.exe"]\nask = true\npostpone = 2\nwait = "20 s"\n[in_the_way.text]\nen = "The tide tables are renewed."\n'
        + COPY
    )
    made = package(tmp_path, plan)
    with shell_wine.fresh() as real:
        real.bring(made, FOLDER)
        press = Path(tmp_path / "press.bat")
        press.write_text(
            'start "" notepad\r\nping -n 4 127.0.0.1 >nul\r\n' + started("install") + "\r\necho first=%errorlevel%\r\n",
            newline="",
        )
        answers = [press_button(real, 2), press_button(real, 1)]
        for wanted, said in zip(answers, ("postponed by the person, times left: 1", "the person agrees"), strict=True):
            helper = threading.Thread(target=wanted)
            helper.start()
            real.write(r"C:\press.bat", press.read_bytes())
            ran = real.run(r"call C:\press.bat", timeout=120)
            helper.join()
            assert said in ran.output, ran.output
            postponed = re.search(r"first=(\d+)", ran.output)
            assert postponed and int(postponed[1]) == (form.POSTPONED if "postponed" in said else 0), ran.output
        assert "progress is shown" in ran.output and "cannot be shown" not in ran.output, ran.output
        assert real.read(ROOM + r"\postponed.txt") is not None and real.read(r"C:\Tide\a.txt") == b"a"
        # once more would be allowed, but not by whoever starts it
        for less in (" -PutOffs 1", " -Until 2020-01-01T00:00"):
            real.write(r"C:\press.bat", press.read_bytes().replace(b" install", b" install" + less.encode()))
            ran = real.run(r"call C:\press.bat", timeout=120)
            assert "it cannot be postponed any more" in ran.output and "first=0" in ran.output, ran.output
        ran = real.run(started("install -Until tomorrow"), timeout=60)
        assert ran.exit_code == form.WRONG_USE and "-Until a time like" in ran.output


def press_button(real: Any, number: int) -> Any:
    """Waits until the message is on the screen and presses one of its buttons with a small program."""
    script = (
        "$name = [Reflection.AssemblyName]::new('Press'); $a = [Reflection.Emit.AssemblyBuilder]::DefineDynamicAssembly($name, 'Run')\r\n"
        "$t = $a.DefineDynamicModule('Press').DefineType('Press', 'Public, Class')\r\n"
        "foreach ($r in @(@('FindWindowW', [IntPtr], @([string], [string])), @('PostMessageW', [int], @([IntPtr], [int], [IntPtr], [IntPtr])))) {"
        " $m = $t.DefinePInvokeMethod($r[0], 'user32.dll', 'Public, Static, PinvokeImpl', 'Standard', $r[1], [Type[]]$r[2], 'Winapi', 'Unicode'); $m.SetImplementationFlags('PreserveSig') }\r\n"
        "$p = $t.CreateType()\r\n"
        "for ($i = 0; $i -lt 100; $i++) { $w = $p::FindWindowW([NullString]::Value, 'Tidewell'); if ($w -ne [IntPtr]::Zero) { [Threading.Thread]::Sleep(500);"
        f" [void]$p::PostMessageW($w, 273, [IntPtr]{number}, [IntPtr]::Zero); exit 0 }}; [Threading.Thread]::Sleep(200) }}\r\nexit 1\r\n"
    )

    def press() -> None:
        (real.host("C:\\") / f"press{number}.ps1").write_text(script, newline="")
        real.run(rf"powershell -NoProfile -File C:\press{number}.ps1", timeout=60)

    return press


def test_a_step_in_the_persons_own_session(tmp_path: Path, shell_wine: Any, stand_in: Path) -> None:
    """As the system account would: by a task, here with a stand-in of the scheduler that starts what the task says."""
    step = '[[install]]\nkind = "exe"\nprogram = \'C:\\windows\\system32\\cmd.exe\'\narguments = \'/d /c exit 5\'\nrun_as = "person"\ntimeout = "20 s"\ncodes = { "5" = "done" }\n'
    made = package(tmp_path, step)
    script = made / "apply.ps1"
    script.write_bytes(
        script.read_bytes().replace(
            b"return [Security.Principal.WindowsIdentity]::GetCurrent().IsSystem", b"return $true"
        )
    )
    with shell_wine.fresh() as real:
        real.bring(made, FOLDER)
        put_stand_ins(real, stand_in, ("schtasks", "icacls"))
        ran = real.run(started("install"), timeout=60)
        assert ran.exit_code == 0 and "exit code 5: done" in ran.output, ran
        calls = (real.read(r"C:\standin.log") or b"").decode()
        # what runs as the system account later lies where nobody else can write: a home of its own, before anything else
        assert "/setowner" not in calls and real.host(r"C:\Program Files\Yendo").stat().st_mode & 0o022 == 0, calls
        assert "/grant *S-1-5-4:(OI)(CI)M" in calls
        assert (
            all(word in calls for word in ("/create /tn", "/run /tn", "/delete /tn"))
            and real.read(ROOM + r"\person.cmd") is None
        )


def test_what_cannot_be_done_is_said_and_nothing_is_half_recorded(tmp_path: Path, shell_wine: Any) -> None:
    """A file that somebody has open, a service that never starts, a medium that has changed, a path longer than usual."""
    deep = "\\".join(["a folder with a long name indeed"] * 9)
    lasting = '[[install]]\nkind = "copy"\nfrom = "extras/a.txt"\nto = \'C:\\DEEP\\a.txt\'\n'.replace("DEEP", deep)
    service = '[[install]]\nkind = "service"\nname = "Never"\nchange = "create"\nprogram = \'C:\\nowhere\\never.exe\'\n[[install]]\nkind = "service"\nname = "Never"\nchange = "start"\ntimeout = "3 s"\non_failure = "undo"\n'
    with shell_wine.fresh() as real:
        before = real.state()
        for name, plan, code, words in (
            ("long", lasting, 0, "placed: "),
            ("never", service, None, "undoing what this run has done"),
            ("locked", COPY, STEP_FAILED, "step 1 failed: "),
        ):
            folder = rf"C:\Hand over\{name}"
            real.bring(package(tmp_path / name, plan, name), folder)
            if name == "locked":
                real.make_folder(r"C:\Tide")
                real.write(r"C:\Tide\a.txt", b"old")
                real.write(
                    r"C:\hold.ps1",
                    b"$f = [IO.File]::Open('C:\\Tide\\a.txt', 'Open', 'Read', 'None'); [IO.File]::WriteAllText('C:\\held', ''); [Threading.Thread]::Sleep(20000)\r\n",
                )
                real.write(
                    r"C:\both.bat",
                    f"start /b powershell -NoProfile -File C:\\hold.ps1\r\n:wait\r\nif not exist C:\\held ping -n 2 127.0.0.1 >nul & goto wait\r\n{started('install', folder)}\r\n".encode(),
                )
                ran = real.run(r"cmd /s /c C:\both.bat", timeout=60)
                assert (
                    words in ran.output
                    and f"ended with {code} in step 1" in ran.output
                    and real.read(r"C:\Tide\a.txt") == b"old"
                ), ran
                continue
            ran = real.run(started("install", folder), timeout=90)
            assert (ran.exit_code == code if code is not None else ran.exit_code != 0) and words in ran.output, (
                name,
                ran,
            )
            if name == "long":
                assert real.run(started("uninstall", folder), timeout=60).exit_code == 0
            left = [str(effect) for effect in difference(before, real.state()) if "yendo" not in effect.thing.identity]
            assert left == [], (name, left)


def test_who_has_a_file_open_is_asked_of_the_system(tmp_path: Path, shell_wine: Any) -> None:
    """By the system's own list: on the layer it is always empty, so that nobody is closed who is not known to be in the way."""
    made = package(tmp_path, "[in_the_way]\nin_use = ['C:\\Tide\\a.txt']\n" + COPY)
    with shell_wine.fresh() as real:
        real.bring(made, FOLDER)
        ran = real.run(started("install"), timeout=60)
        assert ran.exit_code == 0 and "who has files open is not known" not in ran.output, ran.output
        ran = real.run(started("install"), timeout=60)
        assert (
            ran.exit_code == 0 and "already there" in ran.output and "who has files open is not known" not in ran.output
        ), ran.output


def test_a_full_disk(tmp_path: Path, shell_wine: Any) -> None:
    """The file that does not fit is not there by half, and what was there stays."""
    made = package(
        tmp_path,
        COPY.replace(r"C:\Tide", r"C:\small") + COPY.replace("a.txt", "large.bin").replace(r"C:\Tide", r"C:\small"),
        files={"large.bin": bytes(400_000)},
    )
    script = made / "apply.ps1"
    # the layer shows another disk in a folder as a link, and such links are refused; Windows tells the two apart
    script.write_bytes(
        script.read_bytes().replace(
            b"function Test-Link([string]$Path) {", b"function Test-Link([string]$Path) {\r\n    return $false"
        )
    )
    with shell_wine.fresh() as real:
        real.bring(made, FOLDER)
        real.make_folder(r"C:\small")
        small = str(real.host(r"C:\small"))

        def inside(*command: str) -> str:
            """A command of this system among the files that the run sees."""
            enter = ["nsenter", f"--target={real.box.init}", "--user", "--mount", "--preserve-credentials", "--wd=/"]
            return subprocess.run([*enter, *command], check=True, capture_output=True, text=True).stdout

        inside("mount", "-t", "tmpfs", "-o", "size=64k", "tmpfs", small)
        ran = real.run(started("install"), timeout=60)
        assert ran.exit_code == STEP_FAILED and "step 2 failed: " in ran.output, ran
        assert inside("ls", small).split() == ["a.txt"]
        assert real.run(started("uninstall"), timeout=60).exit_code == 0 and not inside("ls", small)


def test_a_value_for_every_user(tmp_path: Path, shell_wine: Any) -> None:
    """Set in the hive of everybody who has one, and taken back from there."""
    step = '[[install]]\nkind = "registry"\nkey = \'HKCU\\Software\\Tide\\Reader\'\nvalues = { Unit = "metre" }\neach_user = true\n'
    made = package(tmp_path, step)
    with shell_wine.fresh() as real:
        real.bring(made, FOLDER)
        before = real.state()
        ran = real.run(started("install"), timeout=60)
        assert ran.exit_code == 0 and re.search(
            r"set: HKU\\S-1-5-21-[0-9-]+\\Software\\Tide\\Reader\\Unit", ran.output
        ), ran.output
        assert real.state().get("registry", "hkcu/64\\software\\tide\\reader!unit")
        assert real.run(started("uninstall"), timeout=60).exit_code == 0
        assert [
            str(effect) for effect in difference(before, real.state()) if "yendo" not in effect.thing.identity
        ] == []
