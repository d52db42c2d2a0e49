"""What the vendor changed between two versions, of every family, said from outside a workspace."""

from __future__ import annotations

import json
import shutil
from pathlib import Path

import mac_half_specimens as made
import mac_specimens
import pytest
from conftest import Yendo, missing, unix


def told(yendo: Yendo, old: object, new: object, expect: int = 1) -> dict[str, bool]:
    found = json.loads(yendo("compare", old, new, "--json", expect=expect).stdout)
    assert found["schema"] == "yendo.compare/1"
    return {one["text"]: one["mind"] for one in found["differences"]}


def test_two_databases(yendo: Yendo, vendor: Path) -> None:
    found = told(yendo, vendor / "lantern-6.1.0.msi", vendor / "lantern-6.2.1.msi")
    assert found["a new product code"] is False
    said = yendo("compare", vendor / "lantern-6.1.0.msi", vendor / "lantern-6.2.1.msi", expect=1).stdout
    assert (
        "lantern-6.1.0.msi 6.1.0 -> lantern-6.2.1.msi 6.2.1" in " ".join(said.split()) and "yendo msi compare" in said
    )


def test_two_bundles(tmp_path: Path, yendo: Yendo, vendor: Path) -> None:
    old = made.app(tmp_path / "old/Lantern.app")
    new = made.app(
        tmp_path / "new/Lantern.app",
        version="6.3.0",
        oldest="13.0",
        processors=(made.ARM,),
        NSCameraUsageDescription="x",
    )
    found = told(yendo, old, new)
    assert found == {
        "it needs macOS 13.0, before 12.0": True,
        "no processor any more: x86_64": True,
        "new to be allowed: the camera": True,
    }
    assert (
        told(yendo, old, old, expect=0)
        == {}
        == told(yendo, vendor / "lantern-6.2.1.msi", vendor / "lantern-6.2.1.msi", expect=0)
    )
    assert "one is for macOS" in yendo("compare", old, tmp_path / "old", expect=2).stderr


@unix
def test_two_packages(tmp_path: Path, yendo: Yendo) -> None:
    for program in ("bsdtar", "cpio"):
        if not shutil.which(program):
            missing(program, "apt-get install libarchive-tools cpio")
    sides = []
    for name, script, mode in (("old", "#!/bin/sh\nexit 0\n", 0o755), ("new", "#!/bin/sh\ncurl x\n", 0o775)):
        tree = tmp_path / name / "t"
        made.app(tree / "Lantern.app")
        (tree / "Lantern.app/Contents/MacOS").chmod(mode)
        if name == "new":
            (tree / "Lantern.app/Contents/more").write_bytes(b"x")
        sides.append(mac_specimens.package(tmp_path / name / "x.pkg", tree, script=script))
    found = told(yendo, *sides)
    assert found["com.tidewell.lantern: its postinstall is another"]
    assert not found["com.tidewell.lantern: 1 item more: /Applications/Lantern.app/Contents/more"]
    assert any("folder 0775" in text and mind for text, mind in found.items())
    assert any(text.startswith("new finding: it fetches") for text in found)


@pytest.mark.parametrize("name", ["nothing.msi", "text.txt"])
def test_what_is_nothing_to_compare(tmp_path: Path, yendo: Yendo, vendor: Path, name: str) -> None:
    (tmp_path / "text.txt").write_text("x", "utf-8")
    assert yendo("compare", vendor / "lantern-6.2.1.msi", name, expect=None).returncode in (2, 3)
