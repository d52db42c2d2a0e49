"""The runner and what it means: carried out by Yendo on the simulated machine, and by itself on the real one."""

from __future__ import annotations

import hashlib
import re
import shutil
from collections.abc import Callable
from pathlib import Path
from typing import Any

import msgspec
import pytest
from conftest import OWN, compiled, missing

from yendo.detect import detected, sight_of
from yendo.effects import State, difference
from yendo.fleet import fetcher, look
from yendo.machines.simulated.machine import SimulatedMachine, SimulatedSession
from yendo.package import build, carry
from yendo.package import manifest as form
from yendo.plan import read
from yendo.plan.model import VERBS
from yendo.steps import KINDS, fragment
from yendo.steps.host import BUSY_TRIES, BUSY_WAIT, TIMED_OUT
from yendo.terms.when import Condition, resolve

FOLDER = r"C:\Hand over\tidewell-lantern"
SITE = r"C:\ProgramData\Tidewell\Lantern\site.ini"


@pytest.fixture(scope="module")
def package(drafted: Path, tmp_path_factory: pytest.TempPathFactory) -> Path:
    return build.build(drafted, read(drafted / "plan.toml")[0], output=tmp_path_factory.mktemp("package")).folder


def started(folder: str, words: str) -> str:
    """How a management system starts the doorway; a plain "call" loses the exit code in an older layer."""
    return f'cmd /s /c ""{folder}\\apply.cmd" {words}"'


class Rig:
    """A machine and a way to carry a verb out on it."""

    def __init__(self, session: Any, package: Path, verb: Callable[[str], tuple[int, str]]) -> None:
        self.session, self.package, self.verb = session, package, verb
        session.bring(package, FOLDER)

    def own(self, before: State) -> list[str]:
        """What differs, without the logs of the runner."""
        return [
            str(effect)
            for effect in difference(before, self.session.state())
            if not effect.thing.identity.startswith(OWN)
        ]


@pytest.fixture(params=["simulated", pytest.param("wine", marks=pytest.mark.wine)])
def rig(request: pytest.FixtureRequest, package: Path) -> Any:
    """The same tests on both: steps carried out by Yendo, and by the package's own runner."""
    manifest = form.read(package)
    if request.param == "simulated":
        session = SimulatedSession(SimulatedMachine().surroundings())

        def carried(verb: str) -> tuple[int, str]:
            found = carry.carry(manifest, package, session, verb, folder=FOLDER, sleep=lambda _: None)
            return found.exit_code, "\n".join(found.lines)

        yield Rig(session, package, carried)
        return
    machine = request.getfixturevalue("shell_wine")
    with machine.fresh() as real:

        def executed(verb: str) -> tuple[int, str]:
            ran = real.run(started(FOLDER, verb), timeout=300)
            return ran.exit_code if ran.exit_code is not None else -1, ran.output

        yield Rig(real, package, executed)


def test_the_way_there_and_back(rig: Rig) -> None:
    """Install, a person changes the placed file, install again, uninstall: the changed file stays, the rest goes."""
    before = rig.session.state()
    code, said = rig.verb("install")
    assert code == 0 and "placed: " + SITE in said
    assert rig.session.read(SITE) == (rig.package / "extras" / "site.ini").read_bytes()
    record = rig.session.read(r"C:\Program Files\Yendo\state\tidewell-lantern\record.txt")
    assert (
        record
        and record.decode().splitlines()[-1] == f"F\t{hashlib.sha256(rig.session.read(SITE)).hexdigest()}\t-\t{SITE}"
    )
    assert rig.verb("repair")[0] == 0
    rig.session.write(SITE, b"[site]\r\nname = changed by hand\r\n")
    code, said = rig.verb("uninstall")
    assert code == 0 and "left, it was changed since: " + SITE in said
    left = [line for line in rig.own(before) if " ini " not in line]
    assert f"add file {SITE}" in left and not [
        line for line in left if "\\Lantern\\lantern.exe" in line or "product" in line
    ]
    code, said = rig.verb("uninstall")
    assert code == 0 and "nothing of this package is on record" in said and "1605: not needed" in said


@pytest.mark.parametrize("rig", ["wine"], indirect=True)
def test_a_damaged_package_touches_nothing(rig: Rig) -> None:
    before = rig.session.state()
    rig.session.write(FOLDER + r"\extras\site.ini", b"changed on the way")
    code, said = rig.verb("install")
    assert code == form.DAMAGED and "has changed" in said and rig.own(before) == []


def test_programs_in_the_way_are_closed_on_the_simulated_machine(package: Path) -> None:
    session = fresh_session(package)
    session.running = ["LANTERN", "other"]
    found = carry.carry(form.read(package), package, session, "uninstall", folder=FOLDER)
    assert session.running == ["other"] and found.lines.count("asking lantern to close") == 1


def test_a_program_that_does_not_close_is_ended(package: Path) -> None:
    session = SimulatedMachine().fresh().__enter__()
    session.running, session.stubborn = ["lantern"], {"lantern"}
    session.bring(package, r"C:\Hand over")
    found = carry.carry(form.read(package), package, session, "install", folder=r"C:\Hand over")
    assert session.running == [] and "ending lantern: it did not close in time" in found.lines


def test_an_error_between_two_steps_is_an_exit_code(package: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    session = SimulatedMachine().fresh().__enter__()
    session.bring(package, r"C:\Hand over")

    def broken(self: object, number: int, action: object) -> object:
        raise OSError("the disk is gone")

    monkeypatch.setattr(carry._Carrier, "attempts", broken)
    found = carry.carry(form.read(package), package, session, "install", folder=r"C:\Hand over")
    assert found.exit_code == 23 and found.lines[-1] == "stopped: the disk is gone"


@pytest.mark.wine
def test_programs_in_the_way_are_closed(workspace: Path, shell_wine: Any) -> None:
    """A program with a window is asked to close before anything is installed."""
    plan = workspace / "plan.toml"
    plan.write_text(plan.read_text("utf-8").replace('["lantern.exe"]', '["NOTEPAD.exe"]'), "utf-8")
    made = build.build(workspace, read(plan)[0]).folder
    with shell_wine.fresh() as real:
        real.bring(made, FOLDER)
        script = f'start notepad\r\ncall "{FOLDER}\\apply.cmd" install\r\nset code=%errorlevel%\r\ncall "{FOLDER}\\apply.cmd" repair\r\nexit /b %code%\r\n'
        (real.host("C:\\") / "busy.bat").write_text(script, newline="")
        ran = real.run(r"call C:\busy.bat", timeout=300)
        assert ran.output.count("asking NOTEPAD") == 1 and ran.output.count("done with 0") == 2, ran


@pytest.mark.parametrize("rig", ["wine"], indirect=True)
def test_an_unknown_verb(rig: Rig) -> None:
    assert rig.verb("instal")[0] == form.WRONG_USE


@pytest.mark.wine
def test_both_give_the_same(package: Path, shell_wine: Any) -> None:
    """The demo, by the runner on the real machine and by Yendo on the simulated one: same codes, steps and detection."""
    manifest = form.read(package)
    simulated = SimulatedSession(SimulatedMachine().surroundings())
    simulated.bring(package, FOLDER)
    with shell_wine.fresh() as real:
        real.bring(package, FOLDER)
        for verb in ("install", "install", "uninstall"):
            carried = carry.carry(manifest, package, simulated, verb, folder=FOLDER)
            ran = real.run(started(FOLDER, verb), timeout=300)
            assert ran.exit_code == carried.exit_code == 0
            assert _plain(ran.output.splitlines()) == _plain(carried.lines)
            holds = {session: detected(manifest.detect, sight_of(session))[0] for session in (simulated, real)}
            assert len(set(holds.values())) == 1 and holds[real] is (verb == "install")
            script = real.run(
                f'powershell -NoProfile -ExecutionPolicy Bypass -File "{FOLDER}\\detect.ps1"', timeout=120
            )
            assert script.exit_code == (0 if verb == "install" else 1) and bool(script.output.strip()) is (
                verb == "install"
            )
        log = real.read(r"C:\ProgramData\Yendo\logs\tidewell-lantern\install.log")
        assert log and [line.partition(" ")[2] for line in log.decode().splitlines()][-1] == "done with 0"


def fresh_session(package: Path) -> SimulatedSession:
    session = SimulatedSession(SimulatedMachine().surroundings())
    session.bring(package, FOLDER)
    return session


def _plain(lines: Any) -> list[str]:
    """Without what differs between machines: who is called what, and folders that one leaves."""
    kept = [re.sub(r"(?i)c:\\users\\\w+", "C:\\\\users\\\\x", line).strip() for line in lines if line.strip()]
    return [
        line for line in kept if not line.startswith(("left, it is not empty", "removed: C:\\ProgramData\\Tidewell"))
    ]


@pytest.mark.wine
def test_parsing_as_version_51_does(package: Path, shell_wine: Any) -> None:
    """Nothing that 5.1 would refuse, and no command called but the scripts' own functions and the two core ones."""
    with shell_wine.fresh() as real:
        real.bring(package, FOLDER)
        for name in ("apply.ps1", "detect.ps1"):
            ran = real.run(f'powershell -Check51 -File "{FOLDER}\\{name}"', timeout=120)
            own = set(re.findall(r"^function ([\w-]+)", (package / name).read_text("utf-8-sig"), re.M)) | {
                "ForEach-Object",
                "Where-Object",
            }
            called = {line.split()[1] for line in ran.output.splitlines() if line.startswith("calls ")}
            assert ran.exit_code == 0 and called and called <= own, ran.output


def test_every_member_is_in_the_framework_of_version_51(package: Path) -> None:
    """Each ``[Type]::Member`` and ``$variable.Member`` of the scripts against .NET Framework 4.8's own reference assemblies."""
    folder = Path("/usr/lib/mono/4.8-api")
    if not folder.exists():
        missing("the .NET Framework 4.8 reference assemblies", "apt-get install mono-devel")
    import dnfile

    members: dict[str, set[str]] = {}
    bases: dict[str, str] = {}
    for name in ("mscorlib.dll", "System.dll", "System.Core.dll", "System.Xml.dll", "System.Security.dll"):
        image = dnfile.dnPE(str(folder / name))
        for kind in image.net.mdtables.TypeDef:
            full = f"{kind.TypeNamespace}.{kind.TypeName}"
            members[full] = {
                method.row.Name.value if hasattr(method.row.Name, "value") else str(method.row.Name)
                for method in kind.MethodList
            } | {str(field.row.Name) for field in kind.FieldList}
            if kind.Extends and getattr(kind.Extends.row, "TypeNamespace", None):
                bases[full] = f"{kind.Extends.row.TypeNamespace}.{kind.Extends.row.TypeName}"
    short = {
        "string": "System.String",
        "int": "System.Int32",
        "bool": "System.Boolean",
        "Environment": "System.Environment",
        "Console": "System.Console",
        "Array": "System.Array",
        "Math": "System.Math",
        "Version": "System.Version",
        "DateTime": "System.DateTime",
        "BitConverter": "System.BitConverter",
        "long": "System.Int64",
        "byte[]": "System.Array",
        "double": "System.Double",
        "regex": "System.Text.RegularExpressions.Regex",
        "IntPtr": "System.IntPtr",
        "GC": "System.GC",
        "string[]": "System.Array",
        "int[]": "System.Array",
    }

    def known(kind: str, member: str) -> bool:
        at = short.get(kind, "System." + kind if "System." + kind in members else kind)
        for _ in range(10):
            if at not in members:
                return False
            if {member, f"get_{member}", f"set_{member}"} & members.get(at, set()) or (
                member == "new" and ".ctor" in members[at]
            ):
                return True
            at = bases.get(at, "")
        return False

    checked = 0
    texts = [(package / name).read_text("utf-8-sig") for name in ("apply.ps1", "detect.ps1")] + [
        fragment(name) for name, kind in KINDS.items() if not kind.composed
    ]
    texts += [one.script().decode("utf-8-sig") for one in (fetcher, look)]
    for text in texts:
        for part in re.split(r"(?m)^(?=function )", re.sub(r"'(?:[^']|'')*'", "''", text)):
            pairs = re.findall(
                r"\[([\w.]+(?:\[\])?)\]\$(\w+)", part.partition(") {")[0] if part.startswith("function") else ""
            )
            pairs += re.findall(r"(?m)(?:^\s*|[;{]\s|for \()\[([\w.]+(?:\[\])?)\]\$(\w+) = ", part)
            declared = {variable: kind for kind, variable in pairs}
            uses = [
                (kind, member)
                for kind, member in re.findall(r"\[([\w.]+)\]::(\w+)", part)
                if kind not in ("NullString", "IO.FileSystemAclExtensions")
                and not kind.startswith("Management.Automation")
            ]
            uses += [
                (declared[variable], member)
                for variable, member in re.findall(r"\$(\w+)\.(\w+)", part)
                if declared.get(variable, "void") != "void"
            ]
            for kind, member in uses:
                assert known(kind, member), f"{kind} has no {member} in .NET Framework 4.8: {part[:60]}"
                checked += 1
    assert checked > 300


@pytest.mark.parametrize(
    ("codes", "expected", "words"),
    [
        ([0], 0, "done with 0"),
        ([3010], 3010, "restart"),
        ([1641], 1641, "restarting"),
        ([1618, 1618, 0], 0, "again later"),
        ([1618] * 20, 1618, "again later"),
        ([1603], 1603, "failed"),
        ([1605], 1605, "failed"),
        ([None], TIMED_OUT, "stopped: not done"),
        ([4294967295], -1, "failed"),
        ([17], 17, "failed"),
    ],
)
def test_what_exit_codes_mean(package: Path, codes: list[int | None], expected: int, words: str) -> None:
    from yendo.machines.protocol import Ran

    class Scripted(SimulatedSession):
        def run(self, command: str, *, timeout: float, folder: str | None = None, patient: bool = False) -> Ran:
            return Ran(answers.pop(0), "", 0.0)

    answers, slept = list(codes), []
    session = Scripted(SimulatedMachine().surroundings())
    session.bring(package, FOLDER)
    manifest = msgspec.structs.replace(form.read(package), detect=())
    found = carry.carry(manifest, package, session, "install", folder=FOLDER, sleep=slept.append)
    assert found.exit_code == expected and words in "\n".join(found.lines)
    assert (
        slept == [BUSY_WAIT] * (min(len([code for code in codes if code == 1618]), BUSY_TRIES) - (codes[-1] == 1618))
        if 1618 in codes
        else not slept
    )


def test_both_restart_codes_are_told_apart(package: Path) -> None:
    manifest = form.read(package)
    assert manifest.install[0].codes["3010"] == "restart" and manifest.install[0].codes["1641"] == "restarting"
    assert "1605" not in manifest.install[0].codes and manifest.uninstall[1].codes["1614"] == "not needed"
    assert {verb for verb in VERBS if manifest.actions(verb)} == set(VERBS)


@pytest.mark.parametrize(
    ("change", "code", "words"),
    [
        ({"os": ">=99"}, form.NOT_APPLICABLE, "not applicable: windows is 10.0.19045.2965"),
        ({"architecture": ("arm64",)}, form.NOT_APPLICABLE, "architecture is x64"),
        ({"power": "battery"}, form.LATER, "not now: power is mains"),
        ({"os": ">=10, <11"}, 0, "done"),
    ],
)
def test_run_conditions(package: Path, change: dict[str, Any], code: int, words: str) -> None:
    session = fresh_session(package)
    before = session.state()
    manifest = msgspec.structs.replace(form.read(package), when=resolve(Condition(**change)))
    found = carry.carry(manifest, package, session, "install", folder=FOLDER)
    assert found.exit_code == code and words in "\n".join(found.lines)
    assert code == 0 or not [
        effect for effect in difference(before, session.state()) if "yendo" not in effect.thing.identity
    ]


@pytest.mark.wine
def test_run_conditions_for_real(workspace: Path, shell_wine: Any) -> None:
    plan = workspace / "plan.toml"
    text = plan.read_text("utf-8")
    for old, new, words in (
        ('os = ">=10.0.17763"', 'os = ">=10.0.17763, <10.0.17764"', "windows is 10.0"),
        ('["x64"]', '["arm64"]', "architecture is x64"),
        ('os = ">=10.0.17763"', 'disk = "9000 TB"', "disk C is "),
    ):
        plan.write_text(text.replace(old, new), "utf-8")
        made = build.build(workspace, read(plan)[0]).folder
        with shell_wine.fresh() as real:
            real.bring(made, FOLDER)
            ran = real.run(started(FOLDER, "install"), timeout=120)
            assert ran.exit_code == form.NOT_APPLICABLE and words in ran.output


@pytest.mark.wine
@pytest.mark.parametrize(
    "folder", [r"C:\with space", r"C:\brackets [1] (2)", r"C:\and & more, 'too'", r"C:\caret ^ and ! mark"]
)
def test_the_doorway_starts_from_anywhere(package: Path, shell_wine: Any, folder: str) -> None:
    with shell_wine.fresh() as real:
        real.bring(package, folder)
        ran = real.run(f'call "{folder}\\apply.cmd" instal', timeout=120)  # an older layer loses the code here
        assert ran.exit_code in (form.WRONG_USE, 1), ran
        assert real.run(f'powershell -NoProfile -File "{folder}\\detect.ps1"', timeout=120).exit_code == 1


def test_a_package_that_keeps_what_is_there(tmp_path: Path) -> None:
    """``--files``: what was there stays there, what others put beside it too."""
    from yendo.draft import draft

    source = tmp_path / "charts"
    (source / "sub").mkdir(parents=True)
    (source / "a.txt").write_text("a"), (source / "sub" / "b.txt").write_text("b")
    draft.from_sources(tmp_path / "w", [source], target=r"C:\Charts\Marrowby")
    plan_path = tmp_path / "w" / "plan.toml"
    made = build.build(tmp_path / "w", read(plan_path)[0]).folder
    manifest = form.read(made)
    session = SimulatedSession(SimulatedMachine().surroundings())
    session.bring(made, FOLDER)
    session.make_folder(r"C:\Charts")
    before = session.state()
    assert carry.carry(manifest, made, session, "install", folder=FOLDER).exit_code == 0
    assert detected(manifest.detect, sight_of(session))[0]
    session.write(r"C:\Charts\Marrowby\foreign.txt", b"of somebody else")
    assert carry.carry(manifest, made, session, "uninstall", folder=FOLDER).exit_code == 0
    left = {str(effect) for effect in difference(before, session.state()) if "yendo" not in effect.thing.identity}
    assert left == {r"add folder C:\Charts\Marrowby", r"add file C:\Charts\Marrowby\foreign.txt"}
    # a file that was there with the same content is not ours to remove
    session.write(r"C:\Charts\Marrowby\a.txt", b"a")
    assert carry.carry(manifest, made, session, "install", folder=FOLDER).exit_code == 0
    carry.carry(manifest, made, session, "uninstall", folder=FOLDER)
    assert session.read(r"C:\Charts\Marrowby\a.txt") == b"a" and session.read(r"C:\Charts\Marrowby\sub\b.txt") is None


@pytest.mark.wine
def test_exit_codes_by_the_runner_itself(tmp_path: Path, shell_wine: Any) -> None:
    """The real script, with a stand-in in the place of the installer that ends as it is told to."""
    program = compiled("standin.c", tmp_path / "msiexec.exe")
    (tmp_path / "plan.toml").write_text(
        '[package]\nid = "standin"\nname = "Stand-in"\nversion = "1"\n\n[[install]]\nkind = "msi"\ntimeout = "3 s"\n'
        'codes = { "7" = "done", "8" = "not needed" }\ncommand = \'msiexec exit CODE PLACE="a b\\" "" {logs}\'\n'
    )
    made = build.build(tmp_path, read(tmp_path / "plan.toml")[0]).folder
    script = (
        (made / "apply.ps1")
        .read_bytes()
        .replace(b"'busy_wait' = 30", b"'busy_wait' = 0.2")
        .replace(b"'busy_tries' = 10", b"'busy_tries' = 3")
    )
    ends = {
        "0": 0,
        "3010": 3010,
        "1641": 1641,
        "1618": 1618,
        "1603": 1603,
        "1605": 1605,
        "7": 0,
        "8": 0,
        "0 sleep 20": TIMED_OUT,
    }
    with shell_wine.fresh() as real:
        real.bring(made, FOLDER)
        (real.host(r"C:\windows\system32") / "msiexec.exe").unlink()
        shutil.copy(program, real.host(r"C:\windows\system32") / "msiexec.exe")
        assert (
            real.run(r"reg add HKCU\Software\Wine\DllOverrides /v msiexec.exe /d native /f", timeout=60).exit_code == 0
        )
        for told, expected in ends.items():
            real.write(FOLDER + r"\apply.ps1", script.replace(b"CODE", told.encode()))
            real.remove(r"C:\standin.log")
            ran = real.run(started(FOLDER, "install"), timeout=120)
            assert ran.exit_code == expected, (told, ran)
            calls = (real.read(r"C:\standin.log") or b"").decode().splitlines()
            assert len(calls) == (3 if told == "1618" else 1), calls
            assert calls[0].endswith('PLACE="a b\\" "" C:\\Program Files\\Yendo\\state\\standin\\logs')


# --- base, transform and patch, by the runner itself -----------------------------------------------------------


@pytest.mark.wine
@pytest.mark.parametrize(("there", "passed_over", "version"), [
    ((), [], "6.2.3"),
    (("/i", "lantern-6.2.1.msi"), ["step 1"], "6.2.3"),
    (("/i", "lantern-6.2.3.msi"), ["step 1", "step 2"], "6.2.3"),
])  # fmt: skip
def test_a_patch_goes_on_where_it_belongs(
    whole: Path, vendor: Path, shell_wine: Any, there: tuple[str, ...], passed_over: list[str], version: str
) -> None:
    """Base and patch without the product, the patch alone with it, nothing where it is as new already."""
    folder = build.build(whole, read(whole / "plan.toml")[0]).folder
    with shell_wine.fresh() as session:
        session.bring(vendor, r"C:\vendor")
        session.bring(folder, FOLDER)
        if there:
            assert session.run(rf"msiexec {there[0]} C:\vendor\{there[1]} /qn", timeout=120).exit_code == 0
        ran = session.run(started(FOLDER, "install"), timeout=300)
        assert ran.exit_code == 0, ran.output
        lines = ran.output.splitlines()
        assert [lines[at - 1][:6] for at, line in enumerate(lines) if line.startswith("not needed here")] == passed_over
        state = session.state()
        assert [thing.version for thing in state.of("product")] == [version]
        exe = state.get("file", r"C:\Program Files\Tidewell\Lantern\lantern.exe")
        assert exe is not None and exe.version == "6.2.3.0"
        if not there:
            assert not any(
                label_.endswith("\\Desktop\\Lantern.lnk")
                for label_ in (thing.identity for thing in state.of("shortcut"))
            )
