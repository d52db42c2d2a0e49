"""Every kind of step: carried out by the simulation, by the package's own runner, and against stand-ins of programs that the layer lacks."""

from __future__ import annotations

import re
import shutil
import sys
from pathlib import Path
from typing import Any

import msgspec
import pytest
import step_specimens
from conftest import OWN
from hypothesis import given
from hypothesis import strategies as st

from yendo.effects import File, IniValue, State, difference
from yendo.effects.things import key_of
from yendo.machines.simulated.machine import SimulatedMachine, SimulatedSession
from yendo.package import build, carry
from yendo.package import manifest as form
from yendo.plan import PlanError, read, read_text
from yendo.steps import KINDS, Action, fragment, json_text, ledger, texts
from yendo.steps.action import ActionData
from yendo.steps.edit import xml
from yendo.steps.ledger import changed_list as changed
from yendo.steps.registry import imported
from yendo.steps.remove_previous import started as quoted_program

FOLDER = r"C:\Hand over\everything"


def started(words: str) -> str:
    return f'cmd /s /c ""{FOLDER}\\apply.cmd" {words}"'


@pytest.fixture(scope="module")
def package(tmp_path_factory: pytest.TempPathFactory) -> Path:
    folder = step_specimens.workspace(tmp_path_factory.mktemp("everything"))
    return build.build(folder, read(folder / "plan.toml")[0]).folder


@pytest.fixture(scope="module")
def stock(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """A package of the kinds that call programs which the layer does not have."""
    folder = step_specimens.workspace(tmp_path_factory.mktemp("stock"), step_specimens.STOCK)
    text = (folder / "plan.toml").read_text("utf-8")
    text = re.sub(r"\[\[detect\]\].*?\n\n", "", text, flags=re.S)
    (folder / "plan.toml").write_text(text)
    return build.build(folder, read(folder / "plan.toml")[0]).folder


def simulated(package: Path) -> SimulatedSession:
    session = SimulatedSession(SimulatedMachine().surroundings())
    session.bring(package, FOLDER)
    return session


def run(session: SimulatedSession, package: Path, verb: str) -> carry.Carried:
    return carry.carry(form.read(package), package, session, verb, folder=FOLDER, sleep=lambda _: None)


def essence(before: State, after: State) -> set[tuple[str, ...]]:
    """What a run did, without the runner's own and what the two machines call differently."""
    found = set()
    for effect in difference(before, after):
        thing = effect.thing
        if (
            thing.identity.startswith(OWN)
            or isinstance(thing, IniValue)
            or thing.identity.endswith(("\\crls", "\\ctls"))
        ):
            continue  # the last two are made by looking into the store
        detail = str(getattr(thing, "data", "")) if effect.kind == "registry" else ""
        if (
            isinstance(thing, File) and "\\by-" not in thing.identity
        ):  # what scripts wrote is only assumed by the simulation
            detail = thing.sha256 or ""
        if effect.kind == "environment":
            detail = "Marrowby" if "Marrowby" in str(thing.value) else "other"  # type: ignore[union-attr]
        found.add((effect.change, *key_of(thing), detail))
    return found


def plain(lines: list[str]) -> list[str]:
    """What both say, without how each carries scripts and inner packages out, and without versions and folders of the machine."""
    kept = []
    for line in lines:
        line = line.replace(r"C:\windows", r"C:\Windows").strip()
        if line and not re.search(
            r"its own probe is taken for done|inner|Inner|exit code 0: done|TrustedPublisher(\\Certificates)?$|^done with|^step 1: (place|take)|windows is",
            line,
        ):
            kept.append(line)
    return kept


def test_no_place_forgot_a_kind() -> None:
    """A kind is one module: its table in the plan, its fragment of the runner, its meaning, and where it was executed."""
    specimens = step_specimens.STEPS + step_specimens.STOCK + 'kind = "msi" kind = "exe" kind = "take-back"'
    specimens += 'kind = "system-upgrade"'  # the whole of tests/wine/test_system_upgrade.py is about it
    reference = (Path(__file__).parents[1] / "docs" / "steps.md").read_text("utf-8")
    for name, kind in KINDS.items():
        title = "".join(part.capitalize() for part in name.split("-"))
        carried = kind.composed or f"function Step-{title}(" in fragment(name)
        assert carried, f"{name}: the runner cannot carry it out"
        assert "perform" in vars(type(kind)) and "resolve" in vars(type(kind)), name
        assert kind.executed and (kind.step.__doc__ or "").strip(), (
            f"{name} does not say what it is or where it was executed"
        )
        assert kind.composed or f'kind = "{name}"' in specimens, f"{name} has no specimen"
        assert f"## {name}\n" in reference, f"{name} is not in the reference: run tools/write_docs.py"
        assert ("stand-in" in kind.executed) == (
            (f'kind = "{name}"' in step_specimens.STOCK and name != "tell") or name in ("restart", "system-upgrade")
        ), name


def test_there_and_back_on_the_simulated_machine(package: Path, stock: Path) -> None:
    for made in (package, stock):
        session = simulated(made)
        before = session.state()
        assert run(session, made, "install").exit_code == 0
        done = session.state()
        assert len(essence(before, done)) > 4
        again = run(session, made, "install")
        assert again.exit_code == 0 and essence(done, session.state()) == set(), again.lines
        assert run(session, made, "uninstall").exit_code == 0
        assert [
            str(effect)
            for effect in difference(before, session.state())
            if not effect.thing.identity.startswith(OWN[1])
        ] == []


# What the data of kinds got in later versions, with what an earlier one meant by leaving it out.
LATER = {
    "delete": {"only_empty": False, "empty_parents": False},
    "copy": {"mirror": ""},
    "registry": {"each": False},
    "edit": {"make": False},
    "shortcut": {"icon": "", "description": ""},
    "restart": {"text": ""},
}


def test_packages_of_an_earlier_version_are_carried_out(package: Path, tmp_path: Path) -> None:
    """The same manifest as one that did not know the later words yet does the same."""
    done = simulated(package)
    before = done.state()
    assert run(done, package, "install").exit_code == 0
    manifest = form.read(package)
    left = 0

    def earlier(action: Action) -> Action:
        nonlocal left
        usual = LATER.get(action.kind, {})
        kept = {name: value for name, value in action.data.items() if name not in usual or usual[name] != value}
        left += len(action.data) - len(kept)
        return msgspec.structs.replace(action, data=kept)

    old = msgspec.structs.replace(manifest, install=tuple(map(earlier, manifest.install)))
    assert left > 8
    session = simulated(package)
    found = carry.carry(old, package, session, "install", folder=FOLDER, sleep=lambda _: None)
    assert found.exit_code == 0 and essence(before, session.state()) == essence(before, done.state())


def test_every_kind_s_data_is_what_it_says(package: Path, stock: Path) -> None:
    """Data that a build has written is what the struct reads, and what it writes again: nothing falls aside."""
    kinds = {one.__name__: one for one in ActionData.__subclasses__()}
    seen = set()
    for made in (package, stock):
        for action in form.read(made).install:
            for name, one in kinds.items():
                if sys.modules[one.__module__].__name__.rpartition(".")[2] == action.kind.replace("-", "_"):
                    again = msgspec.json.decode(msgspec.json.encode(one.of(action).plain()))
                    assert again == msgspec.json.decode(msgspec.json.encode(action.data)), action.title
                    seen.add(name)
    assert len(seen) >= 12, seen


@pytest.mark.wine
def test_the_runner_does_what_the_simulation_says(package: Path, shell_wine: Any) -> None:
    """All kinds that the layer can carry out, by the real script: same steps, same words, same effects, and nothing left behind."""
    session = simulated(package)
    fresh = session.state()
    with shell_wine.fresh() as real:
        real.bring(package, FOLDER)
        looked = real.run(f'powershell -Check51 -File "{FOLDER}\\apply.ps1"', timeout=120)
        own = set(re.findall(r"^function ([\w-]+)", (package / "apply.ps1").read_text("utf-8-sig"), re.M)) | {
            "ForEach-Object",
            "Where-Object",
        }
        assert (
            looked.exit_code == 0
            and {line.split()[1] for line in looked.output.splitlines() if line.startswith("calls ")} <= own
        ), looked.output
        before = real.state()
        for verb in ("install", "uninstall"):
            carried = run(session, package, verb)
            ran = real.run(started(verb), timeout=300)
            assert ran.exit_code == carried.exit_code == 0, ran.output
            assert plain(ran.output.splitlines()) == plain(list(carried.lines))
            assert essence(before, real.state()) == essence(fresh, session.state())
            real.write(r"C:\store.ps1", STORE.encode())
            listed = real.run(r"powershell -NoProfile -File C:\store.ps1", timeout=60).output
            assert ("CN=Tidewell release" in listed) == (
                verb == "install"
            )  # the real store reads what was written for it
            real.remove(r"C:\store.ps1")
        assert not real.has_folder(r"C:\Program Files\Yendo\state") and not real.has_folder(
            r"C:\Program Files\Yendo\packages"
        )


STORE = (
    "[Security.Cryptography.X509Certificates.X509Store]$s = [Security.Cryptography.X509Certificates.X509Store]::new('TrustedPublisher', 'LocalMachine')\r\n"
    "$s.Open('ReadOnly'); foreach ($c in $s.Certificates) { [Console]::WriteLine($c.Subject) }\r\n"
)
LACKING = ("schtasks", "netsh", "pnputil", "dism", "wusa", "logoff", "shutdown", "icacls")


# In the place of the system's own modules for app packages: it writes down how it was called, and does nothing.
APPX = """
function Get-AppxPackage([switch]$AllUsers, [string]$Name) { if (-not $AllUsers) { throw 'for one person' }; return $Name }
function Remove-AppxPackage {
    [CmdletBinding()] param([Parameter(ValueFromPipeline)][string]$Package, [switch]$AllUsers)
    process {
        if (-not $AllUsers) { throw 'for one person' }
        [IO.File]::AppendAllText('C:\\standin.log', [Environment]::CommandLine.Replace('powershell.dll', 'powershell.exe') + "`r`n")
    }
}
"""
MODULE = r"C:\windows\system32\WindowsPowerShell\v1.0\Modules\Appx\Appx.psm1"


def put_stand_ins(real: Any, program: Path, names: tuple[str, ...] = LACKING) -> None:
    """Puts the stand-in in the place of system programs."""
    for name in names:
        target = real.host(r"C:\windows\system32") / f"{name}.exe"
        target.unlink(missing_ok=True)
        shutil.copy(program, target)
        assert (
            real.run(rf"reg add HKCU\Software\Wine\DllOverrides /v {name}.exe /d native /f", timeout=60).exit_code == 0
        )


@pytest.mark.wine
def test_programs_that_the_layer_lacks_are_called_as_the_simulation_calls_them(
    stock: Path, stand_in: Path, shell_wine: Any
) -> None:
    session = simulated(stock)
    session.facts = __import__("msgspec").structs.replace(session.facts, people=1)
    with shell_wine.fresh() as real:
        real.bring(stock, FOLDER)
        put_stand_ins(real, stand_in)
        real.host(MODULE).parent.mkdir(parents=True)
        real.host(MODULE).write_bytes(APPX.encode())
        real.write(
            r"C:\shell.bat",
            b'start "" explorer.exe /desktop=tide,800x600\r\n'
            + started("install").encode()
            + b"\r\nset code=%errorlevel%\r\n"
            + started("uninstall").encode()
            + b"\r\nexit /b %code%\r\n",
        )
        ran = real.run(r"call C:\shell.bat", timeout=300)
        for verb in ("install", "uninstall"):
            assert run(session, stock, verb).exit_code == 0
        called = (real.read(r"C:\standin.log") or b"").decode().splitlines()
        calls = [line for line in called if "/get-" not in line]  # what only asks
        bare = [re.sub(r'(?i)^"?[^"]*\\(\w+\.exe)"?\s*', r"\1 ", call).rstrip() for call in calls]
        assert bare == session.called, ran.output


# --- languages of files ---------------------------------------------------------------------------------------------


INI = [
    ("[a]\nx=1\n", "a", "x", "2", "[a]\nx=2\n"),
    ("[a]\nx = 1\n", "A", "X", "2", "[a]\nx = 2\n"),
    ("[a]\r\nx=1\r\n\r\n[b]\r\n", "a", "y", "2", "[a]\r\nx=1\r\ny=2\r\n\r\n[b]\r\n"),
    ("", "a", "x", "1", "[a]\r\nx=1\r\n"),
    ("[a]\nx=1", "a", "y", "2", "[a]\nx=1\ny=2\n"),
    ("[a]\nx=1\n", "a", "x", None, "[a]\n"),
    ("[a]\nx=1\n", "b", "x", None, "[a]\nx=1\n"),
]


@pytest.mark.parametrize(("text", "section", "key", "value", "expected"), INI)
def test_ini(text: str, section: str, key: str, value: str | None, expected: str) -> None:
    assert texts.ini(text, section, key, value) == expected
    assert texts.ini(expected, section, key, value) == expected and texts.ini_get(expected, section, key) == value


_JSON = st.recursive(
    st.none() | st.booleans() | st.integers(-9, 99) | st.text(max_size=6),
    lambda inner: st.lists(inner, max_size=3) | st.dictionaries(st.text(min_size=1, max_size=4), inner, max_size=3),
    max_leaves=10,
)


@given(
    st.dictionaries(st.text(min_size=1, max_size=4), _JSON, max_size=4),
    st.lists(st.text(min_size=1, max_size=4), min_size=1, max_size=3),
    _JSON,
    st.sampled_from([None, 1]),
)
def test_json(document: dict[str, Any], path: list[str], value: Any, indent: int | None) -> None:
    """Where a value can be set it is the only thing that changes, and setting it again changes nothing."""
    import json

    text = json.dumps(document, indent=indent, ensure_ascii=False)
    expected: Any = json.loads(text)
    at = expected
    for name in path[:-1]:
        if not isinstance(at, dict):
            break
        at = at.setdefault(name, {})
    if not isinstance(at, dict):
        if not isinstance(at, list):
            with pytest.raises(ValueError):
                json_text.set_value(text, path, json.dumps(value))
        return
    at[path[-1]] = value
    new = json_text.set_value(text, path, json.dumps(value))
    assert json.loads(new) == expected and json_text.set_value(new, path, json.dumps(value)) == new


@given(st.text(max_size=30), st.lists(st.text(max_size=3), min_size=1, max_size=2))
def test_any_text_is_json_or_an_error(text: str, path: list[str]) -> None:
    try:
        json_text.set_value(text, path, "1")
    except ValueError:
        return


@pytest.mark.parametrize(
    ("text", "place", "value", "expected"),
    [
        ("<a b='1'/>", "/a/@b", 'x"<', '<a b="x&quot;&lt;"/>'),
        ("<a><b/></a>", "/a/b", "x", "<a><b>x</b></a>"),
        ("<a><b x='1'/><b x='2'>old</b></a>", "/a/b[@x='2']", "new", "<a><b x='1'/><b x='2'>new</b></a>"),
        ("<a><!-- <b/> --><b/></a>", "/a/b/@c", "1", '<a><!-- <b/> --><b c="1"/></a>'),
        ("<a><b/><b/></a>", "/a/b", "x", ValueError),
        ("<a><b><c/></b></a>", "/a/b", "x", ValueError),
        ("<a>", "/a", "x", ValueError),
        ("<!DOCTYPE a [<!ENTITY x 'y'>]><a/>", "/a", "x", ValueError),
    ],
)
def test_xml(text: str, place: str, value: str, expected: Any) -> None:
    if expected is ValueError:
        with pytest.raises(ValueError):
            xml(text, place, value)
    else:
        assert xml(text, place, value) == expected == xml(expected, place, value)


@pytest.mark.parametrize(
    ("change", "before", "value", "expected"),
    [
        ("append", r"C:\a;C:\b", r"c:\A\ "[:-1], r"C:\a;C:\b"),
        ("append", r"C:\a", r"C:\b", r"C:\a;C:\b"),
        ("prepend", r"C:\a;", r"C:\b", r"C:\b;C:\a"),
        ("remove", r"C:\a;C:\b;", r"C:\A", r"C:\b"),
        ("append", "", r"C:\b", r"C:\b"),
    ],
)
def test_lists_in_variables(change: str, before: str, value: str, expected: str) -> None:
    assert changed(change, before, value) == expected


@given(st.lists(st.text(max_size=12), min_size=1, max_size=4))
def test_the_record_keeps_every_text(fields: list[str]) -> None:
    line = ledger.line("F", *fields)
    assert ledger.fields(line) == ["F", *fields] and "\n" not in line and "\r" not in line


@given(
    st.sampled_from(["sz", "expand", "dword", "qword", "binary"]),
    st.integers(0, 1 << 32),
    st.text(alphabet="ab\0%=\t", max_size=6),
)
def test_the_record_keeps_every_value(kind: str, number: int, text: str) -> None:
    value = (kind, number if kind in ("dword", "qword") else text)
    assert ledger.value_of(ledger.value_text(value)) == value
    items = ("multi", tuple(text.split("\0"))) if text else ("multi", ())
    assert ledger.value_of(ledger.value_text(items)) == items


def test_registry_files() -> None:
    found = imported(step_specimens.REG)
    assert found[0].values == (
        ("", "sz", "unnamed"),
        ("Number", "dword", 42),
        ("List", "multi", ("a", "b")),
        ("Raw", "binary", "0102ff"),
    )
    assert found[0].delete == ("Gone",) and found[1].view == "32" and found[1].values == (("Path", "expand", "%TEMP%"),)
    for text in ("", "[HKEY_LOCAL_MACHINE\\x]", "REGEDIT4\n[HKEY_USERS\\x]\n"):
        with pytest.raises(ValueError):
            imported(text)


def test_a_forgotten_quote_round_a_program() -> None:
    assert quoted_program(r"C:\Program Files\Tide\un.exe /x") == r'"C:\Program Files\Tide\un.exe" /x'
    assert (
        quoted_program(r'"C:\a b\un.exe" /x') == r'"C:\a b\un.exe" /x'
        and quoted_program("msiexec.exe /x") == "msiexec.exe /x"
    )


MISTAKES = [
    ('kind = "registry"\nkey = "HKCR\\\\x"', "a key with its hive"),
    ('kind = "registry"\nkey = "HKLM\\\\x"', "sets values, deletes some"),
    ('kind = "registry"\nkey = "HKLM\\\\x"\nvalues = { a = 1 }\neach_user = true', "below HKCU"),
    ('kind = "edit"\nfile = "a"\nformat = "ini"\nset = { x = 1 }', "section/key"),
    ('kind = "edit"\nfile = "a"\nformat = "xml"\nset = { "a b" = 1 }', "a place in an xml file"),
    ('kind = "service"\nname = "a"\nchange = "create"', "program is given exactly"),
    ('kind = "service"\nname = "a"\nchange = "strat"', "strat"),
    ('kind = "wait"', "exactly one of time and until"),
    ('kind = "task"\nname = "a"\nprogram = "b"\nbegins = "daily 25:00"', 'as "daily 07:30"'),
    ('kind = "firewall"\nname = "a"\nports = "1"', "ports belong to tcp or udp"),
    ('kind = "rights"\non = "data"\nmay = "change"', "on"),
    ('kind = "remove-previous"', "exactly one of product"),
    ('kind = "environment"\nname = "a"\nvalue = "b"\nchange = "delete"', "exactly where"),
    ('kind = "copy"\nfrom = "a"\nto = "b"\nretires = 2', "did you mean 'retries'"),
    ('kind = "copy"\nfrom = "a"\nto = "b"\nwhen = { pwer = "mains" }', "did you mean 'power'"),
    ('kind = "copy"\nfrom = "a"\nto = "b"\nwhen = { group = "x" }', "group and inventory"),
    ('kind = "copy"\nfrom = "a"\nto = "b"\ncodes = { x = "done" }', "codes are numbers"),
]


@pytest.mark.parametrize(("step", "words"), MISTAKES)
def test_mistakes_in_steps(step: str, words: str) -> None:
    with pytest.raises(PlanError) as caught:
        read_text(f'[package]\nid = "x"\nname = "x"\nversion = "1"\n[[install]]\n{step}\n')
    assert words in str(caught.value)
