"""Volumes of the Universal Disk Format, and installation media: made by other programs, listed by others again."""

from __future__ import annotations

import io
import os
import random
import re
import shutil
import subprocess
from pathlib import Path

import pytest
import servicing_specimens
import udf_specimens
from conftest import Yendo, missing, parsed
from test_servicing import made_by_wimtools

from yendo.errors import NotCovered, Unreadable
from yendo.formats import cab, udf
from yendo.formats.udf import UdfVolume
from yendo.installers.images import DiscImage, is_image
from yendo.servicing import media


def made(tree: Path, path: Path, *more: str) -> Path:
    """A volume by another program; its other side, ISO 9660, holds a note alone where ``more`` hides all else."""
    if not shutil.which("genisoimage"):
        missing("genisoimage", "apt-get install genisoimage")
    line = ["genisoimage", "-quiet", "-udf", "-iso-level", "3", "-allow-limited-size", "-input-charset", "utf-8", *more]
    subprocess.run([*line, "-o", str(path), str(tree)], check=True, capture_output=True)
    return path


def tree_of(folder: Path, count: int = 60) -> Path:
    chance = random.Random(7)
    tree = folder / "tree"
    for number in range(count):
        place = tree.joinpath(*(f"fold {chance.randrange(4)}" for _ in range(chance.randrange(4))))
        place.mkdir(parents=True, exist_ok=True)
        name = f"{chance.choice(('gezeiten', 'ключ', 'tide é'))} {number}.dat"
        (place / name).write_bytes(chance.randbytes(chance.choice((0, 1, 2047, 2048, 2049, 70_000))))
    return tree


def test_every_file_as_it_was_put_in(tmp_path: Path) -> None:
    tree = tree_of(tmp_path)
    wanted = {path.relative_to(tree).as_posix(): path.read_bytes() for path in tree.rglob("*") if path.is_file()}
    path = made(tree, tmp_path / "a.iso", "-J")
    with path.open("rb") as file:
        assert udf.is_udf(file)
        volume = UdfVolume(file)
        found = {one.path: volume.open(one).read() for one in volume.files()}
        assert found == wanted
        big = next(one for one in volume.files() if one.size == 70_000)
        part = volume.open(big)
        part.seek(69_990)
        assert part.read(50) == wanted[big.path][69_990:]
    if not shutil.which("7z"):
        missing("7-Zip", "apt-get install p7zip-full")
    told = subprocess.run(["7z", "l", "-slt", "-tUdf", str(path)], capture_output=True, text=True, check=True).stdout
    theirs = dict(re.findall(r"(?m)^Path = (.+)\nFolder = -\nSize = (\d+)", told))
    assert {name: str(len(data)) for name, data in wanted.items()} == theirs


@pytest.mark.parametrize("revision", ["1.02", "1.50", "2.00", "2.01"])
def test_volumes_of_another_maker(tmp_path: Path, revision: str) -> None:
    """Without an ISO 9660 side; empty, since nothing here writes into one without mounting it."""
    program = shutil.which("mkudffs") or "/usr/sbin/mkudffs"
    if not Path(program).exists():
        missing("mkudffs", "apt-get install udftools")
    path = tmp_path / "a.img"
    path.touch()
    os.truncate(path, 16 << 20)
    label = f"GEZEITEN-{revision}"
    line = [program, "--media-type=hd", "--blocksize=2048", f"--udfrev={revision}", f"--label={label}", str(path)]
    subprocess.run(line, check=True, capture_output=True)
    with path.open("rb") as file:
        volume = UdfVolume(file)
        assert volume.name == label and list(volume.files()) == []
    assert is_image(path)
    with DiscImage(path) as image:
        assert image.entries() == []


def test_the_specimen_for_damage() -> None:
    """Read by our reader alone: it has no primary descriptor, which others ask for."""
    files = {"a.txt": b"take soundings", "ключ.dat": bytes(range(256)) * 20}
    volume = UdfVolume(io.BytesIO(udf_specimens.volume(files)))
    assert {one.path: volume.open(one).read() for one in volume.files()} == files and volume.name == "TIDE"


def test_what_is_none_or_of_another_kind() -> None:
    whole = udf_specimens.volume({"a.txt": b"a"})
    for at, old, new, error in (
        (256 * 2048, b"\2", b"\3", Unreadable),  # the anchor's head does not add up
        (258 * 2048 + 440, b"\1", b"\2", NotCovered),  # a partition behind a map
        (258 * 2048 + 212, b"\0\x08", b"\0\x02", NotCovered),  # blocks of 512 bytes
    ):
        assert whole[at : at + len(old)] == old
        data = whole[:at] + new + whole[at + len(old) :]
        with pytest.raises(error):
            list(UdfVolume(io.BytesIO(data)).files())
    with pytest.raises(Unreadable):
        UdfVolume(io.BytesIO(whole[: 255 * 2048]))
    assert not udf.is_udf(io.BytesIO(b"\0" * (40 * 2048)))


@pytest.mark.parametrize("kind", ["wim", "esd", "swm", "folder"])
def test_media_say_what_they_upgrade(tmp_path: Path, yendo: Yendo, kind: str) -> None:
    """Also where the ISO 9660 side holds a note alone; a part of a split image file that is missing is told."""
    (tmp_path / "i").mkdir()
    made_by_wimtools(tmp_path / "i", "LZX" if kind == "swm" else "none", solid=kind == "esd", split=kind == "swm")
    tree = tmp_path / "tree"
    (tree / "sources").mkdir(parents=True)
    ending = "wim" if kind == "folder" else kind
    for one in (tmp_path / "i").glob(f"install*.{ending}"):
        shutil.copyfile(one, tree / "sources" / one.name)
    (tmp_path / "b").mkdir()
    shutil.copyfile(made_by_wimtools(tmp_path / "b", "none"), tree / "sources" / "boot.wim")
    (tree / "setup.exe").write_bytes(b"MZ")
    (tree / "readme.txt").write_text("This disc holds a UDF file system.")
    path = tree
    if kind != "folder":
        path = made(tree, tmp_path / "tide.iso", "-hide", "sources", "-hide", "setup.exe")
    found = parsed(yendo("read", path, "--json"))
    assert found["schema"] == "yendo.system-media/1" and found["image_file"] == f"sources/install.{ending}"
    assert [one["edition"] for one in found["image"]["images"]] == ["Core", "Professional"]
    assert found["build"] == "26100" and len(found["starts"]) == 2 and found["setup"] == "setup.exe"
    for line in (
        'os = "<10.0.26100"',
        'architecture = ["x64"]',
        'edition = ["Core", "Professional"]',
        'language = ["de-DE"]',
    ):
        assert line in found["condition"]
    said = yendo("read", path).stdout
    assert "installation media with 2 editions" in said and "no editions: Gezeiten Core" in said
    if kind == "swm":
        (tree / "sources" / "install2.swm").unlink()
        assert "missing  sources/install2.swm" in yendo("read", tree).stdout
    if kind == "wim":
        yendo("read", path, "--extract", "readme.txt", "-o", tmp_path / "note.txt", expect=None)
    (tree / "setup.exe").unlink()
    assert "no setup program" in yendo("read", tree).stdout
    assert media.read(tmp_path / "i") is None


def test_packages_of_the_system_among_others(tmp_path: Path, yendo: Yendo) -> None:
    """In a folder and in a disc image, read where they lie; one of them becomes a package without anything unpacked."""
    tree = tmp_path / "tree" / "LanguagesAndOptionalFeatures"
    tree.mkdir(parents=True)
    (tree / "Tide-Gauge-Package.cab").write_bytes(servicing_specimens.cabinet("Tide-Gauge-Package", "10.0.19041.1"))
    (tree / "kb.msu").write_bytes(servicing_specimens.usual())
    (tree / "broken.cab").write_bytes(servicing_specimens.cabinet()[:200])
    (tree / "plain.cab").write_bytes(cab.build({"a.txt": b"a"}.items()))
    image = made(tmp_path / "tree", tmp_path / "lof.iso", "-J")
    for source, key in ((tmp_path / "tree", "packages"), (image, "system_packages")):
        found = {Path(one["path"]).name: one for one in parsed(yendo("read", source, "--json"))[key]}
        assert found["Tide-Gauge-Package.cab"]["version"] == "10.0.19041.1" and found["kb.msu"]["builds"] == ["19041"]
        assert "plain.cab" not in found and found["broken.cab"]["trouble"]
        assert "Package_for_KB9900001" in yendo("read", source).stdout
    yendo("draft", tmp_path / "w", image, "--inside", "LanguagesAndOptionalFeatures/Tide-Gauge-Package.cab")
    text = (tmp_path / "w" / "plan.toml").read_text("utf-8")
    assert 'from = "extras/Tide-Gauge-Package.cab"' in text and 'os = ">=10.0.19041, <10.0.19046"' in text
