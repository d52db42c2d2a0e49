"""Installers in archives: listed, taken out with what lies beside them, and nothing where it does not belong."""

from __future__ import annotations

import io
import shutil
import subprocess
import zipfile
from pathlib import Path

import pytest
from conftest import Yendo, missing, parsed, unix

from yendo.errors import Unreadable, Usage
from yendo.installers import holders, packed
from yendo.plan import read


def _zip(target: Path, files: dict[str, bytes]) -> Path:
    with zipfile.ZipFile(target, "w", zipfile.ZIP_DEFLATED) as archive:
        for name, data in files.items():
            archive.writestr(name, data)
    return target


def test_an_installer_in_an_archive(tmp_path: Path, vendor: Path, yendo: Yendo) -> None:
    """Read, drafted with its origin, built and proved like one that lies there by itself."""
    data = (vendor / "lantern-6.2.1.msi").read_bytes()
    _zip(tmp_path / "vendor.zip", {"Setup/lantern-6.2.1.msi": data, "Setup/docs/notes.txt": b"x", "other/a.txt": b"y"})
    said = parsed(yendo("read", "vendor.zip", "--json"))
    assert said["kind"] == "zip archive" and len(said["files"]) == 3
    assert [(one["path"], one["family"]) for one in said["installers"]] == [("Setup/lantern-6.2.1.msi", "msi")]
    assert "--inside Setup/lantern-6.2.1.msi" in yendo("read", "vendor.zip").stdout
    yendo("draft", "w", "vendor.zip")
    (medium,) = read(tmp_path / "w" / "plan.toml")[0].media
    assert medium.file == "lantern-6.2.1.msi" and medium.origin.startswith("vendor.zip (SHA-256 ")
    assert (tmp_path / "w" / "media" / medium.file).read_bytes() == data
    yendo("read", "vendor.zip", "--extract", "out")
    assert (tmp_path / "out" / "Setup" / "docs" / "notes.txt").read_bytes() == b"x"


def test_two_in_one(tmp_path: Path, vendor: Path, yendo: Yendo) -> None:
    one, two = ((vendor / f"lantern-{version}.msi").read_bytes() for version in ("6.1.0", "6.2.1"))
    _zip(tmp_path / "both.zip", {"a.msi": one, "b.msi": two})
    assert "holds 2 installers; say which by --inside: a.msi, b.msi" in yendo("draft", "w", "both.zip", expect=2).stderr
    yendo("draft", "w", "both.zip", "--inside", "B.msi")
    assert read(tmp_path / "w" / "plan.toml")[0].package.version == "6.2.1"
    none = _zip(tmp_path / "none.zip", {"a.txt": b"x"})
    assert "holds 0 installers" in yendo("draft", "v", none, expect=2).stderr
    assert "--extract DIR takes them out" in " ".join(yendo("read", none).stdout.split())
    assert (
        "is no disc image and no archive"
        in yendo("draft", "v", vendor / "lantern-6.1.0.msi", "--inside", "x", expect=2).stderr
    )


def test_what_lies_beside_comes_along(tmp_path: Path) -> None:
    path = _zip(tmp_path / "x.zip", {"top.txt": b"t", "in/setup.exe": b"MZ" + bytes(99), "in/data/a.cab": b"MSCF"})
    with holders.opened(path, "in/setup.exe") as (installer, origin):
        there = {one.relative_to(installer.parent).as_posix() for one in installer.parent.rglob("*") if one.is_file()}
        assert there == {"setup.exe", "data/a.cab"} and origin.endswith("in/setup.exe")
        place = installer.parent
    assert not place.exists()


def test_by_7_zip(tmp_path: Path, vendor: Path) -> None:
    if not (program := shutil.which("7z")):
        missing("7-Zip", "apt-get install p7zip-full")
    for ending in ("7z", "zip"):
        subprocess.run(
            [program, "a", "-bd", tmp_path / f"x.{ending}", vendor / "lantern-6.2.1.msi"],
            check=True,
            capture_output=True,
        )
        with holders.holder_of(tmp_path / f"x.{ending}") as holder:
            assert holder is not None and [one.family for one in holder.installers()] == ["msi"]
        with holders.opened(tmp_path / f"x.{ending}") as (installer, _):
            assert installer.read_bytes() == (vendor / "lantern-6.2.1.msi").read_bytes()


@unix
def test_hostile_ones(tmp_path: Path) -> None:
    """Names that lead elsewhere, links, two of one name, and what would fill the disk: left out or refused."""
    path = tmp_path / "x.zip"
    with zipfile.ZipFile(path, "w") as archive:
        for name in ("../up.msi", "/abs.msi", "C:/x.msi", "a/../../b.msi", "con.msi", "ok.msi", "OK.msi", "./in/s.msi"):
            archive.writestr(name, b"x")
        link = zipfile.ZipInfo("link.msi")
        link.external_attr = 0o120777 << 16
        archive.writestr(link, b"/etc/passwd")
    with packed.Packed(path, "zip") as opened:
        assert [one.path for one in opened.entries()] == ["in/s.msi", "ok.msi"]
        opened.extract(["ok.msi", "in/s.msi"], tmp_path / "out")
    assert sorted(one.name for one in (tmp_path / "out").rglob("*")) == ["in", "ok.msi", "s.msi"]
    behind = io.BytesIO()
    with zipfile.ZipFile(behind, "w", zipfile.ZIP_DEFLATED) as archive, archive.open("large.msi", "w") as member:
        for _ in range(100):
            member.write(bytes(1 << 20))
    (tmp_path / "bomb.zip").write_bytes(behind.getvalue())
    with (
        pytest.raises(Usage, match="would unpack to 104857600 bytes"),
        holders.opened(tmp_path / "bomb.zip", "large.msi"),
    ):
        pass
    (tmp_path / "cut.zip").write_bytes(path.read_bytes()[:60])
    with pytest.raises(Unreadable), holders.holder_of(tmp_path / "cut.zip"):
        pass
