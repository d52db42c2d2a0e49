"""Disk images of macOS: volumes by another writer, packed in every way, read alike by other readers."""

from __future__ import annotations

import gzip
import importlib.util
import os
import random
import shutil
import subprocess
import unicodedata
from pathlib import Path
from typing import Any

import apfs_images
import mac_images
import mac_signing
import pytest
from conftest import Yendo, missing, parsed, unix

from yendo.errors import NotCovered, Unreadable
from yendo.formats import hfs_plus, udif
from yendo.formats.apfs import Apfs
from yendo.formats.hfs_plus import HfsPlus
from yendo.mac import images

FILES = {"Resources/tides.dat": bytes(range(256)) * 4000, "Resources/a.txt": b"a"}


@pytest.fixture
def tree(tmp_path: Path) -> Path:
    folder = tmp_path / "tree"
    app = mac_signing.bundle(folder / "Lantern.app", FILES, info={"CFBundleShortVersionString": "6.2.1"})
    (app / "Contents" / "MacOS" / "lantern").chmod(0o755)
    chance = random.Random(4)
    (folder / "docs").mkdir()
    (folder / "docs" / "tide müll.txt").write_bytes(b"u")
    (folder / "empty").write_bytes(b"")
    for number in range(300):
        (folder / "docs" / f"{number:03} {'x' * (number % 40)}.dat").write_bytes(chance.randbytes(number * 7))
    (folder / "Applications").symlink_to("/Applications")
    return folder


def _contents(folder: Path) -> dict[str, Any]:
    # the file system takes letters with marks apart
    return {
        unicodedata.normalize("NFC", path.relative_to(folder).as_posix()): str(path.readlink())
        if path.is_symlink()
        else path.read_bytes()
        for path in sorted(folder.rglob("*"))
        if path.is_symlink() or path.is_file()
    }


@unix
@pytest.mark.parametrize("kind", ["raw", "zlib", "bzip2", "lzma", "lzfse"])
def test_packed_in_every_way(tree: Path, tmp_path: Path, kind: str) -> None:
    """The same disk by us and by others, and the same files as were put on it."""
    if kind == "lzfse":
        pytest.importorskip("liblzfse")
    volume = mac_images.volume(tree, tmp_path / "x.iso")
    path = tmp_path / f"{kind}.dmg"
    path.write_bytes(mac_images.image(volume, kind))
    with path.open("rb") as file:
        disk = udif.DiskImage(file)
        assert disk.read() == volume.ljust(len(disk), b"\0")
        disk.seek(70_001)
        assert disk.read(4096) == volume[70_001 : 70_001 + 4096]
    if kind not in ("lzma", "lzfse"):  # which the other one does not know
        if not shutil.which("dmg2img"):
            missing("dmg2img", "apt-get install dmg2img")
        subprocess.run(["dmg2img", "-s", path, tmp_path / "other.img"], check=True, stdin=subprocess.DEVNULL)
        assert (tmp_path / "other.img").read_bytes()[: len(volume)] == volume
    if not (program := shutil.which("7z")):
        missing("7-Zip", "apt-get install p7zip-full")
    subprocess.run([program, "x", "-bd", f"-o{tmp_path / 'by7z'}", path], capture_output=True, check=False)
    with images.opened(path) as (opened, _):
        items = opened.items()
        images.extract(opened, items, tmp_path / "ours")
    ours = _contents(tmp_path / "ours")
    assert ours == _contents(tree)
    theirs = _contents(next((tmp_path / "by7z").iterdir()))
    assert {name: data for name, data in theirs.items() if isinstance(data, bytes) and name != "Applications"} == {
        name: data for name, data in ours.items() if isinstance(data, bytes)
    }


@unix
def test_what_is_told(tree: Path, tmp_path: Path, yendo: Yendo) -> None:
    path = tmp_path / "lantern.dmg"
    path.write_bytes(mac_images.image(mac_images.volume(tree, tmp_path / "x.iso"), licence=True))
    said = parsed(yendo("read", path, "--json"))
    assert (said["schema"], said["packings"], said["licence"]) == ("yendo.mac-image/1", ["zlib"], True)
    (app,) = said["apps"]
    assert (app["version"], app["sealed"], app["code"][0]["held"]) == ("6.2.1", "whole", "ad hoc")
    program = next(item for item in said["items"] if item["path"].endswith("MacOS/lantern"))
    assert (program["mode"], program["kind"]) == (0o755, "file")
    text = yendo("read", path).stdout
    assert "a disk image for macOS" in text and "every file is as it was sealed" in text and "licence" in text
    yendo("read", path, "--extract", "out")
    assert (tmp_path / "out" / "Lantern.app" / "Contents" / "Resources" / "a.txt").read_bytes() == b"a"
    assert (tmp_path / "out" / "Applications").readlink() == Path("/Applications")
    bare = tmp_path / "bare.img"
    bare.write_bytes(mac_images.volume(tree, tmp_path / "y.iso"))
    assert len(parsed(yendo("read", bare, "--json"))["apps"]) == 1


def test_what_is_refused_by_name(tmp_path: Path, yendo: Yendo) -> None:
    disk = bytearray(1 << 20)
    path = tmp_path / "x.dmg"
    path.write_bytes(mac_images.image(bytes(disk)))
    assert "holds no volume of HFS Plus or APFS" in yendo("read", path, expect=3).stderr
    (tmp_path / "folder").mkdir()
    path.write_bytes(mac_images.image(apfs_images.volume(tmp_path / "folder", encrypted=True), name="x (Apple_APFS)"))
    assert "the volume Lantern of x.dmg is encrypted, and is not read" in yendo("read", path, expect=3).stderr
    disk[1024:1028] = b"H+\0\4"
    path.write_bytes(mac_images.image(bytes(disk), "adc"))
    with path.open("rb") as file, pytest.raises(NotCovered, match="packed with ADC"):
        udif.DiskImage(file).read()


@unix
def test_damaged_ones(tree: Path, tmp_path: Path) -> None:
    """Read or refused, in bounded time, and nothing outside the target."""
    volume = bytearray(mac_images.volume(tree, tmp_path / "x.iso"))
    chance, refused = random.Random(9), 0
    for number in range(120):
        data = bytearray(volume)
        for _ in range(chance.randint(1, 10)):
            data[chance.randrange(1024, 1536) if number % 2 else chance.randrange(60_000)] = chance.randrange(256)
        (tmp_path / "bad.img").write_bytes(data)
        with (tmp_path / "bad.img").open("rb") as file:
            try:
                opened = HfsPlus(file)
                for item in opened.items():
                    assert not {"", ".", ".."} & set(item.path.split("/"))
                    if item.kind == "file" and item.size < 1 << 22:
                        opened.open(item).read()
            except Unreadable:
                refused += 1
    assert refused
    assert not hfs_plus.is_volume((tmp_path / "x.iso").open("rb"), 5)


@unix
def test_a_volume_of_the_newer_file_system(tree: Path, tmp_path: Path, yendo: Yendo) -> None:
    """Made by us, read alike by another reader; a block that somebody changed is noticed."""
    volume = bytearray(apfs_images.volume(tree))
    path = tmp_path / "lantern.dmg"
    path.write_bytes(mac_images.image(bytes(volume), name="disk image (Apple_APFS : 1)"))
    with images.opened(path) as (opened, _):
        images.extract(opened, opened.items(), tmp_path / "ours")
    assert _contents(tmp_path / "ours") == _contents(tree)
    assert _by_another(path, tmp_path / "theirs") == _by_another(tmp_path / "ours", None)
    said = parsed(yendo("read", path, "--json"))
    assert (said["volume"], [app["version"] for app in said["apps"]]) == ("Lantern", ["6.2.1"])
    noticed = 0
    for place in (8, 9, 10, 11, 12, 13):
        volume[place * 4096 + 100] ^= 1
        with (tmp_path / "bad.img").open("w+b") as file:
            file.write(volume)
            with pytest.raises(Unreadable, match=f"block {place} "):
                Apfs(file)
            noticed += 1
        volume[place * 4096 + 100] ^= 1
    assert noticed == 6


def _by_another(path: Path, target: Path | None) -> dict[str, bytes]:
    """The files of an image by another reader, or those of a folder; what a link leads to is left out."""
    if target is not None:
        if not (program := shutil.which("7z")):
            missing("7-Zip", "apt-get install p7zip-full")
        subprocess.run([program, "x", "-bd", f"-o{target}", path], capture_output=True, check=False)
        path = target
    return {name: data for name, data in _contents(path).items() if isinstance(data, bytes) and name != "Applications"}


@unix
def test_volumes_that_macos_made(tmp_path: Path) -> None:
    """Out of another reader's tests: with and without capitals told apart, converted, with snapshots, damaged, encrypted."""
    top = os.environ.get("YENDO_APFS_IMAGES", "")
    found = {path.name.split(".")[0]: path for path in sorted(Path(top).rglob("*.bin.gz"))} if top else {}
    if not found:
        missing(
            "images of APFS", "YENDO_APFS_IMAGES names a folder with *.bin.gz, as the source of dissect.apfs has them"
        )
    packed = importlib.util.find_spec("liblzfse") is not None
    for name in ("case_insensitive", "case_sensitive", "case_sensitive_beta", "jhfs_converted"):
        image = tmp_path / f"{name}.img"
        image.write_bytes(gzip.decompress(found[name].read_bytes()))
        with images.opened(image) as (volume, _):
            ours = {
                unicodedata.normalize("NFC", item.path): volume.open(item).read()
                for item in volume.items()
                if item.kind == "file" and (packed or "lz" not in item.path)
            }
        theirs = _by_another(image, tmp_path / name)
        assert (
            ours
            and {one: data for one, data in theirs.items() if "compressed" not in one and "lz" not in one}.items()
            >= {one: data for one, data in ours.items() if "compressed" not in one}.items()
        )
        for beside in ("fork", "xattr"):  # the same file in every packing
            same = {data for one, data in ours.items() if "compressed" in one and one.endswith(beside)}
            assert len(same) == 1, name
    # the newest two heads of this one are damaged; a third reader takes the one before, as ours does
    image.write_bytes(gzip.decompress(found["corrupt"].read_bytes()))
    with images.opened(image) as (volume, _):
        assert [item.path for item in volume.items()] == ["FEVER"]
        assert volume.open(volume.items()[0]).read().startswith(b"# BEGIN TEST DATA")
    # one with 512 snapshots, in each of which the file stands that is gone from the volume
    image.write_bytes(gzip.decompress(found["snapshot"].read_bytes()))
    with images.opened(image) as (volume, _):
        assert (volume.label, volume.items()) == ("Snapshots", [])
    image.write_bytes(gzip.decompress(found["encrypted"].read_bytes()))
    with pytest.raises(NotCovered, match="encrypted"), images.opened(image) as (volume, _):
        volume.items()
