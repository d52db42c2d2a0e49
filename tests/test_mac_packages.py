"""Packages for macOS: archives and payloads by other writers (libarchive, cpio) read by ours; faults and scripts, one by one."""

from __future__ import annotations

import filecmp
import json
import os
import random
import shutil
import stat
import struct
import zlib
from pathlib import Path

import mac_half_specimens as half
import mac_specimens as made
import pytest
from conftest import Yendo, missing, unix

from yendo.errors import YendoError
from yendo.formats import cpio, xar
from yendo.mac import findings, reading
from yendo.mac.package import MacScript

pytestmark = unix  # the other writers are Unix programs


@pytest.fixture(autouse=True)
def writers() -> None:
    for program, where in (("bsdtar", "libarchive-tools"), ("cpio", "cpio")):
        if not shutil.which(program):
            missing(program, f"apt-get install {where}")


def tree(folder: Path, seed: int) -> Path:
    """Files, folders, links, modes, names beyond ASCII."""
    chance = random.Random(seed)
    places = [folder]
    folder.mkdir()
    for number in range(chance.randrange(3, 14)):
        place = chance.choice(places) / f"{chance.choice(['tide', 'Pegel ß', '潮', 'a b'])}{number}"
        what = chance.randrange(4)
        if what == 0:
            place.mkdir()
            places.append(place)
        elif what == 1:
            place.symlink_to(chance.choice(["../x", "tide0", "/Library/潮"]))
        else:
            place.write_bytes(chance.randbytes(chance.choice([0, 1, 511, 5000, 70_000])))
            place.chmod(chance.choice([0o644, 0o755, 0o600, 0o4755]))
    return folder


def expected(folder: Path) -> dict[str, tuple[str, int, int, str]]:
    found = {}
    for path in sorted(folder.rglob("*")):
        about = path.lstat()
        kind = "link" if path.is_symlink() else "folder" if path.is_dir() else "file"
        target = str(path.readlink()) if kind == "link" else ""
        mode = stat.S_IMODE(about.st_mode)
        found[path.relative_to(folder).as_posix()] = (kind, mode, about.st_size if kind == "file" else 0, target)
    return found


@pytest.mark.parametrize("seed", range(300 if os.environ.get("YENDO_THOROUGH") else 24))
def test_payloads_and_archives_of_other_writers(tmp_path: Path, seed: int) -> None:
    folder = tree(tmp_path / "t", seed)
    form, packing = ("odc", "newc")[seed % 2], list(made.PACKINGS)[seed % 5]
    raw = made.payload(folder, form, packing)
    with (tmp_path / "raw").open("w+b") as file:
        file.write(raw)
        file.seek(0)
        listed = list(cpio.walk(file, 1 << 20))
    found = {
        entry.path: (entry.kind, entry.mode & 0o7777, entry.size if entry.kind == "file" else 0, entry.target)
        for entry, _ in listed
    }
    found.pop(".", None)
    assert found == expected(folder)
    assert all((entry.user, entry.group) == (0, 80) for entry, _ in listed)
    for entry, data in listed:
        if entry.kind == "file":
            assert data == (folder / entry.path).read_bytes()
    path = tmp_path / "a.xar"
    made.subprocess.run(["bsdtar", "--format=xar", "-cf", path, "-C", folder, "."], check=True, capture_output=True)
    with path.open("rb") as file:
        archive = xar.Xar(file)
        assert archive.problem == ""
        entries = {
            entry.path.removeprefix("./"): (
                entry.kind,
                entry.mode,
                entry.size if entry.kind == "file" else 0,
                entry.target,
            )
            for entry in archive.entries
            if entry.path != "."
        }
        plain = {name: (kind, mode & 0o777, *rest) for name, (kind, mode, *rest) in expected(folder).items()}
        assert entries == plain  # that writer leaves the upper bits of a mode out
        for entry in archive.entries:
            if entry.kind == "file":
                assert archive.read(entry, 1 << 20) == (folder / entry.path.removeprefix("./")).read_bytes()


@pytest.mark.skipif(not os.environ.get("YENDO_THOROUGH"), reason="takes minutes: YENDO_THOROUGH=1")
def test_five_gigabytes_and_a_hundred_thousand_files(tmp_path: Path) -> None:
    """Ours read by libarchive, and what cpio wrote by ours."""
    source = tmp_path / "w/media/charts"
    for number in range(100_000):
        place = source / f"Pegel {number // 200}/{number} ß.tide"
        if number % 200 == 0:
            place.parent.mkdir(parents=True)
        place.write_bytes(b"%d\n" % number)
    with (source / "large").open("wb") as file:
        for at in range(5 * 1024):
            file.write(b"%020d" % at + bytes((1 << 20) - 20))
    (source / "link").symlink_to("large")
    wanted = {
        path.relative_to(source).as_posix(): path.lstat().st_size for path in source.rglob("*") if not path.is_dir()
    }
    steps = '[[install]]\nkind = "copy"\nsource = "charts"\nto = "/Library/Charts"\n'
    rules = '[[detect]]\nkind = "receipt"\nidentifier = "example.marrowby.lantern"\n'
    text = half.PLAN.format(media="", steps=steps, rules=rules, processors='"arm64"')
    (tmp_path / "w/macos.toml").write_text(text, "utf-8")
    package = half.built(tmp_path / "w").package
    ours = reading.read(package)
    laid = {
        one.path.removeprefix("/Library/Charts/"): one.size for one in ours.components[0].items if one.kind != "folder"
    }
    assert laid == wanted and [one.id for one in ours.findings] == ["unsigned"]
    made.subprocess.run(["bsdtar", "-xf", package, "-C", tmp_path, "main.pkg/Payload"], check=True)
    (tmp_path / "out").mkdir()
    made.subprocess.run(["bsdtar", "-xf", tmp_path / "main.pkg/Payload", "-C", tmp_path / "out"], check=True)
    there = tmp_path / "out/Library/Charts"
    assert {
        path.relative_to(there).as_posix(): path.lstat().st_size for path in there.rglob("*") if not path.is_dir()
    } == wanted
    assert filecmp.cmp(there / "large", source / "large", shallow=False)
    assert all(
        (there / name).read_bytes() == (source / name).read_bytes() for name in list(wanted)[::997] if name != "large"
    )
    shutil.rmtree(tmp_path / "out")
    names = "\0".join(wanted).encode()
    with (tmp_path / "theirs").open("wb") as out:
        line = ["cpio", "-o", "-0", "--quiet", "-H", "odc"]
        made.subprocess.run(line, input=names, cwd=source, stdout=out, check=True)
    with (tmp_path / "theirs").open("rb") as file:
        assert {one.path: one.size if one.kind != "link" else 5 for one in cpio.entries(file)} == wanted


def app(folder: Path) -> Path:
    program = folder / "Lantern.app" / "Contents" / "MacOS" / "lantern"
    program.parent.mkdir(parents=True)
    program.write_bytes(b"lantern")
    program.chmod(0o755)
    return folder


def ids(path: Path) -> list[str]:
    return sorted(finding.id for finding in reading.read(path).findings)


GOOD = '#!/bin/sh\nset -e\n# curl is not called here\n/usr/bin/defaults write /Library/Preferences/com.tidewell.lantern Updates -bool NO\nln -sf "$3/Applications/Lantern.app" "$3/usr/local/lantern"\nexit 0\n'


def test_a_good_one_and_its_signature(tmp_path: Path) -> None:
    plain = made.package(tmp_path / "plain.pkg", app(tmp_path / "t"), script=GOOD)
    assert ids(plain) == ["unsigned"]
    good = made.signed(plain, tmp_path / "good.pkg", "Developer ID Installer: Tidewell (TIDE123456)")
    found = reading.read(good)
    assert found.findings == () and found.signature.state == "holds" and found.signature.ends
    assert (found.title, found.identifier, found.version, found.oldest) == (
        "Lantern",
        "com.tidewell.lantern",
        "6.2.1",
        "12.0",
    )
    assert found.architectures == ("x86_64", "arm64") and [choice.packages for choice in found.choices] == [
        ("com.tidewell.lantern",)
    ]
    (component,) = found.components
    assert component.bundles[0].path == "/Applications/Lantern.app" and component.scripts[0].interpreter == "/bin/sh"
    assert "/Applications/Lantern.app/Contents/MacOS/lantern" in {item.path for item in component.items}
    assert ids(made.signed(plain, tmp_path / "other.pkg", "Marrowby harbour")) == ["other-certificate"]
    data = good.read_bytes()
    size, _, packed, _, _ = struct.unpack(">HHQQI", data[4:28])
    chance = random.Random(4)
    for _ in range(40):  # one byte of the table, its checksum, or the signature
        at = chance.choice(
            [
                chance.randrange(size, size + packed),
                size + packed + chance.randrange(20),
                len(data) - 1 - chance.randrange(256),
            ]
        )
        (tmp_path / "bad.pkg").write_bytes(data[:at] + bytes([data[at] ^ 1 << chance.randrange(8)]) + data[at + 1 :])
        try:
            assert reading.read(tmp_path / "bad.pkg").signature.state == "broken", at
        except YendoError:
            pass  # no table any more


FAULTS = {
    "no-distribution": {"distribution": False},
    "no-identity": {"identifier": ""},
    "relocatable": {"more": '<relocate><bundle id="com.tidewell.lantern"/></relocate>'},
    "sealed-system": {"location": "/System/Library"},
    "in-a-home": {"location": "/Users/tide/Applications"},
    "no-interpreter": {"script": "exit 0\n"},
    "line-ends": {"script": "#!/bin/sh\r\nexit 0\r\n"},
    "styled-text": {"script": "{\\rtf1 #!/bin/sh exit 0}"},
    "gone-program": {"script": "#!/usr/bin/python\nprint(1)\n"},
    "not-looked-into": {"script": "#!/usr/bin/perl\nexit 0;\n"},
}


@pytest.mark.parametrize("fault", FAULTS)
def test_each_fault_is_found(tmp_path: Path, fault: str) -> None:
    found = ids(made.package(tmp_path / "x.pkg", app(tmp_path / "t"), **FAULTS[fault]))  # type: ignore[arg-type]
    assert fault in found and set(found) <= {fault, "unsigned", "no-interpreter", "not-looked-into"}, found


def test_what_lies_where_it_should_not(tmp_path: Path) -> None:
    folder = tmp_path / "t"
    for name, mode in (
        ("Library/LaunchDaemons/com.tidewell.plist", 0o664), ("Library/x", 0o666), ("usr/local/bin/tide", 0o4755), ("Library/y", 0o644),
    ):  # fmt: skip
        (folder / name).parent.mkdir(parents=True, exist_ok=True)
        (folder / name).write_bytes(b"x")
        (folder / name).chmod(mode)
    found = reading.read(made.package(tmp_path / "x.pkg", folder, location="/"))
    assert [(finding.id, finding.where) for finding in found.findings if finding.where.startswith("/")] == [
        ("launchd-refuses", "/Library/LaunchDaemons/com.tidewell.plist"), ("writable-by-all", "/Library/x"), ("runs-as-another", "/usr/local/bin/tide"),
    ]  # fmt: skip
    assert [item.path for item in found.components[0].starts] == ["/Library/LaunchDaemons/com.tidewell.plist"]


BAD_LINES = [
    ("fetches", "curl -fsSL https://tidewell.example/x -o /tmp/x"), ("fetches", "if ! wget -q x; then exit 1; fi"),
    ("users-folder", "cp x ~/Library/Preferences/"), ("users-folder", 'rm -rf "/Users/tide/Library/Lantern"'), ("users-folder", "touch $HOME/.tide"),
    ("unquoted-volume", "cp a $3/Library/a"), ("unquoted-volume", "rm -rf ${3}/Applications/Old.app"), ("unquoted-volume", "ditto a $DSTROOT"),
    ("gone-program", "python -c 'print(1)'"), ("gone-program", "/usr/bin/python tide.py"), ("gone-program", "x=1; php x.php"),
    ("gnu-only", "sed -i 's/a/b/' /etc/hosts"), ("gnu-only", "sed -i -e s/a/b/ x"), ("gnu-only", "grep -oP '\\d+' x"), ("gnu-only", "date -d yesterday"),
    ("gnu-only", "stat -c %s x"), ("gnu-only", "cp --preserve a b"), ("gnu-only", "readlink --canonicalize x"), ("gnu-only", "ls --color x"),
    ("seal", "defaults write /Applications/Lantern.app/Contents/Info SUEnable -bool NO"),
    ("seal", "/usr/libexec/PlistBuddy -c 'Set :a b' \"/Applications/Lantern.app/Contents/Info.plist\""),
    ("gatekeeper", "spctl --master-disable"), ("gatekeeper", "xattr -dr com.apple.quarantine /Applications/Lantern.app"),
    ("restarts", "shutdown -r now"), ("restarts", "sleep 3 && /sbin/reboot"),
    ("asks", "osascript -e 'display dialog \"Ready?\"'"), ("sudo", "sudo chown root x"), ("styled-quotes", "echo “done”"),
]  # fmt: skip
GOOD_LINES = [
    'cp a "$3/Library/a"', "sed -i '' 's/a/b/' x", "sed -i.bak s/a/b/ x", "sed 's/a/b/' x > y", 'ditto "$1" "${3}/x"', "grep -E '[0-9]+' x", "date -j -f %Y 2026",
    "stat -f %z x", "/usr/bin/python3 -V", "cp -p a /Users/Shared/x", "echo 'curling'", "# curl x", "launchctl bootstrap system /Library/LaunchDaemons/x.plist",
    "chown -R root:wheel /Library/Tidewell", "osascript -e 'quit app \"Lantern\"'", "defaults write /Library/Preferences/x a -bool YES", "echo $30", "awk '{print $3}' x",
    'echo "shutdown is not called"' if False else "pkill -x lantern", "xattr -l x", "spctl --assess x", "logger tide",
]  # fmt: skip


@pytest.mark.parametrize(("fault", "line"), BAD_LINES)
def test_lines_that_a_script_should_not_have(fault: str, line: str) -> None:
    found = [
        (one.id, one.where)
        for one in findings.script_findings(MacScript("postinstall", "/bin/sh", f"#!/bin/sh\n{line}\n"))
    ]
    assert found == [(fault, "postinstall, line 2")]


@pytest.mark.parametrize("line", GOOD_LINES)
def test_lines_that_are_all_right(line: str) -> None:
    assert list(findings.script_findings(MacScript("postinstall", "/bin/sh", f"#!/bin/sh\n{line}\n"))) == []


def test_hostile_ones(tmp_path: Path) -> None:
    whole = made.package(tmp_path / "x.pkg", app(tmp_path / "t"), script=GOOD).read_bytes()
    path = tmp_path / "bad.pkg"
    deep = "<file><name>a</name><type>directory</type>" * 200 + "</file>" * 200
    for table in (
        b"<xar><toc>" + deep.encode() + b"</toc></xar>", b"<!DOCTYPE x [<!ENTITY a 'b'>]><xar><toc/></xar>", b"<xar/>", b"no xml", b"<xar><toc/></xar>",
    ):  # fmt: skip
        packed = zlib.compress(table)
        path.write_bytes(b"xar!" + struct.pack(">HHQQI", 28, 1, len(packed), len(table), 1) + packed + bytes(20))
        with pytest.raises(YendoError):
            reading.read(path)
    path.write_bytes(b"xar!" + struct.pack(">HHQQI", 28, 1, 40, 1 << 40, 1) + bytes(60))
    with pytest.raises(YendoError):
        reading.read(path)
    for at in range(0, len(whole) - 20, max(1, len(whole) // 60)):  # libarchive fills the end up
        path.write_bytes(whole[:at])
        try:
            assert any(finding.id in ("not-read", "damaged") for finding in reading.read(path).findings)
        except YendoError:
            pass


def test_the_command(tmp_path: Path, yendo: Yendo) -> None:
    made.package(tmp_path / "lantern.pkg", app(tmp_path / "t"), script="#!/bin/sh\ncurl x\n", packing="chunks")
    said = " ".join(yendo("read", "lantern.pkg").stdout.split())
    for words in (
        "Lantern 6.2.1",
        "a distribution for macOS, not signed",
        "/Applications/Lantern.app com.tidewell.lantern 6.2.1",
        "fetches",
        "macOS 12.0",
    ):
        assert words in said, words
    told = json.loads(yendo("read", "lantern.pkg", "--json").stdout)
    assert told["schema"] == "yendo.mac-package/1" and told["components"][0]["items"]
    assert "curl x" in yendo("read", "lantern.pkg", "--script").stdout
    (tmp_path / "lantern.pkg").rename(tmp_path / "lantern.bin")  # by its content, not by its name
    assert "a distribution for macOS" in yendo("read", "lantern.bin").stdout
    assert "the half for macOS" in yendo("draft", "w", "lantern.bin").stdout
    (tmp_path / "no.pkg").write_bytes(b"xar! and nothing")
    assert "no archive of a flat package" in yendo("read", "no.pkg", expect=3).stderr


def test_the_demos_package(tmp_path: Path, yendo: Yendo) -> None:
    """Five faults that a vendor who never tried it elsewhere would make, each with its line."""
    from yendo.demo import half, story

    story.scene(tmp_path / "demo")
    found = reading.read(tmp_path / "demo" / "from-tidewell" / half.PACKAGE)
    assert [(finding.id, finding.where.rpartition("line ")[2]) for finding in found.findings] == [
        ("unsigned", ""), ("relocatable", "com.tidewell.lantern"), ("launchd-refuses", "/Library/LaunchDaemons/com.tidewell.lantern.plist"),
        ("unquoted-volume", "3"), ("fetches", "4"), ("gnu-only", "5"), ("users-folder", "6"),
    ]  # fmt: skip
    assert "sed -i 's/Unassigned/Harbour/'" in yendo("read", f"demo/from-tidewell/{half.PACKAGE}", "--script").stdout
