"""The half for macOS: what is built read by other programs, what is signed judged by another, every finding with what causes it."""

from __future__ import annotations

import gzip
import json
import os
import plistlib
import shutil
import stat
import subprocess
from collections.abc import Callable
from pathlib import Path

import mac_half_specimens as made
import mac_images
import mac_signing
import mac_specimens
import pytest
from conftest import Yendo, missing, unix
from hypothesis import given
from hypothesis import strategies as st

from yendo.errors import Unreadable, Usage
from yendo.formats import bom, cpio_writer
from yendo.formats.bom import BillItem
from yendo.mac import choices
from yendo.mac import reading as packages
from yendo.mac_half import check, draft, reading
from yendo.plan import PlanError

TREES = 60 if os.environ.get("YENDO_THOROUGH") else 6


def others(*programs: str) -> None:
    for program, where in (
        ("bsdtar", "libarchive-tools"),
        ("cpio", "cpio"),
        ("7z", "p7zip-full"),
        ("openssl", "openssl"),
        ("shellcheck", "shellcheck"),
    ):
        if program in programs and not shutil.which(program):
            missing(program, f"apt-get install {where}")


# --- the bill


@unix
@given(st.binary(max_size=70_000))
def test_the_checksum_is_that_of_cksum(data: bytes) -> None:
    state = bom.Checksum()
    state.update(data[: len(data) // 3])
    state.update(data[len(data) // 3 :])
    told = subprocess.run(["cksum"], input=data, capture_output=True, check=True).stdout.split()[0]
    assert state.value() == int(told)


def test_a_bill_of_many_is_read_as_it_was_written() -> None:
    items = [BillItem(".", "folder", 0o755, 0, 0)]
    for number in range(40):
        items.append(BillItem(f"./tide{number}", "folder", 0o775, 0, 80))
        items += [BillItem(f"./tide{number}/潮{at}", "file", 0o644, 501, 20, at, at * 7) for at in range(60)]
        items.append(BillItem(f"./tide{number}/link", "link", 0o755, 0, 0, 3, 9, "../x"))
    found = bom.read(bom.written(items))
    assert sorted(found, key=lambda one: one.path) == sorted(items, key=lambda one: one.path)
    # keys are looked up by the number of the folder, then by name
    order = {one.path: at for at, one in enumerate(found)}
    keys = [(order.get(one.path.rpartition("/")[0], -1), one.path.rpartition("/")[2].encode()) for one in found]
    assert keys == sorted(keys)


def test_a_bill_without_its_root_is_refused() -> None:
    for items in (
        [BillItem("./a", "file", 0o644, 0, 0)],
        [BillItem(".", "folder", 0o755, 0, 0), BillItem("./a/b", "file", 0, 0, 0)],
    ):
        with pytest.raises(ValueError, match="root"):
            bom.written(items)


def test_bills_that_are_cut_or_lie() -> None:
    whole = bom.written([BillItem(".", "folder", 0o755, 0, 0), BillItem("./a", "file", 0o644, 0, 0, 3, 5)])
    for at in range(0, len(whole), 97):
        for data in (whole[:at], whole[:at] + b"\xff" * 4 + whole[at + 4 :]):
            try:
                bom.read(data)
            except Unreadable:
                pass


# --- payloads


def test_pieces_make_one_stream_whatever_the_processors(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    data = os.urandom(1 << 20) + bytes(3 << 20) + b"tide" * 400_000
    packed = []
    for count in (1, 4):
        monkeypatch.setattr(os, "cpu_count", lambda count=count: count)
        with (tmp_path / "x").open("w+b") as file:
            stream = cpio_writer.PackedStream(file)
            for at in range(0, len(data), 333_333):
                stream.write(data[at : at + 333_333])
            stream.close()
        packed.append((tmp_path / "x").read_bytes())
    assert packed[0] == packed[1] and gzip.decompress(packed[0]) == data


@unix
@pytest.mark.parametrize("seed", range(TREES))
def test_trees_are_read_as_they_were_by_other_programs(tmp_path: Path, seed: int) -> None:
    others("bsdtar", "cpio")
    work = tmp_path / "w"
    source = made.tree(work / "media" / "charts", seed)
    shutil.rmtree(work / "media" / "charts")
    steps = '[[install]]\nkind = "copy"\nsource = "charts"\nto = "/Library/Tidewell/Charts"\nowner = 501\ngroup = 20\n'
    rules = '[[detect]]\nkind = "receipt"\nidentifier = "example.marrowby.lantern"\n'
    made.workspace(tmp_path / "v", steps, rules=rules, media={})
    shutil.rmtree(tmp_path / "v" / "media")
    source = made.tree(tmp_path / "v" / "media" / "charts", seed)
    package = made.built(tmp_path / "v").package
    assert [one.id for one in packages.read(package).findings] == [
        "unsigned"
    ]  # what is built has none of what is looked for
    out = tmp_path / "out"
    out.mkdir()
    subprocess.run(["bsdtar", "-xf", package, "-C", out], check=True)
    payload = gzip.decompress((out / "main.pkg" / "Payload").read_bytes())
    (tmp_path / "laid").mkdir()
    subprocess.run(
        ["cpio", "-idm", "--quiet", "--no-absolute-filenames"], input=payload, cwd=tmp_path / "laid", check=True
    )
    laid = tmp_path / "laid" / "Library/Tidewell/Charts"
    want = {path.relative_to(source).as_posix(): path for path in source.rglob("*")}
    have = {path.relative_to(laid).as_posix(): path for path in laid.rglob("*")}
    assert set(have) == set(want)
    for name, path in have.items():
        about = path.lstat()
        assert path.is_symlink() == want[name].is_symlink()
        if path.is_symlink():
            assert path.readlink() == want[name].readlink()
        elif path.is_file():
            runs = want[name].read_bytes().startswith(b"#!")
            assert path.read_bytes() == want[name].read_bytes() and stat.S_IMODE(about.st_mode) == (
                0o755 if runs else 0o644
            )
    # owners, and the system's own folders as the system has them
    listed = subprocess.run(["bsdtar", "-tvf", "-"], input=payload, capture_output=True, check=True).stdout.decode()
    rows = [line.split(maxsplit=5) for line in listed.splitlines()]
    assert {(row[2], row[3]) for row in rows if "Tidewell/Charts" in row[5]} == {("501", "20")}
    assert next(row[:4] for row in rows if row[5].endswith(" ./Library")) == ["drwxr-xr-x", "2", "0", "0"]
    # the bill says the same
    bill = {one.path: one for one in bom.read((out / "main.pkg" / "Bom").read_bytes())}
    assert {f"./Library/Tidewell/Charts/{name}" for name in want} <= set(bill)
    for name, path in want.items():
        if path.is_file() and not path.is_symlink():
            told = subprocess.run(["cksum"], stdin=path.open("rb"), capture_output=True, check=True).stdout.split()
            assert (
                bill[f"./Library/Tidewell/Charts/{name}"].checksum,
                bill[f"./Library/Tidewell/Charts/{name}"].size,
            ) == (int(told[0]), int(told[1]))


def test_the_same_inputs_give_the_same_bytes(tmp_path: Path) -> None:
    first = made.built(made.workspace(tmp_path / "a"))
    for path in (tmp_path / "a" / "media").rglob("*"):
        os.utime(path, (1, 1))
        if path.is_file():
            path.chmod(0o600)  # whoever builds, by whatever way the files came
    again = made.built(tmp_path / "a")
    assert first.digest == again.digest and first.package.read_bytes() == again.package.read_bytes()


# --- what the plan may say


WRONG = {
    "unknown key 'sorce'": 'kind = "app"\nsorce = "Lantern.app"',
    "no kind of step": 'kind = "appp"\nsource = "Lantern.app"',
    "did you mean 'settings'": 'kind = "setting"\ndomain = "a.b"\nvalues = { a = 1 }',
    "no path from the root": 'kind = "copy"\nsource = "x"\nto = "/Library/../etc"',
    "does not stay below": 'kind = "app"\nsource = "../Lantern.app"',
    "is not removed": 'kind = "remove"\npath = "/Library/Preferences"',
    "begins with its path": 'kind = "launchd"\nlabel = "a.b"\nprogram = ["lantern"]',
    "no length of time": 'kind = "quit"\nidentifier = "a.b"\nwait = "soon"',
}


@pytest.mark.parametrize("said", WRONG)
def test_mistakes_are_told_with_their_line(tmp_path: Path, said: str) -> None:
    text = made.PLAN.format(media="", steps=f"[[install]]\n{WRONG[said]}\n", rules="", processors='"arm64"')
    with pytest.raises(PlanError, match=said) as raised:
        reading.read_text(text)
    assert raised.value.problems[0].line >= 9


# --- what a colleague would say


def _other_office(folder: Path) -> None:
    made.workspace(folder.parent / "other")


def _edited(folder: Path) -> None:
    (folder / "media/Lantern.app/Contents/Resources/tide.dat").write_bytes(b"edited")


def _script(text: str, *, undo: bool = True) -> tuple[str, dict[str, bytes]]:
    step = made.APP + '[[install]]\nkind = "script"\nfile = "x.sh"\n' + ('undo = "y.sh"\n' if undo else "")
    return step, {"x_sh": text.encode(), "y_sh": b"#!/bin/sh\nexit 0\n"}


SH = "#!/bin/sh\n"
# what is wrong, and the workspace that has it: steps, rules, other parts of the plan, or something done to it
FAULTS: dict[str, dict[str, object]] = {
    "undecided": {"replace": ("example.marrowby.lantern", "local.lantern")},
    "identifier-taken": {"replace": ("example.marrowby.lantern", "example.tidewell.lantern")},
    "identifier-taken ": {"do": _other_office},
    "medium": {"do": _edited},
    "medium ": {"steps": made.APP.replace("Lantern.app", "Other.app")},
    "processor-missing": {"app": {"processors": (made.INTEL,)}},
    "too-old": {"app": {"oldest": "13.1"}},
    "broken-seal": {"app": {}, "do": _edited, "again": True},
    "no-detection": {"rules": ""},
    "receipt-only": {"rules": '[[detect]]\nkind = "receipt"\nidentifier = "example.marrowby.lantern"\n'},
    "any-version": {"rules": made.RULE.replace('version = "6.2.1"\n', "")},
    "no-such-program": {"steps": made.APP + '[[install]]\nkind = "launchd"\nlabel = "a.b"\nprogram = ["/Applications/Lantern.app/x"]\n'},
    "sealed-system": {"steps": made.APP + '[[install]]\nkind = "copy"\nsource = "x.sh"\nto = "/usr/bin/tide"\n', "extras": {"x_sh": b"#!/bin/sh\n"}},
    "in-a-home": {"steps": made.APP + '[[install]]\nkind = "copy"\nsource = "x.sh"\nto = "/Users/hannah/Desktop/tide"\n', "extras": {"x_sh": b"x"}},
    "writable-by-all": {"steps": made.APP + '[[install]]\nkind = "copy"\nsource = "x.sh"\nto = "/Library/tide"\nmode = "0666"\n', "extras": {"x_sh": b"x"}},
    "runs-as-another": {"steps": made.APP + '[[install]]\nkind = "copy"\nsource = "x.sh"\nto = "/Library/tide"\nmode = "4755"\n', "extras": {"x_sh": b"x"}},
    "launchd-refuses": {"steps": made.APP + '[[install]]\nkind = "copy"\nsource = "x.sh"\nto = "/Library/LaunchDaemons/a.plist"\nowner = 501\n', "extras": {"x_sh": b"x"}},
    "leftover": {"steps": made.APP + '[[install]]\nkind = "copy"\nsource = "x.sh"\nto = "/Library/Tidewell/._tide"\n', "extras": {"x_sh": b"x"}},
    "no-way-back": {"script": SH, "undo": False},
    "gnu-only": {"script": SH + "sed -i 's/a/b/' /Library/tide\n"},
    "fetches": {"script": SH + "curl -O https://tidewell.example/x\n"},
    "line-ends": {"script": "#!/bin/sh\r\nexit 0\r\n"},
    "no-interpreter": {"script": "exit 0\n"},
    "gone-program": {"script": "#!/usr/bin/python\nprint(1)\n"},
    "seal": {"script": SH + "defaults write /Applications/Lantern.app/Contents/Info Updates -bool NO\n"},
    "gatekeeper": {"script": SH + "xattr -dr com.apple.quarantine /Applications/Lantern.app\n"},
    "restarts": {"script": SH + "shutdown -r now\n"},
    "asks": {"script": SH + "osascript -e 'display dialog \"Ready?\"'\n"},
    "cannot-be-built": {"steps": made.APP + made.APP},
}  # fmt: skip


def _faulty(folder: Path, fault: dict[str, object]) -> Path:
    steps, extras = str(fault.get("steps", made.APP)), dict(fault.get("extras", {}))  # type: ignore[call-overload]
    if "script" in fault:
        steps, extras = _script(str(fault["script"]), undo=bool(fault.get("undo", True)))
    made.workspace(folder, steps, rules=str(fault.get("rules", made.RULE)), **extras)
    if "app" in fault:
        shutil.rmtree(folder / "media")
        (folder / "media").mkdir()
        path = made.app(folder / "media/Lantern.app", **fault["app"])  # type: ignore[arg-type]
        if fault.get("again"):  # sealed, by a program for one sort of processor, and then edited
            shutil.rmtree(path)
            made.signing.bundle(path, {"Resources/tide.dat": b"tide"}, info={"CFBundleShortVersionString": "6.2.1"})
    text = (folder / "macos.toml").read_text("utf-8").replace(*fault.get("replace", ("", "")))  # type: ignore[misc]
    (folder / "macos.toml").write_text(text, "utf-8")
    if isinstance(act := fault.get("do"), Callable):  # type: ignore[arg-type]
        act(folder)
    if "app" in fault:
        old = next(line for line in text.splitlines() if line.startswith("sha256"))
        new = f'sha256 = "{made.sources.digest_of(folder / "media/Lantern.app")}"'
        (folder / "macos.toml").write_text(text.replace(old, new), "utf-8")
    return folder


@pytest.mark.parametrize("fault", FAULTS)
def test_each_fault_is_found(tmp_path: Path, fault: str) -> None:
    found = check.check(_faulty(tmp_path / "lantern", FAULTS[fault]))
    assert fault.strip() in made.names(found), found


@pytest.mark.parametrize("steps", [
    made.APP,
    made.APP + '[[install]]\nkind = "settings"\ndomain = "a.b"\nvalues = { x = true, y = 3, z = ["a"], d = { k = 1 } }\n',
    made.APP + '[[install]]\nkind = "launchd"\nlabel = "a.b"\nprogram = ["/Applications/Lantern.app/Contents/MacOS/lantern"]\nagent = true\n',
    made.APP + '[[install]]\nkind = "link"\npath = "/usr/local/bin/lantern"\ntarget = "/Applications/Lantern.app/Contents/MacOS/lantern"\n',
    made.APP + '[[install]]\nkind = "remove"\npath = "/Applications/Old Lantern.app"\n\n[[install]]\nkind = "quit"\nidentifier = "a.b"\n',
])  # fmt: skip
def test_what_is_all_right_is_not_complained_of(tmp_path: Path, steps: str) -> None:
    found = check.check(made.workspace(tmp_path / "lantern", steps))
    assert [one for one in found if one.rule != "unsigned"] == []  # the program of a test is signed by nobody


def test_every_rule_is_in_the_documentation() -> None:
    page = Path(__file__).parents[1] / "docs" / "macos.md"
    text = page.read_text("utf-8")
    assert not [name for name in check.IDS if f"`{name}`" not in text]


# --- drafts


def test_a_bundle_is_drafted_and_its_half_builds(tmp_path: Path, yendo: Yendo) -> None:
    made.app(tmp_path / "Lantern.app")
    said = yendo("draft", "w", "Lantern.app").stdout
    assert "the half for macOS" in said and "identifier" in said
    assert yendo("check", "w", expect=1).stdout.count("undecided") == 1
    assert "Not built" in yendo("build", "w", expect=1).stdout
    path = tmp_path / "w" / "macos.toml"
    path.write_text(path.read_text("utf-8").replace("local.", "example.marrowby."), "utf-8")
    told = json.loads(yendo("build", "w", "--json").stdout)
    assert told["schema"] == "yendo.mac-build/1" and (tmp_path / told["package"]).is_file()
    found = packages.read(tmp_path / told["package"])
    assert (found.identifier, found.version, found.oldest) == ("example.marrowby.lantern", "6.2.1.1", "12.0")
    assert [one.id for one in found.findings] == ["unsigned"]  # what ours look for in others' is not in ours
    assert "edit" in yendo("draft", "w", "Lantern.app", expect=2).stderr


def test_two_bundles_become_one_package_that_picks(tmp_path: Path) -> None:
    for name, sort in (("arm", made.ARM), ("intel", made.INTEL)):
        made.app(tmp_path / name / "Lantern.app", processors=(sort,))
    drafted = draft.draft(tmp_path / "w", [tmp_path / "intel/Lantern.app", tmp_path / "arm/Lantern.app"])
    plan, _ = reading.read(tmp_path / "w")
    assert drafted.media == ("arm64/Lantern.app", "x86_64/Lantern.app") and set(plan.package.processors) == {
        "arm64",
        "x86_64",
    }
    package = packages.read(made.built(tmp_path / "w").package)
    pytest.importorskip("quickjs")
    for processor in ("arm64", "x86_64"):
        chosen = choices.evaluated(package, "14.0", processor)
        some = {name for one in package.choices if chosen[one.identifier] for name in one.packages}
        assert f"local.lantern.{processor.replace('_', '-')}" in some and len(some) == 2
    with pytest.raises(Usage, match="one program for arm64"):
        draft.draft(tmp_path / "x", [tmp_path / "arm/Lantern.app", tmp_path / "arm/Lantern.app"])


@unix
def test_an_image_is_drafted_and_modes_are_those_on_it(tmp_path: Path) -> None:
    made.app(tmp_path / "disk" / "Lantern.app")
    (tmp_path / "disk/Lantern.app/Contents/Resources/tool").write_bytes(b"\x7ftool")
    (tmp_path / "disk/Lantern.app/Contents/Resources/tool").chmod(0o755)
    disk = mac_images.volume(tmp_path / "disk", tmp_path / "v")
    (tmp_path / "lantern.dmg").write_bytes(mac_images.image(disk))
    draft.draft(tmp_path / "w", [tmp_path / "lantern.dmg"])
    items = {item.path: item for item in packages.read(made.built(tmp_path / "w").package).components[0].items}
    assert items["/Applications/Lantern.app/Contents/MacOS/lantern"].mode == "0755"
    assert items["/Applications/Lantern.app/Contents/Resources/tool"].mode == "0755"  # only the volume knows
    assert items["/Applications/Lantern.app/Contents/Resources/tide.dat"].mode == "0644"


@unix
def test_a_vendors_component_comes_in_byte_for_byte_and_its_distribution_behind_a_script(tmp_path: Path) -> None:
    others("bsdtar", "cpio")
    tree = tmp_path / "t"
    made.app(tree / "Lantern.app")
    for form in (False, True):
        where = tmp_path / str(form)
        where.mkdir()
        package = mac_specimens.package(where / "vendor.pkg", tree, distribution=form, script="#!/bin/sh\nexit 0\n")
        draft.draft(where / "w", [package])
        found = packages.read(made.built(where / "w").package)
        theirs = packages.read(package).components[0]
        if form:
            assert [one.identifier for one in found.components] == ["local.lantern"]
            script = next(one.text for one in found.components[0].scripts if one.when == "postinstall")
            assert 'install_package "${0%/*}"/vendor.pkg' in script and '-target "$volume"' in script
            assert made.names(check.check(where / "w")).count("package-in-a-script") == 1
        else:
            inner = next(one for one in found.components if one.identifier == "com.tidewell.lantern")
            assert (inner.items, inner.scripts, inner.version) == (theirs.items, theirs.scripts, theirs.version)
    assert 'path = "/Applications/Lantern.app"' in (tmp_path / "True/w/macos.toml").read_text("utf-8")


def test_files_are_drafted_for_a_path_from_the_root(tmp_path: Path, yendo: Yendo) -> None:
    (tmp_path / "charts").mkdir()
    (tmp_path / "charts/north.dat").write_bytes(b"x")
    yendo("draft", "w", "--files", "charts", "--to", "/Library/Tidewell/Charts")
    plan, _ = reading.read(tmp_path / "w")
    assert (
        plan.install[0].to == "/Library/Tidewell/Charts" and plan.detect[0].path == "/Library/Tidewell/Charts/north.dat"
    )  # type: ignore[union-attr]


def test_managed_settings_are_a_profile(tmp_path: Path) -> None:
    steps = (
        made.APP
        + '[[install]]\nkind = "settings"\ndomain = "com.tidewell.lantern"\nvalues = { Updates = false }\nwhose = "managed"\n'
    )
    built = made.built(made.workspace(tmp_path / "w", steps))
    profile = plistlib.loads(built.profiles[0].read_bytes())
    assert profile["PayloadContent"][0] | {"PayloadUUID": ""} == {
        "PayloadIdentifier": "example.marrowby.lantern.profile.com.tidewell.lantern", "PayloadType": "com.tidewell.lantern",
        "PayloadUUID": "", "PayloadVersion": 1, "Updates": False,
    }  # fmt: skip


# --- scripts and signatures


@unix
def test_scripts_are_plain_for_another_reader(tmp_path: Path) -> None:
    others("shellcheck")
    steps = (
        made.APP
        + """
[[install]]
kind = "settings"
domain = "a.b"
whose = "persons"
values = { "odd key; rm -rf /" = "$(reboot) `x` 'q'" }

[[install]]
kind = "message"
text = "it's \\"done\\"; $(x)"

[[install]]
kind = "remove"
path = "/Applications/Old $(reboot).app"

[[install]]
kind = "launchd"
label = "a.b"
program = ["/bin/ls"]
"""
    )
    built = made.built(made.workspace(tmp_path / "w", steps))
    found = packages.read(built.package).components[0]
    texts = [script.text for script in found.scripts]
    texts += [(built.folder / name).read_text("utf-8") for name in ("detect.sh", "remove/remove.sh")]
    for text in texts:
        (tmp_path / "x.sh").write_text(text, "utf-8")
        # the functions that a script has and passes on are not all called in it
        subprocess.run(["shellcheck", "-s", "sh", "-e", "SC2329,SC2317,SC2016", tmp_path / "x.sh"], check=True)
        subprocess.run(["sh", "-n", tmp_path / "x.sh"], check=True)


@unix
def test_signatures_are_judged_by_another_program(tmp_path: Path, yendo: Yendo) -> None:
    pytest.importorskip("cryptography")
    from yendo.formats.xar import Xar

    both, certificate = mac_signing.identity(tmp_path)
    bare = made.built(made.workspace(tmp_path / "w")).package
    shutil.copyfile(bare, tmp_path / "x.pkg")
    assert "the signature holds" in yendo("sign", "x.pkg", "--identity", both).stdout
    with (tmp_path / "x.pkg").open("rb") as file:
        archive = Xar(file)
        styles = {one.style: one.value for one in archive.signatures}
        (tmp_path / "table").write_bytes(archive.table)
        (tmp_path / "digest").write_bytes(archive.digest)
    for name, value in styles.items():
        (tmp_path / name).write_bytes(value)
    public = subprocess.run(
        ["openssl", "x509", "-in", certificate, "-pubkey", "-noout"], check=True, capture_output=True
    ).stdout
    (tmp_path / "public").write_bytes(public)
    for line in (
        ["openssl", "dgst", "-sha1", "-verify", "public", "-signature", "RSA", "table"],
        ["openssl", "cms", "-verify", "-inform", "DER", "-in", "CMS", "-content", "digest", "-binary", "-CAfile", certificate, "-purpose", "any"],
    ):  # fmt: skip
        subprocess.run(line, cwd=tmp_path, check=True, capture_output=True)
    # what was in it is in it still, and signing again takes the first signature's place
    assert packages.read(tmp_path / "x.pkg").components == packages.read(bare).components
    size = (tmp_path / "x.pkg").stat().st_size
    yendo("sign", "x.pkg", "--identity", both)
    assert (tmp_path / "x.pkg").stat().st_size == size
    data = (tmp_path / "x.pkg").read_bytes()
    for at in (200, len(data) - 40, len(data) // 2):  # the table, scripts, the payload
        (tmp_path / "bad.pkg").write_bytes(data[:at] + bytes([data[at] ^ 1]) + data[at + 1 :])
        assert yendo("sign", "bad.pkg", "--verify", "--trust", certificate, expect=None).returncode in (1, 3)


@unix
def test_a_key_that_is_elsewhere_signs_by_command_and_by_request(tmp_path: Path, yendo: Yendo) -> None:
    pytest.importorskip("cryptography")
    _, certificate = mac_signing.identity(tmp_path)
    bare = made.built(made.workspace(tmp_path / "w")).package
    for name in ("a.pkg", "b.pkg"):
        shutil.copyfile(bare, tmp_path / name)
    command = tmp_path / "card"
    command.write_text(f"#!/bin/sh\nexec openssl dgst -$YENDO_DIGEST -sign {tmp_path}/k.pem\n", "utf-8")
    command.chmod(0o755)
    yendo("sign", "a.pkg", "--by", command, "--certificate", certificate)
    told = yendo("sign", "b.pkg", "--request", "asked", "--certificate", certificate, expect=None).stdout
    wanted = sorted(path.name for path in (tmp_path / "asked").iterdir() if path.suffix == ".tosign")
    assert wanted == ["b.pkg.message.tosign", "b.pkg.table.tosign"] and "-sha1" in told
    for name, digest in (("table", "sha1"), ("message", "sha256")):
        line = [
            "openssl",
            "dgst",
            f"-{digest}",
            "-sign",
            "k.pem",
            "-out",
            f"asked/b.pkg.{name}.signature",
            f"asked/b.pkg.{name}.tosign",
        ]
        subprocess.run(line, cwd=tmp_path, check=True)
    yendo("sign", "b.pkg", "--request", "asked", "--certificate", certificate)
    assert (tmp_path / "a.pkg").read_bytes() == (tmp_path / "b.pkg").read_bytes()


def test_a_bill_that_says_otherwise_is_told_and_a_listing_goes_by_it(tmp_path: Path, yendo: Yendo) -> None:
    from yendo.formats import xar_writer
    from yendo.formats.xar import Xar

    package = made.built(made.workspace(tmp_path / "w")).package
    with package.open("rb") as file:
        archive = Xar(file)
        members = {one.path: archive.read(one, 1 << 24) for one in archive.entries if one.kind == "file"}
    items = bom.read(members["main.pkg/Bom"])
    wrong = [
        BillItem("./Applications/Lantern.app/Contents/more", "file", 0o644, 0, 0, 1, 1)
        if one.path.endswith("tide.dat")
        else one
        for one in items
    ]
    members["main.pkg/Bom"] = bom.written(wrong)
    with (tmp_path / "x.pkg").open("wb") as file:
        xar_writer.write(
            file, [xar_writer.XarMember(path, data, pack=path.endswith("Bom")) for path, data in members.items()]
        )
    found = packages.read(tmp_path / "x.pkg")
    assert [one.id for one in found.findings] == ["unsigned", "bill-differs"]
    assert set(found.components[0].unlike) == {
        f"/Applications/Lantern.app/Contents/{name}" for name in ("more", "Resources/tide.dat")
    }
    listed = {one.path for one in packages.read(tmp_path / "x.pkg", listing=True).components[0].items}
    assert "/Applications/Lantern.app/Contents/more" in listed
    assert packages.read(package, listing=True).components == packages.read(package).components
    assert "/Applications/Lantern.app/Contents/more" in yendo("read", "x.pkg", "--listing", "--contents").stdout


# --- the vendor's next version


def test_a_renewal_follows_what_was_read_and_keeps_what_was_decided(tmp_path: Path, yendo: Yendo) -> None:
    from yendo.mac_half import renew

    made.app(tmp_path / "old" / "Lantern.app")
    made.app(tmp_path / "new" / "Lantern.app", version="6.3.0", oldest="13.0", NSCameraUsageDescription="quays")
    draft.draft(tmp_path / "w", [tmp_path / "old/Lantern.app"])
    path = tmp_path / "w/macos.toml"
    text = (
        path.read_text("utf-8")
        .replace("local.", "example.marrowby.")
        .replace('version = "6.2.1"', 'version = "6.2.1"\nrevision = 3', 1)
    )
    text = (
        text.replace('name = "Lantern"', 'name = "Lantern for Marrowby"').replace('oldest = "12.0"', 'oldest = "12.4"')
        + "\n# ours\n"
    )
    path.write_text(text, "utf-8")
    dry = renew.renew(tmp_path / "w", tmp_path / "new/Lantern.app", dry=True)
    assert not dry.written and path.read_text("utf-8") == text
    said = yendo("renew", "w", "new/Lantern.app").stdout
    plan, _ = reading.read(tmp_path / "w")
    package = plan.package
    assert (package.version, package.revision, package.name, package.oldest) == (
        "6.3.0",
        1,
        "Lantern for Marrowby",
        "12.4",
    )
    assert plan.detect[0].version == "6.3.0" and "# ours" in path.read_text("utf-8")  # type: ignore[union-attr]
    assert "12.4" in said and "13.0" in said and "the camera" in said
    assert (tmp_path / "w/earlier/6.2.1/Lantern.app/Contents/Info.plist").is_file()
    assert [one.rule for one in check.check(tmp_path / "w")] == [
        "too-old",
        "person-asked",
        "unsigned",
    ]  # kept, and told
    for name, words in (("old", "older than 6.3.0"), ("new", "it is 6.3.0 as well")):
        assert words in yendo("renew", "w", f"{name}/Lantern.app", expect=2).stderr
    made.app(tmp_path / "x" / "Other.app", version="7.0", CFBundleIdentifier="example.tidewell.other")
    assert "another program" in yendo("renew", "w", "x/Other.app", expect=2).stderr


def test_without_a_sandbox_files_are_laid_scripts_ran_nowhere_and_that_is_said(tmp_path: Path, yendo: Yendo) -> None:
    steps = (
        made.APP + '[[install]]\nkind = "link"\npath = "/usr/local/bin/lantern"\ntarget = "/Applications/Lantern.app"\n'
    )
    made.built(made.workspace(tmp_path / "w", steps))
    bare = {} if os.name == "nt" else {"PATH": str(tmp_path / "empty")}
    told = json.loads(yendo("prove", "w", "--json", environment=bare, expect=1).stdout)
    assert told["verdict"] == "laid only" and not told["executed"] and told["why_not"]
    assert [one["scenario"] for one in told["played"]] == [
        "desk",
        "nobody",
        "processor",
        "oldest",
        "too-old",
        "volume",
        "set-up",
        "cut-off",
    ]
    assert not any(phase["problems"] for one in told["played"] for phase in one["phases"])
    said = yendo("prove", "w", "--scenario", "desk", environment=bare, expect=1).stdout
    assert "laid only" in said and "scripts ran nowhere" in said


def test_two_halves_of_one_package_go_together(tmp_path: Path, yendo: Yendo, vendor: Path) -> None:
    made.app(tmp_path / "Lantern.app")
    yendo("draft", "office/lantern", vendor / "lantern-6.2.1.msi", "-q")
    yendo("draft", "office/lantern", "Lantern.app", "-q")
    path = tmp_path / "office/lantern/macos.toml"
    path.write_text(path.read_text("utf-8").replace("local.", "example.marrowby."), "utf-8")
    assert {"plan.toml", "macos.toml"} <= {
        one["file"] for one in json.loads(yendo("check", "office/lantern", "--json").stdout)["findings"]
    }
    told = json.loads(yendo("build", "office/lantern", "--json").stdout)
    assert told["schema"] == "yendo.build/1" and told["macos"]["schema"] == "yendo.mac-build/1"
    said = yendo("prove", "office/lantern", "--scenario", "desk", expect=None).stdout
    assert "Proved on the simulated machine" in said and "No Mac was asked" in said
    shelf = json.loads(yendo("shelf", "office", "--json").stdout)
    assert [(one["path"], one["system"]) for one in shelf["workspaces"]] == [
        ("lantern", "windows"),
        ("lantern (macOS)", "macos"),
    ]
    assert len({one["id"] for one in shelf["workspaces"]}) == 1 and not shelf["conflicts"]


def test_what_a_profile_can_allow_is_written(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """No bundle with a team and an extension is in the registries: the team is put in here, the rest is read."""
    from yendo.mac_half import work

    folder = tmp_path / "w"
    path = made.app(folder / "media/Lantern.app")
    for name, listed in (
        ("SystemExtensions/tide.systemextension/Contents/Info.plist", {"CFBundleIdentifier": "example.tide.filter"}),
        ("LoginItems/x.app/Contents/Info.plist", {}),
    ):
        (path / "Contents/Library" / name).parent.mkdir(parents=True)
        (path / "Contents/Library" / name).write_bytes(plistlib.dumps(listed))
    text = made.PLAN.format(media="", steps=made.APP, rules=made.RULE, processors='"arm64"')
    (folder / "macos.toml").write_text(text, "utf-8")
    assert made.built(folder).profiles == ()  # by nobody's team nothing can be allowed
    monkeypatch.setattr(work, "_signature", lambda program: ("TIDE123456", {}))
    profile = plistlib.loads(made.built(folder).profiles[0].read_bytes())
    found = {one["PayloadType"]: one for one in profile["PayloadContent"]}
    assert found["com.apple.system-extension-policy"]["AllowedSystemExtensions"] == {
        "TIDE123456": ["example.tide.filter"]
    }
    assert [(one["RuleType"], one["RuleValue"]) for one in found["com.apple.servicemanagement"]["Rules"]] == [
        ("TeamIdentifier", "TIDE123456")
    ]


PRIVACY = """
[[install]]
kind = "privacy"
bundle = "example.tidewell.lantern"
allow = ["SystemPolicyDocumentsFolder", "AddressBook"]
"""


def test_what_a_person_would_be_asked_is_answered_by_a_profile_or_told(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    """No Mac reads the profile here; the team is put in, as no bundle with one is in the registries."""
    from yendo.mac_half import work

    asks = {f"NS{what}UsageDescription": "to show it" for what in ("Camera", "Contacts", "DocumentsFolder")}
    folder = tmp_path / "w"
    path = made.app(folder / "media/Lantern.app", **asks)
    network = path / "Contents/Library/SystemExtensions/tide.systemextension/Contents"
    (network / "MacOS").mkdir(parents=True)
    (network / "MacOS/tide").write_bytes(b"tide")
    listed = {"CFBundleIdentifier": "example.tidewell.filter", "CFBundleExecutable": "tide"}
    (network / "Info.plist").write_bytes(plistlib.dumps(listed))

    def write(steps: str) -> None:
        text = made.PLAN.format(media="", steps=steps, rules=made.RULE, processors='"arm64"')
        (folder / "macos.toml").write_text(text, "utf-8")

    def asked() -> list[str]:
        return [one.message for one in check.check(folder) if one.rule == "person-asked"]

    write(made.APP)
    assert asked() == ["Lantern will ask the person for: contacts, the Documents folder",
                       "Lantern will ask the person for: the camera"]  # fmt: skip
    write(made.APP + PRIVACY)
    with pytest.raises(Usage, match="signed by no team: a profile says by its signature who may"):
        made.built(folder)
    assert any("signed by no team" in one.message for one in check.check(folder) if one.rule == "cannot-be-built")
    may = {"com.apple.developer.networking.networkextension": ["content-filter-provider-systemextension"]}
    monkeypatch.setattr(work, "_signature", lambda program: ("TIDE123456", may))
    profile = plistlib.loads(made.built(folder).profiles[0].read_bytes())
    found = {one["PayloadType"]: one for one in profile["PayloadContent"]}
    services = found["com.apple.TCC.configuration-profile-policy"]["Services"]
    assert set(services) == {"SystemPolicyDocumentsFolder", "AddressBook"}
    who = 'anchor apple generic and certificate leaf[subject.OU] = "TIDE123456"'
    assert services["AddressBook"] == [
        {
            "Identifier": "example.tidewell.lantern",
            "IdentifierType": "bundleID",
            "CodeRequirement": f'identifier "example.tidewell.lantern" and {who}',
            "Authorization": "Allow",
            "StaticCode": False,
        }
    ]
    filtered = found["com.apple.webcontent-filter"]
    assert filtered["FilterDataProviderBundleIdentifier"] == "example.tidewell.filter" and filtered["FilterSockets"]
    assert asked() == ["Lantern will ask the person for: the camera"]
    write(made.APP + PRIVACY.replace("tidewell.lantern", "tidewell.other"))
    with pytest.raises(Usage, match="is no bundle of this package"):
        made.built(folder)
