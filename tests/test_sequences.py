"""Sequences that are cut off, fail, are retried, restart the machine: they end where an undisturbed run ends, or where nothing was begun."""

from __future__ import annotations

import contextlib
import os
import signal
import threading
import time
from datetime import datetime
from pathlib import Path
from typing import Any

import msgspec
import pytest
import step_specimens
from conftest import OWN
from hypothesis import given, settings
from hypothesis import strategies as st

from yendo.effects import State, difference
from yendo.machines.protocol import Ran
from yendo.machines.simulated.machine import SimulatedMachine, SimulatedSession
from yendo.package import build, carry
from yendo.package import manifest as form
from yendo.plan import read
from yendo.steps import host as hosts

FOLDER = r"C:\Hand over\everything"
WRITES = (
    "write",
    "append",
    "place",
    "remove",
    "make_folder",
    "remove_folder",
    "set_value",
    "make_key",
    "drop_key",
    "put_shortcut",
    "run",
    "make_hold",
    "lend",
)


class PowerCut(BaseException):
    """The machine has no power any more."""


class Cut(SimulatedSession):
    """A machine whose power is cut at one of its writes: before it, after it, or in the middle of a line of the runner's own files."""

    at, how, count = 10**9, "after", 0

    def __getattribute__(self, name: str) -> Any:
        found = super().__getattribute__(name)
        if name not in WRITES:
            return found

        def write(*arguments: Any, **named: Any) -> Any:
            self.count += 1
            if self.count == self.at and self.how == "before":
                raise PowerCut
            if (
                self.count == self.at
                and self.how == "torn"
                and name == "write"
                and arguments[0].endswith(("journal.txt", "record.txt"))
            ):
                before = self.read(arguments[0]) or b""
                found(arguments[0], arguments[1][: len(before) + max(1, (len(arguments[1]) - len(before)) // 2)])
                raise PowerCut
            if self.count == self.at and self.how == "torn" and name == "append":
                found(arguments[0], arguments[1][: max(1, len(arguments[1]) // 2)])
                raise PowerCut
            result = found(*arguments, **named)
            if self.count == self.at:
                raise PowerCut
            return result

        return write


@pytest.fixture(scope="module")
def package(tmp_path_factory: pytest.TempPathFactory) -> Path:
    folder = step_specimens.workspace(tmp_path_factory.mktemp("everything"))
    return build.build(folder, read(folder / "plan.toml")[0]).folder


def fresh(package: Path, kind: type[SimulatedSession] = SimulatedSession) -> Any:
    session = kind(SimulatedMachine().surroundings())
    session.bring(package, FOLDER)
    return session


def run(session: SimulatedSession, package: Path, verb: str, **more: Any) -> carry.Carried:
    return carry.carry(form.read(package), package, session, verb, folder=FOLDER, sleep=lambda _: None, **more)


def left(before: State, after: State) -> list[str]:
    """What differs, without the runner's logs and what it keeps for itself."""
    return [str(effect) for effect in difference(before, after) if not effect.thing.identity.startswith(OWN)]


@pytest.mark.parametrize(
    "how", [pytest.param(how, marks=pytest.mark.thorough) for how in ("before", "after")] + [pytest.param("torn")]
)
@pytest.mark.parametrize("verb", ["install", "uninstall"])
def test_cut_off_at_every_write(package: Path, verb: str, how: str) -> None:
    """After every single write the power is cut once; the run that follows ends where an undisturbed one does."""
    whole = fresh(package, Cut)
    untouched = whole.state()
    assert run(whole, package, "install").exit_code == 0
    if verb == "uninstall":
        whole.count = 0
        assert run(whole, package, "uninstall").exit_code == 0
        assert left(untouched, whole.state()) == []
    goal, writes = whole.state(), whole.count
    assert writes > 60
    for at in range(1, writes + 1):
        session = fresh(package, Cut)
        if verb == "uninstall":
            run(session, package, "install")
            session.count = 0
        session.at, session.how = at, how
        with contextlib.suppress(PowerCut):
            run(session, package, verb)
        session.at = 10**9
        again = run(session, package, verb)
        assert again.exit_code == 0, (at, again.lines[-5:])
        assert left(goal, session.state()) == [], (at, again.lines)


@pytest.fixture(scope="module")
def demo(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """The demo's scene with its whole sequence, built."""
    from yendo.demo import sequence, story
    from yendo.draft import draft

    folder = tmp_path_factory.mktemp("demo")
    installer = story.scene(folder)
    draft.from_installer(folder / "lantern", installer, [story.patch_of(installer)])
    story.edit(folder / "lantern", folder / "site.ini")
    sequence.add(folder / "lantern", sequence.runtime(folder))
    build.build(folder / "lantern", read(folder / "lantern" / "plan.toml")[0], output=folder / "package")
    return folder


@pytest.mark.parametrize("verb", ["install", "uninstall"])
def test_the_demo_cut_off_at_every_write(demo: Path, verb: str) -> None:
    """An older release removed, a runtime, base, transform, patch, driver, a restart, configuration: cut off after each write, once."""
    made = next((demo / "package").iterdir())

    def machine() -> Cut:
        session: Cut = fresh(made, Cut)
        session.bring(demo / "from-tidewell", r"C:\share")
        assert session.run(r'msiexec /i "C:\share\lantern-6.1.0.msi" /qn', timeout=60).exit_code == 0
        session.count = 0
        return session

    def through(session: Cut, verb: str) -> int:
        for _ in range(4):
            code = run(session, made, verb).exit_code
            if code != 1641:
                break
        return code

    whole = machine()
    assert through(whole, "install") == 0
    if verb == "uninstall":
        whole.count = 0
        assert through(whole, "uninstall") == 0
    goal, writes = whole.state(), whole.count
    assert writes > 30
    for at in range(1, writes + 1):
        session = machine()
        if verb == "uninstall":
            through(session, "install")
        session.count, session.at = 0, at
        with contextlib.suppress(PowerCut):
            through(session, verb)
        session.at = 10**9
        assert through(session, verb) == 0 and left(goal, session.state()) == [], at


FAILING = """
[package]
id = "failing"
name = "Failing"
version = "1"

[[install]]
kind = "registry"
key = 'HKLM\\Software\\Tidewell\\A'
values = { One = 1, Two = "b" }

[[install]]
kind = "copy"
from = "extras/tree"
to = 'C:\\Marrowby'

[[install]]
kind = "edit"
file = 'C:\\Windows\\win.ini'
format = "ini"
set = { "tide/port" = 1 }
make = true

[[install]]
kind = "edit"
file = 'C:\\nowhere\\at all.ini'
format = "ini"
set = { "tide/port" = 1 }
on_failure = "undo"
"""


def test_a_failure_undoes_the_run_even_when_that_is_cut_off(tmp_path: Path) -> None:
    step_specimens.workspace(tmp_path)
    (tmp_path / "plan.toml").write_text(FAILING)
    made = build.build(tmp_path, read(tmp_path / "plan.toml")[0]).folder
    whole = fresh(made, Cut)
    untouched = whole.state()
    ended = run(whole, made, "install")
    assert (
        ended.exit_code == 23
        and "undoing what this run has done" in ended.lines
        and left(untouched, whole.state()) == []
    )
    for at in range(1, whole.count + 1):
        session = fresh(made, Cut)
        session.at = at
        with contextlib.suppress(PowerCut):
            run(session, made, "install")
        session.at = 10**9
        assert run(session, made, "install").exit_code == 23 and left(untouched, session.state()) == [], at


ONCE = """
[package]
id = "once"
name = "Once"
version = "1"
[[install]]
kind = "exe"
program = 'C:\\count.exe'
once = true
probe = [{ kind = "file", path = 'C:\\Windows\\counted.txt' }]
[[install]]
kind = "registry"
key = 'HKLM\\Software\\Tidewell'
values = { a = 1 }
"""


class Counting(Cut):
    """Its program may run only once."""

    runs = 0

    def run(self, command: str, *, timeout: float, folder: str | None = None, patient: bool = False) -> Ran:
        self.runs += 1
        self.write(r"C:\Windows\counted.txt", b"1")
        return Ran(0, "", 0.0)


def test_a_step_marked_once_is_never_done_twice(tmp_path: Path) -> None:
    (tmp_path / "plan.toml").write_text(ONCE)
    made = build.build(tmp_path, read(tmp_path / "plan.toml")[0]).folder
    for how in ("before", "after", "torn"):
        for at in range(1, 40):
            session = fresh(made, Counting)
            session.at, session.how = at, how
            with contextlib.suppress(PowerCut):
                run(session, made, "install")
            done = session.read(r"C:\Windows\counted.txt") is not None
            before, session.at = session.runs, 10**9
            assert run(session, made, "install").exit_code == 0 and session.runs == (before if done else before + 1)


# --- random plans against a small model ---------------------------------------------------------------------------


STEP = st.fixed_dictionaries(
    {
        "what": st.sampled_from(["value", "program", "restart"]),
        "name": st.sampled_from("abc"),
        "codes": st.lists(st.sampled_from([0, 0, 3010, 1641, 7, 1605]), min_size=1, max_size=4),
        "holds": st.sampled_from(["yes", "yes", "no", "later"]),
        "retries": st.integers(0, 2),
        "on_failure": st.sampled_from(["stop", "undo", "go-on"]),
        "where": st.sampled_from(["always", "asked"]),
        "fault": st.sampled_from(["", "", "", "refused", "late", "cut"]),
    }
)
WHEN = {"yes": "", "no": 'when = { os = "<10" }\n', "later": 'when = { power = "battery" }\n'}


def text_of(steps: list[dict[str, Any]]) -> str:
    out = '[package]\nid = "random"\nname = "Random"\nversion = "1"\n'
    for number, step in enumerate(steps):
        common = f'retries = {step["retries"]}\non_failure = "{step["on_failure"]}"\n{WHEN[step["holds"]]}'
        if step["what"] == "value":
            out += f"[[install]]\nkind = \"registry\"\nkey = 'HKLM\\Software\\Random'\nvalues = {{ {step['name']} = {number} }}\n{common}"
        elif step["what"] == "program":
            out += f"[[install]]\nkind = \"exe\"\nprogram = 'C:\\{number}.exe'\n{common}"
        else:
            out += f'[[install]]\nkind = "restart"\nwhere = "{step["where"]}"\n{common}'
    return out


def model(steps: list[dict[str, Any]]) -> tuple[int, dict[str, int], list[int]]:
    """What a run comes to: its exit code, the values it leaves, the programs it has started in order.

    Faults: the system refuses a value; a program does not end in its time; the power is cut as a step begins to work,
    and somebody starts the run again.
    """
    values: dict[str, int] = {}
    started: list[int] = []
    final, asked = 0, False
    for number, step in enumerate(steps):
        if step["holds"] == "later":
            return 1618, values, started
        if step["holds"] == "no":
            continue
        if step["what"] == "value":
            if step["fault"] != "refused":
                values[step["name"]] = number
            elif step["on_failure"] != "go-on":
                return hosts.STEP_FAILED, {} if step["on_failure"] == "undo" else values, started
        elif step["what"] == "restart":
            if step["where"] == "always" or asked:
                final, asked = 0, False
        else:
            codes = list(step["codes"]) if step["fault"] != "late" else [hosts.TIMED_OUT]
            started += [number] if step["fault"] == "cut" else []
            for _ in range(step["retries"] + 1):
                code = codes.pop(0) if len(codes) > 1 else codes[0]
                started.append(number)
                if code in (0, 3010, 1641):
                    break
            if code == 3010:
                final, asked = final if final == 1641 else 3010, True
            elif code == 1641:
                final, asked = 1641, True
            elif code != 0 and step["on_failure"] != "go-on":
                return code, {} if step["on_failure"] == "undo" else values, started
    return final, values, started


class Scripted(SimulatedSession):
    """Programs end as they are told to; ``faults`` by the numbers of the steps."""

    def _cut(self, number: int) -> None:
        if self.faults[number] == "cut":
            self.faults[number] = ""
            raise PowerCut

    def set_value(self, hive: str, view: str, key: str, name: str, value: tuple[str, Any] | None) -> None:
        if key.endswith("Random") and value is not None and self.doing:
            self._cut(value[1])
            if self.faults[value[1]] == "refused":
                raise PermissionError("the system refuses it")
        super().set_value(hive, view, key, name, value)

    def run(self, command: str, *, timeout: float, folder: str | None = None, patient: bool = False) -> Ran:
        name = command.strip('"').rpartition("\\")[2].partition(".")[0]
        if not name.isdigit():
            return super().run(command, timeout=timeout, folder=folder)
        number = int(name)
        self.started.append(number)
        self._cut(number)
        if self.faults[number] == "late":
            return Ran(None, "", 0.0)
        codes = self.codes[number]
        return Ran(codes.pop(0) if len(codes) > 1 else codes[0], "", 0.0)


@settings(max_examples=int(os.environ.get("YENDO_PLANS", "1000")))
@given(st.lists(STEP, min_size=1, max_size=6))
def test_random_plans_end_as_the_model_says(steps: list[dict[str, Any]]) -> None:
    from yendo.plan import read_text

    plan, _ = read_text(text_of(steps))
    manifest = form.resolve(Path("/nowhere"), plan, (), {}, "")
    session = Scripted(SimulatedMachine().surroundings())
    session.codes, session.started = {number: list(step["codes"]) for number, step in enumerate(steps)}, []
    session.faults, session.doing = {number: step["fault"] for number, step in enumerate(steps)}, True
    for _ in range(16):
        try:
            found = carry.carry(manifest, Path("/nowhere"), session, "install", folder=FOLDER, sleep=lambda _: None)
        except PowerCut:
            session.restart()
            continue
        journal = carry.read_journal(session.read(r"C:\Program Files\Yendo\state\random\journal.txt"))
        if found.exit_code != 1641 or journal is None or journal.over:
            break
        session.restart()
    code, values, started = model(steps)
    kept = {thing.name: thing.data for thing in session.state().of("registry") if thing.key.endswith("Random")}  # type: ignore[union-attr]
    assert (found.exit_code, kept, session.started) == (code, values, started), (text_of(steps), found.lines)


# --- the real runner, killed ---------------------------------------------------------------------------------------------


POINTS = 40 if os.environ.get("YENDO_ALL_POINTS") else 2 if os.environ.get("CI") else 5


@pytest.mark.thorough
@pytest.mark.wine
def test_the_real_runner_killed_at_many_points(tmp_path: Path, shell_wine: Any) -> None:
    """Killed at moments spread over its run, and started again: the same end as undisturbed, every time.

    The moments are lines of its journal, not seconds: how long the shell takes to start differs by machine and by hour.
    """
    steps = step_specimens.STEPS.replace('time = "1 s"', 'time = "0.1 s"')
    folder = step_specimens.workspace(tmp_path, steps[: steps.index('[[install]]\nkind = "script"')])
    made = build.build(folder, read(folder / "plan.toml")[0]).folder
    command = f'cmd /s /c ""{FOLDER}\\apply.cmd" %s"'
    with shell_wine.fresh() as real:
        real.bring(made, FOLDER)
        before = real.state()
        assert real.run(command % "install", timeout=300).exit_code == 0
        goal = real.state()
        assert real.run(command % "uninstall", timeout=300).exit_code == 0
        assert left(before, real.state()) == []
        journal_file = r"C:\Program Files\Yendo\state\everything\journal.txt"
        lines = 2 * len(form.read(made).actions("install"))  # each step begins and ends with one
        interrupted = 0
        for point in range(POINTS):
            wanted = 1 + lines * point // POINTS
            runner = threading.Thread(target=lambda: real.run(command % "install", timeout=60))
            runner.start()
            while runner.is_alive() and len((real.read(journal_file) or b"").splitlines()) < wanted:
                time.sleep(0.005)
            for process, name in real.prefix.processes():
                if name.lower().startswith("powershell"):
                    with contextlib.suppress(ProcessLookupError):
                        os.kill(process, signal.SIGKILL)
            runner.join()
            journal = carry.read_journal(real.read(journal_file))
            interrupted += journal is not None and not journal.over
            again = real.run(command % "install", timeout=300)
            assert again.exit_code == 0, (point, again.output)
            if point % 4 == 3 or POINTS > 5:
                assert left(goal, real.state()) == [], (point, again.output)
                real.run(command % "status", timeout=60)
            gone = real.run(command % "uninstall", timeout=300)
            assert gone.exit_code == 0, (point, gone.output)
        assert left(before, real.state()) == []
        print(f"{interrupted} of {POINTS} runs were cut off in their middle")
        assert interrupted >= max(1, POINTS // 5), f"only {interrupted} of {POINTS} runs were cut off in their middle"


@pytest.mark.wine
def test_cut_off_within_a_replacement(tmp_path: Path, shell_wine: Any) -> None:
    """The system puts the old file aside before the new one takes its place: cut off there, it is found again and put back in the end."""
    value = step_specimens.STEPS.split("[[install]]")[1]  # it is what the plan's detection asks for
    steps = (
        f"[[install]]{value}"
        + '[[install]]\nkind = "copy"\nfrom = "extras/tree/list.txt"\nto = \'C:\\Marrowby\\list.txt\'\n'
    )
    folder = step_specimens.workspace(tmp_path, steps)
    made = build.build(folder, read(folder / "plan.toml")[0]).folder
    command = f'cmd /s /c ""{FOLDER}\\apply.cmd" %s"'
    target, journal = r"C:\Marrowby\list.txt", r"C:\Program Files\Yendo\state\everything\journal.txt"
    with shell_wine.fresh() as real:
        real.bring(made, FOLDER)
        real.host(target).parent.mkdir()
        real.write(target, b"of the office")
        before = real.state()
        assert real.run(command % "install", timeout=120).exit_code == 0
        goal = real.state()
        # as if it had been cut off between the two renamings that a replacement is made of
        real.write(journal, real.read(journal).splitlines(keepends=True)[0])
        real.host(target).replace(real.host(target + ".yendo-new"))
        real.write(target + ".yendo-old", b"of the office")
        again = real.run(command % "install", timeout=120)
        assert (again.exit_code, left(goal, real.state())) == (0, []), again.output
        gone = real.run(command % "uninstall", timeout=120)
        assert (gone.exit_code, left(before, real.state())) == (0, []), gone.output
        assert real.read(target) == b"of the office"


# --- prerequisites and the person ------------------------------------------------------------------------------------------


@pytest.mark.parametrize(
    ("people", "agrees", "code", "words"),
    [
        (1, True, 0, "runtime: exit code 0"),
        (1, False, form.REFUSED, "the person does not agree to runtime"),
        (0, True, form.NEED_MISSING, "nobody is here to agree to it"),
    ],
)
def test_a_prerequisite_that_a_person_must_agree_to(
    tmp_path: Path, people: int, agrees: bool, code: int, words: str
) -> None:
    from test_check import brought

    folder = tmp_path / "w"
    (folder / "extras").mkdir(parents=True)
    brought(folder, "runtime")
    need = '[[need]]\npackage = "runtime"\nfrom = "extras/runtime"\nconsent = { en = "The runtime comes too." }\n'
    (folder / "plan.toml").write_text(ONCE.replace("[[install]]", f"{need}[[install]]", 1))
    made = build.build(folder, read(folder / "plan.toml")[0]).folder
    session = fresh(made, Counting)
    session.facts, session.agrees = msgspec.structs.replace(session.facts, people=people), [agrees]
    before = session.state()
    ran = run(session, made, "install")
    assert ran.exit_code == code and words in "\n".join(ran.lines), ran
    assert session.told == (["The runtime comes too."] if people else []) and bool(left(before, session.state())) == (
        code == 0
    )


def test_postponing_ends(tmp_path: Path) -> None:
    """As often as the plan allows, and not beyond its last moment; a clock that jumps gives no more."""
    plan = '[in_the_way]\nprograms = ["tide.exe"]\nask = true\npostpone = 2\npostpone_for = "2 days"\n' + ONCE
    (tmp_path / "plan.toml").write_text(plan)
    made = build.build(tmp_path, read(tmp_path / "plan.toml")[0]).folder

    def asked(days: list[str], put_offs: carry.PutOffs = carry.AS_THE_PACKAGE_SAYS) -> list[int]:
        session = fresh(made, Counting)
        session.agrees = [False] * len(days)
        codes = []
        for day in days:
            session.running = ["tide"]
            session.facts = msgspec.structs.replace(session.facts, people=1, now=day)
            codes.append(run(session, made, "install", put_offs=put_offs).exit_code)
        return codes

    assert asked(["2026-11-23T09:00", "2026-11-23T10:00", "2026-11-23T11:00"]) == [form.POSTPONED, form.POSTPONED, 0]
    assert asked(["2026-11-23T09:00", "2026-11-26T09:00"]) == [form.POSTPONED, 0]
    # whoever starts it may allow less, never more
    days = ["2026-11-23T09:00", "2026-11-23T10:00", "2026-11-23T11:00"]
    assert (
        asked(days, carry.PutOffs(most=1)) == [form.POSTPONED, 0, 0] and asked(days, carry.PutOffs(most=0)) == [0] * 3
    )
    assert asked(days, carry.PutOffs(most=9)) == [form.POSTPONED, form.POSTPONED, 0]
    assert asked(days, carry.PutOffs(until=datetime(2026, 11, 23, 9, 30))) == [form.POSTPONED, 0, 0]
    later = carry.PutOffs(until=datetime(2027, 1, 1))
    assert asked(["2026-11-23T09:00", "2026-11-26T09:00"], later) == [form.POSTPONED, 0]
