"""Packages for macOS of the older form, and payloads taken out of both forms.

No such package is in the registries: the archive is by libarchive and cpio, the list by Python's own library, and what
the keys mean is by the documentation alone.
"""

from __future__ import annotations

import bz2
import gzip
import os
import plistlib
import shutil
import subprocess
from pathlib import Path

import mac_half_specimens as made
import pytest
from conftest import Yendo, missing, parsed, unix
from hypothesis import given
from hypothesis import strategies as st

from yendo.errors import Unreadable
from yendo.formats import bom
from yendo.formats.bom import BillItem
from yendo.mac import older, reading, unpacking

pytestmark = unix
INFO = {
    "CFBundleIdentifier": "com.tidewell.charts",
    "CFBundleShortVersionString": "4.0",
    "IFPkgFlagDefaultLocation": "/Library/Tidewell",
    "IFPkgFlagAuthorizationAction": "RootAuthorization",
    "IFPkgFlagRestartAction": "RequiredRestart",
    "IFPkgFlagRelocatable": True,
}


def _tree(folder: Path) -> Path:
    (folder / "Charts").mkdir(parents=True)
    (folder / "Charts/north ß.txt").write_bytes(b"north\n")
    (folder / "Charts/tool").write_bytes(b"#!/bin/sh\nexit 0\n")
    (folder / "Charts/tool").chmod(0o755)
    (folder / "latest").symlink_to("Charts/north ß.txt")
    return folder


def _cpio(tree: Path, by: str = "cpio") -> bytes:
    if not shutil.which(by):
        missing(by, "apt-get install cpio libarchive-tools")
    if by == "bsdtar":
        line = ["bsdtar", "-cf", "-", "--format=cpio", "--uid", "0", "--gid", "80", "-C", tree, "."]
        return subprocess.run(line, check=True, capture_output=True).stdout
    names = "\0".join(sorted(f"./{path.relative_to(tree)}" for path in tree.rglob("*"))).encode()
    line = ["cpio", "-o", "-0", "--quiet", "-H", "odc", "-R", "0:80"]
    return subprocess.run(line, input=names, cwd=tree, check=True, capture_output=True).stdout


def _package(path: Path, tree: Path, by: str = "cpio", packing: str = "gz", **info: object) -> Path:
    inside = path / "Contents"
    (inside / "Resources").mkdir(parents=True)
    data = _cpio(tree, by)
    packed = {"gz": gzip.compress, "bz2": bz2.compress, "": bytes}[packing](data)
    (inside / f"Archive.pax{'.' if packing else ''}{packing}").write_bytes(packed)
    (inside / "Info.plist").write_bytes(plistlib.dumps({**INFO, **info}))
    (inside / "Resources/postflight").write_bytes(b"#!/bin/sh\nsed -i 's/a/b/' \"$2/x\"\n")
    (inside / "Resources/VolumeCheck").write_bytes(b"#!/bin/sh\nexit 0\n")
    return path


@pytest.mark.parametrize(("by", "packing"), [("cpio", "gz"), ("bsdtar", "bz2"), ("cpio", "")])
def test_what_other_writers_packed_is_read_as_it_was(tmp_path: Path, by: str, packing: str, yendo: Yendo) -> None:
    tree = _tree(tmp_path / "tree")
    _package(tmp_path / "Charts.pkg", tree, by, packing)
    told = parsed(yendo("read", "Charts.pkg", "--json"))
    (one,) = told["components"]
    assert (told["form"], one["identifier"], one["version"]) == ("older", "com.tidewell.charts", "4.0")
    assert one["as_root"] and one["restart"] == "restart" and one["location"] == "/Library/Tidewell"
    found = {item["path"]: item for item in one["items"] if item["kind"] != "folder"}
    assert set(found) == {f"/Library/Tidewell/{name}" for name in ("Charts/north ß.txt", "Charts/tool", "latest")}
    assert found["/Library/Tidewell/Charts/tool"]["mode"] == "0755" and found["/Library/Tidewell/latest"]["group"] == 80
    assert found["/Library/Tidewell/latest"]["target"] == "Charts/north ß.txt"
    said = {each["id"] for each in told["findings"]}
    assert {"older-form", "unsigned", "relocatable", "gnu-only"} <= said
    assert [script["when"] for script in one["scripts"]] == ["VolumeCheck", "postflight"]
    shown = yendo("read", "Charts.pkg").stdout
    assert "a package of the older form for macOS" in shown and "--extract" in shown
    assert "sed -i" in yendo("read", "Charts.pkg", "--script").stdout
    yendo("read", "Charts.pkg", "--extract", "out")
    out = tmp_path / "out/Library/Tidewell"
    assert (out / "Charts/north ß.txt").read_bytes() == b"north\n"
    assert (out / "latest").readlink().as_posix() == "Charts/north ß.txt"
    assert os.access(out / "Charts/tool", os.X_OK)
    assert "--extract DIR" in yendo("draft", "w", "Charts.pkg", expect=2).stderr


def test_one_that_holds_several(tmp_path: Path, yendo: Yendo) -> None:
    holder = tmp_path / "All.mpkg"
    for number in range(2):
        place = holder / "Contents/Packages" / f"{number}.pkg"
        _package(place, _tree(tmp_path / f"tree{number}"), CFBundleIdentifier=f"com.tidewell.part{number}")
    info = {"CFBundleIdentifier": "com.tidewell.all", "IFMajorVersion": 3, "IFMinorVersion": 1}
    (holder / "Contents/Info.plist").write_bytes(plistlib.dumps(info))
    (holder / "Contents/Packages/out.pkg").symlink_to("/")
    found = older.read(holder)
    assert (found.identifier, found.version) == ("com.tidewell.all", "3.1")
    assert [one.identifier for one in found.components] == ["com.tidewell.part0", "com.tidewell.part1"]
    assert [name for name, _, _ in older.payloads(holder)] == ["com.tidewell.part0", "com.tidewell.part1"]
    shutil.copytree(holder, tmp_path / "new.mpkg", symlinks=True)
    (tmp_path / "new.mpkg/Contents/Packages/1.pkg/Contents/Resources/postflight").unlink()
    assert "postflight" in yendo("compare", "All.mpkg", "new.mpkg", expect=1).stdout


def test_the_bill_is_held_against_the_archive_and_lists_alone(tmp_path: Path) -> None:
    path = _package(tmp_path / "Charts.pkg", _tree(tmp_path / "tree"))
    data = (tmp_path / "tree/Charts/tool").read_bytes()
    state = bom.Checksum()
    state.update(data)
    items = [BillItem(".", "folder", 0o755, 0, 80), BillItem("./Charts", "folder", 0o755, 0, 80)]
    items.append(BillItem("./Charts/tool", "file", 0o755, 0, 80, len(data), state.value()))
    items.append(BillItem("./Charts/gone", "file", 0o644, 0, 80, 3, 3))
    (path / "Contents/Archive.bom").write_bytes(bom.written(items))
    assert "/Library/Tidewell/Charts/gone" in older.read(path).components[0].unlike
    listed = [one.path for one in older.read(path, listing=True).components[0].items]
    assert "/Library/Tidewell/Charts/gone" in listed and "/Library/Tidewell/latest" not in listed


@given(st.binary(max_size=400), st.sampled_from(["Info.plist", "Archive.pax.gz", "Archive.bom", "Archive.pax"]))
def test_what_is_damaged_is_refused_and_no_more(
    tmp_path_factory: pytest.TempPathFactory, data: bytes, name: str
) -> None:
    path = tmp_path_factory.mktemp("older") / "x.pkg"
    (path / "Contents").mkdir(parents=True)
    (path / "Contents/Info.plist").write_bytes(plistlib.dumps(INFO))
    (path / "Contents/Archive.pax").write_bytes(b"")
    (path / "Contents" / name).write_bytes(data)
    try:
        older.read(path)
    except Unreadable:
        pass


@pytest.mark.parametrize("name", ["../out", "a/../../out", "/etc/../../out"])
def test_nothing_is_taken_out_beside_the_folder(tmp_path: Path, name: str) -> None:
    path = _package(tmp_path / "x.pkg", _tree(tmp_path / "tree"))
    whole = _cpio(tmp_path / "tree")
    end = whole.index(b"070707", 6 + whole.index(b"TRAILER") - 90)
    head = b"070707" + b"000001" * 2 + b"100644" + b"000000" * 2 + b"000001" + b"000000" + b"0" * 11
    entry = head + f"{len(name) + 1:06o}".encode() + b"00000000004" + name.encode() + b"\0tide"
    (path / "Contents/Archive.pax.gz").write_bytes(gzip.compress(entry + whole[end:]))
    with pytest.raises(Unreadable, match="leads out"):
        unpacking.extract(path, tmp_path / "deep/er/out")
    assert not (tmp_path / "out").exists() and not (tmp_path / "deep/out").exists()


def test_a_flat_package_is_taken_out_through_no_link(tmp_path: Path, yendo: Yendo) -> None:
    steps = '[[install]]\nkind = "copy"\nsource = "tree"\nto = "/Library/Tidewell"\n'
    rules = '[[detect]]\nkind = "receipt"\nidentifier = "example.marrowby.lantern"\n'
    folder = made.workspace(tmp_path / "w", steps, rules=rules, media={})
    _tree(folder / "extras/tree")
    package = made.built(folder).package
    yendo("read", package, "--extract", "out")
    out = tmp_path / "out/Library/Tidewell"
    assert (out / "Charts/north ß.txt").read_bytes() == b"north\n" and (out / "latest").is_symlink()
    assert reading.read(package).form == "distribution"
