"""Random plans with faults, carried out by both runners: the package's own on the API layer, and Yendo's interpreter.

Compared are the events, the exit codes, the journal, the record and what is on the machine in the end. What the layer
cannot do is played by both in the same way, and named here:

- a restart is the machine's start after exit code 1641 (the layer has nothing that starts a task then);
- a program's exit code is that of a command shell that is told to leave with it; on the simulated machine the same line
  is answered by ``Scripted``;
- a program over its time is an editor without a file (idle) or a loop that starts others (busy). The layer counts the
  asker's processor time for every process, so that time is left out of the runner's question;
- a cut is an end of the process in the function that writes the journal, once a line stands there: in a copy of the
  script with one line more, and on the simulated machine by an exception at that write.

Not injected, since neither machine has them: a clock that is set back, a full disk, a folder that may not be written.
"""

from __future__ import annotations

import contextlib
import random
import re
from pathlib import Path
from typing import Any

import msgspec

from yendo.effects import difference
from yendo.machines.protocol import Look, Ran
from yendo.machines.simulated.machine import SimulatedMachine, SimulatedSession
from yendo.package import build, carry
from yendo.package import manifest as form
from yendo.plan import read
from yendo.terms import events

FOLDER = r"C:\Hand over\random"
LOGS = r"C:\ProgramData\Yendo\logs\random"
STATE = r"C:\Program Files\Yendo\state\random"
HOME = r"C:\Random"
BUSY = "/c for /l %i in (1,1,100000) do @cmd /c exit"
IDLE = "kind = \"exe\"\nprogram = '%SystemRoot%\\System32\\notepad.exe'\n"
CODES = (0, 0, 0, 3010, 1641, 7, 1605, -1)
WHEN = {
    "yes": "",
    "no": 'when = { os = "<10" }\n',
    "later": 'when = { power = "battery" }\n',
    "rule": 'when = { holds = [{ kind = "registry", key = \'HKLM\\Software\\Random\', name = "a" }] }\n',
}


class Cut(BaseException):
    """The runner is ended."""


class Scripted(SimulatedSession):
    """Answers command shells as the layer does, and ends the runner once a line stands in the journal."""

    cut_at = ""

    def run(self, command: str, *, timeout: float, folder: str | None = None, patient: bool = False) -> Ran:
        if "notepad" in command:
            return Ran(None, "", timeout, (Look(False, ""),))
        match = re.search(r'(?i)cmd\.exe" (.*)$', command)
        if match is None:
            return super().run(command, timeout=timeout, folder=folder)
        if (code := re.search(r"exit (-?\d+)", match[1])) is not None:
            return Ran(int(code[1]) & 0xFFFFFFFF, "", 0.0)
        return Ran(None, "", timeout, (Look(True, ""), Look(True, "")))

    def write(self, path: str, data: bytes, *, private: bool = False) -> None:
        super().write(path, data, private=private)
        last = data.decode().split("\r\n")[-2] if path.endswith("journal.txt") else ""
        if self.cut_at and (last == self.cut_at or last.startswith(self.cut_at + "\t")):
            self.cut_at = ""
            raise Cut


class Fault(msgspec.Struct, frozen=True):
    """The run of ``verb`` is ended once this line stands in the journal; nothing where it is empty."""

    verb: str = ""
    line: str = ""


def plan_of(chance: random.Random) -> tuple[str, Fault]:
    """A plan, and what happens to it."""
    text = '[package]\nid = "random"\nname = "Random"\nversion = "1.2"\n'
    count = chance.randint(1, 6)
    for number in range(1, count + 1):
        step = _step(chance, number)
        # whether somebody is there after a restart is the machine's own answer, which differs
        while "restart" in text and '"tell"' in step:
            step = _step(chance, number)
        text += f"\n[[install]]\n{step}"
        text += f'on_failure = "{chance.choice(["stop", "stop", "undo", "go-on"])}"\n'
        text += WHEN[chance.choice(["yes"] * 8 + ["no", "later", "rule"])]
        if chance.random() < 0.12:
            text += f"unless = [{_rule(chance)}]\n"
        if chance.random() < 0.12:
            text += f"probe = [{_rule(chance)}]\nonce = {str(chance.random() < 0.5).lower()}\n"
        if chance.random() < 0.2:
            text += 'retries = 1\nretry_wait = "0.2 s"\n'
    text += "".join(f"\n[[detect]]\n{_detection(chance)}" for _ in range(chance.randint(1, 2)))
    fault = Fault()
    if chance.random() < 0.4:
        fault = Fault("install", f"{chance.choice(['step', 'done'])}\t{chance.randint(1, count)}")
    return text, fault


def _step(chance: random.Random, number: int) -> str:
    name = chance.choice("abc")
    key = r"HKLM\Software\Random" + chance.choice(["", r"\Inner\Deep"])
    target = chance.choice(["tree", r"tree\one.txt", "site.ini"])
    program = "kind = \"exe\"\nprogram = '%SystemRoot%\\System32\\cmd.exe'\n"
    return chance.choice(
        [
            f'kind = "registry"\nkey = \'{key}\'\nvalues = {{ {name} = {number}, same = "one" }}\n',
            f'kind = "registry"\nkey = \'{key}\'\ndelete = ["{name}"]\n',
            f'kind = "copy"\nfrom = "extras/tree"\nto = \'{HOME}\\tree\'\nmirror = {str(number % 2 == 0).lower()}\n',
            f"kind = \"delete\"\npath = '{HOME}\\{target}'\n",
            f"kind = \"delete\"\npath = '{HOME}\\{chance.choice(['tree', 'made', 'none'])}'\nonly_empty = true\n"
            f"empty_parents = {str(chance.random() < 0.5).lower()}\n",
            f'kind = "registry"\nkey = \'{key}\'\ndelete = ["{name}"]\nempty_key = true\n',
            f'kind = "edit"\nfile = \'{HOME}\\site.ini\'\nformat = "ini"\nset = {{ "tide/{name}" = {number} }}\n'
            f"make = {str(chance.random() < 0.7).lower()}\n",
            f'kind = "environment"\nname = "RANDOM_{name.upper()}"\nvalue = "{number}"\n',
            program + f"arguments = '/c exit {chance.choice(CODES)}'\n",
            program + f"arguments = '/c exit {chance.choice(CODES)}'\n",
            (IDLE if chance.random() < 0.5 else program + f"arguments = '{BUSY}'\n") + 'timeout = "5 s"\n'
            if chance.random() < 0.3
            else program + "arguments = '/c exit 0'\n",
            f'kind = "restart"\nwhere = "{chance.choice(["always", "asked"])}"\n',
            f'kind = "wait"\ntime = "{chance.choice(["0.1 s", "0.2 s"])}"\n',
            f'kind = "tell"\ntext = {{ en = "Step {number}" }}\n',
        ]
    )


def _rule(chance: random.Random) -> str:
    name = chance.choice("abc")
    return chance.choice(
        [
            f'{{ kind = "registry", key = \'HKLM\\Software\\Random\', name = "{name}" }}',
            f"{{ kind = \"file\", path = '{HOME}\\tree\\one.txt' }}",
        ]
    )


def _detection(chance: random.Random) -> str:
    return "\n".join(part.strip() for part in _rule(chance)[2:-2].split(", ")) + "\n"


def workspace(folder: Path, plan: str) -> Path:
    """The built package of a plan."""
    tree = folder / "extras" / "tree"
    (tree / "deep").mkdir(parents=True)
    (tree / "one.txt").write_text("one")
    (tree / "deep" / "two.txt").write_text("two")
    (folder / "plan.toml").write_text(plan)
    return build.build(folder, read(folder / "plan.toml")[0]).folder


class Course(msgspec.Struct):
    """What came of a plan: for each run its exit code and events, and in the end the journal, the record and the machine."""

    codes: list[int | None] = []
    told: list[list[str]] = []
    files: dict[str, str] = {}
    machine: list[str] = []


def seed(session: Any) -> None:
    """What was there before, so that there is something to put back."""
    session.make_folder(HOME)
    session.write(rf"{HOME}\site.ini", b"[tide]\r\na=before\r\n")


def _said(event: events.Event) -> str:
    if isinstance(event, events.CommandOverTime | events.CommandIdle | events.CommandTwiceOverTime):
        return event.name()  # how much it did differs by machine and by moment
    text = event.text.replace(r"C:\Windows", r"C:\windows")  # as the layer calls it
    return f"{event.name()} {re.sub(r'windows is [0-9.]+', 'windows is', text)}"


def _squeezed(told: tuple[events.Event, ...]) -> list[str]:
    """The events as texts; how often a busy program was looked at differs by machine, so once counts as often."""
    texts = [_said(event) for event in told if event.by == "both"]
    return [one for at, one in enumerate(texts) if at == 0 or one != texts[at - 1] or one != "command-over-time"]


def _left(session: Any, before: Any, course: Course, verb: str) -> None:
    for name in ("journal.txt", "record.txt"):
        data = session.read(rf"{STATE}\{name}")
        course.files[f"{verb}: {name}"] = (
            "" if data is None else re.sub(r"begin\t(\w+)\t\w+", r"begin\t\1", data.decode())
        )
    changed = difference(before, session.state())
    # what Yendo keeps of its own is compared by its content above; the copy of the package is the runner's alone
    own = re.compile(r"(?i)\\Yendo\b|Hand over|RunOnce|\\Temp\\")
    course.machine = sorted(str(effect) for effect in changed if not own.search(str(effect)))


def interpreted(made: Path, fault: Fault) -> Course:
    """By Yendo's own interpreter, on a simulated machine."""
    manifest = form.read(made)
    session = Scripted(SimulatedMachine().surroundings())
    session.bring(made, FOLDER)
    seed(session)
    before, course = session.state(), Course([], [], {}, [])
    for verb in ("install", "uninstall"):
        if fault.verb == verb:
            session.cut_at = fault.line
            with contextlib.suppress(Cut):
                carry.carry(manifest, made, session, verb, folder=FOLDER, sleep=lambda _: None)
            session.cut_at = ""
        _again(session, course, verb, lambda v: _carried(manifest, made, session, v))
        _left(session, before, course, verb)
    return course


def _carried(manifest: form.Manifest, made: Path, session: Any, verb: str) -> tuple[int, tuple[events.Event, ...]]:
    found = carry.carry(manifest, made, session, verb, folder=FOLDER, sleep=lambda _: None)
    return found.exit_code, found.events


def _again(session: Any, course: Course, verb: str, run: Any) -> None:
    """A verb to its end, through its restarts."""
    for _ in range(4):
        code, happened = run(verb)
        course.codes.append(code)
        course.told.append(_squeezed(happened))
        if code != 1641 or not _unfinished(session):
            break
        runs = _runs(session, verb)
        session.restart()
        if _runs(session, verb) != runs:  # what the layer starts after a restart has gone on already
            happened = events.read(session.read(rf"{LOGS}\{verb}.jsonl"))
            begun = max(at for at, event in enumerate(happened) if isinstance(event, events.RunBegan))
            course.codes.append(carry.code_of(happened[begun:]))
            course.told.append(_squeezed(happened[begun:]))
            if course.codes[-1] != 1641 or not _unfinished(session):
                break


def _runs(session: Any, verb: str) -> int:
    told = events.read(session.read(rf"{LOGS}\{verb}.jsonl") or b"")
    return sum(isinstance(event, events.RunBegan) for event in told)


def _unfinished(session: Any) -> bool:
    journal = carry.read_journal(session.read(rf"{STATE}\journal.txt"))
    return journal is not None and not journal.over


def real(made: Path, fault: Fault, session: Any) -> Course:
    """By the package's own runner, on the layer."""
    session.bring(made, FOLDER)
    _patched(session, "$one.TotalProcessorTime.TotalMilliseconds", "0")
    seed(session)
    before, course = session.state(), Course([], [], {}, [])
    for verb in ("install", "uninstall"):
        if fault.verb == verb:
            _killed(session, verb, fault.line)
        _again(session, course, verb, lambda v: _applied(session, v))
        _left(session, before, course, verb)
    return course


def _applied(session: Any, verb: str) -> tuple[int | None, tuple[events.Event, ...]]:
    log = rf"{LOGS}\{verb}.jsonl"
    before = session.read(log) or b""
    ran = session.run(f'cmd /s /c ""{FOLDER}\\apply.cmd" {verb}"', timeout=300)
    told = events.read_since(before, session.read(log) or b"")
    return None if ran.exit_code is None else _signed(ran.exit_code), told


def _signed(code: int) -> int:
    return code - (1 << 32) if code >= 1 << 31 else code


def _patched(session: Any, old: str, new: str) -> bytes:
    """Puts a stand-in into the runner's script; returns the script as it was."""
    path = rf"{FOLDER}\apply.ps1"
    whole: bytes = session.read(path)
    text = whole.decode("utf-8-sig")
    assert old in text
    session.write(path, b"\xef\xbb\xbf" + text.replace(old, new).encode())
    return whole


def _killed(session: Any, verb: str, line: str) -> None:
    """The runner, ended once a line stands in the journal; to its end where that line never comes."""
    wanted = line.replace("\t", "`t")
    ends = (
        "function Add-Line([string]$Path, [string]$Text) {\n    try { Add-Line-Whole $Path $Text } finally {\n"
        f'        if ($Path.EndsWith("journal.txt") -and (($Text -eq "{wanted}") -or $Text.StartsWith("{wanted}`t"))) {{\n'
        "            [Diagnostics.Process]::GetCurrentProcess().Kill(); [Threading.Thread]::Sleep(10000) }\n    }\n}\n"
    )
    head = "function Add-Line([string]$Path, [string]$Text) {"
    rest = "function Add-Line-Whole([string]$Path, [string]$Text) {"
    whole = _patched(session, head, ends.replace("\n", "\r\n") + rest)
    session.run(f'cmd /s /c ""{FOLDER}\\apply.cmd" {verb}"', timeout=300)
    session.write(rf"{FOLDER}\apply.ps1", whole)


def compared(one: Course, other: Course) -> list[str]:
    """Every difference, in words."""
    found = []
    if one.codes != other.codes:
        found.append(f"exit codes: {one.codes} and {other.codes}")
    for number, (left, right) in enumerate(zip(one.told, other.told, strict=False), 1):
        if left != right:
            at = next((at for at, pair in enumerate(zip(left, right, strict=False)) if pair[0] != pair[1]), -1)
            where = at if at >= 0 else min(len(left), len(right))
            found.append(f"run {number}, event {where + 1}: {left[where : where + 2]} and {right[where : where + 2]}")
    for name in sorted(one.files.keys() | other.files.keys()):
        if one.files.get(name) != other.files.get(name):
            found.append(f"{name}: {one.files.get(name)!r} and {other.files.get(name)!r}")
    if one.machine != other.machine:
        found.append(f"machine: {one.machine} and {other.machine}")
    return found


def main(count: int, first: int, folder: Path, machine: Any) -> list[str]:
    """Carries out that many plans by both; returns every difference that comes twice, with its plan."""
    wrong = []
    for number in range(first, first + count):
        plan, fault = plan_of(random.Random(number))
        made = workspace(folder / str(number), plan)
        simulated = interpreted(made, fault)
        found: list[str] = []
        for _ in range(
            2
        ):  # on a machine that is busy with something else a program is not idle in time: that is no rule
            with machine.fresh() as session:
                applied = real(made, fault, session)
            found = compared(simulated, applied)
            if not found:
                break
        if found:
            wrong.append(f"plan {number}, {fault}:\n{plan}\n" + "\n".join(found))
    return wrong
