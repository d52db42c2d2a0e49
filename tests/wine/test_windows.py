"""Yendo as a Windows process, on the API layer: the same inputs give the same bytes there as here.

What runs here has run on the layer, not on Windows.
"""

from __future__ import annotations

import contextlib
import json
import os
import shutil
import subprocess
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import pytest
from conftest import Yendo, missing
from test_kit import made, with_scheduler

import yendo as yendo_package

pytestmark = pytest.mark.wine


def windows(path: Path) -> str:
    return "Z:" + str(path).replace("/", "\\")


@pytest.fixture(scope="module")
def there(tmp_path_factory: pytest.TempPathFactory) -> Any:
    """Runs Yendo as a Windows process."""
    python = os.environ.get("YENDO_WINPYTHON", "")
    if not python or not Path(python).exists():
        missing("a Windows Python", "name one by YENDO_WINPYTHON (shared/tools/windows-python/setup makes one)")
    prefix = tmp_path_factory.mktemp("prefix") / "prefix"

    def run(*arguments: str, expect: int = 0) -> str:
        with (prefix.parent / "said.txt").open("wb+") as said:  # no pipe: the layer's services would hold it open
            done = subprocess.run(
                [python, "-m", "yendo", *arguments],
                env={**os.environ, "WINEPREFIX": str(prefix)},
                stdin=subprocess.DEVNULL,
                stdout=said,
                stderr=said,
                timeout=200,
                check=False,
            )
            said.seek(0)
            text = said.read().decode("utf-8", "replace").replace("\r\n", "\n")
        assert done.returncode == expect, text
        return text

    yield run
    subprocess.run(
        ["wineserver", "-k"], env={**os.environ, "WINEPREFIX": str(prefix)}, check=False, capture_output=True
    )


def contents(folder: Path) -> dict[str, bytes]:
    return {
        path.relative_to(folder).as_posix(): path.read_bytes() for path in sorted(folder.rglob("*")) if path.is_file()
    }


def test_the_same_bytes_on_both(whole: Path, tmp_path: Path, there: Any, yendo: Yendo) -> None:
    """The demo's workspace: installer, transform, patch and configuration file, with its archive."""
    other = Path(shutil.copytree(whole, tmp_path / "other"))
    yendo("build", whole, "--archive")
    there("build", windows(other), "--archive")
    assert contents(whole / "package") == contents(other / "package")


@pytest.mark.thorough
def test_the_way_from_read_to_dossier(vendor: Path, tmp_path: Path, there: Any) -> None:
    installer = windows(vendor / "lantern-6.2.1.msi")
    assert "Lantern 6.2.1 by Tidewell" in there("read", installer)
    folder = windows(tmp_path / "w")
    there("draft", folder, installer)
    there("check", folder)
    there("build", folder)
    assert "Proved on the simulated machine" in there("prove", folder)
    there("prove", folder, "--machine", "wine", expect=4)
    there("detect", "strength", folder)
    there("shelf", windows(tmp_path))


@contextlib.contextmanager
def living_on(machine: Any, tmp_path: Path, begin: str, **brought: Path) -> Iterator[Any]:
    """A session of a machine on which Yendo itself lies, as ``C:\\py\\python.exe C:\\start\\start.py``; ``begin`` is done
    first.
    """
    python = os.environ.get("YENDO_WINPYTHON", "")
    if not python or not Path(python).exists():
        missing("a Windows Python", "name one by YENDO_WINPYTHON (shared/tools/windows-python/setup makes one)")
    home = Path(python).parents[1]
    start = tmp_path / "start"
    start.mkdir()
    (start / "start.py").write_text(
        "import sys\nsys.path[:0] = [r'C:\\site', r'C:\\src']\n"
        + begin
        + "\nfrom yendo.cli.main import main\nsys.exit(main())\n"
    )
    with machine.fresh() as session:
        for source, target in (
            (home / "python", r"C:\py"),
            (home / "site-packages", r"C:\site"),
            (Path(yendo_package.__file__).parents[1], r"C:\src"),
            (start, r"C:\start"),
            *((source, rf"C:\{name}") for name, source in brought.items()),
        ):
            session.bring(source, target)
        with_scheduler(session, tmp_path)
        yield session


@pytest.mark.thorough
def test_captured_on_the_computer_that_it_runs_on(tmp_path: Path, shell_wine: Any) -> None:
    begin = (
        "import functools, yendo.prove.attended as attended\nattended.here = functools.partial(attended.here, idle=0)"
    )
    with living_on(shell_wine, tmp_path, begin) as session:
        line = r"C:\py\python.exe -X utf8 C:\start\start.py capture C:\w --machine here --run "
        line += r'"reg add HKLM\Software\Tidewell /v Here /d x /f"'
        refused = session.run(f'cmd /s /c "{line} 2>&1"', timeout=120)
        assert refused.exit_code == 2 and "--this-computer-may-be-changed" in refused.output
        ran = session.run(f'cmd /s /c "{line} --this-computer-may-be-changed 2>&1"', timeout=400)
        found = session.read(r"C:\w\capture\capture.json")
        assert found and b"Here" in found, ran.output[-3000:]
        assert session.read(r"C:\w\plan.toml") and not session.has_folder(r"C:\Program Files\Yendo proof")


@pytest.mark.thorough
def test_proved_on_the_computer_that_it_runs_on(tmp_path: Path, shell_wine: Any) -> None:
    """``here``: Yendo as a Windows process on a machine of its own, which it changes, and whose result it judges."""
    package = made(tmp_path / "w")
    begin = "import functools, yendo.prove.here as here\nhere.play = functools.partial(here.play, idle=0)"
    with living_on(shell_wine, tmp_path, begin, built=package.parent) as session:
        line = rf'C:\py\python.exe -X utf8 C:\start\start.py prove "C:\built\{package.name}" --machine here --scenario desk'
        refused = session.run(f'cmd /s /c "{line} 2>&1"', timeout=120)
        assert refused.exit_code == 2 and "--this-computer-may-be-changed" in refused.output
        ran = session.run(f'cmd /s /c "{line} --this-computer-may-be-changed --json"', timeout=580)
        found = session.read(rf"C:\built\{package.name}.proof-here-desk.json")
        assert ran.exit_code == 0 and found, ran.output[-3000:]
        assert not session.has_folder(r"C:\Program Files\Tidewell")
    proof = json.loads(found)
    assert proof["passed"] and proof["place"] == "API layer" and proof["runner_executed"]
