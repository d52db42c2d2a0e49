"""The shelf: states and why not further, conflicts between packages, its forms, and that a second listing sees every change."""

from __future__ import annotations

import csv
import shutil
from collections.abc import Callable
from pathlib import Path

import pytest
from conftest import Yendo, parsed

from yendo.shelf.shelf import ShelfConflict, ShelfRow, listing, workspaces

COPY = """[package]
id = "{id}"
name = "{id}"
version = "{version}"

{needs}
[[install]]
kind = "copy"
from = "extras/data.txt"
to = 'C:\\Marrowby\\{folder}\\data.txt'
timeout = "1 min"

[[install]]
kind = "registry"
key = 'HKLM\\Software\\Marrowby\\{folder}'
values = {{ Office = "{id}" }}

[[detect]]
kind = "file"
path = 'C:\\Marrowby\\{folder}\\data.txt'
"""


def workspace(
    shelf: Path, identifier: str, folder: str, *, version: str = "1", needs: str = "", data: str = "data"
) -> Path:
    place = shelf / "packages" / identifier
    (place / "extras").mkdir(parents=True)
    (place / "extras" / "data.txt").write_text(data)
    (place / "plan.toml").write_text(COPY.format(id=identifier, folder=folder, version=version, needs=needs), "utf-8")
    return place


@pytest.fixture
def shelf(tmp_path: Path) -> Path:
    (tmp_path / "shelf").mkdir()
    return tmp_path / "shelf"


def rows(shelf: Path, cache: Path) -> dict[str, ShelfRow]:
    return {row.path.rpartition("/")[2]: row for row in listing(shelf, cache).rows}


def test_how_far_each_is(shelf: Path, tmp_path: Path, yendo: Yendo) -> None:
    """From drafted to proved, and back again when something changes; each listing after the first sees it."""
    place, cache = workspace(shelf, "charts", "charts"), tmp_path / "cache"

    def is_(state: str, why: str, stale: bool = False) -> None:
        found = rows(shelf, cache)["charts"]
        assert (found.state, found.stale) == (state, stale) and why in found.why, found
        assert rows(shelf, cache)["charts"] == found == rows(shelf, tmp_path / "another")["charts"]
        shutil.rmtree(tmp_path / "another")

    is_("drafted", "not checked")
    yendo("check", place, expect=None)
    is_("checked", "not built")
    yendo("build", place)
    is_("built", "not proved")
    yendo("prove", place, "--quiet")
    is_("proved", "on a simulated machine only")
    yendo("prove", place, "--quiet", "--windows", "11-24h2")  # under a name of its own, and no more real
    is_("proved", "on a simulated machine only")
    (place / "extras" / "data.txt").touch()
    is_("proved", "")
    (place / "extras" / "data.txt").write_text("atad")
    is_("checked", "extras/data.txt has changed since the build", True)
    yendo("build", place)
    is_("built", "proved were other bytes", True)
    plan = place / "plan.toml"
    plan.write_text(plan.read_text("utf-8") + "\n# a word\n", "utf-8")
    is_("drafted", "the plan has changed", True)
    yendo("build", place)
    (place.parent / "house.toml").write_text('name = "Marrowby"\n')
    yendo("build", place)
    (place.parent / "house.toml").write_text('name = "Kettle"\n')
    is_("drafted", "the house file has changed", True)
    (place.parent / "house.toml").unlink()
    shutil.rmtree(place / "package")
    is_("drafted", "gone or was changed", True)
    plan.write_text("[package\n")
    is_("unreadable", "plan.toml: ")


def conflicts(shelf: Path, yendo: Yendo) -> list[ShelfConflict]:
    for place in workspaces(shelf):
        yendo("build", place)
    return list(listing(shelf).conflicts)


NEED = (
    '[[need]]\npackage = "{package}"\nversion = "{version}"\nholds = [{{ kind = "folder", path = \'C:\\Marrowby\' }}]\n'
)


@pytest.mark.parametrize(
    ("make", "wanted"),
    [
        (lambda shelf: [workspace(shelf, "a", "one"), workspace(shelf, "b", "two")], set()),
        (
            lambda shelf: [workspace(shelf, "a", "one"), workspace(shelf, "b", "one")],
            {("file", "the same content"), ("registry", "with other content")},
        ),
        (
            lambda shelf: [workspace(shelf, "a", "one"), workspace(shelf, "b", "one", data="x")],
            {("file", "with other content"), ("registry", "other content")},
        ),
        (
            lambda shelf: [
                workspace(shelf, "a", "one", needs=NEED.format(package="runtime", version=">=3")),
                workspace(shelf, "b", "two", needs=NEED.format(package="runtime", version="<2")),
            ],
            {("prerequisite", "no version of runtime is >=3 and <2")},
        ),
        (
            lambda shelf: [
                workspace(shelf, "a", "one", needs=NEED.format(package="b", version=">=3")),
                workspace(shelf, "b", "two", version="2.9"),
            ],
            {("prerequisite", ">=3 is needed, 2.9 is here")},
        ),
        (
            lambda shelf: [
                workspace(shelf, "a", "one", needs=NEED.format(package="b", version=">=3,<4")),
                workspace(shelf, "b", "two", version="3.1"),
            ],
            set(),
        ),
    ],
)
def test_in_one_anothers_way(
    shelf: Path, yendo: Yendo, make: Callable[[Path], object], wanted: set[tuple[str, str]]
) -> None:
    make(shelf)
    found = conflicts(shelf, yendo)
    assert len(found) == len(wanted), found
    for what, text in wanted:
        assert any(one.what == what and text in one.text for one in found), found


def test_one_id_twice(shelf: Path, yendo: Yendo) -> None:
    workspace(shelf, "a", "one")
    shutil.copytree(shelf / "packages" / "a", shelf / "again")
    assert [(one.what, one.things) for one in conflicts(shelf, yendo)] == [("id", ("a",))]


def test_in_every_form(shelf: Path, drafted: Path, yendo: Yendo, tmp_path: Path) -> None:
    """A table, CSV, JSON and a page; an installer's things are known without anything being run."""
    workspace(shelf, "a", "one")
    shutil.copytree(drafted, shelf / "lantern")
    (shelf / "=1+1").mkdir()
    (shelf / "=1+1" / "plan.toml").write_text("broken = [")
    for place in (shelf / "packages" / "a", shelf / "lantern"):
        yendo("build", place)
    found = parsed(yendo("shelf", shelf, "--csv", tmp_path / "s.csv", "--html", tmp_path / "s.html", "--json"))
    assert found["counts"] == {"built": 2, "unreadable": 1} and found["conflicts"] == []
    table = list(csv.DictReader((tmp_path / "s.csv").read_text("utf-8-sig").splitlines()))
    assert [row["path"] for row in table] == ["'=1+1", "lantern", "packages/a"] and table[1]["version"] == "6.2.1"
    page = (tmp_path / "s.html").read_text("utf-8")
    assert "Lantern" in page and "default-src 'none'" in page and "<script" not in page
    said = yendo("shelf", shelf).stdout
    assert "3 workspaces: 2 built, 1 unreadable" in said and "next: yendo prove" in said
    assert "is no folder" in yendo("shelf", tmp_path / "s.csv", expect=2).stderr
    (tmp_path / "empty").mkdir()
    assert "no workspace below" in yendo("shelf", tmp_path / "empty").stdout
