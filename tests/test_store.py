"""The media store and disc images: nothing lost and nothing half, whoever is killed; only what is needed is taken out."""

from __future__ import annotations

import hashlib
import os
import random
import shutil
import subprocess
import sys
import time
from pathlib import Path

import pytest
from conftest import Yendo, missing, parsed

from yendo.errors import Unreadable, Usage
from yendo.installers import holders, images
from yendo.plan import read
from yendo.store import Store
from yendo.store.store import GRACE

CHILD = "import sys; from pathlib import Path; from yendo.store import Store; s = Store(Path(sys.argv[1]))\nfor p in sys.argv[2:]: s.add(Path(p), origin='a child')"


def files(folder: Path, count: int, size: int) -> dict[str, Path]:
    """Files of random content, by their hashes."""
    folder.mkdir(parents=True, exist_ok=True)
    chance, found = random.Random(7), {}
    for number in range(count):
        path = folder / f"vendor-{number}.bin"
        path.write_bytes(chance.randbytes(size))
        found[hashlib.sha256(path.read_bytes()).hexdigest()] = path
    return found


def whole(store: Store) -> set[str]:
    """The hashes of a store, each read and held against its name."""
    verdicts = list(store.verify())
    assert all(one.holds for one in verdicts), [one.item for one in verdicts if not one.holds]
    return {one.item.sha256 for one in verdicts}


def test_killed_at_random_points_with_two_writers(tmp_path: Path) -> None:
    """Fifty kills, two writers at a time: what was there stays, what is there is whole, and adding again completes it."""
    wanted = files(tmp_path / "share", 6, 3 << 20)
    store, chance = Store(tmp_path / "store"), random.Random(3)
    there: set[str] = set()
    for _ in range(25):
        children = [
            subprocess.Popen(
                [sys.executable, "-c", CHILD, str(store.folder), *map(str, chance.sample(list(wanted.values()), 4))]
            )
            for _ in range(2)
        ]
        for child in children:
            time.sleep(chance.uniform(0.0, 0.25))
            child.kill()
            child.wait()
        now = whole(store)
        assert there <= now <= set(wanted)
        there = now
    for path in wanted.values():
        store.add(path, origin="again")
    assert whole(store) == set(wanted)
    assert all(item.notes for item in store.items())
    for part in (store.folder / "coming").glob("*"):
        os.utime(part, (1, 1))
    store.purge([])
    assert not list((store.folder / "coming").glob("*"))


def test_two_who_add_the_same(tmp_path: Path) -> None:
    wanted = files(tmp_path / "share", 3, 1 << 20)
    store = Store(tmp_path / "store")
    children = [
        subprocess.Popen([sys.executable, "-c", CHILD, str(store.folder), *map(str, wanted.values())]) for _ in range(2)
    ]
    assert [child.wait(60) for child in children] == [0, 0]
    assert whole(store) == set(wanted) and sum(1 for _ in store.items()) == 3


def test_from_the_command_line(workspace: Path, vendor: Path, tmp_path: Path, yendo: Yendo) -> None:
    """Added, listed with its origin, brought into a workspace that lost it, verified, and purged only where no plan names it."""
    where = {"YENDO_STORE": str(tmp_path / "store")}
    yendo(
        "store",
        "add",
        vendor / "lantern-6.2.1.msi",
        vendor / "lantern-6.1.0.msi",
        "--origin",
        "release share",
        environment=where,
    )
    listed = parsed(yendo("store", "list", "--plans", workspace, "--json", environment=where))
    assert {item["notes"][0]["origin"] for item in listed["items"]} == {"release share"} and len(listed["items"]) == 2
    assert sorted(len(plans) for plans in listed["users"].values()) == [0, 1]
    (workspace / "media" / "lantern-6.2.1.msi").unlink()
    assert parsed(yendo("store", "bring", workspace, "--json", environment=where))["brought"] == ["lantern-6.2.1.msi"]
    yendo("build", workspace)
    assert "all of them whole" in yendo("store", "verify", environment=where).stdout
    assert (
        parsed(yendo("store", "purge", "--plans", workspace, "--json", environment=where))["unused"] == []
    )  # too young
    store = Store(tmp_path / "store")
    for item in store.items():
        os.utime(store.path(item.sha256), (time.time() - 2 * GRACE,) * 2)
    found = parsed(yendo("store", "purge", "--plans", workspace, "--json", environment=where))
    assert (
        [item["notes"][0]["name"] for item in found["unused"]] == ["lantern-6.1.0.msi"]
        and not found["done"]
        and found["freed"] == 0
    )
    assert parsed(yendo("store", "purge", "--plans", workspace, "--yes", "--json", environment=where))["freed"] > 0
    assert [item.name for item in store.items()] == ["lantern-6.2.1.msi"]
    path = store.path(next(store.items()).sha256)
    path.chmod(0o644)
    path.write_bytes(b"x" + path.read_bytes()[1:])
    assert "damaged" in yendo("store", "verify", environment=where, expect=1).stdout
    (workspace / "media" / "lantern-6.2.1.msi").unlink()
    assert "is damaged" in yendo("store", "bring", workspace, environment=where, expect=3).stderr
    assert not (workspace / "media" / "lantern-6.2.1.msi").exists()


def test_a_plan_that_cannot_be_read_stops_a_purge(workspace: Path, tmp_path: Path, yendo: Yendo) -> None:
    (workspace / "plan.toml").write_text("[[media]\n")
    done = yendo("store", "purge", "--plans", workspace, "--yes", "--store", tmp_path / "store", expect=2)
    assert "nobody knows what it uses" in done.stderr


def test_old_media_go_into_the_store(whole_: Path, vendor: Path, tmp_path: Path, yendo: Yendo) -> None:
    from yendo.demo import vendor as tidewell

    new = tidewell.lantern(tmp_path / "share", "6.3.0")
    yendo("renew", whole_, new, "--old", "store", "--store", tmp_path / "store", expect=None)
    assert sorted(item.name for item in Store(tmp_path / "store").items()) == ["lantern-6.2.1.msi", "lantern-6.2.3.msp"]
    assert sorted(path.name for path in (whole_ / "media").iterdir()) == ["lantern-6.3.0.msi"]


@pytest.fixture
def whole_(whole: Path, vendor: Path, tmp_path: Path) -> Path:
    (tmp_path / "share").mkdir()
    return whole


# --- disc images ----------------------------------------------------------------------------------


def image(folder: Path, target: Path, *options: str) -> Path:
    """An image by a program that we did not write."""
    if not shutil.which("genisoimage"):
        missing("genisoimage", "apt-get install genisoimage")
    subprocess.run(["genisoimage", "-quiet", *options, "-o", str(target), str(folder)], check=True, capture_output=True)
    return target


@pytest.fixture
def disc(tmp_path: Path, vendor: Path) -> Path:
    """What a vendor's disc holds: two installers, one of them with a cabinet and loose files beside it, and much else."""
    from specimens import all_of_them

    folder = tmp_path / "disc"
    (folder / "Setup").mkdir(parents=True)
    shutil.copyfile(vendor / "lantern-6.2.1.msi", folder / "Setup" / "lantern-6.2.1.msi")
    shutil.copyfile(vendor / "lantern-6.1.0.msi", folder / "lantern-6.1.0.msi")
    (folder / "Setup" / "film.dat").write_bytes(os.urandom(2 << 20))
    (folder / "read me first.txt").write_text("take soundings")
    assert all_of_them
    return folder


@pytest.mark.parametrize(
    "options",
    [
        ("-J",),
        ("-R",),
        ("-udf", "-J"),
        ("-iso-level", "3", "-allow-lowercase", "-allow-multidot", "-relaxed-filenames"),
        (),
    ],
)
def test_reading_an_image(disc: Path, tmp_path: Path, yendo: Yendo, options: tuple[str, ...]) -> None:
    """In every form of names; what is taken out is what was put in."""
    made = image(disc, tmp_path / "tidewell.iso", *options)
    assert images.is_image(made) and not images.is_image(disc / "lantern-6.1.0.msi")
    with images.DiscImage(made) as opened:
        found = {entry.path.lower(): entry for entry in opened.entries()}
        assert len(found) == 4
        installers = opened.installers()
        assert {entry.family for entry in installers} == {"msi"} and len(installers) == 2
        opened.extract(next(entry.path for entry in installers if "/" in entry.path), tmp_path / "out.msi")
    assert (tmp_path / "out.msi").read_bytes() == (disc / "Setup" / "lantern-6.2.1.msi").read_bytes()
    if options[:1] == ("-J",):
        assert "holds 2 installers" in yendo("draft", "w", made, expect=2).stderr
        assert "has no file" in yendo("draft", "w", made, "--inside", "nowhere.msi", expect=2).stderr
        yendo("draft", "w", made, "--inside", "setup/LANTERN-6.2.1.msi")
        plan, _ = read(tmp_path / "w" / "plan.toml")
        assert (
            plan.media[0].file == "lantern-6.2.1.msi"
            and plan.media[0].origin.startswith("tidewell.iso (SHA-256 ")
            and "Setup/" in plan.media[0].origin
        )
        assert sorted(path.name for path in (tmp_path / "w" / "media").iterdir()) == ["lantern-6.2.1.msi"]
        assert "Installers in it" in yendo("read", made).stdout


def test_only_what_is_needed_is_taken_out(tmp_path: Path, yendo: Yendo) -> None:
    """An installer whose files lie beside it comes with those, and with nothing else of the disc."""
    from specimens import Specimen

    folder = tmp_path / "disc"
    folder.mkdir()
    specimen = Specimen("beside").with_file()
    tables, _ = specimen._finish()
    made = specimen.ours(folder)
    assert tables
    (folder / "film.dat").write_bytes(os.urandom(1 << 20))
    with holders.opened(image(folder, tmp_path / "x.iso", "-J"), made.name) as (installer, origin):
        assert installer.read_bytes() == made.read_bytes() and "x.iso" in origin
        assert [path.name for path in installer.parent.iterdir()] == [made.name]


def test_damaged_images(disc: Path, tmp_path: Path) -> None:
    """Read or refused, in bounded time, and nothing is written outside the target."""
    good = image(disc, tmp_path / "good.iso", "-J", "-R").read_bytes()
    chance = random.Random(11)
    target = tmp_path / "bad.iso"
    for number in range(150):
        data = bytearray(good)
        for _ in range(chance.randint(1, 12)):
            data[chance.randrange(16 * 2048, 40 * 2048)] = chance.randrange(256)
        if number % 5 == 0:
            data = data[: chance.randrange(2048 * 10, len(data))]
        target.write_bytes(data)
        begun = time.monotonic()
        try:
            with images.DiscImage(target) as opened:
                for entry in opened.entries():
                    assert ".." not in entry.path.split("/") and not entry.path.startswith("/")
                opened.installers()
        except (Unreadable, Usage):
            pass
        assert time.monotonic() - begun < 10
