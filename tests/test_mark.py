"""A package's own mark: written last, taken away first, and detected by itself."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import pytest
from conftest import Yendo

from yendo.detect import detected
from yendo.detect.evaluate import sight_of
from yendo.machines.simulated.machine import SimulatedMachine
from yendo.package import build, carry
from yendo.package import manifest as form
from yendo.plan import mark, read
from yendo.prove.prove import prove


@pytest.fixture
def lantern(vendor: Path, tmp_path: Path, yendo: Yendo) -> Path:
    yendo("draft", "lantern", vendor / "lantern-6.2.1.msi")
    yendo("decide", "lantern", "--accept-defaults", "--answer", "package.contact=x", "--answer", "media.origin=y")
    path = tmp_path / "lantern" / "plan.toml"
    path.write_text("mark = true\n" + path.read_text())
    return tmp_path / "lantern"


def made(workspace: Path) -> Path:
    return build.build(workspace, read(workspace / "plan.toml")[0]).folder


def test_first_and_last(lantern: Path) -> None:
    manifest = form.read(made(lantern))
    assert [action.kind for action in manifest.install][-1] == "registry"
    assert [action.kind for action in manifest.uninstall][:2] == ["registry", "registry"]
    assert manifest.detect[-1].title.startswith(r"registry HKLM\Software\Yendo\Installed\tidewell-lantern = 6.2.1 r1 ")
    proof = prove(made(lantern), SimulatedMachine())
    assert proof.passed and not [left for left in proof.leftovers if left.whose != "runner"]


def test_another_revision_is_not_this_one(lantern: Path) -> None:
    """What the vendor left is the same; only the mark tells the two apart."""
    package = made(lantern)
    manifest = form.read(package)
    path = lantern / "plan.toml"
    path.write_text(path.read_text().replace("revision = 1", "revision = 2"))
    later = read(path)[0].detect
    with SimulatedMachine().fresh() as session:
        session.bring(package, r"C:\p")
        ended = carry.carry(manifest, package, session, "install", folder=r"C:\p")
        assert ended.exit_code == 0
        assert detected(manifest.detect, sight_of(session))[0]
        assert not detected(later, sight_of(session))[0]


def test_it_follows_what_is_installed(lantern: Path) -> None:
    path = lantern / "plan.toml"
    first = mark.value(read(path)[0])
    path.write_text(path.read_text().replace('timeout = "30 min"', 'timeout = "40 min"', 1))
    second = mark.value(read(path)[0])
    assert first != second and first.split()[:2] == second.split()[:2] == ["6.2.1", "r1"]


def test_a_plan_without_it_has_none(vendor: Path, yendo: Yendo, tmp_path: Path) -> None:
    yendo("draft", "plain", vendor / "lantern-6.2.1.msi")
    manifest = form.read(made(tmp_path / "plain"))
    assert "Yendo" not in str(manifest.detect) and {action.kind for action in manifest.install} == {"msi"}


@pytest.mark.thorough
@pytest.mark.wine
def test_on_the_layer(lantern: Path, shell_wine: Any) -> None:
    proof = prove(made(lantern), shell_wine, scenario="system")
    assert proof.passed, [(one.title, one.details) for one in proof.phases if one.outcome == "failed"]
