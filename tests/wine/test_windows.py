"""Yendo as a Windows process, on the API layer: the same inputs give the same bytes there as here.

What runs here has run on the layer, not on Windows.
"""

from __future__ import annotations

import json
import os
import shutil
import subprocess
from pathlib import Path
from typing import Any

import pytest
from conftest import Yendo, missing
from test_kit import made

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


@pytest.mark.thorough
def test_proved_on_the_computer_that_it_runs_on(tmp_path: Path, shell_wine: Any) -> None:
    """``here``: Yendo as a Windows process on a machine of its own, which it changes, and whose result it judges."""
    python = os.environ.get("YENDO_WINPYTHON", "")
    if not python or not Path(python).exists():
        missing("a Windows Python", "name one by YENDO_WINPYTHON (shared/tools/windows-python/setup makes one)")
    home = Path(python).parents[1]
    package = made(tmp_path / "w")
    start = tmp_path / "start"
    start.mkdir()
    (start / "start.py").write_text(
        "import sys\nsys.path[:0] = [r'C:\\site', r'C:\\src']\n"
        "import functools, yendo.prove.here as here\nhere.play = functools.partial(here.play, idle=0)\n"
        "from yendo.cli.main import main\nsys.exit(main())\n"
    )
    with shell_wine.fresh() as session:
        for source, target in (
            (home / "python", r"C:\py"),
            (home / "site-packages", r"C:\site"),
            (Path(yendo_package.__file__).parents[1], r"C:\src"),
            (start, r"C:\start"),
            (package.parent, r"C:\built"),
        ):
            session.bring(source, target)
        line = rf'C:\py\python.exe -X utf8 C:\start\start.py prove "C:\built\{package.name}" --machine here --scenario desk'
        refused = session.run(f'cmd /s /c "{line} 2>&1"', timeout=120)
        assert refused.exit_code == 2 and "--this-computer-may-be-changed" in refused.output
        ran = session.run(f'cmd /s /c "{line} --this-computer-may-be-changed --json"', timeout=580)
        found = session.read(rf"C:\built\{package.name}.proof-here-desk.json")
        assert ran.exit_code == 0 and found, ran.output[-3000:]
        assert not session.has_folder(r"C:\Program Files\Tidewell")
    proof = json.loads(found)
    assert proof["passed"] and proof["place"] == "API layer" and proof["runner_executed"]
