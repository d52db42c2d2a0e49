"""What many commands share: files below a folder, and what is remembered of small arguments."""

from __future__ import annotations

import os
from pathlib import Path
from typing import Any

import pytest
from conftest import unix

from yendo.errors import Unreadable
from yendo.installers.parts import InstallerPart, Looker
from yendo.remembered import remembered
from yendo.walk import each_below, files_below


def test_all_files_in_the_order_of_their_names(tmp_path: Path) -> None:
    for name in ("b/c.txt", "b.txt", "a/z/1.txt", "a/y.txt"):
        (tmp_path / name).parent.mkdir(parents=True, exist_ok=True)
        (tmp_path / name).write_bytes(b"")
    assert [name for name, _ in files_below(tmp_path)] == ["a/y.txt", "a/z/1.txt", "b/c.txt", "b.txt"]
    assert sorted(each_below(tmp_path)) == sorted(files_below(tmp_path)) and files_below(tmp_path / "nowhere") == []


@unix
def test_folders_as_deep_as_a_path_goes(tmp_path: Path) -> None:
    """A tree that somebody made so on purpose ends no command by its depth."""
    place = tmp_path
    for _ in range(1200):
        place /= "d"
        place.mkdir()
    (place / "last").write_bytes(b"")
    try:
        assert [len(name.split("/")) for name, _ in each_below(tmp_path)] == [1201]
    finally:  # what clears a test's folders away goes down by calling itself
        (place / "last").unlink()
        while place != tmp_path:
            place.rmdir()
            place = place.parent


def test_a_folder_that_is_closed(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    (tmp_path / "closed").mkdir()
    (tmp_path / "open.txt").write_bytes(b"")
    look = os.scandir

    def scandir(path: Any) -> Any:
        if Path(path).name == "closed":
            raise PermissionError("closed")
        return look(path)

    monkeypatch.setattr(os, "scandir", scandir)
    assert [name for name, _ in each_below(tmp_path, closed=True)] == ["open.txt"]
    with pytest.raises(PermissionError):
        files_below(tmp_path)


def test_only_small_arguments_are_remembered() -> None:
    asked = []

    @remembered(2, most=4)
    def length(given: tuple[bytes, ...]) -> int:
        asked.append(given)
        return len(given)

    for _ in range(2):
        assert length((b"ab", b"cd")) == 2 and length((b"ab", b"cde")) == 2
    assert asked == [(b"ab", b"cd"), (b"ab", b"cde"), (b"ab", b"cde")]


@pytest.mark.parametrize(
    ("note", "told", "unread"), [("", "cannot be read: torn", True), ("its own", "its own", False)]
)
def test_a_part_that_cannot_be_read(note: str, told: str, unread: bool) -> None:
    """Words that a family said of it are not taken for the reason."""

    def torn(limit: int) -> Any:
        raise Unreadable("torn")

    (content,) = Looker(lambda file, name: (None, [])).tree([InstallerPart("x.exe", 9, 0, 9, torn, note)])
    assert (content.note, content.unread) == (told, unread)
