"""Random plans with faults, carried out by both runners: the package's own on the API layer, and Yendo's interpreter.

Compared are the events, the exit codes, the journal, the record and what is on the machine in the end. What the layer
cannot do is played by both in the same way, and named here:

- a restart is the machine's start after exit code 1641 (the layer has nothing that starts a task then);
- a program's exit code is that of a command shell that is told to leave with it; on the simulated machine the same line
  is answered by ``Scripted``;
- a program over its time is an editor without a file (idle) or a loop that starts others (busy). The layer counts the
  asker's processor time for every process, so that time is left out of the runner's question;
- a cut is an end of the process in the function that writes the journal, once a line stands there: in a copy of the
  script with one line more, and on the simulated machine by an exception at that write;
- a full disk, a file that is held open, a key that may not be written: in the runner's functions that write a file,
  take one away or set a value, by a call that fails as the system's does, once or each time; on the simulated machine
  by an error where it does the same.

People who put it off, clocks that are set back and forward, and a program that does not close have random sequences of
runs of their own (``people``): the layer's person is a stand-in for the message, its clock one for the time that the
runner asks for; the program is real there.
"""

from __future__ import annotations

import contextlib
import random
import re
from datetime import datetime, timedelta
from pathlib import Path
from typing import Any

import msgspec

from yendo.effects import IniValue, difference
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
REFUSED = "it cannot be done here"
# What can be refused, and what a plan says that does it.
WRITES = {
    "file one.txt": "extras/tree",
    "file two.txt": "extras/tree",
    "file site.ini": 'format = "ini"',
    "removal one.txt": "tree",
    "removal site.ini": "site.ini'\n",
    "value a": "a = ",
    "value same": "same = ",
}
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
    refused, times = "", 0  # what cannot be done, and how often in a run

    def meets(self, what: str, path: str) -> None:
        """Raises OSError where this is what cannot be done."""
        if path.lower().startswith(HOME.lower() + "\\"):
            self.meets_named(f"{what} {path.rpartition(chr(92))[2]}")

    def meets_named(self, what: str) -> None:
        if self.times and what.lower() == self.refused.lower():
            self.times -= 1
            raise OSError(REFUSED)

    def place(self, path: str, source: Path, sha256: str) -> None:
        self.meets("file", path)
        super().place(path, source, sha256)

    def remove(self, path: str) -> bool:
        if self.read(path) is not None:
            self.meets("removal", path)
        return super().remove(path)

    def set_value(self, hive: str, view: str, key: str, name: str, value: Any) -> None:
        self.meets_named(f"value {name}")
        super().set_value(hive, view, key, name, value)

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
        self.meets("file", path)
        super().write(path, data, private=private)
        last = data.decode().split("\r\n")[-2] if path.endswith("journal.txt") else ""
        if self.cut_at and (last == self.cut_at or last.startswith(self.cut_at + "\t")):
            self.cut_at = ""
            raise Cut


class Fault(msgspec.Struct, frozen=True):
    """The run of ``verb`` is ended once this line stands in the journal; nothing where it is empty. ``refused`` cannot
    be done, that many ``times`` in each run.
    """

    verb: str = ""
    line: str = ""
    refused: str = ""
    times: int = 0


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
    met = [what for what, told in WRITES.items() if told in text]
    if met and chance.random() < 0.6:
        fault = msgspec.structs.replace(fault, refused=chance.choice(met), times=chance.choice((1, 1, 99)))
    if 'on_failure = "undo"' in text and chance.random() < 0.3:
        fault = msgspec.structs.replace(fault, verb="install", line="undo")
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
    # the values of an ini file are told by its whole content: one machine has values of a file that somebody deleted
    course.machine = sorted(
        str(effect) for effect in changed if not own.search(str(effect)) and not isinstance(effect.thing, IniValue)
    )
    course.files[f"{verb}: site.ini"] = (session.read(rf"{HOME}\site.ini") or b"").decode()


def interpreted(made: Path, fault: Fault) -> Course:
    """By Yendo's own interpreter, on a simulated machine."""
    manifest = form.read(made)
    session = Scripted(SimulatedMachine().surroundings())
    session.bring(made, FOLDER)
    seed(session)
    session.refused = fault.refused
    before, course = session.state(), Course([], [], {}, [])
    for verb in ("install", "uninstall"):
        if fault.verb == verb:
            session.cut_at = fault.line
            with contextlib.suppress(Cut):
                _carried(manifest, made, session, verb, fault)
            session.cut_at = ""
        _again(session, course, verb, lambda v: _carried(manifest, made, session, v, fault))
        session.times = 0
        _left(session, before, course, verb)
    return course


def _carried(
    manifest: form.Manifest, made: Path, session: Scripted, verb: str, fault: Fault
) -> tuple[int, tuple[events.Event, ...]]:
    session.times = fault.times
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
    if fault.refused:
        _refusing(session, fault)
    seed(session)
    before, course = session.state(), Course([], [], {}, [])
    for verb in ("install", "uninstall"):
        if fault.verb == verb:
            _killed(session, verb, fault.line)
        _again(session, course, verb, lambda v: _applied(session, v))
        _left(session, before, course, verb)
    return course


def _applied(session: Any, verb: str, line: str = "") -> tuple[int | None, tuple[events.Event, ...]]:
    """What a run of the runner came to; ``line`` starts it in another way."""
    log = rf"{LOGS}\{verb}.jsonl"
    before = session.read(log) or b""
    ran = session.run(line or f'cmd /s /c ""{FOLDER}\\apply.cmd" {verb}"', timeout=300)
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


def _refusing(session: Any, fault: Fault) -> None:
    """A runner that cannot do one thing: a call that fails in the functions that do such things."""
    head = "function Set-Value([string]$Hive, [string]$View, [string]$Key, [string]$Name, [string]$Value) {"
    meets = (
        "$Refusals = 0\r\nfunction Test-Refused([string]$What) {\r\n"
        f"    if (($What -eq '{fault.refused}') -and ($script:Refusals -lt {fault.times})) {{\r\n"
        f"        $script:Refusals++; throw [IO.IOException]::new('{REFUSED}') }}\r\n}}\r\n"
        "function Test-Place([string]$What, [string]$Path) {\r\n"
        f"    if ($Path.ToLowerInvariant().StartsWith('{HOME.lower()}\\')) {{ Test-Refused ($What + ' ' + [IO.Path]::GetFileName($Path)) }}\r\n}}\r\n"
    )
    for old, new in (
        (head, meets + head + " Test-Refused ('value ' + $Name)"),
        ("try { [IO.File]::Copy($From, $beside", "try { Test-Place 'file' $Path; [IO.File]::Copy($From, $beside"),
        ("try { [IO.File]::WriteAllBytes($beside", "try { Test-Place 'file' $Path; [IO.File]::WriteAllBytes($beside"),
        (
            "if ($Keep) { Add-Record 'X' (Save-Old $Path) $Path }",
            "if ($Keep) { Add-Record 'X' (Save-Old $Path) $Path }; Test-Place 'removal' $Path",
        ),
        (
            "if ($Old -eq '-') { [IO.File]::Delete($Path)",
            "if ($Old -eq '-') { Test-Place 'removal' $Path; [IO.File]::Delete($Path)",
        ),
        (
            "[IO.File]::Copy([IO.Path]::Combine($Room, 'kept', $Name), $beside",
            "Test-Place 'file' $Path; [IO.File]::Copy([IO.Path]::Combine($Room, 'kept', $Name), $beside",
        ),
    ):
        _patched(session, old, new)


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


# --- people and clocks ----------------------------------------------------------------------------------------------

AGREED, PUT_OFF = 1, 2  # what the message of the system answers
NOW = rf"{HOME}-now.txt"


class Sitting(msgspec.Struct, frozen=True):
    """One run: the clock of then, whether a program is open that does not close, what the person says, and what
    whoever starts it allows.
    """

    now: str
    open: bool
    agrees: bool
    people: int
    most: int | None
    until: str


def sittings_of(chance: random.Random) -> tuple[str, list[Sitting]]:
    """A plan that asks, and a sequence of runs with clocks that go on, back and far ahead."""
    value = "key = 'HKLM\\Software\\Random'\n"
    text = (
        '[package]\nid = "random"\nname = "Random"\nversion = "1.2"\n\n[in_the_way]\nprograms = ["tide.exe"]\n'
        f'ask = true\nwait = "1 s"\nalways = {str(chance.random() < 0.7).lower()}\npostpone = {chance.randint(1, 3)}\n'
        f'postpone_for = "{chance.choice(["1 hour", "1 day", "3 days"])}"\n\n'
        f'[[install]]\nkind = "registry"\n{value}values = {{ a = 1 }}\n\n'
        f'[[detect]]\nkind = "registry"\n{value}name = "a"\n'
    )
    clock, sittings = datetime(2026, 11, 23, 9, 0), []
    for _ in range(6):
        agrees, people = chance.random() < 0.15, chance.choice([1, 1, 1, 1, 0])
        most = chance.choice([None, None, None, 0, 1, 9])
        until = chance.choice([None, None, None, clock - timedelta(hours=1), clock + timedelta(hours=1)])
        sittings.append(
            Sitting(
                f"{clock:%Y-%m-%dT%H:%M}",
                chance.random() < 0.5,
                agrees,
                people,
                most,
                f"{until:%Y-%m-%dT%H:%M}" if until else "",
            )
        )
        clock += timedelta(minutes=chance.choice([0, 1, 59, 60, 61, 1440, 3000, 9000, -1, -120, -1439, -1441, -9000]))
    return text, sittings


def people(count: int, first: int, folder: Path, machine: Any) -> list[str]:
    """Carries out that many sequences by both; returns every difference, with its plan."""
    wrong = []
    for number in range(first, first + count):
        plan, sittings = sittings_of(random.Random(number))
        made = workspace(folder / f"people-{number}", plan)
        manifest, session = form.read(made), SimulatedSession(SimulatedMachine().surroundings())
        session.bring(made, FOLDER)
        asked = []
        for one in sittings:
            session.facts = msgspec.structs.replace(session.facts, people=one.people, now=one.now)
            session.agrees = [one.agrees]
            session.running, session.stubborn = ["tide"] * one.open, {"tide"}
            until = datetime.fromisoformat(one.until) if one.until else None
            offs = carry.PutOffs(one.most, until)
            done = carry.carry(manifest, made, session, "install", folder=FOLDER, sleep=lambda _: None, put_offs=offs)
            asked.append((done.exit_code, _squeezed(done.events), _put_off(session)))
        with machine.fresh() as real_one:
            answered = [_sat(real_one, one) for one in _with_people(real_one, made, sittings)]
        wrong += [
            f"sequence {number}, run {at}, {one}:\n{plan}\n{mine}\n{theirs}"
            for at, (one, mine, theirs) in enumerate(zip(sittings, asked, answered, strict=True), 1)
            if mine != theirs
        ]
    return wrong


def _put_off(session: Any) -> str:
    return (session.read(rf"{STATE}\postponed.txt") or b"").decode("utf-8-sig").strip()


def _with_people(session: Any, made: Path, sittings: list[Sitting]) -> list[Sitting]:
    """The package on the machine, with a runner whose clock, person and count of people are stand-ins."""
    session.bring(made, FOLDER)
    time = f"[DateTime]::Parse([IO.File]::ReadAllLines('{NOW}')[0], [Globalization.CultureInfo]::InvariantCulture)"
    for old, new in (
        ("[DateTime]$first = [DateTime]::Now", f"[DateTime]$first = {time}"),
        ("([DateTime]::Now -gt $last)", f"({time} -gt $last)"),
        ("($first -gt [DateTime]::Now.AddDays(1))", f"($first -gt ({time}).AddDays(1))"),
        ("(Show-Message $title $text 1 ([int]$Way['wait']) $true)", f"([int][IO.File]::ReadAllLines('{NOW}')[1])"),
        (
            "function Get-People { return (Get-Sessions).Length }",
            "function Get-People { return [int][IO.File]::ReadAllLines('" + NOW + "')[2] }",
        ),
    ):
        _patched(session, old, new)
    return sittings


def _sat(session: Any, one: Sitting) -> tuple[int | None, list[str], str]:
    session.write(NOW, f"{one.now}\r\n{AGREED if one.agrees else PUT_OFF}\r\n{one.people}\r\n".encode())
    more = (f" -PutOffs {one.most}" if one.most is not None else "") + (f" -Until {one.until}" if one.until else "")
    opened = 'start "" /b C:\\tide.exe /c "ping -n 60 127.0.0.1 >nul"\r\nping -n 2 127.0.0.1 >nul\r\n'
    session.write(
        r"C:\sitting.bat",
        (
            "@echo off\r\nif not exist C:\\tide.exe copy C:\\windows\\system32\\cmd.exe C:\\tide.exe >nul\r\n"
            f'{opened if one.open else ""}call "{FOLDER}\\apply.cmd" install{more}\r\nset code=%errorlevel%\r\n'
            "taskkill /f /im tide.exe >nul 2>&1\r\nexit /b %code%\r\n"
        ).encode(),
    )
    code, told = _applied(session, "install", r"call C:\sitting.bat")
    return code, _squeezed(told), _put_off(session)
