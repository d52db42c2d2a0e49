"""Building: the same bytes, whole or absent, and what lies in a package."""

from __future__ import annotations

import json
import os
import random
import re
import shutil
import signal
import subprocess
import sys
import time
import xml.etree.ElementTree as ET
import zipfile
from hashlib import sha256
from pathlib import Path

import pytest
from conftest import Yendo, parsed
from hypothesis import given
from hypothesis import strategies as st

import yendo
from yendo import atomic
from yendo.errors import Unreadable
from yendo.facts import secrets
from yendo.package import build, manifest, scripts
from yendo.plan import PlanError, read


def built(workspace: Path, **options: object) -> build.Built:
    return build.build(workspace, read(workspace / "plan.toml")[0], **options)  # type: ignore[arg-type]


def contents(folder: Path) -> dict[str, bytes]:
    return {
        path.relative_to(folder).as_posix(): path.read_bytes() for path in sorted(folder.rglob("*")) if path.is_file()
    }


def test_same_inputs_same_bytes(drafted: Path, tmp_path: Path) -> None:
    one, two = built(drafted, output=tmp_path / "a", archive=True), built(drafted, output=tmp_path / "b", archive=True)
    assert contents(one.folder) == contents(two.folder) and one.digest == two.digest
    assert one.archive and two.archive and one.archive.read_bytes() == two.archive.read_bytes()


def test_what_is_in_it(drafted: Path, tmp_path: Path) -> None:
    package = built(drafted, output=tmp_path, archive=True)
    found = contents(package.folder)
    assert set(found) == {
        "apply.cmd",
        "apply.ps1",
        "bill-of-materials.cdx.json",
        "detect.ps1",
        "extras/site.ini",
        "handover.md",
        "manifest.json",
        "media/lantern-6.2.1.msi",
        "tidewell-lantern.swidtag",
    }
    listed = manifest.read(package.folder)
    assert {file.path: file.sha256 for file in listed.files} == {
        name: sha256(data).hexdigest() for name, data in found.items() if name != "manifest.json"
    }
    assert package.archive
    with zipfile.ZipFile(package.archive) as archive:
        assert archive.testzip() is None and {name: archive.read(name) for name in archive.namelist()} == found
    assert (
        found["apply.ps1"].startswith(b"\xef\xbb\xbf")
        and b"DATA" not in found["apply.ps1"]
        and b"#TIMED_OUT#" not in found["apply.ps1"]
    )
    assert str(tmp_path).encode() not in b"".join(found.values())


def test_bill_of_materials_and_tag(drafted: Path, tmp_path: Path) -> None:
    from cyclonedx.schema import SchemaVersion
    from cyclonedx.validation.json import JsonStrictValidator

    folder = built(drafted, output=tmp_path).folder
    text = (folder / "bill-of-materials.cdx.json").read_text("utf-8")
    try:
        assert JsonStrictValidator(SchemaVersion.V1_6).validate_str(text) is None
    except Exception as error:  # the validator is an extra of the library
        assert "extra" in str(error).lower() or "MissingOptionalDependency" in type(error).__name__
    bill = json.loads(text)
    assert bill["metadata"]["component"]["name"] == "Lantern" and "timestamp" not in bill["metadata"]
    assert [component["name"] for component in bill["components"]] == ["extras/site.ini", "media/lantern-6.2.1.msi"]
    tag = ET.fromstring((folder / "tidewell-lantern.swidtag").read_bytes())
    space = "{http://standards.iso.org/iso/19770/-2/2015/schema.xsd}"
    assert (
        tag.tag == space + "SoftwareIdentity"
        and tag.get("version") == "6.2.1"
        and tag.get("tagId") == "tidewell-lantern-6.2.1"
    )
    assert [entity.get("role") for entity in tag.findall(space + "Entity")] == ["softwareCreator", "tagCreator"]
    assert len(tag.findall(f"{space}Payload/{space}File")) == 2


def test_changed_media_is_refused_and_nothing_is_left(workspace: Path) -> None:
    (workspace / "media" / "lantern-6.2.1.msi").write_bytes(b"something else")
    with pytest.raises(Unreadable, match="has changed since"):
        built(workspace)
    assert not list((workspace / "package").iterdir())


def test_media_that_leads_outside(workspace: Path) -> None:
    plan = workspace / "plan.toml"
    plan.write_text(plan.read_text("utf-8").replace('file = "lantern-6.2.1.msi"', 'file = "../plan.toml"'), "utf-8")
    with pytest.raises(PlanError, match="does not stay below its folder"):
        built(workspace)


def test_a_build_in_place_of_an_older_one(workspace: Path) -> None:
    first = built(workspace, archive=True)
    plan = workspace / "plan.toml"
    plan.write_text(plan.read_text("utf-8").replace('SITE = "Marrowby"', 'SITE = "Kettle"'), "utf-8")
    second = built(workspace)
    assert first.folder == second.folder and first.digest != second.digest
    assert not (
        workspace / "package" / "tidewell-lantern-6.2.1-r1.zip"
    ).exists()  # an archive of the other build would lie
    assert sorted(path.name for path in (workspace / "package").iterdir()) == ["tidewell-lantern-6.2.1-r1"]


def test_killed_at_any_moment_it_is_whole_or_absent(workspace: Path) -> None:
    """A large extra file, and a kill at points spread over the build."""
    (workspace / "extras" / "large.bin").write_bytes(random.Random(3).randbytes(40_000_000))
    plan = workspace / "plan.toml"
    plan.write_text(
        plan.read_text("utf-8").replace(
            '[[uninstall]]\nkind = "take-back"',
            '[[install]]\nkind = "copy"\nfrom = "extras/large.bin"\nto = \'C:\\x\\large.bin\'\n\n[[uninstall]]\nkind = "take-back"',
        ),
        "utf-8",
    )
    whole = built(workspace).digest
    command = [sys.executable, "-m", "yendo", "build", str(workspace), "--archive", "-q"]
    begun = time.monotonic()
    subprocess.run(command, check=True, timeout=120)
    length = time.monotonic() - begun
    states = set()
    target = workspace / "package" / "tidewell-lantern-6.2.1-r1"
    for at in range(12):
        if at % 2:
            shutil.rmtree(workspace / "package", ignore_errors=True)
        process = subprocess.Popen(command)
        time.sleep(length * (at + 1) / 13)
        process.kill()
        process.wait()
        if target.exists():
            assert sha256((target / "manifest.json").read_bytes()).hexdigest() == whole
            assert all(
                sha256((target / file.path).read_bytes()).hexdigest() == file.sha256
                for file in manifest.read(target).files
            )
        archive = target.with_name(target.name + ".zip")
        if archive.exists():
            with zipfile.ZipFile(archive) as opened:
                assert opened.testzip() is None
        states.add(target.exists())
    assert True in states
    built(workspace, archive=True)
    assert not [path.name for path in (workspace / "package").iterdir() if ".making-" in path.name], (
        "an unfinished folder was not cleared away"
    )


def test_interrupted_by_hand(workspace: Path) -> None:
    (workspace / "extras" / "large.bin").write_bytes(bytes(200_000_000))
    plan = workspace / "plan.toml"
    plan.write_text(plan.read_text("utf-8").replace('from = "extras/site.ini"', 'from = "extras/large.bin"'), "utf-8")
    process = subprocess.Popen(
        [sys.executable, "-m", "yendo", "build", str(workspace)], stderr=subprocess.PIPE, text=True
    )
    while not list((workspace / "package").glob(".*")) and process.poll() is None:
        time.sleep(0.01)
    process.send_signal(signal.SIGINT)
    _, said = process.communicate(timeout=60)
    if process.returncode == 130:
        assert "stopped" in said and not list((workspace / "package").glob("*"))
    assert not list((workspace / "package").glob(".*")) and "Traceback" not in said


def test_atomic_write(tmp_path: Path) -> None:
    path = tmp_path / "f"
    atomic.write(path, b"one")
    atomic.write(path, b"two")
    assert path.read_bytes() == b"two" and os.listdir(tmp_path) == ["f"]
    with pytest.raises(TypeError):
        atomic.write(path, "text")  # type: ignore[arg-type]
    assert path.read_bytes() == b"two" and os.listdir(tmp_path) == ["f"]


@given(
    st.recursive(
        st.none() | st.booleans() | st.integers() | st.text(st.characters(min_codepoint=32), max_size=20),
        lambda inner: (
            st.lists(inner, max_size=3)
            | st.dictionaries(st.text(st.characters(min_codepoint=32), max_size=8), inner, max_size=3)
        ),
        max_leaves=8,
    )
)
def test_literals_never_end_early(value: object) -> None:
    """However a text is spelt, the quotes around it stay balanced: nothing in a plan becomes code."""
    text = scripts.literal(value)
    quotes, at, inside = "'‘’‚‛", 0, False
    while at < len(text):
        if text[at] in quotes:
            if inside and at + 1 < len(text) and text[at + 1] in quotes:
                at += 1
            else:
                inside = not inside
        elif not inside:
            assert text[at] in "@(){}, ;=$truefalsn0123456789-.+eul"
        at += 1
    assert not inside


def test_control_characters_are_put_together() -> None:
    assert scripts.literal("a\nb") == "('a' + [char]10 + 'b')" and scripts.literal("\t") == "('' + [char]9 + '')"


def test_packed_codes() -> None:
    from yendo.platforms.windows.registry_keys import pack_code, unpack_code

    code = "{4E6AB892-57E7-52F8-B2B2-AB06096EDC9F}"
    assert pack_code(code) == "298BA6E47E758F252B2BBA6090E6CDF9" and unpack_code(pack_code(code)) == code


@pytest.mark.parametrize(
    ("name", "secret"),
    [
        ("DBPASSWORD", True),
        ("LICENCEKEY", True),
        ("SERIALNUMBER", True),
        ("API_KEY", True),
        ("PIDKEY", True),
        ("SITE", False),
        ("LICENSESERVER", False),
        ("KEYBOARD", False),
        ("LICENSEFILE", False),
    ],
)
def test_which_names_are_secret(name: str, secret: bool) -> None:
    assert secrets.is_secret(name) is secret
    assert secrets.mask("SERVER=x PASSWORD=tide", ("tide",)) == "SERVER=x PASSWORD=****"


def test_the_command(workspace: Path, yendo: Yendo) -> None:
    found = parsed(yendo("build", workspace, "--archive", "--json"))
    assert Path(found["folder"]).is_dir() and Path(found["archive"]).is_file() and len(found["digest"]) == 64
    assert "yendo prove" in yendo("build", workspace).stdout
    record = json.loads((workspace / ".yendo" / "built.json").read_text())
    assert record["digest"] == found["digest"]


def test_no_two_functions_of_the_runner_have_one_name() -> None:
    """The runner is put together from fragments, and the shell takes the last of two functions with one name."""
    found: dict[str, list[str]] = {}
    own = {"play.ps1", "errands.ps1"}  # two scripts for real machines, never in one
    alone = {"fetch.ps1": 40, "inventory.ps1": 15}  # scripts of their own as well, with at least so many functions
    for script, least in alone.items():
        whole = scripts.assembled("yendo.fleet", script, {}).decode("utf-8-sig")
        names = [name.lower() for name in re.findall(r"(?im)^\s*function\s+([\w-]+)", whole)]
        assert len(names) == len(set(names)) > least
    for path in sorted(Path(yendo.__file__).parent.rglob("*.ps1")):
        if path.name in alone:
            continue
        for name in re.findall(r"(?im)^\s*function\s+([\w-]+)", path.read_text("utf-8")):
            found.setdefault(name.lower(), []).append("a script's own" if path.name in own else path.name)
    both = {name for name, where in found.items() if set(where) == {"a script's own"}}
    found = {name: where for name, where in found.items() if name not in both}
    assert len(found) > 100 and {name: where for name, where in found.items() if len(where) > 1} == {}
