"""Shared by all tests: the built program, a demo workspace, and the real parts where they are here."""

from __future__ import annotations

import json
import os
import shutil
import subprocess
import sys
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import TYPE_CHECKING, Any

import pytest
from hypothesis import HealthCheck, settings

if TYPE_CHECKING:
    from warm import Warm

sys.path.insert(0, str(Path(__file__).parent))
settings.register_profile(
    "yendo", deadline=None, suppress_health_check=list(HealthCheck), derandomize=bool(os.environ.get("CI"))
)
settings.load_profile("yendo")

OWN = (
    "c:\\program files\\yendo",
    "c:\\programdata\\yendo",
)  # what runners keep, and their logs: no effect of a package
HOST = Path(__file__).parents[2] / "shared" / "tools" / "powershell-host" / "powershell-host.zip"


def missing(part: str, how: str) -> None:
    """Skips a test for want of a real part; in CI that is a failure, but for a Windows process, which has no Unix side."""
    message = f"{part} is not here: {how}"
    if os.environ.get("CI") and os.name != "nt":
        pytest.fail(message)
    pytest.skip(message)


unix = pytest.mark.skipif(
    os.name == "nt", reason="about what only Unix has: links, terminals, signals, masks, the API layer's own side"
)


numeric = pytest.mark.skipif(os.name == "nt", reason="NumPy needs a function that the API layer's library has not")


@pytest.fixture(scope="session")
def cache(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """One cache for all workers, so that templates are made once."""
    given = os.environ.get("YENDO_CACHE")
    path = Path(given) if given else tmp_path_factory.getbasetemp().parent / "yendo-cache"
    path.mkdir(exist_ok=True, parents=True)
    return path


def pytest_collection_modifyitems(items: list[pytest.Item]) -> None:
    """What asks for the real machine, by a fixture or as a parameter, is marked as such. Where somebody says whose turn
    it is (``YENDO_TURN=2/4``), of the tests that take long that part alone is carried out.
    """
    turn, _, turns = os.environ.get("YENDO_TURN", "").partition("/")
    lines = (Path(__file__).parent / "turns.txt").read_text("utf-8").splitlines()
    places = {name: at for at, name in enumerate(line for line in lines if not line.startswith("#"))}
    for item in items:
        place = places.get(item.nodeid.removeprefix("tests/"))
        if turns and place is not None and place % int(turns) != int(turn) % int(turns):
            item.add_marker(
                pytest.mark.skip(reason=f"takes long, and has its turn in another run: YENDO_TURN={turn}/{turns}")
            )
        parameters = getattr(getattr(item, "callspec", None), "params", {})
        if {"wine", "shell_wine"} & set(getattr(item, "fixturenames", ())) or "wine" in parameters.values():
            item.add_marker(pytest.mark.wine)
        if item.get_closest_marker("thorough") and not os.environ.get("YENDO_THOROUGH"):
            item.add_marker(pytest.mark.skip(reason="takes minutes: YENDO_THOROUGH=1"))


Result = subprocess.CompletedProcess[str]
Yendo = Callable[..., Result]


@pytest.fixture(scope="session")
def warm() -> Iterator[Warm | None]:
    """The program with its modules loaded; None where it is to be started anew each time (YENDO_COLD, Windows)."""
    if os.name == "nt" or os.environ.get("YENDO_COLD"):
        yield None
        return
    from warm import Warm

    started = Warm()
    yield started
    started.end()


# What decides how a process begins, so that one that has begun already would not show it.
_BEGINS = ("PYTHON", "LC_", "LANG", "TZ")


@pytest.fixture
def yendo(tmp_path: Path, cache: Path, warm: Warm | None, request: pytest.FixtureRequest) -> Yendo:
    """Runs the installed program in a temporary folder: ``yendo("read", path)``. The tests of the command line itself
    start it anew each time, all others have its modules loaded already.
    """
    cold = request.module.__name__ == "test_cli"
    program = [sys.executable, "-m", "yendo"] if os.name == "nt" else [str(Path(sys.executable).with_name("yendo"))]

    def run(*arguments: object, expect: int | None = 0, environment: dict[str, str] | None = None) -> Result:
        given = {**os.environ, "YENDO_CACHE": str(cache), **(environment or {})}
        words = [*map(str, arguments)]
        if warm is not None and not cold and not any(name.startswith(_BEGINS) for name in environment or {}):
            done = warm.run(words, tmp_path, given, 300)
        else:
            done = subprocess.run(
                [*program, *words],
                capture_output=True,
                text=True,
                encoding="utf-8",
                cwd=tmp_path,
                timeout=300,
                check=False,
                env=given,
            )
        assert expect is None or done.returncode == expect, f"exit code {done.returncode}\n{done.stdout}\n{done.stderr}"
        assert "Traceback" not in done.stderr
        return done

    return run


@pytest.fixture(scope="session")
def vendor(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """A share with the releases of the demo's installer, its patch and a stray file."""
    from yendo.demo.vendor import lantern, lantern_patch

    folder = tmp_path_factory.mktemp("vendor")
    lantern(folder), lantern(folder, "6.1.0"), lantern(folder, "6.2.3"), lantern_patch(folder)
    (folder / "stray.txt").write_text("not needed")
    return folder


@pytest.fixture(scope="session")
def drafted(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """A workspace for the demo's installer alone, its site's values on the command line; not to be changed."""
    from yendo.demo import story
    from yendo.draft import draft

    folder = tmp_path_factory.mktemp("demo")
    installer = story.scene(folder)
    draft.from_installer(folder / "lantern", installer)
    story.edit(folder / "lantern", folder / "site.ini", by_transform=False)
    return folder / "lantern"


@pytest.fixture
def whole(tmp_path: Path) -> Path:
    """The demo's own workspace: installer, the site's transform, patch and configuration file."""
    from yendo.demo import story
    from yendo.draft import draft

    installer = story.scene(tmp_path)
    draft.from_installer(tmp_path / "lantern", installer, [story.patch_of(installer)])
    story.edit(tmp_path / "lantern", tmp_path / "site.ini")
    return tmp_path / "lantern"


@pytest.fixture
def workspace(drafted: Path, tmp_path: Path) -> Path:
    """A copy of the demo's workspace, to be changed at will."""
    return Path(shutil.copytree(drafted, tmp_path / "lantern"))


@pytest.fixture(scope="session")
def open_wine(cache: Path, shell_wine: Any) -> Any:
    """The layer, not shut off from this computer: what is carried out there is our own."""
    from yendo.machines.wine.machine import WineMachine

    return WineMachine(cache, HOST, unconfined=True)


@pytest.fixture(scope="session")
def wine(cache: Path) -> Any:
    """The real machine, with the PowerShell of the tests where it is here."""
    from yendo.errors import NoMachine
    from yendo.machines.wine.machine import WineMachine

    try:
        machine = WineMachine(cache, HOST if HOST.exists() else None)
        machine.template  # noqa: B018
    except NoMachine as error:
        missing("wine", str(error))
    return machine


@pytest.fixture(scope="session")
def shell_wine(wine: Any) -> Any:
    """The real machine, and it has a PowerShell."""
    if not wine.has_powershell:
        missing("PowerShell for wine", "give one by YENDO_POWERSHELL")
    return wine


@pytest.fixture
def machine(wine: Any) -> Iterator[Any]:
    """A fresh session on the real machine."""
    with wine.fresh() as session:
        yield session


def parsed(done: Result) -> dict[str, Any]:
    found = json.loads(done.stdout)
    assert isinstance(found, dict) and "schema" in found
    return found


@pytest.fixture(scope="session")
def stand_in(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """A real program that writes its command line down and leaves with 0."""
    return compiled("standin.c", tmp_path_factory.mktemp("stand-in") / "stand-in.exe")


def compiled(source: str, program: Path) -> Path:
    """A small Windows program from its source beside this file."""
    if not shutil.which("x86_64-w64-mingw32-gcc"):
        missing("the cross compiler", "apt-get install gcc-mingw-w64-x86-64")
    flags = ["-Os", "-nostdlib", "-ffreestanding", "-mwindows", "-Wl,-e,start", "-s"]
    subprocess.run(
        [
            "x86_64-w64-mingw32-gcc",
            *flags,
            str(Path(__file__).with_name(source)),
            "-lkernel32",
            "-ladvapi32",
            "-o",
            str(program),
        ],
        check=True,
    )
    return program
