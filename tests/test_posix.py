"""Trees of POSIX files as states: held against what the system's own programs say of the same tree."""

from __future__ import annotations

import os
import random
import shutil
import subprocess
from pathlib import Path

import pytest
from conftest import unix

from yendo.effects import Effect, State, apply, difference
from yendo.effects.things import File, Folder, Link, parent
from yendo.errors import Unreadable
from yendo.platforms.posix import changes, observed

pytestmark = unix


def tree(folder: Path, seed: int) -> Path:
    """Files, folders and links with modes and attributes by chance."""
    chance = random.Random(seed)
    places = [folder]
    folder.mkdir()
    for number in range(30):
        above = chance.choice(places)
        path = above / chance.choice(
            [f"a{number}", f"Ä b {number}", f"back\\slash{number}", f"line\n{number}", f".{number}"]
        )
        match chance.randrange(4):
            case 0:
                path.mkdir(mode=chance.choice([0o700, 0o755, 0o2775]))
                places.append(path)
            case 1:
                path.symlink_to(chance.choice(["../nowhere", "/etc/hosts", "Ä b"]))
            case _:
                path.write_bytes(chance.randbytes(chance.randrange(3000)))
                path.chmod(chance.choice([0o600, 0o644, 0o755, 0o4755]))
                if chance.random() < 0.3:
                    os.setxattr(path, "user.marrowby", chance.randbytes(5))
    return folder


def told(root: Path) -> dict[str, tuple[str, ...]]:
    """The same tree by ``find`` and ``sha256sum``, which are other people's: kind, mode, owners, link."""
    form = r"/%P\0%y\0%m\0%U\0%G\0%l\0"
    said = subprocess.run(["find", root, "-mindepth", "1", "-printf", form], capture_output=True, check=True).stdout
    parts = said.decode().split("\0")[:-1]
    return {parts[at]: tuple(parts[at + 1 : at + 6]) for at in range(0, len(parts), 6)}


@pytest.mark.parametrize("seed", range(6))
def test_a_tree_is_what_the_systems_own_programs_say(tmp_path: Path, seed: int) -> None:
    root = tree(tmp_path / "root", seed)
    found = {thing.path: thing for thing in observed(root)}
    expected = told(root)
    assert found.keys() == expected.keys()
    for path, (kind, mode, user, group, target) in expected.items():
        thing = found[path]
        assert {"f": File, "d": Folder, "l": Link}[kind] is type(thing)
        assert (str(thing.user), str(thing.group)) == (user, group)
        if isinstance(thing, Link):
            assert thing.target == target
            continue
        assert f"{thing.mode:o}" == mode
        if isinstance(thing, File):
            place = root / path[1:]
            said = subprocess.run(["sha256sum", "-b"], stdin=place.open("rb"), capture_output=True, check=True).stdout
            assert thing.sha256 == said.split()[0].decode() and thing.size == place.stat().st_size
            assert [name for name, _ in thing.attributes or ()] == [
                name for name in os.listxattr(place) if name.startswith("user.")
            ]


def test_states_of_it_follow_the_same_algebra(tmp_path: Path) -> None:
    """What was captured of work in a tree leads from the state before to the one after, and back."""
    root = tree(tmp_path / "root", 3)
    before = observed(root, "/opt/tidewell")
    (root / "new").mkdir()
    (root / "new" / "tide.conf").write_text("depth = 3\n")
    (root / "new" / "current").symlink_to("tide.conf")
    first = next(path for path in sorted(root.rglob("*")) if path.is_file() and not path.is_symlink())
    first.chmod(0o640)
    gone = next(path for path in sorted(root.rglob("*")) if path.is_file() and not path.is_symlink() and path != first)
    gone.unlink()
    after = observed(root, "/opt/tidewell")
    found = difference(before, after)
    assert {str(effect) for effect in found if effect.change != "change"} == {
        "add file /opt/tidewell/new/tide.conf", f"remove file /opt/tidewell/{gone.relative_to(root)}",
        "add folder /opt/tidewell/new", "add link /opt/tidewell/new/current",
    }  # fmt: skip
    changed = [effect for effect in found if effect.change == "change"]
    assert [effect.thing.path for effect in changed] == [f"/opt/tidewell/{first.relative_to(root)}"]
    assert isinstance(changed[0].thing, File) and changed[0].thing.mode == 0o640
    there = before.copy()
    apply(found, there)
    assert not difference(there, after)
    words = changes({one.path: one for one in before}, {one.path: one for one in after})
    assert sorted(words.values()) == ["add", "add", "add", "change", "remove"]


def test_names_differ_by_their_letters_here_and_not_on_windows() -> None:
    state = State([File("/srv/Depths"), File("/srv/depths"), File(r"C:\srv\Depths"), File(r"C:\srv\depths")])
    assert len(state) == 3 and state.get("file", "/srv/DEPTHS") is None and state.get("file", r"c:\SRV\DEPTHS")
    assert [folder.path for folder in state.add_folders("/Applications/Tide.app")] == [
        "/Applications", "/Applications/Tide.app",
    ]  # fmt: skip
    assert state.is_empty("/Applications/Tide.app") and not state.is_empty("/Applications")
    assert parent("/srv") == "/" and parent("/") == "" and parent(r"C:\srv") == "C:"
    assert difference(State([Link("/srv/now", "Depths")]), State([Link("/srv/now", "depths")]))


def test_what_is_no_file_is_passed_over_and_what_cannot_be_read_is_said(tmp_path: Path) -> None:
    root = tree(tmp_path / "root", 1)
    os.mkfifo(root / "pipe")
    shutil.copytree(root, tmp_path / "other", symlinks=True, ignore=lambda *_: ["pipe"])
    seen = observed(root, left=lambda path: path.startswith("/."))
    assert not [one for one in seen if one.path == "/pipe" or one.path.startswith("/.")]
    with pytest.raises(Unreadable, match="cannot be read"):
        observed(tmp_path / "nowhere")
    assert all(isinstance(one, Effect) for one in difference(seen, observed(tmp_path / "other")))
